"""direkt event: an event at its platforms."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.event_account import list_accounts, sign_in
from direkt.cli.event_change import change_command, change_to_rig, close, drop, make, open_
from direkt.cli.event_chosen import at_option, chosen, gathered
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import DirektError, UnusableInput

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console

    from direkt.cli.documents.on_air import EventAtJson, EventListJson, EventShowJson
    from direkt.platform.event import Input, PlatformEvent, Seen
    from direkt.work.live.event_at_platforms import AirEvent, Airing
    from direkt.work.steps import Job

    Work = Callable[[Airing, str], Job[AirEvent, PlatformEvent | None]]

_WHO = {"everyone": "everyone", "link": "whoever has the link", "invited": "those who are invited"}


@click.group()
def event() -> None:
    """Make, change, open, close and look at events at their platforms.

    What an event is to be stands in the rig, under 'events'; 'direkt go' does all of this in the right order.
    """


@event.command("list")
@click.option(
    "--at-platform", "at_platform", metavar="PLATFORM", is_flag=False, flag_value="*",
    help="Instead: all events in the account there, whoever made them (of PLATFORM, or of all platforms of the rig).",
)  # fmt: skip
@options.rig_option
@options.json_option
def list_(at_platform: str | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """List the rig's events and when each takes place next; without --at-platform it asks no platform."""
    if at_platform is not None:
        return list_accounts(options.load_rig(rig_path), at_platform, as_json)
    return _list_rig(rig_path, as_json)


def _list_rig(rig_path: Path | None, as_json: bool) -> ExitCode:
    from direkt.platform import planned
    from direkt.store import event_memory

    rig = options.load_rig(rig_path)
    now = datetime.datetime.now(datetime.UTC)
    document: EventListJson = {"schema": "direkt.event-list/1", "events": []}
    lines = []
    for name, entry in rig.file.events.items():
        try:
            one = planned.next_one(rig, name, now)
            wanted = planned.wanted(rig, one)
            known = event_memory.read(rig.folder, name, one.mark)
        except UnusableInput as error:
            document["events"].append(
                {
                    "name": name,
                    "title": entry.title,
                    "next": None,
                    "seconds": None,
                    "feeds": entry.feeds,
                    "on_air": False,
                }
            )
            lines.append((name, "–", str(error), ""))
            continue
        on = bool(known.on_air and not known.ended)
        document["events"].append(
            {"name": name, "title": wanted.title, "next": one.start.isoformat(), "seconds": one.seconds, "feeds": entry.feeds, "on_air": on}
        )  # fmt: skip
        when = f"{one.start:%a %Y-%m-%d %H:%M} {one.start.tzname() or ''}, {_length(one.seconds)}"
        lines.append((name, when, wanted.title, "paused" if known.paused else "on air" if on else ""))
    if as_json:
        output.print_json(document)
        return ExitCode.GOOD
    out = output.console()
    if not lines:
        out.print("the rig has no events: write them under 'events'")
        return ExitCode.GOOD
    table = output.table("event", "next", "title", "")
    for line in lines:
        table.add_row(*(escape(cell) for cell in line))
    output.print_table(out, table)
    return ExitCode.GOOD


def _length(seconds: float) -> str:
    hours, minutes = divmod(round(seconds / 60), 60)
    return f"{hours} h {minutes} min" if hours and minutes else f"{hours} h" if hours else f"{minutes} min"


@event.command()
@click.argument("name", required=False)
@at_option
@options.rig_option
@options.json_option
def show(name: str | None, at: str | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Show how NAME stands at each of its platforms, what its ingest sees, and where viewers go."""
    from direkt.platform import planned

    rig = options.load_rig(rig_path)
    one = chosen(rig, name, at)
    wanted = planned.wanted(rig, one)
    document: EventShowJson = {
        "schema": "direkt.event-show/1", "name": one.name, "title": wanted.title, "start": one.start.isoformat(), "seconds": one.seconds,
        "audience": wanted.audience, "delay": wanted.delay, "at": [],
    }  # fmt: skip
    out = output.console(err=as_json)
    if not as_json:
        out.print(f"[bold]{escape(wanted.title)}[/]  {escape(one.name)}, {one.start:%a %Y-%m-%d %H:%M} {escape(one.start.tzname() or '')}, "
                  f"{_length(one.seconds)}, for {_WHO[wanted.audience]}, delay {wanted.delay}")  # fmt: skip
    worst = ExitCode.GOOD
    for airing in gathered(rig, one):
        try:
            found = airing.find()
            seen = airing.platform.seen(found) if found is not None else None
            document["at"].append(_at_json(airing, found, seen, ""))
            if not as_json:
                _print_at(out, airing, found, seen)
        except DirektError as error:
            worst = ExitCode.NO_ANSWER
            document["at"].append(_at_json(airing, None, None, str(error)))
            output.error(str(error))
        finally:
            airing.platform.close()
    if as_json:
        output.print_json(document)
    return worst


def _at_json(airing: Airing, found: PlatformEvent | None, seen: Seen | None, failure: str) -> EventAtJson:
    return {
        "destination": airing.destination, "platform": airing.entry.platform, "by_hand": airing.by_hand, "id": airing.id,
        "state": found.state.value if found is not None else None, "audience": found.audience if found is not None else None,
        "watch": found.watch or None if found is not None else None, "viewers": seen.viewers if seen is not None else None,
        "inputs": [
            {"role": i.role, "arriving": i.arriving, "since": i.since or None, "shown": i.shown, "values": dict(i.values), "gaps": list(i.gaps),
             "missing": i.missing, "health": i.health or None, "complaints": list(i.complaints)} for i in (seen.inputs if seen is not None else ())
        ],
        "failure": failure or None,
    }  # fmt: skip


def _print_at(out: Console, airing: Airing, found: PlatformEvent | None, seen: Seen | None) -> None:
    how = "by hand" if airing.by_hand else f"platform {airing.entry.platform}"
    from direkt.rig.events import EventState

    said = "– not made"
    if found is not None and found.state is EventState.UNKNOWN:
        said = f"? {escape(found.word)!r}, a word that is not known here"
    elif found is not None:
        good = found.state in (EventState.OPEN, EventState.LIVE)
        said = f"[green]✓ {found.state.words}[/]" if good else f"– {found.state.words}"
    who = f", for {_WHO[found.audience]}" if found is not None and found.audience else ""
    out.print(f"{escape(airing.sheet.name)}  {escape(airing.destination)}, {escape(how)}: {said}{who}")
    if found is not None and found.closed_because:
        out.print(f"  closed because {escape(found.closed_because)}")
    if found is not None and found.watch:
        out.print(
            f"  viewers: {escape(found.watch)}"
            + (f" ({seen.viewers} watching)" if seen is not None and seen.viewers is not None else ""),
            soft_wrap=True,
        )
    if airing.by_hand:
        for step, when in airing.place.done.items():
            out.print(f"  ✓ {escape(step)}  [dim]{escape(when)}[/]")
    for one in seen.inputs if seen is not None else ():
        print_input(out, one)
    if seen is not None and not seen.inputs:
        out.print("  ingest: nothing arrived so far")


def print_input(out: Console, one: Input) -> None:
    """What an ingest sees of one push."""
    values = [output.show(name, value) for name, value in one.values.items() if name in (
        "video.codec", "video.size", "video.frame_rate", "video.bitrate.mean", "audio.codec")]  # fmt: skip
    shown = {True: "", False: ", not shown yet", None: ", whether it is shown is not reported"}[one.shown]
    state = {True: f"[green]✓ arrives[/]{shown}", False: "– nothing arrives", None: "? not reported whether it arrives"}[one.arriving]
    gaps = f", {len(one.gaps)} gap{'s' if len(one.gaps) > 1 else ''}, {one.missing:g} s in all" if one.gaps else ""
    since = f" since {escape(one.since)}" if one.since else ""
    out.print(f"  {one.role} ingest: {state}{since}{gaps}" + (f": {', '.join(values)}" if values else ""))
    for words in one.complaints:
        out.print(f"    [yellow]! it says[/] {escape(words)}")


# What changes something


for _verb, _help, _work in (
    ("make", "Make NAME at its platforms, or find it as it was made before.", make),
    ("change", "Change NAME at its platforms to what the rig says now.", change_to_rig),
    ("open", "Open NAME: pushes are let in, viewers find the page and wait.", open_),
    ("close", "Close NAME: it is over for viewers. A closed event stays closed.", close),
    ("drop", "Take NAME away at its platforms; an open one is closed first, after a question.", drop),
):
    event.add_command(change_command(_verb, _help, _work))
event.add_command(sign_in)
