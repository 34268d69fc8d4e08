"""A table with its heads: one that lists parameters, or one whose rows are renditions, servers or protocols.

What each column is for is decided once; then each row is walked by the table of its layout: (kind of column, kind of
cell) -> what is done. Another layout is a row of ``LAYOUTS``: when it fits, what its columns are for, what is done.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import Enum, auto

from direkt.destination.published.cells.grid import GridCell
from direkt.destination.published.cells.statement import (
    ANSWERS,
    OTHER_THINGS,
    Statement,
    figures,
    kind_of,
    says,
    sizes_in,
    statement,
)
from direkt.destination.published.words import context as contexts
from direkt.destination.published.words.context import NOTHING, CellContext
from direkt.destination.published.words.tokens import NumberToken, Size, scan
from direkt.destination.published.words.vocabulary import UnitWord, WordKind

# Heads of columns that are but names for how good the picture is
_NAMED_SIZE = re.compile(r"(?:sd|hd|fhd|full ?hd|uhd|ultra ?hd|qhd|2k|4k|8k)(?: (?:feed|quality|stream|video))?", re.IGNORECASE)
_QUALITY = re.compile(
    r"(?i)(?:|(?:(?:quality|preset|tier|level|step|option|variant|rendition|stufe|profil|class)\b\s*)?(?:low|medium|mid|high|higher|highest|lowest|best|good|better|"
    r"basic|standard|normal|premium|sd|hd|full hd|fhd|uhd|4k|hd ready|event hd|small|large|big|max|min|top|economy|[a-f]|[1-9]|\d{3,4}p\d*|niedrig|mittel|hoch|bas|moyen|"
    r"haut|bajo|medio|alto|basso)(?:\s*(?:feed|stream|channel|picture|video|quality|definition|resolution|bandwidth|tier|profile|preset|qualität))?(?:\s*\(.*\))?)"
)  # fmt: skip


def _shared_unit(found: list[Statement]) -> list[Statement]:
    """Bare numbers of a row take the one unit that stands with another number of it."""
    units = {
        token.value for one in found for before, token in itertools.pairwise(scan(one.text))
        if before.kind is WordKind.NUMBER and isinstance(token.value, UnitWord)
    }  # fmt: skip
    if len(units) != 1:
        return found
    unit = next(iter(units))
    return [
        replace(one, context=replace(one.context, unit=unit))
        if one.context.unit is None and all(t.kind is WordKind.NUMBER for t in scan(one.text)) else one
        for one in found
    ]  # fmt: skip


_UNCLEAR = "the columns do not say which of them is meant"


class ColumnKind(Enum):
    """What a column is for."""

    GROUP = auto()  # a name around the row's own
    NAME = auto()
    UNIT = auto()
    VALUE = auto()
    UNCLEAR = auto()  # a value for something that nobody can tell from its head
    FLAG = auto()  # yes or no to "Required?"
    SIDE = auto()  # width or height of the row's picture
    KEY = auto()  # what the row is for
    SILENT = auto()


class CellKind(Enum):
    """What a cell is when its turn comes."""

    EMPTY = auto()
    NAMED = auto()  # it is the row's name, which spans this column too
    AGAIN = auto()  # it spans columns, and one of them had its turn
    FILLED = auto()


@dataclass(slots=True)
class Row:
    """A row while it is read."""

    cells: Sequence[GridCell]
    outer: CellContext  # what groups, headings and outer names say
    name: str = ""
    named: list[GridCell] = field(default_factory=list)
    unit: UnitWord | None = None
    sides: dict[str, int] = field(default_factory=dict)
    key: CellContext = NOTHING
    keys: list[str] = field(default_factory=list)  # the words that say what it is for
    why: str = ""  # it says nothing of the stream that is pushed
    aside: bool = False
    advised: bool = False  # it is marked as not required
    made: dict[int, Statement] = field(default_factory=dict)  # by cell

    def kind(self, n: int) -> CellKind:
        """What the cell in column ``n`` is now."""
        cell = self.cells[n]
        if not says(cell):
            return CellKind.EMPTY
        if any(cell is other for other in self.named):
            return CellKind.NAMED
        return CellKind.AGAIN if id(cell) in self.made else CellKind.FILLED


class Table:
    """Rows under heads."""

    def __init__(self, rows: Sequence[Sequence[GridCell]], heads: int, title: CellContext) -> None:
        """``heads`` of the rows are head rows; ``title`` is what the headings above say."""
        self.rows, self.title = [list(row) for row in rows[heads:]], title
        self.head_rows = rows[:heads]
        width = len(rows[0]) if rows else 0
        self.texts = [self._head_text(column) for column in range(width)]
        self.columns = [contexts.read(text) if text else NOTHING for text in self.texts]
        self._modes()
        self._hanging: set[int] = set()  # rows whose first cell is the one above
        self.codecs: list[int] = []  # columns that are for one codec each
        self.plain: list[bool] = []  # of each column: its head says nothing
        self.heads: list[CellContext] = []  # of each column, all that its head says
        self.among: tuple[str, ...] = ()  # heads of columns that nobody can tell apart
        self.by_quality = False  # whether a row of sizes says what the columns are for
        self._fill_down([0])

    def _fill_down(self, columns: Sequence[int]) -> None:
        """A cell left empty under another is that one's: it spanned both. It holds for a column where all in front of it are empty too."""
        above: dict[int, GridCell] = {}
        for number, row in enumerate(self.rows):
            if self._is_group(row) or not any(says(cell) for n, cell in enumerate(row) if n not in columns):
                above.clear()
                continue
            whole = columns[:1] == [0] or number in self._hanging
            for n in columns:
                if whole and not row[n].text.strip() and n in above:
                    row[n] = replace(above[n], line=row[n].line)
                    self._hanging.add(number)
                else:
                    whole = False
                    above[n] = row[n]

    def _head_text(self, column: int) -> str:
        cells: list[GridCell] = []
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
        """Everything that it says."""
        layout = next(one for one in LAYOUTS if one.fits(self))
        kinds = layout.columns(self)
        turns = [n for turn in layout.order for n, kind in enumerate(kinds) if kind in turn]
        out: list[Statement] = []
        around = self.title
        for cells in self.rows:
            if self._is_group(cells):
                around = layout.group(self, contexts.read(cells[0].text))
            elif not (self.by_quality and self._is_sizes_row(cells, [n for n in turns if kinds[n] in _VALUES])):
                row = Row(cells, around)
                for n in turns:
                    take = layout.does.get((kinds[n], row.kind(n)))
                    if take is not None:
                        take(self, row, n)
                out += layout.ends(self, row, kinds.count(ColumnKind.UNCLEAR))
        return out

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
    def _names(column: CellContext) -> bool:
        return bool(column.topics or column.subject or column.role or column.unit)

    def _first_is_sizes(self) -> bool:
        firsts = [row[0] for row in self.rows if says(row[0])]
        return bool(firsts) and all(
            contexts.read(cell.text).sizes and not contexts.read(cell.text).topics for cell in firsts
        )

    def _first_is_values(self) -> bool:
        """Whether the first column holds values of what its head names: "Channels" over mono, stereo."""
        firsts = [contexts.read(row[0].text) for row in self.rows if says(row[0])]
        if not self.columns[0].topics or not firsts:
            return False
        return (
            all((c.channels or c.protocol or c.sizes or c.rates or c.mode) and not c.topics for c in firsts)
            or "region" in self.columns[0].topics
        )

    # renditions

    def _rendition_columns(self) -> list[ColumnKind]:
        keys = [n for n, c in enumerate(self.columns) if self._is_key(n, c)]
        values = [n for n in range(len(self.columns)) if n not in keys]
        self._fill_down([n for n in keys if n])
        self.codecs = [n for n in values if any(name == "video.codec" for name, _ in self.columns[n].values)]
        if (
            len(self.rows) <= 1
            and all(self._names(c) and not c.values for c in self.columns)
            and not any(c.role or "server" in c.topics for c in self.columns)
        ):
            keys = [n for n in keys if n == 0 and not self.columns[0].topics]
        sides = self._sides()
        return [
            ColumnKind.SIDE if n in sides and n in keys
            else ColumnKind.KEY if n in keys
            else ColumnKind.SILENT if column.column in ("unit", "name", "label")
            else ColumnKind.VALUE
            for n, column in enumerate(self.columns)
        ]  # fmt: skip

    def _rendition_group(self, found: CellContext) -> CellContext:
        return replace(self.title, subject=found.subject, other=found.other)

    def _take_side(self, row: Row, n: int) -> None:
        """The size that stands in two columns."""
        first = next(iter(scan(row.cells[n].text)), None)
        if first is None or not isinstance(first.value, NumberToken) or first.value.plain is None or len(self.rows) < 2:
            return
        row.sides[self.columns[n].topics[0]] = int(first.value.plain)
        width, height = row.sides.get("video.width", 0), row.sides.get("video.height", 0)
        if 16 <= width <= 16384 and 16 <= height <= 16384:
            row.key = replace(NOTHING, sizes=(Size(width, height),))
            row.keys = [row.key.sizes[0].text]

    def _take_key(self, row: Row, n: int) -> None:
        found = self._key(n, row.cells[n])
        if found.other and not row.why:
            row.why, row.aside = f"{found.other}: not the stream that is pushed", True
        if len(found.sizes) > 1:
            row.why = row.why or "several picture sizes in one row"
        if "video.frame_rate" in self.columns[n].topics and not found.rates:
            row.why = row.why or f"not a frame rate that is understood: {row.cells[n].text}"
        row.key = found.under(row.key)
        row.keys.append(row.cells[n].text.replace("\n", " "))

    def _take_rendition(self, row: Row, n: int) -> None:
        if row.key.role == "backup" and not any("://" in cell.text for cell in row.cells):
            row.why, row.aside = row.why or "a backup's: not the stream that is pushed", row.aside or not row.why
        cell, column = row.cells[n], self.columns[n]
        made = statement(cell.line, "", self.texts[n], cell.text, column, row.outer, keys=replace(row.key, odd=()))
        # a bitrate for a codec is a step of the ladder; anything else for one codec only is no rule
        coded = n in self.codecs and len(self.codecs) > 1 and not any("bitrate" in t for t in made.context.topics)
        rates = {t.value.measures for t in scan(cell.text) if isinstance(t.value, UnitWord)} | ({column.unit.measures} if column.unit else set())
        codec = f"only for {self.texts[n]}" if coded and rates != {"bitrate"} else ""
        row.made[n] = replace(
            made, name=", ".join(row.keys), why_not=made.why_not or row.why or codec, aside=made.aside or (row.aside and not made.why_not)
        )

    def _rendition_ends(self, row: Row, unclear: int) -> list[Statement]:
        return list(row.made.values())

    def _sides(self) -> list[int]:
        """The columns of width and height, where both are there and a bitrate stands beside them."""
        found = [
            next((n for n, c in enumerate(self.columns) if c.topics == (name,) and not (c.limit or c.strength)), -1)
            for name in ("video.width", "video.height")
        ]
        return found if min(found) >= 0 and any("bitrate" in t for c in self.columns for t in c.topics) else []

    def _is_key(self, n: int, column: CellContext) -> bool:
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
        if "video.codec" in column.topics:
            return (rungs or self._bitrates_below(n)) and self._tells_codecs_apart(n)
        if "audio.channels" in column.topics:
            return any("bitrate" in t for t in others) and not any("video" in t for t in others)
        if "stream.protocol" in column.topics:
            return bool(others & {"port", "server"})
        return bool({"region", "latency"} & set(column.topics)) and bool(
            others or self._bitrates_below(n) or self._urls_below(n)
        )

    def _bitrates_below(self, n: int) -> bool:
        tokens = (token for row in self.rows for m, cell in enumerate(row) if m != n for token in scan(cell.text))
        return any(token.kind is WordKind.UNIT and getattr(token.value, "measures", "") == "bitrate" for token in tokens)

    def _tells_codecs_apart(self, n: int) -> bool:
        """Whether each cell names one codec, and not all of them the same."""
        named = [{v for name, v in contexts.read(row[n].text).values if name == "video.codec"} for row in self.rows if says(row[n])]
        return bool(named) and all(len(codecs) == 1 for codecs in named) and len(set.union(*named)) > 1

    def _urls_below(self, n: int) -> bool:
        return any("://" in cell.text for row in self.rows for m, cell in enumerate(row) if m != n)

    def _key(self, n: int, cell: GridCell) -> CellContext:
        """What a key's cell says, with its head in mind."""
        head = self.columns[n]
        found = contexts.read(cell.text)
        if {"region", "server"} & set(head.topics):
            words = " ".join(found.odd) if found.role else cell.text.replace("\n", " ")
            return replace(NOTHING, region=words, role=found.role)
        if "latency" in head.topics and not found.mode:
            return replace(found, mode=contexts.bare_mode(cell.text), strength="", limit="", odd=())
        if "video.frame_rate" in head.topics and not found.rates:
            numbers = [t.value for t in scan(cell.text) if isinstance(t.value, NumberToken)]
            values = [v for number in numbers for v in (number.listed or number.all[:1])]
            if values and all(1 <= value <= 300 for value in values):
                low = 1.0 if found.limit == "max" else min(values)
                return replace(found, rates=(low, max(values)), odd=(), limit="", unit=None, topics=())
        if "audio.channels" in head.topics and not found.channels:
            numbers = [t.value for t in scan(cell.text) if isinstance(t.value, NumberToken)]
            layouts = {5.1: 6, 7.1: 8, 2.0: 2, 1.0: 1}
            if len(numbers) == 1 and numbers[0].plain is not None and 1 <= numbers[0].plain <= 24:
                return replace(found, channels=layouts.get(numbers[0].plain, int(numbers[0].plain)), odd=())
        if not OTHER_THINGS.search(found.other.lower()) or found.other.lower() == "mobile":
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

    def _is_group(self, row: Sequence[GridCell]) -> bool:
        """A row with one cell that says something, and no value in it."""
        filled = {id(cell) for cell in row if says(cell)}
        return len(filled) == 1 and says(row[0]) and ":" not in row[0].text and kind_of(row[0]) != "value"

    def _parameter_columns(self) -> list[ColumnKind]:
        names = self._name_columns()
        kinds = [
            ColumnKind.NAME if n in names[-1:]
            else ColumnKind.GROUP if n in names
            else ColumnKind.UNIT if column.column == "unit"
            else ColumnKind.FLAG if self._is_flag(n)
            else ColumnKind.VALUE
            for n, column in enumerate(self.columns)
        ]  # fmt: skip
        columns, unclear, self.by_quality = self._value_columns([n for n, kind in enumerate(kinds) if kind is ColumnKind.VALUE])
        self.plain = [self._plain_head(n) for n in range(len(kinds))]
        self.heads = self.columns
        self.columns = columns
        self.among = tuple(self._choice(n) for n in sorted(unclear))
        return [ColumnKind.UNCLEAR if n in unclear else kind for n, kind in enumerate(kinds)]

    def _parameter_group(self, found: CellContext) -> CellContext:
        bitrates = not found.odd and "bitrate" in "".join(found.topics)
        return replace(
            self.title, subject=found.subject, other=found.other, mode=found.mode or self.title.mode,
            topics=found.topics if bitrates else self.title.topics,
        )  # fmt: skip

    def _take_group(self, row: Row, n: int) -> None:
        found = contexts.read(row.cells[n].text)
        row.named.append(row.cells[n])
        row.outer = replace(
            row.outer,
            subject=found.subject or row.outer.subject,
            other=found.other or row.outer.other,
            topics=found.topics or row.outer.topics,
        )

    def _take_name(self, row: Row, n: int) -> None:
        row.named.append(row.cells[n])
        row.name = row.cells[n].text

    def _take_unit(self, row: Row, n: int) -> None:
        row.unit = row.unit or contexts.read(f"({row.cells[n].text})").unit

    def _take_value(self, row: Row, n: int) -> None:
        column = replace(self.columns[n], unit=self.columns[n].unit or row.unit)
        row.made[id(row.cells[n])] = self._under(row, n, column)

    def _take_unclear(self, row: Row, n: int) -> None:
        column = replace(self.columns[n], unit=self.columns[n].unit or row.unit)
        if not all(cell is row.cells[n] or not says(cell) or any(cell is other for other in row.named) for cell in row.cells):
            column = replace(column, other="")
        made = self._under(row, n, column)
        row.made[id(row.cells[n])] = made if made.why_not else replace(made, why_not=_UNCLEAR, choice=self._choice(n))

    def _choice(self, n: int) -> str:
        """What a column's head may be the name of: without how binding it is, which end, and the unit."""
        column = self.heads[n]
        told = column.strength or column.limit or column.unit
        return (" ".join(column.odd) if told else "") or self.texts[n]

    def _under(self, row: Row, n: int, column: CellContext) -> Statement:
        cell = row.cells[n]
        return statement(cell.line, row.name, "" if self.plain[n] else self.texts[n], cell.text, column, row.outer)

    def _take_again(self, row: Row, n: int) -> None:
        """A cell that spans columns holds for all of them."""
        cell = row.cells[n]
        row.made[id(cell)] = statement(cell.line, row.name, "", cell.text, NOTHING, row.outer)

    def _take_flag(self, row: Row, n: int) -> None:
        row.advised = row.advised or ANSWERS.get(row.cells[n].text.strip().lower()) == "not"

    def _parameter_ends(self, row: Row, unclear: int) -> list[Statement]:
        found = list(row.made.values())
        if row.advised:
            found = [one if one.context.strength else replace(one, context=replace(one.context, strength="should")) for one in found]
        return [replace(one, among=self.among) for one in self._same_everywhere(_shared_unit(found), unclear)]

    def _is_flag(self, n: int) -> bool:
        """Whether a column only says yes or no to "Required?"."""
        cells = [row[n].text.strip().lower() for row in self.rows if says(row[n])]
        return self.columns[n].strength == "must" and bool(cells) and all(cell in ANSWERS for cell in cells)

    def _plain_head(self, n: int) -> bool:
        found = self.columns[n]
        return found.says_nothing and found.column != "note"

    @staticmethod
    def _same_everywhere(found: list[Statement], unclear: int) -> list[Statement]:
        """Columns that nobody can tell apart say something only where all of them say the same."""
        doubtful = [s for s in found if s.choice]
        if len(doubtful) == unclear > 1 and len({s.text for s in doubtful}) == 1:
            first = replace(doubtful[0], why_not="", head="", choice="")
            return [first, *(s for s in found if not s.choice)]
        return [replace(s, why_not=f"{_UNCLEAR}: {s.head or s.choice}") if s.choice else s for s in found]

    def _name_columns(self) -> list[int]:
        """The first column, and a second one where it is a name too."""
        first = self.columns[0]
        if not first.topics and len(self.columns) > 1 and all(c.strength and not c.odd for c in self.columns):
            return []  # "What we accept", "What we reject": no names at all
        if len(self.columns) < 3:
            return [0]
        second = [row[1] for row in self.rows if says(row[1]) and not self._is_group(row)]
        topical = [
            cell for cell in second if (c := contexts.read(cell.text)).topics and not c.values and not figures(cell)
        ]
        if second and len(topical) * 2 > len(second):
            return [0, 1]
        return [0]

    def _value_columns(self, values: Sequence[int]) -> tuple[list[CellContext], set[int], bool]:
        """What each value column is for, those of which nobody can tell, and whether sizes in a row tell it."""
        columns = list(self.columns)
        strange = {
            n
            for n in values
            if self.texts[n] and columns[n].odd and not columns[n].conditions and not columns[n].column
        }
        strange |= {n for n in values if columns[n].values and not columns[n].conditions and not columns[n].protocol}
        plain = {n for n in values if self.texts[n] and columns[n].says_nothing and not columns[n].column}
        if strange:  # "Main event" beside "Village": as little as the other says what it is for
            plain |= {n for n in values if columns[n].role and replace(columns[n], role="").says_nothing}
        if len(plain | strange) > 1:
            strange |= plain
        qualities = {
            n for n in values
            if (not columns[n].conditions or _NAMED_SIZE.fullmatch(self.texts[n].strip())) and columns[n].column != "note"
        }  # fmt: skip
        row = next((r for r in self.rows if self._is_sizes_row(r, [*values])), None)
        if (
            row is not None
            and len(qualities) > 1
            and all(_QUALITY.fullmatch(self.texts[n].strip()) or _NAMED_SIZE.fullmatch(self.texts[n].strip()) for n in values)
            and len(qualities) == len(values)
            and not any(c.limit for c in columns[1:])
            and not self._roles(values)
        ):
            rates = next((r for r in self.rows if contexts.read(r[0].text).topics == ("video.frame_rate",)), None)
            for n in values:
                found = contexts.read(row[n].text)
                made = replace(NOTHING, sizes=found.sizes, rates=found.rates)
                if rates is not None:
                    numbers = [t.value for t in scan(rates[n].text) if isinstance(t.value, NumberToken) and t.value.all]
                    figures = [number.all[0] for number in numbers]
                    if figures and all(1 <= figure <= 300 for figure in figures):
                        made = replace(made, rates=(min(figures), max(figures)))
                columns[n] = made
            return columns, set(), True
        for n in values:
            if n in strange or columns[n].odd:
                columns[n] = replace(columns[n], odd=(), values=())
        return columns, strange if len(strange) > 1 else set(), False

    def _roles(self, values: Sequence[int]) -> bool:
        return any(self.columns[n].strength in ("should", "must", "not", "accept") for n in values)

    def _is_sizes_row(self, row: Sequence[GridCell], values: Sequence[int]) -> bool:
        """ "Resolution", and one size for each column."""
        if contexts.read(row[0].text).topics != ("video.size",) or len(values) < 2:
            return False
        found = [sizes_in(row[n]) for n in values]
        return (
            all(len(sizes) == 1 for sizes in found)
            and len({id(row[n]) for n in values}) > 1
            and len({s[0].text for s in found}) > 1
        )


@dataclass(frozen=True, slots=True)
class Layout:
    """One way in which tables are laid out."""

    fits: Callable[[Table], bool]
    columns: Callable[[Table], list[ColumnKind]]
    group: Callable[[Table, CellContext], CellContext]  # what a group row says of those below it
    order: tuple[tuple[ColumnKind, ...], ...]  # in which the columns of a row have their turn
    does: Mapping[tuple[ColumnKind, CellKind], Callable[[Table, Row, int], None]]  # what is not in it does nothing
    ends: Callable[[Table, Row, int], list[Statement]]


_VALUES = (ColumnKind.VALUE, ColumnKind.UNCLEAR)
# the first that fits is taken
LAYOUTS = (
    Layout(
        Table._is_renditions, Table._rendition_columns, Table._rendition_group,
        ((ColumnKind.SIDE,), (ColumnKind.KEY,), (ColumnKind.VALUE,)),
        {
            (ColumnKind.SIDE, CellKind.FILLED): Table._take_side,
            (ColumnKind.KEY, CellKind.FILLED): Table._take_key,
            (ColumnKind.VALUE, CellKind.FILLED): Table._take_rendition,
        },
        Table._rendition_ends,
    ),
    Layout(
        lambda table: True, Table._parameter_columns, Table._parameter_group,
        ((ColumnKind.GROUP,), (ColumnKind.NAME,), (ColumnKind.UNIT,), _VALUES, (ColumnKind.FLAG,)),
        {
            (ColumnKind.GROUP, CellKind.FILLED): Table._take_group,
            (ColumnKind.NAME, CellKind.FILLED): Table._take_name,
            (ColumnKind.NAME, CellKind.NAMED): Table._take_name,
            (ColumnKind.UNIT, CellKind.FILLED): Table._take_unit,
            (ColumnKind.VALUE, CellKind.FILLED): Table._take_value,
            (ColumnKind.VALUE, CellKind.AGAIN): Table._take_again,
            (ColumnKind.UNCLEAR, CellKind.FILLED): Table._take_unclear,
            (ColumnKind.UNCLEAR, CellKind.AGAIN): Table._take_again,
            (ColumnKind.FLAG, CellKind.FILLED): Table._take_flag,
        },
        Table._parameter_ends,
    ),
)  # fmt: skip
