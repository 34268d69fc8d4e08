"""How far a live stream is behind the clock, second by second, in bounded memory."""

from __future__ import annotations

from direkt.media import Samples

MOST = 3600  # places that are kept; twice as far apart where there are more


class Arrivals:
    """Takes batches with arrival times. Of a stretch behind a break nothing is known but that it begins on time."""

    def __init__(self) -> None:
        self._begin: tuple[float, float] | None = None  # clock and media time at the start of the stretch
        self._first: float | None = None  # clock time of all
        self._last = 0.0  # media time
        self._step = 1.0
        self._places: list[tuple[float, float]] = []

    def add(self, samples: Samples, tick: float) -> None:
        """A batch of one track."""
        if samples.arrival is None or not len(samples):
            return
        media, wall = float(samples.dts[-1]) * tick, float(samples.arrival[-1])
        if self._begin is None or media < self._begin[1] or abs(media - self._last) > 10:
            self._begin = (wall, media)
        self._first = wall if self._first is None else self._first
        self._last = media
        at = wall - self._first
        if self._places and at - self._places[-1][0] < self._step:
            return
        self._places.append((at, (wall - self._begin[0]) - (media - self._begin[1])))
        if len(self._places) > MOST:
            self._places = self._places[::2]
            self._step *= 2

    def behind(self) -> tuple[tuple[float, float], ...]:
        """Clock time since the first batch, and by how much the stream is late then (below 0: ahead), both in s."""
        return tuple(self._places)
