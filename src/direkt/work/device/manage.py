"""What is done with a device itself: address, first password, clock, restart, firmware, health."""

from __future__ import annotations

import datetime
import ipaddress
import secrets
import string
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TypeVar
from urllib.parse import urlsplit

from direkt import files
from direkt.described.errors import DeviceError, Unreachable
from direkt.device.obstacles import of_clock
from direkt.device.state import Capability, Driver, Health, Network, PushState, need
from direkt.errors import DirektError, UnusableInput, os_words
from direkt.secret import Secret
from direkt.work.steps import Agree, Job, StepClock

AT_ONCE = 128  # devices that are asked at the same time: one connection to each
_POLL = 0.3  # s between looks at a device that is away
_SURELY_AWAY = 10.0  # s after which an answer counts though the device was never seen away
_HOT = 75.0  # degrees Celsius
_FULL = 8.0  # percent of memory that is left
_CLOCK_SLACK = 5.0  # s

Result = TypeVar("Result")
Asked = TypeVar("Asked")


@dataclass(frozen=True, slots=True)
class DeviceNote:
    """Something for the person to know before or while it happens."""

    text: str


@dataclass(frozen=True, slots=True)
class DeviceBack:
    """The device answers again."""

    seconds: float


def for_all(ones: Iterable[Asked], do: Callable[[Asked], Result]) -> list[Result]:
    """Does it for many devices at once; the results in the given order. Each begins as soon as ``ones`` gives it."""
    with ThreadPoolExecutor(AT_ONCE) as pool:
        return list(pool.map(do, ones))


def wait_for(driver: Driver, clock: StepClock, wait: float) -> float:
    """Waits until a device has been away and is back; s that took. Raises Unreachable."""
    begin, away = clock.now(), False
    while (passed := clock.now() - begin) < wait:
        clock.sleep(_POLL)
        if not driver.answers():
            away = True
        elif away or passed > _SURELY_AWAY:
            return clock.now() - begin
    raise Unreachable(driver.name, f"has not come back within {wait:g} s: look at it, switch it off and on")


# Restart and firmware


def restart(driver: Driver, clock: StepClock, wait: float) -> Job[DeviceNote | Agree | DeviceBack, bool]:
    """Restarts a device and waits for it; False: it was not agreed to. Raises CannotDo and DeviceError."""
    need(driver, Capability.RESTART)
    pushing = _pushing(driver)
    if pushing:
        yield DeviceNote(f"{driver.name} is pushing: a restart drops the push")
    if not (yield Agree()):
        return False
    driver.restart()
    yield DeviceBack(wait_for(driver, clock, wait))
    return True


def _pushing(driver: Driver) -> bool:
    try:
        return any(slot.state in (PushState.PUSHING, PushState.CONNECTING) for slot in driver.health().pushes)
    except DeviceError:
        return False  # then nobody knows


@dataclass(frozen=True, slots=True)
class Updated:
    """What a firmware update has made of a device."""

    agreed: bool
    before: str = ""
    after: str = ""


def update(
    driver: Driver, file: Path, clock: StepClock, wait: float, progress: Callable[[int, int], None]
) -> Job[DeviceNote | Agree | DeviceBack, Updated]:  # fmt: skip
    """Sends a firmware file, waits through the restart, and reads the version. Raises Refused and other DirektErrors.

    The file is read while it goes; ``progress`` is told how many bytes of how many went. A device that refuses it keeps what it has.
    """
    need(driver, Capability.FIRMWARE)
    try:
        size = file.stat().st_size
        with files.opened(file):
            pass
    except OSError as error:
        raise UnusableInput(f"{file}: cannot be read: {os_words(error)}") from None
    if not size:
        raise UnusableInput(f"{file}: is empty")
    before = driver.identity()
    yield DeviceNote(
        f"{driver.name}: {before.make} {before.model}, firmware {before.firmware}; {file.name}, {size / 1e6:.1f} MB"
    )
    if _pushing(driver):
        yield DeviceNote(f"{driver.name} is pushing: the update drops the push")
    if not (yield Agree()):
        return Updated(False, before.firmware)
    try:
        driver.update(file, lambda done: progress(done, size))
    except OSError as error:
        raise UnusableInput(f"{file}: cannot be read: {os_words(error)}") from None
    yield DeviceBack(wait_for(driver, clock, wait))
    return Updated(True, before.firmware, driver.identity().firmware)


# Address


@dataclass(frozen=True, slots=True)
class Move:
    """Where a device goes."""

    address: str | None  # None: as a DHCP server says
    prefix: int = 24
    gateway: str = ""


def parse_move(static: str, gateway: str) -> Move:
    """``192.0.2.30/24`` and a gateway in that network. Raises UnusableInput that says what would fit."""
    try:
        place = ipaddress.IPv4Interface(static)
    except ValueError:
        raise UnusableInput(f"{static!r} is not an address with a mask; expected one like 192.0.2.30/24") from None
    if "/" not in static:
        raise UnusableInput(f"{static}: the mask is missing; write it as {static}/24")
    network = place.network
    if network.prefixlen < 31 and place.ip in (network.network_address, network.broadcast_address):
        raise UnusableInput(
            f"{place.ip} is the {'first' if place.ip == network.network_address else 'last'} of {network}, which no device can have"
        )
    if place.ip.is_multicast or place.ip.is_unspecified or place.ip.is_reserved:
        raise UnusableInput(f"{place.ip} is no address of a device")
    try:
        way = ipaddress.IPv4Address(gateway)
    except ValueError:
        raise UnusableInput(
            f"{gateway!r} is not an address of a gateway; expected one like {next(network.hosts(), place.ip)}"
        ) from None
    if way not in network or way == place.ip:
        raise UnusableInput(f"the gateway {way} is not in {network} beside the device: check address, mask and gateway")
    return Move(str(place.ip), network.prefixlen, str(way))


@dataclass(frozen=True, slots=True)
class Moving:
    """What will happen, and how to get back."""

    before: Network
    after: Network
    back: str


@dataclass(frozen=True, slots=True)
class Moved:
    """Where the device is now."""

    agreed: bool
    address: str = ""  # as the rig has it; empty where it was not seen again
    restarted: bool = False


def readdress(
    driver: Driver, move: Move, open_at: Callable[[str], Driver], taken: Callable[[str], str], clock: StepClock, wait: float
) -> Job[Moving | DeviceNote | Agree | DeviceBack, Moved]:
    """Gives a device another address and waits for it there.

    ``open_at``: a driver for the same device at another address; ``taken``: what answers at an address already, empty
    for nothing. Raises DeviceError; then the text says how to get back.
    """
    need(driver, Capability.ADDRESS)
    before = driver.network()
    after = replace(before, dhcp=True) if move.address is None else replace(
        before, address=move.address, prefix=move.prefix, dhcp=False, gateways=(move.gateway,) if move.gateway else ()
    )  # fmt: skip
    if move.address is not None and move.address != before.address and (who := taken(move.address)):
        raise UnusableInput(f"{move.address} is taken: {who} answers there; choose another address")
    how = "by DHCP" if before.dhcp else f"at {before.address}/{before.prefix}"
    back = (
        f"to get back: it was {how}; if it never appears, connect to it directly, give this machine an address in its network, "
        f"and run: direkt find; or hold its reset button, which brings back the address it was delivered with"
    )
    yield Moving(before, after, back)
    if not (yield Agree()):
        return Moved(False)
    restart_needed = driver.set_network(after)
    if restart_needed:
        yield DeviceNote(f"{driver.name} restarts to take its new address")
        driver.restart()
    if move.address is None:
        return Moved(True, "", restart_needed)
    new = _at(driver.address, move.address)
    there = open_at(new)
    try:
        begin = clock.now()
        while clock.now() - begin < wait:
            clock.sleep(_POLL)
            if there.answers():
                yield DeviceBack(clock.now() - begin)
                return Moved(True, new, restart_needed)
    finally:
        there.close()
    raise Unreachable(driver.name, f"does not answer at {move.address} within {wait:g} s; {back}")


def _at(address: str, host: str) -> str:
    """The same address at another host."""
    parts = urlsplit(address)
    port = f":{parts.port}" if parts.port is not None else ""
    return f"{parts.scheme}://{host}{port}{parts.path}"


# First password

_LETTERS = string.ascii_letters.translate({ord(c): None for c in "lIO"}) + "23456789"
_LENGTH = 14


def new_password() -> Secret:
    """A password that devices take: 14 characters with small and capital letters and figures, none easily misread."""
    while True:
        made = "".join(secrets.choice(_LETTERS) for _ in range(_LENGTH))
        if any(c.islower() for c in made) and any(c.isupper() for c in made) and any(c.isdigit() for c in made):
            return Secret(made)


# Clock


def set_clock(driver: Driver, servers: tuple[str, ...], now: datetime.datetime | None) -> None:
    """By NTP servers, or to ``now``. Raises CannotDo and DeviceError."""
    need(driver, Capability.TIME)
    driver.set_clock(None if servers else now, servers)


# Health


@dataclass(frozen=True, slots=True)
class DeviceHealth:
    """How a device fares."""

    name: str
    health: Health | None  # None: it does not answer
    wrong: tuple[str, ...]


def look_at(name: str, open_driver: Callable[[str], Driver]) -> DeviceHealth:
    """One device's health; what cannot be asked is what is wrong."""
    try:
        driver = open_driver(name)
    except DirektError as error:
        return DeviceHealth(name, None, (str(error),))
    try:
        found = driver.health()
    except DeviceError as error:
        return DeviceHealth(name, None, (error.what,))
    except DirektError as error:
        return DeviceHealth(name, None, (str(error),))
    finally:
        driver.close()
    return DeviceHealth(name, found, tuple(_wrong(found, name)))


def _wrong(found: Health, name: str) -> list[str]:
    out = list(found.wrong)
    if found.clock is not None:
        out += [words.replace("NAME", name) for words in of_clock(found.clock)]
    if found.temperature is not None and found.temperature >= _HOT:
        out.append(f"{found.temperature:g} °C is hot: give it air and shade")
    if found.memory_free is not None and found.memory_free < _FULL:
        out.append(f"only {found.memory_free:g} % of its memory is free: restart it before the event")
    if found.fan is not None and found.fan.strip().lower() in ("stopped", "stuck", "failed", "error", "off", "0"):
        out.append(f"its fan says {found.fan}")
    if found.input == "":
        out.append("no signal at its input")
    if found.restart_needed:
        out.append("what it is set to is not in force until it restarts")
    for slot in found.pushes:
        if slot.state is PushState.RETRYING:
            out.append(f"push slot {slot.number} does not get through: {slot.message or 'no reason given'}")
    return out
