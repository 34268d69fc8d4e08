"""Where a test signal goes: to an event that viewers do not see, made for it where the platform lets us make one.

An event that is on air for others than invited viewers gets no test signal unless that is said plainly.
"""

from __future__ import annotations

import contextlib
import datetime
import hashlib
from collections.abc import Iterator
from dataclasses import dataclass

from direkt.errors import DirektError, UnusableInput
from direkt.platform import library
from direkt.platform import planned as planning
from direkt.platform.event import Ingest, Platform, PlatformEvent, Seen
from direkt.platform.library import Means
from direkt.platform.planned import WantedEvent
from direkt.protocol import address
from direkt.protocol.address import ServerAddress
from direkt.rig.events import EventState
from direkt.rig.file import DestinationEntry, Rig
from direkt.secret import Secret
from direkt.store import event_memory
from direkt.work.live import event_at_platforms as air
from direkt.work.live.go_types import reason

_LENGTH = 3600.0  # s


@dataclass(slots=True)
class SignalTarget:
    """Where the signal goes."""

    server: ServerAddress
    key: Secret
    words: str  # which event it is, for people
    question: str = ""  # what a person has to answer with yes first
    platform: Platform | None = None
    event: PlatformEvent | None = None
    made: bool = False  # for this signal: it is taken away afterwards

    def seen(self) -> Seen | None:
        """What the ingest sees now; None: nobody tells. Raises PlatformError."""
        return self.platform.seen(self.event) if self.platform is not None and self.event is not None else None

    def close(self) -> str:
        """Takes away what was made for the signal; what is left of it, in words. Empty: nothing."""
        if self.platform is None:
            return ""
        try:
            if self.made and self.event is not None:
                found = self.platform.find(self.event.id)
                if found is not None and found.state is not EventState.CLOSED:
                    found = self.platform.finish(found)
                if found is not None:
                    self.platform.drop(found)
        except DirektError as error:
            return f"the test event could not be taken away: {reason(error)}"
        finally:
            self.platform.close()
        return ""


def place(rig: Rig, destination: str, means: Means, *, backup: bool, on_air: bool) -> SignalTarget:
    """Where a signal to a destination goes. Raises DirektError: for an event that is on air unless ``on_air`` says so, too."""
    entry = rig.destination(destination)
    server = entry.backup if backup else entry.server
    if server is None:
        raise UnusableInput(f"{destination} has no 'backup' server address in {rig.source}")
    running = list(_running(rig, destination, means))
    for name, audience, live in running:
        if live and audience != "invited" and not on_air:
            raise UnusableInput(
                f"the event {name} is on air at {destination}, and not for invited viewers only: a test signal would be seen, or push the real "
                f"one out; end it first (direkt stop {name}), or say --on-air"
            )
    if entry.platform is not None and not running:
        return _own_event(rig, destination, entry, means, backup=backup)
    key = rig.key(entry, means.sources)
    parsed = address.parse(server)
    if running:
        name, audience, live = running[0]
        who = {"everyone": "everyone", "link": "whoever has the link", "invited": "invited viewers"}[audience]
        state = "is on air" if live else "is open"
        question = (
            ""
            if not live or audience == "invited"
            else f"The event {name} {state} for {who}. Send the test signal there all the same?"
        )
        return SignalTarget(parsed, key, f"the real platform: the event {name}, which {state} for {who}", question)
    title = rig.sheet(entry).name
    return SignalTarget(
        parsed, key, f"the real platform: whatever event {title} has open for this key",
        f"Is the event at {title} closed to viewers, or open for invited ones only? The test signal goes to the real platform.",
    )  # fmt: skip


def _running(rig: Rig, destination: str, means: Means) -> Iterator[tuple[str, str, bool]]:
    """Events at the destination that were begun and are not over: name, audience now, and whether viewers get them."""
    for one in event_memory.every(rig.folder):
        if one.event not in rig.file.events or one.ended or not one.begun or destination not in one.places:
            continue
        planned = planning.by_mark(rig, one.event, one.mark)
        if planned is None:
            continue
        audience, live = planned.entry.audience, bool(one.on_air)
        if rig.file.destinations[destination].platform is not None:
            airings = air.gather(rig, planned, means)
            try:
                found = next((a.find() for a in airings if a.destination == destination), None)
            finally:
                air.close(airings)
            if found is None or found.state is EventState.CLOSED:
                continue
            audience, live = found.audience or audience, found.state is EventState.LIVE
        yield one.event, audience, live


def _own_event(rig: Rig, destination: str, entry: DestinationEntry, means: Means, *, backup: bool) -> SignalTarget:
    """An event for invited viewers, made for the signal alone."""
    assert entry.platform is not None
    platform = library.open_platform(rig, entry.platform, means)
    made: PlatformEvent | None = None
    try:
        now = datetime.datetime.fromtimestamp(means.wall(), datetime.UTC)
        audience = "invited" if "invited" in platform.facts.audiences else platform.facts.audiences[-1]
        fields = next(
            (
                e.fields
                for e in rig.file.events.values()
                if any(rig.file.feeds[f].destination == destination for f in e.feeds)
            ),
            {},
        )
        known = {name: value for name, value in fields.items() if name in platform.facts.fields}
        wanted = WantedEvent(
            "Test signal",
            "A test of the line; it shows a test card.",
            now,
            _LENGTH,
            audience,
            platform.facts.delays[0],
            "none",
            None,
            False,
            known,
        )
        if wrong := platform.facts.wrong(wanted):
            raise UnusableInput(f"no test event can be made at {destination}: {'; '.join(wrong)}")
        exact = hashlib.sha256(f"{rig.path}\0{destination}\0{now.isoformat()}".encode()).hexdigest()[:12]
        made = platform.make(f"test-signal-{exact}", wanted)
        made = platform.open(made)
        ingest = platform.ingest(made)
        server = _server(ingest, entry, backup=backup)
    except BaseException:
        with contextlib.suppress(DirektError):
            if made is not None:
                platform.drop(platform.finish(made))
        platform.close()
        raise
    who = "invited viewers" if audience == "invited" else audience
    return SignalTarget(
        server,
        ingest.key,
        f"the real platform: an event of its own for {who}, which is taken away afterwards",
        "",
        platform,
        made,
        True,
    )


def _server(ingest: Ingest, entry: DestinationEntry, *, backup: bool) -> ServerAddress:
    """The rig's address where the platform gives that out, else the platform's first. Raises UnusableInput."""
    given = ingest.addresses("backup" if backup else "primary")
    wanted = str(address.parse(entry.backup or "" if backup else entry.server))
    if not given:
        raise UnusableInput(
            "the platform gives out no backup server address" if backup else "the platform gives out no server address"
        )
    return address.parse(wanted if wanted in given else given[0])
