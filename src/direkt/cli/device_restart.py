"""What restarts a device: on request, and with new firmware."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.opened import agreed, opened, yes_option
from direkt.cli.output import escape
from direkt.work.steps import END

if TYPE_CHECKING:
    from direkt.cli.documents.gear import FirmwareJson
    from direkt.work.steps import Answer



@click.command(short_help="Restart, and wait for it.")
@click.argument("name", required=False)
@yes_option
@options.time_option("--wait", default=60.0, help="How long it may take.")
@options.rig_option
def restart(name: str | None, yes: bool, wait: float, rig_path: Path | None) -> ExitCode:
    """Restart device NAME and wait until it is back."""
    from direkt.work.device import manage
    from direkt.work.steps import Agree, drive

    _, chosen, driver = opened(rig_path, name)
    begun = False

    def on_event(event: manage.DeviceNote | manage.DeviceBack | Agree) -> Answer:
        nonlocal begun
        if isinstance(event, Agree):
            begun = agreed(f"Restart {chosen}?", yes)
            if begun:
                output.note(f"restarting {chosen} ...")
            return begun
        if isinstance(event, manage.DeviceNote):
            output.note(f"! {event.text}")
        else:
            output.console().print(f"[green]✓[/] {escape(chosen)} is back after {event.seconds:.1f} s")
        return None

    try:
        done = drive(manage.restart(driver, options.SystemClock(), wait), on_event)
    except KeyboardInterrupt:
        END.taken()
        output.interrupted(
            f"{chosen} was sent a restart; check that it is back: direkt device health {chosen}"
            if begun
            else f"{chosen} was not restarted"
        )
        return ExitCode.INTERRUPTED
    finally:
        driver.close()
    return ExitCode.GOOD if done else ExitCode.INTERRUPTED


@click.command(short_help="Replace the firmware, and read the version.")
@click.argument("name")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@yes_option
@options.time_option("--wait", default=300.0, help="How long the device may take to come back.")
@options.rig_option
@options.json_option
def firmware(name: str, file: Path, yes: bool, wait: float, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Send firmware FILE to device NAME, wait through its restart, and read the version that it then has.

    A file for another model is refused by the device, and nothing changes. Exits with 1 when the version is as it was.
    """
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn

    from direkt.work.device import manage
    from direkt.work.steps import Agree, drive

    _, chosen, driver = opened(rig_path, name)
    began = False
    with Progress(
        TextColumn("{task.description}"),
        BarColumn(),
        DownloadColumn(),
        console=output.console(err=True),
        transient=True,
        disable=not sys.stderr.isatty(),
    ) as bar:
        task = bar.add_task(f"sending to {chosen}", total=None, visible=False)

        def progress(done: int, whole: int) -> None:
            bar.update(task, completed=done, total=whole, visible=True)

        def on_event(event: manage.DeviceNote | manage.DeviceBack | Agree) -> Answer:
            nonlocal began
            if isinstance(event, Agree):
                bar.stop()
                began = agreed(f"Replace the firmware of {chosen}?", yes)
                bar.start()
                return began
            output.note(
                event.text if isinstance(event, manage.DeviceNote) else f"{chosen} is back after {event.seconds:.1f} s"
            )
            return None

        try:
            done = drive(manage.update(driver, file, options.SystemClock(), wait, progress), on_event)
        except KeyboardInterrupt:
            END.taken()
            state = f"the file may be in {chosen}, and it may restart: leave it on, then: direkt device health {chosen}"
            output.interrupted(state if began else f"{chosen} was not changed")
            return ExitCode.INTERRUPTED
        finally:
            driver.close()
    if not done.agreed:
        output.note(f"{chosen} was not changed.")
        return ExitCode.INTERRUPTED
    changed = done.after != done.before
    if as_json:
        document: FirmwareJson = {
            "schema": "direkt.device-firmware/1",
            "device": chosen,
            "before": done.before,
            "after": done.after,
        }
        output.print_json(document)
    else:
        words = f"[green]✓[/] {escape(chosen)}: firmware {escape(done.before)} -> [bold]{escape(done.after)}[/]"
        output.console().print(
            words
            if changed
            else f"[bold red]✗[/] {escape(chosen)} took the file and still has firmware {escape(done.after)}"
        )
    return ExitCode.GOOD if changed else ExitCode.FAILS
