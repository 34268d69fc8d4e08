"""direkt rig: what a rig may do on this machine."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.cli.schemas import RigTrustJson
    from direkt.rig import Rig


@click.group()
def rig() -> None:
    """Say whether a rig may act on this machine."""


@rig.command()
@click.option("--yes", is_flag=True, help="Trust it without asking.")
@click.option("--revoke", is_flag=True, help="Trust it no longer.")
@options.rig_option
@options.json_option
def trust(yes: bool, revoke: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Show what the rig would do on this machine, and trust it.

    A rig that somebody else wrote starts no programs (command: references, those that are told of drops), sees no environment variables (env:) but
    those that begin with DIREKT_ or that DIREKT_ENV lists, reads no secrets outside its own folder (file:), and takes no
    key that was kept for another rig (store:), until you trust it. Trust holds for this file as it is now, with its driver files: after a change it is asked for again.
    """
    found = options.load_rig(rig_path)
    store = options.trust_store()
    trusted = options.trust(found).commands
    if revoke:
        store.remove(found.path)
        trusted = False
    elif not trusted:
        out = output.console(err=as_json)
        _show(found)
        agreed = yes or _agreed()
        if agreed:
            environment = [ref.name for ref in found.refs() if ref.kind == "env"]
            store.add(found.path, found.content(), environment)
            trusted = True
        else:
            out.print(f"{escape(found.source)} is not trusted.")
            return ExitCode.INTERRUPTED
    if as_json:
        output.print_json(_document(found, trusted))
    else:
        word = "[green]✓ trusted[/]" if trusted else "– not trusted"
        output.console().print(f"{word}  {escape(str(found.path))}")
    return ExitCode.GOOD


def _wants(found: Rig) -> dict[str, list[str]]:
    """What the rig would do: programs it starts, variables it sees, files outside its folder and others' keys it reads."""
    refs, store = found.refs(), options.key_store()
    outside = [
        str(path) for ref in refs if ref.kind == "file"
        for path in [(found.folder / ref.path).resolve()] if not path.is_relative_to(found.folder)
    ]  # fmt: skip
    return {
        "commands": [
            *(ref.name for ref in refs if ref.kind == "command"),
            *(entry.command for entry in found.file.watch.tell.values() if entry.command is not None),
        ],
        "environment": [ref.name for ref in refs if ref.kind == "env"],
        "files": outside,
        "keys": [r.name for r in refs if r.kind == "store" and store.owner(r.name) not in ("", str(found.path))],
    }


def _show(found: Rig) -> None:
    out = output.console(err=True)
    out.print(f"[bold]{escape(found.file.name)}[/]  {escape(str(found.path))}")
    wants = _wants(found)
    words = {"commands": "starts", "environment": "sees the variable", "files": "reads", "keys": "takes the key"}
    for kind, things in wants.items():
        for thing in things:
            out.print(f"{words[kind]:<18} {escape(thing)}", soft_wrap=True)
    if not any(wants.values()):
        out.print("It starts no programs, and sees nothing outside its folder: it works without trust as well.")
    for name, entry in found.file.devices.items():
        out.print(f"{'speaks to':<18} {escape(name)} at {escape(entry.address)}")
    for name, destination in found.file.destinations.items():
        out.print(f"{'pushes to':<18} {escape(name)} at {escape(destination.server)}")
    for name, told in found.file.watch.tell.items():
        where = told.webhook or ", ".join(told.mail) or f"the command {told.command}"
        out.print(f"{'tells':<18} {escape(name)} by {escape(where)}", soft_wrap=True)


def _agreed() -> bool:
    if not sys.stdin.isatty():
        raise UnusableInput("nobody is there to agree: add --yes to trust it without asking")
    return click.confirm("Trust this rig?", default=False, err=True)


def _document(found: Rig, trusted: bool) -> RigTrustJson:
    wants = _wants(found)
    return {
        "schema": "direkt.rig-trust/1", "rig": str(found.path), "trusted": trusted, "commands": wants["commands"],
        "environment": wants["environment"], "files": wants["files"], "keys": wants["keys"],
    }  # fmt: skip
