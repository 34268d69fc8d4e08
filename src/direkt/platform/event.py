"""What platforms have in common: an event as they keep it, its ingest, what arrives there, and what can go wrong."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, Protocol

from direkt.errors import NoAnswer, UnusableInput
from direkt.parameters import Values
from direkt.platform.planned import WantedEvent
from direkt.protocol import address
from direkt.rig.events import Audience, Delay, EventState, FieldValue
from direkt.secret import Secret

Role = Literal["primary", "backup"]


class PlatformError(NoAnswer):
    """A platform does not answer, or does not do what it is asked; the text says what to do."""


class NotSignedIn(PlatformError):
    """It wants somebody to sign in, once more or for the first time."""


class Changed(PlatformError):
    """Somebody else changed the event meanwhile."""


class NoSuchEvent(PlatformError):
    """The platform does not know the event."""


class Declined(PlatformError):
    """The platform refuses what it was asked for; ``reasons`` maps the event's parts to its words."""

    def __init__(self, platform: str, text: str, reasons: Mapping[str, str] | None = None) -> None:
        self.reasons = dict(reasons or {})
        more = "; ".join(f"{name}: {why}" for name, why in self.reasons.items())
        super().__init__(f"{platform} refuses: {text}" + (f" ({more})" if more and more not in text else ""))


class CannotPlatform(UnusableInput):
    """This platform has no way to do this."""


@dataclass(frozen=True, slots=True)
class PlatformEvent:
    """An event as a platform has it."""

    id: str
    state: EventState
    title: str = ""
    start: str = ""  # RFC 3339
    audience: Audience | None = None  # None: it does not tell
    delay: Delay | None = None
    projection: str | None = None
    watch: str = ""  # where viewers go
    player: str = ""  # where their players fetch the stream (HLS); empty: it does not tell
    version: str = ""  # its entity tag: a change names the one that it changes
    closed_because: str = ""
    ref: str = ""  # our name for it, as the platform keeps it; empty: it has none of ours
    word: str = ""  # the platform's own word for the state
    told: Mapping[str, object] = field(default_factory=dict)  # what stands there, by our names, for comparing


@dataclass(frozen=True, slots=True)
class IngestServer:
    """A server address that the platform gives out."""

    address: str
    role: Role = "primary"


@dataclass(frozen=True, slots=True)
class Ingest:
    """Where to push an event, and with which key."""

    servers: tuple[IngestServer, ...]
    key: Secret
    version: str = ""

    def addresses(self, role: Role) -> list[str]:
        """The server addresses for a role."""
        return [server.address for server in self.servers if server.role == role]


@dataclass(frozen=True, slots=True)
class InputGap:
    """A time in which nothing came, between two in which something did."""

    began: str  # RFC 3339
    seconds: float


@dataclass(frozen=True, slots=True)
class Input:
    """What the ingest sees of one push."""

    role: Role
    arriving: bool | None  # None: it does not tell
    since: str = ""  # RFC 3339
    shown: bool | None = None  # viewers get it; None: it does not tell
    values: Values = field(default_factory=dict)  # by our parameters' names
    gaps: tuple[InputGap, ...] = ()  # the latest ones, oldest first
    health: str = ""  # good, poor, or whatever the platform says
    complaints: tuple[str, ...] = ()  # in its own words

    @property
    def missing(self) -> float:
        """s, all gaps together."""
        return round(sum(gap.seconds for gap in self.gaps), 1)


@dataclass(frozen=True, slots=True)
class Seen:
    """What a platform sees of an event now."""

    inputs: tuple[Input, ...]
    viewers: int | None = None
    whole: bool = True  # of a push that is not among the inputs, nothing arrives; False: nobody knows

    def input(self, role: Role) -> Input | None:
        """One push; None where the platform does not tell of it."""
        return next((one for one in self.inputs if one.role == role), None)

    def arrives(self, role: Role) -> bool | None:
        """Whether a push arrives; None: it is not told."""
        one = self.input(role)
        return one.arriving if one is not None else False if self.whole else None


@dataclass(frozen=True, slots=True)
class FieldSpec:
    """A declaration or another field that a platform asks for."""

    name: str
    title: str
    choices: tuple[FieldValue, ...] = ()  # empty: any
    needed: bool = False


Part = Literal["picture", "keep", "rewind", "projection", "description"]
_PARTS: Mapping[Part, str] = {
    "picture": "the picture", "keep": "that it is kept as a recording", "rewind": "how far back viewers may go",
    "projection": "that the picture is spherical", "description": "the description",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class PlatformFacts:
    """What is known of a platform before it is asked."""

    title: str
    fields: Mapping[str, FieldSpec] = field(default_factory=dict)
    audiences: tuple[Audience, ...] = ("everyone", "link", "invited")
    delays: tuple[Delay, ...] = ("usual", "short", "shortest")
    pauses: bool = True  # the event stays open and keeps its link when the push stops
    tells_ingest: bool = True  # what the ingest sees can be asked for
    widens: bool = True  # who may watch can be changed after the event was made
    title_length: int | None = None  # characters, at the most
    without: tuple[Part, ...] = ()  # parts of an event that cannot be given here

    def left_out(self, wanted: WantedEvent) -> list[str]:
        """What of an event has to be put in on the platform's own page."""
        asked = {
            "picture": bool(wanted.picture), "keep": wanted.keep, "rewind": wanted.rewind is not None,
            "projection": wanted.projection != "none", "description": bool(wanted.description),
        }  # fmt: skip
        return [_PARTS[name] for name in self.without if asked[name]]

    def settled(self, fields: Mapping[str, FieldValue]) -> dict[str, FieldValue]:
        """Fields as this platform takes them: one of its choices, or yes and no as such where it has none."""
        out: dict[str, FieldValue] = {}
        for name, value in fields.items():
            spec = self.fields.get(name)
            found = chosen(value, spec.choices) if spec is not None and spec.choices else _YES_OR_NO.get(str(value).lower())
            out[name] = value if found is None else found
        return out

    def wrong(self, wanted: WantedEvent) -> list[str]:
        """What of an event this platform will not take; empty: nothing that is known."""
        out = []
        if self.title_length is not None and len(wanted.title) > self.title_length:
            out.append(f"title: it has {len(wanted.title)} characters, {self.title} takes {self.title_length}: {wanted.title!r}")
        if wanted.audience not in self.audiences:
            out.append(f"audience: {self.title} has {', '.join(self.audiences)}, not {wanted.audience}")
        if wanted.delay not in self.delays:
            out.append(f"delay: {self.title} has {', '.join(self.delays)}, not {wanted.delay}")
        for name, spec in self.fields.items():
            value = wanted.fields.get(name)
            listed = ", ".join(_word(choice) for choice in spec.choices)
            if value is None and spec.needed:
                out.append(
                    f"fields.{name}: {self.title} insists on it ({spec.title})" + (f": {listed}" if listed else "")
                )
            elif value is not None and spec.choices and chosen(value, spec.choices) is None:
                out.append(f"fields.{name}: {_word(value)} is none of {listed}")
        if self.fields:
            out += [
                f"fields.{name}: {self.title} has no such field; it has {', '.join(self.fields)}"
                for name in wanted.fields
                if name not in self.fields
            ]
        return out


_YES_OR_NO: Mapping[str, FieldValue] = {"yes": True, "true": True, "no": False, "false": False}


def chosen(value: FieldValue, choices: Sequence[FieldValue]) -> FieldValue | None:
    """The choice that a value stands for: yes and no may be written as a text, numbers too. None: it is none of them."""
    exact = next((c for c in choices if c == value and type(c) is type(value)), None)
    return exact if exact is not None else next((c for c in choices if _word(c).lower() == _word(value).lower()), None)


def _word(value: FieldValue) -> str:
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


def given_servers(platform: str, told: Sequence[tuple[object, Role]], key: Secret) -> tuple[IngestServer, ...]:
    """Server addresses as a platform gives them out, in our form: without the key behind them, without a slash at the end.

    What is no address is passed over. Raises PlatformError where nothing is left; its text holds no key.
    """
    out, why = [], "it names none"
    for text, role in told:
        if not isinstance(text, str):
            continue
        plain = text.strip().rstrip("/").removesuffix(key.reveal()).rstrip("/")
        if key.reveal() in plain:
            why = "the key is in the middle of it"
            continue
        scheme, mark, rest = plain.partition("://")
        try:
            out.append(IngestServer(str(address.parse(f"{scheme.lower()}{mark}{rest}")), role))
        except UnusableInput as error:
            why = str(error)
    if not out:
        raise PlatformError(f"{platform} has no server address that can be used: {why}")
    return tuple(out)


class Platform(Protocol):
    """Talks to one platform. Every method but close() may raise a PlatformError; each may be called twice without harm."""

    name: str
    facts: PlatformFacts

    def find(self, event: str) -> PlatformEvent | None:
        """The event by the id that we gave it; None where the platform has none: its list was read to the end."""

    def again(self, known: PlatformEvent) -> PlatformEvent | None:
        """An event as it is now, whoever made it; None where the platform has it no longer."""

    def listed(self) -> list[PlatformEvent]:
        """All events of this account, whoever made them. Raises PlatformError where the list cannot be read to its end."""

    def make(self, event: str, wanted: WantedEvent) -> PlatformEvent:
        """Makes the event, or finds it as it was made before."""

    def change(self, known: PlatformEvent, wanted: WantedEvent) -> PlatformEvent:
        """Changes what differs. Raises Changed where ``known`` is no longer what the platform has."""

    def open(self, known: PlatformEvent) -> PlatformEvent:
        """Lets pushes in; viewers wait."""

    def air(self, known: PlatformEvent) -> PlatformEvent:
        """Gives viewers the stream."""

    def finish(self, known: PlatformEvent) -> PlatformEvent:
        """Ends it for viewers."""

    def drop(self, known: PlatformEvent) -> None:
        """Takes it away."""

    def ingest(self, known: PlatformEvent) -> Ingest:
        """Server addresses and key."""

    def renew(self, known: PlatformEvent) -> Ingest:
        """The same with a new key."""

    def seen(self, known: PlatformEvent) -> Seen | None:
        """What the ingest sees now; None where the platform does not tell."""

    def view(self, address: str) -> bytes:
        """What a viewer's player would get."""

    def clock_ahead(self) -> float | None:
        """s by which its clock is ahead of this machine's, by its last answer; None: it did not tell. Good to a second."""

    def close(self) -> None:
        """Lets go of the connection."""


def differences(known: PlatformEvent, wanted: Mapping[str, object]) -> list[tuple[str, object, object]]:
    """What the platform has otherwise than wanted: name, what it has, what is wanted. What it does not tell is passed over."""
    return [
        (name, known.told[name], value)
        for name, value in wanted.items()
        if name in known.told and known.told[name] != value
    ]
