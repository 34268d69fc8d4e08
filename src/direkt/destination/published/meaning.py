"""What the items of a cell mean: each finds its own parameter, and becomes a claim or is left with its reason.

An item's own unit or word decides first, then the topic of its clause, last its row. A clause with a word in it that is
not understood claims nothing; a condition takes what stands before it along; and where one parameter is doubtful in a
cell, no other clause of that cell claims it.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from direkt.destination.published.clauses import PREPOSITIONS, Clause, Item, Walk
from direkt.destination.published.context import Context, audible
from direkt.destination.published.numbers import PLAUSIBLE, Habit, resolve
from direkt.destination.published.tokens import Size
from direkt.destination.published.vocabulary import Kind, Unit


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
    plain: bool = True  # said without a word of limit or strength


@dataclass(frozen=True, slots=True)
class Left:
    """Words that claim nothing, and why."""

    start: int
    end: int
    why: str


@dataclass(slots=True)
class Parsed:
    """What a cell says, and what of it was not understood."""

    claims: list[Claim] = field(default_factory=list)
    left: list[Left] = field(default_factory=list)


class _OpenError(Exception):
    """Two readings remain, or none; the text says which."""


_KEYFRAMES = "video.keyframe_interval"
_BITRATES = {
    "video bitrate": "video.bitrate.mean", "audio bitrate": "audio.bitrate.mean", "total bitrate": "stream.bitrate.mean",
}  # fmt: skip
_COUNTS = ("video.b_frames", "video.reference_frames", "video.slices")
_BARE = (
    *_COUNTS,
    "video.frame_rate",
    "video.level",
    "audio.channels",
    "video.bit_depth",
    "video.width",
    "video.height",
    "audio.sample_rate",
)
_LEVELS = frozenset([1.0, 1.1, 1.2, 1.3, 2.0, 2.1, 2.2, 3.0, 3.1, 3.2, 4.0, 4.1, 4.2, 5.0, 5.1, 5.2, 6.0, 6.1, 6.2])
_LAYOUTS = {5.1: 6, 7.1: 8, 2.0: 2, 1.0: 1, 2.1: 3}
_TIMES = ("session.longest_hours", "session.shows_after_s", "session.lead_time_hours", "key.lives")
_SINGLE = (
    _KEYFRAMES,
    "video.bitrate.mean",
    "audio.bitrate.mean",
    "stream.bitrate.mean",
    "video.buffer",
    "video.bitrate.peak",
    "session.longest_hours",
)


def parse(text: str, context: Context, habit: Habit) -> Parsed:
    """What a cell's ``text`` claims, under its heads."""
    return _Meaning(Walk(text, context), context, habit).parsed()


class _Meaning:
    def __init__(self, walk: Walk, context: Context, habit: Habit) -> None:
        self.text, self.items, self.clauses = walk.text, walk.items, walk.clauses
        self.context, self.habit = context, habit
        self.out = Parsed()
        self.bad: dict[int, str] = {}
        self.doubtful: dict[str, str] = {}
        self.claims: list[tuple[int, Claim]] = []
        self.for_size: dict[int, tuple[Size, ...]] = {}
        self.for_channels: dict[int, int] = {}

    def parsed(self) -> Parsed:
        self._layouts()
        self._units()
        self._bad_clauses()
        self._lone_topics()
        self._size_rates()
        self._keyframes_in_frames()
        self._ports()
        self._under()
        self._conditions()
        self._several()
        for item in self.items:
            if not item.used:
                self._claim(item)
        for number, why in self.bad.items():
            clause = self.clauses[number]
            self.out.left.append(Left(clause.start, clause.end, why))
        said = set()
        for _, claim in self.claims:
            doubt = self.doubtful.get(_stem(claim.what))
            if doubt is None:
                self.out.claims.append(claim)
            elif (claim.start, doubt) not in said:
                said.add((claim.start, doubt))
                self.out.left.append(Left(claim.start, claim.end, doubt))
        if not self.out.claims and not self.out.left and self.text.strip():
            self.out.left.append(Left(0, len(self.text), "nothing in it that could be a value"))
        return self.out

    # what is not understood

    def _bad_clauses(self) -> None:
        for number, clause in enumerate(self.clauses):
            if not clause.odd:
                continue
            words = " ".join(self.text[token.start : token.end] for token in clause.odd)
            bytes_ = any(token.value == "bytes" for token in clause.odd)
            self.bad[number] = f"{words}: bits or bytes?" if bytes_ else f"not understood: {words}"
        for number in list(self.bad):
            clause = self.clauses[number]
            first = clause.first
            qualifies = (
                clause.conditional or clause.after == "("
                or (first is not None and self.text[first.start : first.end].lower() in PREPOSITIONS)
            )  # fmt: skip
            if qualifies and not any(item.clause == number and self._plainly(item) for item in self.items):
                before = clause.parent if clause.parent >= 0 else self._clause_before(number, clause)
                if before >= 0 and before not in self.bad:
                    self.bad[before] = f"depends on: {self.text[clause.start : clause.end]}"
        for item in self.items:
            if item.clause in self.bad:
                item.used = True
                for what in self._could_be(item):
                    self.doubtful[_stem(what)] = self.bad[item.clause]

    def _plainly(self, item: Item) -> bool:
        """Whether a bracket holds figures of its own kind, of which the clause before says nothing."""
        parent = self.clauses[item.clause].parent
        mine = set(map(_stem, self._could_be(item)))
        return bool(mine) and not any(
            mine & set(map(_stem, self._could_be(other))) for other in self.items if other.clause == parent
        )

    def _clause_before(self, number: int, clause: Clause) -> int:
        if clause.after == "." and not clause.conditional:
            return -1
        return max((item.clause for item in self.items if item.clause < number), default=-1)

    def _could_be(self, item: Item) -> list[str]:
        if item.kind is Kind.VALUE:
            return [name for name, _ in item.values]
        if item.kind is Kind.SIZE:
            return ["video.size", "video.width", "video.height"]
        if item.kind is Kind.RATIO:
            return ["video.chroma", "video.display_aspect", "video.sample_aspect"]
        return [what] if item.kind is Kind.NUMBER and (what := self._quiet(item)) else []

    # units

    def _layouts(self) -> None:
        """5.1 and 7.1 beside sound are channels."""
        for n, item in enumerate(self.items):
            if (
                item.kind is not Kind.NUMBER
                or item.unit is not None
                or len(item.numbers) > 1
                or item.numbers[0].plain not in (5.1, 7.1)
            ):
                continue
            sound = self.context.subject == "audio" or item.subject == "audio" or any(
                name.startswith("audio.") for other in self.items[:n] for name, _ in other.values
            )  # fmt: skip
            if sound and item.topic not in ("video.level", "video.profile"):
                item.kind, item.values = Kind.VALUE, (("audio.channels", "6" if item.numbers[0].plain == 5.1 else "8"),)

    def _units(self) -> None:
        """Gives each bare number of a list the unit behind it, or before it."""
        for n, item in enumerate(self.items):
            if item.kind is not Kind.NUMBER or item.unit is not None or item.times:
                continue
            for other in self.items[n + 1 :]:
                if other.kind is not Kind.NUMBER or other.joined == "." or other.topic != item.topic:
                    break
                if other.unit is not None:
                    if other.unit.measures != "frames" or item.topic != "video.level":
                        item.unit = other.unit
                    break
        for n, item in enumerate(self.items):
            if item.kind is Kind.NUMBER and item.unit is None and not item.times and n and self.context.unit is None:
                before = self.items[n - 1]
                if (
                    before.kind is Kind.NUMBER
                    and before.unit is not None
                    and before.topic == item.topic
                    and before.joined != "x"
                ):
                    item.unit = before.unit

    # sizes, rates

    def _size_rates(self) -> None:
        """A frame rate right behind a size belongs to it."""
        for n, item in enumerate(self.items[1:], 1):
            before = self.items[n - 1]
            if (
                before.kind is not Kind.SIZE
                or item.kind is not Kind.NUMBER
                or item.used
                or before.clause != item.clause
                or len(before.sizes) > 1
            ):
                continue
            rate = (
                item.unit is not None
                and item.unit.measures in ("rate", "frames", "frequency")
                and item.unit.factor == 1
            )
            bare = item.unit is None and item.joined == "" and not item.limit and self._is_rate(item)
            if (
                (rate or bare)
                and item.joined in ("", "/", "and")
                and _KEYFRAMES not in (item.topic, *self.context.topics)
            ):
                rates = self._plain_rates(item)
                if rates and not before.sizes[0].rates:
                    size = before.sizes[0]
                    before.sizes[0] = Size(size.width, size.height, size.scan, rates, size.only_height)
                    before.limit, before.strength = before.limit or item.limit, before.strength or item.strength
                    item.used = True

    def _is_rate(self, item: Item) -> bool:
        return all(5 <= value <= 120 for number in item.numbers for value in number.listed or number.all)

    def _plain_rates(self, item: Item) -> tuple[float, ...]:
        out: list[float] = []
        for number in item.numbers:
            if number.listed:
                out += number.listed
            elif (value := resolve(number, "video.frame_rate", 1, self.habit)) is not None:
                out.append(value)
        return tuple(out)

    # keyframes

    def _keyframes_in_frames(self) -> None:
        """Frames at a rate are seconds; a rate in a keyframe's cell is but the condition."""
        here = [
            i
            for i in self.items
            if _KEYFRAMES in ((i.topic,) if i.topic else self.context.topics) and i.kind is Kind.NUMBER
        ]
        frames = [
            i for i in here if (u := i.unit or self.context.unit) is not None and u.measures == "frames" and not i.used
        ]
        rates = [
            i
            for i in self.items
            if i.kind is Kind.NUMBER
            and i.unit is not None
            and i.unit.measures == "rate"
            and not i.used
            and _KEYFRAMES in (i.topic, *self.context.topics)
        ]
        bare = [i for i in here if i.unit is None and not i.times and not i.used]
        if not frames and rates and bare:
            frames = bare  # "50 (at 25 fps)"
        elif not frames and bare and self.context.rates and all(v > 20 for i in bare for n in i.numbers for v in n.all):
            frames = bare  # "GOP 100" of a picture at 50 fps: no interval is as long as that
        known = any(i.unit is not None and i.unit.measures == "time" for i in here)
        given = [rate for i in rates for rate in self._plain_rates(i)]
        if not given and self.context.rates and self.context.rates[0] == self.context.rates[1]:
            given = [self.context.rates[0]] * len(frames)
        for i in rates:
            if frames or known:
                i.used = True
        if not frames:
            return
        if len(given) == len(frames) and all(rate > 0 for rate in given):
            found: list[tuple[Item, list[float]]] = []
            for item, rate in zip(frames, given, strict=True):
                values = [resolve(number, "video.b_frames", 1, self.habit) for number in item.numbers]
                found.append((item, [round(v / rate, 4) for v in values if v is not None]))
            if len({tuple(values) for _, values in found}) > 1 or not all(values for _, values in found):
                for item in frames:
                    self._leave(item, "an interval that differs by frame rate")
                return
            for item, seconds in found:
                item.used = True
                try:
                    for shape, value in self._shapes(item, seconds):
                        self._add(item, _KEYFRAMES, shape, value)
                except _OpenError as error:
                    self._leave(item, str(error))
        elif known:
            for item in frames:
                item.used = True  # the same once more, counted in frames
        else:
            for item in frames:
                self._leave(item, "an interval in frames: the seconds depend on the frame rate")

    # protocols

    def _ports(self) -> None:
        """A protocol and the number beside it are a protocol and its port."""
        ports = [i for i in self.items if i.kind is Kind.NUMBER and not i.used and i.unit is None and self._is_port(i)]
        names = [i for i in self.items if i.kind is Kind.VALUE and i.values[0][0] == "stream.protocol" and not i.used]
        topical = {"port", "stream.protocol", "server"} & {*self.context.topics, *(i.topic for i in ports)}
        if not ports or not (names or self.context.protocol):
            if ports and topical:
                for item in ports:
                    self._leave(item, "a port without its protocol")
            return
        if names and len(names) == len(ports):
            pairs = list(zip([i.values[0][1] for i in names], ports, strict=True))
        elif not names and len(ports) == 1:
            pairs = [(self.context.protocol, ports[0])]
        elif len(names) == 1 and len(ports) == 1:
            pairs = [(names[0].values[0][1], ports[0])]
        else:
            for item in ports:
                self._leave(item, "which port belongs to which protocol?")
            return
        for number, (name, item) in enumerate(pairs):
            value = item.numbers[0].all[0]
            item.used = True
            if not 1 <= value <= 65535:
                self._leave(item, "a port is a number from 1 to 65535")
                continue
            whole = names[number] if number < len(names) and len(names) == len(pairs) else item
            strength = whole.strength or item.strength
            if strength == "not":
                continue
            self.claims.append(
                (
                    item.clause,
                    Claim(
                        "protocol",
                        "must",
                        "is",
                        (name, int(value)),
                        min(whole.start, item.start),
                        max(whole.end, item.end),
                    ),
                )
            )
            if whole is not item and strength != "should":
                whole.used = True

    def _is_port(self, item: Item) -> bool:
        if len(item.numbers) != 1 or item.numbers[0].plain is None or item.numbers[0].mark:
            return False
        topical = {"port", "stream.protocol", "server"} & {item.topic, *self.context.topics}
        value = item.numbers[0].plain
        near = any(
            i.kind is Kind.VALUE and i.values[0][0] == "stream.protocol" and abs(i.clause - item.clause) <= 1
            for i in self.items
        )
        return value == int(value) and value >= 10 and (bool(topical) or (near and value >= 80))

    # conditions within a cell

    def _under(self) -> None:
        """ "For H.265" takes what stands beside it along; "for stereo" is a condition that sheets know."""
        for item in self.items:
            if not item.under or item.used or not any(o.clause == item.clause and o is not item for o in self.items):
                continue
            item.used = True
            words = self.text[item.start : item.end]
            if item.values[0][0] == "audio.channels":
                for other in self.items:
                    if other.clause == item.clause and other is not item:
                        self.for_channels[id(other)] = int(item.values[0][1])
                continue
            for other in self.items:
                if other.clause == item.clause and not other.used:
                    self._leave(other, f"depends on: {words}")

    def _conditions(self) -> None:
        """Sizes and channels that only say for what a bitrate holds."""
        live = [i for i in self.items if not i.used]
        rates = [i for i in live if i.kind is Kind.NUMBER and self._quiet(i) in ("video.bitrate.mean",)]
        sizes = [i for i in live if i.kind is Kind.SIZE]
        about = any("bitrate" in topic for topic in self.context.topics)
        if rates and sizes and (about or (len(sizes) > 1 and len(rates) > 1)):
            turns = self._by_turns(rates, sizes)
            for n, item in enumerate(rates):
                own = (
                    [sizes[n]] if turns else [s for s in sizes if s.clause == item.clause] or self._nearest(sizes, item)
                )
                if len(own) == 1 and len(own[0].sizes) == 1:
                    self.for_size[id(item)] = tuple(own[0].sizes)
                    own[0].used = True
                else:
                    self._leave(item, "which picture size does it hold for?")
            for item in sizes:
                item.used = True
        sounds = [i for i in live if i.kind is Kind.NUMBER and self._quiet(i) == "audio.bitrate.mean"]
        layouts = [i for i in live if i.kind is Kind.VALUE and any(n == "audio.channels" for n, _ in i.values)]
        if len(sounds) > 1 and len(layouts) == len(sounds):
            turns = self._by_turns(sounds, layouts)
            pairs = [
                (
                    s,
                    [layouts[n]]
                    if turns
                    else [c for c in layouts if c.clause == s.clause] or self._nearest(layouts, s),
                )
                for n, s in enumerate(sounds)
            ]
            if all(len(own) == 1 for _, own in pairs):
                for item, own in pairs:
                    self.for_channels[id(item)] = int(dict(own[0].values)["audio.channels"])
                    own[0].used = True
        elif len(layouts) > len(sounds) >= 1 or (
            len(layouts) == 1 and len(sounds) > 1 and not any(s.limit or s.strength for s in sounds)
        ):
            for item in [*sounds, *layouts] if len(sounds) > 1 else []:
                self._leave(item, "which channels does it hold for?")

    @staticmethod
    def _by_turns(some: list[Item], others: list[Item]) -> bool:
        """Whether they stand in turns: "128 kbps stereo or 384 kbps 5.1"."""
        order = sorted([(i.start, 0) for i in some] + [(i.start, 1) for i in others])
        return len(some) == len(others) and all(kind == (n + order[0][1]) % 2 for n, (_, kind) in enumerate(order))

    def _several(self) -> None:
        """Of an interval or a bitrate there is one: two plain figures need an "or" between them."""
        plain: dict[str, list[Item]] = {}
        for item in self.items:
            if (
                item.kind is Kind.NUMBER
                and not item.used
                and not (item.limit or item.strength or item.times)
                and len(item.numbers) == 1
            ):
                what = self._quiet(item)
                if what in _SINGLE and id(item) not in self.for_size and id(item) not in self.for_channels:
                    plain.setdefault(what, []).append(item)
        for what, items in plain.items():
            values = {resolve(i.numbers[0], what, i.unit.factor if i.unit else 1, self.habit) for i in items}
            if len(values) > 1 and not all(item.joined in ("or", "/") for item in items[1:]):
                for item in items:
                    self._leave(item, "several figures, without saying which is which")

    def _nearest(self, others: list[Item], item: Item) -> list[Item]:
        """What stands in the bracket behind the item, or in the clause right before it."""
        inside = [o for o in others if self.clauses[o.clause].parent == item.clause and o.start > item.start]
        if inside:
            return inside[:1]
        before = [o for o in others if o.start < item.start]
        return before[-1:] if before and before[-1].clause >= item.clause - 2 else []

    def _quiet(self, item: Item) -> str:
        try:
            return self._what(item)[0]
        except _OpenError:
            return ""

    # topics without a figure

    def _lone_topics(self) -> None:
        """ "No B-frames" has no figure, and says one."""
        for number, clause in enumerate(self.clauses):
            if number in self.bad or not clause.topics or any(i.clause == number for i in self.items):
                continue
            if str(clause.topics[0].value) == "video.b_frames" and clause.denied:
                self.claims.append((number, Claim("video.b_frames", "must", "is", 0, clause.start, clause.end)))

    # claims

    def _claim(self, item: Item) -> None:
        try:
            if item.kind is Kind.NUMBER:
                self._figure(item)
            elif item.kind is Kind.SIZE:
                self._size(item)
            elif item.kind is Kind.RATIO:
                self._ratio(item)
            elif item.kind is Kind.SOURCE:
                if "video.frame_rate" not in (item.topic, *self.context.topics):
                    raise _OpenError("the same as the source: only a frame rate can ask for that")
                self._add(item, "video.frame_rate", "source", True)
            elif item.kind is Kind.URL:
                self._add(item, "server", "is", item.text)
            else:
                self._words(item)
        except _OpenError as error:
            self._leave(item, str(error))

    def _leave(self, item: Item, why: str) -> None:
        item.used = True
        clause = self.clauses[item.clause]
        self.out.left.append(
            Left(
                min(item.start, clause.start)
                if len([i for i in self.items if i.clause == item.clause]) == 1
                else item.start,
                item.end,
                why,
            )
        )
        for what in self._could_be(item):
            self.doubtful.setdefault(_stem(what), why)

    def _add(self, item: Item, what: str, shape: str, value: object) -> None:
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
            item.mode or self.context.mode, plain,
        )  # fmt: skip
        self.claims.append((item.clause, made))

    def _shapes(self, item: Item, values: list[float]) -> list[tuple[str, float]]:
        limit = item.limit or self.context.limit
        if len(values) == 2:
            if limit:
                raise _OpenError("a limit on a range: which end is meant?")
            if values[0] > values[1]:
                raise _OpenError("a range that runs downwards: a slip, or written the other way round")
            return [("min", _whole(values[0])), ("max", _whole(values[1]))]
        return [(limit or "is", _whole(values[0]))]

    def _figure(self, item: Item) -> None:
        if item.times:
            self._times(item)
            return
        what, factor = self._what(item)
        if item.numbers[0].listed and (what == "video.frame_rate" or item.numbers[0].decimal is None):
            if what != "video.frame_rate" or item.limit or len(item.numbers) > 1:
                raise _OpenError("one number with a comma, or several?")
            for value in item.numbers[0].listed:
                self._add(item, what, "is", _whole(value))
            return
        factors = [factor] * len(item.numbers)
        if len(item.numbers) == 2 and item.text:
            factors[0] = factor * float(item.text)
        values = [resolve(number, what, f, self.habit) for number, f in zip(item.numbers, factors, strict=True)]
        if any(value is None for value in values):
            number = item.numbers[[value is None for value in values].index(True)]
            if number.thousands is None or number.decimal is None:
                raise _OpenError("not a number that can be read")
            raise _OpenError(f"{number.thousands:g} or {number.decimal:g}?")
        if item.spread and len(values) == 1 and values[0] is not None:
            part = values[0] * item.spread / 100
            values = [round(values[0] - part, 3), round(values[0] + part, 3)]
        self._sane(what, [v for v in values if v is not None])
        if what == "video.level":
            for shape, value in self._shapes(item, [v for v in values if v is not None]):
                self._add(item, what, shape, f"{value:.1f}")
            return
        for shape, value in self._shapes(item, [v for v in values if v is not None]):
            bounded = shape == "is" and what in (
                "video.bitrate.peak",
                "video.buffer",
                "peak_percent",
                "audio.bitrate.peak",
            )
            self._add(item, what, "max" if bounded else shape, value)

    def _sane(self, what: str, values: list[float]) -> None:
        low, high = PLAUSIBLE.get(what, (0.0, float("inf")))
        if what in ("video.frame_rate", "video.bit_depth", "audio.channels", *_COUNTS) and not all(
            low <= v <= high for v in values
        ):
            raise _OpenError(f"{values[0]:g} is no sensible figure for this")
        if what in ("video.bitrate.mean", "stream.bitrate.mean") and any(v > high for v in values):
            raise _OpenError(f"{values[0]:g} kbit/s is no sensible bitrate: check its unit")
        if what == "video.level" and any(v not in _LEVELS for v in values):
            raise _OpenError("no level goes by this number")

    def _times(self, item: Item) -> None:
        """Twice the frame rate, in frames, is two seconds."""
        if _KEYFRAMES not in (item.topic, *self.context.topics):
            raise _OpenError("so many times the frame rate: of what?")
        if not all(number.plain is not None for number in item.numbers):
            raise _OpenError("not a number that can be read")
        for shape, value in self._shapes(item, [number.plain or 0.0 for number in item.numbers]):
            self._add(item, _KEYFRAMES, shape, value)

    def _what(self, item: Item) -> tuple[str, float]:
        """The parameter of a figure, and the factor to its unit. Raises _OpenError."""
        topics = (item.topic,) if item.topic else self.context.topics
        subject = item.subject or self.context.subject
        if subject == "audio":
            topics = tuple(map(audible, topics))
        unit = item.unit or (self.context.unit if not item.own_unit else None)
        if unit is None:
            return self._bare(item, topics, subject)
        measures = unit.measures
        if measures == "bitrate":
            return self._bitrate(item, topics, subject), unit.factor
        if measures == "rate":
            return "video.frame_rate", 1
        if measures == "frequency":
            value = (item.numbers[0].listed or item.numbers[0].all or (0,))[0] * unit.factor
            return ("audio.sample_rate", unit.factor) if value >= 4000 else ("video.frame_rate", unit.factor)
        if measures == "time":
            return self._time(topics, unit)
        if measures == "frames":
            counted = [topic for topic in topics if topic in _COUNTS]
            if counted:
                return counted[0], 1
            if _KEYFRAMES in topics:
                raise _OpenError("an interval in frames: the seconds depend on the frame rate")
            if "video.frame_rate" in topics or self.context.sizes:
                return "video.frame_rate", 1
            raise _OpenError("so many frames: of what?")
        if measures == "channels":
            return "audio.channels", 1
        if measures == "bits":
            if subject == "audio" or any(topic.startswith("audio") for topic in topics):
                raise _OpenError("bits for each sample of sound: not a parameter of the stream")
            return "video.bit_depth", 1
        if measures == "percent":
            if "peak bitrate" in (*topics, *self.context.topics):
                return "peak_percent", 1
            raise _OpenError("a share of what?")
        if measures == "px":
            found = [topic for topic in topics if topic in ("video.width", "video.height")]
            if found:
                return found[0], 1
        raise _OpenError("a figure whose parameter is not told")

    def _bitrate(self, item: Item, topics: tuple[str, ...], subject: str) -> str:
        for topic in topics:
            if topic == "peak bitrate":
                return "audio.bitrate.peak" if subject == "audio" else "video.bitrate.peak"
            if topic in _BITRATES:
                return _BITRATES[topic]
            if topic in ("video.buffer", "port", "server", "stream.protocol", "latency", *_TIMES):
                raise _OpenError("a bitrate of what?")
        before = [name for other in self.items if other.start < item.start for name, _ in other.values]
        evidence = next((name for name in reversed(before) if name.startswith(("audio.", "video."))), "")
        family = [topic for topic in topics if topic.startswith(("audio.", "video."))]
        if subject:
            return f"{subject}.bitrate.mean"
        if "bitrate" in topics and not evidence:
            return "video.bitrate.mean"
        if evidence.startswith("audio."):
            return "audio.bitrate.mean"
        if family or evidence or "bitrate" in topics or self.context.sizes:
            return "audio.bitrate.mean" if family and family[0].startswith("audio.") else "video.bitrate.mean"
        raise _OpenError("a bitrate of what?")

    @staticmethod
    def _time(topics: tuple[str, ...], unit: Unit) -> tuple[str, float]:
        for topic in topics:
            if topic in (_KEYFRAMES, "video.buffer", "session.shows_after_s"):
                return topic, unit.factor
            if topic in _TIMES:
                return topic, unit.factor / 3600
        raise _OpenError("a time of what?")

    def _bare(self, item: Item, topics: tuple[str, ...], subject: str) -> tuple[str, float]:
        value = (item.numbers[0].listed or item.numbers[0].all or (0.0,))[0]
        before = next((o for o in reversed(self.items) if o.start < item.start), None)
        beside = (
            before is not None
            and before.clause == item.clause
            and any(name == "video.profile" for name, _ in before.values)
        )
        if beside and value in _LEVELS and not item.topic and item.numbers[0].mark:
            return "video.level", 1
        for topic in topics:
            if topic == "video.profile" and value in _LEVELS and "video.level" in topics:
                return "video.level", 1
            if topic == "audio.channels" and value in _LAYOUTS and item.numbers[0].mark:
                return "audio.channels", _LAYOUTS[value] / value
            if topic == "audio.sample_rate":
                if value in (44.1, 48, 32, 96, 22.05, 88.2):
                    return topic, 1000
                if value < 7000:
                    raise _OpenError("a number without its unit")
            if topic in _BARE:
                return topic, 1
        if subject == "audio" and value in (5.1, 7.1):
            return "audio.channels", _LAYOUTS[value] / value
        if _KEYFRAMES in topics:
            raise _OpenError("a number without 's': it may be frames")
        raise _OpenError("a number without its unit")

    def _size(self, item: Item) -> None:
        limit = item.limit or self.context.limit
        sizes = item.sizes
        if len(sizes) == 2:
            if limit:
                raise _OpenError("a limit on a range: which end is meant?")
            low, high = sizes
            if low.width > high.width or low.height > high.height:
                raise _OpenError("a range that runs downwards: a slip, or written the other way round")
            for what, a, b in (("video.width", low.width, high.width), ("video.height", low.height, high.height)):
                if not (what == "video.width" and (low.only_height or high.only_height)):
                    self._add(item, what, "min", a)
                    self._add(item, what, "max", b)
            return
        (size,) = sizes
        if limit:
            if (
                len([i for i in self.items if i.kind is Kind.SIZE and not i.limit and i.joined in ("or", "/", "and")])
                and not self.context.limit
            ):
                raise _OpenError("a limit on several sizes")
            if not size.only_height:
                self._add(item, "video.width", limit, size.width)
            self._add(item, "video.height", limit, size.height)
        elif any(s.only_height for i in self.items if i.kind is Kind.SIZE and not i.limit for s in i.sizes):
            self._add(item, "video.height", "is", size.height)
        else:
            self._add(item, "video.size", "is", size.text)
        if size.scan == "i":
            self._add_plain(item, "video.scan", "is", "interlaced")
        if size.rates and size.scan == "i" and any(rate > 30 for rate in size.rates):
            self.out.left.append(Left(item.start, item.end, "of this rate: fields or frames a second?"))
        elif size.rates:
            others = {s.rates for i in self.items if i.kind is Kind.SIZE for s in i.sizes}
            if len(others) > 1:
                self.out.left.append(Left(item.start, item.end, "the frame rate differs by picture size"))
            else:
                for rate in size.rates if not limit else (max(size.rates) if limit == "max" else min(size.rates),):
                    self._add(item, "video.frame_rate", limit or "is", _whole(rate))

    def _add_plain(self, item: Item, what: str, shape: str, value: object) -> None:
        kept = item.limit
        item.limit = ""
        self._add(item, what, shape, value)
        item.limit = kept

    def _ratio(self, item: Item) -> None:
        text = item.text
        if text.count(":") == 2:
            self._add(item, "video.chroma", "is", text)
            return
        if item.limit or self.context.limit:
            raise _OpenError("a limit on a shape")
        topics = (item.topic,) if item.topic else self.context.topics
        pixel = "video.sample_aspect" in topics
        if not pixel and text == "1:1" and "video.display_aspect" not in topics:
            raise _OpenError("the shape of what?")
        left, _, right = text.partition(":")
        if int(left) == 0 or int(right) == 0:
            raise _OpenError("no shape has a nought")
        self._add(item, "video.sample_aspect" if pixel else "video.display_aspect", "is", text)

    def _words(self, item: Item) -> None:
        limit = item.limit or ("" if item.strength else self.context.limit)
        for name, value in item.values:
            if name == "b_frames":
                if any(i.kind is Kind.NUMBER for i in self.items):
                    raise _OpenError("none, or so many?")
                self._add_plain(item, "video.b_frames", "is", 0)
            elif name == "audio.channels":
                self._add(item, name, limit or "is", int(value))
            elif limit:
                raise _OpenError("a limit on a word")
            elif name == "video.colour":
                for part in ("primaries", "transfer", "matrix") if value == "bt.709" else ("primaries",):
                    self._add(item, f"video.colour.{part}", "is", value)
            else:
                self._add(item, name, "is", value)


def _stem(what: str) -> str:
    """Parameters that stand or fall together."""
    if what.startswith("video.keyframe_interval"):
        return _KEYFRAMES
    return "video.size" if what in ("video.width", "video.height") else what


def _whole(value: float) -> float:
    return int(value) if value == int(value) else value
