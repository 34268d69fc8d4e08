"""Running figures of bounded size: intervals and bitrates of a stream of any length."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Iterable, Sequence
from fractions import Fraction

_BUCKETS = 4096
_KINDS_OF_INTERVAL = 100_000

# Frame rates in use; a measured rate becomes one of them only when the time stamps cannot tell them apart.
STANDARD_RATES = tuple(
    float(rate)
    for rate in (
        *(Fraction(n) for n in (5, 10, 12, 15, 20, 24, 25, 30, 48, 50, 60, 90, 100, 120)),
        *(Fraction(n * 1000, 1001) for n in (15, 24, 30, 60, 120)),
        Fraction(25, 2),
    )
)


class Intervals:
    """How often each length of time was seen, to a hundredth of a millisecond."""

    def __init__(self) -> None:
        self._seen: Counter[int] = Counter()

    def add(self, seconds: float) -> None:
        """One interval (s)."""
        self.add_all((seconds,))

    def add_all(self, seconds: Iterable[float]) -> None:
        """Intervals (s); when there are far too many different ones, they are counted to the next 10 ms."""
        if len(self._seen) > _KINDS_OF_INTERVAL:
            self._seen.update([round(s * 100) * 1000 for s in seconds])
        else:
            self._seen.update([round(s * 100_000) for s in seconds])

    def __len__(self) -> int:
        return self._seen.total()

    @property
    def shortest(self) -> float:
        """In s; only when there is one."""
        return min(self._seen) / 100_000

    @property
    def longest(self) -> float:
        """In s; only when there is one."""
        return max(self._seen) / 100_000

    def quantile(self, share: float) -> float:
        """The smallest interval (s) that at least ``share`` of all do not exceed."""
        return _quantile(self._seen, share) / 100_000

    def strays(self, usual: float, share: float) -> float:
        """How far (s) from ``usual`` at most ``share`` of the intervals stray."""
        away: Counter[int] = Counter()
        for key, count in self._seen.items():
            away[round(abs(key - usual * 100_000))] += count
        return _quantile(away, share) / 100_000


def _quantile(seen: Counter[int], share: float) -> int:
    wanted = share * seen.total()
    so_far = 0
    for key in sorted(seen):
        so_far += seen[key]
        if so_far >= wanted - 1e-9:
            return key
    raise ValueError("no intervals")


class Bitrate:
    """Bytes over time: the total, the highest second, and a coarse course of at most 4096 buckets."""

    def __init__(self) -> None:
        self.bytes = 0
        self.peak = 0  # bytes in the fullest second
        self.bucket_seconds = 1.0
        self.course: list[int] = []  # bytes in each bucket
        self._times: list[float] = []  # of the last second
        self._sizes: list[int] = []
        self._start: float | None = None
        self._offset = 0.0  # what earlier stretches lasted
        self._last = 0.0

    def add_all(self, times: Sequence[float], sizes: Sequence[int]) -> None:
        """Bytes ``sizes`` at ``times`` (s, not falling), behind what came before."""
        if not times:
            return
        if self._start is None:
            self._start = times[0]
        self._slide([*self._times, *times], [*self._sizes, *sizes], len(self._times))
        self.bytes += sum(sizes)
        shift = self._offset - self._start
        self._last = times[-1] + shift
        self._add_course(times, sizes, shift)

    def _slide(self, times: list[float], sizes: list[int], new: int) -> None:
        """Moves a window of one second over the samples from number ``new`` on."""
        within, tail, peak = sum(sizes[:new]), 0, self.peak
        for n in range(new, len(times)):
            within += sizes[n]
            edge = times[n] - 0.9995  # half a millisecond for rounded time stamps
            while times[tail] <= edge:
                within -= sizes[tail]
                tail += 1
            if within > peak:
                peak = within
        self.peak = peak
        self._times, self._sizes = times[tail:], sizes[tail:]

    def _add_course(self, times: Sequence[float], sizes: Sequence[int], shift: float) -> None:
        length, course = self.bucket_seconds, self.course
        for time, size in zip(times, sizes, strict=True):
            bucket = int((time + shift) / length)
            if bucket >= len(course):
                if bucket > 2 * _BUCKETS:
                    return  # a jump of hours: there is no course of such a stream
                course.extend([0] * (bucket + 1 - len(course)))
                if len(course) > _BUCKETS:
                    course[:] = [sum(course[n : n + 2]) for n in range(0, len(course), 2)]
                    length = self.bucket_seconds = length * 2
                    bucket //= 2
            course[bucket] += size

    def recent(self) -> float:
        """kbit/s over the last second."""
        return sum(self._sizes) * 8 / 1000

    def new_stretch(self) -> None:
        """Times start anew: no second spans the gap."""
        self._times, self._sizes = [], []
        if self._start is not None:
            self._offset = self._last
            self._start = None

    def windows(self, seconds: float) -> list[int]:
        """Bytes in each whole window of about ``seconds`` (s, at least a bucket)."""
        step = max(1, round(seconds / self.bucket_seconds))
        whole = len(self.course) - 1  # the last bucket is not full yet
        return [sum(self.course[n : n + step]) for n in range(0, whole - step + 1, step)]


class Clock:
    """The time stamps of one track: how long its unbroken runs lasted, and where they do not run on evenly."""

    JUMP = 1.0  # s that time may step forward before it counts as a jump

    def __init__(self) -> None:
        self.first: float | None = None
        self.last = 0.0  # decoding time of the latest sample
        self.count = 0
        self.runs = 0
        self.steps = 0  # intervals inside runs
        self.span = 0.0  # s inside runs, by presentation time
        self.backward = 0
        self.jumps = 0
        self._low = self._high = 0.0
        self._open = False

    def add_all(self, dts: Sequence[float], pts: Sequence[float]) -> list[int]:
        """Samples in decoding order; returns which of them begin a new run."""
        if not dts:
            return []
        if self.first is None:
            self.first = pts[0]
        begins = [] if self._open else [0]
        last, jump = (self.last if self._open else dts[0]), self.JUMP
        for n, time in enumerate(dts):
            if not 0.0 <= time - last <= jump:
                begins.append(n)
                if time < last:
                    self.backward += 1
                else:
                    self.jumps += 1
            last = time
        self.last, self._open = last, True
        self.count += len(dts)
        edges = [*begins, len(dts)]
        if edges[0]:
            self._extend(pts[: edges[0]], edges[0])
        for begin, end in itertools.pairwise(edges):
            self._low = self._high = pts[begin]
            self.runs += 1
            self._extend(pts[begin:end], end - begin - 1)
        return begins

    def _extend(self, pts: Sequence[float], steps: int) -> None:
        """The present run goes on with these presentation times."""
        low, high = min(self._low, min(pts)), max(self._high, max(pts))
        self.span += self._low - low + high - self._high
        self._low, self._high = low, high
        self.steps += steps

    def interrupt(self) -> None:
        """What comes next is a new run, and rightly so."""
        self._open = False

    def rate(self, time_step: float, claimed: float | None) -> float | None:
        """Samples a second; ``time_step``: how coarse the time stamps are (s, 0 for exact)."""
        if self.steps < 1 or self.span <= 0:
            return None
        raw = self.steps / self.span
        slack = time_step * self.runs * 1.001
        low = self.steps / (self.span + slack) - 1e-6
        high = self.steps / (self.span - slack) + 1e-6 if self.span > slack else raw
        if claimed and low <= claimed <= high:
            return claimed
        fitting = [rate for rate in STANDARD_RATES if low <= rate <= high]
        return fitting[0] if len(fitting) == 1 else raw
