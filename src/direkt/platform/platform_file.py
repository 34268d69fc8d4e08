"""The platform file: what is known of a platform, and, where it does not speak the event interface, its own HTTP interface as data.

docs/events.md teaches it. Requests and places are written as in driver files.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterator
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Literal
from urllib.parse import urlsplit

from pydantic import Field, field_validator, model_validator

from direkt import documents, parameters
from direkt.described import answers
from direkt.described.answers import Coding, Shape
from direkt.described.mistakes import wrong_fields, wrong_request
from direkt.described.requests import RefusalEntries, RequestEntry
from direkt.described.words import UNITS, SettingEntry
from direkt.documents import Document, DocumentError, Problem, Strict
from direkt.parameters import ParameterError
from direkt.platform.event import FieldSpec, Part, PlatformFacts
from direkt.rig.events import Audience, Delay, EventState, FieldValue, Projection
from direkt.rig.values import length_of

PlatformRequest = Literal[
    "list", "make", "change", "picture", "open", "air", "finish", "drop", "ingest", "renew", "seen"
]
_WAITS = ("open", "air", "finish")  # requests after which an event may take a while
_NEEDED: tuple[PlatformRequest, ...] = ("list", "make", "open", "finish", "ingest")
_ENDING = ".yaml"
_LONGEST_WAIT = 600.0  # s
FILLED = {
    "id", "ref", "title", "description", "start", "start_unix", "end", "end_unix", "seconds", "minutes", "audience", "delay",
    "projection", "rewind", "keep",
}  # fmt: skip


class FieldEntry(Strict):
    """A declaration or another field that the platform asks for."""

    title: str
    choices: list[FieldValue] = []
    needed: bool = False


class PagesEntry(Strict):
    """How a long list goes on. Pages that a Link header names (RFC 8288, rel=next) are always followed."""

    next: str | None = None  # where the next page's address, or what leads to it, stands
    ask: str = ""  # the query's name for what leads to the next page; none: an address stands there
    number: str = ""  # the query's name for the number of a page
    first: int = Field(default=1, ge=0, le=1)
    last: str | None = None  # where the number of pages stands; none: a page without events is the last

    @model_validator(mode="after")
    def _one(self) -> PagesEntry:
        if (self.next is not None) == bool(self.number):
            raise ValueError("expected 'next' (with 'ask' for a cursor), or 'number'")
        return self


class UntilEntry(Strict):
    """What is waited for after a request."""

    at: str | None = None  # a place in this request's answer, which is asked for again; None: the event's own state
    words: list[str] = []  # those at the place that end the wait
    on_the_way: list[str] = []  # the platform's own words for what takes a while
    limit: str = "60s"

    @field_validator("limit")
    @classmethod
    def _limit(cls, value: str) -> str:
        if length_of(value) > _LONGEST_WAIT:
            raise ValueError(f"at most {_LONGEST_WAIT / 60:g} min are waited")
        return value

    @model_validator(mode="after")
    def _whole(self) -> UntilEntry:
        if (self.at is not None) != bool(self.words):
            raise ValueError("'at' (a place) and 'words' (those that end the wait) belong together")
        return self


class StepEntry(RequestEntry):
    """One request of several that make one thing."""

    take: dict[str, str] = {}  # names for the requests behind it, and where in its answer they stand
    unless: str | None = None  # left out where the event has this already: a name under event.take
    until: UntilEntry | None = None
    pages: PagesEntry | None = None  # of 'list'


class PlatformSignIn(Strict):
    """Where a person signs in (RFC 8628), where the platform does not tell that by itself (RFC 8414)."""

    device: str  # the address at which a code is asked for
    token: str  # and that at which tokens are given out
    scopes: list[str] = ["events"]

    @field_validator("device", "token")
    @classmethod
    def _address(cls, value: str) -> str:
        parts = urlsplit(value)
        local = parts.hostname in ("127.0.0.1", "::1", "localhost")
        if not parts.hostname or parts.scheme not in (("https", "http") if local else ("https",)) or "@" in parts.netloc:
            raise ValueError(f"expected an address like https://sign-in.tarnlight.example/device, got {value!r}")
        return value


class EventPlaces(Strict):
    """Where an event's parts stand in an answer."""

    list_: str = Field(default="", alias="list")  # of the answer to 'list': where the events are
    id: str
    ref: str  # a text of ours that the platform keeps: by it an event is found again
    state: str
    states: dict[EventState, str | list[str]]  # the platform's words
    title: str | None = None
    start: str | None = None
    watch: str | None = None
    player: str | None = None
    audience: str | None = None
    take: dict[str, str] = {}  # names to fill in, and where in an event they stand


class IngestPlaces(Strict):
    """Where server addresses and key stand."""

    server: str
    backup: str | None = None
    key: str


class SeenPlaces(Strict):
    """Where the platform tells what arrives."""

    list_: str | None = Field(default=None, alias="list")  # None: the answer is about the one push
    role: str | None = None
    backup: str | None = None  # the word for the backup
    arriving: str
    words: list[str] = []  # those that mean that it arrives; none: yes, true or a number above 0
    unlisted: Literal["nothing", "not told"] = "not told"  # what it means that a push is not in the list
    since: str | None = None
    shown: str | None = None
    shown_words: list[str] = []  # those that mean that viewers get it; none: yes, true or a number above 0
    health: str | None = None
    complaints: str | None = None
    values: dict[str, SettingEntry] = {}


class PlatformWords(Strict):
    """The platform's words for ours."""

    audience: dict[Audience, FieldValue] = {}
    delay: dict[Delay, FieldValue] = {}
    projection: dict[Projection, FieldValue] = {}


class PlatformFile(Strict):
    """A platform file."""

    schema_: Literal["direkt.platform/1"] = Field(alias="schema")
    kind: Literal["event-interface", "http"]
    title: str
    fields: dict[str, FieldEntry] = {}
    audiences: list[Audience] = ["everyone", "link", "invited"]
    delays: list[Delay] = ["usual", "short", "shortest"]
    pauses: bool = True  # an event stays open when its push stops
    answers: Shape = "json"
    coding: Coding = "json"
    requests: dict[PlatformRequest, str | StepEntry | list[str | StepEntry]] = {}
    event: EventPlaces | None = None
    ingest: IngestPlaces | None = None
    seen: SeenPlaces | None = None
    words: PlatformWords = PlatformWords()
    refusals: RefusalEntries | None = None
    sign_in: PlatformSignIn | None = None
    title_length: int | None = Field(default=None, ge=1, le=10_000)  # characters, at the most
    without: list[Part] | None = None  # parts of an event that it does not take; None: those that no request fills in

    def steps(self, name: PlatformRequest) -> list[StepEntry]:
        """What is sent for one thing, in its order; empty where there is none."""
        found = self.requests.get(name, [])
        return [StepEntry(send=one) if isinstance(one, str) else one for one in (found if isinstance(found, list) else [found])]

    def fills(self, name: str, *requests: PlatformRequest) -> bool:
        """Whether one of these requests sends this part of an event."""
        texts = [text for r in requests for step in self.steps(r) for text in (step.send, *step.fields.values())]
        return any(f"{{{name}}}" in text for text in texts if isinstance(text, str))

    def facts(self) -> PlatformFacts:
        """What is known before it is asked."""
        specs = {name: FieldSpec(name, f.title, tuple(f.choices), f.needed) for name, f in self.fields.items()}
        if self.kind != "http":
            return PlatformFacts(
                self.title, specs, tuple(self.audiences), tuple(self.delays), self.pauses, title_length=self.title_length,
                without=tuple(self.without or ()),
            )  # fmt: skip
        filled_in: tuple[Part, ...] = ("keep", "rewind", "projection", "description")
        unknown: list[Part] = [part for part in filled_in if not self.fills(part, "make", "change")]
        if "picture" not in self.requests:
            unknown.append("picture")
        return PlatformFacts(
            self.title, specs, tuple(self.audiences), tuple(self.delays), self.pauses, "seen" in self.requests,
            self.fills("audience", "change"), self.title_length,
            tuple(self.without if self.without is not None else unknown),
        )  # fmt: skip


@cache
def shipped() -> tuple[str, ...]:
    """The names of the platform files that ship with Direkt."""
    folder = resources.files("direkt.platform") / "platforms"
    return tuple(sorted(entry.name.removesuffix(_ENDING) for entry in folder.iterdir() if entry.name.endswith(_ENDING)))


def load(name: str, folder: Path | None = None) -> PlatformFile:
    """A platform file, checked: a shipped one by name, or a file (relative to ``folder``). Raises DocumentError."""
    document = _document(name, folder)
    file = documents.check(document, PlatformFile)
    problems = [Problem(document.line(path), f"{'.'.join(map(str, path))}: {text}") for path, text in _wrong(file)]
    if problems:
        raise DocumentError(document.source, problems)
    return file


def _document(name: str, folder: Path | None) -> Document:
    if name in shipped():
        text = (resources.files("direkt.platform") / "platforms" / f"{name}{_ENDING}").read_text("utf-8")
        return documents.parse(text, f"{name}{_ENDING}")
    if name.endswith((_ENDING, ".yml")):
        return documents.read(folder / name if folder is not None else Path(name), name)
    near = difflib.get_close_matches(name, shipped(), n=1)
    hint = f"did you mean {near[0]}?" if near else f"there is {', '.join(shipped())}; a file is named by its path"
    raise DocumentError(name, [Problem(0, f"no platform file of this name; {hint}")])


Wrong = Iterator[tuple[list[str | int], str]]


def _wrong(file: PlatformFile) -> Wrong:
    """Everything that does not fit."""
    if file.kind == "event-interface":
        for name in ("requests", "event", "ingest", "seen"):
            if getattr(file, name):
                yield [name], "the event interface has its own; this goes with kind: http"
        return
    for request in _NEEDED:
        if request not in file.requests:
            yield ["requests"], f"{request!r} is missing"
    yield from _wrong_requests(file)
    if file.event is None:
        yield ["event"], "say where an event's id, ref and state stand"
    if file.ingest is None:
        yield ["ingest"], "say where server address and key stand"
    if ("seen" in file.requests) != (file.seen is not None):
        yield ["seen"], "a request 'seen' and where its answer stands belong together"
    yield from _wrong_places(file)


def _wrong_requests(file: PlatformFile) -> Wrong:
    known = FILLED | {f"field_{name}" for name in file.fields} | set(file.event.take if file.event is not None else ())
    for request, written in file.requests.items():
        taken: set[str] = set()
        for n, entry in enumerate(file.steps(request)):
            path: list[str | int] = ["requests", request, *([n] if isinstance(written, list) else [])]
            method, _, place = entry.send.partition(" ")
            text = wrong_request(f"{method} {_plain(place, known | taken)}") or wrong_fields(place, known | taken, entry.send)
            if text:
                yield path, text
            for name, value in entry.fields.items():
                if isinstance(value, str) and (wrong := wrong_fields(value, known | taken)):
                    yield (
                        [*path, "fields", name],
                        wrong.replace("there is  to fill in, not", "nothing to fill in is called"),
                    )
            places = {**entry.take, **({"until": entry.until.at} if entry.until is not None and entry.until.at else {})}
            for name, where in places.items():
                if wrong := answers.place_problem(where, file.answers):
                    yield [*path, "until" if name == "until" else "take"], wrong
            if entry.unless is not None and (file.event is None or entry.unless not in file.event.take):
                yield [*path, "unless"], f"{entry.unless!r} is not a name under event.take"
            if entry.until is not None and entry.until.at is None and request not in _WAITS:
                yield [*path, "until"], f"an event's own state is waited for after {', '.join(_WAITS)}; elsewhere say 'at' and 'words'"
            if entry.pages is not None and request != "list":
                yield [*path, "pages"], "pages go with 'list'"
            taken |= set(entry.take)


def _plain(path: str, known: set[str]) -> str:
    for name in known:
        path = path.replace(f"{{{name}}}", name)
    return path


def _wrong_places(file: PlatformFile) -> Wrong:
    for part in ("event", "ingest", "seen"):
        entries = getattr(file, part)
        if entries is None:
            continue
        left_out = {"states", "words", "shown_words", "unlisted", "values", "take", "backup" if part == "seen" else ""}
        for name, place in entries.model_dump(exclude=left_out).items():
            if isinstance(place, str) and (text := answers.place_problem(place, file.answers)):
                yield [part, name], text
    for name, place in (file.event.take if file.event is not None else {}).items():
        if text := answers.place_problem(place, file.answers):
            yield ["event", "take", name], text
    if file.event is not None:
        for state in EventState:
            if state is EventState.UNKNOWN:
                continue
            if state not in file.event.states and not (state is EventState.LIVE and "air" not in file.requests):
                yield ["event", "states"], f"{state.value!r} is missing"
    yield from _wrong_seen(file)


def _wrong_seen(file: PlatformFile) -> Wrong:
    for name, entry in (file.seen.values if file.seen is not None else {}).items():
        path: list[str | int] = ["seen", "values", name]
        try:
            row = parameters.find(name)
        except ParameterError as error:
            yield path, str(error)
            continue
        if entry.unit and UNITS[entry.unit][0] != row.unit:
            yield path, f"{entry.unit} is not a unit of it; the table has {row.unit or 'none'}"
        for place in entry.places:
            if text := answers.place_problem(place, file.answers):
                yield path, text
