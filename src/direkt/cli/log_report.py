"""The log as a page for people: one event, or a season."""

from __future__ import annotations

import datetime
import re
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, recording
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.rig.file import Rig



class Since(click.ParamType[datetime.datetime]):
    """How far back: 2h, 3d, or a date with or without a time."""

    name = "time"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> datetime.datetime:
        if isinstance(value, datetime.datetime):
            return value
        text = str(value).strip()
        match = re.fullmatch(r"(\d{1,5})\s*(min|m|h|d)", text)
        try:
            if match is not None:
                span = datetime.timedelta(
                    **{{"min": "minutes", "m": "minutes", "h": "hours", "d": "days"}[match[2]]: int(match[1])}
                )
                return datetime.datetime.now(datetime.UTC) - span
            return datetime.datetime.fromisoformat(text).astimezone()
        except (ValueError, OverflowError):
            self.fail(f"{text!r} is no time; expected 2h, 3d, or 2026-07-03 09:00", param, ctx)


def zone_of(rig: Rig) -> datetime.tzinfo:
    """The rig's zone, as for its events; this machine's where it has none."""
    from direkt.work.live.timetable import zone

    return zone(rig)


@click.command("report")
@click.argument("event", required=False)
@click.option("--at", "at", metavar="DATE", help="Of an event that repeats: the time on or after this date.")
@click.option("--season", is_flag=True, help="All events that were begun, on one page; with --since and --until those of a range.")
@click.option("--since", type=Since(), metavar="TIME", help="With --season: from when on (30d, or a date).")
@click.option("--until", type=Since(), metavar="TIME", help="With --season: until when.")
@click.option(
    "-o",
    "target",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.html",
    required=True,
    help="Where to write it.",
)
@options.rig_option
def report_(
    event: str | None, at: str | None, season: bool, since: datetime.datetime | None, until: datetime.datetime | None, target: Path,
    rig_path: Path | None,
) -> ExitCode:  # fmt: skip
    """Write the incident report of EVENT for the customer: when it was on air, what dropped and for how long, what was done.

    With --season: of all events of a range, on one page.
    """
    from direkt import files, mask

    rig = options.load_rig(rig_path)
    if (since is not None or until is not None) and not season:
        raise UnusableInput("--since and --until go with --season")
    if season and (event is not None or at is not None):
        raise UnusableInput("--season is of all events: name none")
    text = _season(rig, since, until) if season else _one_event(rig, event, at)
    try:
        files.replace(target, mask.own(text), 0o644)
    except OSError as error:
        raise UnusableInput(f"{target}: cannot be written: {os_words(error)}") from None
    output.console().print(f"written: {escape(target)}")
    return ExitCode.GOOD


def _one_event(rig: Rig, event: str | None, at: str | None) -> str:
    from direkt.platform import planned
    from direkt.report import incidents
    from direkt.store import event_memory

    name = rig.event_name(event)
    begun = [s for s in (*event_memory.past(rig.folder), *event_memory.every(rig.folder)) if s.event == name and s.begun]
    if at is not None:
        from direkt.cli.event_chosen import chosen

        mark = chosen(rig, name, at).mark
        begun = [s for s in begun if s.mark == mark]
    if not begun:
        raise UnusableInput(f"the event {name!r} was not begun from here: direkt go {name}")
    known = begun[-1]
    one = planned.by_mark(rig, name, known.mark) or planned.as_it_was(rig, name, known.mark)
    kept = recording.limited(rig, lambda log: log.read(since=incidents.begin_of(known), until=incidents.end_of(known, one), most=5000))
    return incidents.page(rig.file.name, planned.wanted(rig, one), one, known, kept)


def _season(rig: Rig, since: datetime.datetime | None, until: datetime.datetime | None) -> str:
    from direkt.platform import planned
    from direkt.report import incidents
    from direkt.store import event_memory

    found = []
    for known in sorted((*event_memory.past(rig.folder), *event_memory.every(rig.folder)), key=lambda s: s.begun):
        if not known.begun or known.event not in rig.file.events:
            continue
        one = planned.by_mark(rig, known.event, known.mark) or planned.as_it_was(rig, known.event, known.mark)
        if (since is not None and one.end < since) or (until is not None and one.start > until):
            continue
        span = incidents.begin_of(known), incidents.end_of(known, one)
        kept = recording.limited(rig, lambda log, span=span: log.read(since=span[0], until=span[1], most=5000))  # type: ignore[misc]
        found.append((planned.wanted(rig, one), one, known, kept))
    if not found:
        raise UnusableInput("no event of the rig was begun from here in that time")
    return incidents.season(rig.file.name, found, zone_of(rig))
