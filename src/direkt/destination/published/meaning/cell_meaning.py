"""What the items of a cell mean: each finds its own parameter, and becomes a claim or is left with its reason.

An item's own unit or word decides first, then the topic of its clause, last its row. A clause with a word in it that is
not understood claims nothing; a condition takes what stands before it along; and where one parameter is doubtful in a
cell, no other clause of that cell claims it.
"""

from __future__ import annotations

from direkt.destination.published.meaning import pairing
from direkt.destination.published.meaning.clauses import PREPOSITIONS, Clause, Item, Walk
from direkt.destination.published.meaning.reading import (
    COUNTS,
    KEYFRAMES,
    LEVELS,
    Claim,
    LeftWords,
    OpenError,
    ParsedCell,
    Reading,
    stem,
    whole,
)
from direkt.destination.published.words.context import CellContext
from direkt.destination.published.words.numbers import PLAUSIBLE, Habit, resolve
from direkt.destination.published.words.tokens import Size
from direkt.destination.published.words.vocabulary import WordKind

__all__ = ["Claim", "LeftWords", "ParsedCell", "parse"]


def parse(text: str, context: CellContext, habit: Habit) -> ParsedCell:
    """What a cell's ``text`` claims, under its heads."""
    return _Meaning(Walk(text, context), context, habit).parsed()


class _Meaning(Reading):
    def parsed(self) -> ParsedCell:
        pairing.layouts(self)
        pairing.units(self)
        self._bad_clauses()
        self._lone_topics()
        pairing.size_rates(self)
        pairing.restated(self)
        pairing.keyframes_in_frames(self)
        pairing.ports(self)
        pairing.under(self)
        pairing.codecs(self)
        pairing.conditions(self)
        pairing.several(self)
        for item in self.items:
            if not item.used:
                self._claim(item)
        for number, why in self.bad.items():
            clause = self.clauses[number]
            self.out.left.append(LeftWords(clause.start, clause.end, why))
        said = set()
        for _, claim in self.claims:
            doubt = self.doubtful.get(stem(claim.what))
            if doubt is None:
                self.out.claims.append(claim)
            elif (claim.start, doubt) not in said:
                said.add((claim.start, doubt))
                self.out.left.append(LeftWords(claim.start, claim.end, doubt))
        if not self.out.claims and not self.out.left and self.text.strip():
            self.out.left.append(LeftWords(0, len(self.text), "nothing in it that could be a value"))
        return self.out

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
                for what in self.could_be(item):
                    self.doubtful[stem(what)] = self.bad[item.clause]

    def _plainly(self, item: Item) -> bool:
        """Whether a bracket holds figures of its own kind, of which the clause before says nothing."""
        parent = self.clauses[item.clause].parent
        mine = set(map(stem, self.could_be(item)))
        return bool(mine) and not any(
            mine & set(map(stem, self.could_be(other))) for other in self.items if other.clause == parent
        )

    def _clause_before(self, number: int, clause: Clause) -> int:
        if clause.after == "." and not clause.conditional:
            return -1
        return max((item.clause for item in self.items if item.clause < number), default=-1)

    def _lone_topics(self) -> None:
        """ "No B-frames" has no figure, and says one."""
        for number, clause in enumerate(self.clauses):
            if number in self.bad or not clause.topics or any(i.clause == number for i in self.items):
                continue
            if str(clause.topics[0].value) == "video.b_frames" and clause.denied:
                self.claims.append((number, Claim("video.b_frames", "must", "is", 0, clause.start, clause.end)))

    def _claim(self, item: Item) -> None:
        try:
            if item.strength == "not?":
                raise OpenError("does the no before it hold for this too?")
            if item.kind is WordKind.NUMBER:
                self._figure(item)
            elif item.kind is WordKind.SIZE:
                self._size(item)
            elif item.kind is WordKind.RATIO:
                self._ratio(item)
            elif item.kind is WordKind.SOURCE:
                if "video.frame_rate" not in (item.topic, *self.context.topics):
                    raise OpenError("the same as the source: only a frame rate can require that")
                self.add(item, "video.frame_rate", "source", True)
            elif item.kind is WordKind.URL:
                self.add(item, "server", "is", item.text)
            else:
                self._words(item)
        except OpenError as error:
            self.leave(item, str(error), aside=error.aside)

    def _figure(self, item: Item) -> None:
        if item.times:
            self._times(item)
            return
        what, factor = self.what(item)
        if item.numbers[0].listed and (what == "video.frame_rate" or item.numbers[0].decimal is None):
            if what != "video.frame_rate" or item.limit or len(item.numbers) > 1:
                raise OpenError("one number with a comma, or several?")
            for value in item.numbers[0].listed:
                self.add(item, what, "is", whole(value))
            return
        factors = [factor] * len(item.numbers)
        if len(item.numbers) == 2 and item.text:
            factors[0] = factor * float(item.text)
        values = [resolve(number, what, f, self.habit) for number, f in zip(item.numbers, factors, strict=True)]
        if any(value is None for value in values):
            number = item.numbers[[value is None for value in values].index(True)]
            if number.thousands is None or number.decimal is None:
                raise OpenError("not a number that can be read")
            raise OpenError(f"{number.thousands:g} or {number.decimal:g}?")
        if item.spread and len(values) == 1 and values[0] is not None:
            part = values[0] * item.spread / 100
            values = [round(values[0] - part, 3), round(values[0] + part, 3)]
        self._sane(what, [v for v in values if v is not None])
        if what == "stream.av_offset":
            self._both_ways(item, [v for v in values if v is not None])
            return
        if what == "video.level":
            for shape, value in self.shapes(item, [v for v in values if v is not None]):
                self.add(item, what, shape, f"{value:.1f}")
            return
        for shape, value in self.shapes(item, [v for v in values if v is not None]):
            bounded = shape == "is" and what in (
                "video.bitrate.peak",
                "video.buffer",
                "peak_percent",
                "audio.bitrate.peak",
            )
            self.add(item, what, "max" if bounded else shape, value)

    def _both_ways(self, item: Item, values: list[float]) -> None:
        """Sound beside the picture: what is allowed is allowed in front and behind."""
        limit = item.limit or self.context.limit
        if len(values) != 1 or not (item.both_ways or limit == "max"):
            raise OpenError("at most so much, or just so much?")
        for shape, value in (("min", -values[0]), ("max", values[0])):
            self._add_plain(item, "stream.av_offset", shape, whole(value))

    def _sane(self, what: str, values: list[float]) -> None:
        low, high = PLAUSIBLE.get(what, (0.0, float("inf")))
        if what in ("video.frame_rate", "video.bit_depth", "audio.channels", *COUNTS) and not all(
            low <= v <= high for v in values
        ):
            raise OpenError(f"{values[0]:g} is no sensible figure for this")
        wild = [v for v in values if not low <= v <= high]
        if what.endswith((".bitrate.mean", ".bitrate.peak")) and wild and values == sorted(values):
            raise OpenError(f"{wild[0]:g} kbit/s is no sensible bitrate: check its unit")
        if what == "video.level" and any(v not in LEVELS for v in values):
            raise OpenError("no level goes by this number")

    def _times(self, item: Item) -> None:
        """Twice the frame rate, in frames, is two seconds."""
        if KEYFRAMES not in (item.topic, *self.context.topics):
            raise OpenError("so many times the frame rate: of what?")
        if not all(number.plain is not None for number in item.numbers):
            raise OpenError("not a number that can be read")
        for shape, value in self.shapes(item, [number.plain or 0.0 for number in item.numbers]):
            self.add(item, KEYFRAMES, shape, value)

    def _size(self, item: Item) -> None:
        denied = "not" in (item.strength, self.context.strength)
        if denied and any(size.rates for size in item.sizes):
            raise OpenError("is it the size or the rate that must not be?")
        if denied and len(item.sizes) == 1 and item.sizes[0].scan == "i":
            if "video.scan" not in (item.topic, *self.context.topics) and item.sizes[0].height < 720:  # 1080i is all the interlaced HD there is
                raise OpenError("is it the size or the scan that must not be?")
            self._add_plain(item, "video.scan", "is", "interlaced")
            return
        limit = item.limit or self.context.limit
        sizes = item.sizes
        if len(sizes) == 2:
            if limit:
                raise OpenError("a limit on a range: which end is meant?")
            low, high = sizes
            if low.width > high.width or low.height > high.height:
                raise OpenError("a range that runs downwards: a slip, or written the other way round")
            for what, a, b in (("video.width", low.width, high.width), ("video.height", low.height, high.height)):
                if not (what == "video.width" and (low.only_height or high.only_height)):
                    self.add(item, what, "min", a)
                    self.add(item, what, "max", b)
            return
        (size,) = sizes
        if limit:
            if (
                len([i for i in self.items if i.kind is WordKind.SIZE and not i.limit and i.joined in ("or", "/", "and")])
                and not self.context.limit
            ):
                raise OpenError("a limit on several sizes")
            if not size.only_height:
                self.add(item, "video.width", limit, size.width)
            self.add(item, "video.height", limit, size.height)
        elif any(s.only_height for i in self.items if i.kind is WordKind.SIZE and not i.limit for s in i.sizes):
            self.add(item, "video.height", "is", size.height)
        else:
            self.add(item, "video.size", "is", size.text)
        if size.scan == "i":
            self._add_plain(item, "video.scan", "is", "interlaced")
        self._rates_of(item, size, limit)

    def _rates_of(self, item: Item, size: Size, limit: str) -> None:
        """The frame rates that are written with a picture size."""
        every = [s for i in self.items if i.kind is WordKind.SIZE for s in i.sizes]
        if not size.rates:
            return
        if size.scan == "i" and any(rate > 30 for rate in size.rates):
            self.out.left.append(LeftWords(item.start, item.end, "of this rate: fields or frames a second?"))
        elif len({s.rates for s in every}) > 1 and len({s.text for s in every}) > 1:
            self.out.left.append(LeftWords(item.start, item.end, "the frame rate differs by picture size"))
        elif size.span and size.rates[0] > size.rates[-1]:
            self.out.left.append(LeftWords(item.start, item.end, "a range of rates that runs downwards"))
        elif size.span:
            self._add_plain(item, "video.frame_rate", "min", whole(size.rates[0]))
            self._add_plain(item, "video.frame_rate", "max", whole(size.rates[-1]))
        elif limit:
            self.add(item, "video.frame_rate", limit, whole(max(size.rates) if limit == "max" else min(size.rates)))
        else:
            for rate in size.rates:
                self.add(item, "video.frame_rate", "is", whole(rate))

    def _add_plain(self, item: Item, what: str, shape: str, value: object) -> None:
        kept = item.limit
        item.limit = ""
        self.add(item, what, shape, value)
        item.limit = kept

    def _ratio(self, item: Item) -> None:
        text = item.text
        if text.count(":") == 2:
            self.add(item, "video.chroma", "is", text)
            return
        if item.limit or self.context.limit:
            raise OpenError("a limit on a shape")
        topics = (item.topic,) if item.topic else self.context.topics
        pixel = "video.sample_aspect" in topics
        if not pixel and text == "1:1" and "video.display_aspect" not in topics:
            raise OpenError("the shape of what?")
        left, _, right = text.partition(":")
        if int(left) == 0 or int(right) == 0:
            raise OpenError("no shape has a nought")
        self.add(item, "video.sample_aspect" if pixel else "video.display_aspect", "is", text)

    def _words(self, item: Item) -> None:
        limit = item.limit or ("" if item.strength else self.context.limit)
        values = item.values
        if len(values) > 1 and "not" in (item.strength, self.context.strength):
            values = values[-1:]  # "no HE-AAC" is of the profile, not of the codec
        for name, value in values:
            if name == "b_frames":
                if any(i.kind is WordKind.NUMBER for i in self.items):
                    raise OpenError("none, or so many?")
                self._add_plain(item, "video.b_frames", "is", 0)
            elif name == "audio.channels":
                self.add(item, name, limit or "is", int(value))
            elif limit:
                raise OpenError("a limit on a word")
            elif name == "video.colour":
                for part in ("primaries", "transfer", "matrix") if value == "bt.709" else ("primaries",):
                    self.add(item, f"video.colour.{part}", "is", value)
            else:
                self.add(item, name, "is", value)
