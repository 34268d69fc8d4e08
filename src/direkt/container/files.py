"""Opens a recording, finds out what it is by its first bytes, and hands out its media events.

The file is mapped, not read; pages that lie behind are given back every 16 MiB, so memory stays small however
long the recording is.
"""

from __future__ import annotations

import mmap
from collections.abc import Iterator
from pathlib import Path

from direkt.container import flv
from direkt.container.media import MediaError, MediaEvent


def kind_of(start: bytes) -> str | None:
    """ "flv", "mp4" or None, by the first 12 bytes of a file."""
    if start[:3] == b"FLV":
        return "flv"
    if start[4:8] in (b"ftyp", b"moov", b"mdat", b"free", b"skip", b"wide", b"styp"):
        return "mp4"
    return None


def read(path: Path) -> Iterator[MediaEvent]:
    """The media events of the recording at ``path``.

    Raises MediaError for what is no recording that can be read, OSError for what cannot be opened.
    """
    with path.open("rb") as file:
        start = file.read(12)
        if not start:
            raise MediaError("the file is empty")
        kind = kind_of(start)
        if kind is None:
            raise MediaError(_unknown(start))
        mapped = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
    given_back = 0

    def passed(offset: int) -> None:
        nonlocal given_back
        start, end = given_back, offset // mmap.PAGESIZE * mmap.PAGESIZE
        if end > start and hasattr(mmap, "MADV_DONTNEED"):
            mapped.madvise(mmap.MADV_DONTNEED, start, end - start)
            given_back = end

    # the mapping goes when the last sample that a caller holds goes
    if kind == "flv":
        yield from flv.read(memoryview(mapped), passed)
    else:
        from direkt.container import mp4

        yield from mp4.read(memoryview(mapped), passed)


def _unknown(start: bytes) -> str:
    if len(start) >= 1 and start[0] == 0x47:
        return "it looks like MPEG-TS, which cannot be read so far; FLV and MP4 can"
    if start[:4] in (b"\0\0\0\1", b"\0\0\1\x67", b"\0\0\1\x09"):
        return "it looks like a bare H.264 stream, which cannot be read so far; FLV and MP4 can"
    return f"not a recording that can be read: it begins with {start[:4].hex(' ')}; FLV and MP4 can be read"
