"""MP4 (ISO/IEC 14496-12, -14 and -15), plain: read into columns.

The boxes of the index (moov) are walked, and its tables become columns with every count checked against its box:
O(samples) time, about 40 bytes of memory for each.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any

import numpy as np

from direkt.codec import registry
from direkt.container import ContainerError, Source, mp4_edits
from direkt.container.mp4_edits import Edit, Played
from direkt.media import Break, Claims, Column, Format, Framing, MediaEvent, Odd, Samples, Scalar, Track

_SPAN = 32 << 20  # bytes of the file that a batch may span
_FEWEST, _MOST = 64, 16384  # samples in a batch, but for the last
_MOST_SAMPLES = 1 << 24  # of a track: 93 hours of 50 pictures a second
_MOST_EDITS = 1024
_MOST_DESCRIPTIONS = 64
_WORTH_TELLING = Fraction(1, 5)  # s that an edit list must cut for a word

_FIRST_BOXES = (b"ftyp", b"styp", b"moov", b"mdat", b"free", b"skip", b"wide", b"pnot", b"uuid")


def score(start: bytes) -> int:
    """By the type of the first box; a file type box is surest."""
    if start[4:8] in (b"ftyp", b"styp"):
        return 100
    return 60 if start[4:8] in _FIRST_BOXES else 0


@dataclass(slots=True)
class Box:
    """A box (14496-12, 4.2): its type and where its payload lies in the file."""

    kind: bytes
    start: int  # byte of its header
    begin: int  # first byte of its payload
    end: int  # one past its last byte


def boxes(data: memoryview, begin: int, end: int) -> Iterator[Box]:
    """The boxes from ``begin`` to ``end``. Raises ContainerError for one that is larger than its room."""
    at = begin
    while at + 8 <= end:
        size, kind = struct.unpack_from(">I4s", data, at)
        head = 8
        if size == 1:
            if at + 16 > end:
                raise ContainerError(f"box {_name(kind)} at byte {at} is cut in its header")
            size = struct.unpack_from(">Q", data, at + 8)[0]
            head = 16
        elif size == 0:
            size = end - at
        if size < head:
            raise ContainerError(f"box {_name(kind)} at byte {at} claims {size} bytes, less than its header")
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

    formats: list[tuple[int, Format]]  # (number of the sample from which it holds, format)
    samples: Samples  # those that were not given out
    tick: Fraction  # s
    done: int = 0  # samples that were
    lowest: Column = field(
        default_factory=lambda: np.zeros(0, np.int64)
    )  # byte of the file among each and those behind


class _Moov:
    def __init__(self, data: memoryview) -> None:
        self.data = data
        self.movie_scale = 1000
        self.claims: dict[str, Scalar] = {}
        self.tracks: dict[Track, _Index] = {}
        self.odd: dict[str, None] = {}

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
                raise ContainerError(
                    f"box {_name(inner.kind)} at byte {inner.start} claims {inner.end - inner.start} bytes "
                    f"where {box.end - inner.start} are left in {_name(box.kind)}"
                )
            yield inner

    def number(self, box: Box, offset: int, size: int) -> int:
        at = box.begin + offset
        if at + size > box.end:
            raise ContainerError(f"box {_name(box.kind)} at byte {box.start} is too short: {box.end - box.begin} bytes")
        return int.from_bytes(self.data[at : at + size], "big")

    def table(self, box: Box, columns: int, kind: str = ">u4") -> np.ndarray[Any, np.dtype[Any]]:
        """The entries of a full box that holds a count and then rows of ``columns`` numbers."""
        count = self.number(box, 4, 4)
        width = columns * np.dtype(kind).itemsize
        if count * width > box.end - box.begin - 8:
            raise ContainerError(
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
            raise ContainerError(f"box 'mdhd' at byte {media.start} gives a time scale of 0")
        name = "picture" if track == "video" else "sound"
        if not self.enabled(trak):
            self.odd[f"a {name} track is marked as not enabled: it was passed over"] = None
            return None
        if track in self.tracks:
            self.odd[f"there are several {name} tracks: the first is measured"] = None
            return None
        box, groups = self.child(table, b"stsd"), self.child(table, b"stsc")
        if box is None or not self.number(box, 4, 4):
            return None
        tick = Fraction(1, timescale)
        rows = self.table(groups, 3) if groups is not None else None
        used = sorted(set(rows[:, 2].tolist())) if rows is not None else []
        if len(used) > _MOST_DESCRIPTIONS:
            raise ContainerError(f"{len(used)} sample descriptions are used; at most {_MOST_DESCRIPTIONS} are read")
        found = self.descriptions(box, track, tick, used or [1])
        if not found:
            return None
        first = found.get(int(rows[0, 2]) if rows is not None and len(rows) else 1) or next(iter(found.values()))
        edits = self.edits(trak)
        if registry.find(track, first.codec).loose and (loose := self.loose(table, track, timescale)) is not None:
            samples, lengths = loose
            played = self.play(samples, lengths, edits, tick, name)
            return _Index([(0, replace(first, starts=played.starts))], played.samples, tick)
        sizes = self.sizes(table)
        times, composed, lengths = self.times(table, len(sizes))
        sync = self.child(table, b"stss")
        marked = np.full(len(sizes), sync is None)
        if sync is not None:
            numbers = self.table(sync, 1)[:, 0].astype(np.int64) - 1
            marked[numbers[(numbers >= 0) & (numbers < len(sizes))]] = True
        offsets, described = self.offsets(table, sizes)
        whole = Samples(track, self.data, offsets, sizes, times, composed, marked)
        played = self.play(whole, lengths, edits, tick, name)
        described = described[played.numbers]
        borders = [0, *(np.flatnonzero(np.diff(described)) + 1).tolist()] if len(described) else []
        formats = []
        for at in borders:
            number = int(described[at])
            if number not in found:
                self.odd[f"a {name} uses sample description {number}, which is not there: the first is taken"] = None
            formats.append((at, replace(found.get(number, first), starts=played.starts)))
        return _Index(formats or [(0, first)], played.samples, tick)

    def enabled(self, trak: Box) -> bool:
        """track_enabled of the track header (14496-12, 8.3.2); a track without a header counts as enabled."""
        head = self.child(trak, b"tkhd")
        return head is None or self.number(head, 3, 1) & 1 == 1

    def loose(self, table: Box, track: Track, timescale: int) -> tuple[Samples, Column] | None:
        """Sound of which the table counts every single value: 50 ms of a chunk are one sample of ours; and their lengths.

        None where values are of several sizes or lengths, so that the table is no such one.
        """
        box, times = self.child(table, b"stsz"), self.child(table, b"stts")
        size, count = (self.number(box, 4, 4), self.number(box, 8, 4)) if box else (0, 0)
        rows = self.table(times, 2) if times else None
        if not size or count * size > len(self.data) or rows is None or len(rows) != 1:
            return None
        length = int(rows[0, 1])  # ticks
        part = max(1, timescale // (20 * max(1, length)))  # values
        starts, held, _ = self.chunks(table, count)
        parts = -(-held // part)
        chunk = np.repeat(np.arange(len(held)), parts)
        inside = (np.arange(len(chunk)) - (np.cumsum(parts) - parts)[chunk]) * part
        dts = ((np.cumsum(held) - held)[chunk] + inside) * length
        values = np.minimum(part, held[chunk] - inside)
        at = starts[chunk] + inside * size
        return Samples(track, self.data, at, values * size, dts, dts, np.ones(len(chunk), np.bool_)), values * length

    def descriptions(self, box: Box, track: Track, tick: Fraction, used: list[int]) -> dict[int, Format]:
        """The sample entries (14496-12, 8.5.2) with the numbers ``used``, as formats."""
        found: dict[int, Format] = {}
        for number, entry in enumerate(self.inside(box, 8), 1):
            if number in used or number == 1:
                found[number] = self.description(entry, track, tick, claim=not found)
            if number >= used[-1]:
                break
        return found

    def description(self, entry: Box, track: Track, tick: Fraction, *, claim: bool) -> Format:
        """A sample entry; ``claim``: what it says is what the file claims."""
        codec = registry.FOUR_CC.get(entry.kind, registry.find(track, "other"))
        if track == "video":
            width, height = self.number(entry, 24, 2), self.number(entry, 26, 2)
            if claim:
                self.claims |= {"video.codec": codec.name, "video.width": width, "video.height": height}
            record = self._record(entry, 78, codec)
            return Format(track, codec.name, tick, Framing.LENGTHS if codec.in_units else Framing.RAW, record)
        channels, rate = self.number(entry, 16, 2), self.number(entry, 24, 2)
        skip = {0: 28, 1: 44, 2: 64}.get(self.number(entry, 8, 2), 28)
        record = b""
        if codec.record == b"esds":
            wave = next((b for b in self.inside(entry, skip) if b.kind == b"wave"), None)
            described = self._record(wave, 0, codec) if wave else self._record(entry, skip, codec)
            if described:
                object_type, record = _descriptors(described[4:])
                codec = registry.OBJECT_TYPES.get(object_type, registry.AUDIO["other"])
        else:
            record = self._record(entry, skip, codec)
        if claim:
            self.claims |= {"audio.codec": codec.name, "audio.channels": channels}
            self.claims |= {"audio.sample_rate": rate} if rate else {}
        return Format(track, codec.name, tick, Framing.RAW, record, rate, channels)

    def _record(self, box: Box, skip: int, codec: registry.Codec) -> bytes:
        """The codec's own record inside a sample entry; empty where there is none."""
        found = next((b for b in self.inside(box, skip) if b.kind == codec.record), None)
        return bytes(self.data[found.begin : found.end]) if found else b""

    def sizes(self, table: Box) -> Column:
        box = self.child(table, b"stsz")
        if box is None and (small := self.child(table, b"stz2")) is not None:
            return self.small_sizes(small)
        if box is None:
            raise ContainerError(f"box 'stbl' at byte {table.start} has no sample sizes ('stsz')")
        fixed, count = self.number(box, 4, 4), self.number(box, 8, 4)
        if count > _MOST_SAMPLES:
            raise ContainerError(
                f"box 'stsz' at byte {box.start} claims {count} samples; at most {_MOST_SAMPLES} are read"
            )
        if fixed:
            if count * fixed > len(self.data):
                raise ContainerError(
                    f"box 'stsz' at byte {box.start} claims {count} samples of {fixed} bytes: more than the file"
                )
            return np.full(count, fixed, np.int64)
        if count * 4 > box.end - box.begin - 12:
            raise ContainerError(
                f"box 'stsz' at byte {box.start} claims {count} entries where {(box.end - box.begin - 12) // 4} fit"
            )
        return np.frombuffer(self.data, ">u4", count, box.begin + 12).astype(np.int64)

    def small_sizes(self, box: Box) -> Column:
        """A compact table of sizes (14496-12, 8.7.3.3): 4, 8 or 16 bits each."""
        bits, count = self.number(box, 7, 1), self.number(box, 8, 4)
        if bits not in (4, 8, 16):
            raise ContainerError(f"box 'stz2' at byte {box.start} has fields of {bits} bits; expected 4, 8 or 16")
        if count * bits > 8 * (box.end - box.begin - 12):
            fit = 8 * (box.end - box.begin - 12) // bits
            raise ContainerError(f"box 'stz2' at byte {box.start} claims {count} entries where {fit} fit")
        if bits == 4:
            pairs = np.frombuffer(self.data, np.uint8, (count + 1) // 2, box.begin + 12).astype(np.int64)
            return np.stack([pairs >> 4, pairs & 15], axis=1).ravel()[:count]
        return np.frombuffer(self.data, ">u2" if bits == 16 else np.uint8, count, box.begin + 12).astype(np.int64)

    def times(self, table: Box, count: int) -> tuple[Column, Column, Column]:
        """Decoding and presentation time of each sample, and how long it lasts, in units of the track."""
        box = self.child(table, b"stts")
        if box is None:
            raise ContainerError(f"box 'stbl' at byte {table.start} has no sample times ('stts')")
        lengths = self._spread(box, count, ">u4")
        dts = np.concatenate([np.zeros(1, np.int64), np.cumsum(lengths)[:-1]]) if count else lengths
        box = self.child(table, b"ctts")
        return dts, dts if box is None else dts + self._spread(box, count, ">i4"), lengths

    def _spread(self, box: Box, count: int, kind: str) -> Column:
        """A table of (how many samples, value) as one value for each sample."""
        rows = self.table(box, 2)
        values = self.table(box, 2, kind)[:, 1].astype(np.int64)
        runs = rows[:, 0].astype(np.int64)
        until = np.minimum(np.cumsum(runs), count)
        total = int(runs.sum())
        if total != count and count:
            self.odd[f"box {_name(box.kind)} at byte {box.start} gives times for {total} samples of {count}"] = None
        out = np.repeat(values, np.diff(until, prepend=0))
        return np.concatenate([out, np.full(count - len(out), out[-1] if len(out) else 0, np.int64)])

    def chunks(self, table: Box, count: int) -> tuple[Column, Column, Column]:
        """Where each chunk begins, how many samples it holds, ``count`` together, and by which description they are coded.

        14496-12, 8.7.4 and 8.7.5.
        """
        box = self.child(table, b"stco")
        wide = self.child(table, b"co64")
        groups = self.child(table, b"stsc")
        if groups is None or (box is None and wide is None):
            raise ContainerError(f"box 'stbl' at byte {table.start} has no chunk tables ('stsc', 'stco')")
        starts = (self.table(box, 1) if box else self.table(wide, 1, ">u8"))[:, 0].astype(np.int64)  # type: ignore[arg-type]
        rows = self.table(groups, 3).astype(np.int64)
        if not count:
            return starts[:0], starts[:0], starts[:0]
        if not len(rows) or rows[0, 0] != 1 or (np.diff(rows[:, 0]) <= 0).any():
            raise ContainerError(f"box 'stsc' at byte {groups.start} does not count its chunks upwards from 1")
        until = np.append(rows[1:, 0], len(starts) + 1)
        spans = np.clip(until - rows[:, 0], 0, len(starts))
        held, described = (np.repeat(rows[:, n], spans)[: len(starts)] for n in (1, 2))
        placed = np.cumsum(held)
        if not len(placed) or placed[-1] < count:
            there = int(placed[-1]) if len(placed) else 0
            raise ContainerError(f"box 'stsc' at byte {groups.start} places {there} samples of {count}")
        last = int(np.searchsorted(placed, count))  # what is claimed beyond costs nothing
        held = held[: last + 1]
        held[-1] -= placed[last] - count
        return starts[: last + 1], held, described[: last + 1]

    def offsets(self, table: Box, sizes: Column) -> tuple[Column, Column]:
        """The byte of the file at which each sample begins, and the number of its description."""
        starts, held, described = self.chunks(table, len(sizes))
        before = np.cumsum(sizes) - sizes
        first = before[np.minimum(np.cumsum(held) - held, max(0, len(sizes) - 1))] if len(sizes) else before
        return np.repeat(starts - first, held) + before, np.repeat(described, held)

    def play(self, samples: Samples, lengths: Column, edits: list[Edit], tick: Fraction, name: str) -> Played:
        """What the edit list leaves of a track."""
        grain = Fraction(1, self.movie_scale)
        try:
            played = mp4_edits.play(samples, lengths, edits, tick, grain, _MOST_SAMPLES)
        except OverflowError as error:
            raise ContainerError(f"the edit list plays more than {_MOST_SAMPLES} {name} samples") from error
        if played.cut > _WORTH_TELLING:
            self.odd[f"the edit list cuts {float(played.cut):.2f} s of the {name} away"] = None
        return played

    def edits(self, trak: Box) -> list[Edit]:
        """The edit list (14496-12, 8.6.6); empty where there is none."""
        box = self.child(trak, b"edts", b"elst")
        if box is None:
            return []
        wide = self.number(box, 0, 1) == 1
        count = self.number(box, 4, 4)
        step, half = (20, 8) if wide else (12, 4)
        fit = max(0, box.end - box.begin - 8) // step
        if count > min(fit, _MOST_EDITS):
            self.odd[f"box 'elst' at byte {box.start} claims {count} edits; {min(fit, _MOST_EDITS)} are read"] = None
        out = []
        for n in range(min(count, fit, _MOST_EDITS)):
            at = 8 + n * step
            length, start = self.number(box, at, half), self.number(box, at + half, half)
            empty = start >> (8 * half - 1) == 1  # -1
            if not empty and self.number(box, at + 2 * half, 2) != 1:
                self.odd["an edit holds a picture still or plays at another speed: it is measured at its own"] = None
            out.append(Edit(Fraction(length, self.movie_scale), None if empty else start))
        return out


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


def read(source: Source) -> Iterator[MediaEvent]:
    """The media events of a plain MP4 file, first its claims and formats, then its samples.

    Raises ContainerError, with the byte, for a file without an index or with one that contradicts itself; samples
    that lie behind the file's end become a Break.
    """
    data = source.data
    moov: Box | None = None
    cut: Box | None = None
    for box in boxes(data, 0, len(data)):
        if box.kind == b"moof":
            raise ContainerError(f"a fragmented MP4 ('moof' at byte {box.start}); only plain MP4 can be read so far")
        if box.end > len(data):
            cut = box
        elif box.kind == b"moov":
            moov = box
    if moov is None:
        where = f": the file ends inside {_name(cut.kind)}, which begins at byte {cut.start}" if cut else ""
        raise ContainerError(f"no index ('moov') in this MP4{where}; the recording was not finished, or was cut")
    reader = _Moov(data)
    header = reader.child(moov, b"mvhd")
    if header is not None:
        reader.movie_scale = reader.number(header, 20 if reader.number(header, 0, 1) == 1 else 12, 4) or 1000
    if reader.child(moov, b"mvex") is not None:
        raise ContainerError(
            f"a fragmented MP4 ('mvex' in the index at byte {moov.start}); only plain MP4 can be read so far"
        )
    for trak in reader.inside(moov):
        if trak.kind == b"trak" and (index := reader.track(trak)) is not None and len(index.samples):
            reader.tracks[index.samples.track] = index
    if reader.claims:
        yield Claims("the MP4 header", reader.claims)
    for text in reader.odd:
        yield Odd(text)
    yield from _samples(source, list(reader.tracks.values()))


def _samples(source: Source, tracks: list[_Index]) -> Iterator[MediaEvent]:
    """Batches of each track in turn, so that all walk through the file together."""
    end = len(source.data)
    breaks: list[tuple[Fraction, Break]] = []
    waiting: list[_Index] = []
    for index in tracks:
        samples, tick = index.samples, index.tick
        yield index.formats[0][1]
        beyond = np.flatnonzero(samples.offset + samples.size > end)
        if len(beyond):
            n = int(beyond[0])
            at = int(samples.offset[n])
            reason = (
                f"{samples.track} sample {n + 1} should lie at byte {at} to {at + int(samples.size[n])}, "
                f"but the file has {end} bytes"
            )
            breaks.append((int(samples.dts[n]) * tick, Break(min(at, end), reason)))
            samples = samples[:n]
        if len(samples):
            lowest = np.minimum.accumulate(samples.offset[::-1])[::-1]
            waiting.append(_Index(index.formats[1:], samples, tick, lowest=lowest))
    while waiting:
        waiting.sort(key=lambda w: int(w.samples.dts[0]) * w.tick)
        index = waiting[0]
        samples = index.samples
        if index.formats and index.formats[0][0] == index.done:
            yield index.formats.pop(0)[1]
        ahead = samples.offset[:_MOST]
        count = max(_FEWEST, int(np.argmax(np.append(ahead > ahead[0] + _SPAN, True))))
        count = min(count, _MOST, index.formats[0][0] - index.done if index.formats else _MOST)
        yield samples[:count]
        index.done += count
        index.samples = samples[count:]
        if not len(index.samples):
            waiting.pop(0)
        if waiting:
            source.done(min(int(rest.lowest[rest.done]) for rest in waiting))
    if breaks:
        yield min(breaks, key=lambda b: b[0])[1]
