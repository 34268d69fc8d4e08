"""The real world for a watch: devices through their drivers, platforms, what this machine carries, and what is done to them."""

from __future__ import annotations

import contextlib
import datetime
import re
import shutil
import threading
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from direkt.destination import references
from direkt.device.state import Capability, Driver, PushState, Slot, need
from direkt.errors import DirektError, UnusableInput
from direkt.net import certificates
from direkt.platform import planned as planning
from direkt.platform.event import CannotPlatform, Declined, PlatformEvent
from direkt.protocol import address
from direkt.rig.events import EventState
from direkt.rig.file import Rig
from direkt.store import carried, event_memory, wishes
from direkt.store.wishes import Wishes
from direkt.watch.board import NextEvent
from direkt.watch.looks import CarriedLook, DeviceLook, EventLook
from direkt.watch.tracker import FeedFacts
from direkt.watch.watch_events import Followed, MachineLook
from direkt.work.device import manage, push
from direkt.work.device.push import PushStanding
from direkt.work.feeds import FeedParts
from direkt.work.live import event_at_platforms as air
from direkt.work.live.event_at_platforms import Airing
from direkt.work.live.go_types import Crew, reason
from direkt.work.steps import drive
from direkt.work.stream import carry

_RESTART = 120.0  # s that a device gets to come back
_FORGOTTEN = 86400.0  # s behind its end after which an event that never came on air is no longer looked at
_NEXT_EVERY = 30.0  # s between looks for the next event
_KEY_EVERY = 30.0  # s between looks at which key a platform gives out
_CARRY = 25.0  # s for a carried push to get going


def facts_of(rig: Rig, name: str) -> FeedFacts:
    """What a feed is."""
    entry, device, destination = rig.feed(name)
    server = str(address.parse(destination.server))
    return FeedFacts(
        name,
        entry.device,
        entry.destination,
        server,
        entry.slot,
        entry.role,
        entry.carry,
        not device.address and not entry.carry,
    )


def _anyhow(secret: str) -> str:
    """A pattern for a secret as it is, or with any of its characters as URLs write them."""
    return "".join(
        f"(?:{re.escape(c)}|{''.join(f'%{b:02X}' for b in c.encode())}|{''.join(f'%{b:02x}' for b in c.encode())})"
        for c in secret
    )


class RealWorld:
    """Looks and acts. Its methods are called from many threads, for one device from one at a time."""

    def __init__(self, rig: Rig, feeds: Sequence[str], crew: Crew) -> None:
        self._rig, self._feeds, self._crew = rig, feeds, crew
        self._drivers: dict[str, Driver] = {}
        self._locks: dict[str, threading.Lock] = {name: threading.Lock() for name in rig.file.devices}
        self._airings: dict[str, Airing] = {}
        self._asking: dict[str, threading.Lock] = {}
        self._kept_next: tuple[float, NextEvent | None] = (0.0, None)  # s since 1970 when it was looked for
        self._keys: dict[str, tuple[float, bool]] = {}  # by event: when its key was compared, and whether it is another
        self._secrets: re.Pattern[str] | None = None
        self._refresh_secrets()

    def close(self) -> None:
        """Lets go of all connections that are not in use."""
        for name, driver in self._drivers.items():
            if self._locks[name].acquire(timeout=1.0):
                with contextlib.suppress(Exception):
                    driver.close()
                self._locks[name].release()
        for key, airing in self._airings.items():
            if self._asking[key].acquire(timeout=1.0):
                with contextlib.suppress(Exception):
                    airing.platform.close()
                self._asking[key].release()

    @contextlib.contextmanager
    def _driver(self, name: str) -> Iterator[Driver]:
        with self._locks[name]:
            driver = self._drivers.get(name)
            if driver is None:
                driver = self._drivers[name] = self._rig.driver(name, self._crew.means.sources)
            yield driver

    # What others say may hold a key: devices put it into their messages, and behind their server address

    def _refresh_secrets(self) -> None:
        """The keys as they are now. Programs that give out keys are not run for this."""
        found = set()
        for entry in self._rig.file.destinations.values():
            if references.parse_ref(entry.key).kind != "command":
                with contextlib.suppress(DirektError):
                    found.add(self._rig.key(entry, self._crew.means.sources).reveal())
        longest = sorted((secret for secret in found if len(secret) > 3), key=len, reverse=True)
        self._secrets = re.compile("|".join(map(_anyhow, longest))) if longest else None

    def _clean(self, text: str) -> str:
        return self._secrets.sub("…", text) if self._secrets is not None else text

    def _safe(self, slot: Slot) -> Slot:
        server = self._clean(slot.server).removesuffix("/…").rstrip("/")
        return replace(slot, server=server, message=self._clean(slot.message))

    # Looks

    def device(self, name: str) -> DeviceLook:
        """A look at a device."""
        now = self._crew.clock.now
        began = now()
        try:
            with self._driver(name) as driver:
                began = now()
                found = driver.pulse()
        except DirektError as error:
            return DeviceLook(now(), self._clean(reason(error)), began=began)
        slots = {slot.number: self._safe(slot) for slot in found.pushes}
        return DeviceLook(
            now(), "", slots, found.temperature, found.uptime, tuple(map(self._clean, found.wrong)), began
        )

    def carried(self, feed: str) -> CarriedLook:
        """A look at what this machine carries."""
        return CarriedLook(self._crew.clock.now(), carried.find(self._rig.folder, feed))

    def followed(self) -> tuple[Sequence[Followed], NextEvent | None]:
        """The events that go on, and the next one."""
        self._refresh_secrets()
        out: list[Followed] = []
        for one in event_memory.every(self._rig.folder):
            if one.event not in self._rig.file.events or not one.begun or (one.ended and not one.paused):
                continue
            with contextlib.suppress(DirektError):
                planned = planning.by_mark(self._rig, one.event, one.mark)
                if planned is None or not set(planned.entry.feeds) & set(self._feeds):
                    continue
                if one.on_air or self._crew.means.wall() < planned.end.timestamp() + _FORGOTTEN:
                    out += self._at_destinations(planned, one)
        keys = {one.key for one in out}
        for key in [key for key in self._airings if key not in keys]:
            if self._asking[key].acquire(blocking=False):
                self._airings.pop(key).platform.close()
                self._asking.pop(key)
        return out, self._next({(one.name, one.mark) for one in out if one.on_air})

    def _at_destinations(self, planned: planning.PlannedEvent, one: event_memory.EventStanding) -> Iterator[Followed]:
        title = planning.wanted(self._rig, planned).title
        known = [key for key in self._airings if key.startswith(f"{planned.name} {planned.mark} ")]
        if not known:
            for airing in air.gather(self._rig, planned, self._crew.means):
                key = f"{planned.name} {planned.mark} {airing.destination}"
                self._airings[key], self._asking[key] = airing, threading.Lock()
        for key, airing in list(self._airings.items()):
            if airing.planned.name != planned.name or airing.planned.mark != planned.mark:
                continue
            feeds = tuple(name for name in airing.feeds if name in self._feeds)
            session = airing.sheet.session
            longest = (
                session.longest_hours * 3600 if session is not None and session.longest_hours is not None else None
            )
            begun = datetime.datetime.fromisoformat(one.begun).timestamp()
            public = planned.entry.audience == "everyone" and not one.invited_first
            yield Followed(
                key, planned.name, planned.mark, title, airing.destination, airing.sheet.name, feeds, planned.start.timestamp(),
                planned.end.timestamp(), begun, bool(one.on_air) and not one.paused, public, longest, not airing.by_hand,
                one.place(airing.destination).watch,
            )  # fmt: skip

    def _next(self, on_air: set[tuple[str, str]]) -> NextEvent | None:
        """The next event that everyone may see, looked for now and then; None: there is none."""
        wall = self._crew.means.wall()
        kept_at, kept = self._kept_next
        if not 0 <= wall - kept_at < _NEXT_EVERY or (kept is not None and kept.start < wall):
            kept = self._find_next(on_air, datetime.datetime.fromtimestamp(wall, datetime.UTC))
            self._kept_next = wall, kept
        return kept

    def _find_next(self, on_air: set[tuple[str, str]], now: datetime.datetime) -> NextEvent | None:
        found: list[NextEvent] = []
        for name, entry in self._rig.file.events.items():
            if entry.audience != "everyone":
                continue
            with contextlib.suppress(UnusableInput):
                times = (
                    p for p in planning.occurrences(self._rig, name) if p.end > now and (name, p.mark) not in on_air
                )
                planned = next((p for p in times if not self._is_over(p)), None)
                if planned is not None:
                    local = f"{planned.start:%A, %d %B %Y, %H:%M} {planned.start.tzname() or ''}".strip()
                    title = planning.wanted(self._rig, planned).title
                    found.append(NextEvent(name, title, planned.start.timestamp(), local))
        return min(found, key=lambda one: one.start, default=None)

    def _is_over(self, planned: planning.PlannedEvent) -> bool:
        remembered = event_memory.read(self._rig.folder, planned.name, planned.mark)
        return bool(remembered.ended and not remembered.paused)

    def event(self, one: Followed) -> EventLook:
        """A look at an event at its platform."""
        now = self._crew.clock.now
        airing, lock = self._airings.get(one.key), self._asking.get(one.key)
        if airing is None or lock is None:
            return EventLook(now(), "it is not followed any more")
        try:
            with lock:
                event = airing.find()
                if event is None:
                    return EventLook(now(), f"{airing.sheet.name} has no such event")
                open_ = event.state in (EventState.OPEN, EventState.LIVE)
                seen = airing.platform.seen(event) if open_ else None
                other_key = open_ and self._has_other_key(one.key, airing, event)
        except DirektError as error:
            return EventLook(now(), self._clean(reason(error)))
        inputs, viewers = (seen.inputs, seen.viewers) if seen is not None else ((), None)
        inputs = tuple(replace(one, complaints=tuple(map(self._clean, one.complaints))) for one in inputs)
        return EventLook(now(), "", True, event.state, event.watch, seen is not None, inputs, viewers, other_key)

    def _has_other_key(self, name: str, airing: Airing, event: PlatformEvent) -> bool:
        """Whether the platform gives out another key than the rig has; asked now and then. May raise PlatformError."""
        at, before = self._keys.get(name, (float("-inf"), False))
        now = self._crew.clock.now()
        if airing.by_hand or now - at < _KEY_EVERY:
            return before
        found = False
        with contextlib.suppress(UnusableInput, CannotPlatform, Declined):
            found = airing.platform.ingest(event).key != self._rig.key(airing.entry, self._crew.means.sources)
        self._keys[name] = (now, found)
        return found

    def machine(self) -> MachineLook:
        """Its disk."""
        try:
            return MachineLook(float(shutil.disk_usage(self._rig.folder).free))
        except OSError:
            return MachineLook(None)

    def certificates(self) -> Mapping[str, float]:
        """Days left, by host and port, of the servers that feeds push to over TLS."""
        places = set()
        for name in self._feeds:
            server = address.parse(self._rig.feed(name)[2].server)
            if server.tls:
                places.add((server.host, server.port))
        now = datetime.datetime.fromtimestamp(self._crew.means.wall(), datetime.UTC)
        found = {f"{host}:{port}": certificates.days_left(host, port, now) for host, port in sorted(places)}
        return {place: days for place, days in found.items() if days is not None}

    def wishes(self) -> Wishes:
        """What is meant to be on."""
        return wishes.read(self._rig.folder)

    def wish(self, feed: str, on: bool, *, at_device: bool = False) -> None:
        """From here on it is meant to be so."""
        wishes.note(self._rig.folder, {feed: on}, at_device=at_device)

    # Acts

    @contextlib.contextmanager
    def _parts(self, feed: str) -> Iterator[FeedParts]:
        entry, _, destination = self._rig.feed(feed)
        with self._driver(entry.device) as driver:
            yield FeedParts(self._rig, feed, entry, destination, self._rig.sheet(destination), driver)

    def start(self, feed: str) -> str:
        """Starts a push, again or for the first time."""
        wishes.mend(self._rig.folder, feed, begins=True)
        try:
            with self._parts(feed) as parts:
                return self._carry(parts) if parts.entry.carry else self._push(parts)
        finally:
            wishes.mend(self._rig.folder, feed, begins=False)

    def ensure(self, feed: str) -> tuple[bool, str]:
        """A push that is on is left alone; else it is started. Whether it is on then, and in words. Raises DirektError."""
        with self._parts(feed) as parts:
            if parts.entry.carry:
                running = carry.running(parts)
                on = running is not None and running.server == parts.destination.server
            else:
                slot = push.look(parts).slot
                on = slot.state is PushState.PUSHING and slot.server == parts.destination.server
        if on:
            wishes.note(self._rig.folder, {feed: True})
            return True, "it is on"
        words = self.start(feed)
        with self._parts(feed) as parts:
            if parts.entry.carry:
                running = carry.running(parts)
                return running is not None and running.pushing, words
            return push.look(parts).slot.state is PushState.PUSHING, words

    def _push(self, parts: FeedParts) -> str:
        key = parts.rig.key(parts.destination, self._crew.means.sources)
        if push.look(parts).slot.state is not PushState.STOPPED:
            push.stop(parts, self._crew.clock, wanted_off=False)

        def on_event(_: PushStanding) -> None:
            return None

        slot = drive(push.start(parts, key, self._crew.clock), on_event).slot
        return f"{parts.device} says {slot.state}" + (f": {slot.message}" if slot.message else "")

    def _carry(self, parts: FeedParts) -> str:
        carry.end(parts, self._crew.clock, wanted_off=False)
        self._crew.launch(parts.name)
        begin = self._crew.clock.now()
        while self._crew.clock.now() - begin < _CARRY:
            running = carry.running(parts)
            if running is not None and running.pushing:
                return f"carried by process {running.process}"
            self._crew.clock.sleep(0.3)
        wishes.note(self._rig.folder, {parts.name: True})
        running = carry.running(parts)
        last = self._crew.last_words(parts.name)
        said = f": {last}" if last else ""
        return f"it does not start{said}" if running is None else f"camera: {running.coming}; platform: {running.push}"

    def restart(self, device: str) -> str:
        """Restarts a device and waits for it."""
        with self._driver(device) as driver:
            need(driver, Capability.RESTART)
            driver.restart()
            took = manage.wait_for(driver, self._crew.clock, _RESTART)
        return f"{device} is back after {took:.0f} s"

    def stop(self, feed: str) -> str:
        """Stops a push for good."""
        with self._parts(feed) as parts:
            if parts.entry.carry:
                found = carry.end(parts, self._crew.clock)
                return "nobody carries it" if found is None else f"process {found.process} has ended it"
            slot = push.stop(parts, self._crew.clock).slot
            return f"{parts.device} says {slot.state}"
