"""What heads, row names and group rows say of the cells under and beside them."""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import ClassVar

from direkt.destination.published.words.tokens import NumberToken, Size, TextToken, scan, without_notes
from direkt.destination.published.words.vocabulary import BARE_MODES, UnitWord, WordKind, singular


@dataclass(frozen=True, slots=True)
class CellContext:
    """What is known of a cell before it is read."""

    topics: tuple[str, ...] = ()
    subject: str = ""  # video, audio
    limit: str = ""  # min, max
    strength: str = ""  # must, should, not, accept
    unit: UnitWord | None = None
    sizes: tuple[Size, ...] = ()
    rates: tuple[float, float] | None = None  # fps, from and to
    channels: int = 0
    mode: str = ""  # of latency
    role: str = ""  # of a server
    region: str = ""
    protocol: str = ""
    values: tuple[tuple[str, str], ...] = ()
    column: str = ""  # name, label, note, unit: what a column is for
    other: str = ""  # the words for something that is not the pushed stream
    odd: tuple[str, ...] = ()  # words that are not understood
    text: str = ""

    @property
    def says_nothing(self) -> bool:
        """Whether it is empty or but a filler."""
        return not (
            self.topics or self.subject or self.limit or self.strength or self.unit or self.sizes or self.rates
            or self.channels or self.mode or self.role or self.values or self.other or self.odd
        )  # fmt: skip

    @property
    def conditions(self) -> bool:
        """Whether it names a size, a rate, a number of channels or a mode: a cell under it holds for that alone."""
        return bool(self.sizes or self.rates or self.channels or self.mode)

    def under(self, outer: CellContext) -> CellContext:
        """This, with what ``outer`` says where this says nothing."""
        return replace(
            self,
            topics=self.topics or outer.topics,
            subject=self.subject or outer.subject,
            limit=self.limit or outer.limit,
            strength=self.strength or outer.strength,
            unit=self.unit or outer.unit,
            sizes=self.sizes or outer.sizes,
            rates=self.rates or outer.rates,
            channels=self.channels or outer.channels,
            mode=self.mode or outer.mode,
            role=self.role or outer.role,
            region=self.region or outer.region,
            protocol=self.protocol or outer.protocol,
            values=(*self.values, *outer.values),
            other=self.other or outer.other,
        )


NOTHING = CellContext()


@functools.lru_cache(maxsize=4096)
def read(text: str) -> CellContext:
    """What the words of a head, a row's name or a group say."""
    return _Words(without_notes(text)).context()


class _Words:
    """The words of a head, taken one by one."""

    def __init__(self, text: str) -> None:
        """Takes all of them at once."""
        self.text, self.tokens = text, scan(text)
        self.topics: list[str] = []
        self.sizes: list[Size] = []
        self.figures: list[tuple[NumberToken, str]] = []  # with the unit behind, or "size" where a size stands before
        self.values: list[tuple[str, str]] = []
        self.odd: list[str] = []
        self.said: dict[str, str] = {}  # subject, limit, strength, column, other: the first word counts; mode, role, protocol: the last
        self.channels = 0
        self.unit: UnitWord | None = None
        for n, token in enumerate(self.tokens):
            take = self._TAKES.get(token.kind)
            if take is not None:
                take(self, token, self.tokens[n - 1] if n else None)

    def _first(self, token: TextToken, before: TextToken | None) -> None:
        self.said.setdefault(_SAID[token.kind], str(token.value))

    def _last(self, token: TextToken, before: TextToken | None) -> None:
        self.said[_SAID[token.kind]] = str(token.value)

    def _other(self, token: TextToken, before: TextToken | None) -> None:
        self.said.setdefault("other", self.text[token.start : token.end])

    def _topic(self, token: TextToken, before: TextToken | None) -> None:
        self.topics.append(str(token.value))

    def _size(self, token: TextToken, before: TextToken | None) -> None:
        size = token.value
        assert isinstance(size, Size)
        if not any((s.width, s.height) == (size.width, size.height) for s in self.sizes):
            self.sizes.append(size)
        elif size.rates:
            self.sizes = [size if s.height == size.height else s for s in self.sizes]

    def _number(self, token: TextToken, before: TextToken | None) -> None:
        assert isinstance(token.value, NumberToken)
        while before is not None and before.kind is WordKind.FILLER and before is not self.tokens[0]:
            before = self.tokens[self.tokens.index(before) - 1]  # "1920x1080 @ 50"
        self.figures.append((token.value, "size" if before is not None and before.kind is WordKind.SIZE else ""))

    def _unit(self, token: TextToken, before: TextToken | None) -> None:
        unit = token.value
        if not isinstance(unit, UnitWord):
            return
        if self.figures and before is not None and before.kind is WordKind.NUMBER:
            self.figures = [(number, mark or unit.measures) for number, mark in self.figures]
        elif unit.measures != "frames" or _bracketed(self.text, token.start, token.end):
            self.unit = self.unit or unit

    def _value(self, token: TextToken, before: TextToken | None) -> None:
        for name, value in token.value if isinstance(token.value, tuple) else ():
            if name == "stream.protocol":
                self.said["protocol"] = value
            elif name == "audio.channels":
                self.channels = int(value)
            elif (name, value) in (("video.gop_closed", "yes"), ("video.frame_rate_constant", "yes")):
                self.topics.append(name)
            self.values.append((name, value))
            if name.startswith("audio."):
                self.said.setdefault("subject", "audio")

    def _odd(self, token: TextToken, before: TextToken | None) -> None:
        if token.meaning is None or not any(where in self.topics for where, _ in token.meaning.only):
            self.odd.append(self.text[token.start : token.end])

    _TAKES: ClassVar[Mapping[WordKind, Callable[[_Words, TextToken, TextToken | None], None]]] = {
        WordKind.TOPIC: _topic, WordKind.SUBJECT: _first, WordKind.LIMIT: _first, WordKind.STRENGTH: _first, WordKind.COLUMN: _first, WordKind.MODE: _last, WordKind.ROLE: _last,
        WordKind.OTHER: _other, WordKind.SIZE: _size, WordKind.NUMBER: _number, WordKind.UNIT: _unit, WordKind.VALUE: _value,
        **dict.fromkeys((WordKind.WORD, WordKind.IF, WordKind.SOURCE, WordKind.URL, WordKind.RATIO), _odd),
    }  # fmt: skip

    def context(self) -> CellContext:
        """What they come to."""
        said = self.said
        subject, limit, mode = said.get("subject", ""), said.get("limit", ""), said.get("mode", "")
        rates = _rates(self.figures, self.odd)
        for size in self.sizes:
            if size.rates:
                rates = (min(size.rates), max(size.rates))
        if rates and limit == "max" and not self.topics:
            rates, limit = (1, rates[1]), ""
        if "latency" in self.topics and not mode:
            mode = bare_mode(self.text)
        return CellContext(
            topics=_family(self.topics, subject), subject=subject, limit=limit, strength=said.get("strength", ""), unit=self.unit,
            sizes=tuple(self.sizes), rates=rates, channels=self.channels, mode=mode, role=said.get("role", ""), protocol=said.get("protocol", ""),
            values=tuple(self.values), column=said.get("column", ""), other=said.get("other", ""), odd=tuple(self.odd), text=self.text,
        )  # fmt: skip


_SAID = {
    WordKind.SUBJECT: "subject", WordKind.LIMIT: "limit", WordKind.STRENGTH: "strength", WordKind.COLUMN: "column", WordKind.MODE: "mode", WordKind.ROLE: "role",
}  # fmt: skip


def _bracketed(text: str, start: int, end: int) -> bool:
    return text[:start].rstrip().endswith(("(", "[", ",", "in")) or text[:start].rstrip().lower().endswith(" in")


def _family(topics: Iterable[str], subject: str) -> tuple[str, ...]:
    """Topics with the subject in mind: the codec of "Audio: codec" is the sound's."""
    return tuple(dict.fromkeys(audible(topic) if subject == "audio" else topic for topic in topics))


def audible(topic: str) -> str:
    """The topic, of the sound."""
    return {"video.codec": "audio.codec", "video.profile": "audio.profile", "bitrate": "audio bitrate"}.get(
        topic, topic
    )


def _rates(figures: list[tuple[NumberToken, str]], odd: list[str]) -> tuple[float, float] | None:
    """Frame rates among the numbers of a head; all others are odd."""
    rates: list[float] = []
    for number, mark in figures:
        values = number.listed or number.all[:1]
        if mark in ("rate", "frequency", "frames", "size") and values and all(5 <= value <= 300 for value in values):
            rates += values
        else:
            odd.append(f"{number.all[0]:g}" if number.all else "a number")
    return (min(rates), max(rates)) if rates else None


def bare_mode(text: str) -> str:
    """The latency mode that a word alone means beside others: "low"."""
    words = tuple(
        singular(word) for word in re.findall(r"[^\W\d_]+", text.lower()) if word not in ("latency", "mode", "delay")
    )
    return BARE_MODES.get(words, "")
