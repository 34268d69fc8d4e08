"""A show of single pictures: Motion JPEG as cameras give it out."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction

from direkt.media import Format, Samples, batch


class Photographs:
    """A JPEG each time."""

    def __init__(self, take: Callable[[], bytes], rate: Fraction) -> None:
        self._take, self._tick, self._count = take, 1 / rate, 0

    def formats(self) -> list[Format]:
        """One track."""
        return [Format("video", "mjpeg", self._tick)]

    def next(self) -> tuple[Fraction, Samples]:
        """The next picture."""
        n, self._count = self._count, self._count + 1
        return n * self._tick, batch("video", [self._take()], [n], [n], [True])
