"""direkt device: what is done with a device itself, beside its settings."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import DirektError, UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.schemas import (
        AddressJson,
        ClaimJson,
        FirmwareJson,
        HealthJson,
        HealthRowJson,
        PresetJson,
        SnapshotJson,
        TimeJson,
    )
    from direkt.device.model import Driver, Health, Network
    from direkt.report.contact import Shot
    from direkt.rig import Rig
    from direkt.secret import Secret
    from direkt.work.manage import Checked
    from direkt.work.steps import Answer

yes_option = click.option("--yes", is_flag=True, help="Do it without asking.")


@click.group()
def device() -> None:
    """Look after the devices themselves: address, first password, clock, health, firmware, pictures, positions."""


def _agreed(question: str, yes: bool) -> bool:
    if yes:
        return True
    if not sys.stdin.isatty():
        raise UnusableInput("nobody is there to agree: add --yes to do it without asking")
    return click.confirm(question, default=False, err=True)


def _opened(rig_path: Path | None, name: str | None) -> tuple[Rig, str, Driver]:
    rig = options.load_rig(rig_path)
    chosen = rig.device_name(name)
    return rig, chosen, rig.driver(chosen, options.sources(rig))


# Health


@device.command()
@click.argument("name", required=False)
@click.option("--all", "every", is_flag=True, help="Of every device in the rig.")
@options.rig_option
@options.json_option
def health(name: str | None, every: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Say how device NAME fares: reachable, clock, heat, memory, fan, input, uptime, push.

    Exits with 1 when something is wrong with one of them.
    """
    from direkt.work import manage

    rig = options.load_rig(rig_path)
    names = list(rig.file.devices) if every else [rig.device_name(name)]
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


def _health_words(one: Checked) -> str:
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


def _health_json(one: Checked) -> HealthRowJson:
    h: Health | None = one.health
    clock = h.clock if h is not None else None
    return {
        "device": one.name, "reachable": h is not None, "clock_offset": clock.offset if clock is not None else None,
        "temperature": h.temperature if h else None, "memory_free": h.memory_free if h else None, "fan": h.fan if h else None,
        "input": h.input if h else None, "uptime": h.uptime if h else None,
        "push": [slot.state.value for slot in h.pushes] if h else [], "wrong": list(one.wrong),
    }  # fmt: skip


# Clock


@device.command("time")
@click.argument("name", required=False)
@click.option(
    "--ntp", "servers", multiple=True, metavar="SERVER", help="Let it follow this NTP server (may be given twice)."
)
@click.option("--show", is_flag=True, help="Only say what its clock is.")
@options.rig_option
@options.json_option
def time_(name: str | None, servers: tuple[str, ...], show: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Set device NAME's clock: to this machine's time, or to follow an NTP server.

    A wrong clock is the usual reason for a login that is refused. Exits with 1 when the clock is still wrong.
    """
    import datetime

    from direkt.device.model import Capability, need
    from direkt.device.onvif.client import offset_text
    from direkt.work import manage

    _, chosen, driver = _opened(rig_path, name)
    try:
        need(driver, Capability.TIME)
        before = driver.clock()
        after = before
        if not show:
            manage.set_clock(driver, servers, datetime.datetime.now(datetime.UTC))
            after = driver.clock()
    finally:
        driver.close()

    def words(offset: float | None) -> str:
        return "not told" if offset is None else "right" if abs(offset) < 1 else offset_text(offset)

    if as_json:
        document: TimeJson = {
            "schema": "direkt.device-time/1", "device": chosen, "offset_before": before.offset, "offset": after.offset,
            "by_ntp": after.by_ntp, "servers": list(after.servers), "zone": after.zone,
        }  # fmt: skip
        output.print_json(document)
    else:
        follows = f"follows {', '.join(after.servers) or 'no server'}" if after.by_ntp else "set by hand"
        was = "" if show else f" (was {words(before.offset)})"
        output.console().print(
            f"{escape(chosen)}: clock {escape(words(after.offset))}{escape(was)}; {escape(follows)}; zone {escape(after.zone or 'not told')}"
        )
    wrong = after.offset is None or abs(after.offset) > 5
    return ExitCode.FAILS if wrong else ExitCode.GOOD


# Restart and firmware


@device.command()
@click.argument("name", required=False)
@yes_option
@options.time_option("--wait", default=60.0, help="How long it may take.")
@options.rig_option
def restart(name: str | None, yes: bool, wait: float, rig_path: Path | None) -> ExitCode:
    """Restart device NAME and wait until it is back."""
    from direkt.work import manage
    from direkt.work.steps import Agree, drive

    _, chosen, driver = _opened(rig_path, name)
    begun = False

    def on_event(event: manage.Told | manage.Back | Agree) -> Answer:
        nonlocal begun
        if isinstance(event, Agree):
            begun = _agreed(f"Restart {chosen}?", yes)
            if begun:
                output.note(f"restarting {chosen} ...")
            return begun
        if isinstance(event, manage.Told):
            output.note(f"! {event.text}")
        else:
            output.console().print(f"[green]✓[/] {escape(chosen)} is back after {event.seconds:.1f} s")
        return None

    try:
        done = drive(manage.restart(driver, options.SystemClock(), wait), on_event)
    except KeyboardInterrupt:
        output.interrupted(
            f"{chosen} was told to restart; look whether it is back: direkt device health {chosen}"
            if begun
            else f"{chosen} was not restarted"
        )
        return ExitCode.INTERRUPTED
    finally:
        driver.close()
    return ExitCode.GOOD if done else ExitCode.INTERRUPTED


@device.command()
@click.argument("name")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@yes_option
@options.time_option("--wait", default=300.0, help="How long the device may take to come back.")
@options.rig_option
@options.json_option
def firmware(name: str, file: Path, yes: bool, wait: float, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Send firmware FILE to device NAME, wait through its restart, and read the version that it then has.

    A file for another model is refused by the device, and nothing changes. Exits with 1 when the version is as it was.
    """
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn

    from direkt.work import manage
    from direkt.work.steps import Agree, drive

    _, chosen, driver = _opened(rig_path, name)
    began = False
    with Progress(
        TextColumn("{task.description}"),
        BarColumn(),
        DownloadColumn(),
        console=output.console(err=True),
        transient=True,
        disable=not sys.stderr.isatty(),
    ) as bar:
        task = bar.add_task(f"sending to {chosen}", total=None, visible=False)

        def progress(done: int, whole: int) -> None:
            bar.update(task, completed=done, total=whole, visible=True)

        def on_event(event: manage.Told | manage.Back | Agree) -> Answer:
            nonlocal began
            if isinstance(event, Agree):
                bar.stop()
                began = _agreed(f"Replace the firmware of {chosen}?", yes)
                bar.start()
                return began
            output.note(
                event.text if isinstance(event, manage.Told) else f"{chosen} is back after {event.seconds:.1f} s"
            )
            return None

        try:
            done = drive(manage.update(driver, file, options.SystemClock(), wait, progress), on_event)
        except KeyboardInterrupt:
            state = f"the file may be in {chosen}, and it may restart: leave it on, then: direkt device health {chosen}"
            output.interrupted(state if began else f"{chosen} was not changed")
            return ExitCode.INTERRUPTED
        finally:
            driver.close()
    if not done.agreed:
        output.note(f"{chosen} was not changed.")
        return ExitCode.INTERRUPTED
    changed = done.after != done.before
    if as_json:
        document: FirmwareJson = {
            "schema": "direkt.device-firmware/1",
            "device": chosen,
            "before": done.before,
            "after": done.after,
        }
        output.print_json(document)
    else:
        words = f"[green]✓[/] {escape(chosen)}: firmware {escape(done.before)} -> [bold]{escape(done.after)}[/]"
        output.console().print(
            words
            if changed
            else f"[bold red]✗[/] {escape(chosen)} took the file and still has firmware {escape(done.after)}"
        )
    return ExitCode.GOOD if changed else ExitCode.FAILS


# Address


@device.command()
@click.argument("name")
@click.option("--dhcp", is_flag=True, help="Let a DHCP server give it its address.")
@click.option("--static", metavar="ADDR/LEN", help="Its address and mask, such as 192.0.2.30/24.")
@click.option("--gateway", metavar="GW", help="The gateway of its network.")
@yes_option
@options.time_option("--wait", default=60.0, help="How long to wait for it at its new address.")
@options.rig_option
@options.json_option
def address(
    name: str, dhcp: bool, static: str | None, gateway: str | None, yes: bool, wait: float, rig_path: Path | None, as_json: bool
) -> ExitCode:  # fmt: skip
    """Give device NAME another address, wait for it there, and change the rig.

    The device moves; how to get back to it is said before. Nothing else of its network is changed.
    """
    from direkt.cli import rigfile
    from direkt.device import library
    from direkt.work import manage
    from direkt.work.steps import Agree, drive

    if dhcp == (static is not None):
        raise UnusableInput("name one of --dhcp and --static ADDR/LEN")
    if static is not None and gateway is None:
        raise UnusableInput("--static goes with --gateway GW: without one the device reaches no platform")
    if dhcp and gateway is not None:
        raise UnusableInput("--gateway goes with --static: a DHCP server gives the gateway as well")
    move = manage.parse_move(static, gateway or "") if static is not None else manage.Move(None)
    rig, chosen, driver = _opened(rig_path, name)
    entry, sources = rig.file.devices[chosen], options.sources(rig)
    login = rig.login(entry, sources)
    begun = False

    def open_at(where: str) -> Driver:
        return library.open_driver(entry.driver, chosen, where, login, rig.folder)

    def on_event(event: manage.Moving | manage.Told | manage.Back | Agree) -> Answer:
        nonlocal begun
        if isinstance(event, Agree):
            begun = _agreed(f"Move {chosen}?", yes)
            return begun
        if isinstance(event, manage.Moving):
            output.note(f"{chosen} will move: {_place(event.before)} -> {_place(event.after)}")
            output.note(event.back)
        elif isinstance(event, manage.Told):
            output.note(event.text)
        else:
            output.note(f"{chosen} answers there after {event.seconds:.1f} s")
        return None

    try:
        done = drive(manage.readdress(driver, move, open_at, _taken, options.SystemClock(), wait), on_event)
    except KeyboardInterrupt:
        output.interrupted(
            f"{chosen} may have moved to {move.address or 'an address by DHCP'}; the rig still says {entry.address}: look with: direkt find"
            if begun else f"{chosen} was not changed"
        )  # fmt: skip
        return ExitCode.INTERRUPTED
    finally:
        driver.close()
    if not done.agreed:
        output.note(f"{chosen} was not changed.")
        return ExitCode.INTERRUPTED
    if done.address:
        rigfile.change(rig, [(["devices", chosen, "address"], done.address)])
    if as_json:
        document: AddressJson = {
            "schema": "direkt.device-address/1", "device": chosen, "address": done.address or None, "dhcp": dhcp, "restarted": done.restarted,
        }  # fmt: skip
        output.print_json(document)
    elif done.address:
        output.console().print(f"[green]✓[/] {escape(chosen)} is at {escape(done.address)}; the rig says so too")
    else:
        output.console().print(
            f"{escape(chosen)} takes its address by DHCP now: find out which with direkt find, then write it into the rig"
        )
    return ExitCode.GOOD


def _place(network: Network) -> str:
    if network.dhcp:
        return f"an address by DHCP{f' (now {network.address})' if network.address else ''}"
    return f"{network.address}/{network.prefix}, gateway {', '.join(network.gateways) or 'none'}"


def _taken(host: str) -> str:
    """What answers at an address already."""
    import asyncio

    from direkt.net import discovery
    from direkt.work.find import PORTS

    found = asyncio.run(discovery.doors([host], PORTS))
    return f"port {found[0].port}" if found else ""


# First password


@device.command()
@click.argument("name")
@click.option("--user", default="admin", show_default=True, help="The first user's name.")
@click.option("--ask", is_flag=True, help="Ask for the password, without showing it, instead of making one.")
@options.rig_option
@options.json_option
def claim(name: str, user: str, ask: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Set the first password of device NAME, which does nothing without one.

    Makes a password, or takes the one that the rig already names or that you type; it goes to the key store before it
    goes to the device, and is never shown.
    """
    from direkt.cli import rigfile
    from direkt.device.model import Capability, need
    from direkt.work import manage

    rig = options.load_rig(rig_path)
    chosen = rig.device_name(name)
    entry = rig.file.devices[chosen]
    store, kept_name = options.key_store(), f"{options.rig_slug(rig)}/login/{chosen}"
    reference = f"store:{kept_name}"
    if ":" in user or not user.isprintable() or not user.strip():
        raise UnusableInput(f"{user!r} cannot be a user's name: it holds a colon, or nothing")
    known = rig.login(entry, options.sources(rig)) if entry.login is not None and entry.login != reference else None
    driver = _without_login(rig, chosen)
    try:
        need(driver, Capability.CLAIM)
        if not driver.is_new():
            raise UnusableInput(
                f"{chosen} has a password already: put its login into the rig ('login:'), or reset it on the device"
            )
        if known is not None:
            user, password = known
        else:
            password = _asked_password() if ask else manage.new_password()
            store.put(kept_name, f"{user}:{password.reveal()}", str(rig.path))
        try:
            driver.claim(user, password)
        except DirektError:
            if known is None and driver.is_new():
                store.forget(kept_name)
            raise
        except KeyboardInterrupt:
            output.interrupted(f"{chosen} may have its password now; it is kept as {reference}")
            return ExitCode.INTERRUPTED
    finally:
        driver.close()
    if known is None and entry.login != reference:
        rigfile.change(rig, [(["devices", chosen, "login"], reference)])
    where = entry.login if known is not None else reference
    if as_json:
        document: ClaimJson = {"schema": "direkt.device-claim/1", "device": chosen, "user": user, "login": str(where)}
        output.print_json(document)
    else:
        output.console().print(
            f"[green]✓[/] {escape(chosen)} has its first password: user {escape(user)}, kept as {escape(where)}"
        )
        output.note(f"Next: direkt device time {chosen}; direkt read {chosen}")
    return ExitCode.GOOD


def _without_login(rig: Rig, name: str) -> Driver:
    """A driver that asks as anybody."""
    from direkt.device import library

    entry = rig.file.devices[name]
    return library.open_driver(
        entry.driver, name, entry.address, None, rig.folder, any_certificate=entry.certificate == "any"
    )


def _asked_password() -> Secret:
    """A password that is typed twice and not shown; from a pipe, its first line. Raises UnusableInput."""
    from direkt.secret import Secret

    if not sys.stdin.isatty():
        typed = sys.stdin.readline(300).rstrip("\r\n")
    else:
        typed = click.prompt("First password (hidden)", hide_input=True, confirmation_prompt="The same again", err=True)
    if not typed or typed != typed.strip() or not typed.isprintable():
        raise UnusableInput("a password has no space at its ends, and no characters that cannot be seen")
    return Secret(typed)


# Pictures


@device.command()
@click.argument("name", required=False)
@click.option("--all", "every", is_flag=True, help="Of every device: one sheet of pictures.")
@click.option(
    "-o",
    "--output",
    "target",
    type=click.Path(path_type=Path, dir_okay=False),
    required=True,
    metavar="FILE",
    help="Where the picture goes (.jpg or .png).",
)
@click.option("--channel", default="main", show_default=True, help="Of this channel.")
@click.option("--overwrite", is_flag=True, help="Replace FILE.")
@options.rig_option
@options.json_option
def snapshot(
    name: str | None, every: bool, target: Path, channel: str, overwrite: bool, rig_path: Path | None, as_json: bool
) -> ExitCode:  # fmt: skip
    """Take a picture with device NAME, or with all of them onto one sheet, and say which are black or frozen.

    One device's picture is kept as the device made it. Exits with 1 when one of the pictures is not as it should be.
    """
    from direkt.report import contact
    from direkt.work import manage

    if target.suffix.lower() not in (".jpg", ".jpeg", ".png"):
        raise UnusableInput(f"{target}: the name ends in .jpg or .png")
    if target.exists() and not overwrite:
        raise UnusableInput(f"{target}: is there already; choose another name, or add --overwrite")
    rig = options.load_rig(rig_path)
    names = list(rig.file.devices) if every else [rig.device_name(name)]
    sources = options.sources(rig)

    def shoot(one: str) -> Shot:
        try:
            driver = rig.driver(one, sources)
        except DirektError as error:
            return contact.Shot(one, trouble=str(error))
        try:
            first = driver.snapshot(channel)
            stamp = time.strftime("%H:%M:%S")
            time.sleep(1.0)
            return contact.Shot(one, first, driver.snapshot(channel), stamp)
        except DirektError as error:
            return contact.Shot(one, trouble=str(error).removeprefix(f"{one} ").removeprefix(f"{one}: "))
        finally:
            driver.close()

    shots = manage.for_all(names, shoot)
    remarks = {shot.name: _remark(shot) for shot in shots}
    if not every and shots[0].trouble:
        from direkt.device.model import DeviceError

        raise DeviceError(f"{shots[0].name}: {shots[0].trouble}")
    _write_picture(target, shots, every, rig.file.name)
    if as_json:
        document: SnapshotJson = {
            "schema": "direkt.device-snapshot/1", "file": str(target),
            "devices": [{"device": s.name, "size": s.size or None, "time": s.time or None, "remark": remarks[s.name] or None} for s in shots],
        }  # fmt: skip
        output.print_json(document)
    else:
        out = output.console()
        for shot in shots:
            mark = "[bold red]✗[/]" if remarks[shot.name] else "[green]✓[/]"
            out.print(
                f"{mark} {escape(shot.name)}  {escape('  '.join(filter(None, (shot.size, shot.time, remarks[shot.name]))))}"
            )
        out.print(f"written: {escape(target)}")
    return ExitCode.FAILS if any(remarks.values()) else ExitCode.GOOD


def _remark(shot: Shot) -> str:
    try:
        return shot.remark
    except UnusableInput as error:
        return str(error)


def _write_picture(target: Path, shots: list[Shot], every: bool, title: str) -> None:
    import io

    from direkt import files
    from direkt.report import contact

    is_jpeg = target.suffix.lower() != ".png"
    if not every and is_jpeg:
        content = shots[0].picture
    else:
        kept = [
            shot if not _unreadable(shot) else contact.Shot(shot.name, time=shot.time, trouble=_remark(shot))
            for shot in shots
        ]
        page = (
            contact.contact_sheet(kept, f"{title}, {time.strftime('%Y-%m-%d %H:%M')}")
            if every
            else contact.opened(shots[0].picture)
        )
        made = io.BytesIO()
        page.save(made, "JPEG" if is_jpeg else "PNG", quality=90)
        content = made.getvalue()
    try:
        files.replace_bytes(target, content, 0o644)
    except OSError as error:
        raise UnusableInput(f"{target}: cannot be written: {os_words(error)}") from None


def _unreadable(shot: Shot) -> bool:
    try:
        return not shot.size and not shot.trouble
    except UnusableInput:
        return True


# Positions


@device.command()
@click.argument("name")
@click.argument("action", type=click.Choice(["list", "go", "store"]))
@click.argument("position", required=False)
@options.rig_option
@options.json_option
def preset(name: str, action: str, position: str | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """List the positions of device NAME, go to POSITION, or store where it looks now as POSITION."""
    from direkt.device.model import Capability, need

    _, chosen, driver = _opened(rig_path, name)
    try:
        need(driver, Capability.PRESETS)
        known = driver.presets()
        if action != "list":
            if position is None:
                raise UnusableInput(
                    f"name the position; {chosen} has {', '.join(p.name or p.token for p in known) or 'none'}"
                )
            found = [p for p in known if position in (p.name, p.token)] or [
                p for p in known if p.name.lower() == position.lower()
            ]
            if len(found) > 1:
                raise UnusableInput(
                    f"{chosen} has {len(found)} positions of that name: use one of {', '.join(p.token for p in found)}"
                )
            if action == "store":
                driver.store(position, found[0] if found else None)
                known = driver.presets()
            elif not found:
                raise UnusableInput(
                    f"{chosen} has no position {position!r}; it has {', '.join(p.name or p.token for p in known) or 'none'}"
                )
            else:
                driver.go_to(found[0])
    finally:
        driver.close()
    if as_json:
        document: PresetJson = {
            "schema": "direkt.device-preset/1", "device": chosen, "action": action, "position": position,
            "presets": [{"token": p.token, "name": p.name} for p in known],
        }  # fmt: skip
        output.print_json(document)
        return ExitCode.GOOD
    out = output.console()
    if action == "list":
        for one in known:
            out.print(f"{escape(one.name or '(no name)')}  [dim]{escape(one.token)}[/]")
        if not known:
            out.print(f"{escape(chosen)} has no positions")
    else:
        done = "goes to" if action == "go" else "has stored"
        out.print(f"{escape(chosen)} {done} {escape(position)}")
        if action == "go":
            output.note(f"Look whether it got there: direkt device snapshot {chosen} -o {chosen}.jpg")
    return ExitCode.GOOD
