"""A finding: one parameter judged, with its verdict and the harm that it does."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum, StrEnum

from direkt import parameters
from direkt.destination.sheet import Rule
from direkt.parameters import Bound, Measured, Value


class Verdict(StrEnum):
    """How a parameter fares; the order is from good to bad."""

    PASS = "pass"
    UNSEEN = "unseen"
    ADVISE = "advise"
    FAIL = "fail"


class Harm(IntEnum):
    """What a finding does; the order is that of mending."""

    DEAD = 0  # nothing to see or to hear
    REFUSED = 1  # the ingest may not take it
    POOR = 2  # viewers see or hear it
    ADVICE = 3  # it could be better
    UNKNOWN = 4  # nobody knows
    NONE = 5


@dataclass(frozen=True, slots=True)
class Finding:
    """One parameter judged."""

    parameter: str
    verdict: Verdict
    asked: Rule | None
    set: Value | None
    sent: Measured | None
    advice: str = ""  # what to do
    note: str = ""
    said: str = ""  # what goes before the advice: what is required, or that the device says otherwise
    cause: str = ""  # of causes.py
    why: str = ""  # the cause in a sentence, where the finding does not say it by itself
    follows: str = ""  # the parameter that is to be mended first
    order: int = 0  # place in the order of mending, from 1 on
    since: float | None = None  # s of the stream from which on it is so; None: the whole time, or not told
    harm: Harm = Harm.REFUSED  # where it fails

    @property
    def words(self) -> str:
        """What is said of it, with what to do."""
        return " ".join(part for part in (self.said, self.advice) if part)

    @property
    def differs(self) -> bool:
        """Whether the stream is not what the device says; a bound that may still grow into it is no difference."""
        sent, set_ = self.sent, self.set
        if sent is None or set_ is None:
            return False
        shown = sent.value if sent.usual is None else sent.usual
        if parameters.same(self.parameter, shown, set_, measured=True):
            return False
        if sent.bound is not None and isinstance(set_, int | float) and not isinstance(sent.value, str):
            return set_ < sent.value if sent.bound is Bound.AT_LEAST else set_ > sent.value
        return True
