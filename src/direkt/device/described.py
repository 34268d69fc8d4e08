"""The driver that follows a driver file: a maker's HTTP interface with JSON bodies, described as data.

The file says which requests there are, where in the answers each parameter stands, in which words and units, and how a
refusal looks. What it does not describe, the driver cannot do, and says so.
"""

from __future__ import annotations

import re
import string
from collections.abc import Mapping
from typing import Literal
from urllib.parse import quote

from pydantic import Field

from direkt import parameters
from direkt.destination import forms
from direkt.device import words
from direkt.device.http import HttpDevice, Login
from direkt.device.model import (
    BadAnswer,
    Bare,
    Capability,
    Channel,
    DeviceError,
    DeviceState,
    PushState,
    Refused,
    Slot,
    need,
)
from direkt.device.words import SettingEntry, WordsError
from direkt.documents import Document, DocumentError, Problem, Strict
from direkt.parameters import ParameterError, Values
from direkt.protocol import address
from direkt.protocol.address import AddressError
from direkt.secret import Secret, without, without_keys

_KEY_LIKE = 8  # characters of what could be a key at the end of an address
_OUR_STATES = {state.value: state for state in PushState}
_Request = Literal["state", "limits", "write", "write_slot", "push_on", "push_off", "restart"]


class FactEntries(Strict):
    """Where the device tells of itself."""

    model: str
    firmware: str
    temperature: str | None = None
    input: str | None = None
    input_connected: str | None = None
    restart_needed: str | None = None


class SlotEntries(Strict):
    """Where the push slots stand, and how one is written."""

    list: str
    number: str
    channel: str
    server: str
    key_length: str
    state: str
    message: str
    sent_bytes: str
    key: str = ""
    states: dict[PushState, str] = {}  # the device's words, where they are not ours
    form: forms.Form = "url+key"  # how the device takes server address and key
    fields: dict[str, str] = {}  # its names for the form's fields, where they are not server and key


class RefusalEntries(Strict):
    """How the device says no."""

    list: str
    field: str
    reason: str


class DriverFile(Strict):
    """A driver file."""

    schema_: Literal["direkt.driver/1"] = Field(alias="schema")
    kind: Literal["http-json"]
    title: str
    login: Login
    requests: dict[_Request, str]
    facts: FactEntries
    channels: dict[str, str]
    settings: dict[str, SettingEntry]
    slots: SlotEntries | None = None  # a device may have none
    refusals: RefusalEntries | None = None


def check(document: Document, file: DriverFile) -> None:
    """Raises DocumentError for parameters and requests that do not fit."""
    problems = []
    for setting in file.settings:
        try:
            parameters.find(setting)
        except ParameterError as error:
            problems.append(Problem(document.line(["settings", setting]), f"settings: {error}"))
    for asked, text in file.requests.items():
        if wrong := _wrong_request(text):
            problems.append(Problem(document.line(["requests", asked]), f"requests.{asked}: {wrong}"))
    needed = ["state", *(["write_slot"] if file.slots is not None else [])]
    for request in needed:
        if request not in file.requests:
            problems.append(Problem(document.line(["requests"]), f"requests: {request!r} is missing"))
    if problems:
        raise DocumentError(document.source, problems)


_REQUEST = re.compile(r"(GET|PUT|POST|PATCH|DELETE) (/(?!/)[\x21-\x5b\x5d-\x7e]*)")
_PLACES = {"channel", "slot"}


def _wrong_request(text: str) -> str:
    """What is wrong with a request; empty: nothing. A request stays on the device's own address."""
    match = _REQUEST.fullmatch(text)
    if match is None:
        return f"expected a method and a path on the device, such as 'GET /api/state', got {text!r}"
    try:
        fields = [(name, more) for _, name, more, _ in string.Formatter().parse(match[2]) if name is not None]
    except ValueError as error:
        return f"{text!r}: {error}"
    strange = [f"{name}:{more}" if more else name for name, more in fields if name not in _PLACES or more]
    return f"there is {{channel}} and {{slot}} to fill in, not {{{strange[0]}}}" if strange else ""


def _look_up(data: object, path: str | None) -> object:
    """The value at a dotted path; None where there is none."""
    for step in path.split(".") if path is not None else ():
        if not isinstance(data, Mapping) or step not in data:
            return None
        data = data[step]
    return data if path is not None else None


def _names(entries: SlotEntries) -> dict[str, str]:
    """What the device calls each field of its form."""
    ours = {"url": entries.server, "server": entries.server, "key": entries.key or "key"}
    return {name: entries.fields.get(name) or ours.get(name, name) for name in forms.LABELS[entries.form]}


class Driver(Bare):
    """Talks to one device as its driver file says."""

    def __init__(self, name: str, file: DriverFile, address: str, login: tuple[str, Secret] | None) -> None:
        self.name, self.address = name, address
        self._file = file
        self._http = HttpDevice(name, address, file.login, login)
        self._written: set[Secret] = set()  # keys that the device was given or tells: no text of its may repeat them
        able = {
            Capability.WRITE: "write" in file.requests,
            Capability.SLOTS: file.slots is not None,
            Capability.PUSH: file.slots is not None and {"push_on", "push_off"} <= set(file.requests),
            Capability.RESTART: "restart" in file.requests,
        }
        self.capabilities = frozenset(capability for capability, can in able.items() if can)

    def close(self) -> None:
        """Lets go of the connection."""
        self._http.close()

    def _ask(self, request: _Request, body: Mapping[str, object] | None = None, **places: object) -> object:
        method, _, path = self._file.requests[request].partition(" ")
        path = path.format(**{name: quote(str(place), safe="") for name, place in places.items()})
        taken, answer = self._http.ask(method, path, body)
        if taken:
            return answer
        reasons = self._refusals(answer)
        if reasons:
            raise Refused(self.name, reasons)
        raise BadAnswer(f"{self.name} refuses {method} {path} and does not say why")

    def _refusals(self, data: object) -> dict[str, str]:
        entries = self._file.refusals
        if entries is None:
            return {}
        listed = _look_up(data, entries.list)
        names = {setting.field: name for name, setting in self._file.settings.items()}
        out = {}
        for item in listed if isinstance(listed, list) else []:
            field = str(_look_up(item, entries.field))
            out[names.get(field, field)] = without_keys(str(_look_up(item, entries.reason)), self._written)
        return out

    # Reading

    def read(self) -> DeviceState:
        """State and limits."""
        state = self._ask("state")
        limits = self._ask("limits") if "limits" in self._file.requests else {}
        facts, slots = self._file.facts, self._slots(state)  # the slots first: they tell which keys no text may repeat
        signal = _look_up(state, facts.input)
        connected = _look_up(state, facts.input_connected)
        temperature = _look_up(state, facts.temperature)
        model = _look_up(state, facts.model)
        if model is None:
            raise BadAnswer(f"{self.name} does not say what it is: the driver {self._file.title!r} does not fit it")
        try:
            channels = {
                name: self._channel(name, _look_up(state, path), limits) for name, path in self._file.channels.items()
            }
        except WordsError as error:
            raise BadAnswer(f"{self.name} gives {without_keys(str(error), self._written)}") from None
        return DeviceState(
            model=self._said(model), firmware=self._said(_look_up(state, facts.firmware)),
            temperature=float(temperature) if isinstance(temperature, int | float) else None,
            input=words.input_signal(self._said(signal)) if signal and connected is not False else None,
            restart_needed=_look_up(state, facts.restart_needed) is True, channels=channels, slots=slots,
        )  # fmt: skip

    def _said(self, text: object) -> str:
        """A text of the device without the keys that are known."""
        return without_keys(str(text), self._written)

    def _channel(self, name: str, data: object, limits: object) -> Channel:
        if not isinstance(data, Mapping):
            raise BadAnswer(f"{self.name} has no channel {name!r} where its driver expects it")
        rate = self._frame_rate(data)
        found = Channel(name, {}, {})
        allowed = {}
        for parameter, entry in self._file.settings.items():
            raw = _look_up(data, entry.field)
            if raw is not None:
                found.values[parameter] = words.ours(parameter, entry, raw, rate)
            limit = _look_up(limits, entry.field)
            if limit is not None:
                allowed[parameter] = words.limit(parameter, entry, limit, rate)
        return Channel(name, found.values, allowed)

    def _frame_rate(self, data: object) -> float:
        entry = self._file.settings.get("video.frame_rate")
        raw = _look_up(data, entry.field) if entry else None
        return float(raw) / entry.factor if entry and isinstance(raw, int | float) else 0.0

    def _slots(self, state: object) -> dict[int, Slot]:
        entries = self._file.slots
        if entries is None:
            return {}
        states = {theirs: ours for ours, theirs in entries.states.items()}
        listed = _look_up(state, entries.list)
        out = {}
        for item in listed if isinstance(listed, list) else []:
            number = _look_up(item, entries.number)
            if not isinstance(number, int):
                raise BadAnswer(f"{self.name} lists a push slot without a number")
            server, length = self._target(entries, item)
            sent = _look_up(item, entries.sent_bytes)
            said = without_keys(str(_look_up(item, entries.message) or ""), self._written, length)
            word = str(_look_up(item, entries.state))
            known = states.get(word) or _OUR_STATES.get(word, PushState.UNKNOWN)
            out[number] = Slot(
                number, self._said(_look_up(item, entries.channel)), server, length, known, said, sent if isinstance(sent, int) else 0
            )  # fmt: skip
        return out

    def _target(self, entries: SlotEntries, item: object) -> tuple[str, int]:
        """The server address in a slot, and how long its key is. A key that stands in the answer stays in here."""
        names = _names(entries)
        given = {name: str(value) for name in forms.LABELS[entries.form] if (value := _look_up(item, names[name]))}
        said = _look_up(item, entries.key_length)
        length = said if isinstance(said, int) else 0
        if entries.form == "url+key":
            if key := given.get("key"):
                self._written.add(Secret(key))
            scheme, separator, rest = given.get("server", "").partition("?")[0].partition("://")
            place, slash, path = rest.partition("/")
            length = length or len(given.get("key", ""))
            app, inner, last = path.rpartition("/")
            if not length and inner and len(last) >= _KEY_LIKE and not last.isalpha():  # all of it in the address
                self._written.add(Secret(last))
                path, length = app, len(last)
            server = f"{scheme}{separator}{place.rpartition('@')[2]}{slash}{path}"
            return without(server, self._written), length
        if not given:
            return "", 0
        try:
            endpoint = forms.split({"stream": "", **given}, entries.form)
        except AddressError:
            return without_keys(given.get("url", "an address that cannot be read")), length
        if endpoint.stream:
            self._written.add(Secret(endpoint.stream))
        return str(endpoint.server), length or len(endpoint.stream)

    # Writing

    def write(self, channel: Channel, values: Values) -> None:
        """Sets parameters of a channel.

        Where the frame rate changes, settings counted in frames are written too, so that their seconds stay.
        """
        need(self, Capability.WRITE)
        rate = values.get("video.frame_rate", channel.values.get("video.frame_rate", 0))
        frame_rate = rate if not isinstance(rate, str) else 0.0
        if "video.frame_rate" in values:
            counted = (name for name, entry in self._file.settings.items() if entry.counts == "frames")
            values = {**{name: channel.values[name] for name in counted if name in channel.values}, **values}
        body: dict[str, object] = {}
        for parameter, value in values.items():
            entry = self._file.settings[parameter]
            node = body
            *groups, last = entry.field.split(".")
            for group in groups:
                inner = node.setdefault(group, {})
                assert isinstance(inner, dict)
                node = inner
            node[last] = words.theirs(entry, value, frame_rate)
        self._ask("write", body, channel=channel.name)

    def write_slot(self, slot: int, channel: str, server: str, key: Secret) -> None:
        """Puts a server address and a key into a push slot, and says which channel it pushes."""
        need(self, Capability.SLOTS)
        entries = self._file.slots
        assert entries is not None
        self._written.add(key)
        names = _names(entries)
        if server:
            fields = forms.join(forms.Endpoint(address.parse(server), key.reveal()), entries.form)
        else:
            fields = dict.fromkeys(forms.LABELS[entries.form], "")
        body: dict[str, object] = {entries.channel: channel}
        for name, value in fields.items():
            body[names[name]] = int(value) if name == "port" and value else value
        self._ask("write_slot", body, slot=slot)

    def push(self, slot: int, *, on: bool) -> None:
        """Starts or stops a slot's push."""
        need(self, Capability.PUSH)
        self._ask("push_on" if on else "push_off", slot=slot)

    def restart(self) -> None:
        """Tells the device to restart."""
        need(self, Capability.RESTART)
        self._ask("restart")

    def answers(self) -> bool:
        """Whether the state can be read."""
        try:
            self._ask("state")
        except DeviceError:
            return False
        return True
