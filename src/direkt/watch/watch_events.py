"""What a watch is given, what it tells, and what it is asked: the world it looks at, its set-up, its events."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

from direkt.store.wishes import Wishes
from direkt.watch.board import Board, Happening, NextEvent
from direkt.watch.conditions import Bounds
from direkt.watch.looks import CarriedLook, DeviceLook, EventLook
from direkt.watch.notices import Notice
from direkt.watch.policy import Act, RestartTerms
from direkt.watch.tracker import FeedFacts

QUIET = 1800.0  # s before a start in which no device is restarted by itself


@dataclass(frozen=True, slots=True)
class Followed:
    """An event that goes on, at one destination."""

    key: str
    name: str
    mark: str
    title: str
    destination: str
    platform: str  # what the destination is called
    feeds: tuple[str, ...]
    start: float  # s since 1970
    end: float
    begun: float
    on_air: bool
    public: bool
    longest: float | None  # s of one push
    asked: bool  # its platform can be asked
    watch: str = ""  # as remembered


@dataclass(frozen=True, slots=True)
class MachineLook:
    """This machine."""

    disk_free: float | None


class World(Protocol):
    """What the watch looks at and acts on. Everything but wishes() and carried() may take long, and runs in the pool."""

    def device(self, name: str) -> DeviceLook:
        """A look at a device."""

    def carried(self, feed: str) -> CarriedLook:
        """A look at what this machine carries."""

    def followed(self) -> tuple[Sequence[Followed], NextEvent | None]:
        """The events that go on, and the next one."""

    def event(self, one: Followed) -> EventLook:
        """A look at an event at its platform."""

    def machine(self) -> MachineLook:
        """A look at this machine."""

    def certificates(self) -> Mapping[str, float]:
        """Days left, by host."""

    def wishes(self) -> Wishes:
        """What is meant to be on."""

    def wish(self, feed: str, on: bool, *, at_device: bool = False) -> None:
        """From here on it is meant to be so; ``at_device``: somebody did that at the device."""

    def start(self, feed: str) -> str:
        """Starts a push, again or for the first time; how that went. Raises DirektError."""

    def restart(self, device: str) -> str:
        """Restarts a device and waits for it; how that went. Raises DirektError."""

    def stop(self, feed: str) -> str:
        """Stops a push for good. Raises DirektError."""


@dataclass(frozen=True, slots=True)
class Setup:
    """What is watched, and how."""

    rig: str
    feeds: tuple[FeedFacts, ...]
    terms: RestartTerms
    bounds: Bounds
    mend: bool = True
    period: float | None = None  # s between looks; None: by how many there are
    plan: float | None = None  # bytes of a data plan
    earlier: tuple[tuple[str, Act, float], ...] = ()  # what earlier watches tried: feed, what, how many s ago
    starts: tuple[tuple[str, float], ...] = ()  # devices, and when something of them is to begin, s since 1970

    def quiet(self, wall: float) -> set[str]:
        """Devices that are not restarted now, since something of them begins soon."""
        return {device for device, start in self.starts if -60.0 <= start - wall <= QUIET}


@dataclass(frozen=True, slots=True)
class Frame:
    """The state, twice a second."""

    board: Board


@dataclass(frozen=True, slots=True)
class Happened:
    """Something happened."""

    happening: Happening
    feed: str = ""
    device: str = ""
    destination: str = ""
    event: str = ""
    mark: str = ""
    seconds: float | None = None
    act: Act | None = None
    by: Literal["watch", "page"] = "watch"  # who acted
    counted: bool = False  # the platform itself counts what is missing
    deed: str = ""  # what it ends


@dataclass(frozen=True, slots=True)
class ActionBegan:
    """Something is about to be done to a feed."""

    what: str  # mend or stop
    text: str
    deed: str
    feed: str
    device: str
    destination: str
    event: str = ""
    mark: str = ""


WatchEvent = Frame | Happened | ActionBegan | Notice


@dataclass(frozen=True, slots=True)
class Command:
    """What a person asks for from the page."""

    what: str  # restart, stop, start; seen, mute, unmute
    feed: str  # of a warning: its kind and name
