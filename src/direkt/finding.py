"""A finding: one parameter judged, with its verdict and the harm that it does."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum, StrEnum

from direkt.destination.sheet import Rule
from direkt.parameters import Measured, Value


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
    advice: str = ""
    note: str = ""
    cause: str = ""  # of causes.py
    follows: str = ""  # the parameter that is to be mended first
    order: int = 0  # place in the order of mending, from 1 on
    since: float | None = None  # s of the stream from which on it is so; None: the whole time, or not told
    harm: Harm = Harm.REFUSED  # where it fails
