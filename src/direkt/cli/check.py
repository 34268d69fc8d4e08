"""direkt check: measure and judge a recording, or the stream that a device gives out."""

from __future__ import annotations

import gc
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, reports
from direkt.cli.exits import ExitCode
from direkt.errors import Malformed, UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.documents.measured import CheckJson, FindingJson
    from direkt.destination.sheet import Sheet
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement


_SECONDS = 10.0


@click.command()
@click.argument("source", metavar="FILE|URL", required=False)
@click.option("--sheet", "sheet_name", metavar="NAME|FILE", help="Judge against this sheet.")
@click.option(
    "--feed", "feed_name", metavar="FEED",
    help="Fetch the stream of this feed's device and channel; judge it by the feed's sheet, beside what the device says.",
)  # fmt: skip
@options.time_option("--for", "seconds", default=_SECONDS, help="How long to fetch a stream.")
@click.option("--by", type=click.Choice(["tcp", "udp"]), help="RTSP: how packets come [default: tcp, or else udp].")
@click.option("--login", "login_ref", metavar="REF", help="User:password: env:NAME, file:PATH#NAME, or 'ask' to type it.")
@click.option(
    "--programme", type=click.IntRange(1, 65535), metavar="N",
    help="MPEG-TS: measure the programme with this number [default: the one with picture and sound].",
)  # fmt: skip
@options.all_option
@reports.report_option
@reports.junit_option
@options.rig_option
@options.json_option
def check(
    source: str | None, sheet_name: str | None, feed_name: str | None, seconds: float, by: str | None, login_ref: str | None,
    programme: int | None, report: Path | None, rig_path: Path | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Measure a recording, or the stream that a device offers, and judge it against a sheet.

    Every value is measured on the stream itself; where the file's own claims differ, that is shown. Of an address that
    begins with rtsp:// or rtmp://, the stream is fetched and measured: is it the camera, or is it the push? Its login
    stands in the address, comes by --login, or is that of the rig's device at this address.
    """
    from direkt.protocol.source import is_source

    if feed_name is not None or (source is not None and is_source(source)):
        from direkt.cli.check_source import check_source

        if programme is not None:
            raise UnusableInput("--programme goes with a file, not with the address of a stream")
        if feed_name is not None and (source is not None or sheet_name is not None or login_ref is not None):
            raise UnusableInput("--feed brings its own address, sheet and login: name nothing else with it")
        return check_source(source, sheet_name, feed_name, seconds, by or "", login_ref, report, rig_path, as_json)
    if source is None:
        raise click.UsageError("Missing argument 'FILE|URL': a recording, or the address of a stream.")
    if by is not None or login_ref is not None:
        raise UnusableInput("--by and --login go with the address of a stream, not with a file")
    return _check_file(Path(source), sheet_name, report, programme, as_json=as_json)


def _check_file(source: Path, sheet_name: str | None, report: Path | None, programme: int | None, *, as_json: bool) -> ExitCode:  # fmt: skip
    sheet = None
    if sheet_name is not None:
        from direkt.destination import library

        sheet = library.load(sheet_name)
    measurement = measure(source, programme)
    judgement = None
    if sheet is not None:
        from direkt.judge import judge_sent

        judgement = judge_sent(sheet, measurement.found)
    if not as_json:
        _print(source, sheet, measurement, judgement)
    if as_json or report is not None or reports.wants_junit():
        document = _document(source, sheet, measurement, judgement)
        if as_json:
            output.print_json(document)
        reports.save(report, document, lambda: reports.of_stream(source.name, sheet, measurement, judgement))
    if measurement.odd_codec is not None:
        output.note(f"{source}: the video is {measurement.odd_codec}; of it only times and bytes were measured")
        if sheet is None:
            return ExitCode.USE
    if judgement is None:
        return ExitCode.GOOD
    from direkt.cli import judgement as judging

    return judging.exit_code(judgement)


def measure(source: Path, programme: int | None) -> Measurement:
    """Measures a whole recording. Raises UnusableInput. Nothing in it makes reference cycles, so the collector can rest."""
    from direkt import container
    from direkt.measure.meter import Meter

    meter = Meter()
    gc.disable()
    try:
        meter.add_all(container.read(source, programme))
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
        "schema": "direkt.check/1", "source": str(source), "sheet": sheet.id if sheet else None, "feed": None, "set": None,
        "ended": None, **measuring.measurement_json(measurement), "findings": findings, "verdict": verdict,
    }  # fmt: skip


def _print(source: Path, sheet: Sheet | None, measurement: Measurement, judgement: Judgement | None) -> None:
    from direkt.cli import measurement as measuring

    out = output.console()
    if judgement is None or sheet is None:
        out.print(f"[bold]{output.escape(source)}[/]")
        measuring.print_measured(out, measurement.found)
        measuring.print_side_notes(out, measurement)
        output.note("Not judged: name a sheet with --sheet (direkt sheet list shows them).")
        return
    from direkt.cli import judgement as judging

    judging.print_judged(out, source.name, "", measurement, judgement, sheet, with_set=False)
    measuring.print_side_notes(out, measurement)
