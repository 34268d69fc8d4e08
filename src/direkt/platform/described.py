"""A platform whose HTTP interface a platform file describes.

Such interfaces seldom let the client name an event. So a text of ours goes with it, and whether it is there already is looked
up before it is made, and again before a request whose answer was lost is repeated.
"""

from __future__ import annotations

import datetime
from collections.abc import Mapping

from direkt.device import words
from direkt.device.answers import Answered
from direkt.device.mapped import Mapped, filled
from direkt.device.model import BadAnswer, DeviceError, Refused
from direkt.parameters import Values
from direkt.platform.calls import Calls
from direkt.platform.interface import stamp
from direkt.platform.model import (
    CannotPlatform,
    Declined,
    EventState,
    Ingest,
    Input,
    PlatformError,
    PlatformEvent,
    Role,
    Seen,
    given_servers,
)
from direkt.platform.planned import Wanted
from direkt.platform.platformfile import PlatformFile, PlatformRequest
from direkt.secret import Secret


class DescribedPlatform:
    """Talks to one platform as its file says."""

    def __init__(self, name: str, file: PlatformFile, calls: Calls) -> None:
        self.name, self.facts, self._file, self._calls = name, file.facts(), file, calls
        self._mapped = Mapped(
            name, f"the platform file {file.title!r}", file.answers, file.coding, file.refusals, calls.raw, calls.read_json,
            calls.hidden,
        )  # fmt: skip

    def close(self) -> None:
        """Lets go of the connection."""
        self._calls.close()

    def view(self, address: str) -> bytes:
        """What a viewer's player would get."""
        return self._calls.view(address)

    def _ask(self, request: PlatformRequest, values: Mapping[str, object], *, needed: bool = True) -> Answered:
        entry = self._file.request(request)
        if entry is None:
            raise CannotPlatform(
                f"{self.name}: its platform file has no request {request!r}; do it on the platform's page"
            )
        try:
            return self._mapped.ask(entry, filled(entry.fields, values), {"id": values.get("id", "")}, needed=needed)
        except Refused as error:
            raise Declined(self.name, "; ".join(error.reasons.values()), error.reasons) from None
        except BadAnswer as error:
            raise PlatformError(str(error)) from None
        except DeviceError as error:
            raise PlatformError(str(error)) from None

    # Events

    def listed(self) -> list[PlatformEvent]:
        """The events that it lists."""
        assert self._file.event is not None
        return [self._event(item) for item in self._ask("list", {}).parts(self._file.event.list_)]

    def find(self, event: str) -> PlatformEvent | None:
        """The event that bears our name for it."""
        return next((one for one in self.listed() if one.told.get("ref") == event), None)

    def make(self, event: str, wanted: Wanted) -> PlatformEvent:
        """Makes it, unless it is there."""
        found = self.find(event)
        if found is not None:
            return found
        try:
            self._ask("make", {**self._values(wanted), "ref": event}, needed=False)
        except Declined:
            raise
        except PlatformError:
            if (found := self.find(event)) is not None:  # it was made all the same
                return found
            raise
        found = self.find(event)
        if found is None:
            raise PlatformError(f"{self.name} took the event and does not list it: look at its page")
        return found

    def change(self, known: PlatformEvent, wanted: Wanted) -> PlatformEvent:
        """Writes title, time and all else again; a platform that tells little cannot be compared with."""
        if "change" not in self._file.requests:
            return known
        self._ask("change", {**self._values(wanted), **_own(known)}, needed=False)
        return self._again(known)

    def open(self, known: PlatformEvent) -> PlatformEvent:
        """Lets pushes in; viewers wait, where the platform has a state for that."""
        now = self._again(known)
        return now if now.state is EventState.LIVE else self._move("open", now, EventState.OPEN)

    def air(self, known: PlatformEvent) -> PlatformEvent:
        """Gives viewers the stream; where the platform has no request for that, opening it did."""
        return self._move("air", known, EventState.LIVE) if "air" in self._file.requests else self._again(known)

    def finish(self, known: PlatformEvent) -> PlatformEvent:
        """Ends it."""
        return self._move("finish", known, EventState.CLOSED)

    def _move(self, request: PlatformRequest, known: PlatformEvent, state: EventState) -> PlatformEvent:
        if self._again(known).state is not state:
            self._ask(request, _own(known), needed=False)
        now = self._again(known)
        if now.state is not state:
            raise PlatformError(
                f"{self.name} still says {now.state.value} of the event after it was to be {state.value}"
            )
        return now

    def drop(self, known: PlatformEvent) -> None:
        """Takes it away."""
        if self.find(str(known.told.get("ref"))) is not None:
            self._ask("drop", _own(known), needed=False)

    def _again(self, known: PlatformEvent) -> PlatformEvent:
        found = self.find(str(known.told.get("ref")))
        if found is None:
            raise PlatformError(f"{self.name} does not list the event any more: look at its page")
        return found

    def _values(self, wanted: Wanted) -> dict[str, object]:
        end = wanted.start.astimezone(datetime.UTC) + datetime.timedelta(seconds=wanted.seconds)
        spoken = self._file.words
        return {
            "title": wanted.title, "description": wanted.description, "start": stamp(wanted.start),
            "start_unix": int(wanted.start.timestamp()), "end": stamp(end), "end_unix": int(end.timestamp()),
            "seconds": round(wanted.seconds), "minutes": round(wanted.seconds / 60),
            "audience": spoken.audience.get(wanted.audience, wanted.audience), "delay": spoken.delay.get(wanted.delay, wanted.delay),
            "projection": spoken.projection.get(wanted.projection, wanted.projection),
            "rewind": round(wanted.rewind or 0), "keep": wanted.keep,
            **{f"field_{name}": value for name, value in wanted.fields.items()},
        }  # fmt: skip

    def _event(self, item: Answered) -> PlatformEvent:
        places = self._file.event
        assert places is not None
        said = str(item.get(places.state))
        state = next(
            (s for s, theirs in places.states.items() if said.lower() in _listed(theirs)), None
        )  # fmt: skip
        if state is None:
            raise PlatformError(
                f"{self.name} says {said[:40]!r} of an event's state, which its platform file does not know"
            )

        def text(place: str | None) -> str:
            found = item.get(place) if place is not None else None
            return "" if found is None or isinstance(found, list | Mapping) else str(found)[:2000]

        told = {"ref": text(places.ref), "title": text(places.title)}
        return PlatformEvent(
            text(places.id), state, text(places.title), text(places.start), watch=_link(text(places.watch)),
            player=_link(text(places.player)), told=told,
        )  # fmt: skip

    # Its ingest

    def ingest(self, known: PlatformEvent) -> Ingest:
        """Server addresses and key."""
        return self._ingest(self._ask("ingest", _own(known)))

    def renew(self, known: PlatformEvent) -> Ingest:
        """Another key."""
        self._ask("renew", _own(known), needed=False)
        return self.ingest(known)

    def _ingest(self, answer: Answered) -> Ingest:
        places = self._file.ingest
        assert places is not None
        key = answer.get(places.key)
        if not isinstance(key, str) or not key:
            raise PlatformError(f"{self.name} tells no key for the event")
        secret = Secret(key)
        self._calls.hide(secret)
        told: tuple[tuple[Role, str | None], ...] = (("primary", places.server), ("backup", places.backup))
        pairs: list[tuple[object, Role]] = []
        for role, place in told:
            found = answer.get(place) if place is not None else None
            pairs += [(one, role) for one in (found if isinstance(found, list) else [found])]
        return Ingest(given_servers(self.name, pairs, secret), secret)

    def seen(self, known: PlatformEvent) -> Seen | None:
        """What its ingest sees; None where its file does not say how to ask."""
        places = self._file.seen
        if places is None:
            return None
        answer = self._ask("seen", _own(known))
        return Seen(
            tuple(self._input(item) for item in (answer.parts(places.list_) if places.list_ is not None else [answer]))
        )

    def _input(self, item: Answered) -> Input:
        places = self._file.seen
        assert places is not None
        said = item.get(places.arriving)
        arriving = str(said).lower() in _listed(places.words) if places.words else _is_yes(said)
        role: Role = "backup" if places.role is not None and item.get(places.role) == places.backup else "primary"
        words_of = item.get(places.complaints) if places.complaints is not None else None
        listed = words_of if isinstance(words_of, list) else [words_of] if words_of else []
        return Input(
            role, arriving, _plain(item, places.since), _is_yes(item.get(places.shown)) if places.shown is not None else False,
            self._values_of(item), health=_plain(item, places.health), complaints=tuple(str(word)[:300] for word in listed[:12]),
        )  # fmt: skip

    def _values_of(self, item: Answered) -> Values:
        out: Values = {}
        assert self._file.seen is not None
        rate = 0.0
        for name, entry in self._file.seen.values.items():
            parts = [item.get(place) for place in entry.places]
            raw: object = parts[0] if len(parts) == 1 else entry.join.join(str(part) for part in parts)
            if raw is None or None in parts:
                continue
            try:
                out[name] = words.ours(name, entry, raw, rate)
            except words.WordsError:
                continue
            if name == "video.frame_rate" and isinstance(out[name], int | float):
                rate = float(out[name])
        return out


def _own(known: PlatformEvent) -> dict[str, object]:
    return {"id": known.id, "ref": known.told.get("ref", "")}


def _listed(theirs: str | list[str]) -> list[str]:
    return [word.lower() for word in ([theirs] if isinstance(theirs, str) else theirs)]


def _plain(item: Answered, place: str | None) -> str:
    found = item.get(place) if place is not None else None
    return "" if found is None or isinstance(found, list | Mapping) else str(found)[:300]


def _is_yes(value: object) -> bool:
    if isinstance(value, str):
        return value.strip().lower() in ("yes", "true", "1", "on")
    return bool(value) if isinstance(value, bool | int | float) else False


def _link(text: str) -> str:
    return text if text.startswith(("https://", "http://")) and text.isprintable() and " " not in text else ""
