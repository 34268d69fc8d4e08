"""The driver file: a maker's HTTP interface described as data, and what is wrong with one.

docs/drivers.md teaches it. What a file does not describe its driver cannot do, and says so; with ``kind: onvif`` it goes by
the cameras' open standard instead.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from fnmatch import fnmatchcase
from typing import Annotated, Literal

from pydantic import Field

from direkt import demand, parameters
from direkt.demand import Demand
from direkt.described import answers, words
from direkt.described.answers import Coding, Shape
from direkt.described.http import Login
from direkt.described.mistakes import REQUEST_FIELDS, wrong_fields, wrong_request
from direkt.described.requests import RefusalEntries, RequestEntry
from direkt.described.words import SettingEntry
from direkt.destination import forms
from direkt.device.state import PushState
from direkt.documents import Document, DocumentError, Problem, Strict
from direkt.errors import UnusableInput
from direkt.parameters import ParameterError, ValueKind
from direkt.protocol import source

RequestName = Literal[
    "state", "limits", "write", "write_slot", "push_on", "push_off", "restart", "firmware", "snapshot"
]
RawDemand = bool | int | float | str | list[bool | int | float | str] | dict[str, int | float | str]


class Fits(Strict):
    """How ``find`` knows the device."""

    make: str = ""
    model: str = ""
    ask: str | None = None  # a request that it answers to everybody
    says: str = ""  # a text in that answer, or in the name of the realm that wants a login
    ports: list[int] = []


class PushFacts(Strict):
    """Whether the device pushes."""

    from_firmware: str = ""  # the first that can
    never: bool = False


class FactEntries(Strict):
    """Where the device tells of itself."""

    make: str | None = None
    model: str | None = None
    firmware: str | None = None
    temperature: str | None = None  # degrees Celsius
    memory_free: str | None = None  # percent
    fan: str | None = None
    uptime: str | None = None  # s
    input: str | None = None
    input_connected: str | None = None
    restart_needed: str | None = None
    complaint: str | None = None  # what the device says is wrong with it


class ChannelEntry(Strict):
    """One channel."""

    at: str = ""  # where its settings stand
    word: str | int | None = None  # what the device calls it; its name, where nothing is said
    stream: str | None = (
        None  # where it is given out to be fetched: a place in the answer, or scheme://{host}:port/path
    )


class TiedFieldEntry(Strict):
    """One field that stands for several parameters."""

    at: str
    send: str | None = None
    words: dict[str, dict[str, bool | int | float | str]]  # the device's word: parameters and values


class TogetherEntry(Strict):
    """Limits that hold together with others."""

    when: dict[str, RawDemand] = {}  # parameters, or names under more_facts
    then: dict[str, RawDemand] = {}
    protocols: list[str] | None = None
    push: Literal["yes", "no"] = "yes"
    because: str = ""


StateWords = dict[PushState, str | list[str]]


class SlotEntries(Strict):
    """Where the push slots stand, and how one is written."""

    list: str | None = None  # None: there is one slot, and its places begin where the answer begins
    number: str | None = None
    channel: str | None = None
    server: str = ""
    key: str = ""
    key_length: str | None = None
    state: str
    states: StateWords = {}  # the device's words, where they are not ours
    message: str | None = None
    sent_bytes: str | None = None
    form: forms.Form = "url+key"  # how the device takes server address and key
    fields: dict[str, str] = {}  # its names for the form's fields, where they are not server and key


FillCoding = Literal["plain", "json", "url", "xml"]
OneLetter = Annotated[str, Field(min_length=1, max_length=1)]


class CodeEntry(Strict):
    """A picture code (QR) that the device or its app scans."""

    content: str  # with {names} filled in, see card_names()
    coding: FillCoding = "plain"  # how each value is written in it
    escape: dict[OneLetter, str] = {}  # plain: how a character is written that the content uses itself
    where: str = ""  # where the device scans it


class FileEntry(Strict):
    """A file of settings that the device reads."""

    name: str = Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$")
    content: str
    coding: FillCoding = "plain"
    escape: dict[OneLetter, str] = {}
    where: str = ""  # where it goes, and how it is read


class CardEntry(Strict):
    """What a setup card says beside the values."""

    form: forms.Form | None = None  # how server address and key are entered, where no slots say it
    longest: dict[str, int] = {}  # field of the form: characters that fit
    before: list[str] = []
    after: list[str] = []
    start: str = ""  # the word by which the push is started
    code: CodeEntry | None = None
    file: FileEntry | None = None


class DeviceSignIn(Strict):
    """How a session is begun, where the device wants neither digest nor basic: by a form, and a cookie or token."""

    send: str  # method and path
    coding: Coding = "form"
    fields: dict[str, bool | int | float | str] = {"user": "{user}", "password": "{password}"}
    root: str = ""  # of an XML body
    token: str | None = None  # where the token stands in the answer; None: a cookie comes with it
    header: str = "Authorization: Bearer {token}"  # that carries the token from then on
    life: float | None = Field(None, gt=0, allow_inf_nan=False)  # s that a session lasts
    life_at: str | None = None  # where the answer says so, s
    expired: dict[str, list[bool | int | float | str]] = {}  # places in answers, and what stands there when it is over


class DriverFile(Strict):
    """A driver file."""

    schema_: Literal["direkt.driver/1"] = Field(alias="schema")
    kind: Literal["http", "onvif", "hand"]
    title: str
    fits: Fits = Fits()
    from_firmware: str = ""  # the first that this file describes
    login: Login = "any"
    sign_in: DeviceSignIn | None = None  # with login: form
    default_login: str | None = None  # user:password at delivery
    answers: Shape = "json"
    coding: Coding = "json"
    requests: dict[RequestName, str | RequestEntry | Annotated[list[str | RequestEntry], Field(min_length=1, max_length=16)]] = {}
    facts: FactEntries = FactEntries()
    more_facts: dict[str, str] = {}  # name: place
    channels: dict[str, str | ChannelEntry] = {}
    settings: dict[str, SettingEntry] = {}
    modes: list[TiedFieldEntry] = []
    limits: dict[str, RawDemand] = {}  # fixed ones, in the table's words and units
    together: list[TogetherEntry] = []
    restart_after: list[str] = []  # parameters that come into force with a restart, where the device does not tell
    push: PushFacts = PushFacts()
    slots: SlotEntries | None = None  # a device may have none
    refusals: RefusalEntries | None = None
    menus: dict[
        str, list[str]
    ] = {}  # in their order on the device: where a person finds a parameter, a mode, or push.FIELD
    card: CardEntry = CardEntry()

    def request(self, name: RequestName) -> RequestEntry | None:
        """A request in its long form, the first where there are several; None where the device has none."""
        return next(iter(self.all_requests(name)), None)

    def all_requests(self, name: RequestName) -> list[RequestEntry]:
        """The requests in their long form, in their order."""
        found = self.requests.get(name)
        listed = found if isinstance(found, list) else [found] if found is not None else []
        return [RequestEntry(send=one) if isinstance(one, str) else one for one in listed]

    def coding_of(self, name: RequestName) -> Coding:
        """How a request's body is written."""
        entry = self.request(name)
        return entry.coding if entry is not None and entry.coding is not None else self.coding

    def channel(self, name: str) -> ChannelEntry:
        """A channel in its long form."""
        found = self.channels[name]
        return ChannelEntry(at=found) if isinstance(found, str) else found


def form_names(entries: SlotEntries) -> dict[str, str]:
    """What the device calls each field of its form."""
    ours = {"url": entries.server, "server": entries.server, "key": entries.key or "key"}
    return {name: entries.fields.get(name) or ours.get(name, name) for name in forms.LABELS[entries.form]}


SLOT_FIELDS = {"url", "server", "key", "scheme", "host", "port", "app", "stream", "user", "password"}


def check(document: Document, file: DriverFile) -> None:
    """Raises DocumentError with everything that does not fit."""
    problems = [Problem(document.line(path), f"{'.'.join(map(str, path))}: {text}") for path, text in _wrong(file)]
    if problems:
        raise DocumentError(document.source, problems)


Wrong = Iterator[tuple[list[str | int], str]]


def _wrong_places(file: DriverFile) -> Wrong:
    """Places in answers that are none."""
    listed: list[tuple[list[str | int], str | None]] = [
        (["facts", name], place) for name, place in file.facts.model_dump().items()
    ]
    listed += [(["more_facts", name], place) for name, place in file.more_facts.items()]
    listed += [(["channels", name], file.channel(name).at) for name in file.channels if file.answers != "lines"]
    listed += [
        (["channels", name, "stream"], told)
        for name in file.channels
        if (told := file.channel(name).stream) and "://" not in told
    ]
    listed += [(["modes", n], mode.at) for n, mode in enumerate(file.modes)]
    if file.slots is not None:
        s = file.slots
        named = {"list": s.list, "number": s.number, "channel": s.channel, "server": s.server, "key": s.key, "key_length": s.key_length,
                 "state": s.state, "message": s.message, "sent_bytes": s.sent_bytes}  # fmt: skip
        listed += [(["slots", name], place) for name, place in named.items()]
        listed += [(["slots", "fields"], place) for place in s.fields.values()]
    if file.refusals is not None and file.refusals.list is not None:
        listed += [(["refusals"], place) for place in (file.refusals.list, file.refusals.field, file.refusals.reason)]
    for path, place in listed:
        if place and (text := answers.place_problem(place, file.answers)):
            yield path, text


def _wrong(file: DriverFile) -> Wrong:
    yield from _wrong_settings(file)
    if file.kind != "hand":  # there, the places are what stands on its screen
        yield from _wrong_places(file)
    yield from _wrong_requests(file)
    yield from _wrong_limits(file)
    yield from _wrong_streams(file)
    yield from _wrong_card(file)
    if file.kind == "hand":
        if file.requests:
            yield ["requests"], "a device that is set by hand answers none"
        if not file.channels:
            yield ["channels"], "name at least one channel, such as main"
        return
    needed: list[RequestName] = ["state"] if file.settings or file.slots or file.kind == "http" else []
    needed += ["write_slot"] if file.slots is not None else []
    for request in needed:
        if request not in file.requests:
            yield ["requests"], f"{request!r} is missing"
    if file.kind == "http":
        if file.facts.model is None:
            yield ["facts"], "'model' is missing"
        if not file.channels:
            yield ["channels"], "name at least one channel, such as main"
    if file.default_login is not None and ":" not in file.default_login:
        yield ["default_login"], "expected user:password"


def form_of(file: DriverFile) -> forms.Form:
    """How the device takes server address and key."""
    return file.card.form or (file.slots.form if file.slots is not None else "url+key")


def _card_extras(file: DriverFile) -> set[str]:
    """What has a place in the menus beside parameters."""
    return {*(mode.at for mode in file.modes), *(f"push.{name}" for name in (*SLOT_FIELDS, "start"))}


def card_names(file: DriverFile) -> set[str]:
    """What can be filled in in a code or a file: parameters, modes, and the fields of every form as push.FIELD."""
    return {*parameters.TABLE, *_card_extras(file)} - {"push.start"}


_FILLED = re.compile(r"\{\{|\}\}|\{([^{}\n]{1,60})\}|[{}]")


def fill(text: str, values: Callable[[str], str]) -> str:
    """A text with {names} filled in; two braces stand for one. Raises KeyError for a name that ``values`` does not know."""

    def one(match: re.Match[str]) -> str:
        return values(match[1]) if match[1] is not None else match[0][:1]

    return _FILLED.sub(one, text)


_STRUCTURE = frozenset(";,|&<>\"'#[]{}\\\t\r\n")  # what formats divide their fields by; not what addresses are made of


def own_marks(text: str) -> set[str]:
    """The characters by which a content with {names} divides its fields: in a plain value they would set others."""
    return set(_STRUCTURE) & set(_FILLED.sub(lambda match: "" if match[1] is not None else match[0][:1], text))


def _wrong_card(file: DriverFile) -> Wrong:
    known, fields = card_names(file), forms.LABELS[form_of(file)]
    for name, entry in (("code", file.card.code), ("file", file.card.file)):
        if entry is None:
            continue
        for match in _FILLED.finditer(entry.content):
            if match[1] is not None and match[1] not in known:
                yield (
                    ["card", name],
                    f"content: nothing called {match[1]!r} to fill in: a parameter, a mode, or push.server, push.key ...",
                )
            elif match[0] in ("{", "}"):
                yield ["card", name], "content: a brace alone; write {{ or }} for one that stays"
        if entry.escape and entry.coding != "plain":
            yield ["card", name], f"escape: only with coding plain; {entry.coding} has its own"
    for field in file.card.longest:
        if field not in fields:
            yield ["card", "longest"], f"{field}: the form has {', '.join(fields)}"


def _wrong_streams(file: DriverFile) -> Wrong:
    """Addresses to fetch a channel at that are none."""
    for name in file.channels:
        told = file.channel(name).stream or ""
        if "://" in told:
            try:
                _, login = source.parse(told.replace("{host}", "host"))
            except UnusableInput as error:
                yield ["channels", name, "stream"], str(error)
                continue
            if login is not None:
                yield ["channels", name, "stream"], "the address holds a login"


def _wrong_settings(file: DriverFile) -> Wrong:
    for name, entry in file.settings.items():
        if text := _unknown(name):
            yield ["settings", name], text
        else:
            yield from _wrong_setting(file, name, entry)
    for n, mode in enumerate(file.modes):
        for values in mode.words.values():
            for name, value in values.items():
                if text := _unclean(name, value):
                    yield ["modes", n], text
    for name in file.restart_after:
        if text := _unknown(name):
            yield ["restart_after"], text
    for name in file.menus:
        if name not in _card_extras(file) and (text := _unknown(name)):
            yield ["menus", name], text


def _unclean(name: str, value: object) -> str:
    """What is wrong with a value of a parameter; empty: nothing."""
    try:
        parameters.clean(name, value)
    except ParameterError as error:
        return str(error)
    return ""


def _wrong_setting(file: DriverFile, name: str, entry: SettingEntry) -> Wrong:
    path: list[str | int] = ["settings", name]
    coding, row = file.coding_of("write"), parameters.find(name)
    if row.follows is not None:
        yield path, f"devices set it by {row.follows.setting}: write that"
    if entry.unit and words.UNITS[entry.unit][0] != row.unit:
        yield path, f"{entry.unit} is not a unit of it; the table has {row.unit or 'none'}"
    if entry.unit == "frames" and name != "video.keyframe_interval.median":
        yield path, "only the keyframe interval is counted in frames"
    fraction = row.kind is ValueKind.NUMBER and entry.join == "/" and len(entry.places) == 2
    if len(entry.places) > 1 and row.kind not in (ValueKind.SIZE, ValueKind.RATIO) and not fraction:
        yield path, "several fields make a size or a ratio, or with join: / a numerator and denominator"
    for place in entry.places:
        if file.kind != "hand" and (text := answers.place_problem(place, file.answers)):
            yield path, text
    for target in entry.targets:
        if "write" in file.requests and (text := answers.sendable(target, coding)):
            yield path, text
    for word in entry.words or {}:
        if text := _unclean(name, words.typed(name, word)):
            yield path, f"words: {text.removeprefix(name + ': ')}"


def _unknown(name: str) -> str:
    try:
        parameters.find(name)
    except ParameterError as error:
        return str(error)
    return ""


def _wrong_requests(file: DriverFile) -> Wrong:
    if (file.sign_in is None) != (file.login != "form"):
        yield ["sign_in" if file.sign_in is not None else "login"], "'login: form' and 'sign_in' belong together"
    if file.sign_in is not None:
        for text in filter(None, _wrong_sign_in(file, file.sign_in)):
            yield ["sign_in"], text
    for name in file.requests:
        for entry in file.all_requests(name):
            for text in filter(None, _wrong_entry(file, name, entry)):
                yield ["requests", name], text
    if file.fits.ask is not None and (text := wrong_request(file.fits.ask)):
        yield ["fits", "ask"], text


def _wrong_sign_in(file: DriverFile, sign: DeviceSignIn) -> Iterator[str]:
    yield wrong_request(sign.send)
    for value in sign.fields.values():
        yield wrong_fields(value, {"user", "password"}) if isinstance(value, str) else ""
    yield wrong_fields(sign.header, {"token"})
    if ": " not in sign.header or "{token}" not in sign.header:
        yield "header: expected a name, a colon and {token}, such as 'X-Session: {token}'"
    for place in (*filter(None, (sign.token, sign.life_at)), *sign.expired):
        yield answers.place_problem(place, file.answers)


def _wrong_entry(file: DriverFile, name: RequestName, entry: RequestEntry) -> Iterator[str]:
    several = len(file.all_requests(name)) > 1
    if several and name not in ("state", "limits", "write"):
        yield "one request is enough here; state, limits and write may have several"
    if several and name in ("state", "limits") and file.answers != "json":
        yield "several answers are joined where they are JSON"
    if (entry.into or entry.of) and not several:
        yield "'into' and 'of' belong to a list of requests"
    for pattern in entry.of:
        if not any(fnmatchcase(known, pattern) for known in file.settings):
            yield f"of: no setting is called {pattern!r}"
    yield wrong_request(entry.send)
    for value in entry.fields.values():
        yield wrong_fields(value, REQUEST_FIELDS | SLOT_FIELDS) if isinstance(value, str) else ""
    for place in [*entry.fields, *_sent(file, name)]:
        yield answers.sendable(place, file.coding_of(name))
    if entry.root and not answers.is_name(entry.root):
        yield f"root: no XML element can be called {entry.root!r}"


def _sent(file: DriverFile, request: RequestName) -> list[str]:
    """The places that a request fills by itself, apart from those of the settings."""
    if request == "write":
        return [mode.send or mode.at for mode in file.modes]
    entry = file.request(request)
    if request != "write_slot" or file.slots is None or (entry is not None and entry.fields):
        return []
    return [*filter(None, [file.slots.channel]), *form_names(file.slots).values()]


def _wrong_limits(file: DriverFile) -> Wrong:
    for name, raw in file.limits.items():
        if text := _wrong_demand(name, raw):
            yield ["limits", name], text
    for n, rule in enumerate(file.together):
        path: list[str | int] = ["together", n]
        for name, raw in rule.when.items():
            if name not in file.more_facts and (text := _wrong_demand(name, raw)):
                yield path, f"when: {text}"
        for name, raw in rule.then.items():
            if text := _wrong_demand(name, raw):
                yield path, f"then: {text}"
        for protocol in rule.protocols or []:
            if text := _wrong_demand("stream.protocol", protocol):
                yield path, f"protocols: {text}"
        if not rule.then and rule.protocols is None and rule.push == "yes":
            yield path, "says nothing: name 'then', 'protocols' or 'push: no'"


def _wrong_demand(name: str, raw: object) -> str:
    try:
        demand.parse(name, raw)
    except ParameterError as error:
        return str(error)
    return ""


def fixed_limits(file: DriverFile) -> dict[str, Demand]:
    """The limits that the file itself gives."""
    return {name: demand.parse(name, raw) for name, raw in file.limits.items()}


def version(text: str) -> tuple[int, ...]:
    """The numbers of a firmware's version, to compare; none for a text without numbers."""
    return tuple(int(part) for part in re.findall(r"\d{1,9}", text)[:6])


def can_push(file: DriverFile, firmware: str) -> bool | None:
    """Whether a device of this firmware pushes; None where that cannot be told."""
    if file.push.never:
        return False
    if file.push.from_firmware:
        here = version(firmware)
        return here >= version(file.push.from_firmware) if here else None
    return True if file.slots is not None else None
