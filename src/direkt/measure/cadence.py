"""The rhythm of the pictures as they are shown: their usual rate, what is missing, what repeats, and how even it is.

Strategy. Pictures lie on a grid of equal slots. Where each lies follows from where those before it lay, smoothed, so a
jittering clock does not move the grid; the slot's length is then found by regression of the times over the slots, so
missing pictures do not bend it. A window of 32 steps that the slot does not fit opens a new segment with a slot of its
own. Steps are held back until what follows them is known. O(pictures): a few array operations for each batch, and a step
of Python for each picture only where a batch is uneven. Memory is bounded.
"""

from __future__ import annotations

import copy
import math
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from direkt.measure.figures import STANDARD_RATES, Intervals
from direkt.media import Column, Times

_WINDOW = 32  # steps that show a change of rate
_AHEAD = 80  # steps that are held back
_LEARN = 64  # steps from which a slot is learned
_CHANGE = 0.025  # share by which a slot must differ to be another
_SEGMENTS = 24  # that are told apart
_PLACES = 8  # of a kind that are remembered
_FINE = 8  # parts of a tick in which jitter is counted
_SIGMAS = 3.5
_JITTER_SHARE = 0.99
_EVEN = 0.4  # share of a slot by which steps may differ so that no picture can be missing
_FOLLOW = 0.15  # share of a picture's deviation by which the grid follows it
_WEIGHTS = _FOLLOW * (1 - _FOLLOW) ** np.arange(32)


@dataclass(slots=True)
class Segment:
    """A stretch of one rate. Times are ticks of presentation."""

    slot: float  # ticks, as first learned
    begin: int
    end: int
    steps: int = 0  # from picture to picture
    slots: int = 0
    across: float = 0.0  # of the runs that are over: sums of squares and products about their means
    both: float = 0.0
    along: float = 0.0
    freedom: int = 0  # pictures less two for each run
    # of the run that is not over: pictures, and the sums of their numbers, deviations, squares and products
    run: list[float] = field(default_factory=lambda: [0.0] * 6)
    number: int = 0  # slot of the latest picture
    origin: int = 0  # tick of slot 0 in this run

    def start(self, at: int) -> None:
        """A run begins with a picture at ``at``."""
        self._close()
        self.run = [1.0, 0.0, 0.0, 0.0, 0.0, 0.0]
        self.number, self.origin = 0, at

    def add(self, times: Column, slots: Column) -> None:
        """Pictures at ``times``, each so many slots behind the one before."""
        numbers = self.number + np.cumsum(slots)
        off = (times - self.origin) - numbers * self.slot
        n = numbers.astype(np.float64)
        found = (len(n), n.sum(), off.sum(), (n * n).sum(), (n * off).sum(), (off * off).sum())
        self.run = [a + float(b) for a, b in zip(self.run, found, strict=True)]
        self.number, self.end = int(numbers[-1]), int(times[-1])
        self.steps += len(times)
        self.slots += int(slots.sum())

    def _sums(self) -> tuple[float, float, float, int]:
        count, n, off, nn, noff, offoff = self.run
        if count < 2:
            return self.across, self.both, self.along, self.freedom
        return (
            self.across + nn - n * n / count, self.both + noff - n * off / count,
            self.along + offoff - off * off / count, self.freedom + int(count) - 2,
        )  # fmt: skip

    def _close(self) -> None:
        self.across, self.both, self.along, self.freedom = self._sums()
        self.run = [0.0] * 6

    def fitted(self) -> tuple[float, float]:
        """The slot's length and how far it may be off, in ticks."""
        across, both, along, freedom = self._sums()
        if across <= 0 or not self.slots:
            return self.slot, self.slot
        slot = self.slot + both / across
        noise = max(0.0, along - both * both / across) / max(1, freedom)
        jitter = max(0.0, noise - 1 / 6)  # what rounding to ticks makes, and as much again, is not jitter
        return slot, 1 / self.slots + _SIGMAS * math.sqrt(jitter / across)


@dataclass(frozen=True, slots=True)
class Place:
    """Where something happened, and how much of it."""

    at: int  # ticks
    count: int


class Cadence:
    """Takes the presentation times of one track's pictures, in order."""

    def __init__(self, tick: Fraction) -> None:
        self._tick = tick
        self.segments: list[Segment] = []
        self.missing = self.repeated = self.uneven = 0
        self.missing_at: list[Place] = []
        self.repeated_at: list[int] = []
        self.longest = self.longest_at = 0  # ticks from one picture to the next, and when that began
        self._off = Intervals(tick / _FINE)
        self._last: int | None = None  # of the pictures that were taken
        self._due = 0.0  # when that should have come, as the pictures before it say
        self._held = np.zeros(0, np.int64)  # behind it

    def add(self, times: Column) -> None:
        """The next pictures of a run."""
        self._held = np.concatenate([self._held, times])
        if len(self._held) > 2 * _AHEAD:
            self._settle(len(self._held) - _AHEAD)

    def new_run(self) -> None:
        """What follows is on another clock, or comes after a break."""
        self._settle(len(self._held))
        self._last = None

    def finished(self) -> Cadence:
        """The same, with all that was held back taken as the end."""
        done = copy.deepcopy(self)
        done._settle(len(done._held))
        return done

    def _settle(self, count: int) -> None:
        """Takes the first ``count`` times; those behind them tell what is to come."""
        if not count:
            return
        times = self._held
        if self._last is None:
            self._last = int(times[0])
            self._due = float(times[0])
            times, count = times[1:], count - 1
            if self.segments:
                self.segments[-1].start(self._last)
        steps = np.diff(times, prepend=self._last)
        at = 0
        while at < count:
            if not self.segments:
                slot = _slot(steps[:_LEARN])
                self._open(slot, self._last)
            segment = self.segments[-1]
            border = self._border(steps[at:], count - at, segment.slot)
            stop = count if border is None else at + border[0]
            if stop > at:
                self._take(segment, times[at:stop], steps[at:stop])
                at = stop
            if border is not None:
                self._open(border[1], self._last)
        self._held = times[count:]

    def _open(self, slot: float, at: int) -> None:
        if self.segments and not self.segments[-1].steps:
            self.segments.pop()
        self.segments.append(Segment(slot, at, at))
        self.segments[-1].start(at)

    def _border(self, steps: Column, count: int, slot: float) -> tuple[int, float] | None:
        """The first of ``count`` steps from which on another slot fits, and that slot."""
        if len(steps) < _WINDOW or len(self.segments) >= _SEGMENTS:
            return None
        slots = np.maximum(np.rint(steps / slot), 0)
        time, number, odd = (np.concatenate([[0], np.cumsum(c)]) for c in (steps, slots, slots != 1))
        spans = time[_WINDOW:] - time[:-_WINDOW]
        mean = spans / np.maximum(number[_WINDOW:] - number[:-_WINDOW], 1)
        often = odd[_WINDOW:] - odd[:-_WINDOW] > _WINDOW // 2
        # a window of few ticks cannot tell
        wrong = (np.abs(mean - slot) > _CHANGE * slot + 2 / _WINDOW) | often
        from_ = 0
        while True:
            found = np.flatnonzero(wrong[from_:count])
            if not len(found):
                return None
            n = from_ + int(found[0])
            ahead = steps[n + _WINDOW : _AHEAD + n]
            other = _slot(ahead if len(ahead) > _WINDOW // 2 else steps[n + _WINDOW // 2 :])
            if abs(other - slot) > _CHANGE * slot + 2 / _WINDOW:
                closer = np.abs(steps[n:] - other) < np.abs(steps[n:] - slot)
                rows = np.convolve(closer, np.ones(8), "valid") if len(closer) >= 8 else np.zeros(0)
                begins = np.flatnonzero(closer[: len(rows)] & (rows >= 6))
                border = n + int(begins[0]) if len(begins) else n + _WINDOW
                return (border, other) if border < count else None
            from_ = n + _WINDOW

    def _slots(self, times: Column, steps: Column, slot: float) -> Column:
        """How many slots each picture lies behind the one before; moves the grid along."""
        if (np.abs(steps - slot) < _EVEN * slot).all():
            late = times[::-1][: len(_WEIGHTS)] + np.arange(min(len(times), len(_WEIGHTS))) * slot - times[-1]
            rest = (1 - _FOLLOW) ** len(late) * (self._due + len(times) * slot - times[-1])
            self._due = float(times[-1] + (late * _WEIGHTS[: len(late)]).sum() + rest)
            return np.ones(len(times), np.int64)
        due, out = self._due, []
        for time in times.tolist():
            count = max(0, round((time - due) / slot))
            due += count * slot
            due += _FOLLOW * (time - due)
            out.append(count)
        self._due = due
        return np.array(out, np.int64)

    def _take(self, segment: Segment, times: Column, steps: Column) -> None:
        slot = segment.slot
        slots = self._slots(times, steps, slot)
        segment.add(times, slots)
        self._last = int(times[-1])
        if int(steps.max()) > self.longest:
            n = int(steps.argmax())
            self.longest, self.longest_at = int(steps[n]), int(times[n] - steps[n])
        taken = slots > 0
        off = np.abs(steps[taken] - slots[taken] * slot)
        self._off.add(np.rint(off * _FINE).astype(np.int64))
        if (slots == 1).all():
            return
        again = (slots == 0) & (steps < slot / 4)
        self.repeated += int(again.sum())
        for n in np.flatnonzero(again)[: max(0, _PLACES - len(self.repeated_at))].tolist():
            self.repeated_at.append(int(times[n]))
        # a step that is long because its neighbour is as much too short is uneven, nothing is missing
        early = np.concatenate([[False], (slots == 0) & ~again, [False]])
        beside = early[:-2] | early[2:]
        late = slots > 1
        self.uneven += int((late & beside).sum())
        lost = slots - 1 - beside
        for n in np.flatnonzero(late & (lost > 0)).tolist():
            self.missing += int(lost[n])
            if len(self.missing_at) < _PLACES:
                self.missing_at.append(Place(int(times[n] - steps[n]), int(lost[n])))

    # Values

    @property
    def even(self) -> bool:
        """Whether every picture has its slot, and all slots are of one length."""
        return len(self.segments) < 2 and not (self.missing or self.repeated or self.uneven)

    @property
    def jitter(self) -> float | None:
        """s by which 99 of 100 steps differ from a whole number of slots at most; what the ticks hide counts as none."""
        if len(self._off) < 2:
            return None
        found = self._off.quantile(_JITTER_SHARE)
        return found if found > float(self._tick) * (1 + 1 / _FINE) else 0.0

    def usual(self, claimed: Fraction | None = None) -> tuple[float, float] | None:
        """Pictures a second in the longest segment, and how far that may be off; None before there are two pictures."""
        if not self.segments:
            return None
        return self.rate(max(self.segments, key=lambda s: s.end - s.begin), claimed)

    def rate(self, segment: Segment, claimed: Fraction | None = None) -> tuple[float, float] | None:
        """Pictures a second in a segment. Where the rate that the header claims fits, or one standard rate, it is meant."""
        slot, off = segment.fitted()
        if slot <= 0 or not segment.steps:
            return None
        tick = float(self._tick)
        raw = 1 / (slot * tick)
        low = 1 / ((slot + off) * tick) - 1e-6
        high = 1 / ((slot - off) * tick) + 1e-6 if slot > off else math.inf
        if claimed is not None and low <= claimed <= high:
            return float(claimed), 0.0
        fitting = [rate for rate in STANDARD_RATES if low <= rate <= high]
        if len(fitting) == 1:
            return float(fitting[0]), 0.0
        return raw, max(high - raw, raw - low) if high < math.inf else raw


def _slot(steps: Column) -> float:
    """The usual step, in ticks: what most steps are near to."""
    some = steps[steps > 0]
    if not len(some):
        return 1.0
    middle = float(np.median(some))
    near: Times = some[(some > 0.4 * middle) & (some < 1.6 * middle)].astype(np.float64)
    return float(near.mean()) if len(near) else middle
