"""direkt schedule: events and feeds by the clock."""

from __future__ import annotations

import datetime
import os
import shutil
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.cli.schedule_run import ScheduleRun
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.cli.documents.on_air import ScheduleJson, TurnJson
    from direkt.rig.file import Rig
    from direkt.work.live.timetable import Turn


@click.group()
def schedule() -> None:
    """Begin and end events and feeds by the clock.

    What is begun when stands in the rig under 'schedule': events at their own times, feeds in daily windows or always.
    """


@schedule.command("list")
@click.option("--days", type=options.RealNumber(0, 4000), help="Only what begins within so many days.")
@click.option("--most", type=click.IntRange(1, 1000), default=12, show_default=True, help="How many times at most.")
@options.rig_option
@options.json_option
def list_(days: float | None, most: int, rig_path: Path | None, as_json: bool) -> ExitCode:
    """List what is on now and comes next, in local time and UTC."""
    from direkt.work.live import timetable

    rig = options.load_rig(rig_path)
    now = datetime.datetime.now(datetime.UTC)
    timetable.check(rig, now)
    found = timetable.upcoming(rig, now, most, days)
    if as_json:
        document: ScheduleJson = {"schema": "direkt.schedule/1", "turns": [_json(rig, turn, now) for turn in found]}
        output.print_json(document)
        return ExitCode.GOOD
    out = output.console()
    if not found:
        out.print(
            "nothing comes: write events and feeds under 'schedule' in the rig"
            if not rig.file.schedule
            else "nothing comes any more"
        )
        return ExitCode.GOOD
    table = output.table("entry", "what", "begins", "UTC", "ends", "UTC", "")
    for turn in found:
        state = "now" if turn.begin <= now else ""
        if turn.end is None:
            table.add_row(escape(turn.entry), escape(_what(rig, turn)), "always on", "", "", "", state)
            continue
        table.add_row(
            escape(turn.entry),
            escape(_what(rig, turn)),
            _local(turn.start),
            _utc(turn.start),
            _local(turn.end),
            _utc(turn.end),
            state,
        )
    output.print_table(out, table)
    before = [name for name, entry in rig.file.schedule.items() if entry.event is not None]
    if before:
        words = ", ".join(f"{escape(name)} {escape(rig.file.schedule[name].before)}" for name in before)
        out.print(f"'direkt go' begins earlier than that: {words} before")
    return ExitCode.GOOD


def _what(rig: Rig, turn: Turn) -> str:
    entry = rig.file.schedule[turn.entry]
    return f"event {entry.event}" if entry.event is not None else f"feed {entry.feed}"


def _local(moment: datetime.datetime) -> str:
    return escape(f"{moment:%a %Y-%m-%d %H:%M} {moment.tzname() or ''}".strip())


def _utc(moment: datetime.datetime) -> str:
    return f"{moment.astimezone(datetime.UTC):%H:%M}"


def _json(rig: Rig, turn: Turn, now: datetime.datetime) -> TurnJson:
    entry = rig.file.schedule[turn.entry]
    always = turn.end is None
    return {
        "entry": turn.entry, "event": entry.event, "feeds": list(turn.feeds), "begin": None if always else turn.begin.isoformat(),
        "start": None if always else turn.start.isoformat(), "start_utc": None if always else _stamp(turn.start),
        "end": turn.end.isoformat() if turn.end is not None else None, "end_utc": _stamp(turn.end) if turn.end is not None else None,
        "now": turn.begin <= now,
    }  # fmt: skip


def _stamp(moment: datetime.datetime) -> str:
    return moment.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


@schedule.command()
@click.option(
    "--for", "seconds", type=options.Seconds(), metavar="TIME", help="End after this long; otherwise at Ctrl-C."
)
@click.option("--no-rehearsal", is_flag=True, help="Do not ask for a rehearsal since the last change.")
@options.rig_option
def run(seconds: float | None, no_rehearsal: bool, rig_path: Path | None) -> ExitCode:
    """Do 'go' and 'stop' at the times of the schedule, until Ctrl-C.

    No turn is taken twice, however often this is started. What a person stopped stays off. Ending it leaves everything on that is
    on. Let 'direkt watch' run beside it: this looks at the clock, not at drops.
    """
    from direkt.store import turns

    rig = options.load_rig(rig_path)
    if not rig.file.schedule:
        raise UnusableInput(f"{rig.source}: nothing is scheduled: write events and feeds under 'schedule'")
    with turns.alone(rig.folder):
        return ScheduleRun(rig, rig_path, rehearsal=not no_rehearsal).run(seconds)


@schedule.command()
@click.option("--watch", "watching", is_flag=True, help="The unit of direkt watch instead.")
@click.option("--user", is_flag=True, help="A unit for your own service manager (systemctl --user).")
@click.option("--as", "account", metavar="ACCOUNT", help="Who runs it [default: you; root only if you say so].")
@click.option("--no-rehearsal", is_flag=True, help="Do not ask for a rehearsal since the last change.")
@options.rig_option
def unit(watching: bool, user: bool, account: str | None, no_rehearsal: bool, rig_path: Path | None) -> ExitCode:
    """Print a systemd unit that runs the schedule, or the watch, from the start of this machine on.

    It holds no secret, may write only where Direkt keeps its files, and is looked after by a watchdog. What is pushed goes on when the
    service is stopped.
    """
    import getpass

    from direkt.report import unitfile

    rig = options.load_rig(rig_path)
    program = shutil.which("direkt") or sys.executable
    words = [program] if Path(program).name == "direkt" else [sys.executable, "-m", "direkt"]
    words += ["watch"] if watching else ["schedule", "run", *(["--no-rehearsal"] if no_rehearsal else [])]
    words += ["--rig", str(rig.path)]
    environment = (
        {"DIREKT_CONFIG": str(Path(os.environ["DIREKT_CONFIG"]).resolve())} if os.environ.get("DIREKT_CONFIG") else {}
    )
    who = account or getpass.getuser()
    if not user and who == "root" and account is None:
        who = _owner(rig.folder)
        if who in ("", "root"):
            raise UnusableInput("a service that runs as root may do everything: name another account with --as, or say --as root")
    what = "watch" if watching else "schedule"
    click.echo(
        unitfile.text(
            f"Direkt: the {what} of {rig.file.name}",
            words,
            str(rig.folder),
            None if user else who,
            environment,
            [str(rig.folder), str(options.config_folder().resolve())],
        ),
        nl=False,
    )
    where = f"~/.config/systemd/user/direkt-{what}.service" if user else f"/etc/systemd/system/direkt-{what}.service"
    manager = "systemctl --user" if user else "systemctl"
    output.note(f"Put it into {where}; then: {manager} daemon-reload; {manager} enable --now direkt-{what}")
    if not user and who != getpass.getuser():
        output.note(f"It runs as {who}, who has to be able to read and write {rig.folder} and {options.config_folder()}")
    if os.environ.get("DIREKT_DATABASE"):
        output.note(
            "! DIREKT_DATABASE is set here and not in the unit, since it may hold a password: put it into the EnvironmentFile that the unit names"
        )
    return ExitCode.GOOD


def _owner(folder: Path) -> str:
    """Whose folder it is; empty where that is not known."""
    try:
        return folder.owner()
    except (OSError, KeyError):
        return ""
