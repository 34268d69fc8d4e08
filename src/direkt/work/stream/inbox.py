"""What a thread of its own tells whoever measures: bounded in number and in the time that one look at it takes.

Media that comes faster than it can be measured is left out, and that is said; whatever else is told (who came, who left) never is.
"""

from __future__ import annotations

import queue
import time
from collections.abc import Callable

from direkt.media import Odd, Samples, joined
from direkt.net.transport import ReceiverEvent
from direkt.work.steps import END

_MOST = 20_000  # events that wait
_LONGEST = 0.5  # s that one look takes
_TOGETHER = 0.3  # s of media that are measured as one
_MANY = 256  # events of it
_LARGEST = 4 << 20  # bytes of it
LEFT_OUT = "more came than could be measured here: some of it was left out"


class Inbox:
    """put() is called from the thread, take() by whoever measures."""

    def __init__(self) -> None:
        self._waiting: queue.SimpleQueue[tuple[float, ReceiverEvent]] = queue.SimpleQueue()
        self.left_out = 0  # events
        self._said = False

    def put(self, event: ReceiverEvent) -> None:
        """It happened now."""
        if isinstance(event, Samples) and self._waiting.qsize() >= _MOST:
            self.left_out += 1
            return
        self._waiting.put((time.monotonic(), event))

    def take(self, each: Callable[[ReceiverEvent, float], None], limit: float = _LONGEST) -> bool:
        """Gives what waits to ``each``, for at most so many s; whether nothing is left."""
        end = time.monotonic() + limit
        if self.left_out and not self._said:
            self._said = True
            each(Odd(LEFT_OUT), time.monotonic())
        left = self._waiting.qsize()
        while left > 0:
            with END.whole():  # else what a signal cuts off is lost, and a track with it
                left -= self._some(each, min(left, _MANY))
            if time.monotonic() > end:
                break
        return self._waiting.empty()

    def _some(self, each: Callable[[ReceiverEvent, float], None], most: int) -> int:
        """Gives one event, or all media that came close together, as a batch of each track; how many events that were."""
        tracks: dict[str, list[Samples]] = {}
        first: float | None = None
        size = count = 0
        while count < most:
            count += 1
            when, event = self._waiting.get()
            if not isinstance(event, Samples):
                self._media(tracks, when, each)
                each(event, when)
                return count
            first = when if first is None else first
            tracks.setdefault(event.track, []).append(event)
            size += int(event.size.sum())
            if when - first > _TOGETHER or size > _LARGEST:
                break
        self._media(tracks, time.monotonic(), each)
        return count

    @staticmethod
    def _media(tracks: dict[str, list[Samples]], when: float, each: Callable[[ReceiverEvent, float], None]) -> None:
        for batches in tracks.values():
            each(joined(batches), when)

    def drain(self, each: Callable[[ReceiverEvent, float], None], limit: float) -> None:
        """The last look: what is not measured within the limit is left out, and that is said."""
        end = time.monotonic() + limit
        while not self.take(each, max(0.0, end - time.monotonic())):
            if time.monotonic() >= end:
                self.left_out += self._waiting.qsize()
                while not self._waiting.empty():
                    when, event = self._waiting.get()
                    if not isinstance(event, Samples):
                        each(event, when)
                if not self._said:
                    self._said = True
                    each(Odd(LEFT_OUT), time.monotonic())
                return
