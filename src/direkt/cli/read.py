"""direkt read: what a device is set to now."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, unfinished
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape, show
from direkt.protocol import source

if TYPE_CHECKING:
    from direkt.cli.documents.device_settings import ReadJson
    from direkt.cli.documents.measured import SlotJson
    from direkt.device.state import Channel, DeviceState, Slot
    from direkt.parameters import Values
    from direkt.work.device.unfinished import UnfinishedWrite


@click.command()
@click.argument("device", required=False)
@options.details_option
@options.rig_option
@options.json_option
def read(device: str | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Read what DEVICE is set to, in the sheets' words and units, beside what it can do.

    Exits with 1 when what is set is not in force.
    """
    rig = options.load_rig(rig_path)
    name = rig.device_name(device)
    left = unfinished.tell(rig, device=name)
    driver = rig.driver(name, options.sources(rig))
    try:
        state = driver.read()
    finally:
        driver.close()
    if as_json:
        output.print_json(_document(name, state, left))
    else:
        _print(name, state, next((n for n, feed in rig.file.feeds.items() if feed.device == name), None))
    return ExitCode.FAILS if state.restart_needed else ExitCode.GOOD


def _document(name: str, state: DeviceState, left: list[UnfinishedWrite]) -> ReadJson:
    return {
        "schema": "direkt.read/1", "device": name, "make": state.make, "model": state.model, "firmware": state.firmware,
        "temperature": state.temperature, "input": state.input.text if state.input else None,
        "restart_needed": state.restart_needed,
        "channels": {
            c.name: {"title": c.title, "set": c.values, "can": {n: limit.json() for n, limit in c.limits.items()}, "stream": source.shown(c.stream) if c.stream else None}
            for c in state.channels.values()
        },
        "slots": [slot_json(slot) for slot in state.slots.values()], "remarks": list(state.remarks), "unfinished": left,
    }  # fmt: skip


def slot_json(slot: Slot) -> SlotJson:
    """A push slot; its key only by its length."""
    return {
        "slot": slot.number, "channel": slot.channel, "server": slot.server, "key_length": slot.key_length,
        "state": slot.state.value, "message": slot.message, "sent_bytes": slot.sent_bytes,
    }  # fmt: skip


def _print(name: str, state: DeviceState, feed: str | None) -> None:
    from direkt import parameters

    out = output.console()
    known = f"firmware {escape(state.firmware)}" if state.firmware else "firmware not reported"
    warm = f", {state.temperature:g} °C" if state.temperature is not None else ""
    signal = (state.input.text or "not reported") if state.input else "no signal"
    out.print(
        f"[bold]{escape(name)}[/]  {escape(' '.join(filter(None, (state.make, state.model))))}, {known}{warm}; input {escape(signal)}"
    )
    channels = list(state.channels.values())
    made = output.table("setting", *(c.name for c in channels), "can be")
    for n in parameters.in_table_order({n for c in channels for n in (*c.values, *c.limits)}):
        made.add_row(n if output.shows_all() else parameters.find(n).label, *(_cell(n, c.values) for c in channels), escape(_limits(n, channels)))
    out.print(made)
    for c in channels:
        title = f" ({c.title})" if c.title and c.title != c.name else ""
        if c.stream or title:
            out.print(
                escape(f"channel {c.name}{title}" + (f": {source.shown(c.stream)}" if c.stream else "")), soft_wrap=True
            )
    for words in state.remarks:
        out.print(f"[yellow]![/] {escape(words)}")
    for slot in state.slots.values():
        server = slot.server or "no server address"
        key = f"key of {slot.key_length} characters" if slot.key_length else "no key"
        said = f" ({slot.message})" if slot.message else ""
        out.print(
            f"push slot {slot.number}: channel {escape(slot.channel)}, {escape(server)}, {key}; {escape(slot.state + said)}"
        )
    if state.restart_needed:
        unfinished.not_in_force(out, name, feed)


def _limits(name: str, channels: list[Channel]) -> str:
    """What a setting can be: for all channels alike, or for each."""
    told = {c.name: c.limits[name].text() if name in c.limits else "fixed" for c in channels if name in c.values or name in c.limits}
    if len(set(told.values())) == 1:
        return next(iter(told.values()))
    return "; ".join(f"{channel}: {text}" for channel, text in told.items())


def _cell(name: str, values: Values) -> str:
    from direkt import parameters

    text = show(name, values.get(name))
    rate, interval = values.get("video.frame_rate"), values.get(name)
    if (
        name.startswith("video.keyframe_interval")
        and isinstance(rate, int | float)
        and isinstance(interval, int | float)
    ):
        text += f" ({parameters.keyframe_frames(interval, rate)} frames)"
    return text
