"""The log of changes: one line of JSON for each write, restoring and putting back."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt import files, parameters
from direkt.documents import Strict
from direkt.parameters import ParameterError, Value, Values
from direkt.store.small_file import open_folder, place

FILE_NAME = "changes.jsonl"
_MOST = 8 << 20  # bytes that are read, the newest ones
_LONGEST = 1 << 16  # bytes of a line

Outcome = Literal["as wanted", "not all stuck", "put back", "not finished"]


class Change(Strict):
    """One write."""

    schema_: Literal["direkt.change/1"] = Field(default="direkt.change/1", alias="schema")
    when: str = Field(pattern=r"^\d{8}-\d{6}$")
    what: Literal["write", "restore"]
    feed: str
    device: str
    model: str
    firmware: str
    channel: str
    changes: dict[str, tuple[Value | None, Value]]  # parameter: old and new
    server: tuple[str, str] | None = None  # of the push slot, old and new; None: it was left alone
    outcome: Outcome
    did_not_stick: dict[str, tuple[Value, Value | None]] = {}  # parameter: wanted, and what it became
    set: Values = {}  # as read back; empty where that was not possible
    slot: tuple[int, str, str, int] | None = None  # number, channel, server and length of the key, as read back


def add(folder: Path, change: Change) -> None:
    """Puts a line at the end. Raises OSError."""
    path = place(folder, FILE_NAME)
    line = change.model_dump_json(by_alias=True) + "\n"
    open_folder(path.parent)
    with files.alone(path.parent):
        descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_APPEND, 0o600)
        with os.fdopen(descriptor, "r+b") as file:
            if file.seek(0, os.SEEK_END) and (file.seek(-1, os.SEEK_END), file.read(1))[1] != b"\n":
                file.write(b"\n")  # the line before was cut short: it takes no other with it
            file.write(line.encode())
            file.flush()
            os.fsync(file.fileno())


def read(folder: Path) -> list[Change]:
    """All changes, oldest first; lines that were cut short are passed over: see unread(). Raises OSError for a file that cannot be read."""
    return [one for line in _lines(folder) if (one := _change(line)) is not None]


def unread(folder: Path) -> int:
    """How many lines cannot be read, so that what they say of writes is not known. Raises OSError."""
    return sum(_change(line) is None for line in _lines(folder))


def _lines(folder: Path) -> list[bytes]:
    try:
        with files.opened(place(folder, FILE_NAME)) as file:
            size = file.seek(0, os.SEEK_END)
            file.seek(max(0, size - _MOST))
            lines = file.read(_MOST).split(b"\n")
    except FileNotFoundError:
        return []
    return [line for line in (lines[1:] if size > _MOST and len(lines) > 1 else lines) if line.strip()]


def _change(line: bytes) -> Change | None:
    if len(line) > _LONGEST:
        return None
    try:
        return _sound(Change.model_validate_json(line))
    except (ParameterError, ValueError):  # pydantic's is one
        return None


def _sound(change: Change) -> Change:
    """A change whose values are values of their parameters. Raises ParameterError."""
    for name, value in change.set.items():
        parameters.clean(name, value)
    return change


def last(folder: Path, device: str, channel: str) -> Change | None:
    """The last write of a channel that was read back; None where there is none."""
    found = [c for c in read(folder) if (c.device, c.channel) == (device, channel) and c.set]
    return found[-1] if found else None
