"""What a rig says of platforms and events: when, for whom, with which feeds."""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping
from enum import StrEnum
from typing import ClassVar, Literal, assert_never
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import Field, field_validator

from direkt.destination import references
from direkt.documents import Strict
from direkt.rig import templates

Audience = Literal["everyone", "link", "invited"]
Delay = Literal["usual", "short", "shortest"]
Projection = Literal["none", "equirectangular", "cubemap", "equi-angular-cubemap"]
FieldValue = bool | int | float | str

_LENGTH = re.compile(r"(?:(\d{1,4})\s*h)?\s*(?:(\d{1,5})\s*(?:min|m))?\s*(?:(\d{1,6})\s*s)?")
_LONGEST = 31 * 86400  # s
_RULE = re.compile(r"[A-Z]+=[A-Z0-9,+\-]+(;[A-Z]+=[A-Z0-9,+\-]+)*")
_FREQUENCIES = ("DAILY", "WEEKLY", "MONTHLY", "YEARLY")


def length_of(text: str) -> float:
    """A length of time such as 3h, 1h 30m or 45m in s. Raises ValueError."""
    match = _LENGTH.fullmatch(text.strip())
    hours, minutes, seconds = (int(part or 0) for part in match.groups()) if match is not None else (0, 0, 0)
    total = hours * 3600 + minutes * 60 + seconds
    if not 0 < total <= _LONGEST:
        raise ValueError(f"expected a length of time like 3h or 1h 30m, got {text!r}")
    return float(total)


def local_time(text: str) -> datetime.datetime:
    """A local date and time. Raises ValueError."""
    try:
        moment = datetime.datetime.fromisoformat(text)
    except ValueError:
        raise ValueError(f"expected date and time like 2026-07-03 09:00, got {text!r}") from None
    if moment.tzinfo is not None:
        raise ValueError(f"expected local date and time without an offset, got {text!r}; write the zone under 'zone'")
    return moment.replace(microsecond=0)


def zone_of(name: str) -> ZoneInfo:
    """A zone of the IANA time zone database. Raises ValueError."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError(f"no time zone {name!r}; expected one like Europe/Vienna or UTC") from None


def rule_parts(text: str) -> dict[str, str]:
    """A repeat rule's parts (RFC 5545, 3.3.10). Raises ValueError for one that is none, or that is not for events."""
    rule = text.strip().removeprefix("RRULE:").upper()
    if _RULE.fullmatch(rule) is None:
        raise ValueError(f"expected a repeat rule like FREQ=WEEKLY;COUNT=4 (RFC 5545), got {text!r}")
    pairs = [(name, value) for name, _, value in (part.partition("=") for part in rule.split(";"))]
    parts = dict(pairs)
    if len(parts) != len(pairs):
        raise ValueError("the repeat rule names a part twice")
    if parts.get("FREQ") not in _FREQUENCIES:
        raise ValueError(f"repeat: FREQ is {parts.get('FREQ', 'missing')}; expected {', '.join(_FREQUENCIES)}")
    if "COUNT" in parts and "UNTIL" in parts:
        raise ValueError("repeat: COUNT and UNTIL exclude each other")
    from dateutil.rrule import rrulestr

    kept = ";".join(f"{name}={value}" for name, value in pairs if name not in ("COUNT", "UNTIL"))
    try:
        rrulestr(kept, dtstart=datetime.datetime(2026, 1, 1))
        count, until = parts.get("COUNT", "1"), parts.get("UNTIL", "20260101")
        if not count.isdigit() or not int(count) or re.fullmatch(r"\d{8}(T\d{6}Z?)?", until) is None:
            raise ValueError(f"COUNT is {count}" if "COUNT" in parts else f"UNTIL is {until}")
    except (ValueError, TypeError, KeyError, IndexError, AttributeError) as error:
        raise ValueError(f"the repeat rule {text!r} cannot be followed: {error}") from None
    return parts


class EventState(StrEnum):
    """How an event stands at its platform; it goes from one to the next. Wherever states are listed, they come from here."""

    MADE = "made"  # it is there, nobody can see it
    OPEN = "open"  # pushes are let in; viewers find the page and wait
    LIVE = "live"  # on air: viewers get the stream
    CLOSED = "closed"  # it is over
    UNKNOWN = "not known"  # the platform has a word for it that nobody here knows

    @property
    def words(self) -> str:
        """For people."""
        match self:
            case EventState.MADE:
                return "made, not open"
            case EventState.OPEN:
                return "open"
            case EventState.LIVE:
                return "on air"
            case EventState.CLOSED:
                return "closed"
            case EventState.UNKNOWN:
                return "in a state that is not known here"
        assert_never(self)


STATES = tuple(state for state in EventState if state is not EventState.UNKNOWN)  # of the event interface, in their order


class PlatformEntry(Strict):
    """A platform whose events are made over HTTP."""

    address: str  # of its event interface, or of what its platform file describes
    file: str | None = None  # a platform file, shipped or beside the rig; None: the event interface
    token: str | None = None  # reference to a bearer token; None: sign in with direkt event sign-in
    client: str = "direkt"  # what this program is called when a person signs in (client_id of RFC 8628)
    client_secret: str | None = None  # reference to what the platform gave out together with the client's name
    certificate: Literal["checked", "any"] = "checked"
    insecure: Literal["yes", "no"] = "no"  # yes: its token may go unencrypted over http:// beyond the local network

    @field_validator("address")
    @classmethod
    def _address(cls, value: str) -> str:
        try:
            parts = urlsplit(value)
            good = parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port != 0
        except ValueError:
            good = False
        if not good or value != value.strip() or value.count("://") != 1 or parts.query or parts.fragment:
            raise ValueError(f"expected an address like https://api.tarnlight.example/events, got {value!r}")
        if "@" in parts.netloc:
            raise ValueError("the address holds a login; put a reference under 'token'")
        return value.rstrip("/")

    @field_validator("token", "client_secret")
    @classmethod
    def _token(cls, value: str | None) -> str | None:
        if value is not None:
            references.parse_ref(value)
        return value


_DELAYS = ("usual", "short", "shortest")
_AT_MOST = re.compile(r"(?:at most\s+)?(\d{1,4}(?:\.\d)?)\s*s")


def delay_of(text: str) -> str | float:
    """A delay as one of our words, or as s that viewers may be behind at the most. Raises ValueError."""
    match = _AT_MOST.fullmatch(text.strip().lower())
    if match is not None and float(match[1]) > 0:
        return float(match[1])
    if text not in _DELAYS:
        raise ValueError(f"expected {', '.join(_DELAYS)}, or a figure like 'at most 6 s', got {text!r}")
    return text


class EventAt(Strict):
    """What an event is at one destination, where that differs."""

    title: str | None = Field(default=None, min_length=1, max_length=300)
    description: str | None = Field(default=None, max_length=10_000)
    audience: Audience | None = None
    delay: str | None = None
    projection: Projection | None = None
    rewind: str | None = None
    keep: bool | None = None
    fields: dict[str, FieldValue] = {}  # beside those of the event

    @field_validator("title", "description")
    @classmethod
    def _template(cls, value: str | None) -> str | None:
        if value is not None:
            templates.check(value)
        return value

    @field_validator("delay")
    @classmethod
    def _delay(cls, value: str | None) -> str | None:
        if value is not None:
            delay_of(value)
        return value

    @field_validator("rewind")
    @classmethod
    def _rewind(cls, value: str | None) -> str | None:
        if value is not None:
            length_of(value)
        return value


class EventEntry(Strict):
    """What viewers are invited to."""

    title: str = Field(min_length=1, max_length=300)
    description: str = Field(default="", max_length=10_000)
    picture: str | None = None  # a file beside the rig, which viewers see before it begins
    start: str  # local date and time
    zone: str | None = None  # of the IANA database; None: the rig's
    length: str  # such as 3h
    repeat: str | None = None  # RFC 5545, 3.3.10
    skip: list[str] = []  # dates on which it does not take place
    audience: Audience = "invited"
    delay: str = "usual"  # usual, short, shortest, or a figure: at most 6 s
    projection: Projection = "none"
    rewind: str | None = None  # how far back viewers may go; None: as the platform has it
    keep: bool = False  # whether the platform keeps a recording
    fields: dict[str, FieldValue] = {}  # declarations, and what else the platform asks for
    feeds: list[str] = Field(min_length=1)
    notify: list[str] = []  # who is notified when it is on air
    RENAMED: ClassVar[Mapping[str, str]] = {"tell": "notify"}
    at: dict[str, EventAt] = {}  # what is otherwise at a destination
    series: bool = False  # all its times are one event at the platform, which keeps its key and link

    def for_destination(self, name: str) -> EventEntry:
        """As it is at one destination."""
        own = self.at.get(name)
        if own is None:
            return self
        new = {field: value for field in ("title", "description", "audience", "delay", "projection", "rewind", "keep")
               if (value := getattr(own, field)) is not None}  # fmt: skip
        return self.model_copy(update={**new, "fields": {**self.fields, **own.fields}})

    @property
    def delay_word(self) -> Delay | None:
        """The delay as a word; None: it is a figure."""
        return next((d for d in ("usual", "short", "shortest") if d == self.delay), None)

    @property
    def delay_limit(self) -> float | None:
        """s that viewers may be behind at the most; None: it is a word."""
        found = delay_of(self.delay)
        return found if isinstance(found, float) else None

    @field_validator("delay")
    @classmethod
    def _delay(cls, value: str) -> str:
        delay_of(value)
        return value

    @field_validator("title", "description")
    @classmethod
    def _template(cls, value: str) -> str:
        templates.check(value)
        return value

    @field_validator("start")
    @classmethod
    def _start(cls, value: str) -> str:
        local_time(value)
        return value

    @field_validator("zone")
    @classmethod
    def _zone(cls, value: str | None) -> str | None:
        if value is not None:
            zone_of(value)
        return value

    @field_validator("length", "rewind")
    @classmethod
    def _length(cls, value: str | None) -> str | None:
        if value is not None:
            length_of(value)
        return value

    @field_validator("repeat")
    @classmethod
    def _repeat(cls, value: str | None) -> str | None:
        if value is not None:
            rule_parts(value)
        return value

    @field_validator("skip")
    @classmethod
    def _skip(cls, value: list[str]) -> list[str]:
        for text in value:
            try:
                datetime.date.fromisoformat(text)
            except ValueError:
                raise ValueError(f"expected a date like 2026-07-04, got {text!r}") from None
        return value
