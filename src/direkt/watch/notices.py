"""States that people are told of: each once when it begins, again as a reminder while it lasts, and once when it has recovered.

Pure: what is so now goes in, what is to be told comes out. A state that is gone for a moment and comes back is the same one.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

Weight = Literal["advise", "fail"]
Phase = Literal["begins", "again", "well"]

_SETTLED = 10.0  # s for which a state has to be gone until it is well


@dataclass(frozen=True, slots=True)
class Key:
    """Which state of what."""

    kind: str  # drop stopped silent elsewhere still-on unmended ingest thin session hot disk plan certificate overdue platform device
    name: str  # of the feed, device, event, host


@dataclass(frozen=True, slots=True)
class Condition:
    """What is so now, and what to do."""

    weight: Weight
    text: str
    advice: str = ""
    event: str = ""  # whose people are told first of all


@dataclass(frozen=True, slots=True)
class Notice:
    """Something to tell."""

    phase: Phase
    key: Key
    condition: Condition  # as it was last
    since: float  # s since 1970
    at: float
    number: int  # each notice has its own


@dataclass(slots=True)
class _State:
    condition: Condition
    since: float  # wall
    begun: float  # steady
    gone: float | None = None  # steady: since when it is not so
    acknowledged: float | None = None  # wall
    muted: float = 0.0  # wall: until when


class Notices:
    """Keeps what was told."""

    def __init__(self, most: int = 2000) -> None:
        self._states: dict[Key, _State] = {}
        self._most = most
        self._number = 0

    @property
    def current(self) -> Mapping[Key, Condition]:
        """What is so, told or about to be told that it is over."""
        return {key: state.condition for key, state in self._states.items() if state.gone is None}

    @property
    def states(self) -> Mapping[Key, Condition]:
        """What is so, or was so until a moment ago."""
        return {key: state.condition for key, state in self._states.items()}

    def acknowledge(self, key: Key, wall: float) -> bool:
        """Somebody has seen it; False: it is not so any more."""
        state = self._states.get(key)
        if state is None or state.gone is not None:
            return False
        state.acknowledged = wall
        return True

    def mute(self, key: Key, until: float) -> bool:
        """Nobody is reminded of it until then; False: it is not so any more."""
        state = self._states.get(key)
        if state is None or state.gone is not None:
            return False
        state.muted = until
        return True

    def acknowledged(self, key: Key) -> float | None:
        """When somebody said that they have seen it, s since 1970; None: nobody did."""
        state = self._states.get(key)
        return state.acknowledged if state is not None else None

    def muted(self, key: Key, wall: float) -> bool:
        """Whether nobody is to be reminded of it now."""
        state = self._states.get(key)
        return state is not None and wall < state.muted

    def since(self, key: Key) -> float | None:
        """Since when something is so, s since 1970."""
        state = self._states.get(key)
        return state.since if state is not None and state.gone is None else None

    def update(self, now: Mapping[Key, Condition], steady: float, wall: float) -> list[Notice]:
        """What is to be told now. Reminders are the business of those who are told: see lasting()."""
        out: list[Notice] = []
        for key, condition in now.items():
            state = self._states.get(key)
            if state is None:
                if len(self._states) >= self._most:
                    continue
                self._states[key] = _State(condition, wall, steady)
                out.append(self._notice("begins", key, self._states[key], wall))
            else:
                worse = condition.weight == "fail" and state.condition.weight == "advise"
                state.condition, state.gone = condition, None
                if worse:
                    out.append(self._notice("begins", key, state, wall))
        for key, state in list(self._states.items()):
            if key in now:
                continue
            if state.gone is None:
                state.gone = steady
            if steady - state.gone >= _SETTLED:
                del self._states[key]
                out.append(self._notice("well", key, state, wall))
        return out

    def again(self, key: Key, wall: float) -> Notice | None:
        """The same once more, where it still is so."""
        state = self._states.get(key)
        return None if state is None or state.gone is not None else self._notice("again", key, state, wall)

    def _notice(self, phase: Phase, key: Key, state: _State, wall: float) -> Notice:
        self._number += 1
        return Notice(phase, key, state.condition, state.since, wall, self._number)
