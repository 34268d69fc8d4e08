"""Reads MPEG transport streams (ISO/IEC 13818-1) of packets with 188, 192 and 204 bytes: H.264, H.265 and AAC behind ADTS.

Packets go through in blocks: the headers of a block are columns, payloads are taken out by one mask, and Python sees what is
rare (tables) or once a picture (PES headers). Cost: O(n), a few passes over the bytes of the tracks that are read.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from direkt.container import ContainerError, Source
from direkt.media import Break, Bytes, Column, Format, Framing, Marks, MediaEvent, Odd, Samples, Track, column

CLOCK = 90_000  # Hz
_SYNC = 0x47
_SIZES = ((188, 0), (192, 4), (204, 0))  # bytes of a packet, and at which of them it begins
_BLOCK = 20_000  # packets
_CODECS: dict[int, tuple[Track, str]] = {
    0x1B: ("video", "h264"),
    0x24: ("video", "h265"),
    0x0F: ("audio", "aac"),
}  # table 2-34
_OTHERS = {
    0x01: "MPEG-1 video", 0x02: "MPEG-2 video", 0x03: "MPEG-1 audio", 0x04: "MPEG-2 audio", 0x10: "MPEG-4 part 2",
    0x11: "AAC behind LATM", 0x06: "private data", 0x81: "AC-3", 0x15: "metadata",
}  # fmt: skip
_LARGEST_UNIT = 16 << 20  # bytes of one PES packet
_MOST_BAD = 64  # places at which the packets were lost
_RATES = (
    96000,
    88200,
    64000,
    48000,
    44100,
    32000,
    24000,
    22050,
    16000,
    12000,
    11025,
    8000,
    7350,
)  # ISO/IEC 14496-3, 1.6.3.4
_ROUND = 1 << 33  # of time stamps


def _layout(start: bytes) -> tuple[int, int, int] | None:
    """Packet size, place of the sync byte in a packet, and where the first packet begins."""
    for size, shift in _SIZES:
        for begin in range(min(size, len(start))):
            marks = start[begin + shift :: size]
            if len(marks) >= 3 and marks.count(_SYNC) == len(marks):
                return size, shift, begin
    return None


def score(start: bytes) -> int:
    """Sync bytes at equal distances."""
    found = _layout(start)
    return 0 if found is None else 90 if found[2] == 0 else 40


@dataclass(slots=True)
class _Stream:
    """One track of the programme."""

    track: Track
    codec: str
    rest: bytes = b""  # of the PES packet that has begun
    begun: bool = False
    last: int | None = None  # the latest time stamp, unrolled
    counter: int = -1
    missing: int = 0  # packets
    told: bool = False  # its format
    configuration: bytes = b""
    rate: int = 0
    broken: int = 0  # PES packets or frames without sense
    scrambled: bool = False


@dataclass(slots=True)
class _Programme:
    """What the tables say."""

    pmt: int | None = None
    streams: dict[int, _Stream] = field(default_factory=dict)
    odd: list[str] = field(default_factory=list)
    seen: bool = False


def read(source: Source) -> Iterator[MediaEvent]:
    """The media events of a stream. Raises ContainerError where there are no packets or no programme."""
    data = source.data
    layout = _layout(bytes(data[:2048])) or _layout(bytes(data[: 1 << 16])[-2048:])
    if layout is None:
        raise ContainerError("no transport stream: no sync bytes at equal distances")
    size, shift, at = layout
    programme, bad = _Programme(), 0
    while at + size <= len(data):
        count = min(_BLOCK, (len(data) - at) // size)
        rows = np.frombuffer(data, np.uint8, count * size, at).reshape(count, size)[:, shift : shift + 188]
        wrong = np.flatnonzero(rows[:, 0] != _SYNC)
        good = int(wrong[0]) if len(wrong) else count
        if good:
            yield from _block(rows[:good], programme)
        at += good * size
        source.done(at)
        if good < count:
            bad += 1
            found = _again(data, at + 1, size, shift)
            if found is None or bad > _MOST_BAD:
                yield from _ends(programme)
                yield Break(at, "no packets from here on")
                return
            yield Odd(f"{found - at} bytes at {at} are no packets")
            at = found
    if not programme.streams:
        raise ContainerError(
            "a transport stream without a programme that can be read"
            + (f": {programme.odd[0]}" if programme.odd else ": no table says what is in it")
        )
    yield from _ends(programme)
    if at < len(data):
        yield Break(at, f"the last packet is cut: {len(data) - at} of {size} bytes")


def _again(data: memoryview, at: int, size: int, shift: int) -> int | None:
    """Where packets begin again."""
    window = bytes(data[at : at + 64 * size])
    for begin in range(len(window) - 2 * size - shift):
        if window[begin + shift] == window[begin + shift + size] == window[begin + shift + 2 * size] == _SYNC:
            return at + begin
    return None


def _block(rows: Bytes, programme: _Programme) -> Iterator[MediaEvent]:
    """The events of some whole packets."""
    pid = (rows[:, 1].astype(np.int64) & 0x1F) << 8 | rows[:, 2]
    control: Bytes = (rows[:, 3] >> 4 & 3).astype(np.uint8)
    begins = (rows[:, 1] & 0x40) != 0
    length: Column = np.where(control & 2, rows[:, 4].astype(np.int64) + 1, 0)
    start = 4 + length
    usable = ((control & 1) != 0) & (start < 188) & ((rows[:, 1] & 0x80) == 0)
    if not programme.seen:
        _tables(rows, pid, begins & usable, start, programme)
        for text in programme.odd:
            yield Odd(text)
    for number, stream in programme.streams.items():
        mine = np.flatnonzero(pid == number)
        if len(mine):
            _count(stream, rows[mine, 3], control[mine], length[mine], rows[mine, 5])
            mine = mine[usable[mine]]
            if not stream.scrambled and len(mine) and (rows[mine, 3] & 0xC0).any():
                stream.scrambled = True
                yield Odd(f"the {stream.track} is scrambled")
            yield from _units(rows[mine], begins[mine], start[mine], stream)


def _count(stream: _Stream, flags: Bytes, control: Bytes, length: Column, indicators: Bytes) -> None:
    """Packets that are missing, by the continuity counter (2.4.3.3); a packet may come twice."""
    with_payload = (control & 1) != 0
    counters = (flags & 15)[with_payload].astype(np.int64)
    fresh = ((indicators & 0x80) != 0) & (length > 1)
    steps = np.diff(counters, prepend=stream.counter if stream.counter >= 0 else counters[:1] - 1) % 16
    odd = (steps > 1) & ~fresh[with_payload]
    stream.missing += int((steps[odd] - 1).sum())
    if len(counters):
        stream.counter = int(counters[-1])


def _tables(rows: Bytes, pid: Column, begins: Marks, start: Column, programme: _Programme) -> None:
    """The first programme that a block tells of (2.4.4)."""
    for n in np.flatnonzero(begins & (pid == 0)).tolist():
        section = _section(rows[n], int(start[n]))
        for at in range(8, len(section) - 7, 4):
            if section[0] == 0 and int.from_bytes(section[at : at + 2], "big"):
                programme.pmt = int.from_bytes(section[at + 2 : at + 4], "big") & 0x1FFF
                break
        if programme.pmt is not None:
            break
    if programme.pmt is None:
        return
    for n in np.flatnonzero(begins & (pid == programme.pmt)).tolist():
        section = _section(rows[n], int(start[n]))
        if len(section) < 16 or section[0] != 2:
            continue
        at = 12 + (int.from_bytes(section[10:12], "big") & 0xFFF)
        while at + 5 <= len(section) - 4:
            kind, number = section[at], int.from_bytes(section[at + 1 : at + 3], "big") & 0x1FFF
            at += 5 + (int.from_bytes(section[at + 3 : at + 5], "big") & 0xFFF)
            known = _CODECS.get(kind)
            if known is None:
                programme.odd.append(f"a track of type 0x{kind:02x} is not read ({_OTHERS.get(kind, 'unknown')})")
            elif any(s.track == known[0] for s in programme.streams.values()):
                programme.odd.append(f"a second {known[0]} track is not read")
            else:
                programme.streams[number] = _Stream(*known)
        programme.seen = True
        return


def _section(row: Bytes, start: int) -> bytes:
    """A table that lies in one packet; empty: it does not."""
    body = bytes(row[start:])
    body = body[1 + body[0] :] if body else b""
    size = 3 + (int.from_bytes(body[1:3], "big") & 0xFFF) if len(body) >= 3 else 0
    return body[:size] if 0 < size <= len(body) else b""


def _units(rows: Bytes, begins: Marks, start: Column, stream: _Stream) -> Iterator[MediaEvent]:
    """The PES packets that end in a block; what has begun waits."""
    payload = _payload(rows, start)
    ends = np.cumsum(188 - start)
    edges = (ends - (188 - start))[begins].tolist()
    shift = len(stream.rest)
    if not stream.begun:
        if not edges:
            return
        payload, edges, shift = payload[edges[0] :], [edge - edges[0] for edge in edges], 0
        stream.begun = True
    else:
        edges = [0, *(edge + shift for edge in edges)]
    whole = stream.rest + payload
    stream.rest = whole[edges[-1] :]
    if len(stream.rest) > _LARGEST_UNIT:
        stream.rest, stream.begun, stream.broken = b"", False, stream.broken + 1
    yield from _packets(whole, edges, stream)


def _payload(rows: Bytes, start: Column) -> bytes:
    """The payloads of some packets, joined. Most have nothing in front of theirs: stretches of such go at once."""
    special = np.flatnonzero(start != 4).tolist()
    out, done = [], 0
    for n in special:
        if n > done:
            out.append(rows[done:n, 4:].tobytes())
        out.append(rows[n, int(start[n]) :].tobytes())
        done = n + 1
    out.append(rows[done:, 4:].tobytes())
    return b"".join(out)


def _ends(programme: _Programme) -> Iterator[MediaEvent]:
    """What is still open at the end."""
    for stream in programme.streams.values():
        if stream.begun and stream.rest:
            yield from _packets(stream.rest, [0, len(stream.rest)], stream)
        if stream.missing:
            yield Odd(f"{stream.missing} packets of the {stream.track} are missing")
        if stream.broken:
            yield Odd(f"{stream.broken} units of the {stream.track} make no sense and were passed over")


def _packets(data: bytes, edges: list[int], stream: _Stream) -> Iterator[MediaEvent]:
    offset, size, dts, pts = [], [], [], []
    for begin, end in itertools.pairwise(edges):
        found = _header(data, begin, end)
        if found is None:
            stream.broken += 1
            continue
        at, shown, decoded = found
        end = (
            min(end, begin + 6 + int.from_bytes(data[begin + 4 : begin + 6], "big"))
            if data[begin + 4] | data[begin + 5]
            else end
        )
        if shown is None or end <= at:
            stream.broken += 1
            continue
        decoded = _unrolled(stream, decoded if decoded is not None else shown)
        late = (shown - decoded) % _ROUND
        shown = decoded + (late if late < _ROUND // 2 else late - _ROUND)
        if stream.track == "video":
            offset.append(at)
            size.append(end - at)
            dts.append(decoded)
            pts.append(shown)
            continue
        for n, (place, length) in enumerate(_frames(data, at, end, stream)):
            moment = decoded + round(Fraction(n * 1024 * CLOCK, stream.rate)) if stream.rate else decoded
            offset.append(place)
            size.append(length)
            dts.append(moment)
            pts.append(moment)
    if not offset:
        return
    if not stream.told:
        stream.told = True
        framing = Framing.START_CODES if stream.track == "video" else Framing.RAW
        yield Format(stream.track, stream.codec, Fraction(1, CLOCK), framing, stream.configuration)
    marks = np.ones(len(offset), np.bool_) if stream.track == "audio" else _keys(data, offset, size, stream.codec)
    yield Samples(stream.track, data, column(offset), column(size), column(dts), column(pts), marks)


def _header(data: bytes, at: int, end: int) -> tuple[int, int | None, int | None] | None:
    """Where a PES packet's payload begins, and its time stamps (2.4.3.6); None for what is none."""
    if end - at < 9 or data[at : at + 3] != b"\0\0\1" or data[at + 6] >> 6 != 2:
        return None
    flags, length = data[at + 7] >> 6, data[at + 8]
    shown = _stamp(data, at + 9) if flags & 2 and length >= 5 else None
    decoded = _stamp(data, at + 14) if flags == 3 and length >= 10 else None
    return at + 9 + length, shown, decoded


def _stamp(data: bytes, at: int) -> int | None:
    part = data[at : at + 5]
    if len(part) < 5:
        return None
    return (
        (part[0] >> 1 & 7) << 30 | int.from_bytes(part[1:3], "big") >> 1 << 15 | int.from_bytes(part[3:5], "big") >> 1
    )


def _unrolled(stream: _Stream, stamp: int) -> int:
    """A time stamp on a clock that does not begin anew after 2^33 ticks."""
    if stream.last is not None:
        step = (stamp - stream.last) % _ROUND
        stamp = stream.last + (step if step < _ROUND // 2 else step - _ROUND)
    stream.last = stamp
    return stamp


def _frames(data: bytes, at: int, end: int, stream: _Stream) -> Iterator[tuple[int, int]]:
    """The frames behind ADTS headers (ISO/IEC 14496-3, 1.A.2): where each begins, and its size."""
    while at + 7 <= end:
        if data[at] != 0xFF or data[at + 1] & 0xF6 != 0xF0:
            stream.broken += 1
            return
        head = 7 if data[at + 1] & 1 else 9
        size = (data[at + 3] & 3) << 11 | data[at + 4] << 3 | data[at + 5] >> 5
        if size <= head or at + size > end:
            stream.broken += 1
            return
        if not stream.rate:
            profile, rate = data[at + 2] >> 6, data[at + 2] >> 2 & 15
            channels = (data[at + 2] & 1) << 2 | data[at + 3] >> 6
            stream.rate = _RATES[rate] if rate < len(_RATES) else 48000
            stream.configuration = (profile + 1 << 11 | rate << 7 | channels << 3).to_bytes(2, "big")
        yield at + head, size - head
        at += size


def _keys(data: bytes, offset: list[int], size: list[int], codec: str) -> Marks:
    """Which pictures have parameter sets in front of them, as those have that one may join at."""
    kinds = (7, 5) if codec == "h264" else (32, 33, 19, 20, 21)
    out = np.zeros(len(offset), np.bool_)
    for n, (at, length) in enumerate(zip(offset, size, strict=True)):
        place, end = at, at + min(length, 4096)
        while (place := data.find(b"\0\0\1", place, end)) >= 0 and place + 3 < end:
            kind = data[place + 3] & 31 if codec == "h264" else data[place + 3] >> 1 & 63
            if kind in kinds:
                out[n] = True
                break
            place += 3
    return out
