"""direkt find: which devices there are, how they can be reached, and what stands in the way."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import files
from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.gear import FindJson, FoundJson
    from direkt.rig.file import Rig
    from direkt.work.device.find import FindEvent, FoundDevice, SearchResult
    from direkt.work.steps import Answer


class Ports(click.ParamType[tuple[int, ...]]):
    """Port numbers with commas between."""

    name = "ports"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> tuple[int, ...]:
        if isinstance(value, tuple):
            return value
        parts = [part.strip() for part in str(value).split(",")]
        if not all(part.isascii() and part.isdigit() and 0 < int(part) < 65536 for part in parts):
            self.fail(f"{value!r} is no list of ports; expected 80,8080,554", param, ctx)
        return tuple(int(part) for part in parts)


@click.command()
@click.option(
    "--subnet", "subnets", multiple=True, metavar="NET", help="Also look at each address of NET, such as 192.0.2.0/24."
)
@click.option("--interface", metavar="IF", help="Probe on this interface only, by its name or address.")
@click.option(
    "--ports",
    type=Ports(),
    metavar="PORTS",
    help="Ports to look at with --subnet [default: 80,8080,8000,554,8554 and those of drivers].",
)
@options.time_option("--wait", default=4.0, help="How long to listen for answers.")
@click.option("--add", is_flag=True, help="Write devices that are not in the rig yet into it.")
@click.option("--try-defaults", is_flag=True, help="Try a well-known login, once for each account.")
@options.rig_option
@options.json_option
def find(
    subnets: tuple[str, ...], interface: str | None, ports: tuple[int, ...] | None, wait: float, add: bool, try_defaults: bool,
    rig_path: Path | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Find cameras and encoders on the networks of this machine, and say how each can be spoken to.

    Probes all interfaces by multicast; devices that do not answer that are found with --subnet. Shows whether a device
    can push, whether its first password is still to be set, and what stands between it and this machine. Exits with 3
    when nothing was found.
    """
    from direkt.work.device import find as work
    from direkt.work.steps import drive

    rig = _rig(rig_path)
    wanted = work.SearchWanted(interface, subnets, ports if ports is not None else work.PORTS, wait, try_defaults)
    result = drive(work.find(wanted, rig, options.sources(rig) if rig is not None else None), _on_event)
    added = _add(result, rig, rig_path) if add else {}
    if as_json:
        document: FindJson = {
            "schema": "direkt.find/1",
            "devices": [_json(one, added) for one in result.devices],
            "notes": list(result.notes),
        }
        output.print_json(document)
    else:
        out = output.console()
        _print(out, result, added)
        _next(result, added, subnets)
    return ExitCode.GOOD if result.devices else ExitCode.NO_ANSWER


def _rig(path: Path | None) -> Rig | None:
    """The rig, where there is one: looking needs none."""
    from direkt.rig import file as rig

    if path is None and not Path(rig.FILE_NAME).exists():
        return None
    return options.load_rig(path)


def _on_event(event: FindEvent) -> Answer:
    from direkt.work.device import find as work

    if isinstance(event, work.Probing):
        output.note(f"probing on {', '.join(event.interfaces) or 'no interface'} ...")
    elif isinstance(event, work.Scanning):
        output.note(f"knocking at {event.hosts} addresses, {event.ports} ports each ...")
    elif event.count:
        output.note(f"asking {event.count} place{'s' if event.count != 1 else ''} what they are ...")
    return None


def _add(result: SearchResult, rig: Rig | None, path: Path | None) -> dict[str, str]:
    """Writes the new ones into the rig; their names by address."""
    from direkt.cli import rigfile
    from direkt.rig import file as rigs
    from direkt.work.device.find import names_for

    names = names_for(result.devices, rig.file.devices if rig is not None else ())
    if not names:
        return {}
    if rig is None:
        path = path if path is not None else Path(rigs.FILE_NAME)
        try:
            files.create(path, "# Made by direkt find. Destinations and feeds come next.\nschema: direkt.rig/1\nname: New rig\ndevices: {}\n")
        except OSError as error:
            from direkt.errors import os_words

            raise UnusableInput(f"{path}: cannot be written: {os_words(error)}") from None
        rig = rigs.load(path)
    by_address = {one.address: one for one in result.devices}
    rigfile.change(rig, [
        (["devices", name], {"driver": by_address[address].driver, "address": address}) for address, name in names.items()
    ])  # fmt: skip
    return names


def _json(one: FoundDevice, added: dict[str, str]) -> FoundJson:
    return {
        "address": one.address, "name": one.name, "make": one.make, "model": one.model, "firmware": one.firmware,
        "speaks": list(one.speaks), "can_push": one.can_push, "push": one.push_words, "needs_first_password": one.needs_first_password,
        "default_login_works": one.default_login_works, "rig_name": one.rig_name or added.get(one.address), "driver": one.driver,
        "other_addresses": list(one.others),
        "notes": [words.replace("NAME", one.rig_name or "NAME") for words in one.notes],
    }  # fmt: skip


def _print(out: Console, result: SearchResult, added: dict[str, str]) -> None:
    devices = result.devices
    if devices and output.is_narrow(out):
        for one in devices:
            title = " ".join(filter(None, (one.make, one.model, one.firmware)))
            out.print(f"[bold]{escape(one.name or one.address)}[/]  {escape(title)}")
            out.print(f"    {escape(one.address)}; speaks {escape(', '.join(one.speaks))}; can push: {escape(one.push_words)}; "
                      f"in the rig: {escape(_in_rig(one, added))}")  # fmt: skip
            _notes(out, one, "    ")
        return
    if devices:
        made = output.table("name", "make and model", "firmware", "address", "speaks", "can push", "in the rig")
        for one in devices:
            made.add_row(
                escape(one.name or "–"), escape(" ".join(filter(None, (one.make, one.model))) or "–"), escape(one.firmware or "–"),
                escape(one.address), escape(", ".join(one.speaks)), escape(one.push_words), escape(_in_rig(one, added)),
            )  # fmt: skip
        output.print_table(out, made)
    for one in devices:
        _notes(out, one, "")
    for words in result.notes:
        out.print(f"[yellow]![/] {escape(words)}")


def _in_rig(one: FoundDevice, added: dict[str, str]) -> str:
    if one.address in added:
        return f"{added[one.address]} (new)"
    return one.rig_name or "–"


def _notes(out: Console, one: FoundDevice, indent: str) -> None:
    name = one.rig_name or one.name or one.address
    if one.default_login_works:
        out.print(f"{indent}[bold red]✗ {escape(name)}: the login it was delivered with still works (user {escape(one.default_user)}): "
                  f"anybody in this network can use it; set another password on its page[/]")  # fmt: skip
    for words in one.notes:
        out.print(f"{indent}[yellow]![/] {escape(name)}: {escape(words.replace('NAME', one.rig_name or 'NAME'))}")
    if one.others:
        out.print(f"{indent}[dim]{escape(name)} also at {escape(', '.join(one.others))}[/]")


def _next(result: SearchResult, added: dict[str, str], subnets: tuple[str, ...]) -> None:
    if not result.devices:
        more = "" if subnets else " Try each address: direkt find --subnet 192.0.2.0/24 (with your network)."
        output.note(f"Nothing answered. Is this machine in the cameras' network, and are they on?{more}")
        return
    new = [one for one in result.devices if one.rig_name is None and one.address not in added]
    if new:
        output.note(f"{len(new)} not in the rig. To write them into it: direkt find --add")
    elif added:
        output.note(
            "Written into the rig. Give each its login ('login: store:...' or direkt device claim), then: direkt read NAME"
        )
