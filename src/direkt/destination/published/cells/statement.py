"""A cell that says something, with what stands around it; and what a cell looks like before it is read."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from direkt.destination.published.cells.grid import GridCell
from direkt.destination.published.words import context as contexts
from direkt.destination.published.words.context import NOTHING, CellContext
from direkt.destination.published.words.tokens import Size, scan, without_notes
from direkt.destination.published.words.vocabulary import WordKind

# A table of features: "H.264: yes"
ANSWERS = {
    **dict.fromkeys(["yes", "y", "✓", "✔", "☑", "✅", "supported", "ja", "oui", "sí", "si", "sì", "allowed", "accepted"], "accept"),
    **dict.fromkeys(["required", "mandatory", "must", "compulsory", "erforderlich", "obligatoire", "obligatorio", "obbligatorio"], "must"),
    **dict.fromkeys(["recommended", "preferred", "advised", "empfohlen", "recommandé", "conseillé", "recomendado", "consigliato"], "should"),
    **dict.fromkeys(["no", "n", "✗", "✘", "❌", "☒", "not supported", "unsupported", "nein", "non", "nee", "not allowed", "not accepted"], "not"),
}  # fmt: skip
# Of a heading, only these take everything below it away from the push: "Streaming over the internet" does not
OTHER_THINGS = re.compile(
    r"thumbnail|record|archive|vod|on demand|playback|player|rendition|transcod|caption|subtitle|poster|storage|backup|preview|"
    r"sub ?stream|second|download|hls|dash|webrtc|whip|replay|dvr|clip|mobile|aufzeichnung|wiedergabe|enregistrement|grabación|registrazione"
)  # fmt: skip
_EMPTY = frozenset(["", "-", "–", "—", "n/a", "na", "none given", "./.", "--", "/", "k. a.", "k.a."])


@dataclass(frozen=True, slots=True)
class Statement:
    """A cell, and what stands around it."""

    line: int
    name: str
    head: str  # of its column; empty where it says nothing
    text: str
    context: CellContext
    prose: bool = False
    why_not: str = ""  # why it cannot be read at all
    aside: bool = False  # it is not for a sheet: another thing than the pushed stream, or nothing that a sheet tells
    choice: str = ""  # the head of its column, where nobody can tell from it which column is meant
    among: tuple[str, ...] = ()  # all such heads of its table

    @property
    def words(self) -> str:
        """As it stood there, on one line."""
        name = f"{self.name} [{self.head}]" if self.head else self.name
        text = self.text.replace("\n", "; ")
        return f"{name}: {text}" if name else text


def statement(
    line: int,
    name: str,
    head: str,
    text: str,
    column: CellContext,
    group: CellContext,
    *,
    prose: bool = False,
    keys: CellContext = NOTHING,
) -> Statement:
    if (answer := ANSWERS.get(text.strip().lower().rstrip("."))) is not None and name:
        feature = contexts.read(name)
        if (feature.values or feature.sizes) and not feature.topics and not feature.odd:
            text, name, column = name, "", replace(column, strength=answer, odd=())
    own = contexts.read(name) if name else NOTHING
    own = _within(own, group)
    about = own.under(column).under(keys).under(group)
    own, column = late(own, about), late(column, about)
    why, aside = "", True
    url = "://" in text
    if own.odd and url and not own.other:
        own = replace(own, region=own.region or _region(own), odd=())
    if column.column == "default":
        why = "a default is no demand"
    elif own.other or column.other or group.other:
        why = f"{(own.other or column.other or group.other)}: not the stream that is pushed"
    elif own.odd:
        aside = not (own.topics or own.subject)
        why = "no parameter goes by this name" if aside else f"not understood: {' '.join(own.odd)}"
    elif own.role == "backup" and not url and not keys.region and "server" not in own.topics:
        why = "a backup's: not the stream that is pushed"
    context = own.under(column).under(keys).under(group)
    if len(own.sizes) > 1:
        why, aside = why or "several picture sizes in one name", aside and bool(why)
    subject = own.subject or column.subject or group.subject
    if subject == "audio":
        context = replace(context, subject="audio", topics=tuple(map(contexts.audible, context.topics)))
    elif own.subject == "video" or (subject == "video" and not any(t.startswith("audio") for t in context.topics)):
        context = replace(context, subject="video")
    elif any(t.startswith("audio") for t in context.topics):
        context = replace(context, subject="audio")
    return Statement(line, name.replace("\n", " "), head, without_notes(text), context, prose, why, aside and bool(why))


_LATE = ("latency", "delay", "latenz", "verzögerung", "délai", "latence", "latencia", "latenza", "retardo")


def late(named: CellContext, about: CellContext) -> CellContext:
    """ "Latency" is srt's beside srt, and the viewers' beside a latency mode; alone it is nobody's."""
    if named.other.lower() not in _LATE or not (about.protocol == "srt" or about.mode):
        return named
    return replace(named, other="", topics=("srt.latency_ms" if about.protocol == "srt" else "latency.behind",))


def _within(own: CellContext, group: CellContext) -> CellContext:
    if group.subject == "audio" and own.topics:
        return replace(own, topics=tuple(map(contexts.audible, own.topics)))
    return own


def _region(own: CellContext) -> str:
    return " ".join(own.odd)


def says(cell: GridCell) -> bool:
    """Whether anything stands in it."""
    return cell.text.strip().lower() not in _EMPTY


def figures(cell: GridCell) -> bool:
    """Whether it has a number, a size or a ratio."""
    return any(token.kind in (WordKind.NUMBER, WordKind.SIZE, WordKind.RATIO) for token in scan(cell.text))


def sizes_in(cell: GridCell) -> list[Size]:
    """The picture sizes in it."""
    return [token.value for token in scan(cell.text) if isinstance(token.value, Size)]


def kind_of(cell: GridCell) -> str:
    """What a cell of a first row looks like: empty, head, topic, condition, value or odd."""
    if not says(cell):
        return "empty"
    found = contexts.read(cell.text)
    tokens = scan(cell.text)
    if any(token.kind is WordKind.URL for token in tokens):
        return "value"
    if found.conditions and not found.topics and not found.odd:
        return "condition"
    if found.topics and not any(t.kind in (WordKind.NUMBER, WordKind.RATIO) for t in tokens):
        return "topic"
    if found.values and not found.topics and (found.limit or found.strength):
        return "value"
    if found.column or found.limit or found.strength or found.unit or found.role:
        return "head" if not any(t.kind in (WordKind.NUMBER, WordKind.RATIO) for t in tokens) else "value"
    if found.subject and not found.odd and not found.values:
        return "topic"
    if found.values or any(t.kind in (WordKind.NUMBER, WordKind.RATIO) for t in tokens):
        return "value"
    return "odd"
