"""A device's state and limits, in the parameters' words and units; what a driver offers; and what can go wrong."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Protocol

from direkt import parameters
from direkt.demand import Demand
from direkt.errors import NoAnswer, UnusableInput
from direkt.parameters import Values
from direkt.secret import Secret


class DeviceError(NoAnswer):
    """Something between us and the device; the text says what and what to do."""


class Unreachable(DeviceError):
    """It does not answer."""


class LoginRefused(DeviceError):
    """It does not take the login."""


class BadAnswer(DeviceError):
    """It answers with something that its driver does not know."""


class Refused(DeviceError):
    """It refuses a change; ``reasons`` maps parameters (or the device's own fields) to its words."""

    def __init__(self, device: str, reasons: Mapping[str, str]) -> None:
        self.reasons = dict(reasons)
        super().__init__(f"{device} refuses: " + "; ".join(f"{name}: {why}" for name, why in reasons.items()))


class CannotDo(UnusableInput):
    """Its driver has no way to do this."""


@dataclass(frozen=True, slots=True)
class InputSignal:
    """What arrives at the device's input."""

    text: str  # as the device says it
    width: int = 0  # px
    height: int = 0  # px
    frame_rate: float = 0.0  # fps
    scan: str = "progressive"


@dataclass(frozen=True, slots=True)
class Channel:
    """A separately encoded output."""

    name: str
    values: Values  # as set; one name for each setting
    limits: Mapping[str, Demand]  # what it can be set to

    @property
    def full(self) -> Values:
        """The values under every name that follows from them."""
        return parameters.expand_set(self.values)


class PushState(StrEnum):
    """What a push slot does."""

    STOPPED = "stopped"
    CONNECTING = "connecting"
    PUSHING = "pushing"
    RETRYING = "retrying"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Slot:
    """A place in the device that holds a server address and a key."""

    number: int
    channel: str
    server: str
    key_length: int  # characters; the key itself never comes back
    state: PushState
    message: str = ""
    sent_bytes: int = 0


@dataclass(frozen=True, slots=True)
class DeviceState:
    """A device at one moment."""

    model: str
    firmware: str
    temperature: float | None  # degrees Celsius
    input: InputSignal | None
    restart_needed: bool
    channels: Mapping[str, Channel]
    slots: Mapping[int, Slot] = field(default_factory=dict)  # empty where the device has none


class Capability(StrEnum):
    """Something that a driver may be able to do, beside reading; the value finishes "its driver cannot ..."."""

    WRITE = "change settings"
    SLOTS = "fill its push slots"
    PUSH = "start and stop its push"
    RESTART = "restart it"


class Driver(Protocol):
    """Talks to one device. Every method but close() may raise a DeviceError; those that need a capability, CannotDo."""

    name: str
    address: str  # where the device is, as the rig says
    capabilities: frozenset[Capability]

    def read(self) -> DeviceState:
        """State and limits."""

    def write(self, channel: Channel, values: Values) -> None:
        """Sets parameters of a channel (Capability.WRITE)."""

    def write_slot(self, slot: int, channel: str, server: str, key: Secret) -> None:
        """Puts a server address and a key into a push slot, and says which channel it pushes (SLOTS).

        An empty address and key empty the slot.
        """

    def push(self, slot: int, *, on: bool) -> None:
        """Starts or stops a slot's push (PUSH)."""

    def restart(self) -> None:
        """Tells the device to restart, and does not wait for it (RESTART)."""

    def answers(self) -> bool:
        """Whether it answers now; False while it is away or not done starting."""

    def close(self) -> None:
        """Lets go of the connection."""


def need(driver: Driver, *capabilities: Capability) -> None:
    """Raises CannotDo for the first capability that the driver does not have."""
    for capability in capabilities:
        if capability not in driver.capabilities:
            raise CannotDo(f"{driver.name}: its driver cannot {capability.value}; do it by hand on the device's page")
