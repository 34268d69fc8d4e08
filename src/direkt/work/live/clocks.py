"""Whose clock is wrong: this machine's, a device's or a platform's; what most of them agree on is taken for right.

A platform's clock counts twice, since it serves many; a device's and this machine's once. Where two stand against each other alone,
nobody can say which one is wrong, and both are named.
"""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import dataclass

SAME = 3.0  # s within which two clocks agree
_SLACK = 5.0  # s that an ingest's time may lie outside


@dataclass(frozen=True, slots=True)
class Clocks:
    """How clocks stand against this machine's: s that they are ahead of it."""

    devices: Mapping[str, float]
    platforms: Mapping[str, float]

    def ours(self) -> float | None:
        """s that this machine's clock is ahead of the right time (negative: behind); None: there is no second clock to compare it with.

        0 where it is among those that agree.
        """
        votes = [(0.0, 1), *((o, 1) for o in self.devices.values()), *((o, 2) for o in self.platforms.values())]
        if len(votes) == 1:
            return None
        weight = {at: sum(w for other, w in votes if abs(other - at) <= SAME) for at, _ in votes}
        most = max(weight.values())
        if weight[0.0] == most:
            return 0.0
        agreed = sorted(at for at, w in weight.items() if w == most)
        return -agreed[len(agreed) // 2]

    @property
    def undecided(self) -> bool:
        """Whether one clock stands against this machine's alone."""
        return len(self.devices) + len(self.platforms) == 1 and not self.platforms

    def witnesses(self) -> list[str]:
        """Who agrees on another time than this machine's."""
        ours = self.ours()
        if not ours:
            return []
        return [name for name, o in (*self.platforms.items(), *self.devices.items()) if abs(o + ours) <= SAME]


def ahead_of(since: str, begun: float, now: float) -> float | None:
    """s by which an ingest's time is ahead of this machine's clock (negative: behind); None: it lies where it may.

    ``begun``: when the push began here; ``now``, both s since 1970.
    """
    try:
        moment = datetime.datetime.fromisoformat(since)
    except ValueError:
        return None
    if moment.tzinfo is None:
        return None
    at = moment.timestamp()
    if at > now + _SLACK:
        return at - now
    return at - begun if at < begun - _SLACK and begun - at < 86400 else None


def span(seconds: float) -> str:
    """A difference in words."""
    size = abs(seconds)
    text = f"{size / 3600:.1f} h" if size >= 7200 else f"{size / 60:.0f} min" if size >= 120 else f"{size:.0f} s"
    return f"{text} {'ahead' if seconds > 0 else 'behind'}"
