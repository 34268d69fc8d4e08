"""How measurements are printed and written as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import zip_longest
from typing import TYPE_CHECKING

from direkt import parameters
from direkt.cli import output
from direkt.cli.output import escape, show_measured

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.measured import MeasurementJson
    from direkt.measure.meter import Measurement
    from direkt.parameters import Measured

_FEW = 8  # values that stay in one column


def print_measured(out: Console, found: Mapping[str, Measured]) -> None:
    """Measured values in plain words, the main ones; with --all each, under the name that sheets and JSON have for it."""
    everything = output.shows_all()
    told = {"video.width", "video.height"} if "video.size" in found else set()
    rows = [
        (name if everything else parameters.find(name).label, show_measured(name, measured), escape(measured.note))
        for name, measured in found.items() if name not in told and (everything or _is_main(name, measured))
    ]  # fmt: skip
    bare = [(label, value) for label, value, note in rows if not note]
    if output.is_wide(out) and len(bare) > _FEW:
        half = -(-len(bare) // 2)
        made = output.table("measured", "value", "measured", "value")
        for left, right in zip_longest(bare[:half], bare[half:], fillvalue=("", "")):
            made.add_row(*left, *right)
        out.print(made)
        rows = [row for row in rows if row[2]]
    if not rows:
        return
    made = output.table("measured", "value", *([""] if any(row[2] for row in rows) else []))
    for row in rows:
        made.add_row(*row[: len(made.columns)])
    out.print(made)


_MAIN = frozenset([
    "video.codec", "video.profile", "video.level", "video.size", "video.display_aspect", "video.scan", "video.frame_rate", "video.keyframe_interval.median",
    "video.keyframe_interval.max", "video.rate_control", "video.bitrate.mean", "video.bitrate.peak", "video.b_frames", "audio.present", "audio.codec",
    "audio.profile", "audio.sample_rate", "audio.channels", "audio.bitrate.mean", "audio.level", "stream.protocol", "stream.duration", "stream.av_offset",
    "stream.timestamps", "video.projection",
])  # fmt: skip
# What is worth a word only where it is not as it should be
_GOOD: Mapping[str, object] = {
    "video.pictures_missing": 0, "video.pictures_repeated": 0, "video.frozen": 0, "video.configured": "yes", "audio.configured": "yes", "video.moving": "yes",
    "audio.silent": "no", "video.frame_rate_constant": "yes", "stream.packets_lost": 0, "stream.packets_doubled": 0, "stream.packets_reordered": 0,
    "video.projection": "none", "stream.timestamps": "clean", "video.filler": 0, "video.gop_closed": "yes",
}  # fmt: skip


def _is_main(name: str, measured: Measured) -> bool:
    if name in _GOOD:
        return measured.value != _GOOD[name]
    return name in _MAIN or bool(measured.note)


_NOTED = {"differs": "[yellow]! differs[/]", "note": "[yellow]! note[/]", "breaks": "[bold red]✗ breaks[/]"}


def print_side_notes(out: Console, measurement: Measurement) -> None:
    """Disagreements, remarks and breaks."""
    from direkt.report.reading import side_notes

    for one in side_notes(measurement):
        out.print(f"{_NOTED[one.kind]}  {escape(one.text)}")


def measurement_json(measurement: Measurement) -> MeasurementJson:
    """The parts of a JSON document that every measurement has."""
    found, broken = measurement.found, measurement.broken
    return {
        "measured": measurement.values,
        "bounds": {name: m.bound.value for name, m in found.items() if m.bound},
        "uncertainties": {name: m.uncertainty for name, m in found.items() if m.uncertainty},
        "usual": {name: m.usual for name, m in found.items() if m.usual is not None},
        "also": {name: list(m.also) for name, m in found.items() if m.also},
        "notes": {name: m.note for name, m in found.items() if m.note},
        "differences": list(measurement.differences),
        "remarks": list(measurement.remarks),
        "broken": broken,
    }  # fmt: skip
