"""direkt push: start, stop or look at a device's push."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import click
from rich.markup import escape

from direkt.cli import common
from direkt.cli.read import slot_json

_START_LIMIT = 12.0  # s for a push to get going


@click.command()
@click.argument("action", type=click.Choice(["on", "off", "state"]))
@click.argument("feed", required=False)
@click.option(
    "--rehearse", metavar="ADDRESS", help="on: push to this receiver (see direkt catch) instead of the platform."
)
@common.rig_option
@common.json_option
@common.handled
def push(action: str, feed: str | None, rehearse: str | None, rig_path: Path | None, as_json: bool) -> int:
    """Start, stop or look at the push of FEED's device.

    'on' first makes sure that the push slot holds the right server address, key and channel.
    """
    if rehearse is not None and action != "on":
        raise common.Failure(f"--rehearse goes with 'push on', not with 'push {action}'", common.USE)
    rig = common.load_rig(rig_path)
    name = rig.feed_name(feed)
    driver = common.open_device(rig, rig.file.feeds[name].device)
    try:
        if action == "on":
            slot = _on(rig, name, driver, rehearse)
        elif action == "off":
            slot = _off(rig, name, driver)
        else:
            slot = _slot(rig, name, driver)
    finally:
        driver.close()
    _report(rig, name, slot, action, as_json)
    return common.DEVICE if action == "on" and slot.state != "pushing" else 0


def _slot(rig: Any, name: str, driver: Any) -> Any:
    feed = rig.file.feeds[name]
    slot = driver.read().slots.get(feed.slot)
    if slot is None:
        raise common.Failure(f"{feed.device} has no push slot {feed.slot}", common.USE)
    return slot


def _on(rig: Any, name: str, driver: Any, rehearse: str | None) -> Any:
    from direkt.sheet import address

    feed, _, destination = rig.feed(name)
    server = str(address.parse(rehearse)) if rehearse is not None else destination.server
    key = rig.key(destination, common.sources())
    common.remind(rig, destination)
    if key.reveal() in server:
        raise common.Failure("the address holds the stream key: give it without", common.USE)
    slot = _slot(rig, name, driver)
    if slot.state != "stopped":
        if (slot.server, slot.channel) == (server, feed.channel):
            return _wait(rig, name, driver)
        raise common.Failure(
            f"{feed.device} is pushing to {slot.server}: stop it first with: direkt push off {name}", common.DEVICE
        )
    stage = f"{feed.device} may have a new server address and key; it does not push"
    try:
        driver.write_slot(feed.slot, feed.channel, server, key)
        stage = f"{feed.device} may be pushing to {server}; stop it with: direkt push off {name}"
        driver.push(feed.slot, on=True)
        return _wait(rig, name, driver)
    except KeyboardInterrupt:
        click.echo(f"\nInterrupted: {stage}", err=True)
        raise click.exceptions.Exit(common.INTERRUPTED) from None


def _wait(rig: Any, name: str, driver: Any) -> Any:
    """The slot once it pushes, or as it is after the limit."""
    begin = time.monotonic()
    while True:
        slot = _slot(rig, name, driver)
        if slot.state == "pushing" or time.monotonic() - begin > _START_LIMIT or slot.state == "retrying":
            return slot
        time.sleep(0.25)


def _off(rig: Any, name: str, driver: Any) -> Any:
    feed = rig.file.feeds[name]
    _slot(rig, name, driver)
    driver.push(feed.slot, on=False)
    slot = _slot(rig, name, driver)
    if slot.state != "stopped":
        raise common.Failure(
            f"{feed.device} still says {slot.state} after it was told to stop: look at the device", common.DEVICE
        )
    return slot


def _report(rig: Any, name: str, slot: Any, action: str, as_json: bool) -> None:
    feed, _, destination = rig.feed(name)
    if as_json:
        common.print_json({"schema": "direkt.push/1", "feed": name, "device": feed.device, **slot_json(slot)})
        return
    out = common.console()
    said = f": {slot.message}" if slot.message else ""
    sent = f", {slot.sent_bytes / 1e6:.1f} MB sent" if slot.sent_bytes else ""
    mark = {"pushing": "[green]✓ pushing[/]", "stopped": "– stopped"}.get(
        slot.state, f"[yellow]! {escape(slot.state)}[/]"
    )
    out.print(f"[bold]{escape(name)}[/]  {escape(feed.device)}, slot {slot.number}, channel {escape(slot.channel)}, "
              f"to {escape(slot.server or 'nowhere')}: {mark}{escape(said)}{sent}")  # fmt: skip
    _platform_side(rig, destination, slot, action)
    if slot.server and slot.server != destination.server:
        common.note(
            f"This is a rehearsal: slot {slot.number} does not point at {destination.server}. 'push on' or 'write' points it back."
        )


def _platform_side(rig: Any, destination: Any, slot: Any, action: str) -> None:
    """What to expect of the platform now, where its sheet says so."""
    sheet = rig.sheet(destination)
    session = sheet.session
    if session is None or slot.server != destination.server:
        return
    if action == "on" and slot.state == "pushing":
        if session.shows_after_s is not None:
            span = session.shows_after_s
            common.note(
                f"{sheet.name} shows the picture {span.min:g} to {span.max:g} s after the push begins: wait that long."
            )
        if session.opens == "by hand before the push":
            common.note(f"{sheet.name} wants the event opened by hand.")
    elif action == "off" and session.after_stop == "new key":
        common.note(f"{sheet.name} wants a new key after a stop: direkt key renew.")
