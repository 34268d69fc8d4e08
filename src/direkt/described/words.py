"""One parameter in a device's own words and units, and back."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from fractions import Fraction
from typing import Literal

from pydantic import Field

from direkt import demand, parameters
from direkt.demand import Demand
from direkt.documents import Strict
from direkt.parameters import ParameterError, Value

Raw = bool | int | float | str | None  # what a device's answer holds for a setting

# how many of the device's units are one of the table's: kbit/s, Hz, s, fps
Unit = Literal["", "frames", "bit/s", "kbit/s", "Mbit/s", "kB/s", "Hz", "kHz", "s", "ms"]
UNITS: Mapping[str, tuple[str, float]] = {
    "bit/s": ("kbit/s", 1000.0), "kbit/s": ("kbit/s", 1.0), "Mbit/s": ("kbit/s", 0.001), "kB/s": ("kbit/s", 0.125),
    "Hz": ("Hz", 1.0), "kHz": ("Hz", 0.001), "s": ("s", 1.0), "ms": ("s", 1000.0), "frames": ("s", 1.0),
}  # fmt: skip


class WordsError(ParameterError):
    """A device's word or number that its driver does not know."""


class NotReported(WordsError):
    """What the device says alone does not tell the value."""


class SettingEntry(Strict):
    """How the device names one parameter."""

    at: str | list[str]  # where it stands in the answer; several fields for one parameter
    send: str | list[str] | None = None  # where it stands in what is sent, if that is elsewhere
    join: str = "x"  # what stands between several fields
    # ours: the device's; of several the first is written
    words: dict[str, bool | int | float | str | list[bool | int | float | str]] | None = None
    unit: Unit = ""  # the device's; empty: the table's
    factor: float = Field(1.0, gt=0, allow_inf_nan=False)  # the device's number is ours times this
    whole: bool = False  # the device takes whole numbers only
    limit_at: str | None = None  # where its limit stands, if not at the same place as the setting

    @property
    def places(self) -> list[str]:
        """Where it stands in the answer."""
        return [self.at] if isinstance(self.at, str) else self.at

    @property
    def targets(self) -> list[str]:
        """Where it stands in what is sent."""
        send = self.send if self.send is not None else self.at
        return [send] if isinstance(send, str) else send

    @property
    def times(self) -> float:
        """The device's number is ours times this."""
        return self.factor * UNITS[self.unit][1] if self.unit else self.factor

    @property
    def text(self) -> str:
        """Where it stands, for messages."""
        return " and ".join(self.places)


def _ratio(value: int | float) -> str:
    """A number as numerator and denominator; rates such as 29.97 by 1001."""
    exact = Fraction(value).limit_denominator(1000)
    slower = Fraction(round(value * 1.001) * 1000, 1001)
    if exact.denominator > 2 and abs(float(slower) - value) < 0.005:
        exact = slower
    return f"{exact.numerator}/{exact.denominator}"


def number_of(raw: object) -> int | float | None:
    """A number, also one that is written as a text; None for anything else."""
    if isinstance(raw, bool):
        return None
    if isinstance(raw, int | float):
        return raw
    if isinstance(raw, str) and (match := re.fullmatch(r"\s*(\d{1,9})\s*/\s*([1-9]\d{0,8})\s*", raw)):  # numerator and denominator
        value = round(int(match[1]) / int(match[2]), 3)
        return int(value) if value == int(value) else value
    if isinstance(raw, str) and re.fullmatch(r"[-+]?\d{1,15}(?:\.\d{1,15})?", raw.strip()):
        value = float(raw)
        return int(value) if value == int(value) else value
    return None


def ours(name: str, entry: SettingEntry, raw: object, frame_rate: float) -> Value:
    """A device's value as ours. Raises WordsError; ``frame_rate``: fps, for what it counts in pictures."""
    if isinstance(raw, list | Mapping):
        raise WordsError(f"{entry.text or 'the whole answer'} as a group of fields, where its driver expects one value")
    try:
        if entry.words is not None:
            word = next((w for w, said in entry.words.items() if any(_is(one, raw) for one in _each(said))), None)
            if word is None:
                word = "other" if "other" in parameters.find(name).choices else str(raw)
            return parameters.clean(name, typed(name, word))
        if parameters.find(name).kind is parameters.ValueKind.NUMBER:
            number = number_of(raw)
            if number is None:
                return parameters.clean(name, raw)  # says what is wrong
            if entry.times != 1.0:
                number = round(number / entry.times, 6)
            if entry.unit == "frames":
                if not frame_rate:
                    raise NotReported(
                        f"{entry.text} = {raw!r} pictures, and no frame rate beside it: how many seconds that are is not known"
                    )
                number = parameters.keyframe_seconds(number, frame_rate)
            return parameters.clean(name, int(number) if number == int(number) else number)
        return parameters.clean(name, raw)
    except WordsError:
        raise
    except (ParameterError, OverflowError, ValueError) as error:
        raise WordsError(f"{entry.text} = {raw!r}, which its driver does not know: {error}") from None


def _each(said: bool | int | float | str | list[bool | int | float | str]) -> list[bool | int | float | str]:
    return said if isinstance(said, list) and said else [""] if isinstance(said, list) else [said]


def _is(theirs: bool | int | float | str, raw: object) -> bool:
    """Whether the device says this word: capitals do not matter, and a number or a yes may stand as a text."""
    if isinstance(theirs, str) or isinstance(raw, str):
        return str(theirs).strip().lower() == str(raw).strip().lower()
    if isinstance(raw, bool) or isinstance(theirs, bool):
        return raw is theirs
    return isinstance(raw, int | float) and raw == theirs


def typed(name: str, word: str) -> object:
    """A word of a driver file as a value: numbers stand there as texts."""
    number = number_of(word)
    return number if parameters.find(name).kind is parameters.ValueKind.NUMBER and number is not None else word


def theirs(entry: SettingEntry, value: Value, frame_rate: float) -> bool | int | float | str:
    """Our value as the device's; ``frame_rate``: fps, for what it counts in pictures."""
    if entry.words is not None:
        said = f"{value:g}" if isinstance(value, float) else str(value)
        return _each(entry.words.get(said, value))[0]
    if isinstance(value, str):
        return value
    if entry.unit == "frames":
        if not frame_rate:
            raise WordsError(f"{entry.text} counts pictures, and the frame rate is not known")
        return max(1, parameters.keyframe_frames(value, frame_rate))
    if len(entry.targets) > 1:
        return _ratio(value)
    number = value * entry.times if entry.times != 1.0 else value
    if entry.whole:
        return round(number)
    return int(number) if number == int(number) else round(number, 6)


def limit(name: str, entry: SettingEntry, raw: object, frame_rate: float) -> Demand:
    """What a device says it can be set to: a list, or a range with min and max. Raises WordsError.

    Texts such as ``25,30,50`` and ``300-20000`` are lists and ranges too.
    """
    if isinstance(raw, str):
        raw = spoken(raw)
    if isinstance(raw, Sequence) and not isinstance(raw, str) and raw:
        return Demand(name, tuple(dict.fromkeys(ours(name, entry, item, frame_rate) for item in raw)))
    if isinstance(raw, Mapping):
        bounds = {key: ours(name, entry, raw[key], frame_rate) for key in ("min", "max") if key in raw}
        try:
            return demand.parse(name, bounds)
        except ParameterError as error:
            raise WordsError(f"the limit of {entry.text}: {error}") from None
    given = "a group of fields" if isinstance(raw, Mapping) else repr(raw)
    raise WordsError(f"the limit of {entry.text} as {given}, which its driver does not know")


def spoken(text: str) -> object:
    span = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(?:-|\.\.|to)\s*(\d+(?:\.\d+)?)\s*", text)
    if span is not None:
        return {"min": number_of(span[1]), "max": number_of(span[2])}
    parts = [part.strip() for part in re.split(r"[,;|]", text)]
    return [part for part in parts if part] if len(parts) > 1 else text
