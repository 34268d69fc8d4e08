"""What is pasted for a destination: taken from the terminal or standard input, untangled, shown, and agreed to."""

from __future__ import annotations

import os
import select
import sys
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import click

from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.destination.paste import Paste
    from direkt.destination.pasting.parts import Parts
    from direkt.rig.file import DestinationEntry, Rig

_MOST_PASTED = 8192  # characters
_PAUSE = 0.2  # s without a further line: the paste is over


def pasted() -> str:
    """What the person pastes: hidden on a terminal, else standard input."""
    if not sys.stdin.isatty():
        text = sys.stdin.read(_MOST_PASTED + 1)
        if not text.strip():
            raise UnusableInput(
                "nothing came on standard input: pipe the server address and the key in, or run it on a terminal"
            )
        return text
    return _hidden()


def _hidden() -> str:
    """What is pasted on the terminal, without showing it: all lines that come at once, and more until an empty one."""
    import termios

    terminal = sys.stdin.fileno()
    usual = termios.tcgetattr(terminal)
    silent = [*usual[:3], usual[3] & ~termios.ECHO, *usual[4:]]
    text = b""
    try:
        # what was typed ahead stays: a paste of several lines is all there before the first one is read
        termios.tcsetattr(terminal, termios.TCSADRAIN, silent)
        click.echo("Paste server address, key, or both (hidden; an empty line ends): ", err=True, nl=False)
        while len(text) <= _MOST_PASTED * 4:
            line = os.read(terminal, 1 << 16)
            text += line
            if select.select([terminal], [], [], _PAUSE)[0]:
                continue  # the paste goes on, empty lines and all
            click.echo(err=True)
            if not line.strip() and text.strip():
                break
            if not line:
                break
            click.echo(
                "more, or empty: " if text.strip() else "nothing came; paste it, or Ctrl-C: ", err=True, nl=False
            )
    finally:
        termios.tcsetattr(terminal, termios.TCSADRAIN, usual)
    return text.decode("utf-8", "replace")


def untangle(rig: Rig, destination: str, text: str) -> Paste:
    """What a paste means for a destination. Raises PasteError."""
    from direkt.destination import paste
    from direkt.protocol import address
    from direkt.protocol.schemes import SPOKEN

    entry = rig.destination(destination)
    sheet = rig.sheet(entry)
    servers = [address.parse(entry.server), *(server.parsed for server in sheet.servers)]
    known = [server for server in servers if server.scheme in SPOKEN]
    ports = [(p.protocol, p.port) for p in sheet.protocols]
    return paste.untangle(text, pattern=sheet.key.pattern if sheet.key else None, known=known, ports=ports)


def divided(rig: Rig, text: str) -> Parts:
    """The paste by destinations, where it speaks of several. Raises PasteError where it cannot be cut."""
    from direkt.destination.pasting import parts
    from direkt.protocol import address

    owners = []
    for name, entry in rig.file.destinations.items():
        hosts = [address.parse(server).host for server in (entry.server, entry.backup) if server is not None]
        names = [name]
        try:
            sheet = rig.sheet(entry)
        except UnusableInput:  # another destination's sheet is no reason to take nothing
            pass
        else:
            names.append(sheet.name)
            hosts += [server.parsed.host for server in sheet.servers]
        owners.append(parts.PasteOwner(name, tuple(names), frozenset(hosts)))
    return parts.divide(text, owners)


def of_one(rig: Rig, destination: str, text: str) -> Paste:
    """What a paste means for one destination, where it may hold others' too. Raises UnusableInput."""
    parts = divided(rig, text)
    if len(parts.texts) < 2:
        found = untangle(rig, destination, text)
        other = next(iter(parts.named - {destination}), "")
        if other and found.key is not None and found.server is None:
            found = replace(found, questions=(*found.questions, f"the paste names {other}: was it pasted for the wrong destination?"))
        return found
    if destination not in parts.texts:
        raise UnusableInput(f"the paste is for {' and '.join(parts.texts)}, not for {destination}: nothing was kept")
    found = of_each(rig, parts)[destination]
    rest = " and ".join(name for name in parts.texts if name != destination)
    return replace(found, left=(*found.left, f"what stands there for {rest} was not taken; for all of them: direkt key set --each"))


def of_each(rig: Rig, parts: Parts) -> dict[str, Paste]:
    """What each part means for its destination; all of them, or none. Raises UnusableInput."""
    from direkt.destination.paste import PasteError

    found: dict[str, Paste] = {}
    for name, text in parts.texts.items():
        try:
            found[name] = untangle(rig, name, text)
        except PasteError as error:
            raise UnusableInput(f"the part for {name}: {error}; nothing was kept, also not for the others") from None
    without = [name for name, one in found.items() if one.key is None]
    if without and len(without) < len(found):
        raise UnusableInput(f"in the part for {' and '.join(without)} there is no key: which key is whose? Nothing was kept; paste one by one")
    keys = [one.key for one in found.values() if one.key is not None]
    if len(set(keys)) < len(keys):
        raise UnusableInput("the same key stands there for two destinations: nothing was kept; paste one by one")
    return found


def doubts(rig: Rig, destination: str, found: Paste) -> list[str]:
    """What makes a pasted address one to look at twice: another destination's, an unknown host, a port that the sheet does not name."""
    from direkt.protocol import address
    from direkt.protocol.schemes import PORTS

    server, entry = found.server, rig.destination(destination)
    if server is None or str(server) == entry.server:
        return []
    mine = {address.parse(entry.server).place, *([address.parse(entry.backup).place] if entry.backup else [])}
    others = [
        name for name, other in rig.file.destinations.items()
        if name != destination and address.parse(other.server).place == server.place and server.place not in mine
    ]  # fmt: skip
    if others:
        return [f"the address is the one of {', '.join(others)} in this rig: was it pasted for the wrong destination?"]
    sheet = rig.sheet(entry)
    known = [address.parse(entry.server), *(one.parsed for one in sheet.servers)]
    if not any(server.host == one.host or _same_domain(server.host, one.host) for one in known):
        return [f"neither the rig nor the sheet knows the host {server.host}: is it the ingest of {sheet.name}?"]
    port = server.port or PORTS.get(server.scheme)
    ports = {p.port for p in sheet.protocols} | {one.port or PORTS.get(one.scheme) for one in known}
    if port not in ports:
        return [f"the sheet names no port {port}: is it meant?"]
    return []


def _same_domain(one: str, other: str) -> bool:
    """Whether two hosts differ in their first names only: ingest-7.tarnlight.example and ingest.tarnlight.example."""
    ours, theirs = one.split("."), other.split(".")
    return len(ours) > 2 and len(theirs) > 2 and not ours[-1].isdigit() and ours[-2:] == theirs[-2:]


def masked(value: str) -> str:
    from direkt.secret import Secret

    return str(Secret(value))


def show(out: Console, found: Paste, entry: DestinationEntry) -> None:
    """What was understood, masked, before anything of it is kept."""
    for words in found.repairs:
        out.print(escape(f"repaired: {words}"))
    for words in found.left:
        out.print(f"[yellow]![/] {escape(words)}")
    if found.server is not None and str(found.server) != entry.server:
        out.print(escape(f"server address: {found.server} (so far {entry.server})"))
    elif found.server is not None:
        out.print(escape(f"server address: {found.server} (as it was)"))
    out.print(
        escape(f"key: {masked(found.key)}" if found.key is not None else "no key was pasted: the key stays as it is")
    )
    for words in found.questions:
        out.print(f"[yellow]?[/] {escape(words)}")


def agree(questions: Sequence[str], question: str) -> None:
    """Asks on a terminal; elsewhere nothing that is in question is taken. Raises UnusableInput."""
    if sys.stdin.isatty():
        import termios

        termios.tcflush(sys.stdin.fileno(), termios.TCIFLUSH)  # the rest of a slow paste answers nothing
        if not click.confirm(question, default=not questions, err=True):
            raise UnusableInput("nothing was kept")
    elif questions:
        raise UnusableInput(
            f"{questions[0].rstrip('?')}: nothing was kept. Paste it right, or on a terminal, where you can say that it is right as it stands"
        )
