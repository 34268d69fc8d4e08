"""Finding devices: probe, knock, ask each who it is, and tell what stands in the way.

Asking happens for many devices at once; each is asked without a login first, then with the rig's own where the rig knows
the device. Well-known logins are tried only when that is wanted, one for each account and no more.
"""

from __future__ import annotations

import asyncio
import ipaddress
import re
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from urllib.parse import urlsplit

from direkt.described.errors import DeviceError, Unreachable
from direkt.destination.references import Sources
from direkt.device import library, obstacles
from direkt.device.driver_file import DriverFile
from direkt.device.obstacles import Here
from direkt.errors import DirektError
from direkt.net import discovery as net
from direkt.net import routes
from direkt.protocol.discovery import Match
from direkt.rig.file import Rig
from direkt.work.device.identify import PORTS, Candidate, DeviceAsker, FoundDevice, SearchWanted, same_form
from direkt.work.steps import Job

__all__ = ["PORTS", "FoundDevice", "SearchWanted"]

AT_ONCE = 64  # devices that are asked at the same time


@dataclass(frozen=True, slots=True)
class Probing:
    """Probes go out."""

    interfaces: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Scanning:
    """Addresses are knocked at."""

    hosts: int
    ports: int


@dataclass(frozen=True, slots=True)
class Asking:
    """So many places are asked what they are."""

    count: int


FindEvent = Probing | Scanning | Asking


@dataclass(frozen=True, slots=True)
class SearchResult:
    """All devices, by address, and what is to be said of the search itself."""

    devices: tuple[FoundDevice, ...]
    notes: tuple[str, ...] = ()


def find(wanted: SearchWanted, rig: Rig | None, sources: Sources | None) -> Job[FindEvent, SearchResult]:
    """Looks for devices. Raises UnusableInput for an interface or a subnet that is none."""
    interfaces = net.interfaces(wanted.interface)
    hosts = list(dict.fromkeys(host for subnet in wanted.subnets for host in net.hosts_of(subnet)))
    files = {**library.known_files(), **_files_of(rig)}
    yield Probing(tuple(dict.fromkeys(one.name for one in interfaces)))
    heard = asyncio.run(net.probe(interfaces, wanted.wait, hosts))
    doors: list[net.Door] = []
    ports = list(dict.fromkeys([*wanted.ports, *(port for file in files.values() for port in file.fits.ports)]))
    if hosts:
        yield Scanning(len(hosts), len(ports))
        doors = asyncio.run(net.doors(hosts, ports))
    here = Here(
        tuple((one.address, one.prefix) for one in net.interfaces() if not one.is_ipv6), routes.own_gateway(), tuple(routes.own_name_servers())
    )  # fmt: skip
    places, alone = _places(heard.matches, doors, here)
    places += _known_places(rig, places)
    yield Asking(len(places))
    asker = DeviceAsker(wanted, rig, sources, files, here)
    with ThreadPoolExecutor(AT_ONCE) as pool:
        asked = list(pool.map(asker.ask, places))
    found = [one for one in asked if one is not None] + alone
    found = _with_rtsp(found, doors)
    notes = [f"no probe went out of {words}" for words in heard.silent]
    seen = {one.rig_name for one in found}
    for name, entry in rig.file.devices.items() if rig is not None else ():
        if name not in seen:
            notes.append(_not_found(name, entry.address, rig, sources))
    return SearchResult(tuple(sorted(found, key=_order)), tuple(notes))


def _not_found(name: str, address: str, rig: Rig | None, sources: Sources | None) -> str:
    """Why a device of the rig was not found: it may be set by hand, answer by its own driver alone, or be away."""
    try:
        assert rig is not None and sources is not None
        driver = rig.driver(name, sources)
    except (DirektError, AssertionError):
        return f"{name} of the rig was not found at {address}; whether it answers is not known: its driver or login cannot be used"
    try:
        if getattr(getattr(driver, "file", None), "kind", "") == "hand":
            return f"{name} of the rig is set by hand: no program can ask it"
        driver.identity()
    except DeviceError as error:
        if isinstance(error, Unreachable):
            return f"{name} of the rig does not answer at {address}: is it on, has it another address?"
        return f"{name} of the rig answers at {address}, but not as its driver expects: {error}"
    finally:
        driver.close()
    return f"{name} of the rig answers at {address} to its own driver; it does not report what it is to others"


def _order(found: FoundDevice) -> tuple[int, bytes, int]:
    parts = urlsplit(found.address)
    try:
        host = ipaddress.ip_address((parts.hostname or "").partition("%")[0])
    except ValueError:
        return 9, b"", 0
    return host.version, host.packed, parts.port or 0


def _files_of(rig: Rig | None) -> dict[str, DriverFile]:
    """The driver files of a rig's own; one that cannot be read is said elsewhere."""
    out = {}
    for entry in rig.file.devices.values() if rig is not None else ():
        if entry.driver not in (*library.shipped(), library.STANDARD):
            try:
                file = library.load_described(entry.driver, rig.folder if rig is not None else None)
            except DirektError:
                continue
            if file is not None:
                out[entry.driver] = file
    return out


def _host(address: str) -> str:
    return urlsplit(address).hostname or ""


def _plain(address: str) -> str:
    """An address of a device service as a rig has it: without the usual path."""
    parts = urlsplit(address)
    path = "" if parts.path in ("", "/", "/onvif/device_service") else parts.path
    return f"{parts.scheme}://{parts.netloc}{path}"


def _places(matches: Sequence[Match], doors: Sequence[net.Door], here: Here) -> tuple[list[Candidate], list[FoundDevice]]:
    """What is to be asked, and what tells all by itself."""
    out: list[Candidate] = []
    owners: dict[str, Match] = {}
    alone: list[FoundDevice] = []
    taken = [_host(address) for match in matches for address in match.addresses]
    for match in matches:
        listed = sorted(match.addresses, key=lambda address: _reachable(address, here))
        if not listed:
            alone.append(FoundDevice("", match.scope("name"), model=match.scope("hardware"), speaks=("onvif",),
                               notes=("it answers a probe and gives no address that can be used",)))  # fmt: skip
            continue
        place = Candidate(_plain(listed[0]), match, [_plain(address) for address in listed[1:]])
        other = owners.get(place.address)
        if other is not None and other.endpoint != match.endpoint:
            place.notes.append(
                f"its address is used twice: {match.scope('name') or match.endpoint} and "
                f"{other.scope('name') or other.endpoint} both answer for it; give one of them another"
            )
        owners[place.address] = match
        why = obstacles.of_address(_host(place.address), here, taken)
        if why:
            place.notes.append(why)
        out.append(place)
    known = {place.address for place in out} | {other for place in out for other in place.others}
    for door in doors:
        address = _door_address(door)
        if not door.rtsp and address not in known:
            out.append(Candidate(address))
    return out, alone


def _known_places(rig: Rig | None, places: Sequence[Candidate]) -> list[Candidate]:
    """The rig's own devices that nobody has told of yet."""
    told = {same_form(address) for place in places for address in (place.address, *place.others)}
    entries = rig.file.devices.values() if rig is not None else ()
    return [Candidate(entry.address) for entry in entries if same_form(entry.address) not in told]


def _door_address(door: net.Door) -> str:
    place = f"[{door.host}]" if ":" in door.host else door.host
    return f"http://{place}" if door.port == 80 else f"http://{place}:{door.port}"


def _reachable(address: str, here: Here) -> int:
    """Which of a device's addresses is the best one: in a network of ours, then any of IPv4, then IPv6."""
    host = _host(address)
    try:
        found = ipaddress.ip_address(host.partition("%")[0])
    except ValueError:
        return 3
    if found.version == 6:
        return 4 if found.is_link_local else 2
    return 0 if any(found in network for network in here.networks()) else 1


def _with_rtsp(found: list[FoundDevice], doors: Iterable[net.Door]) -> list[FoundDevice]:
    """RTSP ports belong to the one device of their address; else they stand for themselves."""
    out = list(found)
    for door in doors:
        if not door.rtsp:
            continue
        own = [n for n, one in enumerate(out) if _host(one.address) == door.host]
        if len(own) == 1:
            n = own[0]
            if "rtsp" not in out[n].speaks:
                out[n] = replace(out[n], speaks=(*out[n].speaks, "rtsp"))
        else:
            place = f"[{door.host}]" if ":" in door.host else door.host
            out.append(FoundDevice(f"rtsp://{place}:{door.port}", speaks=("rtsp",)))
    return out


def names_for(found: Sequence[FoundDevice], taken: Iterable[str]) -> dict[str, str]:
    """A name in the rig for each address that has none yet, from what the device calls itself."""
    used, out = set(taken), {}
    for one in found:
        if one.rig_name is not None or not one.address.startswith("http"):
            continue
        start = re.sub(r"[^a-z0-9]+", "-", (one.name or one.model or "device").lower()).strip("-")[:40] or "device"
        name, n = start, 2
        while name in used:
            name, n = f"{start}-{n}", n + 1
        used.add(name)
        out[one.address] = name
    return out
