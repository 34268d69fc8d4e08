"""Fields of a device that stand for several parameters: what they allow, and which of their words a set of values is."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from direkt import parameters
from direkt.demand import Demand
from direkt.device.driver_file import DriverFile, TiedFieldEntry
from direkt.device.state import Together
from direkt.device_side import Preset
from direkt.parameters import Value


def _values(mode: TiedFieldEntry) -> list[dict[str, Value]]:
    """What each word stands for."""
    return [{name: parameters.clean(name, value) for name, value in values.items()} for values in mode.words.values()]


def presets(file: DriverFile) -> Iterator[Preset]:
    """Each word of each such field, with where a person finds it."""
    for mode in file.modes:
        where = " > ".join(file.menus.get(mode.at, ())) or mode.at
        for word, values in zip(mode.words, _values(mode), strict=True):
            yield Preset(where, word, values)


def mode_limits(file: DriverFile) -> dict[str, Demand]:
    """What each parameter can be, by all words."""
    out: dict[str, Demand] = {}
    for mode in file.modes:
        rows = _values(mode)
        for name in dict.fromkeys(name for row in rows for name in row):
            out.setdefault(name, Demand(name, tuple(dict.fromkeys(row[name] for row in rows if name in row))))
    return out


def mode_rules(file: DriverFile) -> tuple[Together, ...]:
    """That the values of one word go together: each value of one parameter with what stands beside it, for every pair."""
    out = []
    for mode in file.modes:
        rows = _values(mode)
        names = list(dict.fromkeys(name for row in rows for name in row))
        for first in names:
            for value in dict.fromkeys(row[first] for row in rows if first in row):
                same = [row for row in rows if row.get(first) == value]
                for other in names:
                    beside = tuple(dict.fromkeys(row[other] for row in same if other in row))
                    if other != first and beside:
                        when = (Demand(first, (value,)),)
                        out.append(Together(when, (Demand(other, beside),), None, f"the modes of {mode.at}"))
    return tuple(out)


def word_for(mode: TiedFieldEntry, values: Mapping[str, Value]) -> str | None:
    """The word that stands for these values; None where none does."""
    for word, row in zip(mode.words, _values(mode), strict=True):
        if all(name in values and parameters.same(name, values[name], value) for name, value in row.items()):
            return word
    return None
