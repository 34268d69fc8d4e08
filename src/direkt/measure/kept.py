"""A measurement as it is kept: small, as JSON, and back again, so that it can be judged later without the stream."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from direkt import parameters
from direkt.errors import Malformed
from direkt.measure.meter import Measurement
from direkt.measure.series import OverTime
from direkt.media import Break
from direkt.parameters import Bound, Measured, Value, ValueKind

COLUMNS = 240  # of a series that are kept
_KEYFRAMES = 600  # times of them
_LARGEST = 1e15  # of a number, in any unit


def keep(measurement: Measurement) -> dict[str, object]:
    """What is kept of a measurement. Only what is there takes room."""
    found = {name: {part: value for part, value in asdict(one).items() if part == "value" or _says(value)} for name, one in measurement.found.items()}
    kept: dict[str, object] = {"found": found}
    if measurement.remarks:
        kept["remarks"] = list(measurement.remarks)
    if measurement.broken is not None:
        kept["broken"] = asdict(measurement.broken)
    for name, track in (("video", measurement.video_series), ("audio", measurement.audio_series)):
        if track is not None and track.kbit_s:
            kept[name] = _track(track)
    return kept


def _says(value: object) -> bool:
    return value is not None and value is not False and value != "" and value != ()


def _track(track: OverTime) -> dict[str, object]:
    group = -(-len(track.kbit_s) // COLUMNS)
    rates, marks = track.kbit_s, track.marks
    parts = range(0, len(rates), group)
    return {
        "width": track.width * group, "seconds": round(track.seconds, 3),
        "kbit_s": [round(sum(rates[n : n + group]) / len(rates[n : n + group]), 1) for n in parts],
        "keyframes": [sum(marks[n : n + group]) for n in parts], "times": [round(at, 3) for at in track.times[:_KEYFRAMES]],
    }  # fmt: skip


def read(kept: Mapping[str, Any]) -> Measurement:
    """A measurement that was kept. Raises Malformed for what is none; what a later version knows more is passed over."""
    try:
        found = {str(name): _measured(str(name), dict(one)) for name, one in dict(kept["found"]).items() if name in parameters.TABLE}
        series = {name: _over_time(kept[name]) for name in ("video", "audio") if kept.get(name)}
        remarks = tuple(str(one) for one in kept.get("remarks", ()))
        broken = kept.get("broken")
        broke = Break(int(broken["offset"]), str(broken["reason"])) if broken else None
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise Malformed(f"the measures that were kept cannot be read: {error}") from None
    ordered = {name: found[name] for name in parameters.in_table_order(found)}
    return Measurement(ordered, remarks=remarks, broken=broke, video_series=series.get("video"), audio_series=series.get("audio"))


def of_document(document: Mapping[str, Any]) -> Measurement:
    """The measurement in a JSON document of check, catch or rehearse. Raises Malformed."""
    try:
        if not isinstance(values := document.get("measured"), dict):
            raise Malformed("it holds no measures: it must be a document of check, catch or rehearse")
        parts = {part: dict(document.get(part, {})) for part in ("bounds", "uncertainties", "usual", "also", "notes")}
        found = {
            name: {
                "value": value, "bound": parts["bounds"].get(name), "uncertainty": parts["uncertainties"].get(name), "usual": parts["usual"].get(name),
                "also": parts["also"].get(name, ()), "note": parts["notes"].get(name, ""),
            } for name, value in values.items()
        }  # fmt: skip
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise Malformed(f"its measures cannot be read: {error}") from None
    return read({"found": found, "remarks": document.get("remarks", ()), "broken": document.get("broken")})


def _measured(name: str, one: dict[str, Any]) -> Measured:
    bound, since, uncertainty = one.get("bound"), one.get("since"), one.get("uncertainty")
    return Measured(
        _value(name, one["value"]), Bound(bound) if bound else None, float(uncertainty) if uncertainty is not None else None, str(one.get("note", "")),
        tuple(_value(name, value) for value in one.get("also", ())), _value(name, one["usual"]) if one.get("usual") is not None else None, bool(one.get("lossy", False)),
        float(since) if since is not None else None, str(one.get("unread", "")),
    )  # fmt: skip


def _value(name: str, value: object) -> Value:
    """A value of the parameter's kind. Raises ValueError; a word that only later versions have stays."""
    numeric = parameters.find(name).kind is ValueKind.NUMBER
    if numeric and isinstance(value, int | float) and not isinstance(value, bool) and abs(value) <= _LARGEST:
        return value
    if not numeric and isinstance(value, str):
        return value
    raise ValueError(f"{name}: {str(value)[:40]!r} is no value of it")


def _over_time(kept: Mapping[str, Any]) -> OverTime:
    return OverTime(
        float(kept["width"]), tuple(float(rate) for rate in kept["kbit_s"]), tuple(int(mark) for mark in kept["keyframes"]),
        tuple(float(at) for at in kept["times"]), float(kept["seconds"]),
    )  # fmt: skip
