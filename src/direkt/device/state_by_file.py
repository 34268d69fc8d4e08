"""What a device's answers mean by its driver file: state, limits, push slots, health. Nothing here asks the device."""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import urlsplit

from direkt import demand, parameters
from direkt.demand import Demand
from direkt.described import words
from direkt.described.answers import Answered
from direkt.described.errors import BadAnswer
from direkt.described.words import NotReported, WordsError
from direkt.destination import forms
from direkt.device.driver_file import ChannelEntry, DriverFile, SlotEntries, fixed_limits, form_names, version
from direkt.device.input import input_signal
from direkt.device.settings_modes import mode_limits, mode_rules
from direkt.device.state import Bare, Channel, DeviceState, Health, PushState, Slot, Together
from direkt.parameters import Values
from direkt.protocol import source
from direkt.protocol.address import AddressError, bracketed
from direkt.secret import Secret, without, without_keys

_KEY_LIKE = 8  # characters of what could be a key at the end of an address
_OUR_STATES = {state.value: state for state in PushState}


class Understood(Bare):
    """A driver as far as it reads answers."""

    def __init__(self, name: str, file: DriverFile) -> None:
        self.name, self.file = name, file
        self._written: set[Secret] = set()  # keys that the device was given or tells: no text of its may repeat them
        self._restart_due = False
        self._untold: list[str] = []  # what the latest answer leaves open

    def _state(self, state: Answered, limits: Answered) -> DeviceState:
        """State and limits."""
        facts, slots = self.file.facts, self._slots(state)  # the slots first: they tell which keys no text may repeat
        signal, connected = self._fact(state, facts.input), self._fact(state, facts.input_connected)
        model = self._fact(state, facts.model)
        if model is None and self.file.kind == "http":
            raise BadAnswer(self.name, f"does not say what it is: the driver {self.file.title!r} does not fit it")
        self._untold = []
        try:
            together = self._together(state)
            channels = {name: self._channel(name, state, limits, together) for name in self.file.channels}
        except WordsError as error:
            raise BadAnswer(self.name, f"gives {without_keys(str(error), self._written)}") from None
        told = self._fact(state, facts.restart_needed)
        source = (
            input_signal(self._said(signal))
            if signal
            else input_signal("")
            if facts.input is None
            else None
        )
        return DeviceState(
            model=self._said(model), firmware=self._said(self._fact(state, facts.firmware)),
            temperature=_float(self._fact(state, facts.temperature)), input=source if _yes(connected) is not False else None,
            restart_needed=_yes(told) is True or self._restart_due, channels=channels, slots=slots,
            make=self._said(self._fact(state, facts.make) or self.file.fits.make), remarks=(*self._firmware_remark(state), *self._untold),
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
            raise BadAnswer(self.name, f"has no channel {name!r} where its driver expects it")
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
        for parameter, limit in mode_limits(self.file).items():
            allowed.setdefault(parameter, limit)
        rate = self._frame_rate(data, values)
        pictures = None
        inner = self._limits_of(name, limits)
        for parameter, entry in self.file.settings.items():
            raw = self._raw(entry, data)
            if raw is not None:
                try:
                    values[parameter] = words.ours(parameter, entry, raw, rate)
                except NotReported as error:
                    self._untold.append(f"{name}: {error}")
            told = self._limit(entry, inner)
            if told is not None:
                allowed.setdefault(parameter, words.limit(parameter, entry, told, rate))
                if entry.unit == "frames":
                    pictures = _span(told) or pictures
        rules = (
            together
            + mode_rules(self.file)
            + ((Together((), (), pictures, "what the device can count"),) if pictures else ())
        )
        named = self.file.channel(name)
        return Channel(name, values, allowed, str(named.word or ""), rules, stream=self._stream(named, state))

    def _stream(self, entry: ChannelEntry, state: Answered) -> str:
        """Where a channel can be fetched."""
        if not entry.stream:
            return ""
        told = entry.stream if "://" in entry.stream else str(state.get(entry.stream) or "")
        host = urlsplit(self.address).hostname or ""
        return source.offered(told.replace("{host}", bracketed(host)), host)

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
        states = {
            theirs.lower(): ours for ours, listed in entries.states.items() for theirs in ([listed] if isinstance(listed, str) else listed)
        }
        listed = state.parts(entries.list) if entries.list is not None else [state]
        out = {}
        for n, item in enumerate(listed, 1):
            number = words.number_of(item.get(entries.number)) if entries.number is not None else n
            if not isinstance(number, int):
                raise BadAnswer(self.name, "lists a push slot without a number")
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
        names = form_names(entries)
        given = {
            name: str(value)
            for name in forms.LABELS[entries.form]
            if (value := item.get(names[name])) not in (None, "")
        }
        said = words.number_of(item.get(entries.key_length)) if entries.key_length else None
        length = said if isinstance(said, int) else 0
        if entries.form == "url+key":
            if key := given.get("key"):
                self._written.add(Secret(key, everywhere=False))
            scheme, separator, rest = given.get("server", "").partition("?")[0].partition("://")
            place, slash, path = rest.partition("/")
            length = length or len(given.get("key", ""))
            app, inner, last = path.rpartition("/")
            if not length and inner and len(last) >= _KEY_LIKE and not last.isalpha():  # all of it in the address
                self._written.add(Secret(last, everywhere=False))
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
            self._written.add(Secret(endpoint.stream, everywhere=False))
        return str(endpoint.server), length or len(endpoint.stream)

    def _health(self, state: Answered) -> Health:
        """How the device fares, as far as its file says where that stands."""
        facts = self.file.facts
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
