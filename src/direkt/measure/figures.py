"""Running figures of bounded size: intervals, bitrates and the clock of a stream of any length.

All take columns of whole ticks, a batch at a time, and cost a few array operations for each.
"""

from __future__ import annotations

import itertools
import math
from collections import Counter
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from direkt.media import Column, Times
from direkt.parameters import PEAK_WINDOW

_WINDOWS = 4096
_KINDS_OF_INTERVAL = 100_000
_COARSE = Fraction(1, 100)  # s, to which intervals are rounded when there are far too many kinds
_GRAIN = 0.0005  # s that rounded time stamps may be off

# Frame rates in use; a measured rate becomes one of them only when the time stamps cannot tell them apart.
STANDARD_RATES = (
    *(Fraction(n) for n in (5, 10, 12, 15, 20, 24, 25, 30, 48, 50, 60, 90, 100, 120)),
    *(Fraction(n * 1000, 1001) for n in (15, 24, 30, 60, 120)),
    Fraction(25, 2),
)


class Intervals:
    """How often each length of time was seen."""

    def __init__(self, tick: Fraction) -> None:
        self._tick = tick
        self._seen: Counter[int] = Counter()

    def add(self, ticks: Column) -> None:
        """Intervals; when there are far too many different ones, they are rounded to 10 ms."""
        if not len(ticks):
            return
        if len(self._seen) > _KINDS_OF_INTERVAL:
            coarse = max(1, round(_COARSE / self._tick))
            ticks = (ticks + coarse // 2) // coarse * coarse
        kinds, counts = np.unique(ticks, return_counts=True)
        for kind, count in zip(kinds.tolist(), counts.tolist(), strict=True):
            self._seen[int(kind)] += count

    def __len__(self) -> int:
        return self._seen.total()

    def _seconds(self, ticks: float) -> float:
        return float(ticks * self._tick)

    @property
    def shortest(self) -> float:
        """In s; only when there is one."""
        return self._seconds(min(self._seen))

    @property
    def longest(self) -> float:
        """In s; only when there is one."""
        return self._seconds(max(self._seen))

    def quantile(self, share: float) -> float:
        """The smallest interval (s) that at least ``share`` of all do not exceed."""
        return self._seconds(_quantile(self._seen, share))


def _quantile(seen: Counter[int] | Counter[float], share: float) -> float:
    wanted = share * seen.total()
    so_far = 0
    for kind, count in sorted(seen.items()):
        so_far += count
        if so_far >= wanted - 1e-9:
            return kind
    raise ValueError("no intervals")


class Bitrate:
    """Bytes over time: the total, and the fullest window of PEAK_WINDOW."""

    def __init__(self, tick: Fraction) -> None:
        self._window = math.ceil(Fraction(PEAK_WINDOW - _GRAIN).limit_denominator(10**6) / tick)  # ticks
        self.bytes = 0
        self.peak = 0  # bytes in the fullest window
        self._times = np.zeros(0, np.int64)  # of the last window
        self._sizes = np.zeros(0, np.int64)

    def add(self, times: Column, sizes: Column) -> None:
        """Bytes ``sizes`` at ``times`` (not falling), behind what came before."""
        if not len(times):
            return
        self.bytes += int(sizes.sum())
        new = len(self._times)
        times, sizes = np.concatenate([self._times, times]), np.concatenate([self._sizes, sizes])
        before = np.concatenate([[0], np.cumsum(sizes)])
        tails = np.searchsorted(times, times[new:] - self._window, side="right")
        self.peak = max(self.peak, int((before[new + 1 :] - before[tails]).max()))
        self._times, self._sizes = times[tails[-1] :], sizes[tails[-1] :]

    def new_stretch(self) -> None:
        """Times start anew: no window spans the gap."""
        self._times = self._sizes = np.zeros(0, np.int64)

    def recent(self) -> float:
        """kbit/s over the last window."""
        return float(self._sizes.sum()) * 8 / 1000 / PEAK_WINDOW

    def kbit_s(self, seconds: float) -> float:
        """Mean over ``seconds`` (above 0)."""
        return self.bytes * 8 / seconds / 1000

    @property
    def peak_kbit_s(self) -> float:
        """kbit/s in the fullest window."""
        return self.peak * 8 / 1000 / PEAK_WINDOW


class Evenness:
    """How evenly bytes come: the bitrate in windows that are whole keyframe intervals, of 1 to 10 s.

    At most 4096 windows are kept; then two are taken together.
    """

    SHORTEST, LONGEST = 1.0, 10.0  # s

    def __init__(self, tick: Fraction) -> None:
        self._tick = tick
        self._shortest, self._longest = (math.ceil(Fraction(s) / tick) for s in (self.SHORTEST, self.LONGEST))
        self._begin: int | None = None  # of the window that is not over
        self._bytes = 0  # in it
        self.windows: list[tuple[int, int]] = []  # bytes and ticks

    def add(self, times: Column, sizes: Column, keys: Column) -> None:
        """Bytes at ``times``; ``keys``: the samples with which a window may begin. Costs O(windows)."""
        if not len(times):
            return
        before = np.concatenate([[0], np.cumsum(sizes)])
        at = 0
        if self._begin is None:
            if not len(keys):
                return
            at = int(keys[0])
            self._begin, self._bytes = int(times[at]), 0
        starts = times[keys]
        while True:
            n = int(np.searchsorted(starts, self._begin + self._shortest))
            late = int(np.searchsorted(times, self._begin + self._longest))
            cut = min(int(keys[n]) if n < len(keys) else len(times), late)
            self._bytes += int(before[max(cut, at)] - before[at])
            if cut >= len(times):
                return
            self.windows.append((self._bytes, int(times[cut]) - self._begin))
            self._begin, self._bytes, at = int(times[cut]), 0, cut
            if len(self.windows) > _WINDOWS:
                halves = itertools.zip_longest(self.windows[::2], self.windows[1::2], fillvalue=(0, 0))
                self.windows = [(a[0] + b[0], a[1] + b[1]) for a, b in halves]

    def new_stretch(self) -> None:
        """Times start anew: no window spans the gap."""
        self._begin = None

    def deviations(self) -> list[float]:
        """By which share each window's bitrate differs from the mean."""
        total, ticks = (sum(w[n] for w in self.windows) for n in (0, 1))
        if not total:
            return []
        return [abs(size / span * ticks / total - 1) for size, span in self.windows]


@dataclass(slots=True)
class Leap:
    """A step of time that is too long for a gap by itself."""

    begin: int  # decoding time in front of it, ticks
    end: int  # and behind it
    high: int  # latest presentation time in front of it
    low: int  # earliest behind it
    waited: bool | None  # nothing came for as long: it was a wait; None: when it came is not known
    gap: bool = False  # time ran on meanwhile, as another track shows


_LEAPS = 256  # that are remembered


class TrackClock:
    """The time stamps of one track: how long its unbroken runs lasted, and where they do not run on evenly."""

    JUMP = 2.0  # s that time may step forward before something else must show that it ran on

    def __init__(self, tick: Fraction) -> None:
        self.tick = tick
        self.first: int | None = None  # presentation time of the first sample, ticks
        self.first_decoded = 0  # its decoding time
        self.last = 0  # decoding time of the latest sample, ticks
        self.count = 0
        self.backward = 0
        self.repeated = 0
        self.falls: list[tuple[int, int]] = []  # decoding time in front of a step backward, and how far it goes, ticks
        self.leaps: list[Leap] = []
        self._more_leaps = 0
        self._runs = 0
        self._steps = 0  # intervals inside runs
        self._jump = int(Fraction(self.JUMP) / tick)
        self._ticks = 0  # inside runs, by presentation time
        self._low = self._high = 0
        self._open = False
        self._behind: Leap | None = None  # with which the present run began
        self._counted: int | None = None  # decoding time of the latest that counts
        self._arrived = 0.0

    def add(
        self, dts: Column, pts: Column, counted: Column | None = None, arrival: Times | None = None
    ) -> list[int]:  # fmt: skip
        """Samples in decoding order; returns which of them begin a new run.

        ``counted``: the samples that count (in which a picture begins); None: all. ``arrival``: s of a steady clock.
        """
        if not len(dts):
            return []
        if self.first is None:
            self.first, self.first_decoded = int(pts[0]), int(dts[0])
        steps = np.diff(dts, prepend=self.last if self._open else dts[0])
        broken = np.flatnonzero((steps < 0) | (steps > self._jump))
        self.backward += int((steps[broken] < 0).sum())
        for at in broken[steps[broken] < 0][: _LEAPS - len(self.falls)].tolist():
            self.falls.append((int(dts[at] - steps[at]), int(-steps[at])))
        begins: list[int] = broken.tolist()
        if not self._open:
            begins = [0, *begins]
        stamps = dts if counted is None else dts[counted]
        if len(stamps):
            again = np.diff(stamps) == 0
            self.repeated += int(again.sum()) + (self._open and self._counted == int(stamps[0]))
            self._counted = int(stamps[-1])
        last, self.last, self._open = self.last, int(dts[-1]), True
        self.count += len(dts)
        edges = [*begins, len(dts)]
        if edges[0]:
            self._extend(pts[: edges[0]], _between(counted, 0, edges[0]))
        for begin, end in itertools.pairwise(edges):
            self._behind = None
            if steps[begin] > self._jump:
                came = None
                if arrival is not None:
                    came = float(arrival[begin] - (arrival[begin - 1] if begin else self._arrived))
                self._leap(int(dts[begin - 1]) if begin else last, int(dts[begin]), int(pts[begin]), came)
            self._low = self._high = int(pts[begin])
            self._runs += 1
            self._extend(pts[begin:end], max(0, _between(counted, begin, end) - 1))
        if arrival is not None:
            self._arrived = float(arrival[-1])
        return begins

    def _leap(self, begin: int, end: int, low: int, came: float | None) -> None:
        if len(self.leaps) >= _LEAPS:
            self._more_leaps += 1
            return
        waited = None if came is None else came > float((end - begin) * self.tick) / 2
        self._behind = Leap(begin, end, self._high, low, waited)
        self.leaps.append(self._behind)

    def _extend(self, pts: Column, steps: int) -> None:
        """The present run goes on with these presentation times."""
        low, high = min(self._low, int(pts.min())), max(self._high, int(pts.max()))
        self._ticks += self._low - low + high - self._high
        self._low, self._high = low, high
        self._steps += steps
        if self._behind is not None:
            self._behind.low = min(self._behind.low, low)

    def interrupt(self) -> None:
        """What comes next is a new run, and rightly so."""
        self._open = False

    def bridge(self, other: TrackClock | None) -> None:
        """Tells gaps from jumps: in a gap nothing came meanwhile, or the other track ran on."""
        for leap in self.leaps:
            leap.gap = bool(leap.waited) or (
                other is not None and other.runs_through(leap.begin * self.tick, leap.end * self.tick)
            )

    def runs_through(self, begin: Fraction, end: Fraction) -> bool:
        """Whether this track's time goes from ``begin`` to ``end`` (s) without a leap of its own."""
        if self.first is None or self.first_decoded * self.tick > begin or self.last * self.tick < end or self.backward:
            return False
        half = (end - begin) / 2
        return all(min(leap.end * self.tick, end) - max(leap.begin * self.tick, begin) < half for leap in self.leaps)

    @property
    def gaps(self) -> list[Leap]:
        """The leaps in which time ran on."""
        return [leap for leap in self.leaps if leap.gap]

    @property
    def jumps(self) -> int:
        """The leaps that are none."""
        return len(self.leaps) - len(self.gaps) + self._more_leaps

    def breaks(self, backward: bool) -> list[tuple[float, float]]:
        """Where the stamps do not run on, s since the first, and by how much, s: the steps backward, or the jumps."""
        found = self.falls if backward else [(leap.begin, leap.end - leap.begin) for leap in self.leaps if not leap.gap]
        return [(float((at - self.first_decoded) * self.tick), float(length * self.tick)) for at, length in found]

    @property
    def pauses(self) -> bool:
        """Whether a jump may as well be a pause: nobody saw when it came."""
        return any(leap.waited is None and not leap.gap for leap in self.leaps)

    @property
    def runs(self) -> int:
        """Unbroken runs."""
        return self._runs - len(self.gaps)

    @property
    def steps(self) -> int:
        """Intervals inside runs."""
        return self._steps + len(self.gaps)

    @property
    def span(self) -> float:
        """s inside runs, by presentation time."""
        return float((self._ticks + sum(max(0, leap.low - leap.high) for leap in self.gaps)) * self.tick)


def _between(counted: Column | None, begin: int, end: int) -> int:
    if counted is None:
        return end - begin
    return int(np.searchsorted(counted, end) - np.searchsorted(counted, begin))
