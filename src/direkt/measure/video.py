"""Measures the pictures of a stream: rate, keyframes, bitrate and order, by what its codec's reader finds.

A keyframe is what the reader calls one, whatever the container claims. A batch costs a few array operations.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, replace

import numpy as np

from direkt.codec.bits import BitstreamError
from direkt.codec.levels import levels
from direkt.codec.reader import (
    Declared,
    Join,
    Motion,
    Parity,
    Pictures,
    Remark,
    Scan,
    VideoReader,
    video_reader,
)
from direkt.measure.buffer import Curve, PromiseKept
from direkt.measure.cadence import Cadence
from direkt.measure.figures import Bitrate, Evenness, Intervals, TrackClock
from direkt.measure.series import Series
from direkt.media import Codes, Column, Format, Marks, Samples
from direkt.parameters import Bound, Measured, Value, measured, ordered, size_of

_REORDER = 17  # pictures: more than any decoder may hold back (H.264, A.3.1)
_RUNS = 256  # runs whose ends are remembered one by one
_CBR = 0.1  # share by which a window of a constant bitrate may differ from the mean
_CBR_EXCEPTIONS = 50  # windows of which one may differ more
_CBR_WINDOWS = 3  # that are needed to tell
_CBR_FEW, _CBR_SURELY = 0.03, 8  # the same share where there are fewer windows than so many
_FORMATS = 20  # picture formats that are told one by one
_WAYS = 8  # values of one parameter that are told
_MOVING = 0.01  # share of seconds that must move
_MOVING_AFTER = 2  # seconds before anything is said

Found = dict[str, Measured]


class VideoMeter:
    """Takes a video track's format and samples; ``remark`` is told what does not fit."""

    def __init__(self, format: Format, remark: Remark) -> None:
        self.codec = format.codec
        self._reader: VideoReader = video_reader(format, remark)
        self.declared: Declared | None = None
        tick = self._tick = format.tick
        self.clock = TrackClock(tick)
        self.bitrate = Bitrate(tick)
        self.series = Series(tick)
        self._evenness = Evenness(tick)
        self._curve = Curve()
        self._kept: PromiseKept | None = None
        self.cadence = Cadence(tick)
        self.key_intervals = Intervals(tick)
        self.join_intervals = Intervals(tick)
        self.pictures = self.keyframes = self.recovery_points = self.damaged = self.filler = 0
        self.marked = self.marked_wrong = 0  # pictures that the source calls keyframes
        self._scans = np.zeros(len(Scan), np.int64)
        self._parities = np.zeros(len(Parity), np.int64)
        self.changes = 0  # of the parameter sets inside the stream
        self._slices = self._open_slices = 0  # most in a picture; in the latest
        self._keys = _Places()
        self._joins = _Places()
        self._latest = 0
        self._rows = _Rows()
        self._groups = _Groups()
        self._motion = _Seconds(int(1 / tick))
        self._order = _Order()
        self._formats: list[tuple[int, str]] = []  # since when (presentation, ticks), and what
        self._ways: dict[str, list[Value]] = {}  # every value that the stream declared
        self.configure(format)

    def configure(self, format: Format) -> None:
        """The same codec, configured anew. Raises BitstreamError for a record that cannot be read."""
        self._reader.configure(format)
        if self.declared is None:
            self._declare(self._reader.declared)

    def add(self, samples: Samples) -> None:
        """The next batch."""
        found = self._reader.read(samples)
        self.damaged += found.damaged
        self.filler += found.filler
        if self.declared is None and not found.changes:
            self._declare(self._reader.declared)
        changes = dict(found.changes)
        self.changes += len(changes)
        if self.declared is not None and not self._formats and len(found.first):
            changes.setdefault(0, self.declared)
        for number, declared in sorted(changes.items(), key=lambda change: change[0]):
            self._declare(declared)
            self._new_format(declared, int(samples.pts[found.first[number]]))
        self._count(found, samples)
        begins = self.clock.add(samples.dts, samples.pts, found.first, samples.arrival)
        edges = [*begins, len(samples)]
        if edges[0]:
            self._stretch(samples, found, 0, edges[0])
        for begin, end in itertools.pairwise(edges):
            self._new_run(int(samples.pts[begin]), int(samples.dts[begin]))
            self._stretch(samples, found, begin, end)

    def _declare(self, declared: Declared | None) -> None:
        self.declared = declared
        if declared is None:
            return
        for name, value in declared.values.items():
            ways = self._ways.setdefault(name, [])
            if value not in ways and len(ways) < _WAYS:
                ways.append(value)
        promise = declared.promise
        if promise is not None and promise.buffer and (self._kept is None or self._kept.promise != promise):
            self._kept = PromiseKept(promise, self._tick)

    def _new_format(self, declared: Declared, at: int) -> None:
        if len(self._formats) < _FORMATS and (not self._formats or self._formats[-1][1] != declared.summary):
            self._formats.append((at, declared.summary))

    def _count(self, found: Pictures, samples: Samples) -> None:
        marked = samples.marked[found.first]
        keys = found.join == Join.KEYFRAME
        self.pictures += len(keys)
        self.keyframes += int(keys.sum())
        self.recovery_points += int((found.join == Join.RECOVERY).sum())
        self.marked += int(marked.sum())
        self.marked_wrong += int((marked & ~keys).sum())
        self._scans += np.bincount(found.scan, minlength=len(Scan))
        self._parities += np.bincount(found.parity, minlength=len(Parity))
        self._open_slices += found.late_slices
        if len(found.slices):
            self._slices = max(self._slices, self._open_slices, int(found.slices.max()))
            self._open_slices = int(found.slices[-1])
        self._slices = max(self._slices, self._open_slices)
        self._rows.add(found.bipredicted, late=found.late_bipredicted)
        self._groups.add(found, samples.pts[found.first])
        self._motion.add(samples.dts[found.first], found.motion)

    def _stretch(self, samples: Samples, found: Pictures, begin: int, end: int) -> None:
        """Samples ``begin`` to ``end`` of a batch, all of one unbroken run."""
        dts, size = samples.dts[begin:end], samples.size[begin:end]
        self.bitrate.add(dts, size)
        self.series.add(dts, size)
        self._curve.add(dts, size)
        if self._kept is not None:
            self._kept.add(dts, size)
        low, high = np.searchsorted(found.first, [begin, end])
        self._even(samples, found, begin, end)
        if low == high:
            return
        starts = found.first[low:high]
        pts = samples.pts[starts]
        join = found.join[low:high]
        self.series.mark(samples.dts[starts[join == Join.KEYFRAME]])
        stands = bool(join[0] == Join.KEYFRAME or found.anchor[low])
        self.cadence.add(self._order.add(pts, samples.dts[starts], stands=stands))
        self.key_intervals.add(self._keys.add(pts[join == Join.KEYFRAME]))
        self.join_intervals.add(self._joins.add(pts[join != Join.NO]))
        self._latest = max(self._latest, int(pts.max()))

    def _even(self, samples: Samples, found: Pictures, begin: int, end: int) -> None:
        """Counts bytes in windows that begin with keyframes, or with any picture where nothing is known of those."""
        starts = found.first
        if self._reader.knows_keyframes:
            starts = starts[found.join == Join.KEYFRAME]
        starts = starts[(starts >= begin) & (starts < end)] - begin
        self._evenness.add(samples.dts[begin:end], samples.size[begin:end], starts)

    def _new_run(self, pts: int, dts: int) -> None:
        if self.clock.count:
            self._keys.close(self._latest, self.cadence.slot)
            self._joins.close(self._latest, self.cadence.slot)
        self.cadence.add(self._order.close())
        self.cadence.new_run()
        self.bitrate.new_stretch()
        self.series.begin(dts)
        self._evenness.new_stretch()
        self._curve.new_stretch(dts)
        if self._kept is not None:
            self._kept.new_stretch()
        self._keys.begin(pts)
        self._joins.begin(pts)
        self._latest = pts

    def interrupt(self) -> None:
        """The stream stops here and may come back with other times."""
        self.clock.interrupt()

    def _seconds(self, ticks: float) -> float:
        return float(ticks * self._tick)

    def since(self, ticks: int) -> str:
        """When that was, in s since the first picture."""
        return f"{self._after(ticks):.1f} s"

    def _after(self, ticks: int) -> float:
        return round(max(0.0, self._seconds(ticks - (self.clock.first or 0))), 1)

    # Values

    @property
    def is_read(self) -> bool:
        """Whether more than times and bytes can be measured."""
        return self._reader.knows_keyframes

    def _shown(self) -> Cadence:
        """The rhythm of all pictures so far."""
        return self.cadence.finished(self._order.sure())

    def _rate(self, shown: Cadence) -> tuple[float, float] | None:
        """Pictures a second, and how far that may be off: the mean, which is the usual rate where nothing is missing."""
        usual = shown.usual(self.declared.frame_rate if self.declared else None)
        gaps = self.clock.gaps
        if usual is None or (shown.even and not gaps):
            return usual
        waits = [self._order.unsure_at(leap.high) for leap in gaps]
        steps = shown.steps + len(gaps) + sum(unsure.pictures for unsure in waits)
        ticks = shown.ticks + sum(leap.low - leap.high for leap in gaps) + sum(unsure.ticks for unsure in waits)
        if ticks <= 0 or steps < 1:
            return usual
        span = self._seconds(ticks)
        return steps / span, self._seconds(self.clock.runs) / span * steps / span

    @property
    def frame_rate(self) -> float | None:
        """Pictures a second."""
        found = self._rate(self._shown())
        return found[0] if found else None

    @property
    def seconds(self) -> float:
        """How long the pictures last, the last one included."""
        usual = self._shown().usual(self.declared.frame_rate if self.declared else None)
        if not usual or not usual[0]:
            return self.clock.span
        # of pictures between which others may still come, each lasts as long as usual
        unsure = self._order.unsure({leap.high for leap in self.clock.gaps})
        return self.clock.span - self._seconds(unsure.ticks) + (self.clock.runs + unsure.pictures) / usual[0]

    def values(self) -> Found:
        """All that is known so far."""
        out: Found = {"video.codec": Measured(self.codec)}
        if self.pictures and self._reader.knows_keyframes:
            out["video.configured"] = Measured("no" if self.declared is None else "yes")
        if self.declared is not None:
            for name, value in self.declared.values.items():
                out[name] = Measured(value, also=tuple(way for way in self._ways[name] if way != value))
        if len(self._formats) > 1 and "video.size" in out:
            out["video.size"] = Measured(
                out["video.size"].value, note=self._told_formats(), also=out["video.size"].also
            )
        shown = self._shown()
        rate = self._rate(shown)
        if rate is not None:
            self._put_rates(out, shown, rate)
            self._put_bytes(out)
            self._put_level(out, rate[0] - max(rate[1], 0.004))
        if self._reader.knows_keyframes and self.pictures:
            self._put_structure(out)
            self._put_keyframes(out, rate[0] if rate else None)
        return out

    def _told_formats(self) -> str:
        """From when to when each picture format ran."""
        ends = [self.since(at) for at, _ in self._formats[1:]]
        parts = [f"{what} until {end}" for (_, what), end in zip(self._formats, ends, strict=False)]
        return f"{', then '.join(parts)}, then {self._formats[-1][1]}"

    def remarks(self) -> list[str]:
        """What changed in mid-stream, and what does not add up."""
        out = [f"the picture changes: {self._told_formats()}"] if len(self._formats) > 1 else []
        if self.damaged:
            out.append(f"{self.damaged} pictures have units inside whose lengths do not add up")
        return out

    def _put_rates(self, out: Found, shown: Cadence, rate: tuple[float, float]) -> None:
        usual = shown.usual(self.declared.frame_rate if self.declared else None) or rate
        gaps = self.clock.gaps
        even = shown.even and not gaps
        notes = []
        said = None
        if not even:
            said = round(usual[0], 3)
            notes.append(f"usually {said:g} fps")
            if len(shown.segments) > 1:
                rates = [(shown.rate(s) or (0.0, 0.0), s) for s in shown.segments]
                told = [f"{r[0]:.3g} fps from {self.since(s.begin)}" for r, s in rates[:_WAYS]]
                notes = [f"the rate changes: {', '.join(told)}"]
        value = measured("video.frame_rate", rate[0], uncertainty=rate[1] or None, note="; ".join(notes))
        lossy = len(shown.segments) < 2 and not shown.twofold
        out["video.frame_rate"] = Measured(value.value, None, value.uncertainty, value.note, usual=said, lossy=lossy)
        steps = self.clock.steps
        if steps > 1 and not shown.twofold:
            out["video.frame_rate_constant"] = Measured("yes" if even else "no")
        jitter = shown.jitter
        if jitter is not None:
            out["video.frame_jitter"] = measured("video.frame_jitter", jitter * 1000)
        if not steps:
            return
        slot = 1 / usual[0]
        longest, at = self._seconds(shown.longest), shown.longest_at
        missing, places = shown.missing, [(place.at, place.count) for place in shown.missing_at]
        for leap in gaps:
            length = self._seconds(leap.low - leap.high)
            count = max(0, round(length / slot) - 1) + self._order.unsure_at(leap.high).absent(slot / float(self._tick))
            missing += count
            places.append((leap.high, count))
            if length > longest:
                longest, at = length, leap.high
        note = f"after the picture at {self.since(at)}" if longest > 2.5 * slot else ""
        since = self._after(at) if note else None
        out["video.longest_gap"] = replace(measured("video.longest_gap", longest, note=note), since=since)
        if shown.twofold:  # two explanations fit: pictures that repeat, and pictures that only come in pairs
            return
        told_missing = ", ".join(f"{count} at {self.since(place)}" for place, count in sorted(places)[:_WAYS])
        first = self._after(min(places)[0]) if places else None
        out["video.pictures_missing"] = Measured(missing, note=told_missing if missing else "", since=first)
        told_again = ", ".join(self.since(place) for place in shown.repeated_at)
        out["video.pictures_repeated"] = Measured(shown.repeated, note=f"at {told_again}" if told_again else "")

    def _put_bytes(self, out: Found) -> None:
        seconds = self.seconds
        rate = self.bitrate.kbit_s(seconds)
        out["video.bitrate.mean"] = measured("video.bitrate.mean", rate)
        if seconds >= 1:
            out["video.bitrate.peak"] = measured("video.bitrate.peak", self.bitrate.peak_kbit_s)
        total = self.bitrate.bytes
        if total and seconds >= 1:
            each = total / seconds
            rise = self._curve.rise(each * float(self._tick))
            out["video.buffer"] = measured("video.buffer", rise / each)
        if total and self._reader.knows_keyframes:
            out["video.filler"] = measured("video.filler", self.filler / total)
        control, promise = self._rate_control(), self.declared.promise if self.declared else None
        if control is None:
            return
        note = ""
        if promise is not None and promise.constant != (control == "cbr"):
            kind = "CBR" if promise.constant else "VBR"
            note = f"the stream's header promises {kind} of {promise.bitrate // 1000} kbit/s"
        out["video.rate_control"] = Measured(control, note=note)

    def _put_level(self, out: Found, rate: float) -> None:
        """The level that size, rate, bitrate and references need, beside the one that is declared."""
        table = levels(self.codec)
        coded, mean = out.get("video.coded_size"), out.get("video.bitrate.mean")
        if table is None or coded is None or mean is None:
            return
        profile, tier, held = (out.get(f"video.{name}") for name in ("profile", "tier", "reference_frames"))
        references = int(held.value) if held is not None and not isinstance(held.value, str) else 1
        try:
            needed = table.lowest_level(
                *size_of(coded.value), rate, float(mean.value), str(profile.value) if profile else "", references,
                str(tier.value) if tier else "",
            )  # fmt: skip
        except BitstreamError:
            return
        out["video.level_needed"] = Measured(needed)
        level = out.get("video.level")
        if level is not None and ordered("video.level", level.value) < ordered("video.level", needed):
            out["video.level"] = Measured(level.value, note=f"the stream needs {needed}", also=level.also)

    def _put_structure(self, out: Found) -> None:
        out["video.b_frames"] = Measured(self._rows.longest)
        out["video.slices"] = Measured(self._slices)
        whole, fields = int(self._scans[Scan.WHOLE]), int(self._scans[Scan.FIELDS])
        if whole or fields:
            out["video.scan"] = Measured("mixed" if whole and fields else "interlaced" if fields else "progressive")
        top, bottom = int(self._parities[Parity.TOP]), int(self._parities[Parity.BOTTOM])
        if fields and (top or bottom):
            out["video.field_order"] = Measured("mixed" if top and bottom else "top" if top else "bottom")
        moving = self._motion.share()
        if moving is not None:
            out["video.moving"] = Measured("yes" if moving >= _MOVING else "no")
        elif self.pictures:
            out["video.moving"] = Measured("unknown")
        still = self._motion.still_since()
        if still is not None:
            begin = max(0.0, self._seconds(still * int(1 / self._tick) - self.clock.first_decoded))
            length = max(0.0, self._seconds(self.clock.last - self.clock.first_decoded) - begin)
            note = f"since {begin:.0f} s" if length else ""
            out["video.frozen"] = replace(measured("video.frozen", length, note=note), since=round(begin, 1) if length else None)
        elif moving is not None:
            out["video.frozen"] = measured("video.frozen", 0.0)
        if self._groups.open:
            out["video.gop_closed"] = Measured("no", note=f"first open group at {self.since(self._groups.open_at)}")
        elif self.keyframes or self.recovery_points:
            out["video.gop_closed"] = Measured("yes")

    def _put_keyframes(self, out: Found, rate: float | None) -> None:
        keys, name = self.key_intervals, "video.keyframe_interval"
        if len(keys):
            for part, value in (("min", keys.shortest), ("median", keys.quantile(0.5)), ("max", keys.longest)):
                out[f"{name}.{part}"] = measured(f"{name}.{part}", value)
        if not rate or not self.clock.count:
            return
        points = f", {self.recovery_points} recovery points" if self.recovery_points else ""
        note = f"no keyframe at all{points}" if not self.keyframes else "no further keyframe was seen"
        self._put_open(out, f"{name}.max", keys, self._keys, bool(self.keyframes), rate, note)
        joins = "video.join_interval.max"
        if len(self.join_intervals):
            out[joins] = measured(joins, self.join_intervals.longest)
        some = bool(self.keyframes or self.recovery_points)
        note = "nowhere to join" if not some else "no further place to join was seen"
        self._put_open(out, joins, self.join_intervals, self._joins, some, rate, note)

    def _put_open(self, out: Found, name: str, seen: Intervals, places: _Places, some: bool, rate: float, note: str) -> None:  # fmt: skip
        """The longest time without one, where it is at an end of what was seen: "at least"."""
        span = self._seconds(places.longest(self._latest, 1 / rate / float(self._tick)))
        longest = seen.longest if len(seen) else 0.0
        if not some or span > longest + 1 / rate:
            out[name] = measured(name, span, Bound.AT_LEAST, note=note)

    def _rate_control(self) -> str | None:
        """CBR when the stream keeps the constant bitrate and the buffer that its header promises.

        Or when the bitrate of each whole keyframe interval (of 1 to 10 s) is within 10 % of the mean; 3 are needed, and of fewer than 8
        each must be within 3 %.
        """
        if self._kept is not None and self._kept.promise.constant and self._kept.tells and not self._kept.broken:
            return "cbr"
        shares = self._evenness.deviations()
        if len(shares) < _CBR_WINDOWS:
            return None
        if len(shares) < _CBR_SURELY and _CBR_FEW < max(shares) <= _CBR:
            return None  # a quiet scene at a variable bitrate looks like this, too
        return "cbr" if sum(share > _CBR for share in shares) <= len(shares) // _CBR_EXCEPTIONS else "vbr"


@dataclass(frozen=True, slots=True)
class _Unsure:
    """Pictures at an end of a run between which others may belong that lie beyond it."""

    pictures: int = 0
    ticks: int = 0  # that they span, up to the nearest picture that is certain

    def __add__(self, other: _Unsure) -> _Unsure:
        return _Unsure(self.pictures + other.pictures, self.ticks + other.ticks)

    def absent(self, slot: float) -> int:
        """Pictures of ``slot`` ticks that did not come between them."""
        return max(0, round(self.ticks / slot) - self.pictures)


class _Order:
    """The times of pictures in order of presentation, as far as what they show is certain.

    A run is cut out of a stream at any place. What is shown before the latest decoding time has come, since no picture is
    shown before it is decoded; what is shown later waits for pictures that are decoded later and shown earlier. In the same
    way pictures that were decoded before the run began may be shown in its first moments: none behind a picture that
    needs nothing before it, else at most as late as pictures of this stream are held back.
    """

    def __init__(self) -> None:
        self._held = np.zeros(0, np.int64)
        self._reordered = False
        self._begun = False  # the run's first certain picture is known
        self._stands: int | None = None  # time of the run's first picture, where that needs nothing
        self._first = self._decoded = 0  # decoding times of the first and the latest picture
        self._delay = 0  # the most between decoding and presentation
        self._ahead = 0  # the most that a picture is presented before it is decoded, against all rules
        self._heads = _Unsure()
        self._tails: dict[int, _Unsure] = {}
        self._more = _Unsure()
        self._latest: int | None = None  # picture that was handed out

    def add(self, pts: Column, dts: Column, *, stands: bool) -> Column:
        """The next pictures in decoding order; ``stands``: the first one needs nothing. Returns those that are certain."""
        if self._latest is None and not len(self._held):
            self._stands, self._first = int(pts[0]) if stands else None, int(dts[0])
            self._begun = False
        self._decoded = int(dts[-1])
        late = pts - dts
        self._delay, self._ahead = max(self._delay, int(late.max())), min(self._ahead, int(late.min()))
        self._reordered = self._reordered or not np.array_equal(pts, dts)
        if not self._reordered and self._begun and not len(self._held):
            self._latest = int(pts[-1])
            return pts
        self._held = np.sort(np.concatenate([self._held, pts]))
        if len(self._held) <= 2 * _REORDER:
            return self._held[:0]
        self._begin()
        cut = len(self._held) - (_REORDER if self._reordered else 0)
        out, self._held = self._held[:cut], self._held[cut:]
        if len(out):
            self._latest = int(out[-1])
        return out

    def _start(self) -> int:
        """How many of the held pictures are shown before the run's first certain one."""
        if self._begun:
            return 0
        start = self._stands if self._stands is not None else self._first + self._delay
        return min(int(np.searchsorted(self._held, start)), len(self._held))

    def _begin(self) -> None:
        count = self._start()
        self._begun = True
        if count:
            after = int(self._held[min(count, len(self._held) - 1)])
            self._heads += _Unsure(count, after - int(self._held[0]))
            self._held = self._held[count:]

    def _sure(self) -> tuple[Column, Column]:
        """What is held: the pictures that are certain, and those behind them."""
        begin = self._start()
        end = max(begin, int(np.searchsorted(self._held, self._decoded + self._ahead, side="right")))
        return self._held[begin:end], self._held[end:]

    def sure(self) -> Column:
        """The pictures held that are certain by now."""
        return self._sure()[0]

    def _tail(self) -> _Unsure:
        found, rest = self._sure()
        if not len(rest):
            return _Unsure()
        last = int(found[-1]) if len(found) else self._latest
        if last is None:
            return _Unsure(len(rest) - 1, int(rest[-1] - rest[0]))
        return _Unsure(len(rest), int(rest[-1]) - last)

    def close(self) -> Column:
        """The run is over; returns what is certain of it."""
        out, tail = self._sure()[0], self._tail()
        begin = self._start()
        if begin and len(out):
            self._heads += _Unsure(begin, int(out[0] - self._held[0]))
        if tail.pictures:
            if len(self._tails) < _RUNS:
                self._tails[int(self._held[-1])] = tail
            else:
                self._more += tail
        self._held, self._latest = self._held[:0], None
        return out

    def unsure_at(self, high: int) -> _Unsure:
        """The end of the run whose last picture is shown at ``high``."""
        return self._tails.get(high, _Unsure())

    def unsure(self, apart: set[int]) -> _Unsure:
        """The ends of all runs, but for those whose last picture is shown at one of these times: there time ran on."""
        begin = self._start()
        found = self._sure()[0]
        head = _Unsure(begin, int(found[0] - self._held[0])) if begin and len(found) else _Unsure()
        tails = (tail for high, tail in self._tails.items() if high not in apart)
        return sum((self._more, self._tail(), *tails), self._heads + head)


class _Places:
    """Pictures at which something can begin, and the stretches at both ends of a run without one. In ticks."""

    def __init__(self) -> None:
        self._last: int | None = None
        self._start = 0
        self._open = 0.0

    def begin(self, at: int) -> None:
        """A run begins."""
        self._last, self._start = None, at

    def add(self, times: Column) -> Column:
        """Such pictures; returns the intervals between them."""
        if not len(times):
            return times
        if self._last is None:
            self._open = max(self._open, int(times[0]) - self._start)
            found = np.diff(times)
        else:
            found = np.diff(times, prepend=self._last)
        self._last = int(times[-1])
        return found

    def close(self, latest: int, slot: float) -> None:
        """The run ends with a picture at ``latest`` that lasts a slot."""
        self._open = self.longest(latest, slot)

    def longest(self, latest: int, slot: float) -> float:
        """The longest stretch at an end of a run, up to ``latest`` in the present one, where a picture lasts a slot."""
        return max(self._open, latest + slot - (self._start if self._last is None else self._last))


class _Groups:
    """Whether pictures that are shown before the picture at which one joins may refer to what lay before it."""

    def __init__(self) -> None:
        self.open = 0
        self.open_at = 0
        self._anchor: int | None = (
            None  # presentation time of the latest picture that refers to nothing, if it is no keyframe
        )

    def add(self, found: Pictures, pts: Column) -> None:
        """The next pictures in decoding order."""
        stands = found.anchor | (found.join == Join.KEYFRAME)
        if self._anchor is None and not found.anchor.any():
            return
        number = np.cumsum(stands)
        starts = np.flatnonzero(stands)
        no = np.iinfo(np.int64).min
        level = np.array(
            [no if self._anchor is None else self._anchor, *np.where(found.anchor[starts], pts[starts], no)]
        )
        refers = found.motion != Motion.UNKNOWN
        leading = np.flatnonzero(refers & (pts < level[number]))
        if len(leading):
            if not self.open:
                self.open_at = int(level[number[leading[0]]])
            self.open += len(leading)
        last = int(level[-1])
        self._anchor = None if last == no else last


class _Seconds:
    """In how many seconds pictures add something to those before them."""

    def __init__(self, ticks_a_second: int) -> None:
        self._ticks = ticks_a_second
        self._second: int | None = None
        self._now = np.zeros(len(Motion), np.int64)
        self._still = self._moving = 0
        self._since: int | None = None  # second from which on the picture has stood still

    def add(self, times: Column, motion: Codes) -> None:
        """The next pictures."""
        seconds = times // self._ticks
        starts = np.flatnonzero(np.diff(seconds, prepend=seconds[0] - 1)).tolist() if len(seconds) else []
        for begin, end in itertools.pairwise([*starts, len(seconds)]):
            if int(seconds[begin]) != self._second:
                self._since = self.still_since()
                self._still, self._moving = self._sums()
                self._now[:] = 0
                self._second = int(seconds[begin])
            self._now += np.bincount(motion[begin:end], minlength=len(Motion))

    def _sums(self) -> tuple[int, int]:
        still, some = int(self._now[Motion.STILL]), int(self._now[Motion.SOME])
        return self._still + (still > some), self._moving + (0 < some >= still)

    def still_since(self) -> int | None:
        """The second from which on the picture has stood still, after it moved; None: it moves, or never did."""
        still, some = int(self._now[Motion.STILL]), int(self._now[Motion.SOME])
        if still > some:
            return self._since if self._since is not None or not self._moving else self._second
        return None

    def share(self) -> float | None:
        """The share of seconds in which more pictures move than stand still; None before enough was seen."""
        still, moving = self._sums()
        return moving / (still + moving) if still + moving >= _MOVING_AFTER else None


class _Rows:
    """The longest row of pictures that refer to two others."""

    def __init__(self) -> None:
        self.longest = 0
        self._now = 0  # in the row that is not over
        self._before_last = 0  # in the row that the last picture ended

    def add(self, marks: Marks, *, late: bool = False) -> None:
        """The next pictures; ``late``: the last one before them belongs to a row after all."""
        if late and not self._now:
            self._now = self._before_last + 1
            self.longest = max(self.longest, self._now)
        if not len(marks):
            return
        others = np.flatnonzero(~marks)
        if not len(others):
            self._now += len(marks)
            self.longest = max(self.longest, self._now)
            return
        rows = np.diff(others) - 1
        first, last = self._now + int(others[0]), len(marks) - 1 - int(others[-1])
        self.longest = max(self.longest, first, int(rows.max(initial=0)), last)
        self._before_last = int(rows[-1]) if len(rows) else first
        self._now = last
