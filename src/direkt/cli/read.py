"""direkt read: what a device is set to now."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
from rich.markup import escape

from direkt.cli import common


@click.command()
@click.argument("device", required=False)
@common.rig_option
@common.json_option
@common.handled
def read(device: str | None, rig_path: Path | None, as_json: bool) -> None:
    """Read what DEVICE is set to, in the sheets' words and units, beside what it can do."""
    rig = common.load_rig(rig_path)
    name = rig.device_name(device)
    driver = common.open_device(rig, name)
    try:
        state = driver.read()
    finally:
        driver.close()
    if as_json:
        common.print_json(_document(name, state))
    else:
        _print(name, state)


def _document(name: str, state: Any) -> dict[str, Any]:
    return {
        "schema": "direkt.read/1", "device": name, "model": state.model, "firmware": state.firmware,
        "temperature": state.temperature, "input": state.input.text if state.input else None,
        "restart_needed": state.restart_needed,
        "channels": {
            c.name: {"set": c.values, "can": {n: limit.json() for n, limit in c.limits.items()}}
            for c in state.channels.values()
        },
        "slots": [slot_json(slot) for slot in state.slots.values()],
    }  # fmt: skip


def slot_json(slot: Any) -> dict[str, Any]:
    """A push slot; its key only by its length."""
    return {
        "slot": slot.number, "channel": slot.channel, "server": slot.server, "key_length": slot.key_length,
        "state": slot.state, "message": slot.message, "sent_bytes": slot.sent_bytes,
    }  # fmt: skip


def _print(name: str, state: Any) -> None:
    from direkt import parameters

    out = common.console()
    warm = f", {state.temperature:g} °C" if state.temperature is not None else ""
    signal = state.input.text if state.input else "no signal"
    out.print(
        f"[bold]{escape(name)}[/]  {escape(state.model)}, firmware {escape(state.firmware)}{warm}; input {escape(signal)}"
    )
    channels = list(state.channels.values())
    made = common.table("setting", *(c.name for c in channels), "can be")
    names = parameters.in_table_order({n for c in channels for n in c.values})
    for n in names:
        limit = next((c.limits[n] for c in channels if n in c.limits), None)
        made.add_row(n, *(_cell(n, c.values) for c in channels), escape(limit.text()) if limit else "fixed")
    out.print(made)
    for slot in state.slots.values():
        server = slot.server or "no server address"
        key = f"key of {slot.key_length} characters" if slot.key_length else "no key"
        said = f" ({slot.message})" if slot.message else ""
        out.print(
            f"push slot {slot.number}: channel {escape(slot.channel)}, {escape(server)}, {key}; {escape(slot.state + said)}"
        )
    if state.restart_needed:
        out.print(
            "[yellow]! restart needed[/]  these settings are saved, but the stream keeps the old ones until a restart"
        )


def _cell(name: str, values: dict[str, Any]) -> str:
    text = common.show(name, values.get(name))
    rate = values.get("video.frame_rate")
    interval = values.get(name)
    if (
        name.startswith("video.keyframe_interval")
        and isinstance(rate, int | float)
        and isinstance(interval, int | float)
    ):
        text += f" ({round(interval * rate)} frames)"
    return text
