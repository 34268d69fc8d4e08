"""A track over time, in bounded memory: bytes and marks for each second, or for more of them where it is long.

A stretch behind a break goes on where the one before ended: of time stamps that jump, nobody knows how long the jump lasted.
Cost: one counting operation a batch; at most ``MOST`` columns are kept, and twice as wide ones where there are more.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from direkt.media import Column

Kind = TypeVar("Kind", np.float64, np.int64)
MOST = 3600  # columns that are kept


@dataclass(frozen=True, slots=True)
class OverTime:
    """A track by columns of equal width."""

    width: float  # s
    kbit_s: tuple[float, ...]
    marks: tuple[int, ...]  # keyframes that begin in each
    times: tuple[float, ...]  # s at which keyframes begin, the first few thousand
    seconds: float  # how long all of it lasts


class Series:
    """Takes times and sizes as they come."""

    def __init__(self, tick: Fraction) -> None:
        self._tick = float(tick)
        self._width = 1.0
        self._bytes: NDArray[np.float64] = np.zeros(64)
        self._marks: NDArray[np.int64] = np.zeros(64, np.int64)
        self._times: list[float] = []
        self._shift = 0.0
        self._end = 0.0
        self._begun = False

    def begin(self, ticks: int) -> None:
        """A new unbroken stretch begins."""
        self._shift = self._end - ticks * self._tick
        self._begun = True

    def add(self, ticks: Column, sizes: Column) -> None:
        """Bytes ``sizes`` at ``ticks``."""
        if not len(ticks):
            return
        if not self._begun:
            self.begin(int(ticks[0]))
        at = self._places(ticks)
        columns = self._columns(at)
        np.add.at(self._bytes, columns, sizes)
        self._end = max(self._end, float(at.max()))

    def mark(self, ticks: Column) -> None:
        """Keyframes at ``ticks``."""
        if not len(ticks) or not self._begun:
            return
        at = self._places(ticks)
        np.add.at(self._marks, self._columns(at), 1)
        if len(self._times) < MOST:
            self._times += at.tolist()

    def _places(self, ticks: Column) -> NDArray[np.float64]:
        places: NDArray[np.float64] = np.maximum(0.0, ticks * self._tick + self._shift)
        return places

    def _columns(self, at: NDArray[np.float64]) -> NDArray[np.int64]:
        last = float(at.max())
        while last / self._width >= MOST:
            self._width *= 2
            self._bytes, self._marks = _in_pairs(self._bytes), _in_pairs(self._marks)
        needed = int(last / self._width) + 1
        if needed > len(self._bytes):
            more = max(needed, 2 * len(self._bytes)) - len(self._bytes)
            self._bytes = np.concatenate([self._bytes, np.zeros(more)])
            self._marks = np.concatenate([self._marks, np.zeros(more, np.int64)])
        return (at / self._width).astype(np.int64)

    def over_time(self) -> OverTime:
        """What came so far. The last column counts as long as it really lasted."""
        count = int(self._end / self._width) + 1 if self._begun else 0
        width = np.full(count, self._width)
        if count:
            width[-1] = max(self._end - (count - 1) * self._width, self._width / 4)
        kbit_s = self._bytes[:count] * 8 / 1000 / width
        return OverTime(self._width, tuple(kbit_s.tolist()), tuple(self._marks[:count].tolist()), tuple(self._times), self._end)


def _in_pairs(column: NDArray[Kind]) -> NDArray[Kind]:
    """Each two neighbours together."""
    if len(column) % 2:
        column = np.concatenate([column, np.zeros(1, column.dtype)])
    summed: NDArray[Kind] = column.reshape(-1, 2).sum(axis=1)
    return summed
