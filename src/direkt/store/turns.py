"""Which turns of the schedule were begun and ended: so that none is taken twice, whoever runs the schedule, and however often."""

from __future__ import annotations

import contextlib
import fcntl
import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError

from direkt import files
from direkt.documents import Strict
from direkt.errors import UnusableInput, os_words

FILE_NAME = "schedule.json"
_LOCK = "schedule.lock"
_MOST = 1 << 20  # bytes


class Damaged(UnusableInput):
    """What is remembered cannot be read."""


class Taken(Strict):
    """One entry's latest turn."""

    mark: str = ""  # of the turn that was begun last
    ended: bool = False
    until: float | None = None  # s since 1970 at which it is to end; None: never
    feeds: list[str] = []  # whose pushes were begun


class _File(Strict):
    schema_: Literal["direkt.taken/1"] = Field(default="direkt.taken/1", alias="schema")
    entries: dict[str, Taken] = {}


def read(folder: Path) -> dict[str, Taken]:
    """By entry. Raises UnusableInput for a damaged file: what it does not tell could be done twice."""
    path = folder / FILE_NAME
    try:
        with files.opened(path) as file:
            return _File.model_validate_json(file.read(_MOST)).entries
    except FileNotFoundError:
        return {}
    except (ValidationError, ValueError):
        raise Damaged(f"{path}: damaged; look at what is on (direkt watch), then move this file away") from None
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be read: {os_words(error)}") from None


def change(folder: Path, entry: str, how: Callable[[Taken], Taken]) -> None:
    """Notes something of an entry. Raises UnusableInput."""
    try:
        with files.alone(folder):
            old = read(folder)
            new = {**old, entry: how(old.get(entry, Taken()))}
            files.replace(folder / FILE_NAME, _File(entries=new).model_dump_json(by_alias=True, indent=1) + "\n", 0o600)
    except OSError as error:
        raise UnusableInput(f"{folder / FILE_NAME}: cannot be written: {os_words(error)}") from None


def set_aside(folder: Path, stamp: str) -> Path:
    """Moves a damaged file away, so that the schedule can go on; where it lies now. Raises UnusableInput."""
    path = folder / FILE_NAME
    aside = path.with_name(f"{FILE_NAME}.damaged-{stamp}")
    try:
        path.rename(aside)
    except OSError as error:
        raise UnusableInput(f"{path}: damaged, and cannot be moved away: {os_words(error)}") from None
    return aside


@contextlib.contextmanager
def alone(folder: Path) -> Iterator[None]:
    """Nobody else runs this rig's schedule on this machine meanwhile. Raises UnusableInput."""
    try:
        descriptor = os.open(folder / _LOCK, os.O_RDWR | os.O_CREAT, 0o600)
    except OSError as error:
        raise UnusableInput(f"{folder / _LOCK}: cannot be used: {os_words(error)}") from None
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise UnusableInput("the schedule of this rig runs already on this machine: end that first") from None
        yield
    finally:
        os.close(descriptor)
