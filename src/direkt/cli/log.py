"""direkt log: what was done, and when."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, recording
from direkt.cli.exits import ExitCode
from direkt.cli.log_report import Since, report_, zone_of
from direkt.cli.output import escape, show
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.device_settings import ChangeJson, LogChangesJson
    from direkt.cli.documents.log_entries import LogEntryJson, LogListJson, LogShowJson, LogVerifyJson
    from direkt.rig.file import Rig
    from direkt.store.changes import Change
    from direkt.store.log import LogRow

_MARKS = {"good": "[green]✓[/]", "advise": "[yellow]![/]", "failed": "[bold red]✗[/]", "interrupted": "[yellow]–[/]"}


_VERIFY_LIMIT = 120.0  # s


@click.group()
def log() -> None:
    """List what was done: writes, pushes, rehearsals, going live and ending, with their outcome.

    The log is .direkt/log.sqlite beside the rig; DIREKT_DATABASE names another database, which several venues may share.
    """


@log.command("list")
@click.option(
    "--since", type=Since(), metavar="TIME", help="Only what is newer: 2h, 3d, or a date with or without a time."
)
@click.option("--event", default="", metavar="NAME", help="Only what belongs to this event.")
@click.option("--feed", default="", metavar="NAME", help="Only what belongs to this feed.")
@click.option("--every-rig", is_flag=True, help="Also other rigs that share the database.")
@click.option(
    "--last", type=click.IntRange(1, 100_000), default=200, show_default=True, metavar="N", help="Only the newest N."
)
@options.rig_option
@options.json_option
def list_(
    since: datetime.datetime | None,
    event: str,
    feed: str,
    every_rig: bool,
    last: int,
    rig_path: Path | None,
    as_json: bool,
) -> ExitCode:
    """List what was done, oldest first."""
    rig = options.load_rig(rig_path)
    kept = recording.limited(rig, lambda found: found.read(since=since, event=event, feed=feed, every_rig=every_rig, most=last))
    if as_json:
        document: LogListJson = {"schema": "direkt.log-list/1", "entries": [_entry_json(one) for one in kept]}
        output.print_json(document)
        return ExitCode.GOOD
    out = output.console()
    if not kept:
        out.print("nothing was logged" + (" since then" if since is not None else " yet"))
        return ExitCode.GOOD
    zone = zone_of(rig)
    table = output.table("", "when", "what", "of", "who", "took", "")
    for one in kept:
        e = one.entry
        of = " ".join(filter(None, (e.event, e.feed, e.destination if not e.feed else ""))) + (
            f" ({one.rig})" if every_rig else ""
        )
        took = f"{e.seconds:.0f} s" if e.seconds is not None else ""
        text, mark = e.text, _MARKS[e.outcome]
        if one.open:
            text, mark = f"{text}: {_how_open(one)}", "[cyan]?[/]"
        who = "@".join(filter(None, (one.person, one.machine)))
        table.add_row(f"{mark} {one.id}", _local(one.at, zone), escape(e.what), escape(of), escape(who), took, escape(text))
    output.print_table(out, table)
    return ExitCode.GOOD


def _local(at: datetime.datetime, zone: datetime.tzinfo) -> str:
    """With the zone's name and offset: times stay in order across a clock change."""
    moment = at.astimezone(zone)
    offset = f"{moment:%z}"
    return f"{moment:%Y-%m-%d %H:%M:%S} {offset[:3]}:{offset[3:5]}"


def _how_open(one: LogRow) -> str:
    """What is known of something that began and did not end."""
    import os
    import socket

    process = one.entry.detail.get("process")
    if one.machine == socket.gethostname() and isinstance(process, int):
        try:
            os.kill(process, 0)
        except ProcessLookupError:
            return "it was killed, and its end is not known"
        except OSError:
            pass
        return f"it goes on (process {process}), or was killed"
    return f"its end is not known; it began on {one.machine}"


@log.command("show")
@click.argument("number", type=click.IntRange(1), metavar="ID")
@click.option("--sheet", "sheet_name", metavar="NAME|FILE", help="Judge the measures that were kept against this sheet, without the stream.")
@options.all_option
@options.rig_option
@options.json_option
def show_(number: int, sheet_name: str | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Show all that was logged under ID; of a check, catch or rehearsal its measures, judged as then or against another sheet."""
    rig = options.load_rig(rig_path)
    one = recording.limited(rig, lambda found: found.get(number))
    if one is None:
        raise UnusableInput(f"nothing was logged under {number}: direkt log list")
    if as_json:
        document: LogShowJson = {"schema": "direkt.log-show/1", **_entry_json(one)}
        output.print_json(document)
        return ExitCode.GOOD
    out, e = output.console(), one.entry
    text = f"{e.text}: {_how_open(one)}" if one.open else e.text
    out.print(f"{_MARKS[e.outcome]} [bold]{one.id}  {escape(e.what)}[/]  {escape(text)}")
    for name, value in (("when", _local(one.at, zone_of(rig))), ("rig", one.rig), ("machine", one.machine), ("person", one.person), ("deed", f"{e.deed} {e.phase}".strip()), ("event", e.event), ("feed", e.feed),
                        ("device", e.device), ("destination", e.destination), ("took", f"{e.seconds:g} s" if e.seconds is not None else "")):  # fmt: skip
        if value:
            out.print(f"  {name:<12} {escape(value)}")
    measures = e.detail.get("measures")
    if sheet_name is not None and not isinstance(measures, dict):
        raise UnusableInput(f"log entry {number} ({e.what}) holds no measures: name one of a check, catch or rehearsal")
    if isinstance(measures, dict):
        return _print_measures(out, rig, one, measures, sheet_name)
    for part, inside in e.detail.items():
        out.print(f"  [bold]{escape(part)}[/]")
        _print_value(inside, "    ")
    return ExitCode.GOOD


def _print_measures(out: Console, rig: Rig, one: LogRow, measures: dict[str, object], sheet_name: str | None) -> ExitCode:
    """What was measured then, judged against the sheet of that time or another."""
    from direkt.cli import judgement as judging
    from direkt.destination import library
    from direkt.judge import judge_sent
    from direkt.measure import kept

    e = one.entry
    measurement = kept.read(measures)
    destination = rig.file.destinations.get(e.destination)
    name = sheet_name or (destination.sheet if destination is not None else str(e.detail.get("sheet", "")))
    sheet = library.load(name, rig.folder) if name else None
    judged = judge_sent(sheet, measurement.found)
    out.print()
    judging.print_judged(out, e.feed, f"measured {_local(one.at, zone_of(rig))}", measurement, judged, sheet, with_set=False)
    return judging.exit_code(judged) if sheet_name is not None else ExitCode.GOOD


def _print_value(value: object, indent: str) -> None:
    out = output.console()
    if isinstance(value, dict):
        for name, inner in value.items():
            text = " -> ".join(map(str, inner)) if isinstance(inner, list) else str(inner)
            out.print(f"{indent}{escape(name)}: {escape(text)}")
    elif isinstance(value, list):
        for inner in value:
            out.print(
                f"{indent}{escape('; '.join(f'{k} {v}' for k, v in inner.items() if v != '') if isinstance(inner, dict) else inner)}"
            )
    else:
        out.print(f"{indent}{escape(value)}")


def _entry_json(one: LogRow) -> LogEntryJson:
    e = one.entry
    return {
        "id": one.id, "at": one.at.isoformat(), "rig": one.rig, "machine": one.machine, "what": e.what, "outcome": e.outcome, "text": e.text,
        "event": e.event, "feed": e.feed, "device": e.device, "destination": e.destination, "seconds": e.seconds, "detail": dict(e.detail),
        "person": one.person, "deed": e.deed or None, "phase": e.phase or None, "open": one.open,
    }  # fmt: skip


@log.command("verify")
@options.rig_option
@options.json_option
def verify_(rig_path: Path | None, as_json: bool) -> ExitCode:
    """Check that the log is unaltered: a line that was changed or removed breaks its chain of hashes.

    The last hash, noted elsewhere, also shows whether the whole log was made anew. Exits with 1 where the chain is broken.
    """
    rig = options.load_rig(rig_path)
    found = recording.limited(rig, lambda log: log.verify(), _VERIFY_LIMIT)
    if as_json:
        document: LogVerifyJson = {
            "schema": "direkt.log-verify/1", "whole": not found.broken, "entries": found.entries, "older": found.older, "last": found.last or None,
            "hash": found.hash or None, "broken": [{"id": one.number, "text": one.text} for one in found.broken],
        }  # fmt: skip
        output.print_json(document)
        return ExitCode.FAILS if found.broken else ExitCode.GOOD
    out = output.console()
    for one in found.broken:
        out.print(f"[bold red]✗[/] entry {one.number}: {escape(one.text)}")
    older = f"; {found.older} from before there was a chain" if found.older else ""
    if found.broken:
        out.print(f"[bold red]✗ the log was altered[/]: {found.entries} entries{older}")
        return ExitCode.FAILS
    if not found.entries:
        out.print(f"there is no entry in the chain yet{older}")
        return ExitCode.GOOD
    out.print(f"[green]✓ {found.entries} entries are as they were written[/]{older}")
    out.print(f"  the last is {found.last}: {found.hash}", soft_wrap=True)
    return ExitCode.GOOD


@log.command("changes")
@click.argument("device", required=False)
@click.option("--last", type=click.IntRange(1), metavar="N", help="Only the newest N.")
@options.rig_option
@options.json_option
def changes_(device: str | None, last: int | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """List what was written to DEVICE (or all), when, with old and new values; never a key."""
    from direkt.store import changes
    from direkt.store.small_file import place

    rig = options.load_rig(rig_path)
    try:
        found = [one for one in changes.read(rig.folder) if device is None or one.device == device]
    except OSError as error:
        raise UnusableInput(f"{place(rig.folder, changes.FILE_NAME)}: cannot be read: {os_words(error)}") from None
    missing = changes.unread(rig.folder)
    if missing:
        output.note(f"! {missing} line{'s' if missing > 1 else ''} of {place(rig.folder, changes.FILE_NAME)} cannot be read: what was written then is not known")
    found = found[-last:] if last is not None else found
    if as_json:
        document: LogChangesJson = {"schema": "direkt.log-changes/1", "changes": [_json(one) for one in found]}
        output.print_json(document)
        return ExitCode.GOOD
    out = output.console()
    for one in found:
        w = one.when
        out.print(f"[bold]{w[:4]}-{w[4:6]}-{w[6:8]} {w[9:11]}:{w[11:13]}:{w[13:15]}[/]  {escape(one.what)} {escape(one.feed)}: {escape(one.device)}, "
                  f"channel {escape(one.channel)} ({escape(one.model)} {escape(one.firmware)}): {escape(one.outcome)}")  # fmt: skip
        for name, (old, new) in one.changes.items():
            stuck = one.did_not_stick.get(name)
            became = f"  [red]became {show(name, stuck[1])}[/]" if stuck is not None else ""
            out.print(f"    {escape(name)}: {show(name, old)} -> {show(name, new)}{became}")
        if one.server is not None and one.server[0] != one.server[1]:
            out.print(f"    push slot server: {escape(one.server[0] or 'empty')} -> {escape(one.server[1] or 'empty')}")
    if not found and not missing:
        out.print("nothing was written from here yet")
    return ExitCode.GOOD


def _json(one: Change) -> ChangeJson:
    return {
        "when": one.when, "what": one.what, "feed": one.feed, "device": one.device, "model": one.model, "firmware": one.firmware,
        "channel": one.channel, "changes": {name: list(pair) for name, pair in one.changes.items()},
        "server": list(one.server) if one.server is not None else None, "outcome": one.outcome,
        "did_not_stick": {name: list(pair) for name, pair in one.did_not_stick.items()},
    }  # fmt: skip


log.add_command(report_)
