"""A destination without an interface: what Direkt would do, a person does, and says so; what they said is remembered."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from direkt.platform.event import CannotPlatform, Ingest, IngestServer, PlatformEvent, PlatformFacts, Seen
from direkt.platform.planned import PlannedEvent, WantedEvent
from direkt.rig.events import EventState
from direkt.secret import Secret
from direkt.store import event_memory


class HandPlatform:
    """One event at one destination, as a person says that it stands there. Its methods only remember: ask the person first."""

    def __init__(
        self, title: str, folder: Path, planned: PlannedEvent, destination: str, servers: tuple[IngestServer, ...],
        key: Callable[[], Secret],
    ) -> None:  # fmt: skip
        self.name, self.facts = title, PlatformFacts(title, tells_ingest=False)
        self._folder, self._planned, self._destination, self._servers, self._key = (
            folder,
            planned,
            destination,
            servers,
            key,
        )

    def close(self) -> None:
        """There is nothing to let go of."""

    def clock_ahead(self) -> float | None:
        """Nobody tells."""
        return None

    def view(self, address: str) -> bytes:
        """Raises CannotPlatform."""
        raise CannotPlatform(f"look at {address} yourself")

    def _event(self, place: event_memory.DestinationMemory) -> PlatformEvent | None:
        state = None if place.state == "none" else place.state
        return PlatformEvent(self._destination, state, watch=place.watch) if state is not None else None

    def _now(self) -> event_memory.DestinationMemory:
        return event_memory.read(self._folder, self._planned.name, self._planned.mark).place(self._destination)

    def _said(self, state: EventState) -> PlatformEvent:
        now = event_memory.change_place(
            self._folder, self._planned.name, self._planned.mark, self._destination,
            lambda place: place.model_copy(update={"state": state}),
        )  # fmt: skip
        found = self._event(now.place(self._destination))
        assert found is not None
        return found

    def find(self, event: str) -> PlatformEvent | None:
        """As the person said last."""
        return self._event(self._now())

    def again(self, known: PlatformEvent) -> PlatformEvent | None:
        """As the person said last."""
        return self.find("")

    def listed(self) -> list[PlatformEvent]:
        """What is remembered."""
        found = self.find("")
        return [found] if found is not None else []

    def make(self, event: str, wanted: WantedEvent) -> PlatformEvent:
        """The person made it."""
        return self.find(event) or self._said(EventState.MADE)

    def change(self, known: PlatformEvent, wanted: WantedEvent) -> PlatformEvent:
        """Nothing can be compared."""
        return known

    def open(self, known: PlatformEvent) -> PlatformEvent:
        """The person opened it."""
        return known if known.state is EventState.LIVE else self._said(EventState.OPEN)

    def air(self, known: PlatformEvent) -> PlatformEvent:
        """The person let viewers in."""
        return self._said(EventState.LIVE)

    def finish(self, known: PlatformEvent) -> PlatformEvent:
        """The person ended it."""
        return self._said(EventState.CLOSED)

    def drop(self, known: PlatformEvent) -> None:
        """The person took it away."""
        event_memory.change_place(
            self._folder, self._planned.name, self._planned.mark, self._destination, lambda _: event_memory.DestinationMemory()
        )

    def ingest(self, known: PlatformEvent) -> Ingest:
        """As the rig has it."""
        return Ingest(self._servers, self._key())

    def renew(self, known: PlatformEvent) -> Ingest:
        """Raises CannotPlatform."""
        raise CannotPlatform(f"get a new key at {self.name}, then: direkt key renew {self._destination}")

    def seen(self, known: PlatformEvent) -> Seen | None:
        """Nobody tells."""
        return None
