"""Finding devices: probe, knock, ask each who it is, and tell what stands in the way.

Asking happens for many devices at once; each is asked without a login first, then with the rig's own where the rig knows
the device. Well-known logins are tried only when that is wanted, one for each account and no more.
"""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import re
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from urllib.parse import urlsplit

from direkt.destination.references import SecretError, Sources, login_of
from direkt.device import library, obstacles
from direkt.device.driverfile import DriverFile, can_push
from direkt.device.http import HttpDevice
from direkt.device.model import DeviceError, Identity, LoginRefused
from direkt.device.obstacles import Here
from direkt.device.onvif.driver import Driver as Standard
from direkt.errors import DirektError
from direkt.net import discovery as net
from direkt.net import routes
from direkt.protocol.discovery import Match
from direkt.rig import Rig
from direkt.secret import Secret
from direkt.work.steps import Job

AT_ONCE = 16  # devices that are asked at the same time
ASK_LIMIT = 3.0  # s for an answer
PORTS = (80, 8080, 8000, 554, 8554)
# user and password as gear of many makers has them at delivery; one for each account
COMMON_LOGINS = (("admin", "admin"), ("root", "root"))
_TRIES = 2  # wrong logins that a device gets in all: many lock at the third, whatever the account


@dataclass(frozen=True, slots=True)
class Wanted:
    """Where to look, and how."""

    interface: str | None = None
    subnets: tuple[str, ...] = ()
    ports: tuple[int, ...] = PORTS
    wait: float = 4.0  # s
    try_defaults: bool = False


@dataclass(frozen=True, slots=True)
class Found:
    """One device."""

    address: str  # as a rig has it
    name: str = ""
    make: str = ""
    model: str = ""
    firmware: str = ""
    speaks: tuple[str, ...] = ()  # onvif, rtsp, names of driver files
    can_push: bool | None = None
    push_words: str = "unknown"  # the same in words
    needs_first_password: bool = False
    default_login_works: bool | None = None  # None: not tried
    default_user: str = ""  # whose
    rig_name: str | None = None
    driver: str = ""  # what a rig would name
    others: tuple[str, ...] = ()  # further addresses
    notes: tuple[str, ...] = ()  # what stands in the way


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
class Result:
    """All devices, by address, and what is to be said of the search itself."""

    devices: tuple[Found, ...]
    notes: tuple[str, ...] = ()


@dataclass(slots=True)
class _Place:
    """An HTTP address that may be a device."""

    address: str
    match: Match | None = None
    others: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def find(wanted: Wanted, rig: Rig | None, sources: Sources | None) -> Job[FindEvent, Result]:
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
    asker = _Asker(wanted, rig, sources, files, here)
    with ThreadPoolExecutor(AT_ONCE) as pool:
        asked = list(pool.map(asker.ask, places))
    found = [one for one in asked if one is not None] + alone
    found = _with_rtsp(found, doors)
    notes = [f"no probe went out of {words}" for words in heard.silent]
    seen = {one.rig_name for one in found}
    for name, entry in rig.file.devices.items() if rig is not None else ():
        if name not in seen:
            notes.append(f"{name} of the rig does not answer at {entry.address}: is it on, has it another address?")
    return Result(tuple(sorted(found, key=_order)), tuple(notes))


def _order(found: Found) -> tuple[int, bytes, int]:
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
                out[entry.driver] = library.load(entry.driver, rig.folder if rig is not None else None)
            except DirektError:
                continue
    return out


def _host(address: str) -> str:
    return urlsplit(address).hostname or ""


def _plain(address: str) -> str:
    """An address of a device service as a rig has it: without the usual path."""
    parts = urlsplit(address)
    path = "" if parts.path in ("", "/", "/onvif/device_service") else parts.path
    return f"{parts.scheme}://{parts.netloc}{path}"


def _places(matches: Sequence[Match], doors: Sequence[net.Door], here: Here) -> tuple[list[_Place], list[Found]]:
    """What is to be asked, and what tells all by itself."""
    out: list[_Place] = []
    owners: dict[str, Match] = {}
    alone: list[Found] = []
    taken = [_host(address) for match in matches for address in match.addresses]
    for match in matches:
        listed = sorted(match.addresses, key=lambda address: _reachable(address, here))
        if not listed:
            alone.append(Found("", match.scope("name"), model=match.scope("hardware"), speaks=("onvif",),
                               notes=("it answers a probe and tells no address that can be used",)))  # fmt: skip
            continue
        place = _Place(_plain(listed[0]), match, [_plain(address) for address in listed[1:]])
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
            out.append(_Place(address))
    return out, alone


def _known_places(rig: Rig | None, places: Sequence[_Place]) -> list[_Place]:
    """The rig's own devices that nobody has told of yet."""
    told = {_same_form(address) for place in places for address in (place.address, *place.others)}
    entries = rig.file.devices.values() if rig is not None else ()
    return [_Place(entry.address) for entry in entries if _same_form(entry.address) not in told]


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


def _with_rtsp(found: list[Found], doors: Iterable[net.Door]) -> list[Found]:
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
            out.append(Found(f"rtsp://{place}:{door.port}", speaks=("rtsp",)))
    return out


class _Asker:
    """Asks one place after the other; used by several threads, and changes nothing of its own."""

    def __init__(
        self, wanted: Wanted, rig: Rig | None, sources: Sources | None, files: Mapping[str, DriverFile], here: Here
    ) -> None:
        self._wanted, self._rig, self._sources, self._files, self._here = wanted, rig, sources, files, here

    def ask(self, place: _Place) -> Found | None:
        """What a place is; None: no device of a kind that is known."""
        try:
            return self._ask(place)
        except DirektError as error:
            if place.match is None:
                return None
            return self._from_match(place, (str(error),))

    def _from_match(self, place: _Place, more: tuple[str, ...] = ()) -> Found:
        match = place.match
        assert match is not None
        name, model = match.scope("name"), match.scope("hardware")
        found = Found(place.address, name, "", model, "", ("onvif",), rig_name=self._in_rig(place), driver=library.STANDARD,
                      others=tuple(place.others), notes=(*place.notes, *more))  # fmt: skip
        return self._with_file(found)

    def _in_rig(self, place: _Place) -> str | None:
        if self._rig is None:
            return None
        addresses = {_same_form(address) for address in (place.address, *place.others)}
        return next(
            (name for name, entry in self._rig.file.devices.items() if _same_form(entry.address) in addresses), None
        )

    def _ask(self, place: _Place) -> Found | None:
        rig_name = self._in_rig(place)
        marked = self._marked(place)
        speaks_onvif = self._speaks_onvif(place)
        if not speaks_onvif and marked is None:
            return (
                self._from_match(place, ("it answers a probe, but not at its address",))
                if place.match is not None
                else None
            )
        match = place.match
        names = (("onvif",) if speaks_onvif else ()) + ((marked,) if marked is not None else ())
        found = Found(
            place.address, match.scope("name") if match else "", "", match.scope("hardware") if match else "", "", names,
            rig_name=rig_name, driver=marked or library.STANDARD, others=tuple(place.others), notes=tuple(place.notes),
        )  # fmt: skip
        login = self._login(rig_name)
        if speaks_onvif:
            found = self._told_by_standard(found, login)
        else:
            found = self._told_by_file(found, login)
        return self._with_file(found)

    def _login(self, rig_name: str | None) -> tuple[str, Secret] | None:
        if rig_name is None or self._rig is None or self._sources is None:
            return None
        try:
            return self._rig.login(self._rig.file.devices[rig_name], self._sources)
        except SecretError:
            return None

    def _speaks_onvif(self, place: _Place) -> bool:
        driver = Standard("it", place.address, None, limit=ASK_LIMIT)
        try:
            return driver.speaks()
        except DeviceError:
            if place.match is not None:
                raise
            return False
        finally:
            driver.close()

    def _told_by_standard(self, found: Found, login: tuple[str, Secret] | None) -> Found:
        with contextlib.ExitStack() as stack:

            def talk(account: tuple[str, Secret] | None) -> Standard:
                made = Standard(found.name or "it", found.address, account, limit=ASK_LIMIT)
                stack.callback(made.close)
                return made

            driver = talk(login)
            if driver.is_new():
                note = "no first password is set: direkt device claim NAME"
                return replace(found, needs_first_password=True, notes=(*found.notes, note))
            notes = list(found.notes)
            known, tried = self._identity(driver, notes if login is not None else [])
            if known is None and tried and self._wanted.try_defaults:
                found = replace(found, default_login_works=False)
                for user, password in self._pairs(found, login):
                    driver = talk((user, Secret(password)))
                    said: list[str] = []
                    known, refused = self._identity(driver, said)
                    if known is not None:
                        found = replace(found, default_login_works=True, default_user=user)
                        break
                    if not refused or any("lock" in words.lower() for words in said if "does not lock" not in words):
                        notes += said
                        break
            if known is not None:
                found = _identified(found, known)
            return replace(found, notes=(*notes, *self._network_notes(driver, known is not None)))

    @staticmethod
    def _identity(driver: Standard, notes: list[str]) -> tuple[Identity | None, bool]:
        """What the device is as far as somebody is let in, and whether it was the login that was refused."""
        try:
            return driver.identity(), False
        except LoginRefused as error:
            notes.append(f"{str(error).removeprefix(driver.name + ' ')}")
            return None, True
        except DeviceError as error:
            notes.append(str(error))
            return None, False

    def _pairs(self, found: Found, used: tuple[str, Secret] | None) -> list[tuple[str, str]]:
        """The logins to try, one for each account; the one that the device's driver file names comes first.

        ``used``: a login that was refused already: its account has had its try.
        """
        own = [
            login_of(Secret(file.default_login), "default_login") for name, file in self._files.items()
            if file.default_login is not None and (name in found.speaks or _fits(file, found))
        ]  # fmt: skip
        pairs: dict[str, str] = {user: password.reveal() for user, password in own}
        for user, password in COMMON_LOGINS:
            pairs.setdefault(user, password)
        spent = used is not None
        return [pair for pair in pairs.items() if used is None or pair[0] != used[0]][: _TRIES - spent]

    def _network_notes(self, driver: Standard, admitted: bool) -> list[str]:
        """What the device's own network settings show; only the clock where nobody is let in."""
        try:
            if not admitted:
                clock = driver.client.clock()
                return obstacles.of_clock(clock) if clock.offset is not None else []
            return obstacles.of_network(driver.network(), self._here, driver.clock())
        except DeviceError:
            return []

    def _marked(self, place: _Place) -> str | None:
        """The driver file whose mark the place shows."""
        for name, file in self._files.items():
            if file.fits.ask is None or not file.fits.says:
                continue
            http = HttpDevice("it", place.address, "none", None, limit=ASK_LIMIT)
            method, _, path = file.fits.ask.partition(" ")
            try:
                answer = http.exchange(method, path, anonymous=True)
            except DeviceError:
                return None  # it does not speak HTTP, or too slowly
            finally:
                http.close()
            told = answer.text[:100_000] + " ".join(answer.headers.get_list("www-authenticate"))
            if file.fits.says in told:
                return name
        return None

    def _told_by_file(self, found: Found, login: tuple[str, Secret] | None) -> Found:
        known = self._by_file(found, login)
        if isinstance(known, Identity):
            return _identified(found, known)
        file = self._files[found.driver]
        found = replace(found, make=found.make or file.fits.make, model=found.model or file.fits.model)
        if login is not None:
            found = replace(found, notes=(*found.notes, known))
        if not self._wanted.try_defaults:
            return found
        for user, password in self._pairs(found, login):
            told = self._by_file(found, (user, Secret(password)))
            if isinstance(told, Identity):
                return replace(_identified(found, told), default_login_works=True, default_user=user)
        return replace(found, default_login_works=False)

    def _by_file(self, found: Found, login: tuple[str, Secret] | None) -> Identity | str:
        """What the device is by its driver file, or why that cannot be read."""
        folder = self._rig.folder if self._rig is not None else None
        driver = library.open_driver(found.driver, found.name or "it", found.address, login, folder)
        try:
            return driver.identity()
        except DeviceError as error:
            return str(error)
        finally:
            driver.close()

    def _with_file(self, found: Found) -> Found:
        """Whether it can push, and the driver file that fits its model."""
        name, file = next(((n, f) for n, f in self._files.items() if n == found.driver or _fits(f, found)), ("", None))
        if file is None:
            return found
        if found.driver == library.STANDARD and file.kind == "onvif":
            found = replace(found, driver=name)
        if found.make == "" and _fits(file, found):
            found = replace(found, make=file.fits.make)
        able = can_push(file, found.firmware)
        words = {True: "yes", False: "no", None: "unknown"}[able]
        if file.push.from_firmware and not able:
            words = f"from firmware {file.push.from_firmware}"
        return replace(found, can_push=able, push_words=words)


def _fits(file: DriverFile, found: Found) -> bool:
    """Whether a driver file is for a device's make and model."""
    model = file.fits.model.casefold()
    if not model or model != found.model.casefold():
        return False
    return not found.make or not file.fits.make or file.fits.make.casefold() == found.make.casefold()


def _identified(found: Found, known: Identity) -> Found:
    return replace(found, make=known.make or found.make, model=known.model or found.model, firmware=known.firmware)


def _same_form(address: str) -> str:
    parts = urlsplit(address)
    try:
        port = parts.port or {"http": 80, "https": 443}.get(parts.scheme, 0)
    except ValueError:
        port = 0
    return f"{(parts.hostname or '').lower()}:{port}"


def names_for(found: Sequence[Found], taken: Iterable[str]) -> dict[str, str]:
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
