"""How much a stream's bytes pile up at a steady rate: what a decoder's buffer, and a thin uplink, must hold.

Bytes that came less what the rate has carried away is a curve. How far it rises from any point to a later one is the
buffer that the stream needs; a stream of constant bitrate falls no further than that either (H.264, C.1.1 and C.1.2).
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from direkt.codec.reader import Promise
from direkt.media import Column, Times

_MOST = 1 << 17  # corners of the curve that are kept
_GROUP = 8  # of which the highest and the lowest stay when there are too many


class Curve:
    """Bytes over time, for a rate that is known only at the end.

    Exact for 65,536 samples; of longer streams the corners that stand out at the mean rate are kept.
    """

    def __init__(self) -> None:
        self._times: list[Column] = []
        self._sums: list[Column] = []
        self._count = 0
        self._total = 0  # bytes
        self._shift = 0  # by which later times are moved, so that breaks take no time
        self._last = 0

    def add(self, times: Column, sizes: Column) -> None:
        """Bytes ``sizes`` at ``times`` (ticks, not falling), behind what came before."""
        if not len(times):
            return
        after = self._total + np.cumsum(sizes)
        corners = np.empty(2 * len(times), np.int64)
        corners[::2], corners[1::2] = after - sizes, after
        self._times.append(np.repeat(times + self._shift, 2))
        self._sums.append(corners)
        self._count += len(corners)
        self._total, self._last = int(after[-1]), int(times[-1]) + self._shift
        if self._count > _MOST:
            self._thin()

    def new_stretch(self, begin: int) -> None:
        """Times go on from ``begin``, and no time has passed."""
        self._shift = self._last - begin

    def _join(self) -> tuple[Column, Column]:
        if not self._times:
            none = np.zeros(0, np.int64)
            return none, none
        times, sums = np.concatenate(self._times), np.concatenate(self._sums)
        self._times, self._sums = [times], [sums]
        return times, sums

    def _thin(self) -> None:
        times, sums = self._join()
        span = int(times[-1] - times[0]) or 1
        whole = len(times) // _GROUP * _GROUP
        level = (sums - (times - times[0]) * (self._total / span))[:whole].reshape(-1, _GROUP)
        rows = np.arange(len(level)) * _GROUP
        kept = np.sort(np.stack([rows + level.argmin(axis=1), rows + level.argmax(axis=1)]), axis=0).T.ravel()
        kept = np.concatenate([kept, np.arange(whole, len(times))])
        self._times, self._sums = [times[kept]], [sums[kept]]
        self._count = len(kept)

    def rise(self, rate: float) -> float:
        """Bytes that pile up at most while ``rate`` bytes leave in each tick."""
        times, sums = self._join()
        if not len(times):
            return 0.0
        level: Times = sums - (times - times[0]) * rate
        return float((level - np.minimum.accumulate(level)).max())


class PromiseKept:
    """Whether a stream keeps what its header promises: a bitrate, and a buffer through which it fits."""

    def __init__(self, promise: Promise, tick: Fraction) -> None:
        self.promise = promise
        self._rate = float(promise.bitrate * tick)  # bits in a tick
        self._level = 0.0  # bits that wait, less those that could have gone
        self._low = self._high = 0.0
        self._begin: int | None = None
        self._last = 0
        self._grain = 2 * self._rate + promise.buffer / 1000
        self._ticks = 0
        self.broken = False

    def add(self, times: Column, sizes: Column) -> None:
        """Bytes ``sizes`` at ``times`` (ticks, not falling)."""
        if not len(times) or self.broken:
            return
        steps = np.diff(times, prepend=self._last if self._begin is not None else times[0])
        if self._begin is None:
            self._begin = int(times[0])
        bits = sizes * 8
        after = self._level + np.cumsum(bits - steps * self._rate)
        before = after - bits
        lows = np.minimum(np.minimum.accumulate(before), self._low)
        highs = np.maximum(np.maximum.accumulate(after), self._high)
        room = self.promise.buffer + self._grain
        self.broken = bool((after - lows).max() > room or (highs - before).max() > room)
        self._level, self._low, self._high = float(after[-1]), float(lows[-1]), float(highs[-1])
        self._ticks += int(steps.sum())
        self._last = int(times[-1])

    def new_stretch(self) -> None:
        """Times start anew; the buffer is as it was."""
        self._begin = None

    @property
    def tells(self) -> bool:
        """Whether enough was seen: three times what the buffer holds."""
        return self._ticks * self._rate >= 3 * self.promise.buffer
