"""Writing a feed's settings to its device, or restoring settings that were saved: plan, ask, save, write, restart, read back.

A write is a transaction: what fails on the way is put back, and what cannot be put back is told. Values that the device
takes and does not keep are no failure: they are told, and learned for the next match.
"""

from __future__ import annotations

from collections.abc import Generator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from direkt import parameters
from direkt.described.errors import ChangeRefused, DeviceError, Unreachable
from direkt.destination.references import Sources
from direkt.device.state import Capability, Channel, DeviceState, PushState, Slot, need
from direkt.errors import DirektError, UnusableInput
from direkt.match.plan import Plan, PlannedStep, Unmet
from direkt.parameters import Value, Values
from direkt.protocol import address
from direkt.protocol.address import AddressError
from direkt.secret import Secret
from direkt.store import changes, learned
from direkt.store.changes import Change, Outcome
from direkt.store.learned import Lesson
from direkt.work.device import saved as saved_files
from direkt.work.device import unfinished, write_order
from direkt.work.device.planning import plan_feed
from direkt.work.device.saved import Old, load_saved
from direkt.work.device.unfinished import Stage, UnfinishedWrite
from direkt.work.feeds import FeedParts
from direkt.work.steps import Agree, Job, StepClock

RESTART_LIMIT = 60.0  # s for a device to come back
_POLL = 0.2  # s between looks at a device that restarts
_SURELY_AWAY = 10.0  # s after which an answer counts though the device was never seen away
_LOOK = 1.0  # s between looks at what was written
_SETTLED = 3.0  # s that a value stays what it became, after which it is that
_BACK_LIMIT = 20.0  # s for a device to answer again before what was is put back


@dataclass(frozen=True, slots=True)
class PlannedWrite:
    """What is to be written."""

    plan: Plan
    channel: Channel
    slot: Slot | None  # as it is; None: the device has none
    slot_channel: str
    server: str
    key: Secret | None  # None: the slot is left as it is
    missing: str = ""  # what of the slot cannot be put back, and what to do

    @property
    def pushing(self) -> bool:
        """Whether the device pushes now: a restart drops that."""
        return self.slot is not None and self.slot.state is not PushState.STOPPED


@dataclass(frozen=True, slots=True)
class Saved:
    """The old settings are in a file."""

    path: Path


@dataclass(frozen=True, slots=True)
class Restarting:
    """The device was told to restart."""


@dataclass(frozen=True, slots=True)
class BackAfterRestart:
    """The device answers again."""

    seconds: float


@dataclass(frozen=True, slots=True)
class Checking:
    """It was written and does not read back so yet."""

    seconds: float  # since it was written
    what: tuple[str, ...]  # parameters, or parts of the push slot


@dataclass(frozen=True, slots=True)
class PuttingBack:
    """Something failed: what was is put back."""

    reason: str


@dataclass(frozen=True, slots=True)
class Lost:
    """Something that does not read back as it was written."""

    what: str  # a parameter, or a part of the push slot
    wanted: Value
    set: Value | None


@dataclass(frozen=True, slots=True)
class Written:
    """The result."""

    agreed: bool
    target: PlannedWrite
    restarted: bool = False
    saved: Path | None = None
    lost: tuple[Lost, ...] = ()
    set: Values | None = None  # as read back
    refused: tuple[str, ...] = ()  # what the device said against the sound; the picture is set


WriteEvent = PlannedWrite | Agree | UnfinishedWrite | Saved | Restarting | BackAfterRestart | Checking | PuttingBack


@dataclass(frozen=True, slots=True)
class WriteTerms:
    """What a write may do."""

    wait: float = RESTART_LIMIT  # s that a restart may take
    no_restart: str = ""  # why the device must not restart now; empty: it may
    live: bool = False  # also while the device pushes


def write(feed: FeedParts, key: Secret, clock: StepClock, terms: WriteTerms = WriteTerms()) -> Job[WriteEvent, Written]:
    """Sets the feed's device as its sheet asks, then fills its push slot, if it has one.

    Raises UnusableInput and NoAnswer; the last Standing, which the error carries as its note, says where that leaves the
    device.
    """
    need(feed.driver, Capability.WRITE)
    state, channel, wanted = plan_feed(feed)
    slot = feed.slot(state) if state.slots and not feed.entry.carry else None
    target = PlannedWrite(wanted, channel, slot, channel.name, feed.destination.server, key if slot is not None else None)
    return (yield from _carry_out(feed, state, target, clock, terms, None))


def restore(
    feed: FeedParts,
    path: Path,
    sources: Sources,
    clock: StepClock,
    terms: WriteTerms = WriteTerms(),
) -> Job[WriteEvent, Written]:
    """Puts back what an earlier write saved: the settings, and the push slot as far as its key is known.

    Raises as write does.
    """
    need(feed.driver, Capability.WRITE)
    state = feed.driver.read()
    channel = feed.channel(state)
    target = _restoring(feed, state, channel, load_saved(path, feed.device, channel), path, sources)
    return (yield from _carry_out(feed, state, target, clock, terms, path))


class _Course:
    """Where a write stands, told and kept."""

    def __init__(self, feed: FeedParts, since: str) -> None:
        self._folder = feed.rig.folder
        self._earlier = unfinished.find(feed.rig, feed.name)
        self.now = UnfinishedWrite(Stage.UNTOUCHED, feed.name, feed.device, since=since)
        self.no_sound: tuple[str, ...] = ()  # what was said against the sound
        self.not_taken: set[str] = set()  # settings of sound that were refused

    def begin(self, saved: Path, *, restoring: bool) -> None:
        """From here on an end without notice leaves a file. Raises UnusableInput where that cannot be."""
        now, earlier = self.now, self._earlier
        if not restoring and earlier is not None and earlier.saved is not None:
            saved = earlier.saved  # what was there before the first of them
        self.now = UnfinishedWrite(Stage.PARTLY, now.feed, now.device, saved, restoring, now.since)
        try:
            unfinished.keep(self._folder, self.now)
        except OSError as error:
            self.now = now
            raise saved_files.not_saved(unfinished.saved_folder(self._folder), error) from None

    def at(self, stage: Stage) -> UnfinishedWrite:
        """The next stage. That the file cannot follow must not stop what has begun."""
        now = self.now
        self.now = UnfinishedWrite(stage, now.feed, now.device, now.saved, now.restoring, now.since)
        with suppress(OSError):
            unfinished.keep(self._folder, self.now)
        return self.now

    def untouched(self) -> UnfinishedWrite:
        """It turns out that nothing was changed."""
        if self._earlier is None or self._earlier.saved is None:
            self.end()
            self.now = UnfinishedWrite(Stage.UNTOUCHED, self.now.feed, self.now.device)
        else:
            self.now = self._earlier
            self.at(self.now.stage)
        return self.now

    def put_back(self) -> UnfinishedWrite:
        """The device is again as it was before this write."""
        earlier = self._earlier
        if earlier is not None and earlier.saved is not None:
            self.now = earlier  # and that was in the middle of another
            self.at(earlier.stage)
        else:
            self.end()
            self.now = UnfinishedWrite(Stage.PUT_BACK, self.now.feed, self.now.device)
        return self.now

    def end(self) -> None:
        """Nothing is left over."""
        unfinished.drop(self._folder, self.now.feed)

    @contextmanager
    def told(self) -> Generator[None, None, None]:
        """Errors carry what state the device is in."""
        try:
            yield
        except DirektError as error:
            error.add_note(self.now.text)
            raise


def _carry_out(
    feed: FeedParts, state: DeviceState, target: PlannedWrite, clock: StepClock, terms: WriteTerms, source: Path | None
) -> Job[WriteEvent, Written]:
    """Asks, saves, writes, reads back. ``source``: the saved settings that are put back."""
    yield target
    if target.slot is not None and target.slot.state is PushState.PUSHING and target.plan.changes and not terms.live:
        raise UnusableInput(_live_words(feed, target))
    course = _Course(feed, clock.stamp())
    yield course.now
    if not (yield Agree()):
        return Written(False, target)
    with course.told():
        _unchanged(feed, target, state)
        kept = saved_files.save(feed, state, target.channel, target.slot, clock)
        yield Saved(kept)
        course.begin(source or kept, restoring=source is not None)
        log = _Log(feed, state, target, clock, "restore" if source is not None else "write")
        try:
            restarted = yield from _settings(feed, target, state.restart_needed, course, clock, terms)
            yield course.at(Stage.SETTINGS_DONE)
            if target.key is not None and target.slot is not None:
                feed.driver.write_slot(target.slot.number, target.slot_channel, target.server, target.key)
            yield course.at(Stage.NOT_CHECKED)
            now = yield from _read_back(feed, target, clock, course.not_taken)
        except DirektError as error:
            if course.now.stage is not Stage.UNTOUCHED:
                yield PuttingBack(str(error))
                done = yield from _put_back(feed, state, target, course, clock, terms)
                log.keep("put back" if done else "not finished")
            raise
        lost = tuple(_lost(feed, target, now))
        if lost:  # it took half and said that all is well: what was there before stays at hand, and the next command says so
            yield course.at(Stage.NOT_KEPT)
        else:
            course.end()
        log.keep("not all stuck" if lost else "as wanted", now, lost)
        return Written(True, target, restarted, kept, lost, feed.channel(now).values, course.no_sound)


def _live_words(feed: FeedParts, target: PlannedWrite) -> str:
    """What a change interrupts while the device pushes, and how to do it all the same."""
    assert target.slot is not None
    names = ", ".join(step.parameter for step in target.plan.changes[:4])
    more = f" and {len(target.plan.changes) - 4} more" if len(target.plan.changes) > 4 else ""
    return (
        f"{feed.device} is {target.slot.state} to {target.slot.server or 'somewhere'}: to change {names}{more} now interrupts what viewers see, "
        f"and a restart drops the push until the device is back; stop the push first (direkt push off {feed.name}), or say --live"
    )


class _Log:
    """Keeps a line of what was done; a disk that is full must not stop what has begun."""

    def __init__(self, feed: FeedParts, state: DeviceState, target: PlannedWrite, clock: StepClock, what: str) -> None:
        self._feed, self._state, self._target, self._clock, self._what = feed, state, target, clock, what

    def keep(self, outcome: Outcome, now: DeviceState | None = None, lost: tuple[Lost, ...] = ()) -> None:
        """Writes the line, and what the device taught."""
        feed, target, stamp = self._feed, self._target, self._clock.stamp()
        read = feed.channel(now).values if now is not None else {}
        slot = now.slots.get(target.slot.number) if now is not None and target.slot is not None else None
        known = {item.what: (item.wanted, item.set) for item in lost if item.what in parameters.TABLE}
        line = Change(
            schema="direkt.change/1", when=stamp, what="restore" if self._what == "restore" else "write", feed=feed.name,
            device=feed.device, model=self._state.model, firmware=self._state.firmware, channel=target.channel.name,
            changes={step.parameter: (step.old, step.new) for step in target.plan.changes if step.new is not None},
            server=(target.slot.server, target.server) if target.slot is not None and target.key is not None else None,
            outcome=outcome, did_not_stick=known, set=read,
            slot=(slot.number, slot.channel, slot.server, slot.key_length) if slot is not None else None,
        )  # fmt: skip
        lessons = [
            Lesson(model=self._state.model, firmware=self._state.firmware, channel=target.channel.name, parameter=name,
                   old=target.channel.values.get(name), wanted=wanted, became=became, when=stamp,
                   beside={n: read[n] for n in learned.CIRCUMSTANCES if n in read and n != name}, tied=_tied(target, read, name))
            for name, (wanted, became) in known.items()
            # what is the old value again may only be late, or need something else: nothing is learned of that
            if became is not None and became != target.channel.values.get(name)
        ]  # fmt: skip
        with suppress(OSError):
            changes.add(feed.rig.folder, line)
            if lessons:
                learned.add(feed.rig.folder, lessons)


def _tied(target: PlannedWrite, read: Values, name: str) -> list[str]:
    """Other settings that became something else than they were, unasked: what did not stick may be tied to them."""
    wanted, old = target.plan.values(), target.channel.values
    return [
        other for other, value in read.items()
        if other != name and other not in wanted and other in old and not parameters.same(other, old[other], value)
    ]  # fmt: skip


def _put_back(
    feed: FeedParts, before: DeviceState, target: PlannedWrite, course: _Course, clock: StepClock, terms: WriteTerms
) -> Job[WriteEvent, bool]:
    """Sets the device as it was; whether that is proven. Its own failures are told by the stage that is left."""
    try:
        now = (
            (yield from _read_patiently(feed, clock))
            if course.now.stage is not Stage.NOT_IN_FORCE
            else feed.driver.read()
        )
        old, have = target.channel.values, feed.channel(now).values
        values = {
            name: value for name, value in old.items()
            if name in target.channel.limits and not (name in have and parameters.same(name, have[name], value))
        }  # fmt: skip
        slot, present = target.slot, now.slots.get(target.slot.number) if target.slot is not None else None
        slot_differs = slot is not None and present is not None and _content(slot) != _content(present)
        if slot_differs and slot is not None and (slot.server or slot.key_length):
            return False  # its key is not known here: going on is the way out
        if not values and not slot_differs and now.restart_needed == before.restart_needed:
            yield course.untouched()
            return True
        yield course.at(Stage.PARTLY)
        for portion in write_order.valid_order(feed.channel(now), feed.driver.portions(values)):
            feed.driver.write(feed.channel(now), portion)
        if slot_differs and slot is not None:
            feed.driver.write_slot(slot.number, slot.channel, "", Secret(""))
        now = feed.driver.read()
        if now.restart_needed and not before.restart_needed:
            if terms.no_restart:
                return False
            yield from _restarted(feed, clock, terms.wait)
            now = feed.driver.read()
        have = feed.channel(now).values
        proven = all(name in have and parameters.same(name, have[name], value) for name, value in old.items())
        if target.slot is not None:
            proven = proven and _content(target.slot) == _content(now.slots[target.slot.number])
        if proven:
            yield course.put_back()
        return proven
    except (DirektError, KeyError):
        return False


def _content(slot: Slot) -> tuple[str, str, int]:
    return slot.channel, slot.server, slot.key_length


def _read_patiently(feed: FeedParts, clock: StepClock) -> Job[WriteEvent, DeviceState]:
    """The state, as soon as the device answers again. Raises DeviceError."""
    begin = clock.now()
    while True:
        try:
            return feed.driver.read()
        except Unreachable:
            if clock.now() - begin > _BACK_LIMIT:
                raise
            yield PuttingBack(f"waiting for {feed.device}")
            clock.sleep(1.0)


def _unchanged(feed: FeedParts, target: PlannedWrite, before: DeviceState) -> None:
    """Raises DeviceError where the device is no longer what was agreed to: a question may have waited for long."""
    now = feed.driver.read()
    channel = now.channels.get(target.channel.name)
    same = channel is not None and channel.values == target.channel.values
    if target.slot is not None:
        slot = now.slots.get(target.slot.number)
        same = same and slot is not None and _held(slot) == _held(target.slot)
    if not same or now.restart_needed != before.restart_needed:
        raise DeviceError(
            feed.device, "was changed since it was read: run this again, and look at what it would do now"
        )


def _held(slot: Slot) -> tuple[str, str, int, bool]:
    """What a slot holds, and whether it is in use."""
    return slot.channel, slot.server, slot.key_length, slot.state is PushState.STOPPED


def _settings(
    feed: FeedParts, target: PlannedWrite, restart_needed: bool, course: _Course, clock: StepClock, terms: WriteTerms
) -> Job[WriteEvent, bool]:
    """Writes the settings and brings them into force; whether that took a restart."""
    channel, values = target.channel, target.plan.values()
    if values:
        yield course.now
        for portion in write_order.valid_order(channel, feed.driver.portions(values)):
            try:
                feed.driver.write(channel, portion)
            except ChangeRefused as error:
                if all(name.startswith("audio.") for name in portion) and any(name.startswith("video.") for name in values):
                    course.no_sound = (*course.no_sound, str(error))  # the picture stays as it is wanted
                    course.not_taken |= portion.keys()
                    continue
                with suppress(DeviceError):  # then it is as it says: some may have been written
                    now = feed.driver.read()
                    if (feed.channel(now).values, now.restart_needed) == (target.channel.values, restart_needed):
                        yield course.untouched()
                raise
            channel = _with(channel, portion)
        restart_needed = feed.driver.read().restart_needed
    if not restart_needed:
        return False
    yield course.at(Stage.NOT_IN_FORCE)
    if terms.no_restart:
        raise UnusableInput(f"{feed.device} would have to restart: {terms.no_restart}")
    yield from _restarted(feed, clock, terms.wait)
    return True


def _with(channel: Channel, values: Values) -> Channel:
    """The channel as it is after a portion was written."""
    return Channel(
        channel.name, {**channel.values, **values}, channel.limits, channel.title, channel.together, channel.source, channel.stream,
        channel.sound,
    )  # fmt: skip


def _restarted(feed: FeedParts, clock: StepClock, wait: float) -> Job[WriteEvent, None]:
    """Restarts the device and waits for it. Raises DeviceError."""
    yield Restarting()
    begin = clock.now()
    feed.driver.restart()
    away = False
    while (passed := clock.now() - begin) < wait:
        clock.sleep(_POLL)
        if not feed.driver.answers():
            away = True
        elif away or passed > _SURELY_AWAY:
            yield BackAfterRestart(clock.now() - begin)
            return
    raise Unreachable(feed.device, f"has not come back {wait:g} s after its restart: look at it, switch it off and on")


def _read_back(feed: FeedParts, target: PlannedWrite, clock: StepClock, not_taken: set[str]) -> Job[WriteEvent, DeviceState]:
    """The state when all reads back as it was written, or when the device's patience is over: settings may take their time.

    A value that has become another one, and stays so for a while, will not become what was wanted.
    """
    begin = clock.now()
    before = target.channel.values
    settled: tuple[float, tuple[Lost, ...]] | None = None
    while True:
        try:
            now = feed.driver.read()
        except Unreachable:
            if clock.now() - begin > feed.driver.patience:
                raise
            clock.sleep(_LOOK)
            continue
        lost = tuple(one for one in _lost(feed, target, now) if one.what not in not_taken)
        passed = clock.now() - begin
        if not lost or passed >= feed.driver.patience:
            return now
        old = any(one.set is None or one.set == before.get(one.what) or one.what not in parameters.TABLE for one in lost)
        if old or settled is None or settled[1] != lost:
            settled = None if old else (passed, lost)
        elif passed - settled[0] >= _SETTLED:
            return now
        yield Checking(passed, tuple(one.what for one in lost))
        clock.sleep(_LOOK)


def _lost(feed: FeedParts, target: PlannedWrite, state: DeviceState) -> list[Lost]:
    now = feed.channel(state).values
    lost = [
        Lost(name, value, now.get(name)) for name, value in target.plan.values().items()
        if name not in now or not parameters.same(name, now[name], value)
    ]  # fmt: skip
    if target.key is not None and target.slot is not None:
        slot = state.slots.get(target.slot.number, Slot(target.slot.number, "", "", 0, target.slot.state))
        pairs: tuple[tuple[str, Value, Value], ...] = (
            ("push slot server", target.server, slot.server), ("push slot channel", target.slot_channel, slot.channel),
            ("push slot key length", len(target.key), slot.key_length),
        )  # fmt: skip
        lost += [Lost(what, want, have) for what, want, have in pairs if want != have]
    if state.restart_needed:
        lost.append(Lost("restart", "done", "still needed"))
    return lost


# Saved settings


def _restoring(
    feed: FeedParts, state: DeviceState, channel: Channel, old: Old, path: Path, sources: Sources
) -> PlannedWrite:
    names = parameters.in_table_order(old.values)
    now, values = channel.values, old.values
    steps = [PlannedStep(n, now.get(n), values[n], "", "as it was saved") for n in names if n in channel.limits]
    unmet = [
        Unmet(n, f"it was {parameters.show(n, values[n])}, and cannot be set from here") for n in names
        if n not in channel.limits and not (n in now and parameters.same(n, now[n], values[n]))
    ]  # fmt: skip
    plan = Plan(tuple(steps), tuple(unmet))
    if old.slot is None:
        return PlannedWrite(plan, channel, None, channel.name, "", None)
    slot = state.slots.get(old.slot)
    if slot is None:
        raise UnusableInput(f"{path}: {feed.device} has no push slot {old.slot} any more")
    key, missing = _former_key(feed, slot, old, sources)
    return PlannedWrite(plan, channel, slot, old.slot_channel, old.server, key, missing)


def _former_key(feed: FeedParts, slot: Slot, old: Old, sources: Sources) -> tuple[Secret | None, str]:
    """The key that goes back into a slot, None where the slot is left as it is; and what cannot be put back."""
    if not old.server and not old.key_length:
        return Secret(""), ""
    if (slot.channel, slot.server, slot.key_length) == (old.slot_channel, old.server, old.key_length):
        return None, ""
    key = feed.known_key(old.server, old.key_length, sources)
    if key is not None:
        return key, ""
    by_hand = f"enter it on the page of {feed.device}"
    try:
        address.parse(old.server)
    except AddressError:
        return None, f"push slot {slot.number} held {old.server or 'no address'}, which cannot be put back: {by_hand}"
    return Secret(""), f"the key of push slot {slot.number} ({old.key_length} characters) is not known here: {by_hand}"
