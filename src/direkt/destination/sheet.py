"""The ingest sheet: what a destination demands and recommends, as data.

A sheet file is YAML. Each rule names a parameter and says what it must be and, apart from that, what it should
be: a value, a list of values, or a range. The ladder gives the video bitrate by picture size and frame rate.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Annotated, Literal

from pydantic import Field, WithJsonSchema, model_validator

from direkt import parameters
from direkt.demand import Demand
from direkt.documents import Strict, checked
from direkt.errors import UnusableInput
from direkt.parameters import Values
from direkt.protocol import address
from direkt.protocol.address import ServerAddress
from direkt.protocol.schemes import SCHEMES


@dataclass(frozen=True, slots=True)
class Rule:
    """What a sheet says of one parameter."""

    name: str
    must: Demand | None = None
    should: Demand | None = None
    because: str = ""
    source: str = ""  # file and line
    same_as_source: bool = False  # the frame rate of the device's input, whatever it is

    def text(self) -> str:
        """As a person reads it."""
        if self.same_as_source:
            listed = f"{self.must.text()}; " if self.must else ""
            return f"{listed}the same as the source"
        if self.must and self.should:
            return f"{self.must.text()}; best {self.should.text()}"
        if self.must:
            return self.must.text()
        return f"best {self.should.text()}" if self.should else ""

    def json(self) -> dict[str, object]:
        """``{"must": ..., "should": ..., "never": [...]}``, each only where there is one."""
        must, never = self.must, self.must.never if self.must is not None else ()
        if must is not None and never:
            must = replace(must, never=()) if must.bounded else None
        parts = {"must": must, "should": self.should}
        found: dict[str, object] = {key: part.json() for key, part in parts.items() if part is not None}
        if never:
            found["never"] = list(never)
        return {**found, "same_as_source": True} if self.same_as_source else found


@dataclass(frozen=True, slots=True)
class Rung:
    """One step of the ladder: for pictures up to this size at these rates, the video bitrate in kbit/s."""

    width: int  # px
    height: int  # px
    slowest: float  # fps
    fastest: float  # fps
    minimum: float  # kbit/s; 0 where the sheet names none
    best: float | None
    maximum: float | None  # None: the sheet names none
    source: str = ""
    codecs: tuple[str, ...] = ()  # that it holds for; empty: for each

    @property
    def text(self) -> str:
        """The range as a person reads it, in kbit/s, without the best one."""
        return span_text(self.minimum, self.maximum)

    @property
    def words(self) -> str:
        """Which pictures it is for, as a person reads it."""
        codecs = f" in {' or '.join(self.codecs)}" if self.codecs else ""
        return f"{self.width}x{self.height} at {self.slowest:g} to {self.fastest:g} fps{codecs}"

    def meets(self, other: Rung) -> bool:
        """Whether both can hold for one codec."""
        return not self.codecs or not other.codecs or not set(self.codecs).isdisjoint(other.codecs)

    def holds_for(self, codec: str | None) -> bool:
        """Whether it holds for a codec; for one that nobody knows, only where it holds for each."""
        return not self.codecs or codec in self.codecs

    def fits(self, width: int, height: int, frame_rate: float) -> bool:
        """Whether the picture is no larger than this rung's, at one of its rates."""
        return (
            width <= self.width and height <= self.height and self.slowest - 0.01 <= frame_rate <= self.fastest + 0.01
        )


@dataclass(frozen=True, slots=True)
class AudioRung:
    """The audio bitrate in kbit/s for a number of channels."""

    channels: int
    minimum: float  # 0 where the sheet names none
    best: float | None
    maximum: float | None  # None: the sheet names none
    source: str = ""

    @property
    def text(self) -> str:
        """The range as a person reads it, in kbit/s, without the best one."""
        return span_text(self.minimum, self.maximum)


def span_text(minimum: float, maximum: float | None) -> str:
    """A range of bitrates as a person reads it."""
    if maximum is None:
        return f"at least {minimum:g}" if minimum else "any"
    return f"{minimum:g} to {maximum:g}" if minimum else f"up to {maximum:g}"


def span_demand(name: str, minimum: float, maximum: float | None) -> Demand | None:
    """A range of bitrates as a demand; None where it limits nothing."""
    if maximum is None and not minimum:
        return None
    return (
        Demand(name, minimum=minimum or None, maximum=maximum)
        if maximum is None
        else Demand(name, minimum=minimum, maximum=maximum)
    )


def _known(scheme: str) -> None:
    if scheme not in SCHEMES:
        raise ValueError(f"expected {' or '.join(SCHEMES)}, got {scheme!r}")


Scheme = Annotated[str, checked(_known), WithJsonSchema({"enum": list(SCHEMES)})]


class Latency(Strict):
    """How long the receiving end waits for packets that are sent again, in ms; an end that is not named is open."""

    min: float | None = Field(default=None, ge=0)
    best: float | None = Field(default=None, ge=0)
    max: float | None = Field(default=None, ge=0)

    def contradiction(self) -> str:
        """What does not go together; empty: nothing."""
        low, high = self.min or 0.0, self.max if self.max is not None else float("inf")
        if low > high:
            return f"min {low:g} is above max {high:g}"
        return f"best {self.best:g} lies outside {low:g} to {high:g} ms" if self.best is not None and not low <= self.best <= high else ""

    def text(self) -> str:
        """As a person reads it."""
        if self.min is not None and self.max is not None:
            span = f"{self.min:g} to {self.max:g} ms" if self.min != self.max else f"{self.min:g} ms"
        else:
            span = f"at least {self.min:g} ms" if self.min is not None else f"at most {self.max:g} ms" if self.max is not None else ""
        return ", ".join(part for part in (span, f"best {self.best:g} ms" if self.best is not None else "") if part)


class Protocol(Strict):
    """A protocol that the ingest takes, and its port."""

    protocol: Scheme
    port: int = Field(ge=1, le=65535)
    # of srt:
    mode: Literal["caller", "listener", "rendezvous"] | None = None  # what the pushing end has to be
    latency_ms: Latency | None = None
    passphrase: Literal["required", "optional", "refused"] | None = None
    stream_id: str | None = None  # in words, or the text itself with {key} where the stream key goes

    @model_validator(mode="after")
    def _of_srt(self) -> Protocol:
        given = [name for name in ("mode", "latency_ms", "passphrase", "stream_id") if getattr(self, name) is not None]
        if given and self.protocol != "srt":
            raise ValueError(f"{given[0]} goes with srt only, not with {self.protocol}")
        return self

    def text(self) -> str:
        """As a person reads it."""
        more = [
            f"as {self.mode}" if self.mode else "", f"latency {self.latency_ms.text()}" if self.latency_ms is not None else "",
            f"passphrase {self.passphrase}" if self.passphrase else "", f"stream id: {self.stream_id}" if self.stream_id else "",
        ]  # fmt: skip
        told = "; ".join(part for part in more if part)
        return f"{self.protocol} on port {self.port}{f' ({told})' if told else ''}"



class Server(Strict):
    """One server address of the ingest."""

    address: Annotated[str, checked(address.parse)]
    region: str = ""
    role: Literal["primary", "backup"] = "primary"

    @property
    def parsed(self) -> ServerAddress:
        """The address taken apart."""
        return address.parse(self.address)


class Spherical(Strict):
    """Whether 360 degree video is taken, and in which form."""

    taken: bool
    projections: list[Literal["equirectangular", "cubemap", "equi-angular-cubemap"]] = []
    display_aspects: list[str] = []  # of the whole picture, such as "2:1"
    mark_event: bool = False  # the event must be marked as spherical at the platform


class Span(Strict):
    """From ``min`` to ``max`` seconds."""

    min: float = Field(ge=0)
    max: float = Field(ge=0)


class SessionRules(Strict):
    """How the platform handles a push."""

    longest_hours: float | None = Field(default=None, gt=0)
    shows_after_s: Span | None = None  # from the first byte until viewers can see it
    opens: Literal["by itself", "by hand before the push"] | None = None
    after_stop: Literal["same key", "new key"] | None = None
    lead_time_hours: float | None = Field(default=None, ge=0)  # until a new account may stream
    viewers_behind_s: Span | None = None  # outside its latency modes


class KeyFacts(Strict):
    """What the destination's stream keys look like and how long they live."""

    pattern: str | None = None  # a regular expression for the whole key
    example: str | None = None  # a fake one
    lives: Literal["one event", "for good"] | None = None
    lives_hours: float | None = Field(default=None, gt=0)  # from when it was made, where it is a time


class CheckStep(Strict):
    """Something that only a person can do at the platform."""

    step: str
    when: str
    phase: Literal["before", "pushing", "after"] = "before"  # in front of the push, once it runs, or behind it
    does: Literal["make", "key", "open", "air", "look", "close"] | None = (
        None  # what Direkt does itself where the platform lets it
    )
    once: bool = False  # for the account, not for each event


@dataclass(frozen=True, slots=True)
class Mode:
    """A latency mode and what it changes."""

    name: str
    summary: str
    rules: Mapping[str, Rule]
    delay: str = ""  # which of an event's delays it goes with: usual, short or shortest
    behind: Span | None = None  # s that viewers are behind in it


class NoSuchMode(UnusableInput):
    """A latency mode that a sheet does not have."""

    def __init__(self, sheet: str, why: str) -> None:
        super().__init__(f"{sheet}: {why}")
        self.why = why


@dataclass(frozen=True, slots=True)
class Sheet:
    """One destination's ingest requirements."""

    name: str  # as people say it
    id: str  # as commands and files say it
    summary: str
    rules: Mapping[str, Rule]
    ladder: tuple[Rung, ...] = ()
    source: str = ""
    notes: tuple[str, ...] = field(default=())
    audio_ladder: tuple[AudioRung, ...] = ()
    peak_percent: float | None = None  # how far the video bitrate of any second may rise above the mean
    protocols: tuple[Protocol, ...] = ()
    servers: tuple[Server, ...] = ()
    spherical: Spherical | None = None
    session: SessionRules | None = None
    key: KeyFacts | None = None
    checklist: tuple[CheckStep, ...] = ()
    modes: Mapping[str, Mode] = field(default_factory=dict)
    mode: str = ""  # the latency mode that is in force; empty: the sheet as it stands

    def in_mode(self, name: str) -> Sheet:
        """The sheet with a latency mode's changes. Raises NoSuchMode for one that it does not have."""
        mode = self.modes.get(name)
        if mode is None:
            known = ", ".join(self.modes) or "none"
            raise NoSuchMode(self.id, f"no latency mode {name!r}; it has {known}")
        return replace(
            self, id=f"{self.id}:{name}", name=f"{self.name} ({name})", rules={**self.rules, **mode.rules}, mode=name
        )

    def without_sound(self) -> Sheet:
        """What it asks of the picture and the stream alone: of a device whose sound is made on the way."""
        rules = {name: rule for name, rule in self.rules.items() if not name.startswith("audio.")}
        return replace(self, rules=rules, audio_ladder=())

    def for_delay(self, delay: str) -> Sheet:
        """The sheet in the latency mode that goes with an event's delay; as it is where none does, or where it is in one."""
        found = next((mode for mode in self.modes.values() if mode.delay == delay), None)
        return self.in_mode(found.name) if found is not None and not self.mode else self

    def for_limit(self, seconds: float) -> tuple[Sheet, str] | None:
        """The mode in which viewers are at most so many s behind, the calmest one, and the word for its delay; None: there is none."""
        own = self.session.viewers_behind_s if self.session is not None else None
        offers = [(span, "", "usual") for span in (own,) if span is not None]
        offers += [(mode.behind, name, mode.delay or "usual") for name, mode in self.modes.items() if mode.behind is not None]
        fitting = [one for one in offers if one[0].max <= seconds]
        if not fitting:
            return None
        _, name, word = max(fitting, key=lambda one: one[0].max)
        return (self.in_mode(name) if name and not self.mode else self), word

    def behind_words(self) -> str:
        """What each mode gives, for people; empty: the sheet does not say."""
        own = self.session.viewers_behind_s if self.session is not None else None
        spans = [("usual", own), *((mode.delay or name, mode.behind) for name, mode in self.modes.items())]
        return ", ".join(f"{name} {span.min:g} to {span.max:g} s" for name, span in spans if span is not None)

    def rung_for(self, width: int, height: int, frame_rate: float, codec: str | None) -> Rung | None:
        """The smallest rung that fits, one for this codec before one for each; None when there is none. Portrait pictures count as if they lay."""
        if height > width and not any(rung.height > rung.width for rung in self.ladder):
            width, height = height, width
        fitting = [rung for rung in self.ladder if rung.fits(width, height, frame_rate) and rung.holds_for(codec)]
        return min(fitting, key=lambda rung: (rung.width * rung.height, not rung.codecs, rung.fastest), default=None)

    def rules_for(self, values: Values) -> dict[str, Rule]:
        """All rules, with those that depend on ``values`` (picture, mean bitrate, channels), in the table's order."""
        rules = dict(self.rules)
        width, height, rate = (values.get(f"video.{part}") for part in ("width", "height", "frame_rate"))
        if isinstance(width, int) and isinstance(height, int) and isinstance(rate, int | float):
            codec = values.get("video.codec")
            rung = self.rung_for(width, height, rate, None if codec is None else str(codec))
            if rung is not None:
                rules["video.bitrate.mean"] = rung_rule(rung)
        mean = values.get("video.bitrate.mean")
        if self.peak_percent is not None and isinstance(mean, int | float):
            name = "video.bitrate.peak"
            most = Demand(name, maximum=round(mean * (1 + self.peak_percent / 100), 1))
            because = f"no {parameters.PEAK_WINDOW:g} s may rise more than {self.peak_percent:g} % above the mean"
            rules[name] = Rule(name, most, None, because, self.source)
        channels = values.get("audio.channels")
        for step in self.audio_ladder:
            if step.channels == channels:
                rules["audio.bitrate.mean"] = audio_rule(step)
        return {name: rules[name] for name in parameters.in_table_order(rules)}


def audio_rule(step: AudioRung) -> Rule:
    """The rule on the mean audio bitrate for a number of channels."""
    name = "audio.bitrate.mean"
    best = Demand(name, (step.best,)) if step.best is not None else None
    return Rule(
        name,
        span_demand(name, step.minimum, step.maximum),
        best,
        f"for {step.channels} channels",
        step.source,
    )


def rung_rule(rung: Rung) -> Rule:
    """The rule on the mean video bitrate that a rung stands for."""
    name = "video.bitrate.mean"
    best = Demand(name, (rung.best,)) if rung.best is not None else None
    return Rule(name, span_demand(name, rung.minimum, rung.maximum), best, f"for {rung.words}", rung.source)
