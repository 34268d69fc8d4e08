"""direkt key: keep stream keys, repair what was pasted, show a key's shapes, renew it everywhere."""

from __future__ import annotations

import re
import sys
from pathlib import Path
from typing import Any

import click
from rich.markup import escape

from direkt.cli import common

_MOST_PASTED = 8192  # characters


@click.group()
def key() -> None:
    """Keep stream keys: in the system's keyring, or in a file that only you can read."""


def _destination(rig_path: Path | None, name: str) -> tuple[Any, Any]:
    rig = common.load_rig(rig_path)
    entry = rig.file.destinations.get(name)
    if entry is None:
        known = ", ".join(rig.file.destinations) or "none"
        raise common.Failure(f"no destination {name!r} in {rig.source}; it has {known}", common.USE)
    return rig, entry


def _store_name(rig: Any, destination: str) -> str:
    slug = re.sub(r"[^a-z0-9]+", "-", rig.file.name.lower()).strip("-") or "rig"
    return f"{slug}/{destination}"


def _pasted() -> str:
    """What the person pastes: hidden on a terminal, else standard input."""
    if not sys.stdin.isatty():
        text = sys.stdin.read(_MOST_PASTED + 1)
        if not text.strip():
            raise common.Failure(
                "nothing came on standard input: pipe the server address and the key in, or run it on a terminal",
                common.USE,
            )
        return text
    lines: list[str] = []
    while True:
        line = click.prompt("Paste server address, key, or both (hidden; an empty line ends)" if not lines else "more, or empty", default="", hide_input=True, show_default=False, err=True)  # fmt: skip
        if not line.strip() and lines:
            return "\n".join(lines)
        lines.append(line)


def _untangle(rig: Any, entry: Any, text: str) -> Any:
    from direkt.sheet import address, paste

    sheet = rig.sheet(entry)
    known = [address.parse(entry.server), *(found for server in sheet.servers if (found := server.rtmp))]
    ports = [(p.protocol, p.port) for p in sheet.protocols]
    return paste.untangle(text, pattern=sheet.key.pattern if sheet.key else None, known=known, ports=ports)


def _store() -> Any:
    return common.sources().store


@key.command("set")
@click.argument("destination")
@common.rig_option
@common.json_option
@common.handled
def set_(destination: str, rig_path: Path | None, as_json: bool) -> None:
    """Take DESTINATION's server address and key, as pasted; repair what is certain, refuse the rest.

    Asks on the terminal without showing what is pasted, or reads standard input. Never give a key as an argument.
    """
    rig, entry = _destination(rig_path, destination)
    found = _untangle(rig, entry, _pasted())
    if found.key is None and found.server is None:
        raise common.Failure("neither a server address nor a key was found in it", common.USE)
    said = [f"repaired: {words}" for words in found.repairs]
    name = _store_name(rig, destination)
    changes: dict[str, str] = {}
    if found.server is not None and str(found.server) != entry.server:
        changes["server"] = str(found.server)
        said.append(f"server address changed from {entry.server} to {found.server}")
    kept = None
    if found.key is not None:
        kept = _store().put(name, found.key)
        said.append(
            f"key {_masked(found.key)} kept in the {'system keyring' if kept.where == 'keyring' else 'key file'}"
        )
        if entry.key != f"store:{name}":
            changes["key"] = f"store:{name}"
    else:
        said.append("no key was pasted: the key stays as it is")
    if changes:
        _change_rig(rig, destination, changes)
        said.append(f"{rig.source}: {' and '.join(changes)} of {destination} written")
    _tell(said, as_json, {"schema": "direkt.key-set/1", "destination": destination, "server": str(found.server) if found.server else None,
                          "key": _masked(found.key) if found.key else None, "repairs": list(found.repairs), "changed": changes})  # fmt: skip
    if found.key is None and not as_json:
        common.note(f"Paste the key with: direkt key set {destination}")


def _masked(value: str) -> str:
    from direkt.sheet.secret import Secret

    return str(Secret(value))


def _tell(said: list[str], as_json: bool, document: dict[str, Any]) -> None:
    if as_json:
        common.print_json(document)
        return
    out = common.console()
    for line in said:
        out.print(escape(line))


def _change_rig(rig: Any, destination: str, changes: dict[str, str]) -> None:
    """Writes entries of a destination into rig.yaml and keeps its comments."""
    from ruamel.yaml import YAML

    path = Path(rig.source)
    yaml = YAML(typ="rt", pure=True)
    yaml.preserve_quotes = True
    yaml.width = 4096
    try:
        data = yaml.load(path.read_text("utf-8"))
        data["destinations"][destination].update(changes)
        new = path.with_suffix(".new")
        with new.open("w", encoding="utf-8") as file:
            yaml.dump(data, file)
        new.chmod(path.stat().st_mode & 0o777)
        new.replace(path)
    except OSError as error:
        raise common.Failure(
            f"{path}: cannot be written: {(error.strerror or str(error)).lower()}", common.USE
        ) from None


@key.command("list")
@common.rig_option
@common.json_option
@common.handled
def list_(rig_path: Path | None, as_json: bool) -> None:
    """List the destinations' keys: where each is kept, masked, and whether it was exposed."""
    from direkt.sheet import secret

    sources = common.sources()
    kept = {k.name: k for k in sources.store.kept()}
    rig = common.load_rig(rig_path)
    rows = []
    for name, entry in rig.file.destinations.items():
        try:
            shown = str(rig.key(entry, sources))
        except secret.SecretError as error:
            shown = f"none: {error}"
        info = kept.pop(entry.key.removeprefix("store:"), None) if entry.key.startswith("store:") else None
        rows.append({"destination": name, "from": str(secret.parse_ref(entry.key)), "key": shown, "since": info.since if info else None,
                     "where": info.where if info else None, "exposed": bool(info and info.exposed)})  # fmt: skip
    if as_json:
        common.print_json({"schema": "direkt.key-list/1", "keys": rows, "unused": sorted(kept)})
        return
    out = common.console()
    made = common.table("destination", "from", "key", "set", "")
    for row in rows:
        mark = "[yellow]! exposed: renew it[/]" if row["exposed"] else ""
        made.add_row(
            escape(str(row["destination"])), escape(str(row["from"])), escape(str(row["key"])), row["since"] or "", mark
        )
    out.print(made)
    for name in kept:
        out.print(f"{escape(name)}: in the store, used by no destination of this rig")


@key.command()
@click.argument("destination")
@click.option("--reveal", is_flag=True, help="Show the whole key, on a terminal only.")
@common.rig_option
@common.handled
def show(destination: str, reveal: bool, rig_path: Path | None) -> None:
    """Show DESTINATION's key: its first two characters and length; with --reveal, on a terminal, all of it."""
    rig, entry = _destination(rig_path, destination)
    found = rig.key(entry, common.sources())
    if reveal and not sys.stdout.isatty():
        raise common.Failure("--reveal shows a key on a terminal only, not in a pipe or file", common.USE)
    click.echo(found.reveal() if reveal else str(found))
    if reveal:
        common.note(f"If others may have seen it: direkt key expose {destination}")


@key.command()
@click.argument("destination")
@common.rig_option
@common.handled
def expose(destination: str, rig_path: Path | None) -> None:
    """Mark DESTINATION's key as seen by others; Direkt reminds to renew it until it changes."""
    _, entry = _destination(rig_path, destination)
    if not entry.key.startswith("store:") or not _store().expose(entry.key.removeprefix("store:")):
        raise common.Failure(
            f"the key of {destination} is not in the store: put it there with: direkt key set {destination}", common.USE
        )
    common.note(
        f"The key of {destination} is marked as exposed. Get a new one at the platform, then: direkt key renew {destination}"
    )


@key.command()
@click.argument("destination")
@common.rig_option
@common.handled
def forget(destination: str, rig_path: Path | None) -> None:
    """Drop DESTINATION's key from the store. Devices keep what was written to them."""
    rig, entry = _destination(rig_path, destination)
    if not entry.key.startswith("store:") or not _store().forget(entry.key.removeprefix("store:")):
        raise common.Failure(f"the key of {destination} is not in the store", common.USE)
    feeds = rig.feeds_to(destination)
    common.note(
        f"The key of {destination} is forgotten."
        + (f" Devices of {', '.join(feeds)} may still hold it." if feeds else "")
    )


@key.command()
@click.argument("destination")
@common.rig_option
@common.json_option
@common.handled
def renew(destination: str, rig_path: Path | None, as_json: bool) -> int:
    """Take a new key for DESTINATION and write it to every device that has the old one; nothing else is touched."""
    from direkt.device.model import DeviceError
    from direkt.sheet.secret import Secret

    rig, entry = _destination(rig_path, destination)
    found = _untangle(rig, entry, _pasted())
    if found.key is None:
        raise common.Failure("no key was found in what was pasted", common.USE)
    if found.server is not None and str(found.server) != entry.server:
        raise common.Failure(
            f"another server address was pasted too; renewing touches the key alone. To change both: direkt key set {destination}",
            common.USE,
        )
    name = _store_name(rig, destination)
    _store().put(name, found.key)
    if entry.key != f"store:{name}":
        _change_rig(rig, destination, {"key": f"store:{name}"})
    out = common.console(err=as_json)
    for words in found.repairs:
        out.print(escape(f"repaired: {words}"))
    out.print(f"the new key {escape(_masked(found.key))} is kept")
    results = []
    for feed_name in rig.feeds_to(destination):
        feed = rig.file.feeds[feed_name]
        result = {"feed": feed_name, "device": feed.device, "written": False, "reason": ""}
        driver = common.open_device(rig, feed.device)
        try:
            slot = driver.read().slots.get(feed.slot)
            if slot is None:
                result["reason"] = f"no push slot {feed.slot}"
            else:
                driver.write_slot(feed.slot, slot.channel, slot.server or entry.server, Secret(found.key))
                result["written"] = True
                result["reason"] = (
                    "it pushes now: it uses the new key from its next start on" if slot.state != "stopped" else ""
                )
        except DeviceError as error:
            result["reason"] = str(error)
        finally:
            driver.close()
        results.append(result)
        mark = "[green]✓ written[/]" if result["written"] else "[bold red]✗ not written[/]"
        out.print(
            f"{mark}  {escape(feed.device)} ({escape(feed_name)})"
            + (f": {escape(str(result['reason']))}" if result["reason"] else "")
        )
    if as_json:
        common.print_json({"schema": "direkt.key-renew/1", "destination": destination, "devices": results})
    return 0 if all(r["written"] for r in results) else common.DEVICE


@key.command()
@click.argument("destination")
@click.option("--reveal", is_flag=True, help="Show the key itself, on a terminal only, to copy it.")
@common.rig_option
@common.json_option
@common.handled
def form(destination: str, reveal: bool, rig_path: Path | None, as_json: bool) -> None:
    """Show DESTINATION in every shape that devices ask for: one URL, URL and key, or parts."""
    from direkt.sheet import address, shapes

    rig, entry = _destination(rig_path, destination)
    secret = rig.key(entry, common.sources())
    if reveal and (as_json or not sys.stdout.isatty()):
        raise common.Failure("--reveal shows a key on a terminal only, not in a pipe, file or JSON", common.USE)
    shown = secret.reveal() if reveal else str(secret).replace(" ", "")
    endpoint = shapes.endpoint(address.parse(entry.server), shown)
    made = {shape: shapes.join(endpoint, shape) for shape in shapes.SHAPES}
    if as_json:
        common.print_json({"schema": "direkt.key-form/1", "destination": destination, "shapes": made})
        return
    for shape, fields in made.items():
        click.echo(f"{shape}:")
        for name, value in fields.items():
            click.echo(f"  {shapes.LABELS[shape].get(name, name):<12} {value}")
    if not reveal:
        common.note("The key is masked; --reveal shows it.")
