"""Containers: what a recording is, by its content, and its media events.

To add a container is to write one file in this folder with ``score`` and ``read``, and to name it in CONTAINERS.
"""

from __future__ import annotations

import importlib
import mmap
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import Protocol, cast

from direkt.errors import Malformed
from direkt.media import MediaEvent

CONTAINERS = {"flv": "FLV", "mp4": "MP4", "ts": "MPEG-TS"}  # files in this folder, and what people call them
_START = 2048  # bytes that score() is shown
_GIVEN_BACK = 16 << 20  # bytes after which pages that lie behind are given back


class ContainerError(Malformed):
    """A file that is not what it says it is; the text says where."""


class Source:
    """A file's bytes, mapped or in memory, and a place up to which they are no longer needed."""

    def __init__(self, data: mmap.mmap | bytes) -> None:
        self.data = memoryview(data)
        self._mapped = data if isinstance(data, mmap.mmap) else None
        self._given_back = 0

    def done(self, offset: int) -> None:
        """Nothing in front of ``offset`` will be read again: its pages go, so that memory stays small."""
        start, end = self._given_back, offset // mmap.PAGESIZE * mmap.PAGESIZE
        if self._mapped is not None and end - start >= _GIVEN_BACK and hasattr(mmap, "MADV_DONTNEED"):
            self._mapped.madvise(mmap.MADV_DONTNEED, start, end - start)
            self._given_back = end


class Container(Protocol):
    """What each file in this folder offers."""

    def score(self, start: bytes) -> int:
        """How sure it is, from 0 (not this) to 100, that a file that begins so is one of its own."""

    def read(self, source: Source) -> Iterator[MediaEvent]:
        """The media events of a file.

        Raises ContainerError when nothing can be made of it; a file that breaks further on ends with a Break.
        """


class Programmes(Protocol):
    """A container that may hold several programmes."""

    def read(self, source: Source, programme: int | None = None) -> Iterator[MediaEvent]:
        """As Container.read."""


def containers() -> list[Container]:
    """All that can be read."""
    return [cast(Container, importlib.import_module(f"direkt.container.{name}")) for name in CONTAINERS]


def read(path: Path, programme: int | None = None) -> Iterator[MediaEvent]:
    """The media events of the recording at ``path``, whatever it is; ``programme``: of this one, where there are several.

    Raises ContainerError for what is no recording that can be read, OSError for what cannot be opened.
    """
    if not stat.S_ISREG(mode := path.stat().st_mode) and not stat.S_ISDIR(mode):  # opening a pipe would wait for ever
        raise ContainerError("a pipe or device, not a file: save the recording first")
    with path.open("rb") as file:
        start = file.read(_START)
        if not start:
            raise ContainerError("the file is empty")
        best = max(containers(), key=lambda container: container.score(start))
        if not best.score(start):
            raise ContainerError(_unknown(start))
        try:
            mapped = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
        except ValueError:
            raise ContainerError("the file was cut to nothing while it was opened") from None
    # the mapping goes when the last batch that a caller holds goes
    source = Source(mapped)
    if programme is None:
        yield from best.read(source)
    elif getattr(best, "PROGRAMMES", False):
        yield from cast(Programmes, best).read(source, programme)
    else:
        raise ContainerError("only a transport stream holds several programmes")


def _unknown(start: bytes) -> str:
    *others, last = CONTAINERS.values()
    readable = f"{', '.join(others)} and {last} can be read"
    if start[:4] == b"\0\0\0\1" or start[:3] == b"\0\0\1":
        return f"it looks like a bare video stream without a container, which cannot be read so far; {readable}"
    return f"not a recording that can be read: it begins with {start[:4].hex(' ')}; {readable}"
