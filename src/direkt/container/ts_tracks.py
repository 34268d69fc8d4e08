"""What PES packets carry (ISO/IEC 13818-1, 2.4.3): a stream of bytes for each track, and times that stand in front of some.

A PES packet is neither a picture nor a frame of sound: several may lie in one, and one in several. A time belongs to the
first that begins in its packet (ISO/IEC 13818-1, 2.4.3.7). Pictures without one lie evenly between those that have one; frames of sound
follow one another by their own length.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from direkt.codec.access_units import access_units
from direkt.codec.framing import FRAMERS, FrameSound
from direkt.container.ts_tables import StreamKind
from direkt.media import Column, Format, Framing, MediaEvent, Odd, Samples, UnreadTrack, batch, column

CLOCK = 90_000  # Hz
_ROUND = 1 << 33  # of time stamps
_LARGEST = 16 << 20  # bytes of one picture, or without any time
_STEP = 2 * CLOCK  # the longest that a picture lasts between two with times
_MOST_OPEN = 4096  # pictures that wait for one with a time


@dataclass(frozen=True, slots=True)
class _Packet:
    """Where a PES packet's bytes begin, and its times."""

    at: int
    pts: int | None
    dts: int | None


class _Bytes:
    """The bytes of one track, and the PES packets that they came in."""

    def __init__(self, kind: StreamKind) -> None:
        self.kind = kind
        self.broken = 0  # units without sense
        self._parts: list[bytes] = []
        self._data = b""
        self._size = 0
        self._packets: list[_Packet] = []
        self._last: int | None = None  # the latest time stamp, unrolled
        self._told = False

    def add(self, payload: bytes, pts: int | None, dts: int | None) -> None:
        """A PES packet's payload and times, in ticks of 33 bits."""
        if pts is not None:
            decoded = self._unrolled(dts if dts is not None else pts)
            late = (pts - (dts if dts is not None else pts)) % _ROUND
            pts, dts = decoded + (late if late < _ROUND // 2 else late - _ROUND), decoded
        self._packets.append(_Packet(self._size, pts, dts))
        self._parts.append(payload)
        self._size += len(payload)

    def _unrolled(self, stamp: int) -> int:
        """A time stamp on a clock that does not begin anew after 2^33 ticks."""
        if self._last is not None:
            step = (stamp - self._last) % _ROUND
            stamp = self._last + (step if step < _ROUND // 2 else step - _ROUND)
        self._last = stamp
        return stamp

    def _join(self) -> bytes:
        if self._parts:
            self._data = b"".join([self._data, *self._parts])
            self._parts = []
        return self._data

    def _drop(self, count: int) -> None:
        """The first ``count`` bytes were taken."""
        self._data = self._data[count:]
        self._size -= count
        keep = 0
        while keep + 1 < len(self._packets) and self._packets[keep + 1].at <= count:
            keep += 1
        left = self._packets[keep:]
        # a packet of which the first bytes are gone says no more than where the next one begins
        self._packets = [
            _Packet(p.at - count, p.pts, p.dts) if p.at >= count else _Packet(0, None, None) for p in left
        ]

    def _times(self, starts: Column) -> dict[int, tuple[int, int]]:
        """Of units that begin at ``starts``: dts and pts of those that are the first in a packet with times."""
        out: dict[int, tuple[int, int]] = {}
        edges = [p.at for p in self._packets]
        first = np.searchsorted(starts, edges).tolist()
        for n, packet in enumerate(self._packets):
            end = edges[n + 1] if n + 1 < len(edges) else self._size
            if packet.pts is not None and packet.dts is not None and first[n] < len(starts) and starts[first[n]] < max(end, packet.at + 1):
                out[first[n]] = (packet.dts, packet.pts)
        return out

    def take(self, *, final: bool = False) -> Iterator[MediaEvent]:
        """What is whole by now; ``final``: nothing comes behind it."""
        raise NotImplementedError


class TsPictureTrack(_Bytes):
    """A track of H.264 or H.265."""

    def __init__(self, kind: StreamKind) -> None:
        super().__init__(kind)
        self._step = 0  # ticks that a picture lasted last
        self._dts = 0  # of the latest picture
        self._late: int | None = None  # presentation less decoding, where only some pictures have a time
        self._begun = False

    def take(self, *, final: bool = False) -> Iterator[MediaEvent]:
        """The pictures that are whole, up to the last one with a time."""
        data = self._join()
        forced = column([packet.at for packet in self._packets if packet.pts is not None])
        codes, starts, marks = access_units(data, self.kind.codec, forced)
        count = len(starts)
        if not count:
            if len(data) > _LARGEST:
                self.broken += 1
                self._drop(len(data) - 4)
            return
        known = self._times(codes)
        # the last unit may go on
        whole = count if final else count - 1
        if not known and not self._begun:
            if final or count > _MOST_OPEN or len(data) > _LARGEST:
                self._drop(len(data) if final else int(starts[-1]))
                if not self._told:
                    self._told = True
                    yield UnreadTrack("video", self.kind.codec, "none of its pictures carries a time")
            return
        begin = 0 if self._begun else min(known)  # pictures in front of the first time are left out
        stop = max([n for n in known if n <= whole], default=begin)
        if final or whole - stop > _MOST_OPEN or len(data) > _LARGEST:
            stop = whole
        stop = min(stop, whole)
        if stop <= begin:
            return
        ends = np.append(starts[1:], len(data))
        dts, pts = self._fill(known, begin, stop)
        if len([n for n in known if begin <= n < stop]) * 2 < stop - begin and self._late is None and stop - begin > 2:
            self._late = max(0, pts[0] - dts[0])
            yield Odd("only some pictures carry a time: those between them are taken to lie evenly")
        if self._late is not None:
            pts = [moment + self._late for moment in dts]
        if not self._told:
            self._told = True
            yield Format("video", self.kind.codec, Fraction(1, CLOCK), Framing.START_CODES)
        self._begun = True
        part = slice(begin, stop)
        yield Samples(
            "video", data, starts[part], ends[part] - starts[part], column(dts), column(pts), marks[part]
        )  # fmt: skip
        self._drop(int(ends[stop - 1]))

    def _fill(
        self, known: dict[int, tuple[int, int]], begin: int, stop: int
    ) -> tuple[list[int], list[int]]:  # fmt: skip
        """Times of all pictures: those without one lie evenly between those with one."""
        dts, pts, late = [], [], 0
        anchors = sorted(known)
        at = 0
        base, first, each = self._dts, begin - 1, float(self._step)
        for n in range(begin, stop):
            while at < len(anchors) and anchors[at] < n:
                at += 1
            if at < len(anchors) and anchors[at] == n:
                self._dts, shown = known[n]
                late = shown - self._dts
                base, first, each = self._dts, n, float(self._step)
                if at + 1 < len(anchors):
                    step = (known[anchors[at + 1]][0] - self._dts) / (anchors[at + 1] - n)
                    if 0 < step <= _STEP:
                        self._step, each = round(step), step
            self._dts = base + round((n - first) * each)
            dts.append(self._dts)
            pts.append(self._dts + late)
        return dts, pts


class TsSoundTrack(_Bytes):
    """A track of sound."""

    def __init__(self, kind: StreamKind) -> None:
        super().__init__(kind)
        self._framer = FRAMERS[kind.framing]()
        self._next: Fraction | None = None  # when the next frame begins, ticks
        self._format: tuple[bytes, int, int] | None = None

    def take(self, *, final: bool = False) -> Iterator[MediaEvent]:
        """The frames that are whole."""
        data = self._join()
        found = list(self._framer.frames(data, final=final))
        self.broken = self._framer.lost
        known = self._times(column([one.at for one in found]))
        sounds: list[FrameSound] = []
        times: list[int] = []
        for n, one in enumerate(found):
            if n in known:
                # the time stamp is whole ticks of what the frames' own lengths say more finely
                stamp = known[n][1]
                if self._next is None or abs(self._next - stamp) > 1:
                    self._next = Fraction(stamp)
            for sound in one.sounds:
                told = (sound.configuration, sound.rate, sound.channels)
                if self._next is None:
                    continue
                if told != self._format:
                    yield from self._batch(sounds, times)
                    sounds, times = [], []
                    self._format = told
                    yield Format(
                        "audio", self.kind.codec, Fraction(1, CLOCK), Framing.RAW, sound.configuration, sound.rate if not sound.configuration else 0,
                        sound.channels,
                    )  # fmt: skip
                sounds.append(sound)
                times.append(round(self._next))
                self._next += Fraction(sound.samples * CLOCK, sound.rate)
        yield from self._batch(sounds, times)
        if found:
            self._drop(found[-1].at + found[-1].size)
        elif len(data) > 1 << 17:
            self._drop(len(data) - (1 << 16))
        if final and self._format is None and (found or data) and not self._told:
            self._told = True
            reason = "none of its frames carries a time" if found else "no frame in it can be read"
            yield UnreadTrack("audio", self.kind.codec, reason)

    @staticmethod
    def _batch(sounds: list[FrameSound], times: list[int]) -> Iterator[MediaEvent]:
        if sounds:
            yield batch("audio", [sound.data for sound in sounds], times, times, [True] * len(sounds))
