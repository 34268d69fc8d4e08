"""direkt key: keep stream keys, repair what was pasted, show a key's forms, renew it everywhere."""

from __future__ import annotations

import os
import select
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput
from direkt.work.steps import END

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.schemas import KeyFormJson, KeyListJson, KeyRenewJson, KeyRowJson, KeySetJson
    from direkt.destination.keystore import Binding
    from direkt.destination.paste import Paste
    from direkt.rig import DestinationEntry, Rig
    from direkt.secret import Secret

_MOST_PASTED = 8192  # characters
_PAUSE = 0.2  # s without a further line: the paste is over


@click.group()
def key() -> None:
    """Keep stream keys: in the system's keyring, or in a file that only you can read."""


def _destination(rig_path: Path | None, name: str) -> tuple[Rig, DestinationEntry]:
    rig = options.load_rig(rig_path)
    return rig, rig.destination(name)


def _store_name(rig: Rig, destination: str) -> str:
    return options.own_name(rig, destination)


def _bound_to(rig: Rig, entry: DestinationEntry, found: Paste) -> Binding:
    """What the pasted key is bound to: the rig, and where it says from now on that the key goes."""
    from direkt.rig import key_places

    server = str(found.server) if found.server is not None else entry.server
    return options.binding(rig, key_places(entry.model_copy(update={"server": server})))


def _pasted() -> str:
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


def _untangle(rig: Rig, entry: DestinationEntry, text: str) -> Paste:
    from direkt.destination import paste
    from direkt.protocol import address
    from direkt.protocol.schemes import SPOKEN

    sheet = rig.sheet(entry)
    servers = [address.parse(entry.server), *(server.parsed for server in sheet.servers)]
    known = [server for server in servers if server.scheme in SPOKEN]
    ports = [(p.protocol, p.port) for p in sheet.protocols]
    return paste.untangle(text, pattern=sheet.key.pattern if sheet.key else None, known=known, ports=ports)


def _doubts(rig: Rig, destination: str, entry: DestinationEntry, found: Paste) -> list[str]:
    """What makes a pasted address one to look at twice: another destination's, an unknown host, a port that the sheet does not name."""
    from direkt.protocol import address
    from direkt.protocol.schemes import PORTS

    server = found.server
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


def _masked(value: str) -> str:
    from direkt.secret import Secret

    return str(Secret(value))


@key.command("set")
@click.argument("destination")
@click.option("--key-only", is_flag=True, help="Take the key alone, whatever address was pasted with it.")
@options.rig_option
@options.json_option
def set_(destination: str, key_only: bool, rig_path: Path | None, as_json: bool) -> None:
    """Take DESTINATION's server address and key, as pasted; repair what is certain, refuse the rest.

    Asks on the terminal without showing what is pasted, or reads standard input. Never give a key as an argument.
    """
    rig, entry = _destination(rig_path, destination)
    found = _untangle(rig, entry, _pasted())
    if key_only:
        found = replace(found, server=None, aside=False)
    found = replace(found, questions=(*found.questions, *_doubts(rig, destination, entry, found)))
    out = output.console(err=as_json)
    name = _store_name(rig, destination)
    changes: dict[str, str] = {}
    if found.server is not None and str(found.server) != entry.server:
        changes["server"] = str(found.server)
    if found.key is not None and entry.key != f"store:{name}":
        changes["key"] = f"store:{name}"
    _show(out, found, entry)
    if found.aside and found.key is not None:
        raise UnusableInput("the address that was pasted was not taken, so the key was not kept either: paste both anew, or the key alone with --key-only")
    _agree(found, "Keep this as it stands?" if found.questions else "Keep this?")
    if found.key is not None:
        kept = options.key_store().put(name, found.key, _bound_to(rig, entry, found))
        place = "system keyring" if kept.where == "keyring" else "key file"
        out.print(escape(f"key {_masked(found.key)} kept in the {place}"))
    if changes:
        _change_rig(rig, destination, changes)
        out.print(escape(f"{rig.source}: {' and '.join(changes)} of {destination} written"))
    if as_json:
        document: KeySetJson = {
            "schema": "direkt.key-set/1", "destination": destination, "server": str(found.server) if found.server else None,
            "key": _masked(found.key) if found.key else None, "repairs": list(found.repairs), "left": list(found.left), "changed": changes,
        }  # fmt: skip
        output.print_json(document)
    elif found.key is None:
        output.note(f"Paste the key with: direkt key set {destination}")


def _show(out: Console, found: Paste, entry: DestinationEntry) -> None:
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
        escape(f"key: {_masked(found.key)}" if found.key is not None else "no key was pasted: the key stays as it is")
    )
    for words in found.questions:
        out.print(f"[yellow]?[/] {escape(words)}")


def _agree(found: Paste, question: str) -> None:
    """Asks on a terminal; elsewhere nothing that is in question is taken. Raises UnusableInput."""
    if sys.stdin.isatty():
        import termios

        termios.tcflush(sys.stdin.fileno(), termios.TCIFLUSH)  # the rest of a slow paste answers nothing
        if not click.confirm(question, default=not found.questions, err=True):
            raise UnusableInput("nothing was kept")
    elif found.questions:
        raise UnusableInput(
            f"{found.questions[0].rstrip('?')}: nothing was kept. Paste it right, or on a terminal, where you can say that it is right as it stands"
        )


def _change_rig(rig: Rig, destination: str, changes: dict[str, str]) -> None:
    """Writes entries of a destination into rig.yaml."""
    from direkt.cli import rigfile

    rigfile.change(rig, [(["destinations", destination, name], value) for name, value in changes.items()])


@key.command("list")
@options.rig_option
@options.json_option
def list_(rig_path: Path | None, as_json: bool) -> None:
    """List the destinations' keys: where each is kept, masked, and whether it was exposed."""
    from direkt.destination import references

    rig = options.load_rig(rig_path)
    sources = options.sources(rig)
    kept = {k.name: k for k in options.key_store().kept()}
    rows: list[KeyRowJson] = []
    for name, entry in rig.file.destinations.items():
        try:
            shown = str(rig.key(entry, sources))
        except references.SecretError as error:
            shown = f"none: {error}"
        info = kept.pop(entry.key.removeprefix("store:"), None) if entry.key.startswith("store:") else None
        rows.append({
            "destination": name, "source": str(references.parse_ref(entry.key)), "key": shown,
            "since": info.since if info else None, "where": info.where if info else None,
            "exposed": bool(info and info.exposed),
        })  # fmt: skip
    if as_json:
        document: KeyListJson = {"schema": "direkt.key-list/1", "keys": rows, "unused": sorted(kept)}
        output.print_json(document)
        return
    out = output.console()
    made = output.table("destination", "from", "key", "set", "")
    for row in rows:
        mark = "[yellow]! exposed: renew it[/]" if row["exposed"] else ""
        made.add_row(escape(row["destination"]), escape(row["source"]), escape(row["key"]), row["since"] or "", mark)
    out.print(made)
    for name in kept:
        out.print(f"{escape(name)}: in the store, used by no destination of this rig")


@key.command()
@click.argument("destination")
@click.option("--reveal", is_flag=True, help="Show the whole key, on a terminal only.")
@options.rig_option
def show(destination: str, reveal: bool, rig_path: Path | None) -> None:
    """Show DESTINATION's key: its first two characters and length; with --reveal, on a terminal, all of it."""
    rig, entry = _destination(rig_path, destination)
    found = rig.key(entry, options.sources(rig))
    if reveal and not sys.stdout.isatty():
        raise UnusableInput("--reveal shows a key on a terminal only, not in a pipe or file")
    (output.reveal if reveal else click.echo)(found.reveal() if reveal else str(found))
    if reveal:
        output.note(f"If others may have seen it: direkt key expose {destination}")


@key.command()
@click.argument("destination")
@options.rig_option
def expose(destination: str, rig_path: Path | None) -> None:
    """Mark DESTINATION's key as seen by others; Direkt reminds to renew it until it changes."""
    rig, entry = _destination(rig_path, destination)
    if not entry.key.startswith("store:") or not options.key_store().expose(entry.key.removeprefix("store:"), options.binding(rig)):
        raise UnusableInput(
            f"the key of {destination} is not in the store: put it there with: direkt key set {destination}"
        )
    output.note(
        f"The key of {destination} is marked as exposed. Get a new one at the platform, then: direkt key renew {destination}"
    )


@key.command()
@click.argument("destination")
@options.rig_option
def forget(destination: str, rig_path: Path | None) -> None:
    """Drop DESTINATION's key from the store. Devices keep what was written to them."""
    rig, entry = _destination(rig_path, destination)
    if not entry.key.startswith("store:") or not options.key_store().forget(entry.key.removeprefix("store:"), options.binding(rig)):
        raise UnusableInput(f"the key of {destination} is not in the store")
    feeds = rig.feeds_to(destination)
    more = f" Devices of {', '.join(feeds)} may still hold it." if feeds else ""
    output.note(f"The key of {destination} is forgotten.{more}")


@key.command()
@click.argument("destination")
@click.option("--event", metavar="NAME", help="Ask the platform for a new key of this event, instead of pasting one.")
@click.option("--given", is_flag=True, help="With --event: take the key that the platform gives out now, not another one.")
@click.option("--yes", is_flag=True, help="Renew it also while the event is open or on air, which ends its push.")
@options.rig_option
@options.json_option
def renew(destination: str, event: str | None, given: bool, yes: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Take a new key for DESTINATION and write it to every device that has the old one; nothing else is touched."""
    rig, entry = _destination(rig_path, destination)
    if given and event is None:
        raise UnusableInput("--given goes with --event: whose key is to be taken?")
    if event is not None:
        key = _of_platform(rig, destination, event, given=given, yes=yes)
        output.console(err=as_json).print(f"the new key {escape(str(key))} is kept")
        return _to_devices(rig, destination, key, as_json)
    found = _untangle(rig, entry, _pasted())
    if found.aside:
        raise UnusableInput("another address was pasted with the key, and was not taken: paste the key alone")
    if found.key is None:
        raise UnusableInput("; ".join(["no key was found in what was pasted", *found.left]))
    if found.server is not None and str(found.server) != entry.server:
        raise UnusableInput(
            "another server address was pasted too; renewing touches the key alone. "
            f"To change both: direkt key set {destination}"
        )
    out = output.console(err=as_json)
    _show(out, found, entry)
    _agree(found, f"Keep it, and write it to every device that pushes to {destination}?")
    from direkt.secret import Secret

    name = _store_name(rig, destination)
    options.key_store().put(name, found.key, _bound_to(rig, entry, found))
    if entry.key != f"store:{name}":
        _change_rig(rig, destination, {"key": f"store:{name}"})
    out.print(f"the new key {escape(_masked(found.key))} is kept")
    return _to_devices(rig, destination, Secret(found.key), as_json)


def _of_platform(rig: Rig, destination: str, event: str, *, given: bool, yes: bool) -> Secret:
    """A new key, as the event's platform gives it out; it is kept where the rig has the destination's key."""
    from direkt.cli import crew
    from direkt.cli.crew import Asker
    from direkt.cli.event import chosen
    from direkt.platform.model import EventState, NoSuchEvent
    from direkt.work import airing

    means = crew.means(rig)
    airings = airing.gather(rig, chosen(rig, event, None), means)
    try:
        one = next((a for a in airings if a.destination == destination), None)
        if one is None:
            raise UnusableInput(f"no feed of the event {event!r} goes to {destination}")
        known = one.find()
        if known is None:
            raise NoSuchEvent(f"{one.sheet.name} has no such event yet: direkt event make {event}")
        if given:
            key = one.platform.ingest(known).key
            airing.adopt_key(one, key, means)
            return key
        if known.state in (EventState.OPEN, EventState.LIVE, EventState.UNKNOWN):
            state = "is on air" if known.state is EventState.LIVE else f"is {known.state}"
            text = f"{event} {state} at {one.sheet.name}: a new key ends its push. Renew the key all the same?"
            if not Asker(yes).ask(text, False):
                raise UnusableInput(f"{event} {state}, and its key was left as it is; end it first: direkt stop {event}, or say --yes")
        key = one.platform.renew(known).key
        airing.adopt_key(one, key, means)
        return key
    finally:
        airing.close(airings)


def _to_devices(rig: Rig, destination: str, key: Secret, as_json: bool) -> ExitCode:
    """Writes the new key to every device that has the old one."""
    from direkt.work.renew import renew as work

    out = output.console(err=as_json)
    document: KeyRenewJson = {"schema": "direkt.key-renew/1", "destination": destination, "devices": []}
    try:
        for one in work(rig, destination, key, options.sources(rig)):
            mark = "[green]✓ written[/]" if one.written else "[bold red]✗ not written[/]"
            reason = f": {escape(one.reason)}" if one.reason else ""
            out.print(f"{mark}  {escape(one.device)} ({escape(one.feed)}){reason}")
            document["devices"].append(
                {"feed": one.feed, "device": one.device, "written": one.written, "reason": one.reason}
            )
    except KeyboardInterrupt:
        END.taken()
        have = ", ".join(d["device"] for d in document["devices"] if d["written"]) or "no device for certain"
        output.interrupted(
            f"the new key is kept; it is written to: {have}. For the others: direkt key renew {destination}"
        )
        return ExitCode.INTERRUPTED
    if as_json:
        output.print_json(document)
    return ExitCode.GOOD if all(d["written"] for d in document["devices"]) else ExitCode.NO_ANSWER


@key.command()
@click.argument("destination")
@click.option("--reveal", is_flag=True, help="Show the key itself, on a terminal only, to copy it.")
@options.rig_option
@options.json_option
def form(destination: str, reveal: bool, rig_path: Path | None, as_json: bool) -> None:
    """Show DESTINATION in every form that devices ask for: one URL, URL and key, or parts."""
    from direkt.destination import forms
    from direkt.protocol import address

    rig, entry = _destination(rig_path, destination)
    secret = rig.key(entry, options.sources(rig))
    if reveal and (as_json or not sys.stdout.isatty()):
        raise UnusableInput("--reveal shows a key on a terminal only, not in a pipe, file or JSON")
    shown = secret.reveal() if reveal else str(secret).replace(" ", "")
    endpoint = forms.Endpoint(address.parse(entry.server), shown)
    made = {name: forms.join(endpoint, name) for name in forms.FORMS}
    if as_json:
        document: KeyFormJson = {"schema": "direkt.key-form/1", "destination": destination, "forms": dict(made.items())}
        output.print_json(document)
        return
    for name, fields in made.items():
        click.echo(f"{name}:")
        say = output.reveal if reveal else click.echo
        for field, value in fields.items():
            say(f"  {forms.LABELS[name].get(field, field):<12} {value}")
    if not reveal:
        output.note("The key is masked; --reveal shows it.")
