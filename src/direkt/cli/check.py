"""direkt check: measure and judge a recording."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
from rich.markup import escape

from direkt.cli import common


@click.command()
@click.argument("source", metavar="FILE", type=click.Path(path_type=Path))
@click.option("--sheet", "sheet_name", metavar="NAME|FILE", help="Judge against this sheet.")
@click.option("--report", type=click.Path(path_type=Path), metavar="FILE", help="Also write the JSON document to FILE.")
@common.json_option
def check(source: Path, sheet_name: str | None, report: Path | None, as_json: bool) -> int:
    """Measure a recording (FLV or MP4) and judge it against a sheet.

    Every value is measured on the stream itself; where the file's own claims differ, that is shown.
    """
    from direkt.container import files
    from direkt.measure.meter import Meter

    sheet = None
    if sheet_name is not None:
        with common.errors():
            from direkt.sheet import library

            sheet = library.load(sheet_name)
    try:
        with source.open("rb") as file:
            kind = files.kind_of(file.read(12))
        meter = Meter(0.0 if kind == "mp4" else 0.001)
        with common.errors(str(source)):
            _measure(source, meter)
    except OSError as error:
        raise common.Failure(
            f"{source}: cannot be read: {(error.strerror or str(error)).lower()}", common.USE
        ) from None
    measurement = meter.snapshot()
    codec = measurement.values.get("video.codec")
    if codec is None:
        said = f"; {measurement.broken.reason} (byte {measurement.broken.offset})" if measurement.broken else ""
        raise common.Failure(f"{source}: no video in it{said}", common.USE)
    judgement = None
    if sheet is not None:
        from direkt.judge import judge_sent

        judgement = judge_sent(sheet, measurement.values, None, measurement.notes)
    document = {
        "schema": "direkt.check/1", "source": str(source), "sheet": sheet.id if sheet else None,
        **common.measurement_json(measurement),
        # without a sheet nothing was asked, so there is no verdict
        "findings": [finding.json() for finding in judgement.findings] if judgement else [],
        "verdict": judgement.verdict.value if judgement else None,
    }  # fmt: skip
    common.save_report(report, document)
    if codec != "h264":
        common.note(f"{source}: the video is {codec}, not H.264; of it only times and bytes were measured")
    if as_json:
        common.print_json(document)
    else:
        out = common.console()
        out.print(f"[bold]{escape(str(source))}[/]")
        judged = {finding.parameter for finding in judgement.findings} if judgement else set()
        common.print_measured(out, measurement.values, measurement.notes, judged)
        if judgement is not None:
            common.print_findings(out, judgement, with_set=False)
        common.print_side_notes(out, measurement)
        if judgement is not None:
            common.print_verdict(out, judgement, sheet)
        else:
            common.note("Not judged: name a sheet with --sheet (direkt sheet list shows them).")
    if sheet is None and codec != "h264":
        return common.USE
    return common.verdict_code(judgement) if judgement is not None else 0


def _measure(source: Path, meter: Any) -> None:
    """Feeds a whole recording to the meter. Nothing in it makes reference cycles, so the collector can rest."""
    import gc

    from direkt.container import files

    gc.disable()
    try:
        meter.add_all(files.read(source))
    finally:
        gc.enable()
