"""One parameter in a device's own words and units, and back."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Literal

from direkt import demand, parameters
from direkt.demand import Demand
from direkt.device.model import InputSignal
from direkt.documents import Strict
from direkt.parameters import ParameterError, Value

Raw = bool | int | float | str | None  # what a device's answer holds for a setting


class WordsError(ParameterError):
    """A device's word or number that its driver does not know."""


class SettingEntry(Strict):
    """How the device names one parameter."""

    field: str
    words: dict[str, bool | int | float | str] | None = None  # ours: the device's
    counts: Literal["unit", "frames"] = "unit"  # frames: pictures instead of seconds
    factor: float = 1.0  # the device's number is ours times this
    whole: bool = False  # the device takes whole numbers only


def ours(name: str, entry: SettingEntry, raw: object, frame_rate: float) -> Value:
    """A device's value as ours. Raises WordsError; ``frame_rate``: fps, for what it counts in pictures."""
    try:
        if entry.words is not None:
            word = next((w for w, theirs in entry.words.items() if theirs == raw and type(theirs) is type(raw)), None)
            if word is None:
                word = "other" if "other" in parameters.find(name).choices else str(raw)
            return parameters.clean(name, word)
        if isinstance(raw, int | float) and not isinstance(raw, bool):
            number = raw / entry.factor if entry.factor != 1.0 else raw
            if entry.counts == "frames" and frame_rate:
                number = parameters.keyframe_seconds(number, frame_rate)
            return parameters.clean(name, int(number) if number == int(number) else number)
        return parameters.clean(name, raw)
    except (ParameterError, OverflowError, ValueError) as error:
        raise WordsError(f"{entry.field} = {raw!r}, which its driver does not know: {error}") from None


def theirs(entry: SettingEntry, value: Value, frame_rate: float) -> bool | int | float | str:
    """Our value as the device's; ``frame_rate``: fps, for what it counts in pictures."""
    if entry.words is not None:
        return entry.words.get(str(value), value)
    if isinstance(value, str):
        return value
    if entry.counts == "frames":
        return parameters.keyframe_frames(value, frame_rate)
    number = value * entry.factor if entry.factor != 1.0 else value
    return round(number) if entry.whole else number


def limit(name: str, entry: SettingEntry, raw: object, frame_rate: float) -> Demand:
    """What a device says it can be set to: a list, or a range with min and max. Raises WordsError."""
    if isinstance(raw, list) and raw:
        return Demand(name, tuple(ours(name, entry, item, frame_rate) for item in raw))
    if isinstance(raw, Mapping):
        bounds = {key: ours(name, entry, raw[key], frame_rate) for key in ("min", "max") if key in raw}
        try:
            return demand.parse(name, bounds)
        except ParameterError as error:
            raise WordsError(f"the limit of {entry.field}: {error}") from None
    raise WordsError(f"the limit of {entry.field} as {raw!r}, which its driver does not know")


_INPUT = re.compile(r"(\d{3,5})\s*([pi])\s*(\d{1,3}(?:\.\d+)?)", re.IGNORECASE)


def input_signal(text: str) -> InputSignal:
    """An input format such as ``1080p50`` or ``1080i59.94``, of a 16:9 picture."""
    match = _INPUT.search(text)
    if match is None:
        return InputSignal(text)
    height, rate = int(match[1]), float(match[3])
    scan = "interlaced" if match[2].lower() == "i" else "progressive"
    return InputSignal(text, round(height * 16 / 9), height, rate, scan)
