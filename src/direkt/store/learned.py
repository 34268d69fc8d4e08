"""What devices made of values that they took and did not keep: learned for a model and firmware, and used by match.

A number that came back lower (or higher) than it was written is taken for an end of the range; anything else that came back
otherwise for a value that this model does not keep.
"""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError

from direkt import files, parameters
from direkt.demand import Demand
from direkt.device.model import Channel, Together
from direkt.documents import Strict
from direkt.parameters import ParameterError, Value
from direkt.store.changes import FOLDER

_FILE = "learned.json"
_MOST = 1 << 20  # bytes
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


class _File(Strict):
    schema_: Literal["direkt.learned/1"] = Field(alias="schema")
    lessons: list[Lesson]


def read(folder: Path) -> list[Lesson]:
    """All that was learned; a file that cannot be read has taught nothing."""
    try:
        with (folder / FOLDER / _FILE).open("rb") as file:
            return _File.model_validate_json(file.read(_MOST)).lessons
    except (OSError, ValidationError):
        return []


def add(folder: Path, lessons: list[Lesson]) -> None:
    """Keeps lessons; a newer one on the same thing takes the older one's place. Raises OSError."""
    target = folder / FOLDER
    target.mkdir(exist_ok=True)
    with files.alone(target):
        known = {_key(one): one for one in [*read(folder), *lessons]}
        file = _File(schema="direkt.learned/1", lessons=list(known.values())[-_ENTRIES:])
        files.replace(target / _FILE, file.model_dump_json(by_alias=True, indent=1) + "\n", 0o600)


def _key(one: Lesson) -> tuple[str, str, str, str, Value]:
    return one.model, one.firmware, one.channel, one.parameter, one.wanted


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
            words = (
                f"this model made {parameters.show(one.parameter, became)} of {parameters.show(one.parameter, wanted)} on "
                f"{one.when[:4]}-{one.when[4:6]}-{one.when[6:8]}"
            )
            narrower = _narrower(limit, one.old, wanted, became)
            if narrower is not None:
                together.append(Together((), (narrower,), None, words))
    return Channel(
        channel.name, channel.values, limits, channel.title, tuple(together), channel.source, channel.stream
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
