"""A platform whose HTTP interface a platform file describes.

Such interfaces seldom let the client name an event. So a text of ours goes with it, and whether it already exists is looked
up before it is made, and again before a request whose answer was lost is repeated.
"""

from __future__ import annotations

import contextlib
import datetime
import re
from collections.abc import Iterator, Mapping
from urllib.parse import urlencode

from direkt.described import words
from direkt.described.answers import Answered, JsonAnswer
from direkt.described.errors import ChangeRefused, DeviceError
from direkt.described.http import HttpAnswer
from direkt.described.requests import Mapped, filled
from direkt.parameters import Values
from direkt.platform.calls import Calls
from direkt.platform.event import (
    CannotPlatform,
    Declined,
    Ingest,
    Input,
    PlatformError,
    PlatformEvent,
    Role,
    Seen,
    given_servers,
)
from direkt.platform.interface import stamp
from direkt.platform.planned import WantedEvent, picture_kind, reference_in
from direkt.platform.platform_file import PlatformFile, PlatformRequest, StepEntry, UntilEntry
from direkt.rig.events import Audience, EventState
from direkt.rig.values import length_of
from direkt.secret import Secret

_POLL = 1.0  # s between looks while an event is on its way
_SETTLES = 10.0  # s that a step of an event may take where the file names no limit
_LISTED = 10.0  # s until an event that was made is listed
_MOST_PAGES = 200


class DescribedPlatform:
    """Talks to one platform as its file says."""

    def __init__(self, name: str, file: PlatformFile, calls: Calls) -> None:
        self.name, self.facts, self._file, self._calls = name, file.facts(), file, calls
        self._mapped = Mapped(
            name, f"the platform file {file.title!r}", file.answers, file.coding, file.refusals, calls.raw, calls.read_json,
            calls.hidden,
        )  # fmt: skip
        self._pictures: dict[str, str] = {}  # by event, the mark of the picture that was sent

    def close(self) -> None:
        """Lets go of the connection."""
        self._calls.close()

    def clock_ahead(self) -> float | None:
        """s by which its clock is ahead of this machine's."""
        return self._calls.clock_ahead

    def view(self, address: str) -> bytes:
        """What a viewer's player would get."""
        return self._calls.view(address)

    # Requests

    def _steps(self, request: PlatformRequest) -> list[StepEntry]:
        steps = self._file.steps(request)
        if not steps:
            raise CannotPlatform(
                f"{self.name}: its platform file has no request {request!r}; do it on the platform's page"
            )
        return steps

    def _do(
        self, request: PlatformRequest, values: Mapping[str, object], *, needed: bool = True, picture: bytes = b""
    ) -> Answered:  # fmt: skip
        """All requests of one thing, each with what those before it gave; the last one's answer."""
        known = dict(values)
        answer: Answered = JsonAnswer({})
        steps = self._steps(request)
        for n, step in enumerate(steps):
            if step.unless is not None and values.get(step.unless) not in (None, ""):
                continue
            last = n == len(steps) - 1
            answer = self._ask(step, known, needed=bool(step.take) or (needed and last), picture=picture if last else b"")
            if step.until is not None and step.until.at is not None:
                answer = self._until_it_says(step, step.until, known, answer)
            known |= self._taken(step.take, answer)
        return answer

    @staticmethod
    def _taken(places: Mapping[str, str], answer: Answered) -> dict[str, object]:
        found = {name: answer.get(place) for name, place in places.items()}
        return {name: "" if value is None else value for name, value in found.items()}

    def _ask(
        self, step: StepEntry, values: Mapping[str, object], *, needed: bool, more: str = "", picture: bytes = b""
    ) -> Answered:  # fmt: skip
        return self._answered(step, values, needed=needed, more=more, picture=picture)[0]

    def _answered(
        self, step: StepEntry, values: Mapping[str, object], *, needed: bool, more: str = "", picture: bytes = b""
    ) -> tuple[Answered, HttpAnswer]:  # fmt: skip
        """``more``: a query behind the path, as it is sent."""
        for name in re.findall(r"\{(\w+)\}", step.send.partition(" ")[2]):
            if values.get(name) in (None, ""):
                raise PlatformError(f"{self.name}: the event has no {name!r} for {step.send.partition(' ')[2]}: it is not whole, or the platform file does not fit")
        mark = "&" if "?" in step.send else "?"
        entry = step.model_copy(update={"send": step.send + mark + more.replace("{", "%7B").replace("}", "%7D")}) if more else step
        content = (picture, picture_kind(picture)) if picture else None
        with self._in_our_words():
            return self._mapped.answered(entry, filled(step.fields, values), values, needed=needed, content=content)

    @contextlib.contextmanager
    def _in_our_words(self) -> Iterator[None]:
        try:
            yield
        except ChangeRefused as error:
            raise Declined(self.name, "; ".join(error.reasons.values()), error.reasons) from None
        except DeviceError as error:
            raise PlatformError(str(error)) from None

    def _until_it_says(
        self, step: StepEntry, until: UntilEntry, values: Mapping[str, object], answer: Answered
    ) -> Answered:  # fmt: skip
        """Asks again until one of the words is there. Raises PlatformError."""
        assert until.at is not None
        limit, waited = length_of(until.limit), 0.0
        while True:
            said = _word(answer.get(until.at))
            if said.lower() in _listed(until.words):
                return answer
            if until.on_the_way and said.lower() not in _listed(until.on_the_way):
                raise PlatformError(
                    f"{self.name} says {said[:40]!r} where {' or '.join(until.words)} is waited for: look at its page"
                )
            if waited >= limit:
                raise PlatformError(f"{self.name} still says {said[:40]!r} after {limit:g} s: look at its page")
            self._calls.pause(_POLL)
            waited += _POLL
            answer = self._ask(step, values, needed=True)

    # Events

    def listed(self) -> list[PlatformEvent]:
        """The events that it lists, page by page, to the end."""
        return list(self._each())

    def _each(self) -> Iterator[PlatformEvent]:
        assert self._file.event is not None
        seen: set[str] = set()
        for step in self._steps("list"):
            for answer in self._pages(step):
                for item in answer.parts(self._file.event.list_):
                    event = self._event(item)
                    if event.id not in seen:
                        seen.add(event.id)
                        yield event

    def _pages(self, step: StepEntry) -> Iterator[Answered]:
        """Each page of a list. Raises PlatformError where it cannot be read to its end."""
        assert self._file.event is not None
        number = step.pages.first if step.pages is not None else 0
        more = urlencode({step.pages.number: number}) if step.pages is not None and step.pages.number else ""
        asked: set[str] = set()
        before: list[str] | None = None
        for _ in range(_MOST_PAGES):
            asked.add(f"{step.send} {more}")
            answer, raw = self._answered(step, {}, needed=True, more=more)
            yield answer
            ids = [_word(item.get(self._file.event.id)) for item in answer.parts(self._file.event.list_)]
            following = self._following(step, answer, raw, number, len(ids))
            if following is None:
                return
            step, more = following
            number += 1
            if f"{step.send} {more}" in asked or (ids and ids == before):
                raise PlatformError(f"{self.name} gives the same page of its events again: its list cannot be read to the end")
            before = ids
        raise PlatformError(f"{self.name} lists more than {_MOST_PAGES} pages of events: its list was not read to the end")

    def _following(
        self, step: StepEntry, answer: Answered, raw: HttpAnswer, number: int, count: int
    ) -> tuple[StepEntry, str] | None:  # fmt: skip
        """What asks for the next page; None: this was the last one."""
        linked = _next_link(raw)
        if linked:
            return step.model_copy(update={"send": f"GET {self._path(linked)}"}), ""
        pages = step.pages
        if pages is None:
            return None
        if pages.number:
            last = answer.get(pages.last) if pages.last is not None else None
            try:
                over = number >= int(str(last)) if last is not None else not count
            except ValueError:
                raise PlatformError(f"{self.name} says {last!r} for the number of its pages") from None
            return None if over else (step, urlencode({pages.number: number + 1}))
        found = answer.get(pages.next or "")
        if found in (None, "", False) or isinstance(found, list | Mapping):
            return None
        if pages.ask:
            return step, urlencode({pages.ask: str(found)})
        return step.model_copy(update={"send": f"GET {self._path(str(found))}"}), ""

    def _path(self, address: str) -> str:
        """The path of a page's address, which stays at this platform. Raises PlatformError."""
        path = self._calls.path_of(address)
        if path is None:
            raise PlatformError(f"{self.name} leads to another place for the rest of its events: its list cannot be read to the end")
        return path.replace("{", "%7B").replace("}", "%7D")

    def find(self, event: str) -> PlatformEvent | None:
        """The event that bears our name for it. Raises PlatformError where its state is not known here."""
        found = next((one for one in self._each() if one.ref == event), None)
        if found is not None and found.state is EventState.UNKNOWN:
            raise PlatformError(
                f"{self.name} says {found.word[:40]!r} of an event's state, which its platform file does not know"
            )
        return found

    def again(self, known: PlatformEvent) -> PlatformEvent | None:
        """The event by the platform's own name for it."""
        return next((one for one in self._each() if one.id == known.id), None)

    def make(self, event: str, wanted: WantedEvent) -> PlatformEvent:
        """Makes it, unless it is there; what of it is missing is made."""
        found = self.find(event)
        values = {**self._values(wanted), "ref": event}
        if found is None:
            try:
                self._do("make", values, needed=False)
            except Declined:
                raise
            except PlatformError:
                if self.find(event) is None:  # else the first of it was made all the same
                    raise
            found = self._listed_soon(event)
        lacking = [s for s in self._steps("make") if s.unless is not None and found.told.get(s.unless) in (None, "")]
        if lacking:
            self._go_on(values, found)
            found = self._listed_soon(event)
        return self._with_picture(found, wanted)

    def _go_on(self, values: Mapping[str, object], found: PlatformEvent) -> None:
        """What an event that was made before does not have yet."""
        known = {**values, **self._own(found)}
        for step in self._steps("make")[1:]:
            if step.unless is not None and found.told.get(step.unless) not in (None, ""):
                continue
            answer = self._ask(step, known, needed=bool(step.take))
            known |= self._taken(step.take, answer)

    def _listed_soon(self, event: str) -> PlatformEvent:
        waited = 0.0
        while True:
            found = self.find(event)
            if found is not None:
                return found
            if waited >= _LISTED:
                raise PlatformError(f"{self.name} took the event and does not list it: look at its page")
            self._calls.pause(_POLL)
            waited += _POLL

    def change(self, known: PlatformEvent, wanted: WantedEvent) -> PlatformEvent:
        """Writes title, time and all else again; a platform that tells little cannot be compared with."""
        if "change" in self._file.requests:
            self._do("change", {**self._values(wanted), **self._own(known)}, needed=False)
            now = self._again(known)
            if now.title and " ".join(now.title.split()) != wanted.title and self._file.fills("title", "change"):
                raise PlatformError(f"{self.name} took a change of the event and still calls it {now.title!r}: look at its page")
            if now.audience not in (None, wanted.audience) and self.facts.widens:
                raise PlatformError(f"{self.name} took a change of the event and still has it for {now.audience}: look at its page")
            known = now
        return self._with_picture(known, wanted)

    def _with_picture(self, known: PlatformEvent, wanted: WantedEvent) -> PlatformEvent:
        if wanted.picture and "picture" in self._file.requests and self._pictures.get(known.id) != wanted.picture_mark:
            self._do("picture", self._own(known), needed=False, picture=wanted.picture)
            self._pictures[known.id] = wanted.picture_mark
        return known

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
        """One step of an event's life, and the wait until the platform says that it is there. Raises PlatformError."""
        until = next((s.until for s in self._steps(request) if s.until is not None and s.until.at is None), None)
        way = _listed(until.on_the_way) if until is not None else []
        now = self._again(known)
        if now.state is not state and now.word.lower() not in way:
            self._do(request, self._own(known), needed=False)
            now = self._again(known)
        limit, waited = length_of(until.limit) if until is not None else _SETTLES, 0.0
        while now.state is not state and not (state is EventState.OPEN and now.state is EventState.LIVE):
            if waited >= limit or now.state is EventState.CLOSED:
                raise PlatformError(
                    f"{self.name} still says {now.word or now.state.value!r} of the event {waited:.0f} s after it was to be {state.value}"
                )
            self._calls.pause(_POLL)
            waited += _POLL
            now = self._again(known)
        return now

    def drop(self, known: PlatformEvent) -> None:
        """Takes it away."""
        if self.again(known) is None:
            return
        self._do("drop", self._own(known), needed=False)
        left = self.again(known)
        if left is not None and left.state in (EventState.OPEN, EventState.LIVE):
            raise PlatformError(f"{self.name} took the request and still lists the event: look at its page")

    def _again(self, known: PlatformEvent) -> PlatformEvent:
        found = self.again(known)
        if found is None:
            raise PlatformError(f"{self.name} does not list the event any more: look at its page")
        return found

    def _own(self, known: PlatformEvent) -> dict[str, object]:
        return {**known.told, "id": known.id, "ref": known.ref}

    def _values(self, wanted: WantedEvent) -> dict[str, object]:
        end = wanted.start.astimezone(datetime.UTC) + datetime.timedelta(seconds=wanted.seconds)
        spoken = self._file.words
        return {
            "title": wanted.title, "description": wanted.description, "start": stamp(wanted.start),
            "start_unix": int(wanted.start.timestamp()), "end": stamp(end), "end_unix": int(end.timestamp()),
            "seconds": round(wanted.seconds), "minutes": round(wanted.seconds / 60),
            "audience": spoken.audience.get(wanted.audience, wanted.audience), "delay": spoken.delay.get(wanted.delay, wanted.delay),
            "projection": spoken.projection.get(wanted.projection, wanted.projection),
            "rewind": round(wanted.rewind or 0), "keep": wanted.keep,
            **{f"field_{name}": value for name, value in self.facts.settled(wanted.fields).items()},
        }  # fmt: skip

    def _event(self, item: Answered) -> PlatformEvent:
        places = self._file.event
        assert places is not None
        said = _word(item.get(places.state))

        def text(place: str | None) -> str:
            found = item.get(place) if place is not None else None
            return "" if found is None or isinstance(found, list | Mapping) else str(found)[:2000]

        title, ref = text(places.title), text(places.ref)
        more = {name: "" if (found := item.get(place)) is None else found for name, place in places.take.items()}
        return PlatformEvent(
            text(places.id), self._state(said), title, text(places.start), self._audience(text(places.audience)),
            watch=_link(text(places.watch)), player=_link(text(places.player)), ref=reference_in(ref) or ref, word=said, told=more,
        )  # fmt: skip

    def _state(self, said: str) -> EventState:
        """What the platform's word means; a word for what takes a while is the state before it."""
        assert self._file.event is not None
        for state, theirs in self._file.event.states.items():
            if said.lower() in _listed(theirs):
                # where nothing lets viewers in, opening it did
                one_step = state is EventState.OPEN and "air" not in self._file.requests and EventState.LIVE not in self._file.event.states
                return EventState.LIVE if one_step else state
        before: tuple[tuple[PlatformRequest, EventState], ...] = (
            ("open", EventState.MADE), ("air", EventState.OPEN), ("finish", EventState.LIVE),
        )  # fmt: skip
        for request, state in before:
            for step in self._file.steps(request):
                if step.until is not None and step.until.at is None and said.lower() in _listed(step.until.on_the_way):
                    return state
        return EventState.UNKNOWN

    def _audience(self, said: str) -> Audience | None:
        theirs = self._file.words.audience
        names: tuple[Audience, ...] = ("everyone", "link", "invited")
        return next((a for a in names if said and said.lower() == str(theirs.get(a, a)).lower()), None)

    # Its ingest

    def ingest(self, known: PlatformEvent) -> Ingest:
        """Server addresses and key."""
        return self._ingest(self._do("ingest", self._own(known)))

    def renew(self, known: PlatformEvent) -> Ingest:
        """Another key."""
        old = self.ingest(known)
        self._do("renew", self._own(known), needed=False)
        new = self.ingest(known)
        if new.key == old.key:
            raise PlatformError(f"{self.name} took the request for a new key, and the key is still the old one: look at its page")
        return new

    def _ingest(self, answer: Answered) -> Ingest:
        places = self._file.ingest
        assert places is not None
        key = answer.get(places.key)
        if not isinstance(key, str) or not key:
            raise PlatformError(f"{self.name} reports no key for the event")
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
        answer = self._do("seen", self._own(known))
        if places.list_ is None:
            return Seen((self._input(answer),), whole=False)
        return Seen(tuple(self._input(item) for item in answer.parts(places.list_)), whole=places.unlisted == "nothing")

    def _input(self, item: Answered) -> Input:
        places = self._file.seen
        assert places is not None
        said = item.get(places.arriving)
        arriving = None if said is None else _means_yes(said, places.words)
        shown = item.get(places.shown) if places.shown is not None else None
        role: Role = "backup" if places.role is not None and item.get(places.role) == places.backup else "primary"
        words_of = item.get(places.complaints) if places.complaints is not None else None
        listed = words_of if isinstance(words_of, list) else [words_of] if words_of else []
        return Input(
            role, arriving, _plain(item, places.since), None if shown is None else _means_yes(shown, places.shown_words),
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


def _next_link(answer: HttpAnswer) -> str:
    """The next page's address in a Link header (RFC 8288, 3); empty: there is none."""
    for part in re.split(r",(?=\s*<)", ", ".join(answer.headers.get_list("link"))):
        match = re.match(r"\s*<([^>]*)>\s*(.*)", part)
        if match is not None and re.search(r';\s*rel\s*=\s*(?:"[^"]*\bnext\b[^"]*"|next\b)', f";{match[2].lstrip(';')}", re.IGNORECASE):
            return match[1]
    return ""


def _word(value: object) -> str:
    """A word of the platform's; yes and no as JSON has them."""
    return str(value).lower() if isinstance(value, bool) else "" if value is None else str(value)


def _means_yes(value: object, words_of: list[str]) -> bool:
    return _word(value).lower() in _listed(words_of) if words_of else _is_yes(value)


def _listed(theirs: str | list[str]) -> list[str]:
    return [word.lower() for word in ([theirs] if isinstance(theirs, str) else theirs)]


def _plain(item: Answered, place: str | None) -> str:
    found = item.get(place) if place is not None else None
    return "" if found is None or isinstance(found, list | Mapping) else str(found)[:300]


def _is_yes(value: object) -> bool:
    if isinstance(value, str):
        text = value.strip().lower()
        return text in ("yes", "true", "on") or (text.replace(".", "", 1).isdigit() and float(text) > 0)
    return bool(value) if isinstance(value, bool | int | float) else False


def _link(text: str) -> str:
    return text if text.startswith(("https://", "http://")) and text.isprintable() and " " not in text else ""
