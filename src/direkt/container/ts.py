"""Reads MPEG transport streams (ISO/IEC 13818-1) of packets with 188, 192 and 204 bytes.

Packets go through in blocks: the headers of a block are columns, payloads are taken out by one mask, and Python sees what is
rare (tables) or once a picture (PES headers). A block ends where the tables change. The tables of the first megabytes are
read ahead, so that the programme is known from the first packet on. Cost: O(n), a few passes over the bytes that are read.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator

import numpy as np

from direkt.codec import registry
from direkt.container import ContainerError, Source
from direkt.container.ts_tables import Map, StreamKind, Tables
from direkt.container.ts_tracks import CLOCK, TsPictureTrack, TsSoundTrack
from direkt.media import Break, Bytes, Column, MediaEvent, Odd, Track, UnreadTrack

__all__ = ["CLOCK", "read", "score"]

PROGRAMMES = True  # a file may hold several
_SYNC = 0x47
_SIZES = ((188, 0), (192, 4), (204, 0))  # bytes of a packet, and at which of them it begins
_BLOCK = 20_000  # packets
_LARGEST_UNIT = 16 << 20  # bytes of one PES packet
_MOST_BAD = 64  # places at which the packets were lost
_AHEAD = 2 * _BLOCK  # packets behind the first table in which those of all programmes should stand
_TRACKS: tuple[Track, ...] = ("video", "audio")


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


class _Columns:
    """The headers of some packets (ISO/IEC 13818-1, 2.4.3.2)."""

    def __init__(self, rows: Bytes) -> None:
        self.rows = rows
        self.pid: Column = (rows[:, 1].astype(np.int64) & 0x1F) << 8 | rows[:, 2]
        self.control: Bytes = (rows[:, 3] >> 4 & 3).astype(np.uint8)
        self.begins = (rows[:, 1] & 0x40) != 0
        self.length: Column = np.where(self.control & 2, rows[:, 4].astype(np.int64) + 1, 0)
        self.start = 4 + self.length
        self.usable = ((self.control & 1) != 0) & (self.start < 188) & ((rows[:, 1] & 0x80) == 0)


class _Stream:
    """One track: its packets, joined to PES packets."""

    def __init__(self, pid: int, kind: StreamKind) -> None:
        self.pid, self.kind = pid, kind
        self.carried: TsPictureTrack | TsSoundTrack = TsPictureTrack(kind) if kind.track == "video" else TsSoundTrack(kind)
        self.missing = 0  # packets
        self.scrambled = self.clear = False  # some of it is, some is not
        self.broken = 0  # PES packets without sense
        self._rest = b""
        self._begun = False
        self._counter = -1
        self._row: Bytes | None = None  # the latest packet

    def take(self, block: _Columns, mine: Column) -> Iterator[MediaEvent]:
        """The packets ``mine`` of a block."""
        if not len(mine):
            return
        mine = self._once(block, mine)
        mine = mine[block.usable[mine]]
        hidden = (block.rows[mine, 3] & 0xC0) != 0
        if hidden.any():
            if not self.scrambled and self.clear:
                yield Odd(f"the {self.kind.track} is scrambled from some place on")
            self.scrambled = True
            mine = mine[~hidden]
        if len(mine):
            self.clear = True
            self._units(block.rows[mine], block.begins[mine], block.start[mine])
            yield from self.carried.take()

    def _once(self, block: _Columns, mine: Column) -> Column:
        """Counts packets that are missing, by the continuity counter, and leaves out those that came twice (ISO/IEC 13818-1, 2.4.3.3)."""
        mine = mine[(block.control[mine] & 1) != 0]
        if not len(mine):
            return mine
        rows = block.rows[mine]
        counters = (rows[:, 3] & 15).astype(np.int64)
        fresh = ((rows[:, 5] & 0x80) != 0) & (block.length[mine] > 1)
        steps = np.diff(counters, prepend=self._counter if self._counter >= 0 else counters[:1] - 1) % 16
        doubled = np.zeros(len(mine), np.bool_)
        for n in np.flatnonzero(steps == 0).tolist():
            before = rows[n - 1] if n else self._row
            start = int(block.start[mine[n]])
            doubled[n] = before is not None and bool((before[start:] == rows[n, start:]).all())
        odd = (steps != 1) & ~fresh & ~doubled
        self.missing += int(((steps[odd] - 1) % 16).sum())
        self._counter, self._row = int(counters[-1]), rows[-1].copy()
        return mine[~doubled]

    def _units(self, rows: Bytes, begins: np.ndarray[tuple[int], np.dtype[np.bool_]], start: Column) -> None:
        """The PES packets that end in a block; what has begun waits."""
        payload = _payload(rows, start)
        ends = np.cumsum(188 - start)
        edges = (ends - (188 - start))[begins].tolist()
        shift = len(self._rest)
        if not self._begun:
            if not edges:
                return
            payload, edges, shift = payload[edges[0] :], [edge - edges[0] for edge in edges], 0
            self._begun = True
        else:
            edges = [0, *(edge + shift for edge in edges)]
        whole = self._rest + payload
        self._rest = whole[edges[-1] :]
        if len(self._rest) > _LARGEST_UNIT:
            self._rest, self._begun, self.broken = b"", False, self.broken + 1
        for begin, end in itertools.pairwise(edges):
            self._packet(whole[begin:end])

    def _packet(self, data: bytes) -> None:
        """A PES packet (ISO/IEC 13818-1, 2.4.3.6)."""
        if len(data) < 9 or data[:3] != b"\0\0\1" or data[6] >> 6 != 2:
            self.broken += bool(data)
            return
        if data[6] >> 4 & 3:
            self.scrambled = True
            return
        flags, length = data[7] >> 6, data[8]
        shown = _stamp(data, 9) if flags & 2 and length >= 5 else None
        decoded = _stamp(data, 14) if flags == 3 and length >= 10 else None
        size = int.from_bytes(data[4:6], "big")
        end = min(len(data), 6 + size) if size else len(data)
        self.carried.add(data[9 + length : end], shown, decoded)

    def end(self) -> Iterator[MediaEvent]:
        """Nothing comes behind it: what is still open, and what was wrong."""
        if self._begun and self._rest:
            self._packet(self._rest)
        yield from self.carried.take(final=True)
        track = self.kind.track
        if self.scrambled and not self.clear:
            yield UnreadTrack(track, self.kind.codec, "it is scrambled")
        if self.missing:
            yield Odd(f"{self.missing} packets of the {track} are missing")
        broken = self.broken + self.carried.broken
        if broken:
            yield Odd(f"{broken} units of the {track} make no sense and were passed over")


class _Programme:
    """The programme that is read: its tracks, and how its tables change."""

    def __init__(self, tables: Tables, number: int | None, map_: Map, *, asked: bool) -> None:
        self._tables, self._number, self._asked = tables, number, asked
        self._map: Map = ()
        self._streams: dict[Track, _Stream] = {}
        self._told: set[str] = set()
        self._unread: dict[Track, UnreadTrack] = {}
        self._begin = list(self._change(map_))

    def _odd(self, text: str) -> Iterator[MediaEvent]:
        if text not in self._told:
            self._told.add(text)
            yield Odd(text)

    def _change(self, found: Map) -> Iterator[MediaEvent]:
        """The programme is made of these tracks from here on."""
        self._map = found
        for track in _TRACKS:
            kinds = [one for one in found if one.kind is not None and one.kind.track == track]
            read = [one for one in kinds if one.kind is not None and one.kind.is_read]
            best = read[0] if read else None
            for one in kinds:
                if best is not None and one is not best and one.kind is not None:
                    more = f": {one.kind.reason}" if one.kind.reason else ""
                    yield from self._odd(f"a second {track} track ({_title(one.kind)}, PID {one.pid}) is not read{more}")
            old = self._streams.get(track)
            if best is None:
                if kinds and kinds[0].kind is not None:
                    self._unread.setdefault(track, UnreadTrack(track, kinds[0].kind.codec, kinds[0].kind.reason))
            elif best.kind is not None and (old is None or (old.pid, old.kind) != (best.pid, best.kind)):
                if old is not None:
                    yield from old.end()
                    what = f"from PID {old.pid} to {best.pid}" if old.pid != best.pid else f"to {_title(best.kind)}"
                    yield from self._odd(f"the tables move the {track} {what}")
                self._streams[track] = _Stream(best.pid, best.kind)
            if not kinds and old is not None:
                yield from old.end()
                del self._streams[track]
                yield from self._odd(f"the tables end the {track}")
        for one in found:
            if one.kind is None:
                yield from self._odd(f"a track of type 0x{one.stream_type:02x} is not read ({one.title})")

    def take(self, rows: Bytes) -> Iterator[MediaEvent]:
        """Some whole packets."""
        yield from self._begin
        self._begin = []
        block = _Columns(rows)
        done = 0
        for n in self._changes(block):
            if not self._asked and self._number not in self._tables.programmes and self._tables.maps:
                self._number = _best(self._tables)
            found = self._tables.maps.get(self._number) if self._number is not None else None
            if found is not None and found != self._map:
                yield from self._tracks(block, done, n)
                done = n
                yield from self._change(found)
        yield from self._tracks(block, done, len(rows))

    def _changes(self, block: _Columns) -> Iterator[int]:
        """The packets of a block with which what the tables say changes; they say so when it is given out."""
        begin, pids = 0, frozenset[int]()
        while pids != self._tables.pids:  # a map may stand in the block in which its place is told
            pids = self._tables.pids
            for n in (begin + np.flatnonzero(_among(block.pid[begin:], pids) & block.usable[begin:])).tolist():
                begin = n + 1
                payload = block.rows[n, int(block.start[n]) :].tobytes()
                if self._tables.add(int(block.pid[n]), payload, begins=bool(block.begins[n])):
                    yield n
                    if pids != self._tables.pids:
                        break

    def _tracks(self, block: _Columns, begin: int, end: int) -> Iterator[MediaEvent]:
        for stream in self._streams.values():
            yield from stream.take(block, begin + np.flatnonzero(block.pid[begin:end] == stream.pid))

    def end(self) -> Iterator[MediaEvent]:
        """Nothing comes behind it."""
        yield from self._begin
        for stream in self._streams.values():
            yield from stream.end()
        for track, unread in self._unread.items():
            if track not in self._streams:
                yield unread
        if self._tables.damaged:
            yield Odd(f"tables with a wrong check sum, which were passed over: {self._tables.damaged}")


def _among(pid: Column, wanted: Iterable[int]) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    known = np.zeros(1 << 13, np.bool_)
    known[list(wanted)] = True
    found: np.ndarray[tuple[int], np.dtype[np.bool_]] = known[pid]
    return found


def _title(kind: StreamKind) -> str:
    return registry.find(kind.track, kind.codec).title


def _best(tables: Tables) -> int | None:
    """The programme with picture and sound that are read; of equal ones the first."""

    def worth(number: int) -> tuple[bool, bool, bool]:
        kinds = [one.kind for one in tables.maps[number] if one.kind is not None]
        read = {kind.track for kind in kinds if kind.is_read}
        return "video" in read, any(kind.track == "video" for kind in kinds), "audio" in read

    known = [number for number in tables.programmes if number in tables.maps]
    return max(known, key=worth) if known else None


def _packets(data: memoryview, layout: tuple[int, int, int], at: int) -> Iterator[tuple[int, Bytes, int]]:
    """Whole packets from byte ``at`` on: where a block begins, its packets, and bytes that are none behind them (-1: for good)."""
    size, shift, _ = layout
    bad = 0
    while at + size <= len(data):
        count = min(_BLOCK, (len(data) - at) // size)
        rows = np.frombuffer(data, np.uint8, count * size, at).reshape(count, size)[:, shift : shift + 188]
        wrong = np.flatnonzero(rows[:, 0] != _SYNC)
        good = int(wrong[0]) if len(wrong) else count
        after = at + good * size
        if good == count:
            yield at, rows, 0
            at = after
            continue
        bad += 1
        found = _again(data, after + 1, size, shift)
        if found is None or bad > _MOST_BAD:
            yield at, rows[:good], -1
            return
        yield at, rows[:good], found - after
        at = found


def _survey(data: memoryview, layout: tuple[int, int, int], *, strict: bool) -> tuple[Tables, dict[int, Map]]:
    """What the tables say first: all of it, or as much as stands in the first megabytes behind the first one."""
    tables, first = Tables(strict=strict), dict[int, Map]()
    left = _AHEAD
    for _, rows, _ in _packets(data, layout, layout[2]):
        pid: Column = (rows[:, 1].astype(np.int64) & 0x1F) << 8 | rows[:, 2]
        known: frozenset[int] = frozenset()
        while known != tables.pids:  # a map may stand in the block in which its place is told
            known = tables.pids
            some = np.flatnonzero(_among(pid, known))
            block = _Columns(rows[some])
            for n in np.flatnonzero(block.usable).tolist():
                payload = block.rows[n, int(block.start[n]) :].tobytes()
                if tables.add(int(block.pid[n]), payload, begins=bool(block.begins[n])):
                    for number, found in tables.maps.items():
                        first.setdefault(number, found)
        if tables.maps:
            left -= len(rows)
            if left <= 0 or tables.maps.keys() >= tables.programmes.keys():
                break
    return tables, first


def read(source: Source, programme: int | None = None) -> Iterator[MediaEvent]:
    """The media events of a stream: of ``programme``, or else of the one with most in it.

    Raises ContainerError where there are no packets, no programme, or not the one that was asked for.
    """
    data = source.data
    layout = _layout(bytes(data[:2048])) or _layout(bytes(data[: 1 << 16])[-2048:])
    if layout is None:
        raise ContainerError("no transport stream: no sync bytes at equal distances")
    tables, first = _survey(data, layout, strict=True)
    strict = bool(first)
    if not strict:
        tables, first = _survey(data, layout, strict=False)
    number = _chosen(tables, first, programme)
    if number is None:
        raise ContainerError("a transport stream without a programme that can be read: no table says what is in it")
    if not strict:
        yield Odd("the tables' check sums are wrong: they are believed all the same")
    others = [n for n in tables.programmes if n != number]
    for other in others:
        if other not in tables.maps:
            yield Odd(f"the tables name a programme {other} that is not there")
        else:
            kinds = [_title(one.kind) for one in tables.maps[other] if one.kind is not None]
            yield Odd(f"programme {other} ({', '.join(kinds) or 'no picture or sound'}) is not read: this is programme {number}")
    reading = _Programme(Tables(strict=strict), number, first[number], asked=programme is not None)
    at = layout[2]
    for begin, rows, behind in _packets(data, layout, at):
        at = begin + len(rows) * layout[0]
        if len(rows):
            yield from reading.take(rows)
        source.done(at)
        if behind < 0:
            yield from reading.end()
            yield Break(at, "no packets from here on")
            return
        if behind:
            yield Odd(f"{behind} bytes at {at} are no packets")
            at += behind
    yield from reading.end()
    if at < len(data):
        yield Break(at, f"the last packet is cut: {len(data) - at} of {layout[0]} bytes")


def _chosen(tables: Tables, first: dict[int, Map], programme: int | None) -> int | None:
    """The programme to read, whose tracks are known."""
    if programme is None:
        return _best(tables) if tables.maps else next(iter(first), None)
    if programme not in first:
        there = ", ".join(str(number) for number in first) or "none"
        raise ContainerError(f"there is no programme {programme} in it (there are: {there})")
    return programme


def _again(data: memoryview, at: int, size: int, shift: int) -> int | None:
    """Where packets begin again."""
    window = bytes(data[at : at + 64 * size])
    for begin in range(len(window) - 2 * size - shift):
        if window[begin + shift] == window[begin + shift + size] == window[begin + shift + 2 * size] == _SYNC:
            return at + begin
    return None


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


def _stamp(data: bytes, at: int) -> int | None:
    part = data[at : at + 5]
    if len(part) < 5:
        return None
    return (
        (part[0] >> 1 & 7) << 30 | int.from_bytes(part[1:3], "big") >> 1 << 15 | int.from_bytes(part[3:5], "big") >> 1
    )
