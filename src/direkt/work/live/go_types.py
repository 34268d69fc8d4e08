"""What going live is made of: its steps, what it tells on the way, what it is asked, and what it takes from outside."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from enum import IntEnum
from pathlib import Path

from direkt.destination.sheet import Span
from direkt.errors import DirektError, UnusableInput
from direkt.finding import Verdict
from direkt.parameters import Value, Values
from direkt.platform.library import Means
from direkt.rig.events import Audience
from direkt.store import event_memory
from direkt.store.small_file import only_one
from direkt.work.live.event_at_platforms import Did, PersonStep
from direkt.work.live.first_look import Looked
from direkt.work.steps import StepClock


class GoStep(IntEnum):
    """The order."""

    BEFORE = 1
    EVENT = 2
    PUSH = 3
    INGEST = 4
    JUDGE = 5
    AIR = 6
    LOOK = 7


TITLES = {
    GoStep.BEFORE: "before: what must be true", GoStep.EVENT: "the event is made and opened", GoStep.PUSH: "push on",
    GoStep.INGEST: "the ingest sees it", GoStep.JUDGE: "asked, set, sent, seen", GoStep.AIR: "on air", GoStep.LOOK: "what viewers get",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class StepBegan:
    """A step begins."""

    step: GoStep


@dataclass(frozen=True, slots=True)
class Ended:
    """A step is over."""

    step: GoStep
    good: bool
    seconds: float


@dataclass(frozen=True, slots=True)
class GoCheck:
    """One thing that was looked at or done. A ``fail`` stops the order behind its step."""

    step: GoStep
    what: str  # the feed, device or destination
    verdict: Verdict
    text: str
    advice: str = ""  # the next step to take


@dataclass(frozen=True, slots=True)
class GoWaiting:
    """Somebody waits; told about twice a second."""

    step: GoStep
    text: str
    seconds: float
    usual: Span | None = None
    limit: float = 0.0  # s at which it is given up; 0: never


@dataclass(frozen=True, slots=True)
class Would:
    """What would be done, where nothing is."""

    step: GoStep
    text: str


@dataclass(frozen=True, slots=True)
class Row:
    """One parameter, seen four times."""

    parameter: str
    asked: str
    set: Value | None
    sent: Value | None  # as Direkt measures it
    seen: Value | None  # as the platform's ingest tells it
    verdict: Verdict
    advice: str = ""


@dataclass(frozen=True, slots=True)
class Judged:
    """One feed at its destination."""

    feed: str
    destination: str
    rows: tuple[Row, ...]
    measured: str  # what Direkt measured itself; empty: nothing
    platform: str  # who tells what is seen; empty: nobody
    complaints: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Link:
    """Where viewers go."""

    destination: str
    title: str
    address: str
    audience: Audience


@dataclass(frozen=True, slots=True)
class LookedAt:
    """What a viewer gets there."""

    destination: str
    found: Looked


@dataclass(frozen=True, slots=True)
class Question:
    """To be answered with yes or no; ``otherwise`` is the answer where nobody can be asked."""

    text: str
    otherwise: bool
    always: bool = False  # asked also where everything else is agreed to beforehand


GoEvent = StepBegan | Ended | GoCheck | GoWaiting | Would | Judged | Link | LookedAt | Question | PersonStep | Did


@dataclass(frozen=True, slots=True)
class LastRehearsal:
    """The last rehearsal or catch of a feed."""

    when: str = ""  # RFC 3339; empty: there is none
    good: bool = False
    sent: Values = field(default_factory=dict)  # what was measured


@dataclass(frozen=True, slots=True)
class Crew:
    """What going live takes from outside."""

    means: Means
    clock: StepClock
    launch: Callable[[str], None]  # starts the process that carries a feed
    last_words: Callable[[str], str]  # what that process said last; empty: nothing
    rehearsed: Callable[[str], LastRehearsal]  # how a feed was last rehearsed or caught. May raise DirektError
    exposed: Callable[[str], bool]  # whether a destination's key was seen by others


@dataclass(frozen=True, slots=True)
class Options:
    """How to go."""

    rehearsal: bool = True  # one since the last change is asked for
    invited_first: bool = False
    wait: float | None = None  # s for the ingest; None: by the sheet
    at_start: bool = False  # on air at the event's time
    dry_run: bool = False
    keep_on: bool = False  # pushes stay on where something is wrong
    practice: bool = False  # against a simulated event
    unattended: bool = False  # nobody is there: a wrong clock is said, and keeps nothing off the air; what works goes on
    without: tuple[str, ...] = ()  # feeds and destinations that are left out


class Halt(Exception):
    """Something is wrong; it was told."""


@dataclass(frozen=True, slots=True)
class Gone:
    """The result."""

    on_air: bool
    failed: GoStep | None  # at which step it stopped; None: at none
    interrupted: bool
    seconds: dict[GoStep, float]
    links: tuple[Link, ...]
    left_on: tuple[str, ...]  # what is on now, in words
    failure: str = ""
    without: tuple[str, ...] = ()  # feeds and destinations that were left out


@contextlib.contextmanager
def alone(folder: Path, event: str, mark: str) -> Iterator[None]:
    """Nobody else takes this event to air meanwhile. Raises UnusableInput."""
    with only_one(folder, event_memory.lock_name(event, mark)) as mine:
        if not mine:
            raise UnusableInput(f"another 'direkt go {event}' runs on this machine: go on there, or end it first")
        yield


def reason(error: DirektError) -> str:
    """An error's text on one line, with its notes."""
    return "; ".join([str(error).replace("\n", "; "), *getattr(error, "__notes__", ())])
