"""Starting and stopping a device's push."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from direkt.device.model import Capability, DeviceError, PushState, Slot, need
from direkt.errors import UnusableInput
from direkt.protocol import address
from direkt.secret import Secret
from direkt.work.feeds import FeedParts
from direkt.work.steps import Clock, Job

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


def state(feed: FeedParts) -> Slot:
    """The push slot as it is."""
    return feed.slot(feed.driver.read())


def start(feed: FeedParts, key: Secret, clock: Clock, server: str | None = None) -> Job[PushStanding, Slot]:
    """Makes sure that the push slot holds address, key and channel, starts the push, and waits until it runs.

    ``server``: a receiver's address instead of the platform's. Returns the slot as it is after at most 12 s.
    """
    need(feed.driver, Capability.SLOTS, Capability.PUSH)
    target = str(address.parse(server)) if server is not None else feed.destination.server
    if key.reveal() in target:
        raise UnusableInput("the address holds the stream key: give it without")
    slot = state(feed)
    if slot.state is not PushState.STOPPED:
        if (slot.server, slot.channel) == (target, feed.entry.channel):
            return _wait(feed, clock)
        raise DeviceError(f"{feed.device} is pushing to {slot.server}: stop it first with: direkt push off {feed.name}")
    yield PushStanding(PushStage.SLOT, feed.name, feed.device, target)
    feed.driver.write_slot(feed.entry.slot, feed.entry.channel, target, key)
    yield PushStanding(PushStage.STARTED, feed.name, feed.device, target)
    feed.driver.push(feed.entry.slot, on=True)
    return _wait(feed, clock)


def _wait(feed: FeedParts, clock: Clock) -> Slot:
    """The slot once it pushes or fails to, or as it is after the limit."""
    begin = clock.now()
    while True:
        slot = state(feed)
        if slot.state in (PushState.PUSHING, PushState.RETRYING) or clock.now() - begin > START_LIMIT:
            return slot
        clock.sleep(_POLL)


def stop(feed: FeedParts) -> Slot:
    """Stops the push, and makes sure that it has. Raises DeviceError when the device goes on."""
    need(feed.driver, Capability.PUSH)
    state(feed)
    feed.driver.push(feed.entry.slot, on=False)
    slot = state(feed)
    if slot.state is not PushState.STOPPED:
        raise DeviceError(f"{feed.device} still says {slot.state} after it was told to stop: look at the device")
    return slot
