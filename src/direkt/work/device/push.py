"""Starting and stopping a device's push."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from direkt.described.errors import DeviceError
from direkt.device.state import Capability, DeviceState, PushState, Slot, need
from direkt.errors import DirektError, UnusableInput
from direkt.protocol import address
from direkt.secret import Secret
from direkt.store import wishes
from direkt.work.feeds import FeedParts
from direkt.work.steps import Job, StepClock

START_LIMIT = 12.0  # s for a push to get going
_POLL = 0.25  # s


class PushStage(StrEnum):
    """What state an interrupted start has left the device in."""

    SLOT = "the slot may be filled"
    STARTED = "the push may be on"


@dataclass(frozen=True, slots=True)
class PushStanding:
    """The stage that the device is in now."""

    stage: PushStage
    feed: str
    device: str
    server: str

    @property
    def text(self) -> str:
        """The same in words, with what to do."""
        if self.stage is PushStage.SLOT:
            return f"{self.device} may have a new server address and key; it does not push"
        return f"{self.device} may be pushing to {self.server}; stop it with: direkt push off {self.feed}"


@dataclass(frozen=True, slots=True)
class Look:
    """The push slot as it is."""

    slot: Slot
    restart_needed: bool  # the stream keeps other settings than those that the device shows


def look(feed: FeedParts) -> Look:
    """Reads it."""
    state = feed.driver.read()
    return Look(feed.slot(state), state.restart_needed)


def start(feed: FeedParts, key: Secret, clock: StepClock, server: str | None = None) -> Job[PushStanding, Look]:
    """Makes sure that the push slot holds address, key and channel, starts the push, and waits until it runs.

    ``server``: a receiver's address instead of the platform's. Returns the slot as it is after at most 12 s. Errors that
    come after the device was touched carry what state it may be in as their note.
    """
    need(feed.driver, Capability.SLOTS, Capability.PUSH)
    target = str(address.parse(server)) if server is not None else feed.destination.server
    if key.reveal() in target:
        raise UnusableInput("the address holds the stream key: give it without")
    state = feed.driver.read()
    slot = feed.slot(state)
    if slot.state is PushState.STOPPED:
        _may_push(feed, state, address.parse(target).scheme)
    else:
        if (slot.server, slot.channel) == (target, feed.entry.channel):
            return _wait(feed, clock)
        raise DeviceError(feed.device, f"is pushing to {slot.server}: stop it first with: direkt push off {feed.name}")
    standing = PushStanding(PushStage.SLOT, feed.name, feed.device, target)
    try:
        yield standing
        feed.driver.write_slot(feed.entry.slot, feed.entry.channel, target, key)
        standing = PushStanding(PushStage.STARTED, feed.name, feed.device, target)
        yield standing
        feed.driver.push(feed.entry.slot, on=True)
        if server is None:
            wishes.note(feed.rig.folder, {feed.name: True})
        return _wait(feed, clock)
    except DirektError as error:
        error.add_note(standing.text)
        raise


def _may_push(feed: FeedParts, state: DeviceState, scheme: str) -> None:
    """Raises UnusableInput where the device's own limits say that it does not push now, or not by this protocol."""
    channel = feed.channel(state)
    for law in channel.together:
        if law.holds(channel.full):
            protocols = [d for d in law.then if d.name == "stream.protocol" and not d.allows(scheme)]
            if not law.push or protocols:
                why = law.because or (
                    f"it pushes by {protocols[0].text()}" if protocols else "its settings do not allow it"
                )
                raise UnusableInput(f"{feed.device} does not push like this: {why}; see: direkt match {feed.name}")


def _wait(feed: FeedParts, clock: StepClock) -> Look:
    """The slot once it pushes or fails to, or as it is after the limit."""
    begin = clock.now()
    while True:
        found = look(feed)
        if found.slot.state in (PushState.PUSHING, PushState.RETRYING) or clock.now() - begin > START_LIMIT:
            return found
        clock.sleep(_POLL)


def _wait_for_the_end(feed: FeedParts, clock: StepClock) -> Look:
    """The slot once it has stopped, or as it is after the limit: devices say goodbye to the server first."""
    begin = clock.now()
    while True:
        found = look(feed)
        if found.slot.state is PushState.STOPPED or clock.now() - begin > START_LIMIT:
            return found
        clock.sleep(_POLL)


def stop(feed: FeedParts, clock: StepClock, *, wanted_off: bool = True) -> Look:
    """Stops the push, and makes sure that it has. Raises DeviceError when the device goes on.

    ``wanted_off``: it is meant to stay off; otherwise it is started again in a moment.
    """
    need(feed.driver, Capability.PUSH)
    if wanted_off:
        wishes.note(feed.rig.folder, {feed.name: False})
    try:
        look(feed)
        feed.driver.push(feed.entry.slot, on=False)
        found = _wait_for_the_end(feed, clock)
    except DirektError as error:
        error.add_note(not_stopped(feed))
        raise
    if found.slot.state is not PushState.STOPPED:
        raise DeviceError(feed.device, f"still says {found.slot.state} after it was stopped: look at the device")
    return found


def not_stopped(feed: FeedParts) -> str:
    """What to know when a stop did not come to its end."""
    return f"{feed.device} may still be pushing; to stop it: direkt push off {feed.name}, or switch it off"
