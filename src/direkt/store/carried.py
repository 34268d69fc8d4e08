"""What this machine carries now: a file for each feed beside the rig, held by the process that carries it as long as it lives.

A lock that the system drops with the process says whether anybody carries; the file says who, from where to where, and how it
stands. It holds no key.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt import files
from direkt.documents import Strict
from direkt.store.small_file import SmallFile, open_folder, place

FOLDER = "carried"


class CarriedFeed(Strict):
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
class HeldFeed:
    """The feed is ours to carry."""

    file: SmallFile[CarriedFeed]

    def tell(self, running: CarriedFeed) -> None:
        """How it stands. Raises OSError."""
        self.file.write(running)


def _file(folder: Path, feed: str) -> SmallFile[CarriedFeed]:
    return SmallFile(place(folder, FOLDER) / f"{files.name_of(feed)}.json", CarriedFeed)


@contextlib.contextmanager
def held(folder: Path, feed: str) -> Iterator[HeldFeed]:
    """Nobody else on this machine carries the feed meanwhile. Raises AlreadyCarried, and OSError."""
    file = _file(folder, feed)
    open_folder(file.path.parent)
    with files.lock(file.path.with_suffix(".lock")) as mine:
        if not mine:
            raise AlreadyCarried
        try:
            yield HeldFeed(file)
        finally:
            with contextlib.suppress(OSError):
                file.remove()


def find(folder: Path, feed: str) -> CarriedFeed | None:
    """Who carries a feed now; None: nobody does."""
    file = _file(folder, feed)
    return file.read() if files.is_locked(file.path.with_suffix(".lock")) else None
