"""direkt device health, time, restart and firmware: how devices fare."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.opened import opened
from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.cli.documents.gear import HealthJson, HealthRowJson, TimeJson
    from direkt.device.state import Health
    from direkt.work.device.manage import DeviceHealth

# The login


@click.command("login", short_help="Try a login once more that a device refused.")
@click.argument("name", required=False)
@options.rig_option
def login_(name: str | None, rig_path: Path | None) -> ExitCode:
    """Try the login of device NAME once, though the device refused it before.

    A refused login is remembered and not sent again, by no command, since accounts lock. Use this once the password is right again at
    the device; where the login in the rig is changed, nothing needs to be done.
    """
    from urllib.parse import urlsplit

    from direkt.protocol import refusals

    rig = options.load_rig(rig_path)
    chosen = rig.device_name(name)
    entry, sources = rig.file.devices[chosen], options.sources(rig)
    found = rig.login(entry, sources)
    if found is None:
        raise UnusableInput(f"{chosen} has no login in {rig.source}: write a reference under devices.{chosen}.login")
    for feed in rig.file.feeds.values():
        if feed.device == chosen and feed.source is not None:
            refusals.current().forget(f"rtsp://{urlsplit(feed.source).netloc}", *found)
    refusals.current().forget(entry.address, *found)
    refusals.current().forget(f"rtsp://{urlsplit(entry.address).hostname}", *found)
    driver = rig.driver(chosen, sources)
    try:
        driver.read()
    finally:
        driver.close()
    output.note(f"{chosen} takes the login")
    return ExitCode.GOOD


# Health


@click.command(short_help="How devices fare, one line each.")
@click.argument("name", required=False)
@click.option("--all", "every", is_flag=True, help="Of every device in the rig.")
@options.rig_option
@options.json_option
def health(name: str | None, every: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Say how device NAME fares: reachable, clock, heat, memory, fan, input, uptime, push.

    Exits with 1 when something is wrong with one of them.
    """
    from direkt.work.device import manage

    rig = options.load_rig(rig_path)
    names = rig.every("device") if every else [rig.device_name(name)]
    sources = options.sources(rig)
    found = manage.for_all(names, lambda one: manage.look_at(one, lambda n: rig.driver(n, sources)))
    if as_json:
        document: HealthJson = {"schema": "direkt.device-health/1", "devices": [_health_json(one) for one in found]}
        output.print_json(document)
    else:
        out = output.console()
        width = max(len(one.name) for one in found)
        for one in found:
            mark = "[bold red]✗[/]" if one.wrong else "[green]✓[/]"
            out.print(f"{mark} {escape(one.name):<{width}}  {escape(_health_words(one))}")
            for words in one.wrong if one.health is not None else ():
                out.print(f"  {'':<{width}}  [red]{escape(words)}[/]")
    return ExitCode.FAILS if any(one.wrong for one in found) else ExitCode.GOOD


def _health_words(one: DeviceHealth) -> str:
    """One line."""
    from direkt.device.onvif.client import offset_text

    h = one.health
    if h is None:
        return one.wrong[0] if one.wrong else "does not answer"
    parts = ["answers"]
    if h.clock is not None and h.clock.offset is not None:
        parts.append("clock right" if abs(h.clock.offset) < 1 else f"clock {offset_text(h.clock.offset)}")
    if h.temperature is not None:
        parts.append(f"{h.temperature:g} °C")
    if h.memory_free is not None:
        parts.append(f"{h.memory_free:g} % memory free")
    if h.fan is not None:
        parts.append(f"fan {h.fan}")
    if h.input is not None:
        parts.append(f"input {h.input or 'no signal'}")
    if h.uptime is not None:
        parts.append(f"up {output.clock(h.uptime)}")
    parts += [f"push {slot.state.value}" for slot in h.pushes[:1]]
    return ", ".join(parts)


def _health_json(one: DeviceHealth) -> HealthRowJson:
    h: Health | None = one.health
    clock = h.clock if h is not None else None
    return {
        "device": one.name, "reachable": h is not None, "clock_offset": clock.offset if clock is not None else None,
        "temperature": h.temperature if h else None, "memory_free": h.memory_free if h else None, "fan": h.fan if h else None,
        "input": h.input if h else None, "uptime": h.uptime if h else None,
        "push": [slot.state.value for slot in h.pushes] if h else [], "wrong": list(one.wrong),
    }  # fmt: skip


# Clock


@click.command("time", short_help="Set the clock, or let it follow NTP.")
@click.argument("name", required=False)
@click.option(
    "--ntp", "servers", multiple=True, metavar="SERVER", help="Let it follow this NTP server (may be given twice)."
)
@click.option("--show", is_flag=True, help="Only say what its clock is.")
@options.rig_option
@options.json_option
def time_(name: str | None, servers: tuple[str, ...], show: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Set device NAME's clock: to this machine's time, or to follow an NTP server.

    A clock that follows a server and is right is left as it is. A wrong clock is the usual reason for a login that is refused. Exits with 1 when the clock is still wrong.
    """
    import datetime

    from direkt.device.onvif.client import offset_text
    from direkt.device.state import Capability, need
    from direkt.work.device import manage

    _, chosen, driver = opened(rig_path, name)
    try:
        need(driver, Capability.TIME)
        before = driver.clock()
        after = before
        leaves = before.by_ntp and not servers and before.offset is not None and abs(before.offset) <= 5
        if not show and not leaves:  # a clock that follows a server, and is right, stays with it
            manage.set_clock(driver, servers, datetime.datetime.now(datetime.UTC))
            after = driver.clock()
    finally:
        driver.close()

    def words(offset: float | None) -> str:
        return "not reported" if offset is None else "right" if abs(offset) < 1 else offset_text(offset)

    if as_json:
        document: TimeJson = {
            "schema": "direkt.device-time/1", "device": chosen, "offset_before": before.offset, "offset": after.offset,
            "by_ntp": after.by_ntp, "servers": list(after.servers), "zone": after.zone,
        }  # fmt: skip
        output.print_json(document)
    else:
        follows = f"follows {', '.join(after.servers) or 'no server'}" if after.by_ntp else "set by hand"
        was = "" if show else " (left as it is)" if leaves else f" (was {words(before.offset)})"
        output.console().print(
            f"{escape(chosen)}: clock {escape(words(after.offset))}{escape(was)}; {escape(follows)}; zone {escape(after.zone or 'not reported')}"
        )
    wrong = after.offset is None or abs(after.offset) > 5
    return ExitCode.FAILS if wrong else ExitCode.GOOD


# Restart and firmware


