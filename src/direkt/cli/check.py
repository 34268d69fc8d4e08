"""direkt check: measure and judge a recording."""

from __future__ import annotations

import gc
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.errors import Malformed, UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.schemas import CheckJson, FindingJson
    from direkt.destination.model import Sheet
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement


@click.command()
@click.argument("source", metavar="FILE", type=click.Path(path_type=Path))
@click.option("--sheet", "sheet_name", metavar="NAME|FILE", help="Judge against this sheet.")
@options.report_option
@options.json_option
def check(source: Path, sheet_name: str | None, report: Path | None, as_json: bool) -> ExitCode:
    """Measure a recording and judge it against a sheet.

    Every value is measured on the stream itself; where the file's own claims differ, that is shown.
    """
    sheet = None
    if sheet_name is not None:
        from direkt.destination import library

        sheet = library.load(sheet_name)
    measurement = _measure(source)
    judgement = None
    if sheet is not None:
        from direkt.judge import judge_sent

        judgement = judge_sent(sheet, measurement.found)
    if not as_json:
        _print(source, sheet, measurement, judgement)
    if as_json or report is not None:
        document = _document(source, sheet, measurement, judgement)
        if as_json:
            output.print_json(document)
        output.save_report(report, document)
    if measurement.odd_codec is not None:
        output.note(f"{source}: the video is {measurement.odd_codec}; of it only times and bytes were measured")
        if sheet is None:
            return ExitCode.USE
    if judgement is None:
        return ExitCode.GOOD
    from direkt.cli import judgement as judging

    return judging.exit_code(judgement)


def _measure(source: Path) -> Measurement:
    """A whole recording. Nothing in it makes reference cycles, so the collector can rest."""
    from direkt import container
    from direkt.measure.meter import Meter

    meter = Meter()
    gc.disable()
    try:
        meter.add_all(container.read(source))
    except Malformed as error:
        raise UnusableInput(f"{source}: {error}") from None
    except OSError as error:
        raise UnusableInput(f"{source}: cannot be read: {os_words(error)}") from None
    finally:
        gc.enable()
    measurement = meter.snapshot()
    if "video.codec" not in measurement.found:
        broken = measurement.broken
        said = f"; {broken.reason} (byte {broken.offset})" if broken else ""
        raise UnusableInput(f"{source}: no video in it{said}")
    return measurement


def _document(source: Path, sheet: Sheet | None, measurement: Measurement, judgement: Judgement | None) -> CheckJson:
    from direkt.cli import measurement as measuring

    findings: list[FindingJson] = []
    verdict = None
    if judgement is not None:
        from direkt.cli import judgement as judging

        findings, verdict = judging.findings_json(judgement, sheet)
    return {
        "schema": "direkt.check/1", "source": str(source), "sheet": sheet.id if sheet else None,
        **measuring.measurement_json(measurement), "findings": findings, "verdict": verdict,
    }  # fmt: skip


def _print(source: Path, sheet: Sheet | None, measurement: Measurement, judgement: Judgement | None) -> None:
    from direkt.cli import measurement as measuring

    out = output.console()
    out.print(f"[bold]{output.escape(source)}[/]")
    judged = {finding.parameter for finding in judgement.findings} if judgement else set()
    measuring.print_measured(out, measurement.found, judged)
    if judgement is None or sheet is None:
        measuring.print_side_notes(out, measurement)
        output.note("Not judged: name a sheet with --sheet (direkt sheet list shows them).")
        return
    from direkt.cli import judgement as judging

    judging.print_findings(out, judgement, with_set=False)
    measuring.print_side_notes(out, measurement)
    judging.print_verdict(out, judgement, sheet)
