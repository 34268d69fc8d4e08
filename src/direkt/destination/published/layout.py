"""Tables into single statements: each cell that says something, with the heads, row names and groups it stands under.

Head rows are those that the markup calls so, else a first row that differs in kind from what is below. A table lists
parameters (a name in front, values beside it) or renditions (each column a parameter, each row a size or a quality);
what a column is for, its head says: recommended, required, minimum, maximum, a unit, a remark, what not to use, a size,
a latency mode.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from direkt.destination.published import context as contexts
from direkt.destination.published.context import NOTHING, Context
from direkt.destination.published.grid import Cell, Grid
from direkt.destination.published.tokens import Number, Size, scan, without_notes
from direkt.destination.published.vocabulary import Kind, Unit

# Heads of columns that are but names for how good the picture is
_QUALITY = re.compile(
    r"(?i)(?:|(?:(?:quality|preset|tier|level|step|option|variant|rendition|stufe|profil|class)\b\s*)?(?:low|medium|mid|high|higher|highest|lowest|best|good|better|"
    r"basic|standard|normal|premium|sd|hd|full hd|fhd|uhd|4k|hd ready|event hd|small|large|big|max|min|top|economy|[a-f]|[1-9]|\d{3,4}p\d*|niedrig|mittel|hoch|bas|moyen|"
    r"haut|bajo|medio|alto|basso)(?:\s*(?:feed|stream|channel|picture|video|quality|definition|resolution|bandwidth|tier|profile|preset|qualität))?(?:\s*\(.*\))?)"
)  # fmt: skip
_EMPTY = frozenset(["", "-", "–", "—", "n/a", "na", "none given", "./.", "--", "/", "k. a.", "k.a."])
# A table of features: "H.264: yes"
_ANSWERS = {
    **dict.fromkeys(["yes", "y", "✓", "✔", "☑", "✅", "supported", "ja", "oui", "sí", "si", "sì", "allowed", "accepted"], "accept"),
    **dict.fromkeys(["no", "n", "✗", "✘", "❌", "☒", "not supported", "unsupported", "nein", "non", "nee", "not allowed", "not accepted"], "not"),
}  # fmt: skip
# Of a heading, only these take everything below it away from the push: "Streaming over the internet" does not
_OTHER_TITLE = re.compile(
    r"thumbnail|record|archive|vod|on demand|playback|player|rendition|transcod|caption|subtitle|poster|storage|backup|preview|"
    r"sub ?stream|second|download|hls|dash|webrtc|whip|replay|dvr|clip|mobile|aufzeichnung|wiedergabe|enregistrement|grabación|registrazione"
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Statement:
    """A cell, and what stands around it."""

    line: int
    name: str
    head: str  # of its column; empty where it says nothing
    text: str
    context: Context
    prose: bool = False
    why_not: str = ""  # why it cannot be read at all

    @property
    def words(self) -> str:
        """As it stood there, on one line."""
        name = f"{self.name} [{self.head}]" if self.head else self.name
        text = self.text.replace("\n", "; ")
        return f"{name}: {text}" if name else text


def statements(grids: Sequence[Grid]) -> list[Statement]:
    """Everything that tables say. A line that is no more than "Video" or "Recording" speaks of what follows."""
    out: list[Statement] = []
    section = before = ""
    for grid in grids:
        if grid.title != before:
            section, before = "", grid.title
        lone = _section(grid)
        if lone:
            section = lone
        else:
            out += _of(replace(grid, title=section) if section else grid)
    return out


def _section(grid: Grid) -> str:
    """The words of a line that stands by itself and names a subject."""
    if not grid.pairs or len(grid.rows) != 1:
        return ""
    cells = [cell for cell in grid.rows[0] if cell.text]
    if len(cells) != 1 or (len(grid.rows[0]) > 1 and grid.rows[0][0].text):
        return ""
    found = contexts.read(cells[0].text)
    rest = found.topics or found.odd or found.values or found.sizes or found.rates or found.unit
    return cells[0].text if (found.subject or found.other) and not rest else ""


def _of(grid: Grid) -> list[Statement]:
    found = contexts.read(grid.title)
    other = found.other if _OTHER_TITLE.search(found.other.lower()) else ""
    about = _title_topics(grid.title)
    title = replace(
        found,
        other=other,
        unit=found.unit if about else None,
        role="",
        limit="",
        strength="",
        odd=(),
        sizes=(),
        rates=None,
        topics=about,
    )
    if grid.pairs:
        return _pairs(grid, title)
    rows = [row for row in grid.rows if any(_says(cell) for cell in row)]
    width = max(map(len, rows), default=0)
    rows = [[*row, *[Cell(row[0].line, "")] * (width - len(row))] for row in rows]
    if not rows:
        return []
    rows = _turned(rows)
    heads = max(grid.heads, _heads(rows))
    if heads:
        heads, rows = _second_head(rows, heads)
    if width == 1:
        return _pairs(Grid(grid.title, [[Cell(row[0].line, ""), row[0]] for row in rows], pairs=True), title)
    return _Table(rows, heads, title).read()


def _turned(rows: list[list[Cell]]) -> list[list[Cell]]:
    """A table whose rows are minimum, recommended and maximum, turned so that its columns are."""
    firsts = [contexts.read(row[0].text) for row in rows[1:]]
    roles = [c for c in firsts if (c.limit or c.strength) and not (c.topics or c.sizes or c.odd or c.values or c.rates)]
    named = [c for c in (contexts.read(cell.text) for cell in rows[0][1:]) if c.topics and not c.odd]
    if len(roles) > 1 and len(roles) == len(firsts) and len(named) == len(rows[0]) - 1:
        return [list(column) for column in zip(*rows, strict=True)]
    return rows


def _second_head(rows: list[list[Cell]], heads: int) -> tuple[int, list[list[Cell]]]:
    """Takes a second head row along: "min, max" under "Bitrate"; a head that was left empty is its neighbour's."""
    if heads != 1 or len(rows) < 3:
        return heads, rows
    first, second = rows[0], rows[1]
    hangs = second[0] is first[0] or not _says(second[0])
    kinds = [_kind(cell) for cell in second[1:] if _says(cell) and not any(cell is c for c in first)]
    if not hangs or len(kinds) < 2 or not all(kind in ("head", "condition") for kind in kinds):
        return heads, rows
    filled = list(first)
    for n in range(2, len(filled)):
        if not _says(filled[n]) and _says(second[n]):
            filled[n] = filled[n - 1]
    return 2, [filled, *rows[1:]]


def _title_topics(title: str) -> tuple[str, ...]:
    """A heading is about something only where it is no more than that: "Video bitrate in kbit/s"."""
    found = contexts.read(title)
    return found.topics if found.topics and not found.odd and "bitrate" in found.topics[-1] else ()


def _says(cell: Cell) -> bool:
    return cell.text.strip().lower() not in _EMPTY


def _pairs(grid: Grid, title: Context) -> list[Statement]:
    out: list[Statement] = []
    group = title
    for row in grid.rows:
        if len(row) < 2:
            found = contexts.read(row[0].text)
            group = replace(title, subject=found.subject or title.subject, other=found.other or title.other)
            continue
        name, value = row[0], row[1]
        if _says(value):
            out.append(_statement(value.line, name.text, "", value.text, NOTHING, group, prose=grid.prose))
    return out


def _statement(
    line: int,
    name: str,
    head: str,
    text: str,
    column: Context,
    group: Context,
    *,
    prose: bool = False,
    keys: Context = NOTHING,
) -> Statement:
    if (answer := _ANSWERS.get(text.strip().lower().rstrip("."))) is not None and name:
        feature = contexts.read(name)
        if (feature.values or feature.sizes) and not feature.topics and not feature.odd:
            text, name, column = name, "", replace(column, strength=answer, odd=())
    own = contexts.read(name) if name else NOTHING
    own = _within(own, group)
    why = ""
    url = "://" in text
    if own.odd and url and not own.other:
        own = replace(own, region=own.region or _region(own), odd=())
    if column.column == "default":
        why = "a default is no demand"
    elif own.other or column.other or group.other:
        why = f"{(own.other or column.other or group.other)}: not the stream that is pushed"
    elif own.odd:
        why = f"not understood: {' '.join(own.odd)}" if own.topics or own.subject else "no parameter goes by this name"
    elif own.role == "backup" and not url and not keys.region and "server" not in own.topics:
        why = "a backup's: not the stream that is pushed"
    context = own.under(column).under(keys).under(group)
    if len(own.sizes) > 1:
        why = why or "several picture sizes in one name"
    subject = own.subject or column.subject or group.subject
    if subject == "audio":
        context = replace(context, subject="audio", topics=tuple(map(contexts.audible, context.topics)))
    elif own.subject == "video" or (subject == "video" and not any(t.startswith("audio") for t in context.topics)):
        context = replace(context, subject="video")
    elif any(t.startswith("audio") for t in context.topics):
        context = replace(context, subject="audio")
    return Statement(line, name.replace("\n", " "), head, without_notes(text), context, prose, why)


def _within(own: Context, group: Context) -> Context:
    if group.subject == "audio" and own.topics:
        return replace(own, topics=tuple(map(contexts.audible, own.topics)))
    return own


def _region(own: Context) -> str:
    return " ".join(own.odd)


def _heads(rows: Sequence[Sequence[Cell]]) -> int:
    """Head rows at the top: those whose cells are names, roles, sizes or modes, over cells that are figures and words."""
    if len(rows) < 2:
        return 0
    first = rows[0]
    kinds = [_kind(cell) for cell in first]
    rest = [kind for kind in kinds[1:] if kind != "empty"]
    if kinds[0] == "value" or not rest:
        return 0
    if all(kind in ("head", "condition") for kind in rest) and (
        kinds[0] in ("head", "empty", "topic") or (kinds[0] == "odd" and len(rest) > 1)
    ):
        if kinds[0] == "topic" and "condition" in rest:
            return int(_continues(rows))  # "Resolution, 1080p, 720p" over rows of figures
        return 1
    if kinds[0] in ("topic", "head", "odd") and all(kind in ("topic", "head") for kind in rest):
        return 1
    if kinds[0] in ("empty",) or (kinds[0] == "head" and contexts.read(first[0].text).column == "name"):
        return 1
    if all(kind in ("odd", "head", "topic") for kind in kinds) and not any(_figures(c) for c in first):
        below = [_kind(cell) for row in rows[1:4] for cell in row[1:] if _says(cell)]
        return int(bool(below) and below.count("value") > len(below) / 2)
    return 0


def _continues(rows: Sequence[Sequence[Cell]]) -> bool:
    first = rows[0]
    sizes = [_sizes(cell) for cell in first[1:] if _says(cell)]
    return len(sizes) > 1 and all(len(found) == 1 for found in sizes) and len(rows) > 1


def _figures(cell: Cell) -> bool:
    return any(token.kind in (Kind.NUMBER, Kind.SIZE, Kind.RATIO) for token in scan(cell.text))


def _sizes(cell: Cell) -> list[Size]:
    return [token.value for token in scan(cell.text) if isinstance(token.value, Size)]


def _kind(cell: Cell) -> str:
    """What a cell of a first row looks like: empty, head, topic, condition, value or odd."""
    if not _says(cell):
        return "empty"
    found = contexts.read(cell.text)
    tokens = scan(cell.text)
    if any(token.kind is Kind.URL for token in tokens):
        return "value"
    if found.conditions and not found.topics and not found.odd:
        return "condition"
    if found.topics and not any(t.kind in (Kind.NUMBER, Kind.RATIO) for t in tokens):
        return "topic"
    if found.values and not found.topics and (found.limit or found.strength):
        return "value"
    if found.column or found.limit or found.strength or found.unit or found.role:
        return "head" if not any(t.kind in (Kind.NUMBER, Kind.RATIO) for t in tokens) else "value"
    if found.subject and not found.odd and not found.values:
        return "topic"
    if found.values or any(t.kind in (Kind.NUMBER, Kind.RATIO) for t in tokens):
        return "value"
    return "odd"


def _shared_unit(found: list[Statement]) -> list[Statement]:
    """Bare numbers of a row take the one unit that stands with another number of it."""
    units = {
        token.value for one in found for before, token in itertools.pairwise(scan(one.text))
        if before.kind is Kind.NUMBER and isinstance(token.value, Unit)
    }  # fmt: skip
    if len(units) != 1:
        return found
    unit = next(iter(units))
    return [
        replace(one, context=replace(one.context, unit=unit))
        if one.context.unit is None and all(t.kind is Kind.NUMBER for t in scan(one.text)) else one
        for one in found
    ]  # fmt: skip


class _Table:
    def __init__(self, rows: Sequence[Sequence[Cell]], heads: int, title: Context) -> None:
        self.rows, self.title = rows[heads:], title
        self.head_rows = rows[:heads]
        width = len(rows[0]) if rows else 0
        self.texts = [self._head_text(column) for column in range(width)]
        self.columns = [contexts.read(text) if text else NOTHING for text in self.texts]
        self._modes()

    def _head_text(self, column: int) -> str:
        cells: list[Cell] = []
        for row in self.head_rows:
            if row[column] not in cells:
                cells.append(row[column])
        return " ".join(cell.text.replace("\n", " ") for cell in cells)

    def _modes(self) -> None:
        """ "Low" beside "Low latency" is a mode; so are "Normal" and "Low" under a heading that speaks of latency."""
        if any(c.mode for c in self.columns[1:]):
            for n, text in enumerate(self.texts):
                mode = contexts.bare_mode(text)
                if n and not self.columns[n].mode and mode:
                    self.columns[n] = replace(self.columns[n], mode=mode, strength="", odd=())

    def read(self) -> list[Statement]:
        if self._is_renditions():
            return self._renditions()
        return self._parameters()

    def _is_renditions(self) -> bool:
        """Whether each column is a parameter, so that each row is one rendition, server or protocol."""
        if not self.head_rows:
            return False
        named = [c for c in self.columns[1:] if self._names(c)]
        first = self.columns[0]
        if first.column == "name" and not first.topics:
            return False
        topics = {t for c in self.columns for t in c.topics}
        if len([c for c in self.columns if self._names(c)]) >= 2 and len(topics) >= 2:
            return True
        keyed = first.topics or self._first_is_sizes() or first.column == "label"
        return bool(keyed and (named or self._first_is_sizes() or self._first_is_values()))

    @staticmethod
    def _names(column: Context) -> bool:
        return bool(column.topics or column.subject or column.role or column.unit)

    def _first_is_sizes(self) -> bool:
        firsts = [row[0] for row in self.rows if _says(row[0])]
        return bool(firsts) and all(
            contexts.read(cell.text).sizes and not contexts.read(cell.text).topics for cell in firsts
        )

    def _first_is_values(self) -> bool:
        """Whether the first column holds values of what its head names: "Channels" over mono, stereo."""
        firsts = [contexts.read(row[0].text) for row in self.rows if _says(row[0])]
        if not self.columns[0].topics or not firsts:
            return False
        return (
            all((c.channels or c.protocol or c.sizes or c.rates or c.mode) and not c.topics for c in firsts)
            or "region" in self.columns[0].topics
        )

    # renditions

    def _renditions(self) -> list[Statement]:
        out: list[Statement] = []
        group = self.title
        several = len(self.rows) > 1
        keys = [n for n, c in enumerate(self.columns) if self._is_key(n, c)]
        values = [n for n in range(len(self.columns)) if n not in keys]
        codecs = [n for n in values if any(name == "video.codec" for name, _ in self.columns[n].values)]
        if (
            not several
            and all(self._names(c) and not c.values for c in self.columns)
            and not any(c.role or "server" in c.topics for c in self.columns)
        ):
            keys = [n for n in keys if n == 0 and not self.columns[0].topics]
            values = [n for n in range(len(self.columns)) if n not in keys]
        for row in self.rows:
            if self._is_group(row):
                found = contexts.read(row[0].text)
                group = replace(self.title, subject=found.subject, other=found.other)
                continue
            key = self._measured(row)
            names: list[str] = [key.sizes[0].text] if key.sizes else []
            why = ""
            for n in keys:
                if not _says(row[n]) or n in self._sides():
                    continue
                found = self._key(n, row[n])
                why = why or (found.other and f"{found.other}: not the stream that is pushed")
                if len(found.sizes) > 1:
                    why = why or "several picture sizes in one row"
                key = found.under(key)
                names.append(row[n].text.replace("\n", " "))
            if key.role == "backup" and not any("://" in cell.text for cell in row):
                why = why or "a backup's: not the stream that is pushed"
            name = ", ".join(names)
            for n in values:
                column = self.columns[n]
                if not _says(row[n]) or column.column in ("unit", "name", "label"):
                    continue
                made = _statement(row[n].line, "", self.texts[n], row[n].text, column, group, keys=replace(key, odd=()))
                codec = f"only for {self.texts[n]}" if n in codecs and len(codecs) > 1 else ""
                out.append(replace(made, name=name, why_not=made.why_not or why or codec))
        return out

    def _sides(self) -> list[int]:
        """The columns of width and height, where both are there and a bitrate stands beside them."""
        found = [
            next((n for n, c in enumerate(self.columns) if c.topics == (name,) and not (c.limit or c.strength)), -1)
            for name in ("video.width", "video.height")
        ]
        return found if min(found) >= 0 and any("bitrate" in t for c in self.columns for t in c.topics) else []

    def _measured(self, row: Sequence[Cell]) -> Context:
        """The size that stands in two columns."""
        sides = self._sides()
        numbers = [
            t.value
            for n in sides
            for t in scan(row[n].text)[:1]
            if isinstance(t.value, Number) and t.value.plain is not None
        ]
        if len(numbers) != 2 or len(self.rows) < 2:
            return NOTHING
        width, height = (int(number.plain or 0) for number in numbers)
        return (
            replace(NOTHING, sizes=(Size(width, height),))
            if 16 <= width <= 16384 and 16 <= height <= 16384
            else NOTHING
        )

    def _is_key(self, n: int, column: Context) -> bool:
        if n in self._sides():
            return True
        if n == 0 and (
            self._first_is_sizes() or self._first_is_values() or column.column == "label" or not self._names(column)
        ):
            return True
        if column.column in ("label", "name"):
            return True
        if "server" in column.topics and self._urls_below(n):
            return not any("://" in row[n].text for row in self.rows)
        others = {t for m, c in enumerate(self.columns) if m != n for t in c.topics}
        rungs = (
            any("bitrate" in t for t in others)
            or any("bitrate" in t for t in self.title.topics)
            or any(c.unit is not None and c.unit.measures == "bitrate" for c in self.columns)
        )
        if {"video.size", "video.frame_rate"} & set(column.topics):
            return (rungs or self._bitrates_below(n)) and not column.limit and not column.strength
        if "audio.channels" in column.topics:
            return any("bitrate" in t for t in others) and not any("video" in t for t in others)
        if "stream.protocol" in column.topics:
            return bool(others & {"port", "server"})
        return bool({"region", "latency"} & set(column.topics)) and bool(
            others or self._bitrates_below(n) or self._urls_below(n)
        )

    def _bitrates_below(self, n: int) -> bool:
        tokens = (token for row in self.rows for m, cell in enumerate(row) if m != n for token in scan(cell.text))
        return any(token.kind is Kind.UNIT and getattr(token.value, "measures", "") == "bitrate" for token in tokens)

    def _urls_below(self, n: int) -> bool:
        return any("://" in cell.text for row in self.rows for m, cell in enumerate(row) if m != n)

    def _key(self, n: int, cell: Cell) -> Context:
        """What a key's cell says, with its head in mind."""
        head = self.columns[n]
        found = contexts.read(cell.text)
        if {"region", "server"} & set(head.topics):
            words = " ".join(found.odd) if found.role else cell.text.replace("\n", " ")
            return replace(NOTHING, region=words, role=found.role)
        if "latency" in head.topics and not found.mode:
            return replace(found, mode=contexts.bare_mode(cell.text), strength="", limit="", odd=())
        if "video.frame_rate" in head.topics and not found.rates:
            numbers = [t.value for t in scan(cell.text) if isinstance(t.value, Number)]
            values = [v for number in numbers for v in (number.listed or number.all[:1])]
            if values:
                low = 1.0 if found.limit == "max" else min(values)
                return replace(found, rates=(low, max(values)), odd=(), limit="", unit=None, topics=())
        if "audio.channels" in head.topics and not found.channels:
            numbers = [t.value for t in scan(cell.text) if isinstance(t.value, Number)]
            layouts = {5.1: 6, 7.1: 8, 2.0: 2, 1.0: 1}
            if len(numbers) == 1 and numbers[0].plain is not None and 1 <= numbers[0].plain <= 24:
                return replace(found, channels=layouts.get(numbers[0].plain, int(numbers[0].plain)), odd=())
        if not _OTHER_TITLE.search(found.other.lower()) or found.other.lower() == "mobile":
            found = replace(found, other="")  # a rendition's own name
        return replace(
            found,
            topics=(),
            unit=None,
            limit="",
            strength="" if head.topics or head.column == "label" else found.strength,
            subject="",
            values=found.values,
        )

    # parameters

    def _is_group(self, row: Sequence[Cell]) -> bool:
        """A row with one cell that says something, and no value in it."""
        filled = {id(cell) for cell in row if _says(cell)}
        return len(filled) == 1 and _says(row[0]) and ":" not in row[0].text and _kind(row[0]) != "value"

    def _parameters(self) -> list[Statement]:
        out: list[Statement] = []
        group = self.title
        names = self._name_columns()
        units = [n for n, c in enumerate(self.columns) if c.column == "unit" and n not in names]
        values = [n for n in range(len(self.columns)) if n not in names and n not in units]
        columns, strange, by_quality = self._value_columns(values)
        for row in self.rows:
            if self._is_group(row):
                found = contexts.read(row[0].text)
                group = replace(self.title, subject=found.subject, other=found.other, mode=found.mode or self.title.mode,
                                topics=found.topics if not found.odd and "bitrate" in "".join(found.topics) else self.title.topics)  # fmt: skip
                continue
            if by_quality and self._is_sizes_row(row, values):
                continue
            outer = group
            for n in names[:-1]:
                found = contexts.read(row[n].text)
                outer = replace(
                    outer,
                    subject=found.subject or outer.subject,
                    other=found.other or outer.other,
                    topics=found.topics or outer.topics,
                )
            name = row[names[-1]].text if names else ""
            unit = next((contexts.read(f"({row[n].text})").unit for n in units if _says(row[n])), None)
            seen: dict[int, Statement] = {}
            covered = {id(row[n]) for n in values}
            for n in values:
                cell = row[n]
                if not _says(cell) or any(cell is row[m] for m in names):
                    continue
                if id(cell) in seen:  # it spans columns: it holds for all of them
                    first = seen[id(cell)]
                    seen[id(cell)] = replace(
                        first,
                        head="",
                        context=replace(first.context, mode="", sizes=(), rates=None, limit="", strength=""),
                        why_not="",
                    )
                    made = _statement(cell.line, name, "", cell.text, NOTHING, outer)
                    seen[id(cell)] = made
                    continue
                column = replace(columns[n], unit=columns[n].unit or unit)
                if n in strange and len(covered) > 1:
                    column = replace(column, other="")
                made = _statement(
                    cell.line, name, "" if self._plain_head(n) else self.texts[n], cell.text, column, outer
                )
                if n in strange and not made.why_not:
                    made = replace(made, why_not=f"?{self.texts[n]}")
                seen[id(cell)] = made
            out += self._same_everywhere(_shared_unit([*seen.values()]), len(strange))
        return out

    def _plain_head(self, n: int) -> bool:
        found = self.columns[n]
        return found.says_nothing and found.column != "note"

    @staticmethod
    def _same_everywhere(found: list[Statement], strange: int) -> list[Statement]:
        """Columns that nobody can tell apart say something only where all of them say the same."""
        doubtful = [s for s in found if s.why_not.startswith("?")]
        if len(doubtful) == strange > 1 and len({s.text for s in doubtful}) == 1:
            first = replace(doubtful[0], why_not="", head="")
            return [first, *(s for s in found if not s.why_not.startswith("?"))]
        return [
            replace(s, why_not=f"the columns do not tell which of them is meant: {s.why_not[1:]}") if s.why_not.startswith("?") else s
            for s in found
        ]  # fmt: skip

    def _name_columns(self) -> list[int]:
        """The first column, and a second one where it is a name too."""
        first = self.columns[0]
        if not first.topics and len(self.columns) > 1 and all(c.strength and not c.odd for c in self.columns):
            return []  # "What we accept", "What we reject": no names at all
        if len(self.columns) < 3:
            return [0]
        second = [row[1] for row in self.rows if _says(row[1]) and not self._is_group(row)]
        topical = [
            cell for cell in second if (c := contexts.read(cell.text)).topics and not c.values and not _figures(cell)
        ]
        if second and len(topical) * 2 > len(second):
            return [0, 1]
        return [0]

    def _value_columns(self, values: Sequence[int]) -> tuple[list[Context], set[int], bool]:
        """What each value column is for, those of which nobody can tell, and whether sizes in a row tell it."""
        columns = list(self.columns)
        strange = {
            n
            for n in values
            if self.texts[n] and columns[n].odd and not columns[n].conditions and not columns[n].column
        }
        strange |= {n for n in values if columns[n].values and not columns[n].conditions and not columns[n].protocol}
        plain = {n for n in values if self.texts[n] and columns[n].says_nothing and not columns[n].column}
        if len(plain | strange) > 1:
            strange |= plain
        qualities = {n for n in values if not columns[n].conditions and columns[n].column != "note"}
        row = next((r for r in self.rows if self._is_sizes_row(r, [*values])), None)
        if (
            row is not None
            and len(qualities) > 1
            and all(_QUALITY.fullmatch(self.texts[n].strip()) for n in values)
            and len(qualities) == len(values)
            and not any(c.limit for c in columns[1:])
            and not self._roles(values)
        ):
            rates = next((r for r in self.rows if contexts.read(r[0].text).topics == ("video.frame_rate",)), None)
            for n in values:
                found = contexts.read(row[n].text)
                made = replace(NOTHING, sizes=found.sizes, rates=found.rates)
                if rates is not None:
                    numbers = [t.value for t in scan(rates[n].text) if isinstance(t.value, Number) and t.value.all]
                    if numbers:
                        figures = [number.all[0] for number in numbers]
                        made = replace(made, rates=(min(figures), max(figures)))
                columns[n] = made
            return columns, set(), True
        for n in values:
            if n in strange or columns[n].odd:
                columns[n] = replace(columns[n], odd=(), values=())
        return columns, strange if len(strange) > 1 else set(), False

    def _roles(self, values: Sequence[int]) -> bool:
        return any(self.columns[n].strength in ("should", "must", "not", "accept") for n in values)

    def _is_sizes_row(self, row: Sequence[Cell], values: Sequence[int]) -> bool:
        """ "Resolution", and one size for each column."""
        if contexts.read(row[0].text).topics != ("video.size",) or len(values) < 2:
            return False
        found = [_sizes(row[n]) for n in values]
        return (
            all(len(sizes) == 1 for sizes in found)
            and len({id(row[n]) for n in values}) > 1
            and len({s[0].text for s in found}) > 1
        )
