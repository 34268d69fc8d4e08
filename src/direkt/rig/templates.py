"""Titles and descriptions with what changes filled in, by Python's format syntax: ``{start:%d %B}``.

A template may name what is in NAMES and say how it is written; it reaches nothing behind that.
"""

from __future__ import annotations

import datetime
import re
import string
from collections.abc import Mapping

NAMES = ("start", "end", "date", "time", "rig", "event", "number", "feeds", "zone")
_LONGEST = 20_000  # characters of a filled-in text
_WIDE = re.compile(r"\d{4,}")

_SAMPLE: dict[str, object] = {
    "start": datetime.datetime(2026, 7, 3, 9), "end": datetime.datetime(2026, 7, 3, 12), "date": "2026-07-03", "time": "09:00",
    "rig": "rig", "event": "event", "number": 1, "feeds": "feeds", "zone": "UTC",
}  # fmt: skip


def check(template: str) -> None:
    """Raises ValueError with what is wrong with a template."""
    fill(template, _SAMPLE)


def fill(template: str, values: Mapping[str, object]) -> str:
    """The template with ``values`` filled in. Raises ValueError."""
    out = []
    try:
        parts = list(string.Formatter().parse(template))
    except ValueError as error:
        raise ValueError(f"{error}; write {{{{ or }}}} for a brace that stays") from None
    for text, name, how, conversion in parts:
        out.append(text)
        if name is None:
            continue
        if name not in NAMES:
            raise ValueError(f"there is nothing called {name!r} to fill in; there is {', '.join(NAMES)}")
        how = how or ""
        if conversion or "{" in how or _WIDE.search(how):
            raise ValueError(f"{{{name}}} cannot be written as {how or conversion!r}")
        try:
            out.append(format(values[name], how))
        except (ValueError, TypeError, OverflowError):
            raise ValueError(f"{{{name}}} cannot be written as {how!r}") from None
    whole = "".join(out)
    if len(whole) > _LONGEST:
        raise ValueError(f"the filled-in text has {len(whole)} characters; at most {_LONGEST} make sense")
    return whole
