"""Sheet files: their form, and how one becomes a Sheet, on its own or on top of the sheet that it extends."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Field, WithJsonSchema

from direkt import demand, documents, parameters
from direkt.codec import registry
from direkt.demand import Demand
from direkt.destination.pattern import Pattern, PatternError
from direkt.destination.sheet import (
    AudioRung,
    CheckStep,
    KeyFacts,
    Mode,
    Protocol,
    Rule,
    Rung,
    Server,
    SessionRules,
    Sheet,
    Span,
    Spherical,
)
from direkt.documents import Document, DocumentError, Problem, Strict
from direkt.parameters import ParameterError, ValueKind

AnyDemand = Annotated[Any, WithJsonSchema({"description": "A value, a list of values, or a range with min, max or both."})]


class RuleEntry(Strict):
    """What a parameter must be, should be and must never be."""

    must: AnyDemand = None
    should: AnyDemand = None
    never: Annotated[Any, WithJsonSchema({"description": "A value or a list of values that are refused."})] = None
    same_as_source: bool = False
    because: str = ""


class Range(Strict):
    """From min to max."""

    min: float = Field(ge=0)
    max: float = Field(ge=0)


class BitrateRange(Strict):
    """kbit/s, with the recommended one; an end that is not named is open."""

    min: float = Field(default=0, ge=0)
    best: float | None = Field(default=None, ge=0)
    max: float | None = Field(default=None, ge=0)


def _listed(value: object) -> object:
    return [value] if isinstance(value, str) else value


def _codec(value: str) -> str:
    return str(parameters.clean("video.codec", value))


_CODEC_SCHEMA = {"enum": list(registry.VIDEO)}
Codecs = Annotated[
    list[Annotated[str, AfterValidator(_codec)]], Field(min_length=1), BeforeValidator(_listed),
    WithJsonSchema({"anyOf": [_CODEC_SCHEMA, {"type": "array", "items": _CODEC_SCHEMA, "minItems": 1}]}),
]  # fmt: skip


class RungEntry(Strict):
    """One step of the ladder."""

    codec: Codecs | None = None
    size: str
    frame_rate: Range
    bitrate: BitrateRange


class AudioRungEntry(Strict):
    """Audio bitrate by the number of channels."""

    channels: int = Field(ge=1, le=24)
    bitrate: BitrateRange


class LatencyModeEntry(Strict):
    """A latency mode: what it changes."""

    summary: str = ""
    delay: Literal["usual", "short", "shortest"] | None = None
    viewers_behind_s: Span | None = None
    rules: dict[str, RuleEntry] = {}


class SheetFile(Strict):
    """An ingest sheet."""

    schema_: Literal["direkt.sheet/1"] = Field(alias="schema")
    name: str = Field(min_length=1)
    summary: str | None = None
    extends: str | None = None
    protocols: list[Protocol] | None = None
    servers: list[Server] | None = None
    rules: dict[str, RuleEntry] = {}
    ladder: list[RungEntry] | None = None
    peak_percent: float | None = Field(default=None, ge=0)
    audio_ladder: list[AudioRungEntry] | None = None
    spherical: Spherical | None = None
    latency: dict[str, LatencyModeEntry] | None = None
    session: SessionRules | None = None
    key: KeyFacts | None = None
    checklist: list[CheckStep] | None = None
    notes: list[str] | None = None


def json_schema() -> dict[str, Any]:
    """The JSON Schema of sheet files, with every parameter's name and meaning where rules stand."""
    made = SheetFile.model_json_schema(by_alias=True)
    entry = made["$defs"].pop("RuleEntry")
    for row in parameters.TABLE.values():
        value = _value_schema(row)
        own = {
            **entry["properties"], **{strength: _demand_schema(row) for strength in ("must", "should")},
            "never": {**entry["properties"]["never"], "anyOf": [value, {"type": "array", "items": value, "minItems": 1}, {"type": "null"}]},
        }  # fmt: skip
        made["$defs"][row.name] = {**entry, "title": row.name, "description": row.meaning, "properties": own}
    for holder in (made, made["$defs"][LatencyModeEntry.__name__]):
        rules = holder["properties"]["rules"]
        rules["additionalProperties"] = False
        rules["properties"] = {name: {"$ref": f"#/$defs/{name}"} for name in parameters.TABLE}
    made["$defs"]["RungEntry"]["properties"]["size"]["pattern"] = f"^(?:{parameters.PATTERNS[ValueKind.SIZE]})$"
    return made


def _demand_schema(row: parameters.Parameter) -> dict[str, Any]:
    """What may be demanded of a parameter: its values, lists of them and, where they have an order, ranges."""
    value = _value_schema(row)
    ways = [value, {"type": "array", "items": value, "minItems": 1}, {"type": "null"}]
    if row.kind in (ValueKind.NUMBER, ValueKind.VERSION):
        ways.append({"type": "object", "additionalProperties": False, "minProperties": 1, "properties": {"min": value, "max": value}})
    unit = f", in {row.unit}" if row.unit else ""
    return {"description": f"A value{unit}, a list of values, or a range with min, max or both.", "anyOf": ways, "default": None}


def _value_schema(row: parameters.Parameter) -> dict[str, Any]:
    if row.kind is ValueKind.NUMBER:
        return {"type": "number"} if row.signed else {"type": "number", "minimum": 0}
    if row.kind is ValueKind.YES_NO:
        return {"enum": ["yes", "no", True, False]}
    if row.kind is ValueKind.CHOICE:
        return {"enum": [*row.choices, *([True, False] if "yes" in row.choices else [])]}
    text = {"type": "string", "pattern": rf"^\s*(?:{parameters.PATTERNS[row.kind]})\s*$"}
    if row.kind is ValueKind.VERSION:  # YAML reads 4.1 as a number
        return {"anyOf": [text, {"enum": [tenths / 10 for tenths in range(10, 100)]}]}
    return text


def build(document: Document, sheet_id: str, load: Callable[[str], Sheet] | None = None) -> Sheet:
    """A sheet from its document. ``load`` finds the sheet that it extends. Raises DocumentError with every mistake."""
    file = documents.check(document, SheetFile)
    problems: list[Problem] = []
    base = None
    if file.extends is not None:
        base = _base(document, file.extends, load, problems)
    rules = _rules(document, ["rules"], file.rules, problems)
    ladder = [rung for n, e in enumerate(file.ladder or []) if (rung := _rung(document, n, e, problems)) is not None]
    audio = [_audio_rung(document, n, e, problems) for n, e in enumerate(file.audio_ladder or [])]
    modes = {
        name: Mode(
            name, entry.summary, _rules(document, ["latency", name, "rules"], entry.rules, problems), entry.delay or "",
            entry.viewers_behind_s,
        )
        for name, entry in (file.latency or {}).items()
    }
    if file.key is not None and file.key.pattern is not None:
        try:
            Pattern(file.key.pattern)
        except PatternError as error:
            problems.append(Problem(document.line(["key", "pattern"]), f"key.pattern: {error}"))
    if problems:
        raise DocumentError(document.source, problems)
    own = Sheet(
        name=file.name, id=sheet_id, summary=file.summary or "", rules=rules, ladder=tuple(ladder), source=document.source,
        notes=tuple(file.notes or ()), audio_ladder=tuple(audio), peak_percent=file.peak_percent,
        protocols=tuple(file.protocols or ()), servers=tuple(file.servers or ()), spherical=file.spherical,
        session=file.session, key=file.key, checklist=tuple(file.checklist or ()), modes=modes,
    )  # fmt: skip
    return own if base is None else _on_top(own, base, file)


def _base(document: Document, name: str, load: Callable[[str], Sheet] | None, problems: list[Problem]) -> Sheet | None:
    line = document.line(["extends"])
    if load is None:
        problems.append(Problem(line, f"extends: {name!r} cannot be looked up from here"))
        return None
    try:
        return load(name)
    except DocumentError as error:
        problems.append(Problem(line, f"extends: {error.lines()[0]}"))
        return None


def _on_top(own: Sheet, base: Sheet, file: SheetFile) -> Sheet:
    """``own`` where it says something, ``base`` elsewhere; rules one by one."""
    from dataclasses import replace

    given = file.model_fields_set
    changes: dict[str, Any] = {"rules": {**base.rules, **own.rules}, "modes": {**base.modes, **own.modes}}
    for name in ("summary", "ladder", "peak_percent", "audio_ladder", "protocols", "servers", "spherical", "session",
                 "key", "checklist", "notes"):  # fmt: skip
        if name not in given:
            changes[name] = getattr(base, name)
    return replace(own, **changes)


def _rules(
    document: Document, path: Sequence[str | int], entries: Mapping[str, RuleEntry], problems: list[Problem]
) -> dict[str, Rule]:
    rules: dict[str, Rule] = {}
    lines = document.lines(path) if entries else {}
    for name, entry in entries.items():
        line = lines.get(name, 0)
        try:
            parameters.find(name)
        except ParameterError as error:
            problems.append(Problem(line, f"{path[0]}: {error}"))
            continue
        parts: dict[str, Demand | None] = {}
        for part in ("must", "should"):
            raw = getattr(entry, part)
            if raw is None:
                continue
            try:
                parts[part] = demand.parse(name, raw)
            except ParameterError as error:
                problems.append(Problem(document.line([*path, name, part]), str(error)))
        if entry.never is not None and (entry.must is None or "must" in parts):
            try:
                parts["must"] = demand.parse(name, entry.must, entry.never)
            except ParameterError as error:
                problems.append(Problem(document.line([*path, name, "never"]), str(error)))
        if entry.same_as_source and name != "video.frame_rate":
            problems.append(Problem(line, f"{name}: same_as_source goes with video.frame_rate only"))
        if entry.must is None and entry.should is None and entry.never is None and not entry.same_as_source:
            problems.append(Problem(line, f"{name}: expected must, should or never"))
        rules[name] = Rule(
            name,
            parts.get("must"),
            parts.get("should"),
            entry.because,
            f"{document.source}:{line}",
            entry.same_as_source,
        )
    return rules


def _rung(document: Document, number: int, entry: RungEntry, problems: list[Problem]) -> Rung | None:
    line = document.line(["ladder", number])
    try:
        size = parameters.clean("video.size", entry.size)
    except ParameterError as error:
        problems.append(Problem(document.line(["ladder", number, "size"]), f"ladder: {error}"))
        return None
    rates, bitrates = entry.frame_rate, entry.bitrate
    if rates.min > rates.max:
        place = document.line(["ladder", number, "frame_rate"])
        problems.append(Problem(place, f"ladder: frame_rate min {rates.min:g} is above max {rates.max:g}"))
    _check_bitrates(bitrates, "ladder", document.line(["ladder", number, "bitrate"]), problems)
    width, height = parameters.size_of(size)
    best = None if bitrates.best is None else _whole(bitrates.best)
    return Rung(
        width,
        height,
        rates.min,
        rates.max,
        _whole(bitrates.min),
        best,
        None if bitrates.max is None else _whole(bitrates.max),
        f"{document.source}:{line}",
        tuple(entry.codec or ()),
    )


def _audio_rung(document: Document, number: int, entry: AudioRungEntry, problems: list[Problem]) -> AudioRung:
    line = document.line(["audio_ladder", number])
    bitrates = entry.bitrate
    _check_bitrates(bitrates, "audio_ladder", document.line(["audio_ladder", number, "bitrate"]), problems)
    best = None if bitrates.best is None else _whole(bitrates.best)
    most = None if bitrates.max is None else _whole(bitrates.max)
    return AudioRung(entry.channels, _whole(bitrates.min), best, most, f"{document.source}:{line}")


def _check_bitrates(bitrates: BitrateRange, what: str, line: int, problems: list[Problem]) -> None:
    low, best, high = bitrates.min, bitrates.best, bitrates.max
    if bitrates.model_fields_set.isdisjoint({"min", "best", "max"}):
        problems.append(Problem(line, f"{what}: bitrate: expected min, best, max or several of them"))
    elif high is not None and low > high:
        problems.append(Problem(line, f"{what}: bitrate min {low:g} is above max {high:g}"))
    elif best is not None and not (low <= best and (high is None or best <= high)):
        high = float("inf") if high is None else high
        problems.append(Problem(line, f"{what}: bitrate best {best:g} lies outside {low:g} to {high:g} kbit/s"))


def _whole(number: float) -> float:
    """Whole numbers as int, so that they print without a point."""
    return int(number) if number == int(number) else number
