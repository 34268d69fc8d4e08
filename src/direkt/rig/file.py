"""The rig: everything for one production, in rig.yaml: devices, destinations, feeds, platforms, events, the uplink."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import Field, field_validator

from direkt import documents
from direkt.destination import library, references
from direkt.destination.sheet import Sheet
from direkt.device import library as drivers
from direkt.device.state import Driver
from direkt.documents import DocumentError, Problem, Strict, checked
from direkt.errors import UnusableInput
from direkt.protocol import address, source
from direkt.protocol.schemes import SPOKEN
from direkt.rig.events import EventEntry, PlatformEntry
from direkt.rig.trust import content_of
from direkt.rig.values import Reference, Zone
from direkt.rig.watch import ScheduleEntry, WatchEntry
from direkt.secret import Secret

FILE_NAME = "rig.yaml"


def _has_place(url: str) -> bool:
    """Whether a URL names a host, and a port that exists, if any."""
    try:
        parts = urlsplit(url)
        return bool(parts.hostname) and parts.port != 0
    except ValueError:
        return False


def _moment(text: str) -> None:
    try:
        datetime.datetime.fromisoformat(text)
    except ValueError:
        raise ValueError(f"expected date and time like 2026-07-03 09:00, got {text!r}") from None


Moment = Annotated[str, checked(_moment)]


class DeviceEntry(Strict):
    """A camera or encoder."""

    driver: str
    address: str = ""  # http://host:port; empty: no program can reach it
    login: Reference | None = None  # reference to user:password
    certificate: Literal["checked", "any"] = "checked"  # of a device that is reached by https
    insecure: Literal["yes", "no"] = "no"  # yes: its login may go unencrypted over http:// beyond the local network

    @field_validator("address")
    @classmethod
    def _address(cls, value: str) -> str:
        if not value:
            return value
        wrong = not value.startswith(("http://", "https://")) or value.count("://") != 1 or value != value.strip()
        if wrong or not _has_place(value):
            raise ValueError(f"expected an address like http://192.0.2.10, got {value!r}")
        if "@" in value:
            raise ValueError("the address holds a login; put a reference under 'login'")
        return value.rstrip("/")



class DestinationEntry(Strict):
    """A sheet, a server address and a reference to a key."""

    sheet: str
    server: str
    key: Reference
    backup: str | None = None  # the server address for feeds whose role is backup
    platform: str | None = None  # where its events are made; None: by hand

    @field_validator("server", "backup")
    @classmethod
    def _server(cls, value: str | None) -> str | None:
        if value is None:
            return None
        found = address.parse(value)
        if found.scheme not in SPOKEN:
            raise ValueError(f"Direkt does not speak {found.scheme} itself so far; expected {' or '.join(SPOKEN)}")
        return value



class FeedEntry(Strict):
    """One channel of one device to one destination."""

    device: str
    destination: str
    channel: str = "main"
    slot: int = Field(default=1, ge=1)
    weight: float = Field(default=1, gt=0)  # its share when feeds compete for the uplink
    carry: bool = False  # this machine fetches the device's stream and pushes it on
    source: str | None = (
        None  # where the device gives the channel out, where its driver does not know: rtsp://host/path
    )
    role: Literal["primary", "backup"] = "primary"  # backup: it goes to the destination's backup server
    start: Moment | None = None  # when it goes on air, in local time: 2026-07-03 09:00

    @field_validator("source")
    @classmethod
    def _source(cls, value: str | None) -> str | None:
        if value is not None:
            _, login = source.parse(value)
            if login is not None:
                raise ValueError("the address holds a login; put a reference under the device's 'login'")
        return value



class Uplink(Strict):
    """What the line can carry upwards."""

    mbit_s: float = Field(gt=0)
    reserve_percent: float = Field(default=30, ge=0, lt=100)
    plan_gb: float | None = Field(default=None, gt=0)  # what may be sent in all; None: as much as one likes


class RigFile(Strict):
    """rig.yaml."""

    schema_: Literal["direkt.rig/1"] = Field(alias="schema")
    name: str
    id: str | None = Field(default=None, pattern=r"^[a-z0-9][a-z0-9-]{2,39}$")  # in a shared log; None: one is made beside the rig
    devices: dict[str, DeviceEntry] = {}
    destinations: dict[str, DestinationEntry] = {}
    feeds: dict[str, FeedEntry] = {}
    uplink: Uplink | None = None
    mains_hz: Literal[50, 60] | None = None  # of the lights: at other rates they flicker
    platforms: dict[str, PlatformEntry] = {}
    events: dict[str, EventEntry] = {}
    watch: WatchEntry = WatchEntry()
    schedule: dict[str, ScheduleEntry] = {}
    zone: Zone | None = None  # of the IANA time zone database; None: this machine's



class RigError(UnusableInput):
    """A name that the rig does not have, or a choice that it leaves open."""


@dataclass(frozen=True, slots=True)
class Rig:
    """A loaded rig; ``folder`` is where its file lies."""

    file: RigFile
    folder: Path
    source: str
    path: Path  # of its file

    def content(self) -> str:
        """A digest of the rig and of what acts for it: driver files, scripts of its commands. Raises UnusableInput."""
        names = {entry.driver for entry in self.file.devices.values()} - {*drivers.shipped(), drivers.STANDARD}
        names |= {word for ref in self.refs() if ref.kind == "command" for word in ref.words()}
        names |= {entry.file for entry in self.file.platforms.values() if entry.file is not None}
        told = [entry.command for entry in self.file.watch.notify.values() if entry.command is not None]
        names |= {word for words in told for word in references.SecretRef("command", words).words()}
        parts = (self.folder / name for name in sorted(names))
        return content_of(self.path, [part for part in parts if part.is_file()])

    def names(self) -> set[str]:
        """What is shown in any case: how the rig calls itself and its parts, and who may be told."""
        f = self.file
        parts = (f.devices, f.destinations, f.feeds, f.platforms, f.events, f.schedule, f.watch.notify)
        return {f.name, *(name for part in parts for name in part), *(one.sheet for one in f.destinations.values())}

    def sent(self) -> dict[references.SecretRef, tuple[str, ...]]:
        """Every reference to a secret that the rig holds, and the places (host:port) that it is sent to."""
        f = self.file
        pairs: list[tuple[str | None, Iterable[str | None]]] = [
            *((d.login, [d.address]) for d in f.devices.values()), *((d.key, [d.server, d.backup]) for d in f.destinations.values()),
            *((text, [p.address]) for p in f.platforms.values() for text in (p.token, p.client_secret)),
            *((t.secret, [t.webhook]) for t in f.watch.notify.values()), *((t.login, [t.server]) for t in f.watch.notify.values()),
        ]  # fmt: skip
        out: dict[references.SecretRef, tuple[str, ...]] = {}
        for text, addresses in pairs:
            if text is not None:
                ref = references.parse_ref(text)
                out[ref] = tuple(dict.fromkeys([*out.get(ref, ()), *(place_of(one) for one in addresses if one is not None)]))
        return out

    def refs(self) -> list[references.SecretRef]:
        """Every reference to a login or key that the rig holds."""
        return list(self.sent())

    def device_name(self, name: str | None) -> str:
        """``name``, or the only device there is. Raises RigError."""
        return self._pick("device", self.file.devices, name)

    def feed_name(self, name: str | None) -> str:
        """``name``, or the only feed there is. Raises RigError."""
        return self._pick("feed", self.file.feeds, name)

    def every(self, what: Literal["feed", "device"]) -> list[str]:
        """The names of all feeds or devices. Raises RigError where there is none."""
        names = list(self.file.feeds if what == "feed" else self.file.devices)
        if not names:
            raise RigError(f"{self.source} has no {what}s: write one under '{what}s' first")
        return names

    def _pick(self, what: str, entries: Mapping[str, object], name: str | None) -> str:
        known = ", ".join(entries) or "none"
        if name is None:
            if not entries:
                raise RigError(f"{self.source} has no {what}s: write one under '{what}s' first")
            if len(entries) != 1:
                raise RigError(f"name the {what}: {self.source} has {known}")
            return next(iter(entries))
        if name not in entries:
            raise RigError(f"no {what} {name!r} in {self.source}; it has {known}")
        return name

    def feed(self, name: str) -> tuple[FeedEntry, DeviceEntry, DestinationEntry]:
        """A feed with its device and destination; of a backup feed, that has the backup server's address."""
        entry = self.file.feeds[name]
        destination = self.file.destinations[entry.destination]
        if entry.role == "backup" and destination.backup is not None:
            destination = destination.model_copy(update={"server": destination.backup})
        return entry, self.file.devices[entry.device], destination

    def sheet(self, destination: DestinationEntry) -> Sheet:
        """The destination's sheet. Raises DocumentError."""
        return library.load(destination.sheet, self.folder)

    def key(self, destination: DestinationEntry, sources: references.Sources) -> Secret:
        """The destination's stream key. Raises SecretError."""
        return references.resolve(references.parse_ref(destination.key), sources, self.folder, key_places(destination))

    def driver(self, name: str, sources: references.Sources) -> Driver:
        """A driver for one of the rig's devices. Raises DocumentError and SecretError."""
        entry = self.file.devices[name]
        return drivers.open_driver(
            entry.driver, name, entry.address, self.login(entry, sources), self.folder, any_certificate=entry.certificate == "any"
        )  # fmt: skip

    def destination(self, name: str) -> DestinationEntry:
        """A destination by its name. Raises RigError."""
        return self.file.destinations[self._pick("destination", self.file.destinations, name)]

    def event_name(self, name: str | None) -> str:
        """``name``, or the only event there is. Raises RigError."""
        return self._pick("event", self.file.events, name)

    def feeds_to(self, destination: str) -> list[str]:
        """The feeds that push to a destination."""
        return [name for name, feed in self.file.feeds.items() if feed.destination == destination]

    def login(self, device: DeviceEntry, sources: references.Sources) -> tuple[str, Secret] | None:
        """User and password; None where the device wants none. Raises SecretError."""
        if device.login is None:
            return None
        ref = references.parse_ref(device.login)
        return references.login_of(references.resolve(ref, sources, self.folder, [place_of(device.address)]), str(ref))


_PORTS = {"rtmp": 1935, "rtmps": 443, "http": 80, "https": 443, "smtp": 587, "smtps": 465, "rtsp": 554, "rtsps": 322}


def place_of(address: str) -> str:
    """Host and port that an address leads to, as ``host:port``; the address itself where it has none."""
    try:
        parts = urlsplit(address)
        port = parts.port or _PORTS.get(parts.scheme.lower())
    except ValueError:
        return address
    return f"{(parts.hostname or '').lower()}:{port}" if parts.hostname and port else address


def key_places(destination: DestinationEntry) -> tuple[str, ...]:
    """The places that a destination's key is sent to."""
    return tuple(dict.fromkeys(place_of(one) for one in (destination.server, destination.backup) if one is not None))


Wrong = Iterator[tuple[tuple[str | int, ...], str]]  # where, and what is wrong


def _listed(names: Iterable[str]) -> str:
    return ", ".join(names) or "none"


def _feeds(file: RigFile) -> Wrong:
    for name, feed in file.feeds.items():
        known: tuple[tuple[str, str, Iterable[str]], ...] = (
            ("device", feed.device, file.devices), ("destination", feed.destination, file.destinations),
        )  # fmt: skip
        for what, key, names in known:
            if key not in names:
                yield ("feeds", name, what), f"no {what} {key!r}; there is {_listed(names)}"
        if feed.role == "backup" and feed.destination in file.destinations and file.destinations[feed.destination].backup is None:
            yield ("feeds", name, "role"), f"{feed.destination} has no 'backup' server address"


def _destinations(file: RigFile) -> Wrong:
    for name, destination in file.destinations.items():
        if destination.platform is not None and destination.platform not in file.platforms:
            yield ("destinations", name, "platform"), f"no platform {destination.platform!r}; there is {_listed(file.platforms)}"


def _events(file: RigFile) -> Wrong:
    for name, event in file.events.items():
        for n, one in enumerate(event.feeds):
            if one not in file.feeds:
                yield ("events", name, "feeds", n), f"no feed {one!r}; there is {_listed(file.feeds)}"
        used = dict.fromkeys(file.feeds[one].destination for one in event.feeds if one in file.feeds)
        for one in event.at:
            if one not in used:
                yield ("events", name, "at", one), f"none of its feeds goes to {one!r}; they go to {_listed(used)}"
        if len(set(event.feeds)) != len(event.feeds):
            yield ("events", name, "feeds"), "a feed is named twice"


def _schedule(file: RigFile) -> Wrong:
    for name, planned in file.schedule.items():
        for what, wanted, names in (("event", planned.event, list(file.events)), ("feed", planned.feed, list(file.feeds))):
            if wanted is not None and wanted not in names:
                yield ("schedule", name, what), f"no {what} {wanted!r}; there is {_listed(names)}"


def load(path: Path) -> Rig:
    """The rig in the file at ``path``. Raises DocumentError with every mistake."""
    document = documents.read(path)
    file = documents.check(document, RigFile)
    wrong = [*_feeds(file), *_destinations(file), *_events(file), *_schedule(file)]
    if wrong:
        problems = [Problem(document.line(path), f"{'.'.join(str(part) for part in path if isinstance(part, str))}: {text}") for path, text in wrong]
        raise DocumentError(document.source, problems)
    return Rig(file, path.resolve().parent, str(path), path.resolve())
