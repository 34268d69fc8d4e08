"""direkt key: keep stream keys, repair what was pasted, show a key's forms, renew it everywhere."""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import key_paste, options, output
from direkt.cli.key_kept import bound_to, change_rig, destination_of, store_name
from direkt.cli.key_renew import renew
from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.destinations import KeyFormJson, KeyListJson, KeyRowJson, KeySetEachJson, KeySetJson
    from direkt.destination.paste import Paste
    from direkt.rig.file import Rig


@click.group()
def key() -> None:
    """Keep stream keys: in the system's keyring, or in a file that only you can read."""


@key.command("set")
@click.argument("destination", required=False)
@click.option("--each", is_flag=True, help="The paste is for several destinations: take each part for its own.")
@click.option("--key-only", is_flag=True, help="Take the key alone, whatever address was pasted with it.")
@options.rig_option
@options.json_option
def set_(destination: str | None, each: bool, key_only: bool, rig_path: Path | None, as_json: bool) -> None:
    """Take DESTINATION's server address and key, as pasted; repair what is certain, refuse the rest.

    Asks on the terminal without showing what is pasted, or reads standard input. Never give a key as an argument.
    """
    if each == (destination is not None):
        raise UnusableInput("name one destination, or say --each where the paste is for several")
    rig = options.load_rig(rig_path)
    pasted: dict[str, Paste] = {}
    if destination is not None:
        rig.destination(destination)
        pasted[destination] = key_paste.of_one(rig, destination, key_paste.pasted())
    else:
        parts = key_paste.divided(rig, key_paste.pasted())
        if len(parts.texts) < 2:
            one = next(iter(parts.named), "DESTINATION")
            raise UnusableInput(f"the paste does not speak of several destinations of the rig: direkt key set {one}")
        pasted = key_paste.of_each(rig, parts)
    out = output.console(err=as_json)
    for name, found in pasted.items():
        if key_only:
            found = replace(found, server=None, aside=False)
        found = replace(found, questions=(*found.questions, *key_paste.doubts(rig, name, found)))
        pasted[name] = found
        if each:
            out.print(f"[bold]{escape(name)}[/]")
        key_paste.show(out, found, rig.destination(name))
        if found.aside and found.key is not None:
            raise UnusableInput("the address that was pasted was not taken, so the key was not kept either: paste both anew, or the key alone with --key-only")
    questions = tuple(question for found in pasted.values() for question in found.questions)
    key_paste.agree(questions, "Keep this as it stands?" if questions else "Keep this?")
    documents = [_keep(options.load_rig(rig_path), name, found, out, f"{name}: " if each else "") for name, found in pasted.items()]  # each change leaves another rig
    if as_json and each:
        many: KeySetEachJson = {"schema": "direkt.key-set-each/1", "destinations": documents}
        output.print_json(many)
    elif as_json:
        output.print_json(documents[0])
    elif destination is not None and pasted[destination].key is None:
        output.note(f"Paste the key with: direkt key set {destination}")


def _keep(rig: Rig, destination: str, found: Paste, out: Console, head: str) -> KeySetJson:
    """Keeps what was pasted for a destination: the key in the store, the address in the rig."""
    entry, name = rig.destination(destination), store_name(rig, destination)
    changes: dict[str, str] = {}
    if found.server is not None and str(found.server) != entry.server:
        changes["server"] = str(found.server)
    if found.key is not None and entry.key != f"store:{name}":
        changes["key"] = f"store:{name}"
    if found.key is not None:
        kept = options.key_store().put(name, found.key, bound_to(rig, entry, found))
        place = "system keyring" if kept.where == "keyring" else "key file"
        out.print(escape(f"{head}key {key_paste.masked(found.key)} kept in the {place}"))
    if changes:
        change_rig(rig, destination, changes)
        out.print(escape(f"{rig.source}: {' and '.join(changes)} of {destination} written"))
    return {
        "schema": "direkt.key-set/1", "destination": destination, "server": str(found.server) if found.server else None,
        "key": key_paste.masked(found.key) if found.key else None, "repairs": list(found.repairs), "left": list(found.left), "changed": changes,
    }  # fmt: skip


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
    output.print_table(out, made)
    for name in kept:
        out.print(f"{escape(name)}: in the store, used by no destination of this rig")


@key.command()
@click.argument("destination")
@click.option("--reveal", is_flag=True, help="Show the whole key, on a terminal only.")
@options.rig_option
def show(destination: str, reveal: bool, rig_path: Path | None) -> None:
    """Show DESTINATION's key: its first two characters and length; with --reveal, on a terminal, all of it."""
    rig, entry = destination_of(rig_path, destination)
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
    rig, entry = destination_of(rig_path, destination)
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
    rig, entry = destination_of(rig_path, destination)
    if not entry.key.startswith("store:") or not options.key_store().forget(entry.key.removeprefix("store:"), options.binding(rig)):
        raise UnusableInput(f"the key of {destination} is not in the store")
    feeds = rig.feeds_to(destination)
    more = f" Devices of {', '.join(feeds)} may still hold it." if feeds else ""
    output.note(f"The key of {destination} is forgotten.{more}")


@key.command()
@click.argument("destination")
@click.option("--reveal", is_flag=True, help="Show the key itself, on a terminal only, to copy it.")
@options.rig_option
@options.json_option
def form(destination: str, reveal: bool, rig_path: Path | None, as_json: bool) -> None:
    """Show DESTINATION in every form that devices take: one URL, URL and key, or parts."""
    from direkt.destination import forms
    from direkt.protocol import address

    rig, entry = destination_of(rig_path, destination)
    secret = rig.key(entry, options.sources(rig))
    if reveal and (as_json or not sys.stdout.isatty()):
        raise UnusableInput("--reveal shows a key on a terminal only, not in a pipe, file or JSON")
    shown = secret.reveal() if reveal else str(secret)
    endpoint = forms.Endpoint(address.parse(entry.server), shown)
    scheme = endpoint.server.scheme
    made = {name: forms.join(endpoint, name) for name in forms.FORMS if forms.labels(scheme, name)}
    if as_json:
        document: KeyFormJson = {"schema": "direkt.key-form/1", "destination": destination, "forms": dict(made.items())}
        output.print_json(document)
        return
    for name, fields in made.items():
        click.echo(f"{name}:")
        say = output.reveal if reveal else click.echo
        for field, value in fields.items():
            say(f"  {forms.labels(scheme, name).get(field, field):<12} {value}")
    if not reveal:
        output.note("The key is masked; --reveal shows it.")


key.add_command(renew)
