"""The event interface: Direkt's own small open standard for events at a platform, HTTP and JSON. docs/events.md teaches it,
docs/event-interface.openapi.yaml is its exact form.

Events are named by the client and put where their name says (RFC 9110, 9.3.4), so that a request that is sent twice makes one
event. A change names the version that it changes (RFC 9110, 13.1.1), so that one that comes late changes nothing.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping
from urllib.parse import quote, urlencode

from direkt import parameters
from direkt.parameters import ParameterError, Values
from direkt.platform.calls import Calls, PlatformAnswer, as_json
from direkt.platform.event import (
    Changed,
    Declined,
    Ingest,
    Input,
    InputGap,
    NoSuchEvent,
    PlatformError,
    PlatformEvent,
    PlatformFacts,
    Role,
    Seen,
    differences,
    given_servers,
)
from direkt.platform.planned import WantedEvent, picture_kind
from direkt.rig.events import Audience, Delay, EventState
from direkt.secret import Secret

_MOST_PAGES = 200
_MOST_INPUTS = 16
_POLL, _SETTLES = 1.0, 10.0  # s between looks while an event is on its way, and for how long
_MOST_WORDS = 12  # complaints
_MOST_GAPS = 100
_AUDIENCES: tuple[Audience, ...] = ("everyone", "link", "invited")
_DELAYS: tuple[Delay, ...] = ("usual", "short", "shortest")


def body_of(wanted: WantedEvent) -> dict[str, object]:
    """An event as the interface writes it."""
    return {
        "title": wanted.title, "description": wanted.description, "start": stamp(wanted.start), "length": round(wanted.seconds),
        "audience": wanted.audience, "delay": wanted.delay, "projection": wanted.projection,
        "rewind": round(wanted.rewind) if wanted.rewind is not None else None, "keep": wanted.keep, "fields": dict(wanted.fields),
    }  # fmt: skip


def stamp(moment: datetime.datetime) -> str:
    """RFC 3339, in UTC, to the second."""
    return moment.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


class InterfacePlatform:
    """A platform that speaks the event interface."""

    def __init__(self, name: str, calls: Calls, facts: PlatformFacts) -> None:
        self.name, self.facts, self._calls = name, facts, calls

    def close(self) -> None:
        """Lets go of the connection."""
        self._calls.close()

    def clock_ahead(self) -> float | None:
        """s by which its clock is ahead of this machine's."""
        return self._calls.clock_ahead

    def view(self, address: str) -> bytes:
        """What a viewer's player would get."""
        return self._calls.view(address)

    # Events

    def find(self, event: str) -> PlatformEvent | None:
        """The event; None where there is none of this name."""
        try:
            found = self._event(self._calls.ask("GET", _place(event)))
        except NoSuchEvent:
            return None
        if found.state is EventState.UNKNOWN:
            raise PlatformError(f"{self.name} says {found.word!r} of an event's state, which is not a word of the event interface")
        return found

    def again(self, known: PlatformEvent) -> PlatformEvent | None:
        """The event as it is now."""
        return self.find(known.id)

    def listed(self) -> list[PlatformEvent]:
        """All events, page by page, to the end."""
        out: list[PlatformEvent] = []
        after, seen = "", set()
        for _ in range(_MOST_PAGES):
            query = urlencode({"limit": 50, **({"after": after} if after else {})})
            page = self._calls.ask("GET", f"/events?{query}").mapping(self.name)
            events = page.get("events")
            for item in events if isinstance(events, list) else []:
                if isinstance(item, Mapping):
                    out.append(self._event(PlatformAnswer(item)))
            following = page.get("next")
            if not isinstance(following, str) or not following:
                return out
            if following in seen:
                raise PlatformError(f"{self.name} gives the same page of its events again: its list cannot be read to the end")
            seen.add(following)
            after = following
        raise PlatformError(f"{self.name} lists more than {_MOST_PAGES} pages of events: its list was not read to the end")

    def make(self, event: str, wanted: WantedEvent) -> PlatformEvent:
        """Makes it; one that already exists is taken as it is, for change() to look at."""
        body = as_json(self._body(wanted))
        try:
            made = self._event(self._calls.ask("PUT", _place(event), body, new=True))
        except Changed:  # it is there: made before, or by the same request sent twice
            found = self.find(event)
            if found is None:
                raise
            made = found
        return self._with_picture(made, wanted)

    def _body(self, wanted: WantedEvent) -> dict[str, object]:
        return body_of(wanted) | {"fields": self.facts.settled(wanted.fields)}

    def change(self, known: PlatformEvent, wanted: WantedEvent) -> PlatformEvent:
        """Writes what differs."""
        body = self._body(wanted)
        if differences(known, body):
            known = self._settled(
                known.id, lambda: self._calls.ask("PUT", _place(known.id), as_json(body), version=known.version),
                lambda found: not differences(found, body),
            )  # fmt: skip
        return self._with_picture(known, wanted)

    def _settled(self, event: str, ask: Callable[[], PlatformAnswer], done: Callable[[PlatformEvent], bool]) -> PlatformEvent:
        """The event after a change. Where it is said to have changed meanwhile, perhaps by this very request, sent twice.

        Raises Changed where it is not as it should be.
        """
        try:
            return self._event(ask())
        except Changed:
            found = self.find(event)
            if found is None or not done(found):
                raise
            return found

    def _with_picture(self, known: PlatformEvent, wanted: WantedEvent) -> PlatformEvent:
        if not wanted.picture or known.told.get("picture") == wanted.picture_mark:
            return known
        kind = picture_kind(wanted.picture)
        return self._settled(
            known.id, lambda: self._calls.ask("PUT", _place(known.id, "picture"), wanted.picture, kind, version=known.version),
            lambda found: found.told.get("picture") == wanted.picture_mark,
        )  # fmt: skip

    def open(self, known: PlatformEvent) -> PlatformEvent:
        """Lets pushes in; viewers wait."""
        return known if known.state is EventState.LIVE else self._move(known, EventState.OPEN)

    def air(self, known: PlatformEvent) -> PlatformEvent:
        """Gives viewers the stream."""
        return self._move(known, EventState.LIVE)

    def finish(self, known: PlatformEvent) -> PlatformEvent:
        """Ends it for viewers."""
        return self._move(known, EventState.CLOSED)

    def _move(self, known: PlatformEvent, state: EventState) -> PlatformEvent:
        if known.state is state:
            return known
        body = as_json({"state": state.value})
        now = self._settled(
            known.id, lambda: self._calls.ask("PUT", _place(known.id, "state"), body, version=known.version),
            lambda found: found.state is state,
        )  # fmt: skip
        waited = 0.0
        while now.state is not state:
            if waited >= _SETTLES:
                raise PlatformError(f"{self.name} still says {now.word!r} of the event {waited:.0f} s after it was to be {state.value}")
            self._calls.pause(_POLL)
            waited += _POLL
            now = self.find(known.id) or now
        return now

    def drop(self, known: PlatformEvent) -> None:
        """Takes it away."""
        try:
            self._calls.ask("DELETE", _place(known.id), version=known.version)
        except NoSuchEvent:
            return
        except Changed:
            if self.find(known.id) is not None:
                raise

    # Its ingest

    def ingest(self, known: PlatformEvent) -> Ingest:
        """Server addresses and key."""
        return self._ingest(self._calls.ask("GET", _place(known.id, "ingest")))

    def renew(self, known: PlatformEvent) -> Ingest:
        """Another key. Where the answer is lost, the key that is there now is the new one."""
        old = self.ingest(known)
        try:
            return self._ingest(self._calls.ask("POST", _place(known.id, "ingest/renewal"), version=old.version))
        except Changed:
            now = self.ingest(known)
            if now.key == old.key:
                raise
            return now

    def _ingest(self, told: PlatformAnswer) -> Ingest:
        data = told.mapping(self.name)
        key, listed = data.get("key"), data.get("servers")
        if not isinstance(key, str) or not key or not isinstance(listed, list):
            raise PlatformError(f"{self.name} reports neither key nor server addresses for the event")
        secret = Secret(key)
        self._calls.hide(secret)
        pairs: list[tuple[object, Role]] = [
            (item.get("address"), "backup" if item.get("role") == "backup" else "primary")
            for item in listed[:_MOST_INPUTS]
            if isinstance(item, Mapping)
        ]
        return Ingest(given_servers(self.name, pairs, secret), secret, told.version)

    def seen(self, known: PlatformEvent) -> Seen | None:
        """What its ingest sees."""
        try:
            data = self._calls.ask("GET", _place(known.id, "arriving")).mapping(self.name)
        except Declined:
            return None
        inputs = data.get("inputs")
        viewers = data.get("viewers")
        return Seen(
            tuple(_input(item) for item in (inputs if isinstance(inputs, list) else [])[:_MOST_INPUTS] if isinstance(item, Mapping)),
            viewers if isinstance(viewers, int) and not isinstance(viewers, bool) else None,
        )  # fmt: skip

    def _event(self, told: PlatformAnswer) -> PlatformEvent:
        data = told.mapping(self.name)
        word = data.get("state")
        if not isinstance(data.get("id"), str):
            raise PlatformError(f"{self.name} lists an event without 'id'")
        state = next((s for s in EventState if s.value == word), EventState.UNKNOWN)
        audience, delay = data.get("audience"), data.get("delay")
        picture = data.get("picture")
        return PlatformEvent(
            str(data["id"]), state, _text(data, "title"), _text(data, "start"),
            next((a for a in _AUDIENCES if a == audience), None), next((d for d in _DELAYS if d == delay), None),
            _text(data, "projection") or None, _url(data, "watch"), _url(data, "player"),
            told.version or _text(data, "version"), _text(data, "closed_because"), str(data["id"]), str(word)[:40],
            {**data, "picture": picture or ""},
        )  # fmt: skip


def _place(event: str, part: str = "") -> str:
    return f"/events/{quote(event, safe='')}" + (f"/{part}" if part else "")


def _text(data: Mapping[str, object], name: str) -> str:
    value = data.get(name)
    return value[:2000] if isinstance(value, str) else ""


def _url(data: Mapping[str, object], name: str) -> str:
    """An address for people's browsers; nothing else becomes a link or a picture code."""
    text = _text(data, name)
    return text if text.startswith(("https://", "http://")) and text.isprintable() and " " not in text else ""


def _number(value: object) -> float:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else 0.0


def _yes_or_no(value: object) -> bool | None:
    """None: it is not told."""
    return value if isinstance(value, bool) else None


def _input(item: Mapping[str, object]) -> Input:
    role: Role = "backup" if item.get("role") == "backup" else "primary"
    words, gaps = item.get("complaints"), item.get("gaps")
    told = [g for g in (gaps if isinstance(gaps, list) else [])[-_MOST_GAPS:] if isinstance(g, Mapping)]
    return Input(
        role, _yes_or_no(item.get("arriving")), _text(item, "since"), _yes_or_no(item.get("shown")), values_of(item.get("values")),
        tuple(InputGap(_text(gap, "began"), _number(gap.get("seconds"))) for gap in told), _text(item, "health"),
        tuple(str(word)[:300] for word in (words if isinstance(words, list) else [])[:_MOST_WORDS] if isinstance(word, str)),
    )  # fmt: skip


def values_of(told: object) -> Values:
    """Values by our parameters' names; what is none of them, or no value of it, is passed over."""
    out: Values = {}
    for name, value in told.items() if isinstance(told, Mapping) else ():
        try:
            out[str(name)] = parameters.clean(str(name), value)
        except ParameterError:
            continue
    return out
