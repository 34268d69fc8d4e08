"""What this machine carries now: a file for each feed beside the rig, held by the process that carries it as long as it lives.

A lock that the system drops with the process says whether anybody carries; the file says who, from where to where, and how it
stands. It holds no key.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError

from direkt import files
from direkt.documents import Strict

FOLDER = "carried"
_MOST = 1 << 16  # bytes of a file


class Running(Strict):
    """One carried feed."""

    schema_: Literal["direkt.carried/1"] = Field(alias="schema", default="direkt.carried/1")
    feed: str
    device: str
    source: str
    server: str
    key_length: int
    process: int
    since: str = Field(pattern=r"^\d{8}-\d{6}$")
    coming: str  # how the camera's side stands
    push: str  # and the platform's
    pushing: bool
    sent: int  # bytes
    pushes: int
    left_out: int
    silence_added: bool = False  # the sound is silence of our own
    measured: dict[
        str, float | str
    ] = {}  # what is sent, by our parameters' names; the bitrate is that of the last seconds


class AlreadyCarried(Exception):
    """Somebody on this machine carries the feed."""


@dataclass(slots=True)
class Held:
    """The feed is ours to carry."""

    path: Path

    def tell(self, running: Running) -> None:
        """How it stands. Raises OSError."""
        files.replace(self.path, running.model_dump_json(indent=2, by_alias=True) + "\n", 0o600)


def _paths(folder: Path, feed: str) -> tuple[Path, Path]:
    name = "".join(c if c.isalnum() or c in "-_" else "_" for c in feed)[:80]
    return folder / FOLDER / f"{name}.json", folder / FOLDER / f"{name}.lock"


@contextlib.contextmanager
def held(folder: Path, feed: str) -> Iterator[Held]:
    """Nobody else on this machine carries the feed meanwhile. Raises AlreadyCarried, and OSError."""
    path, lock = _paths(folder, feed)
    path.parent.mkdir(exist_ok=True)
    descriptor = os.open(lock, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise AlreadyCarried from None
        try:
            yield Held(path)
        finally:
            with contextlib.suppress(OSError):
                path.unlink()
    finally:
        os.close(descriptor)


def find(folder: Path, feed: str) -> Running | None:
    """Who carries a feed now; None: nobody does."""
    path, lock = _paths(folder, feed)
    try:
        descriptor = os.open(lock, os.O_RDWR)
    except OSError:
        return None
    try:
        with contextlib.suppress(BlockingIOError):
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return None  # nobody holds it
        with files.opened(path) as file:
            return Running.model_validate_json(file.read(_MOST))
    except (OSError, ValidationError):
        return None
    finally:
        os.close(descriptor)
