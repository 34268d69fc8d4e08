"""What a rig says of platforms and events: when, for whom, with which feeds."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import ClassVar, Literal, assert_never
from urllib.parse import urlsplit

from pydantic import Field, field_validator

from direkt.documents import Strict
from direkt.rig.values import DateText, DelayText, Length, LocalTime, Reference, Repeat, Template, Zone, delay_of

Audience = Literal["everyone", "link", "invited"]
Delay = Literal["usual", "short", "shortest"]
Projection = Literal["none", "equirectangular", "cubemap", "equi-angular-cubemap"]
FieldValue = bool | int | float | str

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
    token: Reference | None = None  # reference to a bearer token; None: sign in with direkt event sign-in
    client: str = "direkt"  # what this program is called when a person signs in (client_id of RFC 8628)
    client_secret: Reference | None = None  # reference to what the platform gave out together with the client's name
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


class EventAt(Strict):
    """What an event is at one destination, where that differs."""

    title: Template | None = Field(default=None, min_length=1, max_length=300)
    description: Template | None = Field(default=None, max_length=10_000)
    audience: Audience | None = None
    delay: DelayText | None = None
    projection: Projection | None = None
    rewind: Length | None = None
    keep: bool | None = None
    fields: dict[str, FieldValue] = {}  # beside those of the event


class EventEntry(Strict):
    """What viewers are invited to."""

    title: Template = Field(min_length=1, max_length=300)
    description: Template = Field(default="", max_length=10_000)
    picture: str | None = None  # a file beside the rig, which viewers see before it begins
    start: LocalTime  # local date and time
    zone: Zone | None = None  # of the IANA database; None: the rig's
    length: Length  # such as 3h
    repeat: Repeat | None = None  # RFC 5545, 3.3.10
    skip: list[DateText] = []  # dates on which it does not take place
    audience: Audience = "invited"
    delay: DelayText = "usual"  # usual, short, shortest, or a figure: at most 6 s
    projection: Projection = "none"
    rewind: Length | None = None  # how far back viewers may go; None: as the platform has it
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
