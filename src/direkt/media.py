"""The waist: what every source of media turns into, and all that measuring ever sees.

A source tells of each track once how it is coded (Format), then hands out its samples in columns, a batch of one
track at a time (Samples). Times are whole ticks of an exact length, never floats that round. What the offsets of a
batch point into belongs to the source: the mapped file, or what came from the socket in the last moments.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from fractions import Fraction
from typing import Any, Literal

import numpy as np

Track = Literal["video", "audio"]
Buffer = bytes | bytearray | memoryview
Scalar = int | float | str
# numpy.typing takes longer to import than these take to write
Column = np.ndarray[Any, np.dtype[np.int64]]
Marks = np.ndarray[Any, np.dtype[np.bool_]]
Bytes = np.ndarray[Any, np.dtype[np.uint8]]
Words = np.ndarray[Any, np.dtype[np.uint64]]
Codes = np.ndarray[Any, np.dtype[np.int8]]
Times = np.ndarray[Any, np.dtype[np.float64]]


class Framing(StrEnum):
    """How the units inside a sample are told apart."""

    LENGTHS = "lengths"  # each behind its length; the codec's configuration says how many bytes that takes
    START_CODES = "start codes"  # each behind 00 00 01
    RAW = "raw"  # a sample is what the codec calls a frame, and nothing else


@dataclass(frozen=True, slots=True)
class Format:
    """How the samples of a track are coded from here on."""

    track: Track
    codec: str  # a name of the table in codec/registry.py
    tick: Fraction  # s; the unit of the track's times, and how finely they can tell
    framing: Framing = Framing.RAW
    configuration: bytes = b""  # the codec's own record of how to decode; empty: there is none
    sample_rate: int = 0  # Hz, where the source alone tells
    channels: int = 0  # where the source alone tells
    starts: int | None = None  # presentation time, ticks, in front of which nothing is shown; None: all is


@dataclass(frozen=True, slots=True)
class Samples:
    """A batch of one track's samples in decoding order. All columns are of one length.

    ``data`` may be reused once the next event is asked for: who keeps bytes copies them.
    """

    track: Track
    data: Buffer
    offset: Column  # byte of ``data`` at which each sample begins
    size: Column  # bytes
    dts: Column  # decoding time, ticks
    pts: Column  # presentation time, ticks
    marked: Marks  # what the source calls a keyframe
    arrival: Times | None = None  # s of a steady clock; None: not live

    def __len__(self) -> int:
        return len(self.offset)

    def __getitem__(self, part: slice) -> Samples:
        """A part of the batch; no bytes are copied."""
        arrival = None if self.arrival is None else self.arrival[part]
        return Samples(
            self.track, self.data, self.offset[part], self.size[part], self.dts[part], self.pts[part], self.marked[part],
            arrival,
        )  # fmt: skip

    def sample(self, n: int) -> memoryview:
        """The bytes of sample ``n``."""
        at = int(self.offset[n])
        return memoryview(self.data)[at : at + int(self.size[n])]

    @property
    def view(self) -> Bytes:
        """``data`` as a column of bytes."""
        return np.frombuffer(self.data, np.uint8)


@dataclass(frozen=True, slots=True)
class Claims:
    """What a source says of its own content, by parameter name."""

    source: str  # as people call it: "onMetaData", "the MP4 header"
    values: Mapping[str, Scalar] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Break:
    """The place where a recording stops making sense. Nothing comes behind it."""

    offset: int  # byte of the file
    reason: str


@dataclass(frozen=True, slots=True)
class Odd:
    """Something that breaks a rule and could be passed over."""

    text: str


@dataclass(frozen=True, slots=True)
class Delivery:
    """How the packets of a track came over the network, from the beginning to now; only of sources that number them."""

    track: Track
    packets: int  # that came, each counted once
    lost: int  # that never came
    late: int = 0  # that came too late to be used
    doubled: int = 0
    reordered: int = 0  # that arrived after one that was sent later
    jitter: float = 0.0  # s: how unevenly they came
    drift: float | None = None  # ppm by which the track's clock is faster than the picture's, by the sender's own word


@dataclass(frozen=True, slots=True)
class UnreadTrack:
    """A track that is there and cannot be read."""

    track: Track
    codec: str  # as for Format
    reason: str  # why, in a few words


@dataclass(frozen=True, slots=True)
class Damaged:
    """Samples of a track that were lost or damaged on their way, and stand in front of what comes next."""

    track: Track
    samples: int


MediaEvent = Format | Samples | Claims | Break | Odd | Delivery | UnreadTrack | Damaged


def column(values: Any) -> Column:
    """``values`` as a column of whole numbers."""
    return np.asarray(values, np.int64)


def words(data: Buffer, at: Column) -> Words:
    """The eight bytes from each place of ``data`` on as one number; what would lie behind its end counts as zeros."""
    size = len(data)
    inside = at <= size - 8
    if inside.all() and size >= 8:
        # every place at which a number may begin, as one column over the same bytes
        return np.ndarray((size - 7,), ">u8", data, 0, (1,))[at].astype(np.uint64)
    tail = bytes(memoryview(data)[max(0, size - 16) :])
    tail += bytes(8 + 16 - len(tail))
    out = np.zeros(len(at), np.uint64)
    if size >= 8:
        out[inside] = np.ndarray((size - 7,), ">u8", data, 0, (1,))[at[inside]]
    for n in np.flatnonzero(~inside & (at < size)).tolist():
        place = int(at[n]) - max(0, size - 16)
        out[n] = int.from_bytes(tail[place : place + 8], "big")
    return out


def joined(batches: Sequence[Samples]) -> Samples:
    """Batches of one track as one: what works on columns costs the same for one sample as for a hundred."""
    if len(batches) == 1:
        return batches[0]
    pieces, offsets, at = [], [], 0
    for one in batches:
        first = int(one.offset.min()) if len(one) else 0
        piece = memoryview(one.data)[first : int((one.offset + one.size).max()) if len(one) else 0]
        pieces.append(piece)
        offsets.append(one.offset + (at - first))
        at += len(piece)
    arrivals = [one.arrival for one in batches if one.arrival is not None]
    arrival = np.concatenate(arrivals) if len(arrivals) == len(batches) else None
    size, dts, pts, marked = (np.concatenate([getattr(b, name) for b in batches]) for name in ("size", "dts", "pts", "marked"))
    return Samples(batches[0].track, b"".join(pieces), np.concatenate(offsets), size, dts, pts, marked, arrival)


def batch(
    track: Track, parts: list[bytes], dts: list[int], pts: list[int], marked: list[bool], arrival: list[float] | None = None
) -> Samples:  # fmt: skip
    """Samples whose bytes lie in pieces, joined."""
    size = column([len(part) for part in parts])
    offset = np.cumsum(size) - size
    times = None if arrival is None else np.asarray(arrival, np.float64)
    return Samples(track, b"".join(parts), offset, size, column(dts), column(pts), np.asarray(marked, np.bool_), times)
