"""The driver that follows a driver file: it asks, reads, writes and pushes as that says."""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from urllib.parse import quote

from direkt import demand, parameters
from direkt.demand import Demand
from direkt.destination import forms
from direkt.device import answers, words
from direkt.device.answers import Answered, JsonAnswer, LinesAnswer, XmlAnswer
from direkt.device.driverfile import DriverFile, RequestName, SlotEntries, check, fixed_limits, version
from direkt.device.http import Answer, HttpDevice, Upload
from direkt.device.model import (
    BadAnswer,
    Bare,
    Capability,
    Channel,
    DeviceError,
    DeviceState,
    Health,
    PushState,
    Refused,
    Slot,
    Together,
    need,
)
from direkt.device.words import WordsError
from direkt.errors import Malformed
from direkt.parameters import Values
from direkt.protocol import address
from direkt.protocol.address import AddressError
from direkt.secret import Secret, without, without_keys

__all__ = ["Driver", "DriverFile", "check"]

_KEY_LIKE = 8  # characters of what could be a key at the end of an address
_OUR_STATES = {state.value: state for state in PushState}
_LARGEST_PICTURE = 16 << 20  # bytes
_PIECE = 1 << 16


def _names(entries: SlotEntries) -> dict[str, str]:
    """What the device calls each field of its form."""
    ours = {"url": entries.server, "server": entries.server, "key": entries.key or "key"}
    return {name: entries.fields.get(name) or ours.get(name, name) for name in forms.LABELS[entries.form]}


class Driver(Bare):
    """Talks to one device as its driver file says."""

    def __init__(
        self,
        name: str,
        file: DriverFile,
        address: str,
        login: tuple[str, Secret] | None,
        *,
        any_certificate: bool = False,
    ) -> None:
        self.name, self.address = name, address
        self.file = file
        self.http = HttpDevice(name, address, file.login, login, any_certificate=any_certificate)
        self._written: set[Secret] = set()  # keys that the device was given or tells: no text of its may repeat them
        self._restart_due = False
        able = {
            Capability.WRITE: "write" in file.requests,
            Capability.SLOTS: file.slots is not None,
            Capability.PUSH: file.slots is not None and {"push_on", "push_off"} <= set(file.requests),
            Capability.RESTART: "restart" in file.requests,
            Capability.FIRMWARE: "firmware" in file.requests,
            Capability.SNAPSHOT: "snapshot" in file.requests,
        }
        self.capabilities = frozenset(capability for capability, can in able.items() if can)

    def close(self) -> None:
        """Lets go of the connection."""
        self.http.close()

    # Requests

    def _ask(self, request: RequestName, fields: Mapping[str, object] | None = None, **places: object) -> Answered:
        """The answer to a request with these fields. Raises DeviceError."""
        entry = self.file.request(request)
        assert entry is not None
        method, _, path = entry.send.partition(" ")
        inside = {name: quote(str(place), safe="") for name, place in places.items()}
        path = path.format(**{"channel": "", "slot": "", **inside})
        whole = {**self._filled(entry.fields, {**places, **(fields or {})}), **self._own(request, fields or {})}
        coding = self.file.coding_of(request)
        content, kind, query = answers.body(coding, whole, entry.root) if whole else (b"", "", "")
        if query:
            path += ("&" if "?" in path else "?") + query
        headers = {"Content-Type": kind} if content else {}
        answer = self.http.admitted(method, path, content, headers)
        asked = f"{method} {path.partition('?')[0]}"
        if answer.status < 400:
            return self._read_answer(answer, asked, needed=request in ("state", "limits"))
        raise self._refusal(answer, asked)

    def _own(self, request: RequestName, fields: Mapping[str, object]) -> Mapping[str, object]:
        """The fields that go as they are: of a slot, only where the file does not say itself how they go."""
        entry = self.file.request(request)
        assert entry is not None
        return {} if request == "write_slot" and entry.fields else fields

    @staticmethod
    def _filled(texts: Mapping[str, object], values: Mapping[str, object]) -> dict[str, object]:
        """Fields with what they want filled in; one that is nothing else keeps the value's kind."""
        out: dict[str, object] = {}
        for name, text in texts.items():
            alone = re.fullmatch(r"\{(\w+)\}", text) if isinstance(text, str) else None
            if alone is not None:
                out[name] = values.get(alone[1], "")
            else:
                out[name] = (
                    text.format(**{n: values.get(n, "") for n in re.findall(r"\{(\w+)\}", text)})
                    if isinstance(text, str)
                    else text
                )
        return out

    def _read_answer(self, answer: Answer, asked: str, *, needed: bool) -> Answered:
        try:
            if self.file.answers == "json":
                if not needed and answer.kind not in ("application/json", "text/json"):
                    return JsonAnswer({})
                return JsonAnswer(self.http.read_json(answer, asked))
            if not answer.content.strip():
                return JsonAnswer({}) if not needed else LinesAnswer.read("")
            return XmlAnswer.read(answer.content) if self.file.answers == "xml" else LinesAnswer.read(answer.text)
        except Malformed as error:
            if not needed:
                return JsonAnswer({})
            shape = {"xml": "XML", "lines": "lines of name=value"}[self.file.answers]
            raise BadAnswer(
                f"{self.name} answers {asked} with {answer.kind} ({error}), expected {shape}: is this address the right "
                "device, and is it done starting?"
            ) from None

    def _refusal(self, answer: Answer, asked: str) -> DeviceError:
        """What the device says against a request."""
        entries = self.file.refusals
        if (entries is None or entries.list is None) and answer.status == 404:
            return BadAnswer(
                f"{self.name} does not know {asked} (404): does the driver {self.file.title!r} fit its firmware?"
            )
        if entries is None or entries.list is None:
            words_of = re.sub(r"<[^>]*>", " ", answer.text[:2000])
            said = without_keys(" ".join(words_of.split())[:200], self._written)
            if entries is not None and said:
                return Refused(self.name, {"settings": said})
            return BadAnswer(f"{self.name} refuses {asked} and does not say why (HTTP status {answer.status})")
        try:
            data = self._read_answer(answer, asked, needed=True)
        except DeviceError:
            return BadAnswer(f"{self.name} refuses {asked} and does not say why (HTTP status {answer.status})")
        reasons = self._refusals(data)
        if reasons:
            return Refused(self.name, reasons)
        return BadAnswer(f"{self.name} refuses {asked} and does not say why")

    def _refusals(self, data: Answered) -> dict[str, str]:
        entries = self.file.refusals
        if entries is None or entries.list is None:
            return {}
        # a device names its fields by their places, with slashes or dots
        names = {
            place.strip("/").replace("/", "."): name
            for name, s in self.file.settings.items()
            for place in (*s.places, *s.targets)
        }
        out = {}
        for item in data.parts(entries.list):
            field = str(item.get(entries.field))
            known = names.get(field.strip("/").replace("/", "."), field)
            out[known] = without_keys(str(item.get(entries.reason)), self._written)
        return out

    # Reading

    def read(self) -> DeviceState:
        """State and limits."""
        state = self._ask("state")
        limits = self._ask("limits") if "limits" in self.file.requests else state
        facts, slots = self.file.facts, self._slots(state)  # the slots first: they tell which keys no text may repeat
        signal, connected = self._fact(state, facts.input), self._fact(state, facts.input_connected)
        model = self._fact(state, facts.model)
        if model is None and self.file.kind == "http":
            raise BadAnswer(f"{self.name} does not say what it is: the driver {self.file.title!r} does not fit it")
        try:
            together = self._together(state)
            channels = {name: self._channel(name, state, limits, together) for name in self.file.channels}
        except WordsError as error:
            raise BadAnswer(f"{self.name} gives {without_keys(str(error), self._written)}") from None
        told = self._fact(state, facts.restart_needed)
        source = (
            words.input_signal(self._said(signal))
            if signal
            else words.input_signal("")
            if facts.input is None
            else None
        )
        return DeviceState(
            model=self._said(model), firmware=self._said(self._fact(state, facts.firmware)),
            temperature=_float(self._fact(state, facts.temperature)), input=source if _yes(connected) is not False else None,
            restart_needed=_yes(told) is True or self._restart_due, channels=channels, slots=slots,
            make=self._said(self._fact(state, facts.make) or self.file.fits.make), remarks=self._firmware_remark(state),
        )  # fmt: skip

    def _firmware_remark(self, state: Answered) -> tuple[str, ...]:
        least, here = version(self.file.from_firmware), version(self._said(self._fact(state, self.file.facts.firmware)))
        if least and here and here < least:
            return (f"its driver is written for firmware {self.file.from_firmware} and later",)
        return ()

    @staticmethod
    def _fact(state: Answered, place: str | None) -> object:
        return state.get(place) if place is not None else None

    def _said(self, text: object) -> str:
        """A text of the device without the keys that are known."""
        return without_keys(str(text), self._written)

    def _together(self, state: Answered) -> tuple[Together, ...]:
        """The limits that depend on each other, of those whose facts hold now."""
        out = []
        for rule in self.file.together:
            facts = {name: raw for name, raw in rule.when.items() if name in self.file.more_facts}
            if not all(_holds(state.get(self.file.more_facts[name]), raw) for name, raw in facts.items()):
                continue
            when = tuple(demand.parse(name, raw) for name, raw in rule.when.items() if name not in facts)
            then = [demand.parse(name, raw) for name, raw in rule.then.items()]
            if rule.protocols is not None:
                then.append(Demand("stream.protocol", tuple(rule.protocols)))
            out.append(Together(when, tuple(then), None, rule.because, push=rule.push == "yes"))
        return tuple(out)

    def _channel(self, name: str, state: Answered, limits: Answered, together: tuple[Together, ...]) -> Channel:
        place = self.file.channel(name).at
        data = state.part(place) if place else state
        if data is None:
            raise BadAnswer(f"{self.name} has no channel {name!r} where its driver expects it")
        values: Values = {}
        allowed = fixed_limits(self.file)
        for parameter, only in list(allowed.items()):
            if len(only.one_of) == 1 and parameter not in self.file.settings:  # it is always so
                values[parameter] = only.one_of[0]
                del allowed[parameter]
        for mode in self.file.modes:
            raw = data.get(mode.at)
            found = next(
                (
                    more
                    for word, more in mode.words.items()
                    if raw is not None and str(raw).strip().lower() == word.lower()
                ),
                None,
            )
            if found is None:
                raise WordsError(f"{mode.at} = {raw!r}, which its driver does not know")
            values |= {parameter: parameters.clean(parameter, value) for parameter, value in found.items()}
            for parameter in {p for more in mode.words.values() for p in more}:
                listed = [more[parameter] for more in mode.words.values() if parameter in more]
                allowed.setdefault(
                    parameter, Demand(parameter, tuple(dict.fromkeys(parameters.clean(parameter, v) for v in listed)))
                )
        rate = self._frame_rate(data, values)
        pictures = None
        inner = self._limits_of(name, limits)
        for parameter, entry in self.file.settings.items():
            raw = self._raw(entry, data)
            if raw is not None:
                values[parameter] = words.ours(parameter, entry, raw, rate)
            limit = self._limit(entry, inner)
            if limit is not None:
                allowed.setdefault(parameter, words.limit(parameter, entry, limit, rate))
                if entry.unit == "frames":
                    pictures = _span(limit) or pictures
        rules = (
            together
            + self._mode_rules()
            + ((Together((), (), pictures, "what the device can count"),) if pictures else ())
        )
        return Channel(name, values, allowed, str(self.file.channel(name).word or ""), rules)

    def _limits_of(self, name: str, limits: Answered) -> Answered:
        """Where a channel's limits stand: where the channel stands in the state, else for all channels at the top."""
        place = self.file.channel(name).at
        return (limits.part(place) if place else None) or limits

    def _limit(self, entry: words.SettingEntry, limits: Answered) -> object:
        usual = entry.places[:1] if "limits" in self.file.requests else []
        for place in [entry.limit_at] if entry.limit_at is not None else usual:
            found = limits.limit(place)
            if found is not None and found != "":
                return found
        return None

    @staticmethod
    def _raw(entry: words.SettingEntry, data: Answered) -> object:
        found = [data.get(place) for place in entry.places]
        if len(found) == 1:
            return found[0] if found[0] != "" else None
        return entry.join.join(str(one) for one in found) if all(one is not None for one in found) else None

    def _mode_rules(self) -> tuple[Together, ...]:
        """What a field for several parameters allows: the values of one of its words together."""
        out = []
        for mode in self.file.modes:
            names = list(dict.fromkeys(name for values in mode.words.values() for name in values))
            for parameter in names[1:]:
                first = names[0]
                for value in dict.fromkeys(values[first] for values in mode.words.values() if first in values):
                    listed = [v[parameter] for v in mode.words.values() if v.get(first) == value and parameter in v]
                    then = Demand(parameter, tuple(dict.fromkeys(parameters.clean(parameter, one) for one in listed)))
                    out.append(
                        Together(
                            (Demand(first, (parameters.clean(first, value),)),),
                            (then,),
                            None,
                            f"the modes of {mode.at}",
                        )
                    )
        return tuple(out)

    def _frame_rate(self, data: Answered, values: Values) -> float:
        entry = self.file.settings.get("video.frame_rate")
        known = values.get("video.frame_rate")
        if entry is None:
            return float(known) if isinstance(known, int | float) else 0.0
        raw = self._raw(entry, data)
        try:
            found = words.ours("video.frame_rate", entry, raw, 0.0) if raw is not None else 0.0
        except WordsError:
            return 0.0  # said where the setting itself is read
        return float(found) if isinstance(found, int | float) else 0.0

    def _slots(self, state: Answered) -> dict[int, Slot]:
        entries = self.file.slots
        if entries is None:
            return {}
        states = {theirs.lower(): ours for ours, theirs in entries.states.items()}
        listed = state.parts(entries.list) if entries.list is not None else [state]
        out = {}
        for n, item in enumerate(listed, 1):
            number = words.number_of(item.get(entries.number)) if entries.number is not None else n
            if not isinstance(number, int):
                raise BadAnswer(f"{self.name} lists a push slot without a number")
            server, length = self._target(entries, item)
            sent = words.number_of(item.get(entries.sent_bytes)) if entries.sent_bytes else None
            said = without_keys(str(item.get(entries.message) or "") if entries.message else "", self._written, length)
            word = str(item.get(entries.state)).lower()
            known = states.get(word) or _OUR_STATES.get(word, PushState.UNKNOWN)
            channel = (
                self._channel_named(item.get(entries.channel))
                if entries.channel
                else next(iter(self.file.channels), "main")
            )
            out[number] = Slot(number, channel, server, length, known, said, int(sent or 0))
        return out

    def _channel_named(self, word: object) -> str:
        """Our name for the device's word for a channel."""
        for name in self.file.channels:
            ours = self.file.channel(name).word
            if str(word) == str(ours if ours is not None else name):
                return name
        return self._said(word)

    def _word(self, channel: str) -> str | int:
        """The device's word for a channel of ours."""
        if channel not in self.file.channels:
            return channel
        word = self.file.channel(channel).word
        return word if word is not None else channel

    def _target(self, entries: SlotEntries, item: Answered) -> tuple[str, int]:
        """The server address in a slot, and how long its key is. A key that stands in the answer stays in here."""
        names = _names(entries)
        given = {
            name: str(value)
            for name in forms.LABELS[entries.form]
            if (value := item.get(names[name])) not in (None, "")
        }
        said = words.number_of(item.get(entries.key_length)) if entries.key_length else None
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
        if not given or (entries.form == "parts" and "host" not in given):
            return "", 0
        try:
            endpoint = forms.split({"stream": "", **given}, entries.form)
        except AddressError:
            return without_keys(given.get("url", "an address that cannot be read")), length
        if endpoint.stream:
            self._written.add(Secret(endpoint.stream))
        return str(endpoint.server), length or len(endpoint.stream)

    def health(self) -> Health:
        """How it fares, as far as its file says where that stands."""
        state, facts = self._ask("state"), self.file.facts
        signal, connected = self._fact(state, facts.input), _yes(self._fact(state, facts.input_connected))
        slots = tuple(self._slots(state).values())
        complaint, fan = self._fact(state, facts.complaint), self._fact(state, facts.fan)
        return Health(
            temperature=_float(self._fact(state, facts.temperature)), memory_free=_float(self._fact(state, facts.memory_free)),
            fan=self._said(fan) if fan is not None else None,
            input=None if facts.input is None else self._said(signal) if signal and connected is not False else "",
            uptime=_float(self._fact(state, facts.uptime)), pushes=slots,
            restart_needed=_yes(self._fact(state, facts.restart_needed)) is True or self._restart_due,
            wrong=(self._said(complaint),) if complaint else (),
        )  # fmt: skip

    def answers(self) -> bool:
        """Whether the state can be read."""
        try:
            self._ask("state")
        except DeviceError:
            return False
        return True

    # Writing

    def write(self, channel: Channel, values: Values) -> None:
        """Sets parameters of a channel.

        Where the frame rate changes, settings counted in frames are written too, so that their seconds stay.
        """
        need(self, Capability.WRITE)
        rate = values.get("video.frame_rate", channel.values.get("video.frame_rate", 0))
        frame_rate = rate if not isinstance(rate, str) else 0.0
        if "video.frame_rate" in values:
            counted = (name for name, entry in self.file.settings.items() if entry.unit == "frames")
            values = {**{name: channel.values[name] for name in counted if name in channel.values}, **values}
        fields: dict[str, object] = self._mode_fields({**channel.values, **values}, set(values))
        for parameter, value in values.items():
            entry = self.file.settings.get(parameter)
            if entry is None:
                if not any(parameter in more for mode in self.file.modes for more in mode.words.values()):
                    raise Refused(self.name, {parameter: "its driver has no field for it"})
                continue
            raw = words.theirs(entry, value, frame_rate)
            parts = str(raw).split(entry.join) if len(entry.targets) > 1 else [raw]
            for target, part in zip(entry.targets, parts, strict=False):
                number = words.number_of(part)
                fields[self._target_field(channel.name, target)] = (
                    number if len(parts) > 1 and number is not None else part
                )
        self._ask("write", fields, channel=self._word(channel.name))
        if set(values) & set(self.file.restart_after):
            self._restart_due = True

    def _target_field(self, channel: str, target: str) -> str:
        """The name of a field in what is sent: lines and forms have no other place for the channel than in front of it."""
        place = self.file.channel(channel).at
        flat = self.file.coding_of("write") in ("form", "query") and self.file.answers == "lines"
        return f"{place}{target}" if flat else target

    def _mode_fields(self, whole: Values, changed: set[str]) -> dict[str, object]:
        """The words of fields that stand for several parameters. Raises Refused where none has all values."""
        out: dict[str, object] = {}
        for mode in self.file.modes:
            names = {name for more in mode.words.values() for name in more}
            if not names & changed:
                continue
            word = next((w for w, more in mode.words.items() if all(
                n in whole and parameters.same(n, whole[n], parameters.clean(n, v)) for n, v in more.items()
            )), None)  # fmt: skip
            if word is None:
                wanted = ", ".join(parameters.show(n, whole.get(n)) for n in sorted(names))
                raise Refused(self.name, {mode.at: f"there is no mode with {wanted}"})
            out[mode.send or mode.at] = word
        return out

    def write_slot(self, slot: int, channel: str, server: str, key: Secret) -> None:
        """Puts a server address and a key into a push slot, and says which channel it pushes."""
        need(self, Capability.SLOTS)
        entries = self.file.slots
        assert entries is not None
        self._written.add(key)
        names = _names(entries)
        if server:
            fields = forms.join(forms.Endpoint(address.parse(server), key.reveal()), entries.form)
        else:
            fields = dict.fromkeys(forms.LABELS[entries.form], "")
        request = self.file.request("write_slot")
        if request is not None and request.fields:
            self._ask("write_slot", {**fields, "channel": self._word(channel)}, slot=slot)
            return
        body: dict[str, object] = {entries.channel: self._word(channel)} if entries.channel else {}
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
        self._restart_due = False

    # Pictures and firmware

    def snapshot(self, channel: str) -> bytes:
        """A JPEG. Raises DeviceError."""
        need(self, Capability.SNAPSHOT)
        entry = self.file.request("snapshot")
        assert entry is not None
        method, _, path = entry.send.partition(" ")
        answer = self.http.admitted(
            method, path.format(channel=quote(str(self._word(channel)), safe=""), slot=""), most=_LARGEST_PICTURE
        )
        if answer.status >= 300 or not answer.content.startswith(b"\xff\xd8"):
            what = f"HTTP status {answer.status}" if answer.status >= 300 else answer.kind
            raise BadAnswer(f"{self.name} gives no JPEG as its picture: {what}")
        return answer.content

    def update(self, file: Path, sent: Callable[[int], None]) -> None:
        """Sends a firmware file. Raises Refused and OSError."""
        need(self, Capability.FIRMWARE)
        entry = self.file.request("firmware")
        assert entry is not None
        method, _, path = entry.send.partition(" ")
        before, after, kind = b"", b"", "application/octet-stream"
        if entry.file_field:  # RFC 7578
            boundary = f"direkt-{secrets.token_hex(12)}"
            name = re.sub(r"[^\w.-]", "_", file.name, flags=re.ASCII)
            head = f'--{boundary}\r\nContent-Disposition: form-data; name="{entry.file_field}"; filename="{name}"\r\nContent-Type: {kind}\r\n\r\n'
            before, after, kind = (
                head.encode(),
                f"\r\n--{boundary}--\r\n".encode(),
                f"multipart/form-data; boundary={boundary}",
            )

        def parts() -> Iterator[bytes]:
            yield from filter(None, (before,))
            with file.open("rb") as source:
                while part := source.read(_PIECE):
                    yield part
            yield from filter(None, (after,))

        upload = Upload(parts, len(before) + file.stat().st_size + len(after), sent)
        self._ask("state")  # so that the login is known before the file goes
        answer = self.http.admitted(method, path.format(channel="", slot=""), upload, {"Content-Type": kind})
        if answer.status >= 300:
            refusal = self._refusal(answer, "the firmware")
            if isinstance(refusal, Refused):
                raise refusal
            said = " ".join(re.sub(r"<[^>]*>", " ", answer.text[:2000]).split())[:200]
            raise Refused(self.name, {"firmware": said or f"HTTP status {answer.status}"})


def _float(raw: object) -> float | None:
    number = words.number_of(raw)
    return float(number) if number is not None else None


def _yes(raw: object) -> bool | None:
    """Yes or no in any of the words that devices have for it; None for anything else."""
    if isinstance(raw, bool):
        return raw
    return {
        "yes": True,
        "true": True,
        "on": True,
        "1": True,
        "no": False,
        "false": False,
        "off": False,
        "0": False,
    }.get(str(raw).strip().lower())


def _holds(told: object, wanted: object) -> bool:
    """Whether a fact is as a rule wants it: a value, one of several, or within a range."""
    if isinstance(wanted, list):
        return any(_holds(told, one) for one in wanted)
    if isinstance(wanted, dict):
        number = words.number_of(told)
        low, high = (words.number_of(wanted.get(end)) for end in ("min", "max"))
        return number is not None and (low is None or number >= low) and (high is None or number <= high)
    if isinstance(wanted, bool) or isinstance(told, bool):
        return _yes(told) is not None and _yes(told) == _yes(wanted)
    return told is not None and str(told).strip().lower() == str(wanted).strip().lower()


def _span(limit: object) -> tuple[int, int] | None:
    """A range of whole numbers."""
    raw = words.spoken(limit) if isinstance(limit, str) else limit
    if not isinstance(raw, Mapping):
        return None
    low, high = (words.number_of(raw.get(end)) for end in ("min", "max"))
    return (int(low), int(high)) if low is not None and high is not None else None
