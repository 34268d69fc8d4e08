"""How a drop is mended: when to start a push again, when its device, and when to leave it to people.

Pure: times come in, actions come out. A device gets a while to reconnect by itself; each further try waits twice as long.
What was tried is counted in a sliding window, so that a feed that drops once a day is mended for years.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from enum import StrEnum

_LONGEST_PAUSE = 300.0  # s
_BOOTED = 10.0  # s that a device gets, once it answers again, to push by itself


class Act(StrEnum):
    """What can be done."""

    PUSH = "start the push again"
    DEVICE = "restart the device"
    NOTHING = "leave it to people"


@dataclass(frozen=True, slots=True)
class RestartTerms:
    """How often, and how soon."""

    push: int = 3  # times within the window
    device: int = 0
    within: float = 1800.0  # s
    pause: float = 5.0  # s before the first try; each further one is twice as long


class Mending:
    """One feed's drops."""

    def __init__(self, terms: RestartTerms) -> None:
        self._terms = terms
        self._tried: deque[tuple[float, Act]] = deque(maxlen=256)  # when, and what
        self._row = 0  # tries in this drop
        self._last = 0.0  # when the last one ended

    def did(self, act: Act, began: float, ended: float | None = None) -> None:
        """That was tried; ``ended``: when it was over, from where the next pause runs."""
        self._tried.append((began, act))
        self._row += 1
        self._last = ended if ended is not None else began

    def remember(self, act: Act, at: float) -> None:
        """That was tried by an earlier watch: it counts."""
        self._tried.append((at, act))

    def well(self) -> None:
        """The feed is on: the next drop begins with the short pause."""
        self._row = 0

    def count(self, act: Act, now: float) -> int:
        """How often within the window."""
        return sum(1 for at, done in self._tried if done is act and now - at < self._terms.within)

    def due(self, dropped: float, now: float, *, device: bool, returned: float | None = None) -> Act | None:
        """What to do now about a drop that began at ``dropped``; None: wait. ``device``: whether that may be restarted.

        ``returned``: when the device answered again: it gets a while to push by itself.
        """
        t = self._terms
        pause = min(t.pause * 2**self._row, max(_LONGEST_PAUSE, t.pause))
        if now - (max(dropped, self._last) if self._row else dropped) < pause:
            return None
        if returned is not None and returned > dropped and now - returned < max(t.pause, _BOOTED):
            return None
        if self.count(Act.PUSH, now) < t.push:
            return Act.PUSH
        if device and self.count(Act.DEVICE, now) < t.device:
            return Act.DEVICE
        return Act.NOTHING
