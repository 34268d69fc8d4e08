"""What is remembered of an event on its way to air: what only a person could do, and when each thing happened.

A file for each time an event takes place, beside the rig; it holds no key. What can be asked (a platform, a device) is asked;
this is for the rest.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt import files
from direkt.documents import Strict
from direkt.errors import UnusableInput, os_words
from direkt.rig.events import EventState
from direkt.store.small_file import SmallFile, place

FOLDER = "events"
_MOST_FILES = 500

_SKEW = datetime.timedelta(seconds=10)

HandState = Literal["none"] | EventState


class DestinationMemory(Strict):
    """An event at one destination."""

    state: HandState = "none"  # by hand: what the person said; else what the platform said last
    watch: str = ""
    done: dict[str, str] = {}  # step that only a person can do: when they said that it is done (RFC 3339)
    pushed: bool = False  # a push was begun
    key_mark: str = Field(default="", max_length=4)  # of the key that was used


class EventStanding(Strict):
    """An event at one time."""

    schema_: Literal["direkt.standing/1"] = Field(default="direkt.standing/1", alias="schema")
    event: str
    mark: str = Field(pattern=r"^\d{8}T\d{6}Z$")
    places: dict[str, DestinationMemory] = {}  # by destination
    begun: str = ""  # RFC 3339: when direkt go began
    on_air: str = ""
    paused: str = ""
    ended: str = ""
    invited_first: bool = False  # opened to invited viewers only, and not widened so far
    pauses: list[tuple[str, str]] = []  # that were wanted: from when to when, RFC 3339; an empty end: it goes on
    told_until: str = ""  # drops before this were told

    @property
    def is_pausing(self) -> bool:
        """Whether a wanted pause goes on."""
        return bool(self.pauses) and not self.pauses[-1][1]

    def resumed(self, now: str) -> EventStanding:
        """The same, pushed again from now on."""
        pauses = [*self.pauses[:-1], (self.pauses[-1][0], now)] if self.is_pausing else self.pauses
        return self.model_copy(update={"paused": "", "pauses": pauses})

    def was_paused(self, at: str) -> bool:
        """Whether a moment lies in a pause that was wanted, as far as two machines' clocks agree."""
        moment = _moment(at)
        if moment is None:
            return False
        for began, until in self.pauses:
            first, last = _moment(began), _moment(until)
            if first is not None and first - _SKEW <= moment and (last is None or moment <= last + _SKEW):
                return True
        return False

    def place(self, destination: str) -> DestinationMemory:
        """How it stands at a destination."""
        return self.places.get(destination, DestinationMemory())


def _moment(text: str) -> datetime.datetime | None:
    try:
        found = datetime.datetime.fromisoformat(text)
    except ValueError:
        return None
    return found if found.tzinfo is not None else None


def _file(folder: Path, event: str, mark: str) -> SmallFile[EventStanding]:
    path = place(folder, FOLDER) / f"{files.name_of(event)}-{mark}.json"
    return SmallFile(path, EventStanding, "look at the event at its platform")


def lock_name(event: str, mark: str) -> str:
    """Of the lock that whoever takes this event to air holds, beside the rig."""
    return f"{files.name_of(event)}-{mark}.lock"


def read(folder: Path, event: str, mark: str) -> EventStanding:
    """How an event stands; as at the beginning where nothing is remembered. Raises UnusableInput for a damaged file."""
    return _file(folder, event, mark).read() or EventStanding(event=event, mark=mark)


def change(folder: Path, event: str, mark: str, how: Callable[[EventStanding], EventStanding]) -> EventStanding:
    """Changes what is remembered, alone. Raises UnusableInput."""
    file = _file(folder, event, mark)
    try:
        new = file.change(lambda old: how(old or EventStanding(event=event, mark=mark)))
    except OSError as error:
        raise UnusableInput(f"{file.path}: cannot be written: {os_words(error)}") from None
    assert new is not None
    return new


def change_place(folder: Path, event: str, mark: str, destination: str, how: Callable[[DestinationMemory], DestinationMemory]) -> EventStanding:
    """The same for one destination."""
    return change(
        folder, event, mark,
        lambda s: s.model_copy(update={"places": {**s.places, destination: how(s.place(destination))}}),
    )  # fmt: skip


def every(folder: Path) -> list[EventStanding]:
    """All that is remembered, oldest first; what cannot be read is passed over."""
    return _all(sorted(place(folder, FOLDER).glob("*.json"))[-_MOST_FILES:])


def _all(paths: list[Path]) -> list[EventStanding]:
    found = (SmallFile(path, EventStanding).read() for path in paths)
    return sorted((one for one in found if one is not None), key=lambda s: s.mark)


PAST = "past"


def put_away(folder: Path, event: str, mark: str) -> None:
    """Keeps what is remembered for reports alone: the event can begin anew. Raises UnusableInput."""
    path = _file(folder, event, mark).path
    try:
        if path.exists():
            (path.parent / PAST).mkdir(exist_ok=True)
            for n in range(1, 1000):
                target = path.parent / PAST / f"{path.stem}-{n}.json"
                if not target.exists():
                    path.rename(target)
                    break
        place(folder, lock_name(event, mark)).unlink(missing_ok=True)
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be put away: {os_words(error)}") from None


def past(folder: Path) -> list[EventStanding]:
    """What was put away, oldest first."""
    return _all(sorted((place(folder, FOLDER) / PAST).glob("*.json"))[-_MOST_FILES:])


def forget(folder: Path, event: str, mark: str) -> None:
    """Drops what is remembered. Raises UnusableInput."""
    path = _file(folder, event, mark).path
    try:
        path.unlink(missing_ok=True)
        place(folder, lock_name(event, mark)).unlink(missing_ok=True)
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be removed: {os_words(error)}") from None
