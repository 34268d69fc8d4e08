"""direkt rig: what a rig may do on this machine."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import secret
from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.cli.documents.destinations import RigTrustJson
    from direkt.destination.keystore import Binding
    from direkt.rig.file import Rig


@click.group()
def rig() -> None:
    """Say whether a rig may act on this machine."""


@rig.command(context_settings={"ignore_unknown_options": True, "allow_interspersed_args": False})
@click.option("--yes", is_flag=True, help="Trust it without asking.")
@click.option("--revoke", is_flag=True, help="Trust it no longer.")
@click.option("--once", is_flag=True, help="Trust it for one command alone, which follows: --once push on start")
@options.rig_option
@options.json_option
@click.argument("command", nargs=-1, type=click.UNPROCESSED, metavar="[COMMAND]...")
def trust(yes: bool, revoke: bool, once: bool, rig_path: Path | None, as_json: bool, command: tuple[str, ...]) -> ExitCode:
    """Show what the rig would do on this machine and where its data goes, and trust it.

    A rig that somebody else wrote starts no programs (command: references), notifies nobody of drops (webhook, mail, command), sees no
    environment variables (env:) but those that DIREKT_ENV lists, reads no secrets outside its own folder (file:), and takes no
    key that was kept for another rig, or sends one elsewhere than it was kept for (store:), until you trust it. Trust holds for this file as it is now, with
    its driver files: after a change it is asked for again.
    """
    if once != bool(command):
        raise UnusableInput("--once is followed by the command that is trusted: direkt rig trust --once push on start")
    found = options.load_rig(rig_path)
    if once:
        return _once(found, command, yes=yes)
    store = options.trust_store()
    wants = _wants(found) if not revoke or as_json else {}
    trusted = options.trust(found).commands
    if revoke:
        store.remove(found.path)
        trusted = False
    elif trusted:
        _show(found, wants)
    else:
        out = output.console(err=as_json)
        _show(found, wants)
        agreed = yes or _agreed()
        if agreed:
            environment = [ref.name for ref in found.refs() if ref.kind == "env"]
            store.add(found.path, found.content(), environment)
            options.bind(found, own=False)
            trusted = True
        else:
            out.print(f"{escape(found.source)} is not trusted.")
            return ExitCode.INTERRUPTED
    if as_json:
        output.print_json(_document(found, wants, trusted))
    else:
        word = "[green]✓ trusted[/]" if trusted else "– not trusted"
        output.console().print(f"{word}  {escape(str(found.path))}")
    return ExitCode.GOOD


def _once(found: Rig, command: tuple[str, ...], *, yes: bool) -> ExitCode:
    """Runs one command that trusts the rig; it takes the place of this one."""
    if not options.trust(found).commands:
        _show(found, _wants(found))
        if not yes and not _agreed():
            output.note("It is not trusted, and nothing was done.")
            return ExitCode.INTERRUPTED
    sys.stdout.flush()
    sys.stderr.flush()
    os.environ.update({"DIREKT_RIG": str(found.path), options.TRUSTED_ONCE: found.content()})
    return os.execv(sys.executable, [sys.executable, "-m", "direkt", *command])  # it does not return


def _places(found: Rig) -> list[tuple[str, str, str]]:
    """Where the rig's data goes: what is done there, by which part of the rig, and the address."""
    f = found.file
    out = [("speaks to", name, _shown(entry.address)) for name, entry in f.devices.items() if entry.address]
    out += [("fetches from", name, _shown(feed.source)) for name, feed in f.feeds.items() if feed.source is not None]
    for name, destination in f.destinations.items():
        out += [("pushes to", name, _shown(server)) for server in (destination.server, destination.backup) if server is not None]
    for name, platform in f.platforms.items():
        out.append(("makes events at", name, _shown(platform.address)))
        if platform.file is not None:
            from direkt.platform import platform_file

            file = platform_file.load(platform.file, found.folder)
            if file.sign_in is not None:
                out += [("signs in at", name, _shown(place)) for place in dict.fromkeys((file.sign_in.device, file.sign_in.token))]
    for name, told in f.watch.notify.items():
        if told.webhook is not None:
            out.append(("tells", name, _shown(told.webhook)))
        elif told.mail:
            out.append(("tells", name, f"{', '.join(told.mail)} by {_shown(told.server or '')}"))
    return out


def _shown(address: str) -> str:
    """An address as people check it, with its port; without login and arguments, and a webhook's without its path: they may be secrets."""
    from direkt.rig.file import place_of

    scheme, separator, rest = address.partition("://")
    path = "" if scheme.lower() in ("http", "https") else rest.partition("?")[0].partition("/")[2]
    place = place_of(address)
    return f"{scheme}{separator}{place}{'/' if path else ''}{path}" if separator and place != address else secret.without_keys(address)


def _own(bound: tuple[Binding, ...], by: Binding) -> bool:
    return not bound or any(one.fits(by) for one in bound)


def _wants(found: Rig) -> dict[str, list[str]]:
    """What the rig would do: programs it starts, variables it sees, files outside its folder and others' keys it reads."""
    from direkt.destination.keystore import Binding

    refs, store = found.refs(), options.key_store()
    by = Binding(str(found.path), options.rig_id(found))
    outside = [
        str(path) for ref in refs if ref.kind == "file"
        for path in [(found.folder / ref.path).resolve()] if not path.is_relative_to(found.folder)
    ]  # fmt: skip
    return {
        "commands": [
            *(ref.name for ref in refs if ref.kind == "command"),
            *(entry.command for entry in found.file.watch.notify.values() if entry.command is not None),
        ],
        "environment": [ref.name for ref in refs if ref.kind == "env"],
        "files": outside,
        "keys": [r.name for r in refs if r.kind == "store" and not _own(store.bound(r.name), by)],
    }


def _show(found: Rig, wants: dict[str, list[str]]) -> None:
    out = output.console(err=True)
    out.print(f"[bold]{escape(found.file.name)}[/]  {escape(str(found.path))}")
    words = {"commands": "starts", "environment": "sees the variable", "files": "reads", "keys": "takes the key"}
    for kind, things in wants.items():
        for thing in things:
            out.print(f"{words[kind]:<18} {escape(thing)}", soft_wrap=True)
    if not any(wants.values()):
        out.print("It starts no programs, and sees nothing outside its folder: it works without trust as well.")
    for what, name, address in _places(found):
        out.print(f"{what:<18} {escape(name)} at {escape(address)}", soft_wrap=True)


def _agreed() -> bool:
    if not sys.stdin.isatty():
        raise UnusableInput("there is no terminal to confirm on: add --yes to trust it without asking")
    return click.confirm("Trust this rig?", default=False, err=True)


def _document(found: Rig, wants: dict[str, list[str]], trusted: bool) -> RigTrustJson:
    return {
        "schema": "direkt.rig-trust/1", "rig": str(found.path), "trusted": trusted, "commands": wants["commands"],
        "environment": wants["environment"], "files": wants["files"], "keys": wants["keys"],
        "places": [{"what": what, "name": name, "address": address} for what, name, address in _places(found)],
    }  # fmt: skip
