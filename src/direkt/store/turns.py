"""Which turns of the schedule were begun and ended: so that none is taken twice, whoever runs the schedule, and however often."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt.documents import Strict
from direkt.errors import UnusableInput, os_words
from direkt.store.small_file import SmallFile, only_one, place

FILE_NAME = "schedule.json"
_LOCK = "schedule.lock"


class Taken(Strict):
    """One entry's latest turn."""

    mark: str = ""  # of the turn that was begun last
    ended: bool = False
    until: float | None = None  # s since 1970 at which it is to end; None: never
    feeds: list[str] = []  # whose pushes were begun


class _File(Strict):
    schema_: Literal["direkt.taken/1"] = Field(default="direkt.taken/1", alias="schema")
    entries: dict[str, Taken] = {}


def _file(folder: Path) -> SmallFile[_File]:
    return SmallFile(place(folder, FILE_NAME), _File, "look at what is on (direkt watch)")


def read(folder: Path) -> dict[str, Taken]:
    """By entry. Raises UnusableInput for a damaged file: what it does not tell could be done twice."""
    found = _file(folder).read()
    return found.entries if found is not None else {}


def change(folder: Path, entry: str, how: Callable[[Taken], Taken]) -> None:
    """Notes something of an entry. Raises UnusableInput."""

    def changed(old: _File | None) -> _File:
        entries = old.entries if old is not None else {}
        return _File(entries={**entries, entry: how(entries.get(entry, Taken()))})

    file = _file(folder)
    try:
        file.change(changed)
    except OSError as error:
        raise UnusableInput(f"{file.path}: cannot be written: {os_words(error)}") from None


def set_aside(folder: Path, stamp: str) -> Path:
    """Moves a damaged file away, so that the schedule can go on; where it lies now. Raises UnusableInput."""
    path = _file(folder).path
    aside = path.with_name(f"{FILE_NAME}.damaged-{stamp}")
    try:
        path.rename(aside)
    except OSError as error:
        raise UnusableInput(f"{path}: damaged, and cannot be moved away: {os_words(error)}") from None
    return aside


@contextlib.contextmanager
def alone(folder: Path) -> Iterator[None]:
    """Nobody else runs this rig's schedule on this machine meanwhile. Raises UnusableInput."""
    with only_one(folder, _LOCK) as mine:
        if not mine:
            raise UnusableInput("the schedule of this rig runs already on this machine: end that first")
        yield
