"""A writer of plain MP4 files for tests: it shares no code with the reader."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass, field

_MOVIE_SCALE = 7000  # ticks a second


@dataclass(slots=True)
class TrackToWrite:
    """One track for write(): H.264 with four-byte lengths, or AAC."""

    track: str
    timescale: int
    config: bytes
    width: int = 0
    height: int = 0
    sample_rate: int = 0
    channels: int = 0
    samples: list[tuple[int, int, bytes, bool]] = field(default_factory=list)  # duration, pts - dts, data, sync
    plain: bytes = b""  # instead of AAC, a sample entry without a record, for sound of one size and length
    chunk: int = 0  # samples in a chunk of it
    edits: list[tuple[int, int]] = field(
        default_factory=list
    )  # length in ticks of the movie, start in those of the track
    enabled: bool = True
    bits: int = 0  # of each size, in a compact table; 0: a plain one
    second: bytes = b""  # another configuration, from sample second_from on
    second_from: int = 0
    surplus: int = 0  # samples of which only the time table knows


def _box(kind: bytes, *parts: bytes) -> bytes:
    body = b"".join(parts)
    return struct.pack(">I4s", 8 + len(body), kind) + body


def _full(kind: bytes, *parts: bytes, version: int = 0, flags: int = 0) -> bytes:
    return _box(kind, struct.pack(">I", version << 24 | flags), *parts)


_MATRIX = struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000)


def write(tracks: Sequence[TrackToWrite]) -> bytes:
    """A plain MP4 of the tracks, each in one chunk, with the index last."""
    kind = _box(b"ftyp", b"iso6", struct.pack(">I", 7), b"iso6")
    payload = [b"".join(sample[2] for sample in t.samples) for t in tracks]
    at = len(kind) + 8
    traks, longest = [], 0
    for number, (t, data) in enumerate(zip(tracks, payload, strict=True), 1):
        length = sum(sample[0] for sample in t.samples)
        ticks = length * _MOVIE_SCALE // t.timescale
        longest = max(longest, ticks)
        traks.append(_trak(number, t, at, length, ticks))
        at += len(data)
    head = (struct.pack(">IIII", 0, 0, _MOVIE_SCALE, longest) + struct.pack(">IH10x", 0x10000, 0x100) + _MATRIX + bytes(24))
    moov = _box(b"moov", _full(b"mvhd", head, struct.pack(">I", len(tracks) + 1)), *traks)
    return kind + _box(b"mdat", *payload) + moov


def _trak(number: int, t: TrackToWrite, offset: int, length: int, ticks: int) -> bytes:
    video = t.track == "video"
    tkhd = struct.pack(">IIIII8xHHHH", 0, 0, number, 0, ticks, 0, 0, 0 if video else 0x100, 0) + _MATRIX
    tkhd += struct.pack(">II", t.width << 16, t.height << 16)
    mdhd = struct.pack(">IIIIHH", 0, 0, t.timescale, length, 0x55C4, 0)
    hdlr = struct.pack(">I4s12x", 0, b"vide" if video else b"soun") + b"\0"
    kind = _full(b"vmhd", bytes(8), flags=1) if video else _full(b"smhd", bytes(4))
    where = _box(b"dinf", _full(b"dref", struct.pack(">I", 1), _full(b"url ", flags=1)))
    if video:
        head = struct.pack(">6xH16xHHIIIH32sHh", 1, t.width, t.height, 0x480000, 0x480000, 0, 1, b"", 24, -1)
        entry = _box(b"avc1", head, _box(b"avcC", t.config))
        if t.second:
            entry += _box(b"avc1", head, _box(b"avcC", t.second))
    elif t.plain:
        entry = _box(t.plain, struct.pack(">6xH8xHHIHH", 1, t.channels, 16, 0, t.sample_rate, 0))
    else:
        specific = bytes([5, len(t.config)]) + t.config
        decoder = bytes([4, 13 + len(specific), 0x40, 0x15]) + bytes(11) + specific
        described = bytes([3, 3 + len(decoder) + 3, 0, 0, 0]) + decoder + bytes([6, 1, 2])
        entry = _box(
            b"mp4a", struct.pack(">6xH8xHHIHH", 1, t.channels, 16, 0, t.sample_rate & 0xFFFF, 0), _full(b"esds", described),
        )
    rows = t.samples
    if t.plain:
        return _trak_of(t, tkhd, mdhd, hdlr, kind, where, _plain_tables(t, entry, offset))
    count = struct.pack(">I", len(rows))
    parts = [
        _full(b"stsd", struct.pack(">I", 2 if t.second else 1), entry),
        _full(b"stts", struct.pack(">I", len(rows) + bool(t.surplus)), *(struct.pack(">II", 1, row[0]) for row in rows),
              struct.pack(">II", t.surplus, 1) if t.surplus else b""),
        *_places(t, offset),
        _sizes(t),
    ]  # fmt: skip
    if any(row[1] for row in rows):
        parts.append(_full(b"ctts", count, *(struct.pack(">Ii", 1, row[1]) for row in rows), version=1))
    if not all(row[3] for row in rows):
        sync = [n for n, row in enumerate(rows, 1) if row[3]]
        parts.append(_full(b"stss", struct.pack(">I", len(sync)), *(struct.pack(">I", n) for n in sync)))
    return _trak_of(t, tkhd, mdhd, hdlr, kind, where, parts)


def _places(t: TrackToWrite, offset: int) -> list[bytes]:
    """One chunk, or two where the second has another description."""
    count = len(t.samples)
    if not t.second:
        return [_full(b"stsc", struct.pack(">IIII", 1, 1, count, 1)), _full(b"stco", struct.pack(">II", 1, offset))]
    second = offset + sum(len(row[2]) for row in t.samples[: t.second_from])
    groups = struct.pack(">IIIIIII", 2, 1, t.second_from, 1, 2, count - t.second_from, 2)
    return [_full(b"stsc", groups), _full(b"stco", struct.pack(">III", 2, offset, second))]


def _sizes(t: TrackToWrite) -> bytes:
    sizes, count = [len(row[2]) for row in t.samples], struct.pack(">I", len(t.samples))
    if not t.bits:
        return _full(b"stsz", struct.pack(">I", 0), count, *(struct.pack(">I", size) for size in sizes))
    digits = "".join(format(size, f"0{t.bits}b") for size in sizes)
    digits += "0" * (-len(digits) % 8)
    packed = bytes(int(digits[n : n + 8], 2) for n in range(0, len(digits), 8))
    return _full(b"stz2", struct.pack(">I", t.bits), count, packed)


def _trak_of(t: TrackToWrite, tkhd: bytes, mdhd: bytes, hdlr: bytes, kind: bytes, where: bytes, tables: list[bytes]) -> bytes:
    minf = _box(b"minf", kind, where, _box(b"stbl", *tables))
    media = _box(b"mdia", _full(b"mdhd", mdhd), _full(b"hdlr", hdlr), minf)
    rows = b"".join(struct.pack(">IiI", length, start, 0x10000) for length, start in t.edits)
    edits = [_box(b"edts", _full(b"elst", struct.pack(">I", len(t.edits)), rows))] if t.edits else []
    return _box(b"trak", _full(b"tkhd", tkhd, flags=3 if t.enabled else 2), *edits, media)


def _plain_tables(t: TrackToWrite, entry: bytes, offset: int) -> list[bytes]:
    """Tables that count every value: one size, one length, several chunks of which the last may be shorter."""
    count, size = len(t.samples), len(t.samples[0][2])
    whole, rest = divmod(count, t.chunk)
    groups = [(1, t.chunk, 1)] * bool(whole) + [(whole + 1, rest, 1)] * bool(rest)
    places = [offset + n * t.chunk * size for n in range(whole + bool(rest))]
    return [
        _full(b"stsd", struct.pack(">I", 1), entry), _full(b"stts", struct.pack(">III", 1, count, t.samples[0][0])),
        _full(b"stsc", struct.pack(">I", len(groups)), *(struct.pack(">III", *group) for group in groups)),
        _full(b"stsz", struct.pack(">II", size, count)), _full(b"stco", struct.pack(f">I{len(places)}I", len(places), *places)),
    ]
