"""A cell while it is read: its items under its heads, which parameter each is of, and what has been made of it so far."""

from __future__ import annotations

from dataclasses import dataclass, field

from direkt.destination.published.meaning.clauses import Item, Walk
from direkt.destination.published.words.context import CellContext, audible
from direkt.destination.published.words.numbers import Habit
from direkt.destination.published.words.tokens import Size
from direkt.destination.published.words.vocabulary import UnitWord, WordKind


@dataclass(frozen=True, slots=True)
class Claim:
    """One thing that a cell says: ``what`` is a parameter, or what a sheet says beside its rules."""

    what: str
    strength: str  # must, should, not
    shape: str  # is, min, max, source
    value: object
    start: int
    end: int
    sizes: tuple[Size, ...] = ()  # for which it holds, where it does not hold for all
    rates: tuple[float, float] | None = None
    channels: int = 0
    mode: str = ""
    codec: str = ""  # for which it holds, where it does not hold for all
    plain: bool = True  # said without a word of limit or strength


@dataclass(frozen=True, slots=True)
class LeftWords:
    """Words that claim nothing, and why."""

    start: int
    end: int
    why: str
    aside: bool = False  # it is not for a sheet


@dataclass(slots=True)
class ParsedCell:
    """What a cell says, and what of it was not understood."""

    claims: list[Claim] = field(default_factory=list)
    left: list[LeftWords] = field(default_factory=list)


class OpenError(Exception):
    """Two readings remain, or none; the text says which."""

    aside = False  # True: it is not for a sheet


class NoParameterError(OpenError):
    """A figure that no sheet has a place for."""

    aside = True


KEYFRAMES = "video.keyframe_interval"
_BITRATES = {
    "video bitrate": "video.bitrate.mean", "audio bitrate": "audio.bitrate.mean", "total bitrate": "stream.bitrate.mean",
}  # fmt: skip
COUNTS = ("video.b_frames", "video.reference_frames", "video.slices")
_BARE = (
    *COUNTS,
    "video.frame_rate",
    "video.level",
    "audio.channels",
    "video.bit_depth",
    "video.width",
    "video.height",
    "audio.sample_rate",
)
LEVELS = frozenset([1.0, 1.1, 1.2, 1.3, 2.0, 2.1, 2.2, 3.0, 3.1, 3.2, 4.0, 4.1, 4.2, 5.0, 5.1, 5.2, 6.0, 6.1, 6.2])
_MEASURED = {"rate": "video.frame_rate", "channels": "audio.channels"}  # what a unit is of, whatever stands around it
_LAYOUTS = {5.1: 6, 7.1: 8, 2.0: 2, 1.0: 1, 2.1: 3}
_TIMES = ("session.longest_hours", "session.shows_after_s", "session.lead_time_hours", "key.lives")


class Reading:
    """One cell: an item's own unit or word says of what it is first, then the topic of its clause, last its row."""

    def __init__(self, walk: Walk, context: CellContext, habit: Habit) -> None:
        """Begins to read what ``walk`` found."""
        self.text, self.items, self.clauses = walk.text, walk.items, walk.clauses
        self.context, self.habit = context, habit
        self.out = ParsedCell()
        self.bad: dict[int, str] = {}
        self.doubtful: dict[str, str] = {}
        self.claims: list[tuple[int, Claim]] = []
        self.for_size: dict[int, tuple[Size, ...]] = {}
        self.for_channels: dict[int, int] = {}
        self.for_codec: dict[int, str] = {}

    def what(self, item: Item) -> tuple[str, float]:
        """The parameter of a figure, and the factor to its unit. Raises OpenError."""
        topics = (item.topic,) if item.topic else self.context.topics
        subject = item.subject or self.context.subject
        if subject == "audio":
            topics = tuple(map(audible, topics))
        unit = item.unit or (self.context.unit if not item.own_unit else None)
        if unit is None:
            return self._bare(item, topics, subject)
        if unit.measures in _MEASURED:
            return _MEASURED[unit.measures], 1
        return self._measured(item, unit, topics, subject)

    def _measured(self, item: Item, unit: UnitWord, topics: tuple[str, ...], subject: str) -> tuple[str, float]:
        """The parameter of a figure whose unit leaves several open."""
        measures = unit.measures
        if measures == "bitrate" and topics[:1] == ("audio.sample_rate",) and self.text[item.start : item.end].rstrip().endswith("k"):
            return "audio.sample_rate", 1000  # "48k"
        if measures == "bitrate":
            return self._bitrate(item, topics, subject), unit.factor
        if measures == "frequency":
            value = (item.numbers[0].listed or item.numbers[0].all or (0,))[0] * unit.factor
            return ("audio.sample_rate", unit.factor) if value >= 4000 else ("video.frame_rate", unit.factor)
        if measures == "time":
            return self._time(topics, unit)
        if measures == "frames":
            return self._counted(topics), 1
        if measures == "bits":
            if subject == "audio" or any(topic.startswith("audio") for topic in topics):
                raise NoParameterError("bits for each sample of sound: not a parameter of the stream")
            return "video.bit_depth", 1
        if measures == "percent":
            if "peak bitrate" in (*topics, *self.context.topics):
                return "peak_percent", 1
            raise OpenError("a share of what?")
        if measures == "px":
            found = [topic for topic in topics if topic in ("video.width", "video.height")]
            if found:
                return found[0], 1
        raise OpenError("a figure of what?")

    def _counted(self, topics: tuple[str, ...]) -> str:
        """The parameter of so many frames."""
        counted = [topic for topic in topics if topic in COUNTS]
        if counted:
            return counted[0]
        if KEYFRAMES in topics:
            raise OpenError("an interval in frames: the seconds depend on the frame rate")
        if "video.frame_rate" in topics or self.context.sizes:
            return "video.frame_rate"
        raise OpenError("so many frames: of what?")

    def _bitrate(self, item: Item, topics: tuple[str, ...], subject: str) -> str:
        for topic in topics:
            if topic == "peak bitrate":
                return "audio.bitrate.peak" if subject == "audio" else "video.bitrate.peak"
            if topic in _BITRATES:
                return _BITRATES[topic]
            if topic in ("video.buffer", "port", "server", "stream.protocol", "latency", "latency.behind", "srt.latency_ms", *_TIMES):
                raise OpenError("a bitrate of what?")
        before = [name for other in self.items if other.start < item.start for name, _ in other.values]
        evidence = next((name for name in reversed(before) if name.startswith(("audio.", "video."))), "")
        family = [topic for topic in topics if topic.startswith(("audio.", "video."))]
        if subject:
            return f"{subject}.bitrate.mean"
        if "bitrate" in topics and not evidence:
            return "video.bitrate.mean"
        if evidence.startswith("audio."):
            return "audio.bitrate.mean"
        pictures = self.context.sizes or any(other.kind is WordKind.SIZE for other in self.items)
        if family or evidence or "bitrate" in topics or pictures:
            return "audio.bitrate.mean" if family and family[0].startswith("audio.") else "video.bitrate.mean"
        raise OpenError("a bitrate of what?")

    @staticmethod
    def _time(topics: tuple[str, ...], unit: UnitWord) -> tuple[str, float]:
        for topic in topics:
            if topic in (KEYFRAMES, "video.buffer", "session.shows_after_s", "latency.behind"):
                return topic, unit.factor
            if topic in ("srt.latency_ms", "stream.av_offset"):
                return topic, unit.factor * 1000
            if topic in _TIMES:
                return topic, unit.factor / 3600
        raise OpenError("a time of what?")

    def _bare(self, item: Item, topics: tuple[str, ...], subject: str) -> tuple[str, float]:
        value = (item.numbers[0].listed or item.numbers[0].all or (0.0,))[0]
        before = next((o for o in reversed(self.items) if o.start < item.start), None)
        beside = (
            before is not None
            and before.clause == item.clause
            and any(name == "video.profile" for name, _ in before.values)
        )
        if beside and value in LEVELS and not item.topic and item.numbers[0].mark:
            return "video.level", 1
        for topic in topics:
            if topic == "video.profile" and value in LEVELS and "video.level" in topics:
                return "video.level", 1
            if topic == "audio.channels" and value in _LAYOUTS and item.numbers[0].mark:
                return "audio.channels", _LAYOUTS[value] / value
            if topic == "audio.sample_rate":
                if value in (44.1, 48, 32, 96, 22.05, 88.2):
                    return topic, 1000
                if value < 7000:
                    raise OpenError("a number without its unit")
            if topic in _BARE:
                return topic, 1
        if subject == "audio" and value in (5.1, 7.1):
            return "audio.channels", _LAYOUTS[value] / value
        if KEYFRAMES in topics:
            raise OpenError("a number without 's': it may be frames")
        raise OpenError("a number without its unit")

    def quiet(self, item: Item) -> str:
        """The parameter of a figure; empty where it is open."""
        try:
            return self.what(item)[0]
        except OpenError:
            return ""

    def could_be(self, item: Item) -> list[str]:
        """Every parameter that an item may be of."""
        if item.kind is WordKind.VALUE:
            return [name for name, _ in item.values]
        if item.kind is WordKind.SIZE:
            return ["video.size", "video.width", "video.height"]
        if item.kind is WordKind.RATIO:
            return ["video.chroma", "video.display_aspect", "video.sample_aspect"]
        return [what] if item.kind is WordKind.NUMBER and (what := self.quiet(item)) else []

    def leave(self, item: Item, why: str, *, aside: bool = False) -> None:
        """Claims nothing of an item, nor of its parameter in this cell."""
        item.used = True
        clause = self.clauses[item.clause]
        self.out.left.append(
            LeftWords(
                min(item.start, clause.start)
                if len([i for i in self.items if i.clause == item.clause]) == 1
                else item.start,
                item.end,
                why,
                aside,
            )
        )
        for what in self.could_be(item):
            self.doubtful.setdefault(stem(what), why)

    def add(self, item: Item, what: str, shape: str, value: object) -> None:
        """Claims something by an item, with what was said of it."""
        strength = item.strength or self.context.strength
        if item.approx and strength in ("", "accept"):
            strength = "should"
        plain = not (item.strength or item.limit or self.context.limit) and strength in ("", "accept")
        sizes = self.for_size.get(id(item), ()) if what == "video.bitrate.mean" else ()
        rates = None
        if sizes and sizes[0].rates:
            rates = (min(sizes[0].rates), max(sizes[0].rates))
        channels = self.for_channels.get(id(item), 0)
        made = Claim(
            what, {"should": "should", "not": "not"}.get(strength, "must"), shape, value, item.start, item.end,
            sizes or self.context.sizes, rates or self.context.rates, channels or self.context.channels,
            item.mode or self.context.mode, self.codec_of(item, what), plain,
        )  # fmt: skip
        self.claims.append((item.clause, made))

    def codec_of(self, item: Item, what: str) -> str:
        """The codec for which it holds: the one that the cell pairs with it, or the one that its heads and names speak of."""
        if what == "video.codec" or not what.startswith(("video.", "stream.bitrate")):
            return ""
        named = {value for name, value in self.context.values if name == "video.codec"}
        return self.for_codec.get(id(item), "") or (next(iter(named)) if len(named) == 1 else "")

    def shapes(self, item: Item, values: list[float]) -> list[tuple[str, float]]:
        """The ends of a range, or a figure with its limit. Raises OpenError."""
        limit = item.limit or self.context.limit
        if len(values) == 2:
            if limit:
                raise OpenError("a limit on a range: which end is meant?")
            if values[0] > values[1]:
                raise OpenError("a range that runs downwards: a slip, or written the other way round")
            return [("min", whole(values[0])), ("max", whole(values[1]))]
        return [(limit or "is", whole(values[0]))]


def stem(what: str) -> str:
    """Parameters that stand or fall together."""
    if what.startswith("video.keyframe_interval"):
        return KEYFRAMES
    return "video.size" if what in ("video.width", "video.height") else what


def whole(value: float) -> float:
    """Whole numbers as int, so that they are written without a point."""
    return int(value) if value == int(value) else value
