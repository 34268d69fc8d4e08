"""Writing a feed's settings to its device, or restoring settings that were saved: plan, ask, save, write, restart, read back."""

from __future__ import annotations

import json
from collections.abc import Generator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from direkt import files, parameters
from direkt.destination.references import Sources
from direkt.device.model import (
    Capability,
    Channel,
    DeviceError,
    DeviceState,
    PushState,
    Refused,
    Slot,
    Unreachable,
    need,
)
from direkt.errors import DirektError, UnusableInput, os_words
from direkt.match.budget import share_of
from direkt.match.plan import Plan, Step, Unmet, plan
from direkt.parameters import ParameterError, Value, Values
from direkt.protocol import address
from direkt.protocol.address import AddressError
from direkt.secret import Secret
from direkt.work import standing
from direkt.work.feeds import FeedParts
from direkt.work.standing import SAVED_FOLDER, Stage, Standing
from direkt.work.steps import Agree, Clock, Job

RESTART_LIMIT = 60.0  # s for a device to come back
_POLL = 0.2  # s between looks at a device that restarts
_MOST = 1 << 20  # characters of a file with saved settings
_SURELY_AWAY = 10.0  # s after which an answer counts though the device was never seen away


@dataclass(frozen=True, slots=True)
class Planned:
    """What is to be written."""

    plan: Plan
    channel: Channel
    slot: Slot  # as it is
    slot_channel: str
    server: str
    key: Secret | None  # None: the slot is left as it is
    missing: str = ""  # what of the slot cannot be put back, and what to do

    @property
    def pushing(self) -> bool:
        """Whether the device pushes now: a restart drops that."""
        return self.slot.state is not PushState.STOPPED


@dataclass(frozen=True, slots=True)
class Saved:
    """The old settings are in a file."""

    path: Path


@dataclass(frozen=True, slots=True)
class Restarting:
    """The device was told to restart."""


@dataclass(frozen=True, slots=True)
class Back:
    """The device answers again."""

    seconds: float


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
    target: Planned
    restarted: bool = False
    saved: Path | None = None
    lost: tuple[Lost, ...] = ()
    set: Values | None = None  # as read back


WriteEvent = Planned | Agree | Standing | Saved | Restarting | Back


def plan_feed(feed: FeedParts) -> tuple[DeviceState, Channel, Plan]:
    """The device's state, the feed's channel, and what to change on it."""
    state = feed.driver.read()
    channel = feed.channel(state)
    return state, channel, plan(channel, feed.sheet, state.input, share_of(feed.rig, feed.name))


def write(feed: FeedParts, key: Secret, clock: Clock, *, wait: float = RESTART_LIMIT) -> Job[WriteEvent, Written]:
    """Sets the feed's device as its sheet asks, then fills its push slot.

    ``wait``: s that a restart may take. Raises UnusableInput and NoAnswer; the last Standing, which the error carries as
    its note, says where that leaves the device.
    """
    need(feed.driver, Capability.WRITE, Capability.SLOTS)
    state, channel, wanted = plan_feed(feed)
    target = Planned(wanted, channel, feed.slot(state), feed.entry.channel, feed.destination.server, key)
    return (yield from _carry_out(feed, state, target, clock, wait, None))


def restore(
    feed: FeedParts, path: Path, sources: Sources, clock: Clock, *, wait: float = RESTART_LIMIT
) -> Job[WriteEvent, Written]:
    """Puts back what an earlier write saved: the settings, and the push slot as far as its key is known.

    Raises as write does.
    """
    need(feed.driver, Capability.WRITE, Capability.SLOTS)
    state = feed.driver.read()
    channel = feed.channel(state)
    target = _restoring(feed, state, channel, load_saved(path, feed.device, channel), path, sources)
    return (yield from _carry_out(feed, state, target, clock, wait, path))


class _Course:
    """Where a write stands, told and kept."""

    def __init__(self, feed: FeedParts, since: str) -> None:
        self._folder = feed.rig.folder
        self._earlier = standing.find(feed.rig, feed.name)
        self.now = Standing(Stage.UNTOUCHED, feed.name, feed.device, since=since)

    def begin(self, saved: Path, *, restoring: bool) -> None:
        """From here on an end without notice leaves a file. Raises UnusableInput where that cannot be."""
        now, earlier = self.now, self._earlier
        if not restoring and earlier is not None and earlier.saved is not None:
            saved = earlier.saved  # what was there before the first of them
        self.now = Standing(Stage.PARTLY, now.feed, now.device, saved, restoring, now.since)
        try:
            standing.keep(self._folder, self.now)
        except OSError as error:
            self.now = now
            raise _not_saved(self._folder / SAVED_FOLDER, error) from None

    def at(self, stage: Stage) -> Standing:
        """The next stage. That the file cannot follow must not stop what has begun."""
        now = self.now
        self.now = Standing(stage, now.feed, now.device, now.saved, now.restoring, now.since)
        with suppress(OSError):
            standing.keep(self._folder, self.now)
        return self.now

    def untouched(self) -> Standing:
        """It turns out that nothing was changed."""
        if self._earlier is None or self._earlier.saved is None:
            self.end()
            self.now = Standing(Stage.UNTOUCHED, self.now.feed, self.now.device)
        else:
            self.now = self._earlier
            self.at(self.now.stage)
        return self.now

    def end(self) -> None:
        """Nothing is left over."""
        standing.drop(self._folder, self.now.feed)

    @contextmanager
    def told(self) -> Generator[None, None, None]:
        """Errors carry what state the device is in."""
        try:
            yield
        except DirektError as error:
            error.add_note(self.now.text)
            raise


def _carry_out(
    feed: FeedParts, state: DeviceState, target: Planned, clock: Clock, wait: float, source: Path | None
) -> Job[WriteEvent, Written]:
    """Asks, saves, writes, reads back. ``source``: the saved settings that are put back."""
    yield target
    course = _Course(feed, clock.stamp())
    yield course.now
    if not (yield Agree()):
        return Written(False, target)
    with course.told():
        _unchanged(feed, target, state)
        saved = _save(feed, state, target, clock)
        yield Saved(saved)
        course.begin(source or saved, restoring=source is not None)
        values = target.plan.values()
        restarted = yield from _settings(feed, target.channel, values, state.restart_needed, course, clock, wait)
        yield course.at(Stage.SETTINGS_DONE)
        if target.key is not None:
            feed.driver.write_slot(target.slot.number, target.slot_channel, target.server, target.key)
        yield course.at(Stage.NOT_CHECKED)
        now = feed.driver.read()
        lost = tuple(_lost(feed, target, now))
        course.end()
        return Written(True, target, restarted, saved, lost, feed.channel(now).values)


def _unchanged(feed: FeedParts, target: Planned, before: DeviceState) -> None:
    """Raises DeviceError where the device is no longer what was agreed to: a question may have waited for long."""
    now = feed.driver.read()
    slot, channel = now.slots.get(target.slot.number), now.channels.get(target.channel.name)
    same = slot is not None and channel is not None and (channel.values, _held(slot)) == (
        target.channel.values, _held(target.slot)
    )  # fmt: skip
    if not same or now.restart_needed != before.restart_needed:
        raise DeviceError(
            f"{feed.device} was changed since it was read: run this again, and look at what it would do now"
        )


def _held(slot: Slot) -> tuple[str, str, int, bool]:
    """What a slot holds, and whether it is in use."""
    return slot.channel, slot.server, slot.key_length, slot.state is PushState.STOPPED


def _settings(
    feed: FeedParts, channel: Channel, values: Values, restart_needed: bool, course: _Course, clock: Clock, wait: float
) -> Job[WriteEvent, bool]:
    """Writes the settings and brings them into force; whether that took a restart."""
    if values:
        yield course.now
        try:
            feed.driver.write(channel, values)
        except Refused:
            with suppress(DeviceError):  # then it is as it says: some may have been written
                now = feed.driver.read()
                if (feed.channel(now).values, now.restart_needed) == (channel.values, restart_needed):
                    yield course.untouched()
            raise
        restart_needed = feed.driver.read().restart_needed
    if not restart_needed:
        return False
    yield course.at(Stage.NOT_IN_FORCE)
    yield Restarting()
    begin = clock.now()
    feed.driver.restart()
    away = False
    while (passed := clock.now() - begin) < wait:
        clock.sleep(_POLL)
        if not feed.driver.answers():
            away = True
        elif away or passed > _SURELY_AWAY:
            yield Back(clock.now() - begin)
            return True
    raise Unreachable(f"{feed.device} has not come back {wait:g} s after its restart: look at it, switch it off and on")


def _lost(feed: FeedParts, target: Planned, state: DeviceState) -> list[Lost]:
    now = feed.channel(state).values
    lost = [
        Lost(name, value, now.get(name)) for name, value in target.plan.values().items()
        if name not in now or not parameters.same(name, now[name], value)
    ]  # fmt: skip
    slot = state.slots.get(target.slot.number, Slot(target.slot.number, "", "", 0, target.slot.state))
    if target.key is not None:
        pairs: tuple[tuple[str, Value, Value], ...] = (
            ("push slot server", target.server, slot.server), ("push slot channel", target.slot_channel, slot.channel),
            ("push slot key length", len(target.key), slot.key_length),
        )  # fmt: skip
        lost += [Lost(what, want, have) for what, want, have in pairs if want != have]
    if state.restart_needed:
        lost.append(Lost("restart", "done", "still needed"))
    return lost


# Saved settings


@dataclass(frozen=True, slots=True)
class _Old:
    """What an earlier write has saved."""

    values: Values
    slot: int
    slot_channel: str
    server: str
    key_length: int


def _not_saved(folder: Path, error: OSError) -> UnusableInput:
    return UnusableInput(f"{folder}: old settings cannot be saved, so nothing was changed: {os_words(error)}")


def _save(feed: FeedParts, state: DeviceState, target: Planned, clock: Clock) -> Path:
    folder, channel, slot = feed.rig.folder / SAVED_FOLDER, target.channel, target.slot
    document = {
        "schema": "direkt.saved/1", "device": feed.device, "model": state.model, "firmware": state.firmware,
        "channel": channel.name, "set": channel.values, "slot": {"number": slot.number, "channel": slot.channel,
        "server": slot.server, "key_length": slot.key_length},
    }  # fmt: skip
    name = f"{standing.file_name(feed.device)}-{standing.file_name(channel.name)}-{clock.stamp()}"
    try:
        folder.mkdir(exist_ok=True)
        with files.alone(folder):
            paths = (folder / f"{name}{more}.json" for more in ("", *(f"-{n}" for n in range(2, 1000))))
            path = next(path for path in paths if not path.exists())  # several within one second
            files.replace(path, json.dumps(document, indent=2) + "\n", 0o600)
    except OSError as error:
        raise _not_saved(folder, error) from None
    return path


def load_saved(path: Path, device: str, channel: Channel) -> _Old:
    """What is in a file that an earlier write left. Raises UnusableInput."""
    try:
        with path.open(encoding="utf-8") as file:
            document = json.loads(file.read(_MOST))
        if document["schema"] != "direkt.saved/1":
            raise ValueError
        values = {name: parameters.clean(name, value) for name, value in document["set"].items()}
        slot = document["slot"]
        old = _Old(values, slot["number"], slot["channel"], slot["server"], slot["key_length"])
        if [type(x) for x in (old.slot, old.slot_channel, old.server, old.key_length)] != [int, str, str, int]:
            raise ValueError
        of_device, of_channel = document["device"], document["channel"]
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be read: {os_words(error)}") from None
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, ParameterError):
        raise UnusableInput(f"{path}: not saved settings; those lie in {SAVED_FOLDER}/") from None
    if (of_device, of_channel) != (device, channel.name):
        raise UnusableInput(
            f"{path}: settings of {of_device}, channel {of_channel}; this feed uses {device}, {channel.name}"
        )
    return old


def _restoring(
    feed: FeedParts, state: DeviceState, channel: Channel, old: _Old, path: Path, sources: Sources
) -> Planned:
    names = parameters.in_table_order(old.values)
    now, values = channel.values, old.values
    steps = [Step(n, now.get(n), values[n], "", "as it was saved") for n in names if n in channel.limits]
    unmet = [
        Unmet(n, f"it was {parameters.show(n, values[n])}, and cannot be set from here") for n in names
        if n not in channel.limits and not (n in now and parameters.same(n, now[n], values[n]))
    ]  # fmt: skip
    slot = state.slots.get(old.slot)
    if slot is None:
        raise UnusableInput(f"{path}: {feed.device} has no push slot {old.slot} any more")
    key, missing = _former_key(feed, slot, old, sources)
    return Planned(Plan(tuple(steps), tuple(unmet)), channel, slot, old.slot_channel, old.server, key, missing)


def _former_key(feed: FeedParts, slot: Slot, old: _Old, sources: Sources) -> tuple[Secret | None, str]:
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
