"""The board: everything that is known at one moment, for a terminal, a page, a scraper and JSON alike. It holds no key."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from direkt.parameters import Value
from direkt.watch.notices import Weight
from direkt.watch.tracker import FeedState


@dataclass(frozen=True, slots=True)
class FeedRow:
    """One feed."""

    name: str
    device: str
    destination: str
    role: str
    carried: bool
    event: str  # empty: in none that goes on
    state: FeedState
    seconds: float  # in this state
    text: str
    push: str  # as its own side tells: pushing, retrying, stopped, ...
    ingest: str  # arriving, shown, nothing, or not told
    arriving: bool | None  # None: not told
    kbit_s: float | None  # what goes out
    values: Mapping[str, Value]  # as measured here, else as the ingest tells
    measured: str  # who measured: here, ingest, or nobody
    gaps: int  # that the ingest saw
    drops: int  # since the watch began
    missing: float  # s, all drops together
    restarts: int  # of the push and the device, by this watch
    mending: bool
    temperature: float | None
    strip: str  # 300 marks, two seconds each, the latest last
    wanted: bool = False  # it is meant to be on
    undo: bool = False  # it was stopped from a page a few minutes ago
    answers: bool = True  # its device, when it was asked last
    looked_at: bool = True  # at least once


@dataclass(frozen=True, slots=True)
class EventRow:
    """One event at one destination."""

    name: str
    mark: str
    title: str
    destination: str
    platform: str
    state: str
    on_air: bool
    public: bool  # anybody may be led there
    watch: str
    viewers: int | None
    start: float  # s since 1970
    end: float
    limit: float | None  # s until the platform ends the push; None: never
    error: str


@dataclass(frozen=True, slots=True)
class Warned:
    """Something that is so, and should not be."""

    kind: str
    name: str
    weight: Weight
    text: str
    advice: str
    since: float  # s since 1970
    seen: float | None = None  # s since 1970 when somebody said that they have seen it
    muted: bool = False  # nobody is reminded of it now


@dataclass(frozen=True, slots=True)
class Happening:
    """Something that happened."""

    at: float  # s since 1970
    what: str  # drop well mend tell stop note
    name: str
    text: str
    good: bool = True


@dataclass(frozen=True, slots=True)
class NextEvent:
    """When something is on air next."""

    name: str
    title: str
    start: float
    local: str = ""  # the same in the event's zone, for people


@dataclass(frozen=True, slots=True)
class Board:
    """All of it."""

    rig: str
    at: float  # s since 1970
    since: float
    feeds: tuple[FeedRow, ...] = ()
    events: tuple[EventRow, ...] = ()
    warnings: tuple[Warned, ...] = ()
    happenings: tuple[Happening, ...] = ()  # the latest first
    next: NextEvent | None = None
    sent_gb: float | None = None  # of a data plan, where there is one
    plan_gb: float | None = None
    devices: Mapping[str, float | None] = field(default_factory=dict)  # temperature by device, of those that answer
    late: float = 0.0  # s by which the watch was late at the worst, in the last half minute
    oldest: float = 0.0  # s since the oldest of its looks at devices

    @property
    def well(self) -> bool:
        """Whether all that is meant to be on is on, as far as is known, and nothing of it is bad."""
        return not any(w.weight == "fail" for w in self.warnings)
