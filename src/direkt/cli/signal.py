"""direkt signal: a test card and a tone from this machine, and what the line carries."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.event_chosen import yes_option
from direkt.cli.exits import ExitCode
from direkt.cli.signal_run import SignalRun
from direkt.errors import UnusableInput

if TYPE_CHECKING:

    from direkt.destination.sheet import Sheet
    from direkt.rig.file import Rig
    from direkt.work.stream.signal import Settings


@click.command()
@click.argument("destination", required=False)
@click.option("--backup", is_flag=True, help="To the destination's backup server address.")
@options.time_option("--for", "seconds", default=20.0, help="How long it is sent; with --climb as long as that takes.")
@click.option("--climb", is_flag=True, help="Raise the bitrate step by step until the line does not carry it.")
@click.option(
    "--from",
    "begin",
    type=options.RealNumber(0.15, 200),
    metavar="MBIT",
    help="--climb: where it begins [default: half of the sheet's best].",
)
@click.option(
    "--most",
    type=options.RealNumber(0.2, 200),
    default=60.0,
    show_default=True,
    metavar="MBIT",
    help="--climb: where it ends at the latest.",
)
@click.option("--save", is_flag=True, help="--climb: write what the line carries into the rig, for direkt budget.")
@click.option(
    "--bitrate", type=options.RealNumber(0.15, 200), metavar="MBIT", help="Of the video, instead of the sheet's best."
)
@click.option("--size", metavar="WxH", help="Instead of the sheet's best, such as 1280x720.")
@click.option("--rate", type=options.RealNumber(1, 120), metavar="FPS", help="Instead of the sheet's best.")
@click.option("--rehearse", metavar="ADDRESS", help="To this receiver (see direkt catch) instead of the platform.")
@click.option("--on-air", is_flag=True, help="Also to an event that viewers see now.")
@yes_option
@options.report_option
@options.rig_option
@options.json_option
def signal(
    destination: str | None, backup: bool, seconds: float, climb: bool, begin: float | None, most: float, save: bool, bitrate: float | None,
    size: str | None, rate: float | None, rehearse: str | None, on_air: bool, yes: bool, report: Path | None, rig_path: Path | None,
    as_json: bool,
) -> ExitCode:  # fmt: skip
    """Push a test card and a tone from this machine to DESTINATION: is it the camera or the platform?

    Size, rate and bitrate are what the sheet likes best and the uplink carries. It goes to the real platform: to an event of its
    own for invited viewers where one can be made, and to none that viewers see. Meanwhile the connection is measured; --climb finds
    out what the line carries to that ingest.
    """
    from direkt.work.stream import signal

    if (save or begin is not None) and not climb:
        raise UnusableInput("--save and --from go with --climb")
    if climb and bitrate is not None:
        raise UnusableInput("--bitrate does not go with --climb: say --from and --most")
    rig = options.load_rig(rig_path)
    if destination is None:
        if len(rig.file.destinations) != 1:
            raise UnusableInput(f"name the destination: {rig.source} has {', '.join(rig.file.destinations) or 'none'}")
        destination = next(iter(rig.file.destinations))
    sheet = rig.sheet(rig.destination(destination))
    run = SignalRun(rig, destination, sheet, as_json=as_json)
    place = run.place(rehearse, backup=backup, on_air=on_air)
    try:
        if place.question and not run.agreed(place.question, yes=yes):
            output.error(
                "no signal was sent: make sure that the event is closed to viewers or for invited ones, then again, with --yes"
            )
            return ExitCode.USE
        settings = _settings(rig, sheet, place.server.scheme, size, rate, bitrate, begin, climb=climb)
        work = signal.Signalling(place.server, place.key, settings)
        result = run.drive(work, place, None if climb else seconds, most * 1000 if climb else None)
    finally:
        left = place.close()
        if left:
            output.error(left)
    return run.finish(work, result, place, climb=climb, save=save, report=report)


def _settings(
    rig: Rig, sheet: Sheet, scheme: str, size: str | None, rate: float | None, bitrate: float | None, begin: float | None, *, climb: bool
) -> Settings:  # fmt: skip
    """What is sent. Raises UnusableInput."""
    from direkt.match import budget
    from direkt.work.stream import signal

    line = rig.file.uplink
    limit = (
        budget.payload_under(line.mbit_s * 1000 * (1 - line.reserve_percent / 100), scheme)
        if line is not None and not climb
        else None
    )
    best, _ = signal.best(sheet, scheme, limit, rig.file.mains_hz)
    values = best.values()
    if size is not None:
        width, _, height = size.lower().partition("x")
        if not (width.isdigit() and height.isdigit()):
            raise UnusableInput(f"--size: expected a size like 1280x720, got {size!r}")
        values["video.size"] = f"{int(width)}x{int(height)}"
    if rate is not None:
        values["video.frame_rate"] = rate
    if bitrate is not None:
        values["video.bitrate.mean"] = bitrate * 1000
    if climb:
        values["video.bitrate.mean"] = (
            begin * 1000 if begin is not None else max(300.0, float(values["video.bitrate.mean"]) / 2)
        )
        values["video.rate_control"] = "cbr"
        return _possible(values)
    return signal.settings_of(values)


def _possible(values: dict[str, float | int | str]) -> Settings:
    """Where a climb can begin: at the lowest bitrate that the card can have."""
    from direkt.work.stream import signal

    for _ in range(12):
        try:
            return signal.settings_of(values)
        except UnusableInput:
            values["video.bitrate.mean"] = float(values["video.bitrate.mean"]) * 1.3
    return signal.settings_of(values)


