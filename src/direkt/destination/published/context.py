"""What heads, row names and group rows say of the cells under and beside them."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable
from dataclasses import dataclass, replace

from direkt.destination.published.tokens import Number, Size, scan, without_notes
from direkt.destination.published.vocabulary import BARE_MODES, Kind, Unit, singular


@dataclass(frozen=True, slots=True)
class Context:
    """What is known of a cell before it is read."""

    topics: tuple[str, ...] = ()
    subject: str = ""  # video, audio
    limit: str = ""  # min, max
    strength: str = ""  # must, should, not, accept
    unit: Unit | None = None
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

    def under(self, outer: Context) -> Context:
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


NOTHING = Context()


@functools.lru_cache(maxsize=4096)
def read(text: str) -> Context:
    """What the words of a head, a row's name or a group say."""
    text = without_notes(text)
    topics: list[str] = []
    sizes: list[Size] = []
    figures: list[tuple[Number, str]] = []  # with the unit behind, or "size" where a size stands before
    values: list[tuple[str, str]] = []
    odd: list[str] = []
    subject = limit = strength = mode = role = column = other = protocol = ""
    channels = 0
    unit: Unit | None = None
    tokens = scan(text)
    for n, token in enumerate(tokens):
        word = text[token.start : token.end]
        before = tokens[n - 1] if n else None
        match token.kind:
            case Kind.TOPIC:
                topics.append(str(token.value))
            case Kind.SUBJECT:
                subject = subject or str(token.value)
            case Kind.LIMIT:
                limit = limit or str(token.value)
            case Kind.STRENGTH:
                strength = strength or str(token.value)
            case Kind.SIZE if isinstance(token.value, Size):
                if not any((s.width, s.height) == (token.value.width, token.value.height) for s in sizes):
                    sizes.append(token.value)
                elif token.value.rates:
                    sizes = [token.value if s.height == token.value.height else s for s in sizes]
            case Kind.NUMBER if isinstance(token.value, Number):
                while before is not None and before.kind is Kind.FILLER and before is not tokens[0]:
                    before = tokens[tokens.index(before) - 1]  # "1920x1080 @ 50"
                figures.append((token.value, "size" if before is not None and before.kind is Kind.SIZE else ""))
            case Kind.UNIT if isinstance(token.value, Unit):
                if figures and before is not None and before.kind is Kind.NUMBER:
                    figures = [(number, mark or token.value.measures) for number, mark in figures]
                elif token.value.measures != "frames" or _bracketed(text, token.start, token.end):
                    unit = unit or token.value
            case Kind.MODE:
                mode = str(token.value)
            case Kind.ROLE:
                role = str(token.value)
            case Kind.COLUMN:
                column = column or str(token.value)
            case Kind.OTHER:
                other = other or word
            case Kind.VALUE if isinstance(token.value, tuple):
                for name, value in token.value:
                    if name == "stream.protocol":
                        protocol = value
                    elif name == "audio.channels":
                        channels = int(value)
                    elif (name, value) in (("video.gop_closed", "yes"), ("video.frame_rate_constant", "yes")):
                        topics.append(name)
                    values.append((name, value))
                    subject = subject or ("audio" if name.startswith("audio.") else "")
            case Kind.WORD | Kind.IF | Kind.SOURCE | Kind.URL | Kind.RATIO:
                if token.meaning is None or not any(where in topics for where, _ in token.meaning.only):
                    odd.append(word)
            case _:
                pass
    rates = _rates(figures, odd)
    for size in sizes:
        if size.rates:
            rates = (min(size.rates), max(size.rates))
    if rates and limit == "max" and not topics:
        rates, limit = (1, rates[1]), ""
    if "latency" in topics and not mode:
        mode = bare_mode(text)
    return Context(
        topics=_family(topics, subject), subject=subject, limit=limit, strength=strength, unit=unit, sizes=tuple(sizes), rates=rates,
        channels=channels, mode=mode, role=role, protocol=protocol, values=tuple(values), column=column, other=other,
        odd=tuple(odd), text=text,
    )  # fmt: skip


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


def _rates(figures: list[tuple[Number, str]], odd: list[str]) -> tuple[float, float] | None:
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
