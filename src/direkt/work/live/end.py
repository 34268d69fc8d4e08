"""The certain end: pushes off and proven off, what is carried ended, the event closed, the key wiped; what is still on is said.

Works through everything at the same time and again until it is proven or the time is over. Twice does no harm. What is remembered here
says where to look; it proves nothing. Proof is the word of somebody who could know: the platform of its events and of what arrives at its
ingest, a device whose counters stand still, a process that has ended, a person. Where nobody could be asked, that is said.
"""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from direkt.device.state import Capability, Driver
from direkt.errors import DirektError, UnusableInput
from direkt.platform import planned as planning
from direkt.platform.event import InputGap, PlatformError, PlatformEvent, Role, Seen
from direkt.platform.planned import PlannedEvent
from direkt.protocol import address
from direkt.rig.events import EventState
from direkt.rig.file import Rig
from direkt.store import carried, event_memory, wishes
from direkt.work.feeds import FeedParts
from direkt.work.live import account as accounts
from direkt.work.live import checks
from direkt.work.live import event_at_platforms as air
from direkt.work.live.account import EventAccount, HeldEvent
from direkt.work.live.end_devices import DeviceEnd
from direkt.work.live.end_findings import Dropped, EndEvent, Off, Proof, Round, Stopped, What
from direkt.work.live.event_at_platforms import Airing, NotDone, PersonStep, stamp_of
from direkt.work.live.go_types import Crew, reason
from direkt.work.steps import END, Job
from direkt.work.stream import carry

_PAUSE = 2.0  # s between rounds
_INGEST_LIMIT = 12.0  # s for an ingest to notice
_ASK_EVERY = 0.5  # s between questions to it
_AT_ONCE = 16  # devices


@dataclass(frozen=True, slots=True)
class Aim:
    """What to stop."""

    feeds: tuple[str, ...]
    events: tuple[PlannedEvent, ...]  # of the rig, at the times that are known of here
    every_slot: bool = False  # of all devices, whatever the rig says of them
    names: tuple[str, ...] = ()  # of the events, at whatever time


def aim(rig: Rig, name: str | None, *, every: bool, now: float) -> Aim:
    """What a name means: an event, a feed, or everything. Raises UnusableInput."""
    if every:
        return Aim(tuple(rig.file.feeds), tuple(_open_events(rig)), True, tuple(rig.file.events))
    if name is None:
        raise UnusableInput("say what to stop: direkt stop EVENT, direkt stop FEED, or direkt stop --all")
    if name in rig.file.events:
        found = [p for p in _open_events(rig) if p.name == name] or list(_around(rig, name, now))
        feeds = dict.fromkeys([*(f for p in found for f in p.entry.feeds), *rig.file.events[name].feeds])
        return Aim(tuple(feeds), tuple(found), names=(name,))
    if name in rig.file.feeds:
        return Aim((name,), ())
    known = ", ".join([*rig.file.events, *rig.file.feeds]) or "none"
    raise UnusableInput(
        f"no event or feed {name!r} in {rig.source}; it has {known}; or stop everything: direkt stop --all"
    )


def _around(rig: Rig, name: str, now: float) -> Iterator[PlannedEvent]:
    """The time of an event that is on now or was last, and else the next one."""
    moment = datetime.datetime.fromtimestamp(now, datetime.UTC)
    last = None
    for planned in planning.occurrences(rig, name):
        if planned.end > moment:
            if last is None or planned.start <= moment:
                last = planned
            break
        last = planned
    if last is not None:
        yield last


def _open_events(rig: Rig) -> Iterator[PlannedEvent]:
    """The events that were begun from here and are not known to be over."""
    for one in event_memory.every(rig.folder):
        if one.event in rig.file.events and (not one.ended or one.paused):
            with contextlib.suppress(UnusableInput):
                found = planning.by_mark(rig, one.event, one.mark)
                if found is not None:
                    yield found


def stop(
    rig: Rig, what: Aim, crew: Crew, *, seconds: float = 0.0, wipe: bool = False, pause: bool = False, unasked: bool = False
) -> Job[EndEvent, Stopped]:  # fmt: skip
    """Ends everything that is aimed at; tries again for ``seconds``. What goes wrong is in the result.

    ``unasked``: questions are answered with yes, and no person is asked.
    """
    ending = _Ending(rig, what, crew, wipe, pause)
    ending.who = "--yes says (nobody was asked)" if unasked else "a person says"
    try:
        return (yield from ending.run(seconds))
    finally:
        ending.close()


class _Ending:
    def __init__(self, rig: Rig, what: Aim, crew: Crew, wipe: bool, pause: bool) -> None:
        self.rig, self.what, self.crew, self.wipe, self.pause = rig, what, crew, wipe, pause
        self.items: dict[tuple[What, str], Off] = {}
        self.parts: dict[str, FeedParts] = {}
        self.devices: dict[str, DeviceEnd] = {}
        self.by_hand: list[Airing] = []  # events that a person works
        self.accounts: list[EventAccount] = []
        self.counted: set[str] = set()  # events whose gaps were told
        self.silent: dict[str, bool] = {}  # by feed: whether its ingest says that nothing of it arrives
        self.drivers: list[Driver] = []
        self.remembered: list[tuple[str, str]] = []  # events that were begun from here: name and mark
        self.began = ""  # RFC 3339
        self.account = ""  # that is looked at now
        self.who = "a person says"  # whose word it is where only a person can know
        self.of_account: dict[str, set[tuple[What, str]]] = {}

    def close(self) -> None:
        air.close(self.by_hand)
        for account in self.accounts:
            account.close()
        for driver in self.drivers:
            driver.close()

    def run(self, seconds: float) -> Job[EndEvent, Stopped]:
        clock = self.crew.clock
        begin = clock.now()
        try:
            self.began = stamp_of(self.crew.means.wall())
            wishes.note(self.rig.folder, dict.fromkeys(self.what.feeds, False))  # nobody starts them again
            self.remembered = self._begun_from_here()
            for name, mark in self.remembered:  # first of all: a go that runs goes no further
                try:
                    event_memory.change(self.rig.folder, name, mark, _updated({"ended": self.began}))
                except UnusableInput as error:  # a damaged file or a full disk keeps nothing on
                    yield from self._told(Off(What.EVENT, name, Proof.SILENT, reason(error)))
            yield from self._open()
            asked = False
            while True:
                yield from self._devices()
                yield from self._carried()
                yield from self._platforms()
                if not asked:
                    asked = True
                    yield from self._persons()
                yield from self._last_look()
                left = [i for i in self.items.values() if not i.proven and i.what is not What.PERSON]
                over = seconds - (clock.now() - begin)
                if not left or over <= 0:
                    break
                yield Round(tuple(f"{item.name}: {item.text}" for item in left), over)
                clock.sleep(min(_PAUSE, over))
            self._remember()
        except KeyboardInterrupt:
            END.taken()
            return Stopped(tuple(self.items.values()), True)
        return Stopped(tuple(self.items.values()))

    def _begun_from_here(self) -> list[tuple[str, str]]:
        """The events to end, at the times at which they were begun, whether or not the rig still has these."""
        out = [(p.name, p.mark) for p in self.what.events if self._is_begun(p)]
        for s in event_memory.every(self.rig.folder):
            aimed = s.event in self.what.names or (self.what.every_slot and s.event not in self.rig.file.events)
            if aimed and s.begun and (not s.ended or s.paused) and (s.event, s.mark) not in out:
                out.append((s.event, s.mark))
        return out

    def _is_begun(self, planned: PlannedEvent) -> bool:
        with contextlib.suppress(UnusableInput):
            return bool(event_memory.read(self.rig.folder, planned.name, planned.mark).begun)
        return True

    def _begun_here(self, planned: PlannedEvent) -> bool:
        return (planned.name, planned.mark) in self.remembered

    def _told(self, item: Off) -> Iterator[Off]:
        """An item, where it is news."""
        key = (item.what, item.name)
        if self.account:
            self.of_account.setdefault(self.account, set()).add(key)
        if self.items.get(key) != item:
            self.items[key] = item
            yield item

    # What there is

    def _open(self) -> Job[EndEvent, None]:
        names = list(dict.fromkeys(self.rig.file.feeds[name].device for name in self.what.feeds))
        if self.what.every_slot:
            names = list(self.rig.file.devices)
        drivers: dict[str, Driver] = {}
        for name in names:
            try:
                drivers[name] = self.rig.driver(name, self.crew.means.sources)
                self.drivers.append(drivers[name])
            except DirektError as error:
                yield from self._told(Off(What.PUSH, name, Proof.SILENT, reason(error), "switch it off by hand"))
        for name in self.what.feeds:
            entry, _, destination = self.rig.feed(name)
            if entry.device in drivers:
                with contextlib.suppress(DirektError):
                    sheet = self.rig.sheet(destination)
                    self.parts[name] = FeedParts(self.rig, name, entry, destination, sheet, drivers[entry.device])
        for name, driver in drivers.items():
            if Capability.PUSH in driver.capabilities and (slots := self._slots(name)) != set():
                self.devices[name] = self._device_end(name, driver, slots)
        for planned in self.what.events:
            try:
                gathered = air.gather(self.rig, planned, self.crew.means)
            except DirektError as error:
                yield from self._told(
                    Off(What.EVENT, planned.name, Proof.SILENT, reason(error), "close it on the platform's page")
                )
                continue
            self.by_hand += [one for one in gathered if one.by_hand]
            air.close([one for one in gathered if not one.by_hand])
        where = dict.fromkeys(self.rig.file.feeds[name].destination for name in self.what.feeds)
        self.accounts, wrong = accounts.accounts(self.rig, self.rig.file.destinations if self.what.every_slot else where, self.crew.means)
        for platform, why in wrong.items():
            yield from self._told(Off(What.ACCOUNT, platform, Proof.SILENT, why, "look at its page, and close what is open there"))

    def _slots(self, device: str) -> set[int] | None:
        """The slots that are aimed at; None: all."""
        if self.what.every_slot:
            return None
        return {e.slot for n, e in self.rig.file.feeds.items() if n in self.what.feeds and e.device == device and not e.carry}

    def _device_end(self, name: str, driver: Driver, slots: set[int] | None) -> DeviceEnd:
        aimed = [self.rig.file.feeds[n] for n in self.what.feeds if self.rig.file.feeds[n].device == name]
        servers = set()
        for entry in aimed if slots is not None else []:
            with contextlib.suppress(UnusableInput):
                servers.add(str(address.parse(self.rig.file.destinations[entry.destination].server)))
        others = {e.slot for n, e in self.rig.file.feeds.items() if e.device == name and n not in self.what.feeds}
        return DeviceEnd(name, driver, self.crew.clock, slots, frozenset(servers), frozenset(others), self.wipe)

    # Devices

    def _devices(self) -> Job[EndEvent, None]:
        todo = [name for name in self.devices if not self._is_off(What.PUSH, name)]
        if not todo:
            return
        with ThreadPoolExecutor(min(_AT_ONCE, len(todo))) as pool:
            for found in pool.map(lambda name: self.devices[name].end(), todo):
                for item in found:
                    yield from self._told(item)

    def _is_off(self, what: What, name: str) -> bool:
        item = self.items.get((what, name))
        return item is not None and item.proven

    def _last_look(self) -> Job[EndEvent, None]:
        """The counters once more: some devices count every ten seconds only."""
        todo = [self.devices[name] for name in self.devices if self._is_off(What.PUSH, name)]
        if not todo:
            return
        with ThreadPoolExecutor(min(_AT_ONCE, len(todo))) as pool:
            for item in pool.map(lambda one: one.last_look(), todo):
                if item is not None:
                    yield from self._told(item)

    # What this machine carries, and others may

    def _carried(self) -> Job[EndEvent, None]:
        for name, entry in self.rig.file.feeds.items():
            if name not in self.what.feeds or not entry.carry or self._is_off(What.CARRIED, name):
                continue
            part = self.parts.get(name)
            was = carried.find(self.rig.folder, name)
            try:
                if was is not None and part is not None:
                    carry.end(part, self.crew.clock)
            except DirektError as error:
                yield from self._told(Off(What.CARRIED, name, Proof.ON, reason(error)))
                continue
            if carried.find(self.rig.folder, name) is not None:
                yield from self._told(
                    Off(What.CARRIED, name, Proof.ON, "it is still carried by this machine", f"direkt push off {name}")
                )
            elif was is not None:
                text = f"it is no longer carried: process {was.process} has ended"
                yield from self._told(Off(What.CARRIED, name, Proof.OFF, text))
            # of a feed that this machine does not carry, the ingest tells: see _elsewhere()

    def _elsewhere(self) -> Iterator[Off]:
        """Carried feeds that this machine does not carry: another one may."""
        for name in self.what.feeds:
            if not self.rig.file.feeds[name].carry or self._is_off(What.CARRIED, name):
                continue
            item = self.items.get((What.CARRIED, name))
            if item is not None and item.proof is Proof.ON and carried.find(self.rig.folder, name) is not None:
                continue
            if self.silent.get(name):
                yield from self._told(Off(What.CARRIED, name, Proof.OFF, "this machine does not carry it, and nothing of it arrives"))
            else:
                yield from self._told(
                    Off(
                        What.CARRIED, name, Proof.UNKNOWN, "this machine does not carry it; whether another one does, nobody could be asked",
                        "look at the platform's page, and at the machine that carries it",
                    )
                )  # fmt: skip

    # Platforms

    def _platforms(self) -> Job[EndEvent, None]:
        for account in self.accounts:
            told = self.of_account.get(account.name, set())
            if told and all(self.items[key].proven for key in told):
                continue
            self.account = account.name
            try:
                held = account.held()
            except DirektError as error:
                advice = f"look at the page of {account.title}, and close what is open there"
                yield from self._told(Off(What.ACCOUNT, account.name, Proof.SILENT, reason(error), advice))
                yield from self._known_by_name(account)
            else:
                yield from self._in_account(account, held)
            self.account = ""
        yield from self._elsewhere()
        yield from self._known_by_ingest()

    def _known_by_ingest(self) -> Iterator[Off]:
        """Devices that do not tell whether they push, where the ingest tells that nothing of them arrives."""
        for name in self.devices:
            item = self.items.get((What.PUSH, name))
            if item is None or item.proof is not Proof.UNKNOWN:
                continue
            own = [n for n, e in self.rig.file.feeds.items() if e.device == name and not e.carry]
            if own and all(self.silent.get(feed) for feed in own):
                yield from self._told(Off(What.PUSH, name, Proof.OFF, f"{item.text}; nothing of it arrives at its ingest"))

    def _known_by_name(self, account: EventAccount) -> Job[EndEvent, None]:
        """Where the list cannot be read: the events that can be asked for by name."""
        for planned in self.what.events:
            for destination in account.destinations:
                if not any(self.rig.file.feeds[f].destination == destination for f in planned.entry.feeds):
                    continue
                try:
                    event = account.platform.find(planning.event_id(self.rig, planned, destination))
                except DirektError as error:
                    text = f"{account.title} cannot be asked: {reason(error)}"
                    advice = f"close it on the page of {account.title}"
                    yield from self._told(Off(What.EVENT, f"{planned.name} at {destination}", Proof.SILENT, text, advice))
                    continue
                if event is not None:
                    owner = planning.NameOwner(planned.name, destination, planned.mark)
                    yield from self._one(account, HeldEvent(event, owner, destination))

    def _in_account(self, account: EventAccount, held: list[HeldEvent]) -> Job[EndEvent, None]:
        mine = [one for one in held if self._is_aimed(one)]
        missing = [name for name in self.what.feeds if self.rig.file.feeds[name].destination in account.destinations]
        for one in mine:
            yield from self._one(account, one)
        for one in held:
            if one.open and one not in mine and one.destination:
                yield from self._feeds_at(account, one)
        told = {item.name for item in self.items.values() if item.what is What.EVENT}
        for planned in self.what.events:
            for destination in account.destinations:
                name = f"{planned.name} at {destination}"
                goes = any(self.rig.file.feeds[f].destination == destination for f in planned.entry.feeds)
                if goes and name not in told and not any(self._name(one) == name for one in mine):
                    yield from self._told(
                        Off(What.EVENT, name, Proof.OFF, f"{account.title} has no such event among the {len(held)} that it lists")
                    )
        doubtful = [one for one in held if one.open and not one.ours and one.unasked]
        others = [one for one in held if one.open and not one.ours and not one.unasked]
        words = f"{account.title} lists {len(held)} event{'s' if len(held) != 1 else ''}, to the end"
        if doubtful and (self.what.every_slot or missing):
            text = f"{_called(doubtful[0])} is open there; whether this rig pushes to it is not known: {doubtful[0].unasked}"
            yield from self._told(
                Off(What.ACCOUNT, account.name, Proof.UNKNOWN, text, f"look at the page of {account.title}")
            )
            return
        for name in missing:  # no event is open with whose key it could be pushed
            where = self.rig.file.feeds[name].destination
            if where in account.keys and not doubtful and not any(one.open and one.destination == where for one in held):
                self.silent.setdefault(name, True)
        if others:
            words += f"; {_called(others[0])}{f' and {len(others) - 1} more' if len(others) > 1 else ''} open there, not of this rig: left as it is"
        yield from self._told(Off(What.ACCOUNT, account.name, Proof.OFF, words, note=True))

    def _is_aimed(self, one: HeldEvent) -> bool:
        """Whether an event of the account is to end."""
        if not self.what.names and not self.what.events:
            return False
        if one.owner is not None and one.owner.event:
            wanted = one.owner.event in self.what.names
            exact = any(p.name == one.owner.event and one.owner.mark in (p.mark, planning.SERIES) for p in self.what.events)
            return exact or (wanted and one.open)
        if not one.open:
            return False
        if self.what.every_slot:
            return one.ours
        return one.by_key and any(self.rig.file.feeds[name].destination == one.destination for name in self.what.feeds)

    def _name(self, one: HeldEvent) -> str:
        event = one.owner.event if one.owner is not None else ""
        return f"{event or _called(one)} at {one.destination or 'its platform'}"

    def _one(self, account: EventAccount, one: HeldEvent) -> Job[EndEvent, None]:
        """An event that is to end: nothing arrives any more, and it is closed."""
        name, event = self._name(one), one.event
        if self._is_off(What.EVENT, name) and self._ingest_done(name):
            return
        try:
            yield from self._no_byte(account, one, name)
            if self.pause:
                text = f"{account.title}: the event stays {event.state} and keeps its link: {event.watch}"
                yield from self._told(Off(What.EVENT, name, Proof.OFF, text))
                return
            if (following := self._next_of_series(account, one)) is not None:
                text = f"{account.title}: one event for all its times: it stays {event.state} for {following.start:%Y-%m-%d %H:%M}"
                yield from self._told(Off(What.EVENT, name, Proof.OFF, f"{text}; close it with: direkt event close {following.name}"))
                return
            if event.state is not EventState.CLOSED:
                event = account.platform.finish(event)
            with contextlib.suppress(UnusableInput):
                self._keep_state(one, event)
            proof = Proof.OFF if event.state is EventState.CLOSED else Proof.ON
            yield from self._told(Off(What.EVENT, name, proof, f"{account.title}: the event is {event.state}{self._found_by(one)}"))
        except DirektError as error:
            yield from self._told(Off(What.EVENT, name, Proof.SILENT, reason(error), f"close it on the page of {account.title}"))

    def _mark(self, owner: planning.NameOwner) -> str:
        """The time whose memory an event belongs to."""
        if owner.mark != planning.SERIES:
            return owner.mark
        marks = [mark for name, mark in self.remembered if name == owner.event]
        return max(marks, default=owner.mark)

    def _next_of_series(self, account: EventAccount, one: HeldEvent) -> PlannedEvent | None:
        """The next time of an event that is one for all its times, where the platform keeps it open between them."""
        if one.owner is None or one.owner.mark != planning.SERIES or not account.platform.facts.pauses:
            return None
        now = datetime.datetime.fromtimestamp(self.crew.means.wall(), datetime.UTC)
        with contextlib.suppress(UnusableInput):
            current = next(iter(_around(self.rig, one.owner.event, now.timestamp())), None)
            if current is not None and self.rig.file.events[one.owner.event].series:
                return planning.later(self.rig, current)
        return None

    @staticmethod
    def _found_by(one: HeldEvent) -> str:
        if one.by_key:
            return " (found by the key that this rig pushes with)"
        return " (found by the rig's name)" if one.owner is not None and not one.owner.event else ""

    def _keep_state(self, one: HeldEvent, event: PlatformEvent) -> None:
        if one.owner is None or not one.owner.event:
            return
        mark = self._mark(one.owner)
        if event_memory.read(self.rig.folder, one.owner.event, mark).begun:
            event_memory.change_place(
                self.rig.folder, one.owner.event, mark, one.destination,
                lambda place: place.model_copy(update={"state": EventState.CLOSED if event.state is EventState.CLOSED else place.state}),
            )  # fmt: skip

    def _ingest_done(self, name: str) -> bool:
        item = self.items.get((What.INGEST, name))
        return item is None or item.proven

    def _seen(self, account: EventAccount, event: PlatformEvent) -> Seen | None:
        now = account.platform.again(event)
        return account.platform.seen(now) if now is not None else None

    def _no_byte(self, account: EventAccount, one: HeldEvent, name: str) -> Job[EndEvent, None]:
        """Whether anything still arrives, as the ingest tells."""
        clock, begin = self.crew.clock, self.crew.clock.now()
        pending = any(i.proof in (Proof.ON, Proof.SILENT) for (w, _), i in self.items.items() if w in (What.PUSH, What.CARRIED))
        closed = one.event.state in (EventState.CLOSED, EventState.MADE)  # nothing is let in
        while True:
            try:
                seen = self._seen(account, one.event)
            except DirektError:
                if closed:  # few platforms tell of an event that is over, or not yet whole
                    return
                raise
            if seen is None:
                return
            for gap, role in self._gaps(one, seen, name):
                yield Dropped(one.destination, account.title, role, gap)
            self.counted.add(name)
            arriving = [i.role for i in seen.inputs if i.arriving]
            if not arriving:
                yield from self._nothing_arrives(account, one, seen, name)
                return
            # where a device is known to go on, waiting proves nothing
            if pending or clock.now() - begin > _INGEST_LIMIT:
                text = f"{account.title}: the {' and the '.join(arriving)} push still arrives"
                yield from self._told(Off(What.INGEST, name, Proof.ON, text, self._who_pushes(one.destination)))
                return
            clock.sleep(_ASK_EVERY)

    def _nothing_arrives(self, account: EventAccount, one: HeldEvent, seen: Seen, name: str) -> Iterator[Off]:
        silent = [i.role for i in seen.inputs if i.arriving is None]
        roles: dict[Role, bool | None] = {"primary": seen.arrives("primary"), "backup": seen.arrives("backup")}
        for feed in self.what.feeds:
            entry = self.rig.file.feeds[feed]
            if entry.destination == one.destination and roles[entry.role] is False:
                self.silent[feed] = True
        told = any(i.arriving is False for i in seen.inputs) or seen.whole
        if silent or not told:
            what = f"the {' and the '.join(silent)} push" if silent else "anything"
            yield from self._told(
                Off(What.INGEST, name, Proof.UNKNOWN, f"{account.title} does not report whether {what} arrives", f"look at the page of {account.title}")
            )
        else:
            yield from self._told(Off(What.INGEST, name, Proof.OFF, f"{account.title}: nothing arrives any more"))

    def _gaps(self, one: HeldEvent, seen: Seen, name: str) -> Iterator[tuple[InputGap, str]]:
        """Drops on air that were not told by an earlier stop, without the pauses that were wanted."""
        if name in self.counted or one.owner is None or not one.owner.event:
            return
        mark = self._mark(one.owner)
        known = event_memory.EventStanding(event=one.owner.event, mark=mark)
        with contextlib.suppress(UnusableInput):
            known = event_memory.read(self.rig.folder, one.owner.event, mark)
        for one_input in seen.inputs if known.on_air else ():
            for gap in one_input.gaps:
                if gap.began >= max(known.on_air, known.told_until) and not known.was_paused(gap.began):
                    yield gap, one_input.role

    def _feeds_at(self, account: EventAccount, one: HeldEvent) -> Job[EndEvent, None]:
        """Whether feeds that are aimed at still arrive at an event that goes on."""
        clock = self.crew.clock
        aimed = [n for n in self.what.feeds if self.rig.file.feeds[n].destination == one.destination]
        for name in aimed:
            if self._is_off(What.INGEST, name):
                continue
            role, begin = self.rig.file.feeds[name].role, clock.now()
            device = self.items.get((What.PUSH, self.rig.file.feeds[name].device))
            goes_on = device is not None and device.proof in (Proof.ON, Proof.SILENT)
            while True:
                try:
                    seen = self._seen(account, one.event)
                except DirektError as error:
                    yield from self._told(Off(What.INGEST, name, Proof.SILENT, reason(error), f"look at the page of {account.title}"))
                    break
                if seen is None:
                    break
                arrives = seen.arrives(role)
                if arrives is None:
                    text = f"{account.title} does not report whether its {role} push arrives"
                    yield from self._told(Off(What.INGEST, name, Proof.UNKNOWN, text, f"look at the page of {account.title}"))
                    break
                if not arrives:
                    self.silent[name] = True
                    yield from self._told(Off(What.INGEST, name, Proof.OFF, f"{account.title}: nothing arrives at its {role} ingest any more"))
                    break
                if goes_on or clock.now() - begin > _INGEST_LIMIT:
                    text = f"{account.title}: something still arrives at its {role} ingest"
                    others = self._others_at(name)
                    text += f"; {' and '.join(others)} may push there, too" if others else ""
                    yield from self._told(Off(What.INGEST, name, Proof.ON, text, self._who_pushes(one.destination)))
                    break
                clock.sleep(_ASK_EVERY)

    def _who_pushes(self, destination: str) -> str:
        """What to do about a push that arrives all the same."""
        known = {n for (w, n), i in self.items.items() if w in (What.PUSH, What.CARRIED) and i.proof in (Proof.ON, Proof.SILENT)}
        mine = {e.device: n for n, e in self.rig.file.feeds.items() if e.destination == destination}
        suspects = [device for device, feed in mine.items() if known & {device, feed}]
        if suspects:
            return f"it may be {' or '.join(suspects)}: switch it off by hand"
        return "find who pushes: direkt stop --all"

    def _others_at(self, name: str) -> list[str]:
        own = self.rig.file.feeds[name]
        return [
            n for n, e in self.rig.file.feeds.items()
            if n not in self.what.feeds and (e.destination, e.role) == (own.destination, own.role)
        ]  # fmt: skip

    # People

    def _persons(self) -> Job[EndEvent, None]:
        """What only a person can do: asked for, and remembered."""
        now = stamp_of(self.crew.means.wall())
        for name in self.what.feeds:
            part = self.parts.get(name)
            if part is None or not checks.by_hand(part):
                continue
            if self.silent.get(name):
                yield from self._told(Off(What.PERSON, name, Proof.OFF, f"{part.device} is set by hand, and nothing of it arrives"))
                continue
            one = next((a for a in self.by_hand if name in a.feeds), None)
            done = yield PersonStep(part.entry.destination, part.sheet.name, f"Stop the push on {part.device}", "now")
            if done:
                yield from self._told(Off(What.PERSON, name, Proof.OFF, f"{self.who} that it is off", said=True))
                self._forget_start(one, part)
            else:
                text = f"{part.device} is set by hand, and nobody said that it is off"
                proof = Proof.ON if self._was_started(part) else Proof.UNKNOWN
                text += "; it was started" if proof is Proof.ON else ""
                yield from self._told(Off(What.PERSON, name, proof, text, f"stop the push on {part.device} by hand"))
        if self.pause:
            return
        for one in self.by_hand:
            yield from self._after(one, now)
        yield from self._after_others(now)
        if self.what.every_slot:
            yield from self._other_places()

    def _other_places(self) -> Job[EndEvent, None]:
        """Destinations that a person works, where no event was begun from here."""
        told = {one.destination for one in self.by_hand}
        used = {self.rig.file.feeds[f].destination for e in self.rig.file.events.values() for f in e.feeds}
        for name in self.rig.file.destinations:
            if name in used and name not in told and self.rig.file.destinations[name].platform is None:
                yield from self._closed_by_hand(name, f"an event at {name}")

    def _closed_by_hand(self, destination: str, name: str) -> Job[EndEvent, None]:
        title = destination
        with contextlib.suppress(DirektError):
            title = self.rig.sheet(self.rig.file.destinations[destination]).name
        done = yield PersonStep(destination, title, f"See that no event of yours is open at {title}", "now")
        if done:
            yield from self._told(Off(What.EVENT, name, Proof.OFF, f"{title}: {self.who} that none is open", said=True))
        else:
            text = f"{title} is worked by hand, and none was begun from here; whether one is open there, nobody could be asked"
            yield from self._told(Off(What.EVENT, name, Proof.UNKNOWN, text, f"look at the page of {title}"))

    def _was_started(self, part: FeedParts) -> bool:
        """Whether a person said, for any event that is not over, that they started it."""
        start = _start_step(part)
        return any(
            start in s.place(part.entry.destination).done and (not s.ended or s.event in self.what.names) for s in event_memory.every(self.rig.folder)
        )

    def _forget_start(self, one: Airing | None, part: FeedParts) -> None:
        start = _start_step(part)
        for s in event_memory.every(self.rig.folder):
            if start in s.place(part.entry.destination).done and (one is None or s.event == one.planned.name):
                with contextlib.suppress(UnusableInput):
                    event_memory.change_place(self.rig.folder, s.event, s.mark, part.entry.destination, lambda p: _without(p, start))

    def _after(self, one: Airing, now: str) -> Job[EndEvent, None]:
        """An event that a person works."""
        name = f"{one.planned.name} at {one.destination}"
        try:
            event = one.find()
            if event is None and not one.place.pushed:
                yield from self._closed_by_hand(one.destination, name)
                return
            if event is None:
                event = one.platform.make(one.id, one.wanted())
            yield from air.finish(one, event, now)
            yield from self._told(Off(What.EVENT, name, Proof.OFF, f"{one.sheet.name}: {self.who} that it is over", said=True))
        except NotDone as error:
            yield from self._told(Off(What.PERSON, name, Proof.UNKNOWN, error.undone))
        except (PlatformError, UnusableInput) as error:
            yield from self._told(Off(What.EVENT, name, Proof.SILENT, reason(error)))

    def _after_others(self, now: str) -> Job[EndEvent, None]:
        """What a person does behind the end of events that Direkt works."""
        for planned in self.what.events:
            if not self._begun_here(planned):
                continue
            try:
                gathered = air.gather(self.rig, planned, self.crew.means)
            except DirektError:  # it was told when all was opened
                continue
            try:
                for one in gathered:
                    if not one.by_hand:
                        yield from air.ask_steps(one, "after", (None,), now)
            except NotDone as error:
                name = f"{planned.name} at {one.destination}"
                yield from self._told(Off(What.PERSON, name, Proof.UNKNOWN, error.undone))
            except UnusableInput as error:
                yield from self._told(Off(What.EVENT, planned.name, Proof.SILENT, reason(error)))
            finally:
                air.close(gathered)

    # Afterwards

    def _remember(self) -> None:
        now = stamp_of(self.crew.means.wall())
        off = all(item.proven for item in self.items.values())

        def how(s: event_memory.EventStanding) -> event_memory.EventStanding:
            new: dict[str, object] = {"ended": now if off else "", "paused": ""}
            if self.pause:
                new = {"paused": now, "ended": "", "pauses": s.pauses if s.is_pausing else [*s.pauses, (self.began, "")]}
            return s.model_copy(update={**new, "told_until": now})

        for name, mark in self.remembered:
            with contextlib.suppress(UnusableInput):  # that it cannot be kept was said at the beginning
                event_memory.change(self.rig.folder, name, mark, how)


def _called(one: HeldEvent) -> str:
    return f"{one.event.title!r}" if one.event.title else f"an event ({one.event.id[:40]})"


def _without(place: event_memory.DestinationMemory, start: str) -> event_memory.DestinationMemory:
    return place.model_copy(update={"done": {k: v for k, v in place.done.items() if k != start}, "pushed": False})


def _start_step(part: FeedParts) -> str:
    return f"Start the push on {part.device} to {part.destination.server}"


def _updated(new: dict[str, object]) -> Callable[[event_memory.EventStanding], event_memory.EventStanding]:
    return lambda s: s.model_copy(update=new)
