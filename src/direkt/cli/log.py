"""direkt log: what was done, and when."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape, show
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.schemas import ChangeJson, LogChangesJson
    from direkt.store.changes import Change


@click.group()
def log() -> None:
    """List what was done."""


@log.command("changes")
@click.argument("device", required=False)
@click.option("--last", type=click.IntRange(1), metavar="N", help="Only the newest N.")
@options.rig_option
@options.json_option
def changes_(device: str | None, last: int | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """List what was written to DEVICE (or all), when, with old and new values; never a key."""
    from direkt.store import changes

    rig = options.load_rig(rig_path)
    try:
        found = [one for one in changes.read(rig.folder) if device is None or one.device == device]
    except OSError as error:
        raise UnusableInput(f"{rig.folder / changes.FOLDER}: cannot be read: {os_words(error)}") from None
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
    if not found:
        out.print("nothing was written from here yet")
    return ExitCode.GOOD


def _json(one: Change) -> ChangeJson:
    return {
        "when": one.when, "what": one.what, "feed": one.feed, "device": one.device, "model": one.model, "firmware": one.firmware,
        "channel": one.channel, "changes": {name: list(pair) for name, pair in one.changes.items()},
        "server": list(one.server) if one.server is not None else None, "outcome": one.outcome,
        "did_not_stick": {name: list(pair) for name, pair in one.did_not_stick.items()},
    }  # fmt: skip
