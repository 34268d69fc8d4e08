"""FLV (the published file format, version 10.1, annex E), read.

A tag's body is also the body of an RTMP audio, video or data message, so files and live streams take the same way:
tags in columns go into Tags.events, media events come out. Strategy: of a file, Python steps from tag to tag with one
unpack each; headers are gathered for thousands of tags at once. Tags that begin alike are laid out alike, so what a
beginning means is worked out once for each that occurs, and looked up for all others. O(tags), whatever their size.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from enum import IntEnum
from fractions import Fraction

import numpy as np

from direkt.codec import registry
from direkt.codec.registry import Codec
from direkt.container import ContainerError, Source
from direkt.media import (
    Break,
    Buffer,
    Claims,
    Codes,
    Column,
    Format,
    Framing,
    Marks,
    MediaEvent,
    Odd,
    Samples,
    Scalar,
    Times,
    Track,
    words,
)
from direkt.protocol import amf

AUDIO, VIDEO, SCRIPT = 8, 9, 18  # FLV 10.1, E.4.1
HEADER_SIZE, TAG_HEADER_SIZE = 9, 11
TICK = Fraction(1, 1000)  # s

# numbers in onMetaData (FLV 10.1, E.5), and the parameters that they are claims of
FACTS = (
    ("width", "video.width"), ("height", "video.height"), ("framerate", "video.frame_rate"),
    ("videodatarate", "video.bitrate.mean"), ("audiodatarate", "audio.bitrate.mean"),
    ("audiosamplerate", "audio.sample_rate"),
)  # fmt: skip

_AT_ONCE = 8192  # tags that are worked on together
_SPAN = 40 << 20  # bytes that they may span: what is touched of a mapped file counts as memory
_AAC, _EXTENDED_AUDIO = 10, 9  # SoundFormat (FLV 10.1, E.4.2.1); 9 marks a header with a four-character code
_COMMAND_FRAME = 5  # FrameType (FLV 10.1, E.4.3.1): information, not a picture
_SIZE = struct.Struct(">I").unpack_from


def score(start: bytes) -> int:
    """By the three letters at the start."""
    return 100 if start[:3] == b"FLV" else 0


# What a tag's beginning means


class _What(IntEnum):
    IGNORED = 0
    SAMPLE = 1
    CONFIG = 2
    SCRIPT = 3


@dataclass(frozen=True, slots=True)
class _Layout:
    """How a tag with a certain beginning is laid out."""

    what: _What
    head: int = 0  # bytes in front of the sample or configuration
    codec: Codec | None = None
    marked: bool = False
    timed: bool = False  # the last three bytes of the head are a composition time
    sample_rate: int = 0  # Hz
    channels: int = 0


_IGNORED = _Layout(_What.IGNORED)


def _lay_out(kind: int, first: int, more: bytes) -> _Layout:
    """The layout of a tag of this type whose body begins with ``first`` and, where they matter, the bytes ``more``."""
    if kind == SCRIPT:
        return _Layout(_What.SCRIPT)
    return _video(first, more) if kind == VIDEO else _audio(first, more)


def _video(first: int, more: bytes) -> _Layout:
    marked = first >> 4 & 7 == 1
    if first & 0x80:  # a packet type and a four-character code instead of CodecID
        codec = registry.FOUR_CC.get(more, registry.VIDEO["other"])
        kind = first & 15
        if kind == 0:
            return _Layout(_What.CONFIG, 5, codec)
        if kind == 1 and codec.in_units:
            return _Layout(_What.SAMPLE, 8, codec, marked, timed=True)
        return _Layout(_What.SAMPLE, 5, codec, marked) if kind in (1, 3) else _IGNORED
    codec = registry.FLV["video"].get(first & 15, registry.VIDEO["other"])
    if not codec.in_units:
        return _Layout(_What.SAMPLE, 1, codec, marked)
    if first >> 4 == _COMMAND_FRAME:
        return _IGNORED
    if more[0] == 0:
        return _Layout(_What.CONFIG, 5, codec)
    return _Layout(_What.SAMPLE, 5, codec, marked, timed=True) if more[0] == 1 else _IGNORED


def _audio(first: int, more: bytes) -> _Layout:
    code = first >> 4
    if code == _EXTENDED_AUDIO:
        codec = registry.FOUR_CC.get(more, registry.AUDIO["other"])
        kind = first & 15
        if kind == 0:
            return _Layout(_What.CONFIG, 5, codec)
        return _Layout(_What.SAMPLE, 5, codec, marked=True) if kind == 1 else _IGNORED
    codec = registry.FLV["audio"].get(code, registry.AUDIO["other"])
    if code == _AAC:
        what = _What.SAMPLE if more[0] == 1 else _What.CONFIG if more[0] == 0 else _What.IGNORED
        return _Layout(what, 2, codec, marked=True)
    rate = codec.rate or (8000 if code == 14 else (5512, 11025, 22050, 44100)[first >> 2 & 3])
    channels = 1 if codec.rate else 1 + (first & 1)
    return _Layout(_What.SAMPLE, 1, codec, marked=True, sample_rate=rate, channels=channels)


def _telling() -> Column:
    """By tag type (0 audio, 1 video) and first byte: which of the next four bytes tell the layout, as a mask."""
    mask = np.zeros((2, 256), np.int64)
    for first in range(256):
        if first >> 4 == _AAC:
            mask[0, first] = 0xFF000000
        elif first >> 4 == _EXTENDED_AUDIO:
            mask[0, first] = 0xFFFFFFFF
        codec = registry.FLV["video"].get(first & 15)
        if first & 0x80:
            mask[1, first] = 0xFFFFFFFF
        elif codec is not None and codec.in_units:
            mask[1, first] = 0xFF000000
    return mask


_TELLING = _telling()


# Tags to media events


class Tags:
    """Turns tags into media events. Remembers how tracks are coded and what time it was: one for each stream."""

    def __init__(self) -> None:
        self._codecs: dict[Track, Codec | None] = {"video": None, "audio": None}
        self._layouts: dict[int, _Layout] = {}
        self._stamp: int | None = None  # of the last sample, 32 bits
        self._time = 0  # the same, on one clock that does not wrap

    def events(
        self, data: Buffer, kind: Column, stamp: Column, offset: Column, size: Column,
        arrival: Times | None = None,
    ) -> Iterator[MediaEvent]:  # fmt: skip
        """The events of tags in columns: type, time stamp (32 bits), and where the body lies in ``data``.

        Bodies too short for their own header are told as Odd and passed over.
        """
        if not len(kind):
            return
        number, layouts = self._recognise(data, kind, offset, size)
        what = np.array([layout.what for layout in layouts], np.int8)[number]
        head = np.array([layout.head for layout in layouts], np.int64)[number]
        short = (what != _What.IGNORED) & (size < np.maximum(head, 1))
        what[short] = _What.IGNORED
        what[(what == _What.SAMPLE) & (size == head)] = _What.IGNORED
        time = self._one_clock(stamp, what == _What.SAMPLE)
        columns = _Columns(data, kind, time, offset, size, head, what, number, layouts, arrival)
        begin = 0
        for n in sorted(
            {*np.flatnonzero((what > _What.SAMPLE) | (short & (size > 0))).tolist(), *self._changes(columns)}
        ):
            yield from self._samples(columns, begin, n)
            begin = n
            yield from self._odd(columns, n)
        yield from self._samples(columns, begin, len(kind))

    def _recognise(self, data: Buffer, kind: Column, offset: Column, size: Column) -> tuple[Column, list[_Layout]]:
        """For each tag the number of its layout, and the layouts."""
        start = (words(data, offset) >> np.uint64(24)).astype(np.int64)  # five bytes
        if (short := size < 5).any():
            start[short] &= (-1 << 8 * (5 - size[short])) & 0xFFFFFFFFFF
        first, more = start >> 32, start & 0xFFFFFFFF
        known = (kind == AUDIO) | (kind == VIDEO)
        more &= np.where(known, _TELLING[(kind == VIDEO).astype(np.int64), first], 0)
        keys = kind << 40 | np.where(known, first, 0) << 32 | more
        found, number = np.unique(keys, return_inverse=True)
        layouts = []
        for key in found.tolist():
            layout = self._layouts.get(key)
            if layout is None:
                if len(self._layouts) > 4096:
                    self._layouts.clear()
                layout = _lay_out(key >> 40, key >> 32 & 0xFF, (key & 0xFFFFFFFF).to_bytes(4, "big"))
                self._layouts[key] = layout
            layouts.append(layout)
        return number.astype(np.int64), layouts

    def _one_clock(self, stamp: Column, samples: Marks) -> Column:
        """Time stamps of 32 bits as one clock: each lies less than 2^31 ms from the one before (RTMP 1.0, 5.1)."""
        time = np.zeros(len(stamp), np.int64)
        stamps = stamp[samples] & 0xFFFFFFFF
        if not len(stamps):
            return time
        if self._stamp is None:
            self._stamp = int(stamps[0])
            self._time = self._stamp - (1 << 32 if self._stamp >> 31 else 0)  # FLV's are signed (FLV 10.1, E.4.1)
        steps = np.diff(stamps, prepend=self._stamp)
        steps = (steps + (1 << 31) & 0xFFFFFFFF) - (1 << 31)
        time[samples] = self._time + np.cumsum(steps)
        self._stamp, self._time = int(stamps[-1]), int(time[samples][-1])
        return time

    def _changes(self, c: _Columns) -> list[int]:
        """Samples of another codec than what came before on their track."""
        changes: list[int] = []
        tracks: tuple[tuple[Track, int], ...] = (("video", VIDEO), ("audio", AUDIO))
        for track, kind in tracks:
            where = np.flatnonzero((c.kind == kind) & (c.what >= _What.SAMPLE) & (c.what <= _What.CONFIG))
            if not len(where):
                continue
            layouts = c.number[where]
            borders = [0, *(np.flatnonzero(np.diff(layouts)) + 1).tolist()]
            codec = self._codecs[track]
            for n in borders:
                layout = c.layouts[int(layouts[n])]
                if layout.codec is not codec and c.what[where[n]] == _What.SAMPLE:
                    changes.append(int(where[n]))
                codec = layout.codec
        return changes

    def _odd(self, c: _Columns, n: int) -> Iterator[MediaEvent]:
        """What a tag says that stands between stretches of samples."""
        layout = c.layouts[int(c.number[n])]
        at, size = int(c.offset[n]), int(c.size[n])
        track: Track = "video" if c.kind[n] == VIDEO else "audio"
        if c.what[n] == _What.IGNORED:
            yield Odd(f"{_a(track)} tag of {size} bytes, where its header alone has {layout.head}")
        elif c.what[n] == _What.SCRIPT:
            claims = _script(memoryview(c.data)[at : at + size])
            if claims is not None:
                yield claims
        else:
            assert layout.codec is not None
            self._codecs[track] = layout.codec
            record = b""
            if c.what[n] == _What.CONFIG:
                record = bytes(memoryview(c.data)[at + layout.head : at + size])
            framing = Framing.LENGTHS if layout.codec.in_units else Framing.RAW
            yield Format(track, layout.codec.name, TICK, framing, record, layout.sample_rate, layout.channels)

    def _samples(self, c: _Columns, begin: int, end: int) -> Iterator[Samples]:
        """The samples of a stretch, one batch for each track."""
        tracks: tuple[tuple[Track, int], ...] = (("video", VIDEO), ("audio", AUDIO))
        for track, kind in tracks:
            where = begin + np.flatnonzero((c.kind[begin:end] == kind) & (c.what[begin:end] == _What.SAMPLE))
            if not len(where):
                continue
            number, head, dts = c.number[where], c.head[where], c.time[where]
            offset = c.offset[where] + head
            pts = dts
            timed = np.array([layout.timed for layout in c.layouts])[number]
            if timed.any():
                shift = (words(c.data, np.where(timed, offset - 3, 0)) >> np.uint64(40)).astype(np.int64)
                pts = dts + np.where(timed, shift - ((shift & 0x800000) << 1), 0)  # SI24 (FLV 10.1, E.4.3.1)
            marked = np.array([layout.marked for layout in c.layouts])[number]
            arrival = None if c.arrival is None else c.arrival[where]
            yield Samples(track, c.data, offset, c.size[where] - head, dts, pts, marked, arrival)


@dataclass(frozen=True, slots=True)
class _Columns:
    """Tags, with what is known of them."""

    data: Buffer
    kind: Column
    time: Column
    offset: Column
    size: Column
    head: Column
    what: Codes
    number: Column  # of the layout
    layouts: list[_Layout]
    arrival: Times | None


def _a(track: Track) -> str:
    return "a video" if track == "video" else "an audio"


class TagQueue:
    """Collects the tags of a live stream, and turns those that wait into media events."""

    def __init__(self) -> None:
        self._tags = Tags()
        self._bodies: list[bytes] = []
        self._columns: list[tuple[int, int, float]] = []
        self.bytes = 0  # that wait

    def add(self, kind: int, stamp: int, body: bytes, arrival: float) -> None:
        """A tag; ``stamp`` in ms, ``arrival`` in s of a steady clock."""
        self._bodies.append(body)
        self._columns.append((kind, stamp, arrival))
        self.bytes += len(body)

    def take(self) -> list[MediaEvent]:
        """The events of all that waits."""
        if not self._bodies:
            return []
        data = b"".join(self._bodies)
        size = np.array([len(body) for body in self._bodies], np.int64)
        kind, stamp, arrival = (np.array(c) for c in zip(*self._columns, strict=True))
        self._bodies, self._columns, self.bytes = [], [], 0
        return list(
            self._tags.events(
                data or b"\0", kind.astype(np.int64), stamp.astype(np.int64), np.cumsum(size) - size, size, arrival
            )
        )


def _script(body: Buffer) -> Claims | None:
    """onMetaData (FLV 10.1, E.5), also behind RTMP's @setDataFrame, as claims."""
    try:
        values = amf.decode(bytes(body[:65536]))
    except amf.AmfError:
        return None
    names = [value for value in values if isinstance(value, str)]
    facts = next((value for value in values if isinstance(value, dict)), None)
    if "onMetaData" not in names or facts is None:
        return None
    claims: dict[str, Scalar] = {}
    for key, name in FACTS:
        value = facts.get(key)
        if isinstance(value, float) and 0 < value < 1e9:
            claims[name] = int(value) if value == int(value) else value
    tracks: tuple[tuple[Track, str], ...] = (("video", "videocodecid"), ("audio", "audiocodecid"))
    for track, key in tracks:
        value, codec = facts.get(key), None
        if isinstance(value, float) and value == value:
            codec = registry.FLV[track].get(int(max(-1, min(value, 255))))
        elif isinstance(value, str):
            codec = registry.FOUR_CC.get(value.encode())
        if codec is not None:
            claims[f"{track}.codec"] = codec.name
    if isinstance(facts.get("stereo"), bool):
        claims["audio.channels"] = 2 if facts["stereo"] else 1
    return Claims("onMetaData", claims)


# Files


def read(source: Source) -> Iterator[MediaEvent]:
    """The media events of an FLV file.

    Raises ContainerError when it is no FLV at all; a file that breaks further on ends with a Break.
    """
    data = source.data
    if len(data) < HEADER_SIZE or bytes(data[:3]) != b"FLV":
        raise ContainerError("not an FLV file: it does not begin with 'FLV'")
    at = int.from_bytes(data[5:9], "big")
    if not HEADER_SIZE <= at <= 64:
        raise ContainerError(f"the FLV header claims to be {at} bytes long (byte 5); expected 9")
    at += 4
    tags = Tags()
    expected = 0  # what the length behind the tag before should be
    while True:
        places, at, end = _step(data, at)
        broken = None
        if len(places):
            kind, size, stamp, previous = _headers(data, places)
            should = np.concatenate([[expected], TAG_HEADER_SIZE + size[:-1]])
            broken = _first_break(places, kind, previous, should)
            count = len(places) if broken is None else int(np.searchsorted(places, broken[0]))
            part = slice(0, count)
            body = places[part] + TAG_HEADER_SIZE
            yield from tags.events(data, kind[part], stamp[part], body, size[part])
            expected = TAG_HEADER_SIZE + int(size[-1])
        if broken is not None:
            yield broken[1]
            return
        source.done(at)
        if end is not None or not len(places):
            if end is not None:
                yield end
            return


def _step(data: memoryview, at: int) -> tuple[Column, int, Break | None]:
    """Steps over at most _AT_ONCE whole tags from byte ``at``: where each begins, where to go on, and what ends the file."""
    places: list[int] = []
    add, end, unpack = places.append, len(data), _SIZE
    last = end - TAG_HEADER_SIZE
    far = min(last, at + _SPAN)
    room = _AT_ONCE
    stop: Break | None = None
    while at <= far and room:
        following = at + TAG_HEADER_SIZE + (unpack(data, at)[0] & 0xFFFFFF)
        if following > end:
            kind = data[at] & 31
            if kind in (AUDIO, VIDEO, SCRIPT):
                claimed, there = following - at - TAG_HEADER_SIZE, end - at - TAG_HEADER_SIZE
                stop = Break(at, f"the recording ends in the middle of a tag: {claimed} bytes claimed, {there} there")
            else:
                stop = Break(at, f"no FLV tag where one should begin (found type {kind})")
            break
        add(at)
        at = following + 4
        room -= 1
    if stop is None and last < at < end:
        stop = Break(at, f"the recording ends in the middle of a tag header: {end - at} of 11 bytes there")
    elif stop is None and places and end < at < end + 4:
        stop = Break(at - 4, "the recording ends right after its last tag, without the tag's length")
    return np.array(places, np.int64), at, stop


def _headers(data: memoryview, places: Column) -> tuple[Column, Column, Column, Column]:
    """Type, body size, time stamp and the length in front, of the tags at ``places``."""
    front = words(data, places - 4)
    previous, here = (front >> np.uint64(32)).astype(np.int64), (front & np.uint64(0xFFFFFFFF)).astype(np.int64)
    times = (words(data, places + 4) >> np.uint64(32)).astype(np.int64)
    # the time stamp's fourth byte comes last and is the highest (FLV 10.1, E.4.1)
    return here >> 24 & 31, here & 0xFFFFFF, (times & 0xFF) << 24 | times >> 8, previous


def _first_break(places: Column, kind: Column, previous: Column, should: Column) -> tuple[int, Break] | None:
    """The first tag that is none, or that the length in front of it contradicts."""
    # a length without the header, or 0, by writers that err
    right = (previous == should) | (previous == should - TAG_HEADER_SIZE) | (previous == 0)
    good = (kind == AUDIO) | (kind == VIDEO) | (kind == SCRIPT)
    bad = np.flatnonzero(~(right & good))
    if not len(bad):
        return None
    n = int(bad[0])
    at = int(places[n])
    if not good[n]:
        return at, Break(at, f"no FLV tag where one should begin (found type {int(kind[n])})")
    return at, Break(
        at - 4,
        f"the length after a tag is {int(previous[n])}, but the tag says {int(should[n])}: one of them is wrong",
    )
