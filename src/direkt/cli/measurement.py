"""How measurements are printed and written as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import zip_longest
from typing import TYPE_CHECKING

from direkt.cli import output
from direkt.cli.output import escape, show, show_measured

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.measured import MeasurementJson
    from direkt.measure.meter import Measurement
    from direkt.parameters import Measured

_FEW = 8  # values that stay in one column


def print_measured(out: Console, found: Mapping[str, Measured], skip: set[str]) -> None:
    """Measured values that no finding shows, and what goes with them."""
    told = {"video.width", "video.height"} if "video.size" in found else set()
    rows = [(name, measured) for name, measured in found.items() if name not in skip | told]
    if not rows:
        return
    bare = [(name, show_measured(name, measured)) for name, measured in rows if not measured.note]
    if output.is_wide(out) and len(bare) > _FEW:
        half = -(-len(bare) // 2)
        made = output.table("measured", "value", "measured", "value")
        for left, right in zip_longest(bare[:half], bare[half:], fillvalue=("", "")):
            made.add_row(*left, *right)
        out.print(made)
        rows = [(name, measured) for name, measured in rows if measured.note]
    if not rows:
        return
    made = output.table("measured", "value", "")
    for name, measured in rows:
        made.add_row(name, show_measured(name, measured), escape(measured.note))
    out.print(made)


def print_side_notes(out: Console, measurement: Measurement) -> None:
    """Disagreements, remarks and breaks."""
    for d in measurement.differences:
        claimed, stream = (show(d.what, value) for value in (d.claimed, d.stream))
        out.print(f"[yellow]! differs[/]  {escape(d.what)}: {escape(d.source)} say{'' if d.source.endswith('s') else 's'} "
                  f"{claimed}, the stream itself has {stream}")  # fmt: skip
    for remark in measurement.remarks:
        out.print(f"[yellow]! note[/]  {escape(remark)}")
    if measurement.broken:
        out.print(
            f"[bold red]✗ breaks[/]  at byte {measurement.broken.offset}: {escape(measurement.broken.reason)}; "
            "what stands before it was judged"
        )


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
