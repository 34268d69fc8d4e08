"""Asking one place after the other what it is: without a login, with the rig's own, and with well-known ones where that is wanted.

Nothing here locks an account: the rig's login is sent once, and of well-known ones two at the most.
"""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from urllib.parse import urlsplit

from direkt.described.errors import DeviceError, DeviceLoginRefused
from direkt.described.http import HttpInterface
from direkt.destination.references import SecretError, Sources, login_of
from direkt.device import library, obstacles
from direkt.device.driver_file import DriverFile, can_push
from direkt.device.obstacles import Here
from direkt.device.onvif.driver import Driver as Standard
from direkt.device.state import Identity
from direkt.errors import DirektError
from direkt.protocol.discovery import Match
from direkt.rig.file import Rig
from direkt.secret import Secret

ASK_LIMIT = 3.0  # s for an answer
PORTS = (80, 8080, 8000, 554, 8554)
# user and password as gear of many makers has them at delivery; one for each account
COMMON_LOGINS = (("admin", "admin"), ("root", "root"))
_TRIES = 2  # wrong logins that a device gets in all: many lock at the third, whatever the account


@dataclass(frozen=True, slots=True)
class SearchWanted:
    """Where to look, and how."""

    interface: str | None = None
    subnets: tuple[str, ...] = ()
    ports: tuple[int, ...] = PORTS
    wait: float = 4.0  # s
    try_defaults: bool = False


@dataclass(frozen=True, slots=True)
class FoundDevice:
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


@dataclass(slots=True)
class Candidate:
    """An HTTP address that may be a device."""

    address: str
    match: Match | None = None
    others: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


class DeviceAsker:
    """Asks one place after the other; used by several threads, and changes nothing of its own."""

    def __init__(
        self, wanted: SearchWanted, rig: Rig | None, sources: Sources | None, files: Mapping[str, DriverFile], here: Here
    ) -> None:
        self._wanted, self._rig, self._sources, self._files, self._here = wanted, rig, sources, files, here

    def ask(self, place: Candidate) -> FoundDevice | None:
        """What a place is; None: no device of a kind that is known."""
        try:
            return self._ask(place)
        except DirektError as error:
            if place.match is None:
                return None
            return self._from_match(place, (str(error),))

    def _from_match(self, place: Candidate, more: tuple[str, ...] = ()) -> FoundDevice:
        match = place.match
        assert match is not None
        name, model = match.scope("name"), match.scope("hardware")
        found = FoundDevice(place.address, name, "", model, "", ("onvif",), rig_name=self._in_rig(place), driver=library.STANDARD,
                      others=tuple(place.others), notes=(*place.notes, *more))  # fmt: skip
        return self._with_file(found)

    def _in_rig(self, place: Candidate) -> str | None:
        if self._rig is None:
            return None
        addresses = {same_form(address) for address in (place.address, *place.others)}
        return next(
            (name for name, entry in self._rig.file.devices.items() if same_form(entry.address) in addresses), None
        )

    def _ask(self, place: Candidate) -> FoundDevice | None:
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
        found = FoundDevice(
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

    def _speaks_onvif(self, place: Candidate) -> bool:
        driver = Standard("it", place.address, None, any_certificate=True, limit=ASK_LIMIT)
        try:
            return driver.speaks()
        except DeviceError:
            if place.match is not None:
                raise
            return False
        finally:
            driver.close()

    def _told_by_standard(self, found: FoundDevice, login: tuple[str, Secret] | None) -> FoundDevice:
        with contextlib.ExitStack() as stack:

            def talk(account: tuple[str, Secret] | None) -> Standard:
                made = Standard(
                    found.name or "it", found.address, account, any_certificate=account is None, limit=ASK_LIMIT
                )
                stack.callback(made.close)
                return made

            driver = talk(login)
            if driver.is_new():
                note = "no first password is set: direkt device claim NAME"
                return replace(found, needs_first_password=True, notes=(*found.notes, note))
            notes = list(found.notes)
            known, tried, _ = self._identity(driver, notes if login is not None else [])
            if known is None and tried and self._wanted.try_defaults:
                found = replace(found, default_login_works=False)
                for user, password in self._pairs(found, login):
                    driver = talk((user, Secret(password, everywhere=False)))
                    said: list[str] = []
                    known, refused, words = self._identity(driver, said)
                    if known is not None:
                        found = replace(found, default_login_works=True, default_user=user)
                        break
                    if not refused or "lock" in words.lower():  # its own words: one more try, and the account is locked
                        notes += said
                        break
            if known is not None:
                found = _identified(found, known)
            return replace(found, notes=(*notes, *self._network_notes(driver, known is not None)))

    @staticmethod
    def _identity(driver: Standard, notes: list[str]) -> tuple[Identity | None, bool, str]:
        """What the device is as far as somebody is let in, whether it was the login that was refused, and its own words then."""
        try:
            return driver.identity(), False, ""
        except DeviceLoginRefused as error:
            notes.append(error.what)
            return None, True, error.said
        except DeviceError as error:
            notes.append(str(error))
            return None, False, ""

    def _pairs(self, found: FoundDevice, used: tuple[str, Secret] | None) -> list[tuple[str, str]]:
        """The logins to try, one for each account; the one that the device's driver file names comes first.

        ``used``: a login that was refused already: its account has had its try.
        """
        own = [
            login_of(Secret(file.default_login, everywhere=False), "default_login") for name, file in self._files.items()
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

    def _marked(self, place: Candidate) -> str | None:
        """The driver file whose mark the place shows."""
        for name, file in self._files.items():
            if file.fits.ask is None or not file.fits.says:
                continue
            http = HttpInterface("it", place.address, "none", None, limit=ASK_LIMIT)
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

    def _told_by_file(self, found: FoundDevice, login: tuple[str, Secret] | None) -> FoundDevice:
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
            told = self._by_file(found, (user, Secret(password, everywhere=False)))
            if isinstance(told, Identity):
                return replace(_identified(found, told), default_login_works=True, default_user=user)
        return replace(found, default_login_works=False)

    def _by_file(self, found: FoundDevice, login: tuple[str, Secret] | None) -> Identity | str:
        """What the device is by its driver file, or why that cannot be read."""
        folder = self._rig.folder if self._rig is not None else None
        driver = library.open_driver(found.driver, found.name or "it", found.address, login, folder)
        try:
            return driver.identity()
        except DeviceError as error:
            return str(error)
        finally:
            driver.close()

    def _with_file(self, found: FoundDevice) -> FoundDevice:
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


def _fits(file: DriverFile, found: FoundDevice) -> bool:
    """Whether a driver file is for a device's make and model."""
    model = file.fits.model.casefold()
    if not model or model != found.model.casefold():
        return False
    return not found.make or not file.fits.make or file.fits.make.casefold() == found.make.casefold()


def _identified(found: FoundDevice, known: Identity) -> FoundDevice:
    return replace(found, make=known.make or found.make, model=known.model or found.model, firmware=known.firmware)


def same_form(address: str) -> str:
    """Host and port, to compare addresses by."""
    parts = urlsplit(address)
    try:
        port = parts.port or {"http": 80, "https": 443}.get(parts.scheme, 0)
    except ValueError:
        port = 0
    return f"{(parts.hostname or '').lower()}:{port}"
