"""A device's state and limits, in the parameters' words and units, and what can go wrong with it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from direkt import parameters
from direkt.demand import Demand
from direkt.errors import NoAnswer
from direkt.parameters import Values


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


@dataclass(frozen=True, slots=True)
class Slot:
    """A place in the device that holds a server address and a key."""

    number: int
    channel: str
    server: str
    key_length: int  # characters; the key itself never comes back
    state: str  # stopped, connecting, pushing or retrying
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
    slots: Mapping[int, Slot] = field(default_factory=dict)
