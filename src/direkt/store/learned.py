"""What devices made of values that they took and did not keep: learned for a model and firmware, and used by match.

A lesson holds in its circumstances: size, rate and codec as they were. A number that came back a little off is a step of the
device's, which forbids nothing; one that came back clearly lower (or higher), or the same for several wishes, an end of the range; where
another setting changed unasked, the two are tied, and the value is not to be had beside the others. What became the old value again
teaches nothing.
"""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt import parameters
from direkt.demand import Demand
from direkt.device.state import Channel, Together
from direkt.documents import Strict
from direkt.parameters import ParameterError, Value
from direkt.store.small_file import SmallFile, place

FILE_NAME = "learned.json"
_ENTRIES = 2000  # that are kept, the newest ones


class Lesson(Strict):
    """One value that was not kept."""

    model: str
    firmware: str
    channel: str
    parameter: str
    old: Value | None
    wanted: Value
    became: Value
    when: str = Field(pattern=r"^\d{8}-\d{6}$")
    beside: dict[str, Value] = {}  # size, rate and codec at that time
    tied: list[str] = []  # settings that changed unasked


class _File(Strict):
    schema_: Literal["direkt.learned/1"] = Field(default="direkt.learned/1", alias="schema")
    lessons: list[Lesson]


def _file(folder: Path, damaged: str = "") -> SmallFile[_File]:
    return SmallFile(place(folder, FILE_NAME), _File, damaged)


def read(folder: Path, *, strict: bool = False) -> list[Lesson]:
    """All that was learned; a file that cannot be read has taught nothing. ``strict``: then raises UnusableInput."""
    found = _file(folder, "what it held is learned anew" if strict else "").read()
    return found.lessons if found is not None else []


def add(folder: Path, lessons: list[Lesson]) -> None:
    """Keeps lessons; a newer one on the same thing takes the older one's place. Raises OSError."""

    def how(old: _File | None) -> _File:
        known = {_key(one): one for one in [*(old.lessons if old is not None else []), *lessons]}
        return _File(lessons=list(known.values())[-_ENTRIES:])

    _file(folder).change(how)


def _key(one: Lesson) -> tuple[object, ...]:
    return *_place(one), one.wanted, tuple(sorted(one.beside.items()))


CIRCUMSTANCES = ("video.size", "video.frame_rate", "video.codec")
_STEP = 0.1  # share by which a step of the device's may differ from what was wanted

LessonKind = Literal["step", "limit", "tie"]


def kind_of(one: Lesson, lessons: list[Lesson]) -> LessonKind:
    """What a lesson says, beside all others."""
    if one.tied:
        return "tie"
    wanted, became = one.wanted, one.became
    if isinstance(wanted, str) or isinstance(became, str):
        return "limit"
    others = [o for o in lessons if _place(o) == _place(one) and o.became == became and o.wanted != wanted]
    return "step" if not others and abs(became - wanted) <= _STEP * abs(wanted) else "limit"


def forget(folder: Path, model: str = "", parameter: str = "") -> int:
    """Drops what was learned of a model, or of one parameter of it (empty: of all); how many lessons. Raises OSError."""
    dropped = 0

    def how(old: _File | None) -> _File | None:
        nonlocal dropped
        known = old.lessons if old is not None else []
        kept = [one for one in known if (model and one.model != model) or (parameter and one.parameter != parameter)]
        dropped = len(known) - len(kept)
        return _File(lessons=kept) if dropped else None

    _file(folder).change(how)
    return dropped


def _place(one: Lesson) -> tuple[str, str, str, str]:
    return one.model, one.firmware, one.channel, one.parameter


def applied(channel: Channel, lessons: list[Lesson], model: str, firmware: str) -> Channel:
    """The channel with the limits that were learned for its model and firmware."""
    limits, together = dict(channel.limits), list(channel.together)
    for one in lessons:
        if (one.model, one.firmware, one.channel) != (model, firmware, channel.name):
            continue
        with contextlib.suppress(ParameterError):
            limit = limits.get(one.parameter)
            if limit is None:
                continue
            wanted, became = parameters.clean(one.parameter, one.wanted), parameters.clean(one.parameter, one.became)
            if one.old is not None and parameters.same(one.parameter, one.old, became):
                continue
            kind = kind_of(one, lessons)
            if kind == "step":
                continue
            when = tuple(Demand(n, (parameters.clean(n, v),)) for n, v in one.beside.items() if n in channel.values)
            words = (
                f"this model made {parameters.show(one.parameter, became)} of {parameters.show(one.parameter, wanted)} on "
                f"{one.when[:4]}-{one.when[4:6]}-{one.when[6:8]}"
            )
            narrower = _narrower(limit, one.old, wanted, became)
            if narrower is not None:
                together.append(Together(when, (narrower,), None, words))
    return Channel(
        channel.name, channel.values, limits, channel.title, tuple(together), channel.source, channel.stream, channel.sound
    )  # fmt: skip


def _narrower(limit: Demand, old: Value | None, wanted: Value, became: Value) -> Demand | None:
    """What is left of a limit."""
    clamped = old is None or not parameters.same(limit.name, old, became)
    numbers = [v for v in (wanted, became) if isinstance(v, int | float)]
    if clamped and len(numbers) == 2:
        low = became < wanted if isinstance(became, int | float) and isinstance(wanted, int | float) else False
        return Demand(limit.name, maximum=became) if low else Demand(limit.name, minimum=became)
    if limit.one_of:
        left = tuple(value for value in limit.one_of if not parameters.same(limit.name, value, wanted))
        return Demand(limit.name, left) if left else None
    return Demand(limit.name, (became,))  # it keeps what it has
