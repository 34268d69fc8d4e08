"""Driver files, and the driver that follows them: a maker's HTTP interface, described as data.

A driver file says which requests there are, where in the answers each parameter stands, in which words and
units, and how a refusal looks. The driver turns that into the parameters' words and units and back.
"""

from __future__ import annotations

import difflib
import json
import re
import time
from collections.abc import Callable, Mapping
from importlib import resources
from pathlib import Path
from typing import Any, Literal

import httpx
from pydantic import Field

from direkt import demand, documents, parameters
from direkt.demand import Demand
from direkt.device.model import (
    BadAnswer,
    Channel,
    DeviceState,
    InputSignal,
    LoginRefused,
    Refused,
    Slot,
    Unreachable,
)
from direkt.documents import DocumentError, Problem, Strict
from direkt.parameters import ParameterError, Value, Values
from direkt.sheet import address, shapes
from direkt.sheet.secret import Secret

LIMIT = 5.0  # s for one answer
RESTART_LIMIT = 60.0  # s for a device to come back
_LARGEST = 1 << 20  # bytes of an answer

_Request = Literal["state", "limits", "write", "write_slot", "push_on", "push_off", "restart"]


class SettingEntry(Strict):
    """How the device names one parameter."""

    field: str
    words: dict[str, Any] | None = None  # ours: the device's
    counts: Literal["unit", "frames"] = "unit"  # frames: pictures instead of seconds
    factor: float = 1.0  # the device's number is ours times this
    whole: bool = False  # the device takes whole numbers only


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
    shape: shapes.Shape = "url+key"  # how the device takes server address and key
    fields: dict[str, str] = {}  # its names for the shape's fields, where they are not server and key


class RefusalEntries(Strict):
    """How the device says no."""

    list: str
    field: str
    reason: str


class DriverFile(Strict):
    """A driver file."""

    schema_: Literal["direkt.driver/1"] = Field(alias="schema")
    title: str
    login: Literal["digest", "basic", "none"]
    requests: dict[_Request, str]
    facts: FactEntries
    channels: dict[str, str]
    settings: dict[str, SettingEntry]
    slots: SlotEntries
    refusals: RefusalEntries


def shipped() -> list[str]:
    """The names of the drivers that ship with Direkt."""
    folder = resources.files("direkt.device") / "drivers"
    return sorted(entry.name.removesuffix(".yaml") for entry in folder.iterdir() if entry.name.endswith(".yaml"))


def load(name: str, folder: Path | None = None) -> DriverFile:
    """The driver called ``name``: a shipped one, or a file (relative to ``folder``). Raises DocumentError."""
    if name in shipped():
        text = (resources.files("direkt.device") / "drivers" / f"{name}.yaml").read_text("utf-8")
        document = documents.parse(text, f"{name}.yaml")
    elif name.endswith((".yaml", ".yml")):
        document = documents.read(folder / name if folder is not None else Path(name), name)
    else:
        near = difflib.get_close_matches(name, shipped(), n=1)
        hint = f"did you mean {near[0]}?" if near else f"there is {', '.join(shipped())}; a file is named by its path"
        raise DocumentError(name, [Problem(0, f"no driver of this name; {hint}")])
    file = documents.check(document, DriverFile)
    problems = []
    for setting in file.settings:
        try:
            parameters.find(setting)
        except ParameterError as error:
            problems.append(Problem(document.line(["settings", setting]), f"settings: {error}"))
    for request in ("state", "write", "write_slot", "push_on", "push_off"):
        if request not in file.requests:
            problems.append(Problem(document.line(["requests"]), f"requests: {request!r} is missing"))
    if problems:
        raise DocumentError(document.source, problems)
    return file


def _look_up(data: Any, path: str | None) -> Any:
    """The value at a dotted path; None where there is none."""
    if path is None:
        return None
    for step in path.split("."):
        if not isinstance(data, Mapping) or step not in data:
            return None
        data = data[step]
    return data


_INPUT = re.compile(r"(\d{3,5})\s*([pi])\s*(\d{1,3}(?:\.\d+)?)", re.IGNORECASE)


def parse_input(text: str) -> InputSignal:
    """An input format such as ``1080p50`` or ``1080i59.94``, of a 16:9 picture."""
    match = _INPUT.search(text)
    if match is None:
        return InputSignal(text)
    height, rate = int(match[1]), float(match[3])
    interlaced = match[2].lower() == "i"
    return InputSignal(text, round(height * 16 / 9), height, rate, "interlaced" if interlaced else "progressive")


class HttpDriver:
    """Talks to one device as its driver file says. Every method may raise a DeviceError."""

    def __init__(self, name: str, file: DriverFile, address: str, login: tuple[str, Secret] | None) -> None:
        self.name = name
        self._file = file
        self._address = address
        auth: httpx.Auth | None = None
        if login is not None and file.login != "none":
            kind = httpx.DigestAuth if file.login == "digest" else httpx.BasicAuth
            auth = kind(login[0], login[1].reveal())
        self._has_login = login is not None
        self._client = httpx.Client(base_url=address, auth=auth, timeout=LIMIT, trust_env=False)

    def close(self) -> None:
        """Lets go of the connection."""
        self._client.close()

    def _ask(self, request: _Request, body: Mapping[str, Any] | None = None, **places: Any) -> Any:
        method, _, path = self._file.requests[request].partition(" ")
        try:
            answer = self._client.request(method, path.format(**places), json=body)
        except httpx.TimeoutException:
            raise Unreachable(
                f"{self.name} at {self._address} does not answer within {LIMIT:g} s: is it on, is the address right?"
            ) from None
        except httpx.HTTPError as error:
            raise Unreachable(
                f"{self.name} at {self._address} cannot be reached ({_reason(error)}): is it on, is the address right?"
            ) from None
        if answer.status_code in (401, 403):
            raise LoginRefused(self._login_hint(answer))
        if len(answer.content) > _LARGEST:
            raise BadAnswer(
                f"{self.name} answers {method} {path} with {len(answer.content)} bytes; at most {_LARGEST} are read"
            )
        try:
            data = answer.json() if answer.content else {}
        except (json.JSONDecodeError, UnicodeDecodeError):
            raise BadAnswer(
                f"{self.name} answers {method} {path} with {answer.headers.get('content-type', 'something')}, expected JSON: "
                "is this address the right device, and is it done starting?"
            ) from None
        if answer.is_error:
            reasons = self._refusals(data)
            if reasons:
                raise Refused(self.name, reasons)
            raise BadAnswer(f"{self.name} answers {method} {path} with status {answer.status_code}")
        return data

    def _login_hint(self, answer: httpx.Response) -> str:
        wanted = answer.headers.get("www-authenticate", "").split(" ")[0].lower()
        if not self._has_login:
            return f"{self.name} wants a login ({wanted or 'some kind'}): give it under 'login' in the rig"
        if wanted and self._file.login not in ("none", wanted):
            return f"{self.name} wants a {wanted} login, its driver uses {self._file.login}"
        return f"{self.name} refuses the login: check user name and password"

    def _refusals(self, data: Any) -> dict[str, str]:
        entries = self._file.refusals
        listed = _look_up(data, entries.list)
        names = {setting.field: name for name, setting in self._file.settings.items()}
        out = {}
        for item in listed if isinstance(listed, list) else []:
            field = str(_look_up(item, entries.field))
            out[names.get(field, field)] = str(_look_up(item, entries.reason))
        return out

    # Reading

    def read(self) -> DeviceState:
        """State and limits."""
        state = self._ask("state")
        limits = self._ask("limits") if "limits" in self._file.requests else {}
        facts = self._file.facts
        signal = _look_up(state, facts.input)
        connected = _look_up(state, facts.input_connected)
        temperature = _look_up(state, facts.temperature)
        model = _look_up(state, facts.model)
        if model is None:
            raise BadAnswer(f"{self.name} does not say what it is: the driver {self._file.title!r} does not fit it")
        return DeviceState(
            model=str(model), firmware=str(_look_up(state, facts.firmware)),
            temperature=float(temperature) if isinstance(temperature, int | float) else None,
            input=parse_input(str(signal)) if signal and connected is not False else None,
            restart_needed=_look_up(state, facts.restart_needed) is True,
            channels={name: self._channel(name, _look_up(state, path), limits) for name, path in self._file.channels.items()},
            slots=self._slots(state),
        )  # fmt: skip

    def _channel(self, name: str, data: Any, limits: Any) -> Channel:
        if not isinstance(data, Mapping):
            raise BadAnswer(f"{self.name} has no channel {name!r} where its driver expects it")
        rate = self._number(data, "video.frame_rate")
        values: Values = {}
        allowed: dict[str, Demand] = {}
        for parameter, entry in self._file.settings.items():
            raw = _look_up(data, entry.field)
            if raw is not None:
                values[parameter] = self._ours(parameter, entry, raw, rate)
            limit = _look_up(limits, entry.field)
            if limit is not None:
                allowed[parameter] = self._limit(parameter, entry, limit, rate)
        return Channel(name, values, allowed)

    def _number(self, data: Any, parameter: str) -> float:
        entry = self._file.settings.get(parameter)
        raw = _look_up(data, entry.field) if entry else None
        return float(raw) / entry.factor if entry and isinstance(raw, int | float) else 0.0

    def _ours(self, parameter: str, entry: SettingEntry, raw: Any, rate: float) -> Value:
        try:
            if entry.words is not None:
                word = next((ours for ours, theirs in entry.words.items() if theirs == raw), None)
                if word is None:
                    word = "other" if "other" in parameters.find(parameter).choices else str(raw)
                return parameters.clean(parameter, word)
            if isinstance(raw, int | float) and not isinstance(raw, bool):
                number = raw / entry.factor if entry.factor != 1.0 else raw
                if entry.counts == "frames":
                    number = round(number / rate, 4) if rate else number
                return parameters.clean(parameter, int(number) if number == int(number) else number)
            return parameters.clean(parameter, raw)
        except ParameterError as error:
            raise BadAnswer(
                f"{self.name} gives {entry.field} = {raw!r}, which its driver does not know: {error}"
            ) from None

    def _limit(self, parameter: str, entry: SettingEntry, limit: Any, rate: float) -> Demand:
        def ours(raw: Any) -> Value:
            return self._ours(parameter, entry, raw, rate)

        if isinstance(limit, list) and limit:
            return Demand(parameter, tuple(ours(item) for item in limit))
        if isinstance(limit, Mapping):
            return demand.parse(parameter, {key: ours(limit[key]) for key in ("min", "max") if key in limit})
        raise BadAnswer(f"{self.name} gives the limit of {entry.field} as {limit!r}, which its driver does not know")

    def _slots(self, state: Any) -> dict[int, Slot]:
        entries = self._file.slots
        listed = _look_up(state, entries.list)
        out = {}
        for item in listed if isinstance(listed, list) else []:
            number = _look_up(item, entries.number)
            if not isinstance(number, int):
                raise BadAnswer(f"{self.name} lists a push slot without a number")
            length, sent = _look_up(item, entries.key_length), _look_up(item, entries.sent_bytes)
            out[number] = Slot(
                number, str(_look_up(item, entries.channel)), str(_look_up(item, entries.server) or ""),
                length if isinstance(length, int) else 0, str(_look_up(item, entries.state)),
                str(_look_up(item, entries.message) or ""), sent if isinstance(sent, int) else 0,
            )  # fmt: skip
        return out

    # Writing

    def write(self, channel: Channel, values: Values) -> None:
        """Sets parameters of a channel.

        Where the frame rate changes, settings counted in frames are written too, so that their seconds stay.
        """
        rate = values.get("video.frame_rate", channel.values.get("video.frame_rate", 0))
        frame_rate = rate if not isinstance(rate, str) else 0.0
        if "video.frame_rate" in values:
            counted = (name for name, entry in self._file.settings.items() if entry.counts == "frames")
            values = {**{name: channel.values[name] for name in counted if name in channel.values}, **values}
        body: dict[str, Any] = {}
        for parameter, value in values.items():
            entry = self._file.settings[parameter]
            node = body
            *groups, last = entry.field.split(".")
            for group in groups:
                node = node.setdefault(group, {})
            node[last] = self._theirs(entry, value, frame_rate)
        self._ask("write", body, channel=channel.name)

    @staticmethod
    def _theirs(entry: SettingEntry, value: Value, frame_rate: float) -> Any:
        if entry.words is not None:
            return entry.words.get(str(value), value)
        if isinstance(value, str):
            return value
        number = (
            value * frame_rate if entry.counts == "frames" else value * entry.factor if entry.factor != 1.0 else value
        )
        return round(number) if entry.whole or entry.counts == "frames" else number

    def write_slot(self, slot: int, channel: str, server: str, key: Secret) -> None:
        """Puts a server address and a key into a push slot, and says which channel it pushes."""
        entries = self._file.slots
        names = {"url": entries.server, "server": entries.server, "key": entries.key, **entries.fields}
        fields = shapes.join(shapes.endpoint(address.parse(server), key.reveal()), entries.shape)
        body: dict[str, Any] = {entries.channel: channel}
        for name, value in fields.items():
            body[names.get(name) or name] = int(value) if name == "port" else value
        self._ask("write_slot", body, slot=slot)

    def push(self, slot: int, *, on: bool) -> None:
        """Starts or stops a slot's push."""
        self._ask("push_on" if on else "push_off", slot=slot)

    def restart(self, waiting: Callable[[float], None], limit: float = RESTART_LIMIT) -> None:
        """Restarts the device and waits until it answers again; ``waiting`` is told the seconds so far."""
        if "restart" not in self._file.requests:
            raise BadAnswer(f"{self.name} needs a restart, which its driver cannot do: restart it by hand")
        self._ask("restart")
        begin = time.monotonic()
        gone = False
        while (passed := time.monotonic() - begin) < limit:
            time.sleep(0.2)
            waiting(passed)
            try:
                self._ask("state")
            except Unreachable:
                gone = True
                continue
            except BadAnswer:
                continue
            if gone or passed > 10:
                return
        raise Unreachable(
            f"{self.name} has not come back {limit:g} s after its restart: look at it, switch it off and on"
        )


def _reason(error: httpx.HTTPError) -> str:
    text = str(error)
    if "refused" in text.lower():
        return "connection refused"
    if ("name" in text.lower() and "known" in text.lower()) or "getaddrinfo" in text.lower():
        return "its name is unknown"
    return text.lower() or type(error).__name__
