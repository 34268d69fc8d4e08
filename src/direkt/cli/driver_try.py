"""A driver tried on a device: what it understands, what it does not."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape, show
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.cli.documents.gear import DriverTryJson
    from direkt.device.state import DeviceState, Driver



@click.command("try", short_help="Try a driver on a device.")
@click.argument("file")
@click.argument("address")
@click.option(
    "--login", metavar="REF", help="User:password: env:NAME, file:PATH#NAME, or 'ask' to type it."
)
@click.option(
    "--write-back", is_flag=True, help="Also write each setting as it is, and see that it comes back the same."
)
@options.json_option
def try_(file: str, address: str, login: str | None, write_back: bool, as_json: bool) -> ExitCode:
    """Read the device at ADDRESS with driver FILE (or a driver's name), and show what is understood and what is not.

    Nothing is changed, and with --write-back only to what it is. Exits with 1 when something of the file does not fit.
    """
    from direkt.destination import references
    from direkt.device import library

    secret = None
    if login is not None:
        secret = references.login_of(options.given_secret(login, "--login", "user:password"), "--login")
    opened = library.open_driver(file, "the device", _address(address), secret, Path.cwd())
    try:
        state = opened.read()
        missing = _missing(file, state)
        failed = _written_back(opened, state) if write_back else []
    finally:
        opened.close()
    if as_json:
        document: DriverTryJson = {
            "schema": "direkt.driver-try/1", "address": address, "make": state.make, "model": state.model, "firmware": state.firmware,
            "channels": {c.name: {"set": c.values, "can": {n: limit.json() for n, limit in c.limits.items()}} for c in state.channels.values()},
            "slots": [slot.number for slot in state.slots.values()], "missing": missing, "write_back_failed": failed, "remarks": list(state.remarks),
        }  # fmt: skip
        output.print_json(document)
    else:
        _print(state, missing, failed, write_back)
    return ExitCode.FAILS if missing or failed else ExitCode.GOOD


def _address(text: str) -> str:
    from direkt.rig import file as rig

    try:
        return rig.DeviceEntry(driver="x", address=text).address
    except ValueError:
        near = f"http://{text}" if text and "://" not in text else "http://192.0.2.10"
        raise UnusableInput(f"{text!r} is not an address of a device; expected {near}") from None


def _missing(file: str, state: DeviceState) -> list[str]:
    """Settings of the file that no channel has."""
    from direkt.device import library

    if file == library.STANDARD:
        return []
    described = library.load_described(file, Path.cwd())
    return [
        f"{name}: nothing stands at {entry.text} of channel {channel.name}" for channel in state.channels.values()
        for name, entry in (described.settings.items() if described is not None else ()) if name not in channel.values
    ]  # fmt: skip


def _written_back(opened: Driver, state: DeviceState) -> list[str]:
    """What does not come back as it was, after being written as it is."""
    from direkt import parameters
    from direkt.errors import DirektError

    out = []
    for channel in state.channels.values():
        values = {name: value for name, value in channel.values.items() if name in channel.limits}
        for portion in opened.portions(values):
            try:
                opened.write(channel, portion)
            except DirektError as error:
                out.append(str(error))
    now = opened.read()
    for name, channel in state.channels.items():
        after = now.channels[name].values
        out += [
            f"{parameter} of {name}: was {value}, is {after.get(parameter)}" for parameter, value in channel.values.items()
            if parameter not in after or not parameters.same(parameter, after[parameter], value)
        ]  # fmt: skip
    return out


def _print(state: DeviceState, missing: list[str], failed: list[str], write_back: bool) -> None:
    from direkt import parameters

    out = output.console()
    channels = list(state.channels.values())
    out.print(f"[bold]{escape(' '.join(filter(None, (state.make, state.model))))}[/], firmware {escape(state.firmware)}; "
              f"channels: {escape(', '.join(c.name for c in channels))}; push slots: {len(state.slots)}")  # fmt: skip
    made = output.table("setting", *(c.name for c in channels), "can be")
    for n in parameters.in_table_order({n for c in channels for n in c.values}):
        limit = next((c.limits[n] for c in channels if n in c.limits), None)
        made.add_row(n, *(show(n, c.values.get(n)) for c in channels), escape(limit.text()) if limit else "fixed")
    output.print_table(out, made, all_columns=True)
    for slot in state.slots.values():
        out.print(
            f"push slot {slot.number}: channel {escape(slot.channel)}, {escape(slot.server or 'no server address')}, {escape(slot.state.value)}"
        )
    for words in missing:
        out.print(f"[bold red]✗ not found[/]  {escape(words)}")
    for words in failed:
        out.print(f"[bold red]✗ not written back[/]  {escape(words)}")
    for words in state.remarks:
        out.print(f"[yellow]![/] {escape(words)}")
    if not missing and not failed:
        out.print(
            "[green]✓[/] everything that the file describes is there"
            + (", and comes back as written" if write_back else "")
        )
