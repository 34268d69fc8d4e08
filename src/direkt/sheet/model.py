"""The ingest sheet: what a destination demands and recommends, as data.

A sheet file is YAML. Each rule names a parameter and says what it must be and, apart from that, what it should
be: a value, a list of values, or a range. The ladder gives the video bitrate by picture size and frame rate.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from pydantic import Field

from direkt import demand, documents, parameters
from direkt.demand import Demand
from direkt.documents import Document, DocumentError, Problem, Strict
from direkt.parameters import ParameterError, Value, Values

SCHEMA = "direkt.sheet/1"


@dataclass(frozen=True, slots=True)
class Rule:
    """What a sheet says of one parameter."""

    name: str
    must: Demand | None = None
    should: Demand | None = None
    because: str = ""
    source: str = ""  # file and line

    def text(self) -> str:
        """As a person reads it."""
        if self.must and self.should:
            return f"{self.must.text()}; best {self.should.text()}"
        if self.must:
            return self.must.text()
        return f"best {self.should.text()}" if self.should else ""

    def json(self) -> dict[str, Any]:
        """``{"must": ..., "should": ...}``, each only where there is one."""
        parts = {"must": self.must, "should": self.should}
        return {key: part.json() for key, part in parts.items() if part is not None}


@dataclass(frozen=True, slots=True)
class Rung:
    """One step of the ladder: for pictures up to this size at these rates, the video bitrate in kbit/s."""

    width: int  # px
    height: int  # px
    slowest: float  # fps
    fastest: float  # fps
    minimum: float  # kbit/s
    best: float | None
    maximum: float
    source: str = ""

    def fits(self, width: int, height: int, frame_rate: float) -> bool:
        """Whether the picture is no larger than this rung's, at one of its rates."""
        return (
            width <= self.width and height <= self.height and self.slowest - 0.01 <= frame_rate <= self.fastest + 0.01
        )


@dataclass(frozen=True, slots=True)
class Sheet:
    """One destination's ingest requirements."""

    name: str  # as people say it
    id: str  # as commands and files say it
    summary: str
    rules: Mapping[str, Rule]
    ladder: tuple[Rung, ...] = ()
    source: str = ""
    notes: tuple[str, ...] = field(default=())

    def rung_for(self, width: int, height: int, frame_rate: float) -> Rung | None:
        """The smallest rung that fits; None when there is none."""
        fitting = [rung for rung in self.ladder if rung.fits(width, height, frame_rate)]
        return min(fitting, key=lambda rung: (rung.width * rung.height, rung.fastest), default=None)

    def rules_for(self, values: Values) -> dict[str, Rule]:
        """All rules, with the bitrate's for the picture size and frame rate in ``values``, in the table's order."""
        rules = dict(self.rules)
        width, height, rate = (values.get(f"video.{part}") for part in ("width", "height", "frame_rate"))
        if isinstance(width, int) and isinstance(height, int) and isinstance(rate, int | float):
            rung = self.rung_for(width, height, rate)
            if rung is not None:
                rules["video.bitrate.mean"] = rung_rule(rung)
        return {name: rules[name] for name in parameters.in_table_order(rules)}


def rung_rule(rung: Rung) -> Rule:
    """The rule on the mean video bitrate that a rung stands for."""
    name = "video.bitrate.mean"
    best = Demand(name, (rung.best,)) if rung.best is not None else None
    because = f"for {rung.width}x{rung.height} at {rung.slowest:g} to {rung.fastest:g} fps"
    return Rule(name, Demand(name, minimum=rung.minimum, maximum=rung.maximum), best, because, rung.source)


# The file


class _RuleEntry(Strict):
    must: Any = None
    should: Any = None
    because: str = ""


class _Range(Strict):
    min: float = Field(ge=0)
    max: float = Field(ge=0)


class _BitrateRange(_Range):
    best: float | None = Field(default=None, ge=0)


class _RungEntry(Strict):
    size: str
    frame_rate: _Range
    bitrate: _BitrateRange


class SheetFile(Strict):
    """A sheet as it stands in its file."""

    schema_: Literal["direkt.sheet/1"] = Field(alias="schema")
    name: str = Field(min_length=1)
    summary: str = ""
    rules: dict[str, _RuleEntry]
    ladder: list[_RungEntry] = []
    notes: list[str] = []


def build(document: Document, sheet_id: str) -> Sheet:
    """A sheet from its document. Raises DocumentError with every mistake."""
    file = documents.check(document, SheetFile)
    problems: list[Problem] = []
    rules: dict[str, Rule] = {}
    for name, entry in file.rules.items():
        line = document.line(["rules", name])
        try:
            parameters.find(name)
        except ParameterError as error:
            problems.append(Problem(line, f"rules: {error}"))
            continue
        parts: dict[str, Demand | None] = {}
        for part in ("must", "should"):
            raw = getattr(entry, part)
            if raw is None:
                continue
            try:
                parts[part] = demand.parse(name, raw)
            except ParameterError as error:
                problems.append(Problem(document.line(["rules", name, part]), str(error)))
        if entry.must is None and entry.should is None:
            problems.append(Problem(line, f"{name}: expected must, should or both"))
        rules[name] = Rule(name, parts.get("must"), parts.get("should"), entry.because, f"{document.source}:{line}")
    ladder = [rung for n, entry in enumerate(file.ladder) if (rung := _rung(document, n, entry, problems)) is not None]
    if problems:
        raise DocumentError(document.source, problems)
    return Sheet(file.name, sheet_id, file.summary, rules, tuple(ladder), document.source, tuple(file.notes))


def _rung(document: Document, number: int, entry: _RungEntry, problems: list[Problem]) -> Rung | None:
    line = document.line(["ladder", number])
    try:
        size: Value = parameters.clean("video.size", entry.size)
    except ParameterError as error:
        problems.append(Problem(document.line(["ladder", number, "size"]), f"ladder: {error}"))
        return None
    for what, low, high in (
        ("frame_rate", entry.frame_rate.min, entry.frame_rate.max), ("bitrate", entry.bitrate.min, entry.bitrate.max),
    ):  # fmt: skip
        if low > high:
            place = document.line(["ladder", number, what])
            problems.append(Problem(place, f"ladder: {what} min {low:g} is above max {high:g}"))
    best = entry.bitrate.best
    if best is not None and not entry.bitrate.min <= best <= entry.bitrate.max:
        place = document.line(["ladder", number, "bitrate"])
        problems.append(
            Problem(
                place,
                f"ladder: bitrate best {best:g} lies outside {entry.bitrate.min:g} to {entry.bitrate.max:g} kbit/s",
            )
        )
    width, height = parameters.size_of(size)
    rates, bitrates = entry.frame_rate, entry.bitrate
    return Rung(
        width, height, rates.min, rates.max, _whole(bitrates.min), None if best is None else _whole(best),
        _whole(bitrates.max), f"{document.source}:{line}",
    )  # fmt: skip


def _whole(number: float) -> float:
    """Whole numbers as int, so that they print without a point."""
    return int(number) if number == int(number) else number
