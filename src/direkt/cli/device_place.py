"""direkt device address and claim: where a device is, and whose it is."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.opened import agreed, opened, yes_option
from direkt.cli.output import escape
from direkt.errors import DirektError, UnusableInput
from direkt.work.steps import END

if TYPE_CHECKING:
    from direkt.cli.documents.gear import AddressJson, ClaimJson
    from direkt.device.state import Driver, Network
    from direkt.rig.file import Rig
    from direkt.secret import Secret
    from direkt.work.steps import Answer

# Address


@click.command(short_help="Move it to another address.")
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
    from direkt.work.device import manage
    from direkt.work.steps import Agree, drive

    if dhcp == (static is not None):
        raise UnusableInput("name one of --dhcp and --static ADDR/LEN")
    if static is not None and gateway is None:
        raise UnusableInput("--static goes with --gateway GW: without one the device reaches no platform")
    if dhcp and gateway is not None:
        raise UnusableInput("--gateway goes with --static: a DHCP server gives the gateway as well")
    move = manage.parse_move(static, gateway or "") if static is not None else manage.Move(None)
    rig, chosen, driver = opened(rig_path, name)
    entry, sources = rig.file.devices[chosen], options.sources(rig)
    login = rig.login(entry, sources)
    begun = False

    def open_at(where: str) -> Driver:
        return library.open_driver(entry.driver, chosen, where, login, rig.folder)

    def on_event(event: manage.Moving | manage.DeviceNote | manage.DeviceBack | Agree) -> Answer:
        nonlocal begun
        if isinstance(event, Agree):
            begun = agreed(f"Move {chosen}?", yes)
            return begun
        if isinstance(event, manage.Moving):
            output.note(f"{chosen} will move: {_place(event.before)} -> {_place(event.after)}")
            output.note(event.back)
        elif isinstance(event, manage.DeviceNote):
            output.note(event.text)
        else:
            output.note(f"{chosen} answers there after {event.seconds:.1f} s")
        return None

    try:
        done = drive(manage.readdress(driver, move, open_at, _taken, options.SystemClock(), wait), on_event)
    except KeyboardInterrupt:
        END.taken()
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
    from direkt.work.device.find import PORTS

    found = asyncio.run(discovery.doors([host], PORTS))
    return f"port {found[0].port}" if found else ""


# First password


@click.command(short_help="Set the first password.")
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
    from direkt.described.errors import ChangeRefused
    from direkt.device.state import Capability, need
    from direkt.rig.file import place_of

    rig = options.load_rig(rig_path)
    chosen = rig.device_name(name)
    entry = rig.file.devices[chosen]
    store, kept_name = options.key_store(), options.own_name(rig, f"login/{chosen}")
    reference, by = f"store:{kept_name}", options.binding(rig, [place_of(entry.address)])
    if ":" in user or not user.isprintable() or not user.strip():
        raise UnusableInput(f"{user!r} cannot be a user's name: it holds a colon, or nothing")
    known = rig.login(entry, options.sources(rig)) if entry.login is not None and entry.login != reference else None
    driver = _without_login(rig, chosen)
    try:
        need(driver, Capability.CLAIM)
        driver.is_new()  # one that is off is told before anything is kept; one that does not show it is asked all the same
        kept = store.get(kept_name)
        if known is not None:
            user, password = known
        else:
            password = _password(kept, user, ask)
            user = kept.partition(":")[0] if kept is not None and not ask else user
            store.put(kept_name, f"{user}:{password.reveal()}", by)
        try:
            driver.claim(user, password)
        except ChangeRefused:
            if known is None and kept is not None:
                store.put(kept_name, kept, by)  # what was kept before may be its password
            elif known is None:
                store.forget(kept_name, by)
            if known is not None or kept is None or entry.login == reference or not _works(rig, chosen, kept):
                raise
        except DirektError as error:
            error.add_note(
                f"{chosen} may have its password now: it is kept as {reference}; look with: direkt device claim {chosen}"
            )
            raise
        except KeyboardInterrupt:
            END.taken()
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


def _works(rig: Rig, name: str, login: str) -> bool:
    """Whether the device takes a login that an earlier try has kept: then that try came through. It is sent once."""
    from direkt.destination import references
    from direkt.device import library
    from direkt.secret import Secret

    entry = rig.file.devices[name]
    account = references.login_of(Secret(login), "the key store")
    driver = library.open_driver(
        entry.driver, name, entry.address, account, rig.folder, any_certificate=entry.certificate == "any"
    )
    try:
        driver.identity()
    except DirektError:
        return False
    finally:
        driver.close()
    return True


def _password(kept: str | None, user: str, ask: bool) -> Secret:
    """What is typed; else what an earlier try has kept; else a new one."""
    from direkt.secret import Secret
    from direkt.work.device import manage

    if ask:
        return _asked_password()
    return Secret(kept.partition(":")[2]) if kept is not None and ":" in kept else manage.new_password()


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
