"""What the watch sees at one moment: of a device, of what this machine carries, of an event at its platform."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from direkt.device.state import Slot
from direkt.platform.event import Input
from direkt.rig.events import EventState
from direkt.store.carried import CarriedFeed


@dataclass(frozen=True, slots=True)
class DeviceLook:
    """A device."""

    at: float  # s of a steady clock, when the answer was there
    error: str = ""  # why there is none
    slots: Mapping[int, Slot] = field(default_factory=dict)
    temperature: float | None = None  # degrees Celsius
    uptime: float | None = None  # s
    wrong: tuple[str, ...] = ()  # what the device itself complains of
    began: float = 0.0  # s, when it was asked


@dataclass(frozen=True, slots=True)
class CarriedLook:
    """What this machine carries of a feed."""

    at: float
    running: CarriedFeed | None  # None: nobody carries it


@dataclass(frozen=True, slots=True)
class EventLook:
    """An event at one destination."""

    at: float
    error: str = ""
    known: bool = False  # the platform knows the event
    state: EventState | None = None
    watch: str = ""  # where viewers go
    told: bool = False  # the platform tells what its ingest sees
    inputs: tuple[Input, ...] = ()
    viewers: int | None = None
    other_key: bool = False  # it gives out another key than the rig has

    def input(self, role: str) -> Input | None:
        """One push."""
        return next((one for one in self.inputs if one.role == role), None)
