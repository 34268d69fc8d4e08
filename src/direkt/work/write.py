"""Writing a feed's settings to its device, or restoring settings that were saved: plan, ask, save, write, restart, read back."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from direkt import parameters
from direkt.device.model import Capability, Channel, DeviceState, Slot, Unreachable, need
from direkt.errors import UnusableInput, os_words
from direkt.match.budget import share_of
from direkt.match.plan import Plan, Step, plan
from direkt.parameters import ParameterError, Value, Values
from direkt.secret import Secret
from direkt.work.feeds import FeedParts
from direkt.work.steps import Agree, Clock, Job

SAVED_FOLDER = "saved-settings"
RESTART_LIMIT = 60.0  # s for a device to come back
_POLL = 0.2  # s between looks at a device that restarts
_SURELY_AWAY = 10.0  # s after which an answer counts though the device was never seen away


class Stage(StrEnum):
    """What state a write has left the device in."""

    UNTOUCHED = "untouched"
    PARTLY = "partly written"
    NOT_IN_FORCE = "written, not in force"
    SETTINGS_DONE = "settings written, push slot not"
    NOT_CHECKED = "all written, not read back"


@dataclass(frozen=True, slots=True)
class Standing:
    """The stage that the device is in now, and where its old settings are."""

    stage: Stage
    feed: str
    device: str
    saved: Path | None = None

    @property
    def text(self) -> str:
        """The same in words, with what to do."""
        old = f"; old settings: {self.saved}"
        return {
            Stage.UNTOUCHED: f"{self.device} was not changed.",
            Stage.PARTLY: f"some settings may have been written to {self.device}{old}",
            Stage.NOT_IN_FORCE: f"{self.device} has the new settings but not in force: run direkt write {self.feed} again{old}",
            Stage.SETTINGS_DONE: f"the settings of {self.device} are written, its push slot is not{old}",
            Stage.NOT_CHECKED: f"everything is written to {self.device}, but was not read back; "
            f"check with: direkt read {self.device}",
        }[self.stage]


@dataclass(frozen=True, slots=True)
class Planned:
    """What is to be written."""

    plan: Plan
    channel: Channel
    slot: Slot
    server: str
    key: Secret

    @property
    def pushing(self) -> bool:
        """Whether the device pushes now: a restart drops that."""
        return self.slot.state.value != "stopped"


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
    plan: Plan
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


def write(
    feed: FeedParts, key: Secret, clock: Clock, *, restore: Path | None = None, wait: float = RESTART_LIMIT
) -> Job[WriteEvent, Written]:
    """Sets the feed's device as its sheet asks, or as the file ``restore`` says; then fills its push slot.

    ``wait``: s that a restart may take. Raises UnusableInput and NoAnswer; the last Standing says where that leaves
    the device.
    """
    need(feed.driver, Capability.WRITE, Capability.SLOTS)
    state, channel, wanted = plan_feed(feed)
    slot = feed.slot(state)
    if restore is not None:
        wanted = _restoring(channel, load_saved(restore, feed.device, channel), restore)
    yield Planned(wanted, channel, slot, feed.destination.server, key)
    yield Standing(Stage.UNTOUCHED, feed.name, feed.device)
    if not (yield Agree()):
        return Written(False, wanted)
    saved = _save(feed, state, channel, slot, clock)
    yield Saved(saved)
    restarted = yield from _settings(feed, channel, wanted.values(), state.restart_needed, saved, clock, wait)
    yield Standing(Stage.SETTINGS_DONE, feed.name, feed.device, saved)
    feed.driver.write_slot(feed.entry.slot, feed.entry.channel, feed.destination.server, key)
    yield Standing(Stage.NOT_CHECKED, feed.name, feed.device, saved)
    now = feed.driver.read()
    return Written(True, wanted, restarted, saved, tuple(_lost(feed, wanted, key, now)), feed.channel(now).values)


def _settings(
    feed: FeedParts, channel: Channel, values: Values, restart_needed: bool, saved: Path, clock: Clock, wait: float
) -> Job[WriteEvent, bool]:
    """Writes the settings and brings them into force; whether that took a restart."""
    if values:
        yield Standing(Stage.PARTLY, feed.name, feed.device, saved)
        feed.driver.write(channel, values)
        restart_needed = feed.driver.read().restart_needed
    if not restart_needed:
        return False
    yield Standing(Stage.NOT_IN_FORCE, feed.name, feed.device, saved)
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


def _lost(feed: FeedParts, wanted: Plan, key: Secret, state: DeviceState) -> list[Lost]:
    now, slot = feed.channel(state).values, feed.slot(state)
    lost = [
        Lost(name, value, now.get(name)) for name, value in wanted.values().items()
        if name not in now or not parameters.same(name, now[name], value)
    ]  # fmt: skip
    pairs: tuple[tuple[str, Value, Value], ...] = (
        ("push slot server", feed.destination.server, slot.server), ("push slot channel", feed.entry.channel, slot.channel),
        ("push slot key length", len(key), slot.key_length),
    )  # fmt: skip
    lost += [Lost(what, want, have) for what, want, have in pairs if want != have]
    if state.restart_needed:
        lost.append(Lost("restart", "done", "still needed"))
    return lost


# Saved settings


def _save(feed: FeedParts, state: DeviceState, channel: Channel, slot: Slot, clock: Clock) -> Path:
    folder = feed.rig.folder / SAVED_FOLDER
    document = {
        "schema": "direkt.saved/1", "device": feed.device, "model": state.model, "firmware": state.firmware,
        "channel": channel.name, "set": channel.values, "slot": {"number": slot.number, "channel": slot.channel,
        "server": slot.server, "key_length": slot.key_length},
    }  # fmt: skip
    path = folder / f"{feed.device}-{channel.name}-{clock.stamp()}.json"
    try:
        folder.mkdir(exist_ok=True)
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "w", encoding="utf-8") as file:
            json.dump(document, file, indent=2)
    except FileExistsError:
        raise UnusableInput("two writes within one second; try again") from None
    except OSError as error:
        raise UnusableInput(
            f"{folder}: old settings cannot be saved, so nothing was changed: {os_words(error)}"
        ) from None
    return path


def load_saved(path: Path, device: str, channel: Channel) -> Values:
    """The settings in a file that an earlier write left. Raises UnusableInput."""
    try:
        document = json.loads(path.read_text("utf-8"))
        if document["schema"] != "direkt.saved/1":
            raise ValueError
        values = {name: parameters.clean(name, value) for name, value in document["set"].items()}
        of_device, of_channel = document["device"], document["channel"]
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be read: {os_words(error)}") from None
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, ParameterError):
        raise UnusableInput(f"{path}: not saved settings; those lie in {SAVED_FOLDER}/") from None
    if (of_device, of_channel) != (device, channel.name):
        raise UnusableInput(
            f"{path}: settings of {of_device}, channel {of_channel}; this feed uses {device}, {channel.name}"
        )
    return values


def _restoring(channel: Channel, values: Values, path: Path) -> Plan:
    names = parameters.in_table_order(values)
    steps = [
        Step(n, channel.values.get(n), values[n], "", f"as saved in {path.name}") for n in names if n in channel.limits
    ]
    return Plan(tuple(steps), ())
