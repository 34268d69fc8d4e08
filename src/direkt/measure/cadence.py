"""The rhythm of the pictures as they are shown: their usual rate, what is missing, what repeats, and how even it is.

Strategy. Pictures lie on a grid of equal slots, and a late picture, a missing one, one that repeats and another rate are
explanations of the same times. Each has its price: a picture off its slot what its distance costs by how far pictures of
this stream usually lie off theirs, a missing or repeated one a fixed price, another rate a higher one. The cheapest
explanation of a picture and those around it is believed (``_explain``). A jittering clock therefore neither moves the grid
nor changes the rate; what is missing shifts all that follows, and that is how it is known. The slot's length is then found
by regression of the times over the slots, so missing pictures do not bend it. Where two explanations fit, as of pictures
that come in pairs, neither is given. Steps are held back until what follows them is known. O(pictures): a few array
operations for each batch, and a few steps of Python for each picture only where a batch is uneven. Memory is bounded.
"""

from __future__ import annotations

import copy
import math
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from direkt.measure.figures import STANDARD_RATES, Intervals
from direkt.media import Column, Marks, Times

_WINDOW = 32  # steps that show a change of rate
_AHEAD = 80  # steps that are held back
_LEARN = 64  # steps from which a slot is learned
_CHANGE = 0.025  # share by which a slot must differ to be another
_SEGMENTS = 24  # that are told apart
_PLACES = 8  # of a kind that are remembered
_FINE = 8  # parts of a tick in which jitter is counted
_SIGMAS = 3.5
_JITTER_SHARE = 0.99
_EVEN = 0.25  # share of a slot by which steps may differ so that no picture can be missing
_SPREAD = 0.04, 0.3  # share of a slot that pictures are taken to lie off theirs, at least and at most
_SPREAD_FOLLOWS = 1 / 16  # share of a step by which that is learned
_ODD = 12.0  # the price of a slot that holds no picture, or two
_LATE = 8.0  # the most that a picture pays for lying off its slot, up to
_FAR = 0.5  # slots; what lies further off pays for
_FURTHER = 10.0  # each slot more
_CHANGES = 20.0  # the price of another rate
_SURE = 0.3  # share of a slot within which a picture has its slot where one explanation alone is left
_PATHS = 6  # explanations that are followed at once
_HOPELESS = 30.0  # the price above the cheapest at which one is given up
_LOOK = 32  # pictures behind one that decide about it
_LAG = 16  # steps over which a rate is taken where single ones jitter
_TWOFOLD = 0.25  # share of steps that are no step at all, from which on two explanations fit
_FOLLOW = 0.15  # share of a picture's deviation by which the grid follows it, and
_FOLLOW_MOST = 0.25  # the most (slots) of the deviation that it does so for
_WEIGHTS = _FOLLOW * (1 - _FOLLOW) ** np.arange(32)


@dataclass(slots=True)
class RateSegment:
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
class Spot:
    """Where something happened, and how much of it."""

    at: int  # ticks
    count: int


class Cadence:
    """Takes the presentation times of one track's pictures, in order."""

    def __init__(self, tick: Fraction) -> None:
        self._tick = tick
        self.segments: list[RateSegment] = []
        self.missing = self.repeated = self.uneven = 0
        self.missing_at: list[Spot] = []
        self.repeated_at: list[int] = []
        self.longest = self.longest_at = 0  # ticks from one picture to the next, and when that began
        self.steps = self.ticks = 0  # from picture to picture, and how long those took
        self._none = 0  # steps that are next to none
        self._spread = 0.0  # ticks by which steps lately differed from the slot
        self._off = Intervals(tick / _FINE)
        self._last: int | None = None  # of the pictures that were taken
        self._due = 0.0  # when that should have come, as the pictures before it say
        self._fresh = False  # nothing before it says so
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

    def finished(self, more: Column | None = None) -> Cadence:
        """The same, with all that was held back, and ``more`` behind it, taken as the end."""
        done = copy.deepcopy(self)
        if more is not None and len(more):
            done.add(more)
        done._settle(len(done._held))
        return done

    @property
    def slot(self) -> float:
        """Ticks that a picture usually lasts by now; 0: not known yet."""
        return self.segments[-1].slot if self.segments else 0.0

    def _settle(self, count: int) -> None:
        """Takes the first ``count`` times; those behind them tell what is to come."""
        if not count:
            return
        times = self._held
        if self._last is None:
            self._last = int(times[0])
            self._due, self._fresh = float(times[0]), True
            times, count = times[1:], count - 1
            if self.segments:
                self.segments[-1].start(self._last)
        steps = np.diff(times, prepend=self._last)
        at = 0
        while at < count:
            if not self.segments:
                self._open(self._learned(times[:_LEARN], steps[:_LEARN]), self._last)
            segment = self.segments[-1]
            border = self._border(times[at:], steps[at:], count - at, segment.slot)
            stop = count if border is None else at + border[0]
            if stop > at:
                ahead = times[stop : stop + _LOOK] if border is None else times[:0]
                self._take(segment, times[at:stop], steps[at:stop], ahead)
                at = stop
            if border is not None:
                self._open(border[1], self._last)
        self._held = times[count:]

    def _open(self, slot: float, at: int) -> None:
        if self.segments and not self.segments[-1].steps:
            self.segments.pop()
        self.segments.append(RateSegment(slot, at, at))
        self.segments[-1].start(at)
        self._due, self._fresh = float(at), True

    def _spread_of(self, slot: float) -> float:
        """Ticks that pictures usually lie off their slots."""
        low, high = _SPREAD
        return min(max(self._spread, low * slot + 0.5), high * slot + 0.5)

    def _learned(self, times: Column, steps: Column) -> float:
        """The slot that explains some times best."""
        last = self._last or 0
        found = []
        for slot in _slots_that_may_be(times, steps):
            self._spread = float(np.median(np.minimum(np.abs(steps - slot), slot / 2))) if len(steps) else 0.0
            price = _explain(times, _phase(times, float(last), slot), slot, self._spread_of(slot))[0]
            found.append((price, slot, self._spread))
        _, slot, self._spread = min(found)
        return slot

    def _border(self, times: Column, steps: Column, count: int, slot: float) -> tuple[int, float] | None:
        """The first of ``count`` steps from which on another slot explains the times better, and that slot."""
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
            other = self._better(times[n:_AHEAD + n], steps[n : _AHEAD + n], float(times[n] - steps[n]), slot)
            if other is not None:
                closer = np.abs(steps[n:] - other) < np.abs(steps[n:] - slot)
                rows = np.convolve(closer, np.ones(8), "valid") if len(closer) >= 8 else np.zeros(0)
                begins = np.flatnonzero(closer[: len(rows)] & (rows >= 6))
                border = n + int(begins[0]) if len(begins) else n + _WINDOW
                return (border, other) if border < count else None
            from_ = n + _WINDOW

    def _better(self, times: Column, steps: Column, last: float, slot: float) -> float | None:
        """Another slot that explains the second half of some times so much better that the rate must have changed."""
        begin = _WINDOW if len(steps) > _WINDOW + _WINDOW // 2 else _WINDOW // 2
        if begin >= len(times):
            return None
        times, steps, last = times[begin:], steps[begin:], float(times[begin - 1])
        spread = self._spread_of(slot)
        price = _explain(times, _phase(times, last, slot), slot, spread)[0]
        found = []
        for other in _slots_that_may_be(times, steps):
            if abs(other - slot) > _CHANGE * slot + 2 / _WINDOW:
                within = min(spread, _SPREAD[1] * other + 0.5)
                found.append((_explain(times, _phase(times, last, other), other, within)[0], other))
        if not found or min(found)[0] + _CHANGES >= price:
            return None
        return min(found)[1]

    def _slots(self, times: Column, steps: Column, slot: float, ahead: Column) -> tuple[Column, Marks]:
        """How many slots each picture lies behind the one before, and which lie off theirs; moves the grid along."""
        off = np.minimum(np.abs(steps - slot), slot / 2)
        if self._fresh:
            self._fresh, self._due = False, _phase(np.concatenate([times, ahead]), self._due, slot)
        if (off < _EVEN * slot).all() and abs(times[0] - steps[0] - self._due) < _EVEN * slot:
            late = times[::-1][: len(_WEIGHTS)] + np.arange(min(len(times), len(_WEIGHTS))) * slot - times[-1]
            rest = (1 - _FOLLOW) ** len(late) * (self._due + len(times) * slot - times[-1])
            self._due = float(times[-1] + (late * _WEIGHTS[: len(late)]).sum() + rest)
            out, uneven = np.ones(len(times), np.int64), np.zeros(len(times), np.bool_)
        else:
            whole = np.concatenate([times, ahead])
            _, numbers, dues = _explain(whole, self._due, slot, self._spread_of(slot))
            out = np.array(numbers[: len(times)], np.int64)
            due = np.array(dues[: len(times)])
            self._due = float(due[-1])
            uneven = (out == 1) & (np.abs(times - due) > max(slot / 2, _SIGMAS * self._spread_of(slot)))
        weights = _SPREAD_FOLLOWS * (1 - _SPREAD_FOLLOWS) ** np.arange(len(off))
        self._spread = float((off[::-1] * weights).sum() + (1 - _SPREAD_FOLLOWS) ** len(off) * self._spread)
        return out, uneven

    def _take(self, segment: RateSegment, times: Column, steps: Column, ahead: Column) -> None:
        slot = segment.slot
        slots, uneven = self._slots(times, steps, slot, ahead)
        segment.add(times, slots)
        self._last = int(times[-1])
        self.steps += len(times)
        self.ticks += int(steps.sum())
        self._none += int((steps < slot / 4).sum())
        if int(steps.max()) > self.longest:
            n = int(steps.argmax())
            self.longest, self.longest_at = int(steps[n]), int(times[n] - steps[n])
        taken = slots > 0
        off = np.abs(steps[taken] - slots[taken] * slot)
        self._off.add(np.rint(off * _FINE).astype(np.int64))
        self.uneven += int(uneven.sum())
        again = slots == 0
        self.repeated += int(again.sum())
        for n in np.flatnonzero(again)[: max(0, _PLACES - len(self.repeated_at))].tolist():
            self.repeated_at.append(int(times[n]))
        for n in np.flatnonzero(slots > 1).tolist():
            self.missing += int(slots[n]) - 1
            if len(self.missing_at) < _PLACES:
                self.missing_at.append(Spot(int(times[n] - steps[n]), int(slots[n]) - 1))

    # Values

    @property
    def even(self) -> bool:
        """Whether every picture has its slot, and all slots are of one length."""
        return len(self.segments) < 2 and not (self.missing or self.repeated or self.uneven)

    @property
    def twofold(self) -> bool:
        """Whether so many pictures come with the one before that they may be repeated, or only come in pairs."""
        return self._none > _TWOFOLD * self.steps

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

    def rate(self, segment: RateSegment, claimed: Fraction | None = None) -> tuple[float, float] | None:
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


def _slots_that_may_be(times: Column, steps: Column) -> list[float]:
    """The usual step, in ticks; and the one over many pictures, where single ones say little."""
    found = [_slot(steps)]
    if len(times) > _LAG:
        middle = float(np.median(times[_LAG:] - times[:-_LAG])) / _LAG
        if middle > 0 and abs(middle - found[0]) > _CHANGE / 4 * middle:
            found.append(middle)
    return found


def _phase(times: Column, due: float, slot: float) -> float:
    """When the picture in front of some really was due, if it came at ``due``: itself it may have been early or late."""
    some = times[:_LAG]
    if len(some) < 4:
        return due
    off = float(np.median(some - due - slot * np.arange(1, len(some) + 1)))
    return due + off if abs(off) < slot / 2 else due


def _explain(times: Column, due: float, slot: float, spread: float) -> tuple[float, list[int], list[float]]:
    """The cheapest explanation of pictures at ``times`` behind one that was due at ``due``.

    Returns its price, how many slots each lies behind the one before, and when each was due.
    """
    paths: list[tuple[float, float, int, tuple[object, int, float] | None]] = [(0.0, due, 0, None)]
    scale = 1 / (2 * spread * spread)
    most = _FOLLOW_MOST * slot
    sure = _SURE * slot
    for time in times.tolist():
        if len(paths) == 1:
            price, was, number, way = paths[0]
            off = time - was - slot
            if -sure < off < sure:  # it has its slot: nothing else is worth a thought
                moved = was + slot + _FOLLOW * max(-most, min(most, off))
                paths = [(price + min(off * off * scale, _LATE), moved, number + 1, (way, 1, was + slot))]
                continue
        best: dict[int, tuple[float, float, int, tuple[object, int, float] | None]] = {}
        for price, was, number, way in paths:
            near = round((time - was) / slot)
            for n in {1, max(0, near), max(0, near - 1), near + 1 if near >= 0 else 0}:
                off = time - was - n * slot
                far = abs(off) / slot
                cost = price + min(off * off * scale, _LATE)
                if far > _FAR:
                    cost += _FURTHER * (far - _FAR)
                if n != 1:
                    cost += _ODD
                at = number + n
                if at not in best or cost < best[at][0]:
                    then = was + n * slot
                    moved = then + _FOLLOW * max(-most, min(most, off))
                    best[at] = (cost, moved, at, (way, n, then))
        paths = sorted(best.values(), key=lambda path: path[0])[:_PATHS]
        limit = paths[0][0] + _HOPELESS
        paths = [path for path in paths if path[0] <= limit]
    numbers, dues = [], []
    back: object = paths[0][3]
    while isinstance(back, tuple):
        back, n, then = back
        numbers.append(n)
        dues.append(then)
    return paths[0][0], numbers[::-1], dues[::-1]
