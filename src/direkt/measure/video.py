"""Measures the pictures of a stream: rate, keyframes, bitrate and order, by what its codec's reader finds.

A keyframe is what the reader calls one, whatever the container claims. A batch costs a few array operations.
"""

from __future__ import annotations

import itertools

import numpy as np

from direkt.codec.reader import Declared, Join, Pictures, Remark, Scan, VideoReader, video_reader
from direkt.measure.figures import Bitrate, Clock, Evenness, Intervals
from direkt.media import Column, Format, Marks, Samples
from direkt.parameters import Bound, Measured, measured

_REORDER = 17  # pictures: more than any decoder may hold back (H.264, A.3.1)
_CBR = 0.1  # share by which a window of a constant bitrate may differ from the mean
_CBR_EXCEPTIONS = 50  # windows of which one may differ more
_CBR_WINDOWS = 3  # that are needed to tell
_JITTER_SHARE = 0.99

Found = dict[str, Measured]


class VideoMeter:
    """Takes a video track's format and samples; ``remark`` is told what does not fit."""

    def __init__(self, format: Format, remark: Remark) -> None:
        self._remark = remark
        self.codec = format.codec
        self._reader: VideoReader = video_reader(format, remark)
        self.declared: Declared | None = None
        tick = self._tick = format.tick
        self.clock = Clock(tick)
        self.bitrate = Bitrate(tick)
        self._evenness = Evenness(tick)
        self.intervals = Intervals(tick)
        self.key_intervals = Intervals(tick)
        self.pictures = self.keyframes = self.recovery_points = self.damaged = 0
        self.marked = self.marked_wrong = 0  # pictures that the source calls keyframes
        self._whole = self._fields = 0
        self._key_time: int | None = None
        self._run_start = self._latest = 0
        self._longest_open = 0.0
        self._rows = _Rows()
        self._held = np.zeros(0, np.int64)
        self._shown: int | None = None
        self._reordered = False
        self.configure(format)

    def configure(self, format: Format) -> None:
        """The same codec, configured anew. A record that cannot be read is remarked on."""
        self._reader.configure(format)
        if self.declared is None:
            self.declared = self._reader.declared

    def add(self, samples: Samples) -> None:
        """The next batch."""
        found = self._reader.read(samples)
        self.damaged += found.damaged
        for number, declared in found.changes:
            self._change(declared, samples, int(found.first[number]))
        if self.declared is None:
            self.declared = self._reader.declared
        self._count(found, samples)
        begins = self.clock.add(samples.dts, samples.pts, found.first)
        edges = [*begins, len(samples)]
        if edges[0]:
            self._stretch(samples, found, 0, edges[0])
        for begin, end in itertools.pairwise(edges):
            self._new_run(int(samples.pts[begin]))
            self._stretch(samples, found, begin, end)

    def _change(self, declared: Declared, samples: Samples, at: int) -> None:
        old = self.declared
        if old is not None and self.pictures and old.summary != declared.summary:
            seconds = float((samples.pts[at] - (self.clock.first or 0)) * self._tick)
            self._remark(f"the picture changes from {old.summary} to {declared.summary} after {seconds:.1f} s")
        self.declared = declared

    def _count(self, found: Pictures, samples: Samples) -> None:
        marked = samples.marked[found.first]
        keys = found.join == Join.KEYFRAME
        self.pictures += len(keys)
        self.keyframes += int(keys.sum())
        self.recovery_points += int((found.join == Join.RECOVERY).sum())
        self.marked += int(marked.sum())
        self.marked_wrong += int((marked & ~keys).sum())
        self._whole += int((found.scan == Scan.WHOLE).sum())
        self._fields += int((found.scan == Scan.FIELDS).sum())
        self._rows.add(found.bipredicted, late=found.late_bipredicted)

    def _stretch(self, samples: Samples, found: Pictures, begin: int, end: int) -> None:
        """Samples ``begin`` to ``end`` of a batch, all of one unbroken run."""
        self.bitrate.add(samples.dts[begin:end], samples.size[begin:end])
        low, high = np.searchsorted(found.first, [begin, end])
        self._even(samples, found, begin, end)
        if low == high:
            return
        starts = found.first[low:high]
        pts = samples.pts[starts]
        self._show(pts, samples.dts[starts])
        keys = pts[found.join[low:high] == Join.KEYFRAME]
        if len(keys):
            if self._key_time is None:
                self._longest_open = max(self._longest_open, self._seconds(int(keys[0]) - self._run_start))
                self.key_intervals.add(np.diff(keys))
            else:
                self.key_intervals.add(np.diff(keys, prepend=self._key_time))
            self._key_time = int(keys[-1])
        self._latest = max(self._latest, int(pts.max()))

    def _even(self, samples: Samples, found: Pictures, begin: int, end: int) -> None:
        """Counts bytes in windows that begin with keyframes, or with any picture where nothing is known of those."""
        starts = found.first
        if self._reader.knows_keyframes:
            starts = starts[found.join == Join.KEYFRAME]
        starts = starts[(starts >= begin) & (starts < end)] - begin
        self._evenness.add(samples.dts[begin:end], samples.size[begin:end], starts)

    def _show(self, pts: Column, dts: Column) -> None:
        """Counts the intervals that a viewer sees: in order of presentation."""
        if self._reordered or not np.array_equal(pts, dts):
            self._reordered = True
            pts = np.sort(np.concatenate([self._held, pts]))
            cut = max(0, len(pts) - _REORDER)
            pts, self._held = pts[:cut], pts[cut:]
        self._pass(pts)

    def _pass(self, pts: Column) -> None:
        if len(pts):
            steps = np.diff(pts) if self._shown is None else np.diff(pts, prepend=self._shown)
            self.intervals.add(np.maximum(steps, 0))
            self._shown = int(pts[-1])

    def _new_run(self, pts: int) -> None:
        if self.clock.runs > 1 or self._key_time is not None:
            self._longest_open = max(self._longest_open, self._open_stretch())
        self._pass(self._held)
        self._held = np.zeros(0, np.int64)
        self.bitrate.new_stretch()
        self._evenness.new_stretch()
        self._key_time = self._shown = None
        self._run_start = self._latest = pts

    def interrupt(self) -> None:
        """The stream stops here and may come back with other times."""
        self.clock.interrupt()

    def _seconds(self, ticks: int) -> float:
        return float(ticks * self._tick)

    def _open_stretch(self) -> float:
        """How long ago (s) the last keyframe was, with nothing known of the next."""
        if not self.clock.count:
            return 0.0
        since = self._run_start if self._key_time is None else self._key_time
        rate = self.frame_rate
        return self._seconds(self._latest - since) + (1 / rate if rate else 0.0)

    # Values

    @property
    def is_read(self) -> bool:
        """Whether more than times and bytes can be measured."""
        return self._reader.knows_keyframes

    def _rate(self) -> tuple[float, float] | None:
        return self.clock.rate(self.declared.frame_rate if self.declared else None)

    @property
    def frame_rate(self) -> float | None:
        """Pictures a second."""
        found = self._rate()
        return found[0] if found else None

    @property
    def seconds(self) -> float:
        """How long the pictures last, the last one included."""
        rate = self.frame_rate
        return self.clock.span + self.clock.runs / rate if rate else self.clock.span

    def values(self) -> Found:
        """All that is known so far."""
        out: Found = {"video.codec": Measured(self.codec)}
        if self.declared is not None:
            out |= {name: Measured(value) for name, value in self.declared.values.items()}
        self._put_rates(out)
        if self._reader.knows_keyframes and self.pictures:
            out["video.b_frames"] = Measured(self._rows.longest)
            if self._fields or self._whole:
                scan = "mixed" if self._whole and self._fields else "interlaced" if self._fields else "progressive"
                out["video.scan"] = Measured(scan)
            self._put_keyframes(out)
        return out

    def _put_rates(self, out: Found) -> None:
        rate = self._rate()
        if rate is None:
            return
        out["video.frame_rate"] = measured("video.frame_rate", rate[0], uncertainty=rate[1] or None)
        if len(self.intervals) > 1:
            jitter = self.intervals.deviation(1 / rate[0], _JITTER_SHARE)
            out["video.frame_jitter"] = measured("video.frame_jitter", jitter * 1000)
        seconds = self.seconds
        out["video.bitrate.mean"] = measured("video.bitrate.mean", self.bitrate.kbit_s(seconds))
        if seconds >= 1:
            out["video.bitrate.peak"] = measured("video.bitrate.peak", self.bitrate.peak_kbit_s)
        control = self._rate_control()
        if control is not None:
            promise = self.declared.promise if self.declared else None
            note = ""
            if promise is not None and promise.constant != (control == "cbr"):
                kind = "CBR" if promise.constant else "VBR"
                note = f"the stream's header promises {kind} of {promise.bitrate // 1000} kbit/s"
            out["video.rate_control"] = Measured(control, note=note)

    def _put_keyframes(self, out: Found) -> None:
        if self.recovery_points:
            out["video.gop_closed"] = Measured("no")
        elif self.keyframes:
            out["video.gop_closed"] = Measured("yes")
        keys, name = self.key_intervals, "video.keyframe_interval"
        if len(keys):
            for part, value in (("min", keys.shortest), ("median", keys.quantile(0.5)), ("max", keys.longest)):
                out[f"{name}.{part}"] = measured(f"{name}.{part}", value)
        rate = self.frame_rate
        if not rate:
            return
        span = max(self._longest_open, self._open_stretch())
        longest = keys.longest if len(keys) else 0.0
        if not self.keyframes or span > longest + 1 / rate:
            points = f", {self.recovery_points} recovery points" if self.recovery_points else ""
            note = f"no keyframe at all{points}" if not self.keyframes else "no further keyframe was seen"
            out[f"{name}.max"] = measured(f"{name}.max", span, Bound.AT_LEAST, note=note)

    def _rate_control(self) -> str | None:
        """CBR when the bitrate of each whole keyframe interval (of 1 to 10 s) is within 10 % of the mean; 3 are needed."""
        shares = self._evenness.deviations()
        if len(shares) < _CBR_WINDOWS:
            return None
        return "cbr" if sum(share > _CBR for share in shares) <= len(shares) // _CBR_EXCEPTIONS else "vbr"


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
