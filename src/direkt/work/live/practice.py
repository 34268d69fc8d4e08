"""Practising an event: a copy of the rig whose platforms are one on this machine, keys of its own, and every push slot put back."""

from __future__ import annotations

import contextlib
import threading
from dataclasses import dataclass, replace
from typing import Protocol
from urllib.parse import urlsplit

from direkt.destination.keystore import Binding
from direkt.destination.references import Store
from direkt.errors import DirektError, NoAnswer, UnusableInput, os_words
from direkt.net import routes
from direkt.platform.library import Means
from direkt.platform.planned import PlannedEvent
from direkt.rig.events import PlatformEntry
from direkt.rig.file import Rig
from direkt.store import event_memory
from direkt.work import feeds
from direkt.work.feeds import FeedParts
from direkt.work.live import checks, event_at_platforms
from direkt.work.live.event_at_platforms import Airing
from direkt.work.live.go_types import Crew
from direkt.work.steps import StepClock, drive
from direkt.work.stream import carry, rehearse
from direkt.work.stream.rehearse import Former

_PLATFORM = "practice"
MARK = "practice-"  # in front of names in the store of this practice


class PracticePlatform(Protocol):
    """The platform on this machine."""

    @property
    def address(self) -> str:
        """Of its event interface."""
    def ingest_address(self, role: str) -> str:
        """Of its ingest."""


@dataclass(slots=True)
class PracticeStore:
    """Keys of the practice in memory; all else is the person's own store's."""
    own: Store
    kept: dict[str, str]

    def get(self, name: str) -> str | None:
        """The key called ``name``."""
        return self.kept.get(name) if name.startswith(MARK) else self.own.get(name)

    def bound(self, name: str) -> tuple[Binding, ...]:
        """The rigs that it was kept for."""
        return () if name.startswith(MARK) else self.own.bound(name)

    def put(self, name: str, key: str, by: Binding) -> object:
        """Keeps a key of the practice."""
        self.kept[name] = key
        return None

    def forget(self, name: str, by: Binding) -> bool:
        """Drops one."""
        return self.kept.pop(name, None) is not None


def real_destinations(rig: Rig, planned: PlannedEvent, crew: Crew) -> list[Airing]:
    """The event at its real destinations, whose sheets the practice judges by; nothing is sent there."""
    found = event_at_platforms.gather(rig, planned, crew.means)
    event_at_platforms.close(found)
    return found


def host_of(rig: Rig, planned: PlannedEvent) -> str:
    """This machine's address towards the event's devices. Raises UnusableInput and NoAnswer."""
    found = set()
    for name in planned.entry.feeds:
        entry = rig.file.feeds[name]
        host = urlsplit(rig.file.devices[entry.device].address).hostname
        if host and not entry.carry:
            try:
                found.add(routes.address_towards(host))
            except OSError as error:
                raise NoAnswer(f"there is no way from here to {entry.device} at {host}: {os_words(error)}") from None
    if len(found) > 1:
        raise UnusableInput("the event's devices are in different networks: practise with the feeds of one of them")
    return found.pop() if found else "127.0.0.1"


def copy_of(rig: Rig, planned: PlannedEvent, platform: PracticePlatform) -> Rig:
    """The rig with the practice's platform in the place of all real ones."""
    destinations = dict(rig.file.destinations)
    for name in {rig.file.feeds[feed].destination for feed in planned.entry.feeds}:
        given = {
            "server": platform.ingest_address("primary"), "backup": platform.ingest_address("backup"), "platform": _PLATFORM,
            "key": f"store:{MARK}{name}",
        }  # fmt: skip
        destinations[name] = destinations[name].model_copy(update=given)
    entry = PlatformEntry(address=platform.address, token=f"store:{MARK}token")
    file = rig.file.model_copy(update={"destinations": destinations, "platforms": {_PLATFORM: entry}})
    return replace(rig, file=file)


class Carrier:
    """Carries feeds in this process, since the practice's keys are nobody else's."""

    def __init__(self, rig: Rig, means: Means, clock: StepClock) -> None:
        self.rig, self.means, self.clock = rig, means, clock
        self.running: list[contextlib.ExitStack] = []
        self.failed: dict[str, str] = {}  # by feed: why it is not carried any more

    def launch(self, feed: str) -> None:
        """Begins to carry; stop() ends it."""
        parts = feeds.look_up(self.rig, feed, self.means.sources)
        _, _, source = carry.read(parts)
        key = self.rig.key(parts.destination, self.means.sources)
        work = carry.carrying(parts, source, self.means.sources, key, parts.destination.server)
        over = threading.Event()

        def on_event(_: object) -> None:
            if over.is_set():
                raise KeyboardInterrupt

        def run() -> None:
            try:
                places = (str(source), parts.destination.server)
                drive(carry.carry(parts, work, places, len(key), self.clock, seconds=None), on_event)
            except DirektError as error:
                self.failed[feed] = str(error)

        thread = threading.Thread(target=run, daemon=True)
        thread.start()
        stack = contextlib.ExitStack()
        stack.callback(parts.driver.close)
        stack.callback(thread.join, 10)
        stack.callback(over.set)
        self.running.append(stack)

    def stop(self) -> None:
        """Ends what was begun."""
        for stack in self.running:
            stack.close()
        self.running = []


def formers_of(rig: Rig, planned: PlannedEvent, crew: Crew) -> dict[str, tuple[FeedParts, Former]]:
    """What the devices' push slots hold before the practice. Raises DirektError where that could not be put back."""
    out: dict[str, tuple[FeedParts, Former]] = {}
    try:
        for name in planned.entry.feeds:
            parts = feeds.look_up(rig, name, crew.means.sources)
            if parts.entry.carry or checks.by_hand(parts):
                parts.driver.close()
                continue
            try:
                slot = parts.slot(parts.driver.read())
                out[name] = (parts, rehearse.former_of(parts, slot, crew.means.sources, False))
            except rehearse.CannotPutBack as error:
                parts.driver.close()
                raise UnusableInput(f"{error.what}: fill it first with: direkt write {name}") from None
            except DirektError:
                parts.driver.close()
                raise
    except DirektError:
        for parts, _ in out.values():
            parts.driver.close()
        raise
    return out


def put_back(formers: dict[str, tuple[FeedParts, Former]]) -> dict[str, str]:
    """Every slot as it was; by feed, what is not, in words."""
    left = {}
    for name, (parts, former) in formers.items():
        try:
            found = rehearse.put_slot_back(parts, former)
            if not found.proven:
                left[name] = f"{name}: {parts.device} is not as it was: {found.detail}; direkt write {name}"
        finally:
            parts.driver.close()
    return left


def forget(rig: Rig, planned: PlannedEvent) -> None:
    """Drops what was remembered of the practice."""
    with contextlib.suppress(DirektError):
        event_memory.forget(rig.folder, planned.name, planned.mark)
