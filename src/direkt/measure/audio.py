"""Measures the sound of a stream: its format, bytes and times, how loud it is, and where it has holes."""

from __future__ import annotations

import copy
import itertools
import math
from dataclasses import replace
from fractions import Fraction

import numpy as np

from direkt.codec.reader import AudioReader, Declared, Remark, audio_reader
from direkt.measure.figures import Bitrate, TrackClock
from direkt.measure.series import Series
from direkt.media import Column, Format, Samples
from direkt.parameters import Measured, Value, measured

_DRIFT_AFTER = 30.0  # s of sound before its drift says anything
_SILENT = 10 ** (-60 / 10)  # mean square, 1 being full scale: below it nothing can be heard
_FLOOR = 1e-12  # mean square that counts as nothing at all
# frames of a second that are looked at in a file, and live where time is dear, by how long the stream is (s): a long
# one needs fewer to know its level
_LOOKS = ((20, 100.0, 12.0), (60, 8.0, 4.0), (600, 0.5, 0.5))
_FEWEST_LOOKS = 0.1, 0.25
_SEARCH = 8.0, 2.0  # at least, while everything is silent: in the first part of those above, and later
_FORMATS = 20  # changes that are told one by one
_WAYS = 8
_GAPS = 8

Found = dict[str, Measured]


class AudioMeter:
    """Takes an audio track's format and samples."""

    def __init__(self, format: Format, remark: Remark) -> None:
        self.codec = format.codec
        self._reader: AudioReader = audio_reader(format, remark)
        self._tick = format.tick
        self.clock = TrackClock(format.tick)
        self.bitrate = Bitrate(format.tick)
        self.series = Series(format.tick)
        self._flow = _Flow(format.tick)
        self._length = 0  # audio samples so far
        self._sound = _Loudness(int(1 / format.tick))
        self._formats: list[tuple[int, str]] = []
        self._ways: dict[str, list[Value]] = {}
        self.configure(format)

    def configure(self, format: Format) -> None:
        """The same codec, configured anew. Raises BitstreamError for a record that cannot be read."""
        self._reader.configure(format)

    def add(self, samples: Samples) -> None:
        """The next batch."""
        lengths = self._reader.lengths(samples)
        self._sound.listen(self._reader, samples)
        self._note_format(samples)
        begins = self.clock.add(samples.dts, samples.pts, None, samples.arrival)
        edges = [0, *(n for n in begins if n), len(samples)]
        rate = self._reader.rate
        for begin, end in itertools.pairwise(edges):
            if begin in begins:
                self.bitrate.new_stretch()
                self.series.begin(int(samples.dts[begin]))
                self._flow.new_run()
            self.bitrate.add(samples.dts[begin:end], samples.size[begin:end])
            self.series.add(samples.dts[begin:end], samples.size[begin:end])
            if lengths is not None and rate:
                self._flow.add(samples.dts[begin:end], lengths[begin:end], rate)
        if lengths is not None:
            self._length += int(lengths.sum())

    def levels(self) -> tuple[tuple[float, float], ...]:
        """How loud the sound is by the second: s since it began, and dBFS."""
        return self._sound.levels()

    def _note_format(self, samples: Samples) -> None:
        """What is declared from these samples on."""
        declared = self._reader.declared
        for name, value in declared.values.items():
            ways = self._ways.setdefault(name, [])
            if value not in ways and len(ways) < _WAYS:
                ways.append(value)
        told = _told(declared)
        if told and (not self._formats or self._formats[-1][1] != told) and len(self._formats) < _FORMATS:
            self._formats.append((int(samples.dts[0]), told))

    def interrupt(self) -> None:
        """The stream stops here and may come back with other times."""
        self.clock.interrupt()

    def _frame_seconds(self) -> float:
        """Mean length of a frame, from what the codec says or else from the time stamps; 0 while it is not known."""
        rate = self._reader.rate
        if rate and self._length and self.clock.count:
            return self._length / rate / self.clock.count
        return self.clock.span / self.clock.steps if self.clock.steps else 0.0

    @property
    def seconds(self) -> float:
        """How long the sound lasts, the last frame included."""
        return self.clock.span + self.clock.runs * self._frame_seconds()

    @property
    def end(self) -> float:
        """When the last frame ends, in s of the stream's own time."""
        return float(self.clock.last * self._tick) + self._frame_seconds()

    def values(self) -> Found:
        """All that is known so far."""
        if not self.clock.count:
            return {"audio.present": Measured("no")}
        out: Found = {"audio.present": Measured("yes"), "audio.codec": Measured(self.codec)}
        if self._reader.configured is not None:
            out["audio.configured"] = Measured("yes" if self._reader.configured else "no")
        for name, value in self._reader.declared.values.items():
            out[name] = Measured(value, also=tuple(way for way in self._ways.get(name, ()) if way != value))
        seconds = self.seconds
        if seconds > 0 and self.clock.steps:
            out["audio.bitrate.mean"] = measured("audio.bitrate.mean", self.bitrate.kbit_s(seconds))
            if seconds >= 1:
                out["audio.bitrate.peak"] = measured("audio.bitrate.peak", self.bitrate.peak_kbit_s)
            out["audio.duration"] = measured("audio.duration", seconds)
            out["audio.longest_gap"] = self._longest_gap()
        level = self._sound.level
        if level is not None:
            out["audio.level"] = level
        out["audio.silent"] = self._sound.silent
        return out

    def _longest_gap(self) -> Measured:
        frame = self._frame_seconds()
        gaps = [(float(leap.low - leap.high) * float(self._tick) - frame, leap.high) for leap in self.clock.gaps]
        flow = self._flow.finished()
        gaps += [(gap, at) for gap, at in flow.gaps]
        if not gaps:
            return measured("audio.longest_gap", 0.0)
        told = ", ".join(f"{gap:.2f} s at {self._since(at)}" for gap, at in sorted(gaps, key=lambda g: g[1])[:_GAPS])
        longest, at = max(gaps)
        since = max(0.0, float((at - self.clock.first_decoded) * self._tick))
        return replace(measured("audio.longest_gap", longest, note=told), since=round(since, 1))

    def _since(self, ticks: int) -> str:
        return f"{max(0.0, float((ticks - self.clock.first_decoded) * self._tick)):.1f} s"

    def remarks(self) -> list[str]:
        """What changed in mid-stream."""
        if len(self._formats) < 2:
            return []
        ends = [self._since(at) for at, _ in self._formats[1:]]
        parts = [f"{what} until {end}" for (_, what), end in zip(self._formats, ends, strict=False)]
        return [f"the sound changes: {', then '.join(parts)}, then {self._formats[-1][1]}"]

    def drift(self) -> float | None:
        """Parts per million that the sound is longer than its time stamps say; None before 30 s. Gaps are no drift."""
        flow = self._flow.finished()
        if flow.span < _DRIFT_AFTER:
            return None
        return (flow.sound / flow.span - 1) * 1e6


def _told(declared: Declared) -> str:
    rate, channels = declared.values.get("audio.sample_rate"), declared.values.get("audio.channels")
    return " ".join([*([f"{rate} Hz"] if rate else []), *([f"{channels} ch"] if channels else [])])


_MOST_LEVELS = 3600  # seconds of which the level is kept; of every second one where there are more


class _Loudness:
    """How loud the sound is, by a few frames of each second."""

    def __init__(self, ticks_a_second: int) -> None:
        self._ticks = ticks_a_second
        self._begin: int | None = None
        self._second: int | None = None
        self._debt = 0.0  # looks that the present second still may take
        self._power = self._squares = 0.0  # of frames that were looked at, and of those powers
        self._looks = self._passed = self._unknown = 0
        self._silent = self._sounding = 0  # seconds that are over
        self._loudest: float | None = None  # frame of the present second
        self._any_sound = False
        self._here = [0.0, 0]  # power of the present second, and looks at it
        self._levels: list[tuple[float, float]] = []  # s since the beginning, and dBFS then
        self._apart = 1  # s between those that are kept

    def listen(self, reader: AudioReader, samples: Samples) -> None:
        """Looks at a few frames of each second."""
        seconds = samples.dts // self._ticks
        starts = np.flatnonzero(np.diff(seconds, prepend=seconds[0] - 1)).tolist()
        for begin, end in itertools.pairwise([*starts, len(samples)]):
            if int(seconds[begin]) != self._second:
                self._close()
                self._second = int(seconds[begin])
                self._begin = self._second if self._begin is None else self._begin
                self._debt += self._wanted(self._second - self._begin, samples.arrival is not None)
            left = int(self._debt)
            self._passed += end - begin
            if left < 1:
                continue
            for n in range(begin, end, max(1, -(-(end - begin) // left))):
                self._debt -= 1
                self._look(reader.power(samples, n))

    def _wanted(self, second: int, live: bool) -> float:
        wanted = next((looks[live] for until, *looks in _LOOKS if second < until), _FEWEST_LOOKS[live])
        if self._any_sound or self._unknown > self._looks:
            return min(wanted, 12.0) if self._unknown else wanted
        return max(wanted, _SEARCH[second >= _LOOKS[0][0]])

    def _look(self, power: float | None) -> None:
        if power is None:
            self._unknown += 1
            return
        self._power += power
        self._squares += power * power
        self._looks += 1
        self._here[0] += power
        self._here[1] += 1
        self._loudest = max(power, self._loudest or 0.0)
        self._any_sound = self._any_sound or power >= _SILENT

    def _close(self) -> None:
        self._silent, self._sounding = self._seconds()
        self._levels = list(self.levels())
        if len(self._levels) > _MOST_LEVELS:
            self._levels, self._apart = self._levels[::2], 2 * self._apart
        self._here = [0.0, 0]
        self._loudest = None
        self._debt = min(self._debt, 1.0) % 1.0

    def _seconds(self) -> tuple[int, int]:
        if self._loudest is None:
            return self._silent, self._sounding
        quiet = self._loudest < _SILENT
        return self._silent + quiet, self._sounding + (not quiet)

    def levels(self) -> tuple[tuple[float, float], ...]:
        """How loud it is by the second: s since the beginning, and dBFS of the frames that were looked at then."""
        if not self._here[1] or self._second is None or self._begin is None:
            return tuple(self._levels)
        at = float(self._second - self._begin)
        if self._levels and at - self._levels[-1][0] < self._apart:
            return tuple(self._levels)
        level = 10 * math.log10(max(self._here[0] / self._here[1], _FLOOR))
        return (*self._levels, (at, round(level, 1)))

    @property
    def level(self) -> Measured | None:
        """dBFS of all that was looked at, and how far all may be off that; None where nothing could be."""
        if not self._looks:
            return None
        mean = self._power / self._looks
        spread = max(0.0, self._squares / self._looks - mean * mean) / self._looks
        off = 2 * math.sqrt(spread) if self._passed > self._looks + 1 else 0.0
        within = 10 * math.log10(1 + off / mean) if mean > _FLOOR and off else None
        return measured("audio.level", 10 * math.log10(max(mean, _FLOOR)), uncertainty=within)

    @property
    def silent(self) -> Measured:
        """Silent when no second has sound."""
        silent, sounding = self._seconds()
        if sounding:
            note = f"{silent} of {silent + sounding} seconds looked at are silent" if silent else ""
            return Measured("no", note=note)
        return Measured("yes" if silent and self._unknown <= self._looks else "unknown")


class _Flow:
    """Sound by its own length against its time stamps: holes, and how the two drift apart.

    A hole is a step of time further than the frame before it is long that later frames do not take back; a late time
    stamp alone is none. Frames are held back until those behind them are known.
    """

    _BESIDE = 8  # frames that are compared on both sides

    def __init__(self, tick: Fraction) -> None:
        self._tick = float(tick)
        self.sound = self.span = 0.0  # s of sound, and of time, from frame to frame without the holes
        self.gaps: list[tuple[float, int]] = []  # s, and the tick behind which
        self._times = np.zeros(0, np.int64)
        self._lengths = np.zeros(0, np.float64)  # s
        self._done = 0  # frames of those held whose step to the next was counted

    def add(self, times: Column, lengths: Column, rate: int) -> None:
        """Frames of so many audio samples, in a run."""
        self._times = np.concatenate([self._times, times])
        self._lengths = np.concatenate([self._lengths, lengths / rate])
        self._count(len(self._times) - 1 - self._BESIDE)
        keep = max(0, self._done - self._BESIDE)
        self._times, self._lengths, self._done = self._times[keep:], self._lengths[keep:], self._done - keep

    def new_run(self) -> None:
        """What follows has other times."""
        self._count(len(self._times) - 1)
        self._times, self._lengths, self._done = self._times[:0], self._lengths[:0], 0

    def finished(self) -> _Flow:
        """The same, with all that was held back taken as the end."""
        done = copy.copy(self)
        done.gaps = list(self.gaps)
        done._count(len(done._times) - 1)
        return done

    def _count(self, until: int) -> None:
        """The steps from each frame to the next, up to frame ``until``."""
        begin = self._done
        if until <= begin:
            return
        steps = np.diff(self._times) * self._tick
        lengths = self._lengths[:-1]
        self.sound += float(lengths[begin:until].sum())
        self.span += float(steps[begin:until].sum())
        late = np.flatnonzero(steps - lengths > np.maximum(0.6 * lengths, 2.5 * self._tick)).tolist()
        for before, n, after in zip([-1, *late], late, [*late[1:], len(steps)], strict=False):
            if not begin <= n < until:
                continue
            gap, frame = self._hole(before + 1, n, after), float(lengths[n])
            if gap > 0.6 * frame:
                gap = round(gap / frame) * frame if frame else gap
                self.span -= gap
                self.gaps.append((gap, int(self._times[n])))
                if len(self.gaps) > 2 * _GAPS:
                    self.gaps.remove(min(self.gaps))
        self._done = until

    def _hole(self, first: int, n: int, last: int) -> float:
        """By how much (s) the frames behind frame ``n``, up to ``last``, lie later than the sound in front of it ends."""
        low, high = max(first, n + 1 - self._BESIDE), min(last + 1, n + 1 + self._BESIDE)
        ends = np.concatenate([[0.0], np.cumsum(self._lengths[low : high - 1])])
        late = (self._times[low:high] - self._times[low]) * self._tick - ends
        return float(late[n + 1 - low :].min() - np.median(late[: n + 1 - low]))
