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

from pydantic import Field

from direkt import documents, parameters
from direkt.device import answers
from direkt.device.answers import Coding, Shape
from direkt.device.driverfile import wrong_fields, wrong_request
from direkt.device.mapped import RefusalEntries, RequestEntry
from direkt.device.words import UNITS, SettingEntry
from direkt.documents import Document, DocumentError, Problem, Strict
from direkt.parameters import ParameterError
from direkt.platform.model import EventState, Facts, FieldSpec
from direkt.rig_events import Audience, Delay, FieldValue, Projection

PlatformRequest = Literal["list", "make", "change", "open", "air", "finish", "drop", "ingest", "renew", "seen"]
_NEEDED: tuple[PlatformRequest, ...] = ("list", "make", "open", "finish", "ingest")
_ENDING = ".yaml"
FILLED = {
    "id", "ref", "title", "description", "start", "start_unix", "end", "end_unix", "seconds", "minutes", "audience", "delay",
    "projection", "rewind", "keep",
}  # fmt: skip


class FieldEntry(Strict):
    """A declaration or another field that the platform asks for."""

    title: str
    choices: list[FieldValue] = []
    needed: bool = False


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
    since: str | None = None
    shown: str | None = None
    health: str | None = None
    complaints: str | None = None
    values: dict[str, SettingEntry] = {}


class Words(Strict):
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
    requests: dict[PlatformRequest, str | RequestEntry] = {}
    event: EventPlaces | None = None
    ingest: IngestPlaces | None = None
    seen: SeenPlaces | None = None
    words: Words = Words()
    refusals: RefusalEntries | None = None

    def request(self, name: PlatformRequest) -> RequestEntry | None:
        """A request in its long form; None where there is none."""
        found = self.requests.get(name)
        return RequestEntry(send=found) if isinstance(found, str) else found

    def facts(self) -> Facts:
        """What is known before it is asked."""
        specs = {name: FieldSpec(name, f.title, tuple(f.choices), f.needed) for name, f in self.fields.items()}
        http = self.kind == "http"
        return Facts(
            self.title, specs, tuple(self.audiences), tuple(self.delays), self.pauses,
            not http or "seen" in self.requests,
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
    known = FILLED | {f"field_{name}" for name in file.fields}
    for request in file.requests:
        entry = file.request(request)
        assert entry is not None
        method, _, path = entry.send.partition(" ")
        text = wrong_request(f"{method} {_plain(path)}") or wrong_fields(path, {"id"}, entry.send)
        if text:
            yield ["requests", request], text
        for name, value in entry.fields.items():
            if isinstance(value, str) and (wrong := wrong_fields(value, known)):
                yield (
                    ["requests", request, "fields", name],
                    wrong.replace("there is  to fill in, not", "nothing to fill in is called"),
                )
    if file.event is None:
        yield ["event"], "say where an event's id, ref and state stand"
    if file.ingest is None:
        yield ["ingest"], "say where server address and key stand"
    if ("seen" in file.requests) != (file.seen is not None):
        yield ["seen"], "a request 'seen' and where its answer stands belong together"
    yield from _wrong_places(file)


def _plain(path: str) -> str:
    return path.replace("{id}", "id")


def _wrong_places(file: PlatformFile) -> Wrong:
    for part in ("event", "ingest", "seen"):
        entries = getattr(file, part)
        if entries is None:
            continue
        for name, place in entries.model_dump(
            exclude={"states", "words", "values", "backup" if part == "seen" else ""}
        ).items():
            if isinstance(place, str) and (text := answers.place_problem(place, file.answers)):
                yield [part, name], text
    if file.event is not None:
        for state in EventState:
            if state not in file.event.states and not (state is EventState.LIVE and "air" not in file.requests):
                yield ["event", "states"], f"{state.value!r} is missing"
    for name, entry in (file.seen.values if file.seen is not None else {}).items():
        path: list[str | int] = ["seen", "values", name]
        try:
            row = parameters.find(name)
        except ParameterError as error:
            yield path, str(error)
            continue
        if entry.unit and UNITS[entry.unit][0] != row.unit:
            yield path, f"{entry.unit} is no unit of it; the table has {row.unit or 'none'}"
        for place in entry.places:
            if text := answers.place_problem(place, file.answers):
                yield path, text
