"""MP4 (ISO/IEC 14496-12, -14 and -15), plain: read into samples, and written for recordings of the test signal.

Reading walks the boxes of the index (moov), turns its tables into NumPy columns with every count checked
against its box, and then visits the samples in decoding order: O(samples) time, about 40 bytes of memory for each.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from direkt.container.media import Break, Claims, CodecConfig, MediaError, MediaEvent, Sample, Scalar, Track

_CODECS = {
    b"avc1": "h264", b"avc3": "h264", b"hvc1": "h265", b"hev1": "h265", b"av01": "av1", b"vp09": "vp9", b"vp08": "vp8",
    b"mp4v": "mpeg4", b"mp4a": "aac", b"Opus": "opus", b".mp3": "mp3", b"ac-3": "ac3", b"alaw": "g711a", b"ulaw": "g711u",
    b"sowt": "pcm", b"twos": "pcm", b"lpcm": "pcm", b"ipcm": "pcm",
}  # fmt: skip

Column = np.ndarray[Any, np.dtype[np.int64]]


@dataclass(slots=True)
class Box:
    """A box (14496-12, 4.2): its type and where its payload lies in the file."""

    kind: bytes
    start: int  # byte of its header
    begin: int  # first byte of its payload
    end: int  # one past its last byte


def boxes(data: memoryview, begin: int, end: int) -> Iterator[Box]:
    """The boxes from ``begin`` to ``end``. Raises MediaError for one that is larger than its room."""
    at = begin
    while at + 8 <= end:
        size, kind = struct.unpack_from(">I4s", data, at)
        head = 8
        if size == 1:
            if at + 16 > end:
                raise MediaError(f"box {_name(kind)} at byte {at} is cut in its header")
            size = struct.unpack_from(">Q", data, at + 8)[0]
            head = 16
        elif size == 0:
            size = end - at
        if size < head:
            raise MediaError(f"box {_name(kind)} at byte {at} claims {size} bytes, less than its header")
        if size > end - at:
            yield Box(kind, at, at + head, at + size)
            return
        yield Box(kind, at, at + head, at + size)
        at += size


def _name(kind: bytes) -> str:
    return repr(kind.decode("latin-1"))


@dataclass(slots=True)
class _Index:
    """One track of the index."""

    track: Track
    timescale: int
    shift: float  # s to add to every time (edit list)
    config: CodecConfig
    offsets: Column
    sizes: Column
    dts: Column
    pts: Column
    keys: set[int] | None  # sample numbers from 0; None: all


class _Moov:
    def __init__(self, data: memoryview) -> None:
        self.data = data
        self.movie_scale = 1000
        self.claims: dict[str, Scalar] = {}

    def child(self, box: Box, *path: bytes) -> Box | None:
        """The first box along ``path`` inside ``box``."""
        for kind in path:
            found = next((b for b in self.inside(box) if b.kind == kind), None)
            if found is None:
                return None
            box = found
        return box

    def inside(self, box: Box, skip: int = 0) -> Iterator[Box]:
        for inner in boxes(self.data, box.begin + skip, box.end):
            if inner.end > box.end:
                raise MediaError(
                    f"box {_name(inner.kind)} at byte {inner.start} claims {inner.end - inner.start} bytes "
                    f"where {box.end - inner.start} are left in {_name(box.kind)}"
                )
            yield inner

    def number(self, box: Box, offset: int, size: int) -> int:
        at = box.begin + offset
        if at + size > box.end:
            raise MediaError(f"box {_name(box.kind)} at byte {box.start} is too short: {box.end - box.begin} bytes")
        return int.from_bytes(self.data[at : at + size], "big")

    def table(self, box: Box, columns: int, kind: str = ">u4") -> np.ndarray[Any, np.dtype[Any]]:
        """The entries of a full box that holds a count and then rows of ``columns`` numbers."""
        count = self.number(box, 4, 4)
        width = columns * np.dtype(kind).itemsize
        if count * width > box.end - box.begin - 8:
            raise MediaError(
                f"box {_name(box.kind)} at byte {box.start} claims {count} entries where "
                f"{(box.end - box.begin - 8) // width} fit"
            )
        return np.frombuffer(self.data, kind, count * columns, box.begin + 8).reshape(count, columns)

    def track(self, trak: Box) -> _Index | None:
        handler = self.child(trak, b"mdia", b"hdlr")
        media = self.child(trak, b"mdia", b"mdhd")
        table = self.child(trak, b"mdia", b"minf", b"stbl")
        if handler is None or media is None or table is None:
            return None
        kind = bytes(self.data[handler.begin + 8 : handler.begin + 12])
        if kind not in (b"vide", b"soun"):
            return None
        track: Track = "video" if kind == b"vide" else "audio"
        timescale = self.number(media, 20 if self.number(media, 0, 1) == 1 else 12, 4)
        if not timescale:
            raise MediaError(f"box 'mdhd' at byte {media.start} gives a time scale of 0")
        config = self.description(table, track)
        if config is None:
            return None
        sizes = self.sizes(table)
        times, composed = self.times(table, len(sizes))
        sync = self.child(table, b"stss")
        keys = None if sync is None else set((self.table(sync, 1)[:, 0].astype(np.int64) - 1).tolist())
        offsets = self.offsets(table, sizes)
        shift = self.shift(trak, timescale)
        return _Index(track, timescale, shift, config, offsets, sizes, times, composed, keys)

    def description(self, table: Box, track: Track) -> CodecConfig | None:
        """The sample entry (14496-12, 8.5.2), as a codec configuration."""
        box = self.child(table, b"stsd")
        entry = next(self.inside(box, 8), None) if box else None
        if entry is None:
            return None
        codec = _CODECS.get(entry.kind, "other")
        if track == "video":
            self.claims |= {"video.codec": codec, "video.width": self.number(entry, 24, 2)}
            self.claims["video.height"] = self.number(entry, 26, 2)
            record = next((b for b in self.inside(entry, 78) if b.kind in (b"avcC", b"hvcC", b"av1C")), None)
            return CodecConfig("video", codec, bytes(self.data[record.begin : record.end]) if record else b"")
        channels, rate = self.number(entry, 16, 2), self.number(entry, 24, 2)
        version = self.number(entry, 8, 2)
        skip = {0: 28, 1: 44, 2: 64}.get(version, 28)
        self.claims |= {"audio.codec": codec, "audio.channels": channels}
        if rate:
            self.claims["audio.sample_rate"] = rate
        if entry.kind != b"mp4a":
            return CodecConfig("audio", codec, b"", rate, channels)
        described = next((b for b in self.inside(entry, skip) if b.kind in (b"esds", b"wave")), None)
        if described is not None and described.kind == b"wave":
            described = self.child(described, b"esds")
        if described is None:
            return CodecConfig("audio", "aac", b"", rate, channels)
        object_type, config = _descriptors(bytes(self.data[described.begin + 4 : described.end]))
        codec = "aac" if object_type in (0x40, 0x66, 0x67, 0x68) else "mp3" if object_type in (0x69, 0x6B) else "other"
        self.claims["audio.codec"] = codec
        return CodecConfig("audio", codec, config, rate, channels)

    def sizes(self, table: Box) -> Column:
        box = self.child(table, b"stsz")
        if box is None:
            raise MediaError(f"box 'stbl' at byte {table.start} has no sample sizes ('stsz')")
        fixed, count = self.number(box, 4, 4), self.number(box, 8, 4)
        if fixed:
            if count * fixed > len(self.data):
                raise MediaError(
                    f"box 'stsz' at byte {box.start} claims {count} samples of {fixed} bytes: more than the file"
                )
            return np.full(count, fixed, np.int64)
        if count * 4 > box.end - box.begin - 12:
            raise MediaError(
                f"box 'stsz' at byte {box.start} claims {count} entries where {(box.end - box.begin - 12) // 4} fit"
            )
        return np.frombuffer(self.data, ">u4", count, box.begin + 12).astype(np.int64)

    def times(self, table: Box, count: int) -> tuple[Column, Column]:
        """Decoding and presentation time of each sample, in units of the track."""
        box = self.child(table, b"stts")
        if box is None:
            raise MediaError(f"box 'stbl' at byte {table.start} has no sample times ('stts')")
        deltas = self._spread(box, count, ">u4")
        dts = np.concatenate([np.zeros(1, np.int64), np.cumsum(deltas)[:-1]]) if count else deltas
        box = self.child(table, b"ctts")
        return dts, dts if box is None else dts + self._spread(box, count, ">i4")

    def _spread(self, box: Box, count: int, kind: str) -> Column:
        """A table of (how many samples, value) as one value for each sample."""
        rows = self.table(box, 2)
        values = self.table(box, 2, kind)[:, 1].astype(np.int64)
        runs = rows[:, 0].astype(np.int64)
        total = int(runs.sum())
        if total > count:
            raise MediaError(f"box {_name(box.kind)} at byte {box.start} gives times for {total} samples of {count}")
        out = np.repeat(values, runs)
        return np.concatenate([out, np.full(count - total, out[-1] if total else 0, np.int64)])

    def offsets(self, table: Box, sizes: Column) -> Column:
        """The byte of the file at which each sample begins (14496-12, 8.7.4 and 8.7.5)."""
        count = len(sizes)
        box = self.child(table, b"stco")
        wide = self.child(table, b"co64")
        groups = self.child(table, b"stsc")
        if groups is None or (box is None and wide is None):
            raise MediaError(f"box 'stbl' at byte {table.start} has no chunk tables ('stsc', 'stco')")
        chunks = (self.table(box, 1) if box else self.table(wide, 1, ">u8"))[:, 0].astype(np.int64)  # type: ignore[arg-type]
        rows = self.table(groups, 3).astype(np.int64)
        if not count:
            return np.zeros(0, np.int64)
        if not len(rows) or rows[0, 0] != 1 or (np.diff(rows[:, 0]) <= 0).any():
            raise MediaError(f"box 'stsc' at byte {groups.start} does not count its chunks upwards from 1")
        until = np.append(rows[1:, 0], len(chunks) + 1)
        runs = np.clip(until - rows[:, 0], 0, len(chunks))
        in_chunk = np.repeat(rows[:, 1], runs)[: len(chunks)]
        if int(in_chunk.sum()) < count or int(in_chunk.max(initial=0)) > count:
            raise MediaError(f"box 'stsc' at byte {groups.start} places {int(in_chunk.sum())} samples of {count}")
        start_of = np.repeat(chunks[: len(in_chunk)], in_chunk)[:count]
        first_in = np.concatenate([np.zeros(1, np.int64), np.cumsum(in_chunk)[:-1]])
        before = np.concatenate([np.zeros(1, np.int64), np.cumsum(sizes)])
        at_chunk = np.repeat(before[np.clip(first_in, 0, count)], in_chunk)[:count]
        begins: Column = start_of + before[:count] - at_chunk
        return begins

    def shift(self, trak: Box, timescale: int) -> float:
        """What the edit list (14496-12, 8.6.6) adds to the track's times, in seconds."""
        box = self.child(trak, b"edts", b"elst")
        if box is None:
            return 0.0
        wide = self.number(box, 0, 1) == 1
        count = min(self.number(box, 4, 4), 64)
        shift = 0.0
        step, half = (20, 8) if wide else (12, 4)
        for n in range(count):
            length = self.number(box, 8 + n * step, half)
            start = self.number(box, 8 + n * step + half, half)
            if start == (1 << (8 * half)) - 1:
                shift += length / self.movie_scale
                continue
            return shift - start / timescale
        return shift


def _descriptors(data: bytes) -> tuple[int, bytes]:
    """objectTypeIndication and DecoderSpecificInfo of an ES_Descriptor (14496-1, 7.2.6)."""
    at, object_type, config = 0, 0, b""
    while at + 2 <= len(data):
        tag, size = data[at], 0
        at += 1
        for _ in range(4):
            if at >= len(data):
                return object_type, config
            byte = data[at]
            at += 1
            size = size << 7 | byte & 0x7F
            if not byte & 0x80:
                break
        if tag == 3:
            if at + 3 > len(data):
                break
            flags = data[at + 2]
            at += 3 + (2 if flags & 0x80 else 0) + (1 + data[at + 3] if flags & 0x40 and at + 3 < len(data) else 0)
            at += 2 if flags & 0x20 else 0
        elif tag == 4:
            object_type = data[at] if at < len(data) else 0
            at += 13
        elif tag == 5:
            return object_type, data[at : at + size]
        else:
            at += size
    return object_type, config


def read(data: memoryview, passed: Callable[[int], None] | None = None) -> Iterator[MediaEvent]:
    """The media events of a plain MP4 file, first its claims and configurations, then its samples by decoding time.

    Raises MediaError, with the byte, for a file without an index or with one that contradicts itself; samples
    that lie behind the file's end become a Break.
    """
    moov: Box | None = None
    cut: Box | None = None
    for box in boxes(data, 0, len(data)):
        if box.kind == b"moof":
            raise MediaError(f"a fragmented MP4 ('moof' at byte {box.start}); only plain MP4 can be read so far")
        if box.end > len(data):
            cut = box
        elif box.kind == b"moov":
            moov = box
    if moov is None:
        where = f": the file ends inside {_name(cut.kind)}, which begins at byte {cut.start}" if cut else ""
        raise MediaError(f"no index ('moov') in this MP4{where}; the recording was not finished, or was cut")
    reader = _Moov(data)
    header = reader.child(moov, b"mvhd")
    if header is not None:
        reader.movie_scale = reader.number(header, 20 if reader.number(header, 0, 1) == 1 else 12, 4) or 1000
    if reader.child(moov, b"mvex") is not None:
        raise MediaError(
            f"a fragmented MP4 ('mvex' in the index at byte {moov.start}); only plain MP4 can be read so far"
        )
    found: dict[str, _Index] = {}
    for trak in reader.inside(moov):
        if trak.kind == b"trak" and (index := reader.track(trak)) is not None and len(index.sizes):
            found.setdefault(index.track, index)
    if reader.claims:
        yield Claims("the MP4 header", reader.claims)
    for index in found.values():
        yield index.config
    yield from _samples(data, list(found.values()), passed)


def _samples(data: memoryview, tracks: list[_Index], passed: Callable[[int], None] | None) -> Iterator[MediaEvent]:
    if not tracks:
        return
    times = np.concatenate([t.dts / t.timescale + t.shift for t in tracks])
    shown = np.concatenate([t.pts / t.timescale + t.shift for t in tracks])
    offsets = np.concatenate([t.offsets for t in tracks])
    sizes = np.concatenate([t.sizes for t in tracks])
    which = np.concatenate([np.full(len(t.sizes), n) for n, t in enumerate(tracks)])
    numbers = np.concatenate([np.arange(len(t.sizes)) for t in tracks])
    order = np.lexsort((which, times))
    end = len(data)
    mark = 16 << 20
    columns = (c[order].tolist() for c in (times, shown, offsets, sizes, which, numbers))
    for dts, pts, offset, size, n, number in zip(*columns, strict=True):
        track = tracks[n]
        if offset + size > end:
            yield Break(
                min(offset, end),
                f"{track.track} sample {number + 1} should lie at byte {offset} to {offset + size}, "
                f"but the file has {end} bytes",
            )
            return
        yield Sample(track.track, dts, pts, data[offset : offset + size], track.keys is None or number in track.keys)
        if passed is not None and offset > mark:
            passed(offset)
            mark = offset + (16 << 20)


# Writing


@dataclass(slots=True)
class TrackToWrite:
    """One track for write(): H.264 with four-byte lengths, or AAC."""

    track: Track
    timescale: int
    config: bytes
    width: int = 0
    height: int = 0
    sample_rate: int = 0
    channels: int = 0
    samples: list[tuple[int, int, bytes, bool]] = field(default_factory=list)  # duration, pts - dts, data, sync


def _box(kind: bytes, *parts: bytes) -> bytes:
    body = b"".join(parts)
    return struct.pack(">I4s", 8 + len(body), kind) + body


def _full(kind: bytes, *parts: bytes, version: int = 0, flags: int = 0) -> bytes:
    return _box(kind, struct.pack(">I", version << 24 | flags), *parts)


_MATRIX = struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000)


def write(tracks: Sequence[TrackToWrite]) -> bytes:
    """A plain MP4 of the tracks, each in one chunk, with the index last."""
    kind = _box(b"ftyp", b"isom", struct.pack(">I", 512), b"isomavc1mp41")
    payload = [b"".join(sample[2] for sample in t.samples) for t in tracks]
    at = len(kind) + 8
    traks, longest = [], 0
    for number, (t, data) in enumerate(zip(tracks, payload, strict=True), 1):
        length = sum(sample[0] for sample in t.samples)
        milliseconds = length * 1000 // t.timescale
        longest = max(longest, milliseconds)
        traks.append(_trak(number, t, at, length, milliseconds))
        at += len(data)
    head = struct.pack(">IIII", 0, 0, 1000, longest) + struct.pack(">IH10x", 0x10000, 0x100) + _MATRIX + bytes(24)
    moov = _box(b"moov", _full(b"mvhd", head, struct.pack(">I", len(tracks) + 1)), *traks)
    return kind + _box(b"mdat", *payload) + moov


def _trak(number: int, t: TrackToWrite, offset: int, length: int, milliseconds: int) -> bytes:
    video = t.track == "video"
    tkhd = struct.pack(">IIIII8xHHHH", 0, 0, number, 0, milliseconds, 0, 0, 0 if video else 0x100, 0) + _MATRIX
    tkhd += struct.pack(">II", t.width << 16, t.height << 16)
    mdhd = struct.pack(">IIIIHH", 0, 0, t.timescale, length, 0x55C4, 0)
    hdlr = struct.pack(">I4s12x", 0, b"vide" if video else b"soun") + b"\0"
    kind = _full(b"vmhd", bytes(8), flags=1) if video else _full(b"smhd", bytes(4))
    where = _box(b"dinf", _full(b"dref", struct.pack(">I", 1), _full(b"url ", flags=1)))
    if video:
        entry = _box(b"avc1", struct.pack(">6xH16xHHIIIH32sHh", 1, t.width, t.height, 0x480000, 0x480000, 0, 1, b"", 24, -1),
                     _box(b"avcC", t.config))  # fmt: skip
    else:
        specific = bytes([5, len(t.config)]) + t.config
        decoder = bytes([4, 13 + len(specific), 0x40, 0x15]) + bytes(11) + specific
        described = bytes([3, 3 + len(decoder) + 3, 0, 0, 0]) + decoder + bytes([6, 1, 2])
        entry = _box(
            b"mp4a",
            struct.pack(">6xH8xHHIHH", 1, t.channels, 16, 0, t.sample_rate & 0xFFFF, 0),
            _full(b"esds", described),
        )
    rows = t.samples
    count = struct.pack(">I", len(rows))
    parts = [
        _full(b"stsd", struct.pack(">I", 1), entry),
        _full(b"stts", count, *(struct.pack(">II", 1, row[0]) for row in rows)),
        _full(b"stsc", struct.pack(">IIII", 1, 1, len(rows), 1)),
        _full(b"stsz", struct.pack(">I", 0), count, *(struct.pack(">I", len(row[2])) for row in rows)),
        _full(b"stco", struct.pack(">II", 1, offset)),
    ]
    if any(row[1] for row in rows):
        parts.append(_full(b"ctts", count, *(struct.pack(">Ii", 1, row[1]) for row in rows), version=1))
    if not all(row[3] for row in rows):
        sync = [n for n, row in enumerate(rows, 1) if row[3]]
        parts.append(_full(b"stss", struct.pack(">I", len(sync)), *(struct.pack(">I", n) for n in sync)))
    minf = _box(b"minf", kind, where, _box(b"stbl", *parts))
    media = _box(b"mdia", _full(b"mdhd", mdhd), _full(b"hdlr", hdlr), minf)
    return _box(b"trak", _full(b"tkhd", tkhd, flags=3), media)
