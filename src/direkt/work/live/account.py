"""What is open in an account at a platform, whoever made it, and what of it is this rig's: by our name for it, then by key and address."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from dataclasses import dataclass, field

from direkt.errors import DirektError
from direkt.platform import library
from direkt.platform import planned as planning
from direkt.platform.event import Platform, PlatformEvent
from direkt.platform.library import Means
from direkt.platform.planned import NameOwner
from direkt.protocol import address
from direkt.rig.events import EventState
from direkt.rig.file import Rig
from direkt.secret import Secret

_MOST_KEYS = 40  # events of others whose key is asked for
_OVER = (EventState.CLOSED,)


@dataclass(frozen=True, slots=True)
class HeldEvent:
    """An event in the account."""

    event: PlatformEvent
    owner: NameOwner | None  # by our name for it; None: it has none of this rig's
    destination: str = ""  # of the rig; empty: none is known
    by_key: bool = False  # the rig pushes with its key
    unasked: str = ""  # why its key could not be compared

    @property
    def open(self) -> bool:
        """Whether pushes are let in, or may be."""
        return self.event.state in (EventState.OPEN, EventState.LIVE, EventState.UNKNOWN)

    @property
    def ours(self) -> bool:
        """Whether it is this rig's."""
        return self.owner is not None or self.by_key


@dataclass
class EventAccount:
    """One platform of the rig, with the destinations that go there. Close it when done."""

    rig: Rig
    name: str
    title: str
    platform: Platform
    destinations: tuple[str, ...]
    keys: dict[str, Secret] = field(default_factory=dict)  # by destination, of those that are there

    def close(self) -> None:
        """Lets go of the platform."""
        self.platform.close()

    def held(self, *, keys: bool = True) -> list[HeldEvent]:
        """All its events. Raises PlatformError where they cannot all be told.

        ``keys``: the keys of open events without a name of ours are compared with the rig's.
        """
        out, asked = [], 0
        for event in self.platform.listed():
            owner = planning.owner_of(self.rig, event.ref)
            if owner is not None and owner.destination and owner.destination not in self.destinations:
                owner = None
            one = HeldEvent(event, owner, owner.destination if owner is not None else "")
            nameless = owner is None or not owner.destination
            if keys and nameless and one.open and asked < _MOST_KEYS:
                asked += 1
                one = self._by_key(one)
            elif keys and nameless and one.open:
                one = HeldEvent(event, owner, unasked="there are too many open events to ask for the key of each")
            out.append(one)
        return out

    def _by_key(self, one: HeldEvent) -> HeldEvent:
        """The same with the destination whose key it has."""
        try:
            ingest = self.platform.ingest(one.event)
        except DirektError as error:
            return HeldEvent(one.event, one.owner, unasked=str(error))
        given = {server.address for server in ingest.servers}
        alike = [name for name, key in self.keys.items() if key == ingest.key]
        exact = [name for name in alike if given & self._addresses(name)]
        found = (exact or alike or [""])[0]
        return HeldEvent(one.event, one.owner, found, bool(found))

    def _addresses(self, destination: str) -> set[str]:
        entry = self.rig.file.destinations[destination]
        return {str(address.parse(server)) for server in (entry.server, entry.backup) if server is not None}


def accounts(rig: Rig, destinations: Iterable[str], means: Means) -> tuple[list[EventAccount], dict[str, str]]:
    """The platforms of these destinations; and those that cannot be used, with the reason."""
    wanted: dict[str, list[str]] = {}
    for name in destinations:
        platform = rig.file.destinations[name].platform
        if platform is not None:
            wanted.setdefault(platform, []).append(name)
    found, wrong = [], {}
    for platform in wanted:
        every = tuple(n for n, entry in rig.file.destinations.items() if entry.platform == platform)
        try:
            opened = library.open_platform(rig, platform, means)
        except DirektError as error:
            wrong[platform] = str(error)
            continue
        keys = {}
        for name in every:
            with contextlib.suppress(DirektError):
                keys[name] = rig.key(rig.file.destinations[name], means.sources)
        found.append(EventAccount(rig, platform, _title(rig, wanted[platform][0], platform), opened, every, keys))
    return found, wrong


def _title(rig: Rig, destination: str, platform: str) -> str:
    with contextlib.suppress(DirektError):
        return rig.sheet(rig.file.destinations[destination]).name
    return platform
