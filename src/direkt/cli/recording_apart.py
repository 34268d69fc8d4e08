"""Entries that a process of its own writes into the log: ``python -m`` this, the entries on standard input, what went wrong on standard output."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from direkt.store.entry import LogEntry, LogError, Writer

if TYPE_CHECKING:
    from direkt.store.log import Log

_LIMIT = 20.0  # s, its start included


@dataclass(frozen=True, slots=True)
class _Order:
    """What is to be written."""

    folder: Path
    writer: Writer
    entries: list[LogEntry]


def at(folder: Path, writer: Writer) -> Log:
    """The log of a rig's folder. Raises UnusableInput."""
    from direkt.store import log

    return log.Log(log.url_of(os.environ.get("DIREKT_DATABASE"), folder), writer)


def add(folder: Path, writer: Writer, entries: Sequence[LogEntry]) -> None:
    """Writes entries down, all or none. Raises LogError."""
    from pydantic import TypeAdapter

    order = TypeAdapter(_Order).dump_json(_Order(folder.absolute(), writer, list(entries)))
    # -P: no module is taken from the folder that this runs in; a session of its own: Ctrl-C does not cut it short
    command = [sys.executable, "-P", "-m", "direkt.cli.recording_apart"]
    try:
        done = subprocess.run(
            command, input=order, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, timeout=_LIMIT, start_new_session=True, check=False
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        raise LogError(f"the log does not answer within {_LIMIT:g} s") from None
    except OSError as error:
        raise LogError(f"the log cannot be written: {os.strerror(error.errno or 0)}") from None
    if done.returncode:
        raise LogError(done.stdout.decode(errors="replace").strip() or "the log cannot be written")


def main() -> int:
    """The process."""
    from pydantic import TypeAdapter

    from direkt.errors import DirektError

    order = TypeAdapter(_Order).validate_json(sys.stdin.buffer.read())
    try:
        with at(order.folder, order.writer) as log:
            log.add(order.entries)
    except DirektError as error:
        sys.stdout.write(f"{error}\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
