"""The certain end: pushes off and proven off, what is carried ended, the event closed, the key wiped; what is still on is said.

Works through everything at the same time and again until it is proven or the time is over. Twice does no harm.
"""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from enum import StrEnum

from direkt.device.model import Capability, DeviceState, Driver, PushState, Slot
from direkt.errors import DirektError, UnusableInput
from direkt.platform import planned as planning
from direkt.platform.model import EventState, Gap, PlatformError
from direkt.platform.planned import Planned
from direkt.rig import Rig
from direkt.secret import Secret
from direkt.store import carried, standing, wishes
from direkt.work import airing as air
from direkt.work import carry, go_checks
from direkt.work.airing import Airing, NotDone, PersonStep, stamp_of
from direkt.work.feeds import FeedParts
from direkt.work.going import Crew, reason
from direkt.work.steps import Job

_PAUSE = 2.0  # s between rounds
_STILL = 1.0  # s through which a counter must stand still
_INGEST_LIMIT = 12.0  # s for an ingest to notice
_AT_ONCE = 16  # devices


class What(StrEnum):
    """What may be on."""

    PUSH = "push"
    CARRIED = "carried"
    INGEST = "ingest"
    KEY = "key"
    EVENT = "event"
    PERSON = "by hand"


@dataclass(frozen=True, slots=True)
class Off:
    """One thing, and whether it is proven to be off."""

    what: What
    name: str
    proven: bool
    text: str
    advice: str = ""
    note: bool = False  # nothing was on as far as is known: there is nothing to prove


@dataclass(frozen=True, slots=True)
class Dropped:
    """A time on air in which an ingest had nothing; told once, before the event is closed."""

    destination: str
    title: str
    role: str
    gap: Gap


@dataclass(frozen=True, slots=True)
class Round:
    """Something is not off yet: it is tried again."""

    left: tuple[str, ...]
    seconds: float  # that are left for it


EndEvent = Off | Dropped | Round | PersonStep | air.Did


@dataclass(frozen=True, slots=True)
class Aim:
    """What to stop."""

    feeds: tuple[str, ...]
    events: tuple[Planned, ...]
    every_slot: bool = False  # of all devices, whatever the rig says of them


@dataclass(frozen=True, slots=True)
class Stopped:
    """The result."""

    items: tuple[Off, ...]
    interrupted: bool = False

    @property
    def proven(self) -> bool:
        """Whether all is off."""
        return not self.interrupted and all(item.proven for item in self.items)


def aim(rig: Rig, name: str | None, *, every: bool, now: float) -> Aim:
    """What a name means: an event, a feed, or everything. Raises UnusableInput."""
    if every:
        return Aim(tuple(rig.file.feeds), tuple(_open_events(rig)), True)
    if name is None:
        raise UnusableInput("say what to stop: direkt stop EVENT, direkt stop FEED, or direkt stop --all")
    if name in rig.file.events:
        found = [p for p in _open_events(rig) if p.name == name]
        if not found:
            found = [planning.next_one(rig, name, datetime.datetime.fromtimestamp(now, datetime.UTC))]
        return Aim(tuple(dict.fromkeys(f for p in found for f in p.entry.feeds)), tuple(found))
    if name in rig.file.feeds:
        return Aim((name,), ())
    known = ", ".join([*rig.file.events, *rig.file.feeds]) or "none"
    raise UnusableInput(
        f"no event or feed {name!r} in {rig.source}; it has {known}; or stop everything: direkt stop --all"
    )


def _open_events(rig: Rig) -> Iterator[Planned]:
    """The events that were begun and are not known to be over."""
    for one in standing.every(rig.folder):
        if one.event in rig.file.events and (not one.ended or one.paused):
            with contextlib.suppress(UnusableInput):
                found = planning.by_mark(rig, one.event, one.mark)
                if found is not None:
                    yield found


def stop(
    rig: Rig, what: Aim, crew: Crew, *, seconds: float = 0.0, wipe: bool = False, pause: bool = False
) -> Job[EndEvent, Stopped]:  # fmt: skip
    """Ends everything that is aimed at; tries again for ``seconds``. What goes wrong is in the result."""
    ending = _Ending(rig, what, crew, wipe, pause)
    try:
        return (yield from ending.run(seconds))
    finally:
        ending.close()


class _Ending:
    def __init__(self, rig: Rig, what: Aim, crew: Crew, wipe: bool, pause: bool) -> None:
        self.rig, self.what, self.crew, self.wipe, self.pause = rig, what, crew, wipe, pause
        self.items: dict[tuple[What, str], Off] = {}
        self.parts: dict[str, FeedParts] = {}
        self.drivers: dict[str, Driver] = {}
        self.airings: list[Airing] = []
        self.counted: set[str] = set()  # airings whose gaps were told

    def close(self) -> None:
        air.close(self.airings)
        for driver in self.drivers.values():
            driver.close()

    def run(self, seconds: float) -> Job[EndEvent, Stopped]:
        clock = self.crew.clock
        begin = clock.now()
        try:
            now = stamp_of(self.crew.means.wall())
            wishes.note(self.rig.folder, dict.fromkeys(self.what.feeds, False))  # nobody starts them again
            for planned in self.what.events:  # first of all: a go that runs goes no further
                try:
                    standing.change(self.rig.folder, planned.name, planned.mark, _updated({"ended": now}))
                except UnusableInput as error:  # a damaged file or a full disk keeps nothing on
                    yield from self._told(Off(What.EVENT, planned.name, False, reason(error)))
            yield from self._open()
            asked = False
            while True:
                yield from self._devices()
                yield from self._carried()
                yield from self._platforms()
                if not asked:
                    asked = True
                    yield from self._by_hand()
                left = [item for item in self.items.values() if not item.proven and item.what is not What.PERSON]
                over = seconds - (clock.now() - begin)
                if not left or over <= 0:
                    break
                yield Round(tuple(f"{item.name}: {item.text}" for item in left), over)
                clock.sleep(min(_PAUSE, over))
            self._remember()
        except KeyboardInterrupt:
            return Stopped(tuple(self.items.values()), True)
        return Stopped(tuple(self.items.values()))

    def _told(self, item: Off) -> Iterator[Off]:
        """An item, where it is news."""
        key = (item.what, item.name)
        if self.items.get(key) != item:
            self.items[key] = item
            yield item

    # What there is

    def _open(self) -> Job[EndEvent, None]:
        devices = list(dict.fromkeys(self.rig.file.feeds[name].device for name in self.what.feeds))
        if self.what.every_slot:
            devices = list(self.rig.file.devices)
        for name in devices:
            try:
                self.drivers[name] = self.rig.driver(name, self.crew.means.sources)
            except DirektError as error:
                yield from self._told(Off(What.PUSH, name, False, reason(error), "switch it off by hand"))
        for name in self.what.feeds:
            entry, _, destination = self.rig.feed(name)
            if entry.device in self.drivers:
                with contextlib.suppress(DirektError):
                    sheet = self.rig.sheet(destination)
                    self.parts[name] = FeedParts(self.rig, name, entry, destination, sheet, self.drivers[entry.device])
        for planned in self.what.events:
            try:
                self.airings += air.gather(self.rig, planned, self.crew.means)
            except DirektError as error:
                yield from self._told(
                    Off(What.EVENT, planned.name, False, reason(error), "close it on the platform's page")
                )

    # Devices

    def _devices(self) -> Job[EndEvent, None]:
        todo = [
            name for name, driver in self.drivers.items()
            if Capability.PUSH in driver.capabilities and not self._is_off(name)
        ]  # fmt: skip
        if not todo:
            return
        with ThreadPoolExecutor(min(_AT_ONCE, len(todo))) as pool:
            for found in pool.map(self._device, todo):
                for item in found:
                    yield from self._told(item)

    def _is_off(self, device: str) -> bool:
        item = self.items.get((What.PUSH, device))
        return item is not None and item.proven

    def _slots(self, device: str) -> set[int] | None:
        """The slots that are aimed at; None: all."""
        if self.what.every_slot:
            return None
        return {
            self.rig.file.feeds[n].slot for n in self.what.feeds
            if self.rig.file.feeds[n].device == device and not self.rig.file.feeds[n].carry
        }  # fmt: skip

    def _device(self, name: str) -> list[Off]:
        """Stops a device's pushes, and proves that they are off."""
        driver, wanted = self.drivers[name], self._slots(name)
        if wanted == set():
            return []
        try:
            before = driver.read()
            on = [slot for slot in before.slots.values() if wanted is None or slot.number in wanted]
            was = [slot for slot in on if slot.state is not PushState.STOPPED]
            for slot in was:
                driver.push(slot.number, on=False)
            after = self._settled(driver, [slot.number for slot in was]) if was else before
            still = [
                s
                for s in after.slots.values()
                if s.number in {o.number for o in on} and s.state is not PushState.STOPPED
            ]
            if still:
                return [
                    Off(
                        What.PUSH,
                        name,
                        False,
                        f"slot {still[0].number} still says {still[0].state}",
                        "switch it off by hand",
                    )
                ]
            moving = self._moving(driver, after, was)
            if moving:
                return [
                    Off(
                        What.PUSH,
                        name,
                        False,
                        f"it says stopped, and slot {moving[0]} still sends",
                        "switch it off by hand",
                    )
                ]
            text = (
                "its push is off, it says so"
                + (", and its counter stands still" if any(s.sent_bytes for s in was) else "")
                if was
                else "it does not push"
            )
            out = [Off(What.PUSH, name, True, text)]
            if self.wipe:
                out.append(self._wiped(name, driver, on))
            return out
        except DirektError as error:
            return [
                Off(
                    What.PUSH,
                    name,
                    False,
                    reason(error),
                    f"it may still push: try again with --for 10m, or switch {name} off by hand",
                )
            ]

    def _settled(self, driver: Driver, numbers: list[int]) -> DeviceState:
        """Its state once the slots have stopped, or after some seconds."""
        state = driver.read()
        for _ in range(8):
            if all(state.slots[n].state is PushState.STOPPED for n in numbers if n in state.slots):
                break
            self.crew.clock.sleep(0.5)
            state = driver.read()
        return state

    def _moving(self, driver: Driver, state: DeviceState, was: list[Slot]) -> list[int]:
        """The slots whose counters go on all the same."""
        if not any(slot.sent_bytes for slot in was):
            return []
        self.crew.clock.sleep(_STILL)
        later = driver.read().slots
        return [
            slot.number for slot in was
            if slot.number in later and slot.number in state.slots and later[slot.number].sent_bytes > state.slots[slot.number].sent_bytes
        ]  # fmt: skip

    def _wiped(self, name: str, driver: Driver, slots: list[Slot]) -> Off:
        try:
            for slot in slots:
                if slot.key_length:
                    driver.write_slot(slot.number, slot.channel, "", Secret(""))
            now = driver.read().slots
        except DirektError as error:
            return Off(
                What.KEY,
                name,
                False,
                f"the key may still be in it: {reason(error)}",
                "take it out on the device's page",
            )
        kept = [s.number for s in slots if s.number in now and now[s.number].key_length]
        if kept:
            return Off(What.KEY, name, False, f"slot {kept[0]} still holds a key", "take it out on the device's page")
        return Off(What.KEY, name, True, "no key is left in it")

    # What this machine carries

    def _carried(self) -> Job[EndEvent, None]:
        for name, entry in self.rig.file.feeds.items():
            if name not in self.what.feeds or not entry.carry:
                continue
            part = self.parts.get(name)
            was = carried.find(self.rig.folder, name) is not None
            try:
                if was and part is not None:
                    carry.end(part, self.crew.clock)
            except DirektError as error:
                yield from self._told(Off(What.CARRIED, name, False, reason(error)))
                continue
            if carried.find(self.rig.folder, name) is not None:
                yield from self._told(
                    Off(What.CARRIED, name, False, "it is still carried by this machine", f"direkt push off {name}")
                )
            elif was or (What.CARRIED, name) not in self.items:
                yield from self._told(
                    Off(
                        What.CARRIED,
                        name,
                        True,
                        "it is no longer carried" if was else "nobody carries it on this machine",
                    )
                )

    # Platforms

    def _platforms(self) -> Job[EndEvent, None]:
        for one in self.airings:
            if one.by_hand or self._event_done(one):
                continue
            name = _name(one)
            try:
                event = one.find()
                if event is None:
                    yield from self._told(Off(What.EVENT, name, True, f"{one.sheet.name} has no such event"))
                    continue
                yield from self._no_byte(one, name)
                if self.pause:
                    yield from self._told(
                        Off(
                            What.EVENT,
                            name,
                            True,
                            f"{one.sheet.name}: the event stays {event.state} and keeps its link: {event.watch}",
                        )
                    )
                    continue
                if event.state is not EventState.CLOSED:
                    event = one.platform.finish(event)
                with contextlib.suppress(UnusableInput):
                    air.remember(one, state=event)
                good = event.state is EventState.CLOSED
                yield from self._told(Off(What.EVENT, name, good, f"{one.sheet.name}: the event is {event.state}"))
            except DirektError as error:
                yield from self._told(
                    Off(What.EVENT, name, False, reason(error), f"close it on the page of {one.sheet.name}")
                )

    def _event_done(self, one: Airing) -> bool:
        item = self.items.get((What.EVENT, _name(one)))
        ingest = self.items.get((What.INGEST, _name(one)))
        return item is not None and item.proven and (ingest is None or ingest.proven)

    def _no_byte(self, one: Airing, name: str) -> Job[EndEvent, None]:
        """Whether anything still arrives, as the ingest tells."""
        clock = self.crew.clock
        begin = clock.now()
        pending = any(not item.proven for (what, _), item in self.items.items() if what in (What.PUSH, What.CARRIED))
        while True:
            event = one.find()
            seen = one.platform.seen(event) if event is not None else None
            if seen is None:
                return
            for one_input in seen.inputs if name not in self.counted else ():
                for gap in one_input.gaps:
                    if self._was_on_air(one, gap):
                        yield Dropped(one.destination, one.sheet.name, one_input.role, gap)
            self.counted.add(name)
            arriving = [i.role for i in seen.inputs if i.arriving]
            if not arriving:
                yield from self._told(Off(What.INGEST, name, True, f"{one.sheet.name}: nothing arrives any more"))
                return
            # where a device is known to go on, waiting proves nothing
            if pending or clock.now() - begin > _INGEST_LIMIT:
                yield from self._told(
                    Off(
                        What.INGEST,
                        name,
                        False,
                        f"{one.sheet.name}: the {' and the '.join(arriving)} push still arrives",
                        "find who pushes: direkt stop --all",
                    )
                )
                return
            clock.sleep(0.5)

    @staticmethod
    def _was_on_air(one: Airing, gap: Gap) -> bool:
        on_air = ""
        with contextlib.suppress(UnusableInput):
            on_air = standing.read(one.rig.folder, one.planned.name, one.planned.mark).on_air
        return bool(on_air) and gap.began >= on_air

    # People

    def _by_hand(self) -> Job[EndEvent, None]:
        """What only a person can do: asked for, and remembered."""
        now = stamp_of(self.crew.means.wall())
        for name in self.what.feeds:
            part = self.parts.get(name)
            if part is None or not go_checks.by_hand(part):
                continue
            one = next((a for a in self.airings if name in a.feeds), None)
            title = one.sheet.name if one is not None else part.sheet.name
            if one is None and not self._was_started(part):
                yield from self._told(Off(What.PERSON, name, True, "set by hand, and not started from here", note=True))
                continue
            done = yield PersonStep(part.entry.destination, title, f"Stop the push on {part.device}", "now")
            text = "a person says that it is off" if done else "nobody said that it is off"
            yield from self._told(
                Off(What.PERSON, name, bool(done), text, "" if done else f"stop the push on {part.device} by hand")
            )
            if done and one is not None:
                self._forget_start(one, part)
        if self.pause:
            return
        for one in self.airings:
            yield from self._after(one, now)

    def _was_started(self, part: FeedParts) -> bool:
        """Whether a person said, for any event that is not over, that they started it."""
        start = _start_step(part)
        return any(
            start in s.place(part.entry.destination).done and not s.ended for s in standing.every(self.rig.folder)
        )

    def _forget_start(self, one: Airing, part: FeedParts) -> None:
        start = _start_step(part)
        with contextlib.suppress(UnusableInput):
            self._drop_start(one, start)

    def _drop_start(self, one: Airing, start: str) -> None:
        standing.change_place(
            self.rig.folder, one.planned.name, one.planned.mark, one.destination,
            lambda p: p.model_copy(update={"done": {k: v for k, v in p.done.items() if k != start}, "pushed": False}),
        )  # fmt: skip

    def _after(self, one: Airing, now: str) -> Job[EndEvent, None]:
        name = _name(one)
        try:
            event = one.find() if one.by_hand else None
            if one.by_hand:
                if event is None and not one.place.pushed:
                    yield from self._told(Off(What.EVENT, name, True, f"{one.sheet.name}: it was never begun"))
                    return
                if event is None:
                    event = one.platform.make(one.id, one.wanted())
                yield from air.finish(one, event, now)
                yield from self._told(Off(What.EVENT, name, True, f"{one.sheet.name}: a person says that it is over"))
            else:
                yield from air.ask_steps(one, "after", (None,), now)
        except NotDone as error:
            yield from self._told(Off(What.PERSON, name, False, str(error).partition("; do it")[0]))
        except (PlatformError, UnusableInput) as error:
            yield from self._told(Off(What.EVENT, name, False, reason(error)))

    # Afterwards

    def _remember(self) -> None:
        now = stamp_of(self.crew.means.wall())
        off = all(item.proven for item in self.items.values())
        for planned in self.what.events:
            new: dict[str, object] = (
                {"paused": now, "ended": ""} if self.pause else {"ended": now if off else "", "paused": ""}
            )
            with contextlib.suppress(UnusableInput):  # that it cannot be kept was said at the beginning
                standing.change(self.rig.folder, planned.name, planned.mark, _updated(new))


def _start_step(part: FeedParts) -> str:
    return f"Start the push on {part.device} to {part.destination.server}"


def _updated(new: dict[str, object]) -> Callable[[standing.Standing], standing.Standing]:
    return lambda s: s.model_copy(update=new)


def _name(one: Airing) -> str:
    return f"{one.planned.name} at {one.destination}"
