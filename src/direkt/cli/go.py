"""direkt go: an event to air, step by step."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, reports
from direkt.cli.event_chosen import at_option, chosen, yes_option
from direkt.cli.exits import ExitCode
from direkt.errors import UnusableInput

if TYPE_CHECKING:

    pass

@click.command()
@click.argument("event", required=False)
@at_option
@click.option(
    "--rehearse", is_flag=True, help="Practise: the same order against a simulated event; then everything is put back."
)
@click.option("--dry-run", is_flag=True, help="Look, and say what would be done.")
@click.option("--no-rehearsal", is_flag=True, help="Do not ask for a rehearsal since the last change.")
@click.option("--invited-first", is_flag=True, help="Open it to invited viewers; widen it once a first look went well.")
@click.option("--at-start", is_flag=True, help="On air at the event's time, instead of when you say so.")
@click.option(
    "--wait",
    type=options.Seconds(),
    metavar="TIME",
    help="How long to wait for the ingest [default: three times the sheet's longest, at least 1m].",
)
@click.option("--without", multiple=True, metavar="FEED|DESTINATION", help="Leave this out, and go on with the rest; may be given again.")
@click.option("--keep-on", is_flag=True, help="Where something is wrong, leave the pushes on.")
@yes_option
@reports.page_option
@options.rig_option
@options.json_option
def go(
    event: str | None, at: str | None, rehearse: bool, dry_run: bool, no_rehearsal: bool, invited_first: bool, at_start: bool,
    wait: float | None, without: tuple[str, ...], keep_on: bool, yes: bool, report: Path | None, rig_path: Path | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Take EVENT to air in the right order, and stop where something is wrong.

    Looks at what must be true; makes and opens the event; starts the pushes, primary then backup; waits for the ingest; judges
    asked, set, sent and seen; goes on air when you say so; and looks at what viewers get. Each step asks where things really
    are: run it again after a crash or Ctrl-C, and it goes on from there. Whoever is asked may also answer through a pipe.
    """
    from direkt.cli import crew
    from direkt.work.live.go_types import Options

    if rehearse and dry_run:
        raise UnusableInput("--rehearse and --dry-run exclude each other")
    rig = options.load_rig(rig_path)
    one = chosen(rig, event, at)
    how = Options(not no_rehearsal, invited_first, wait, at_start, dry_run, keep_on, without=without)
    if rehearse:
        from direkt.cli.go_practice import practise

        return practise(rig, one, how, yes=yes, report=report, as_json=as_json)
    from direkt.cli.go_front import Front

    return Front(rig, one, yes=yes, as_json=as_json).run(crew.crew(rig), how, report)
