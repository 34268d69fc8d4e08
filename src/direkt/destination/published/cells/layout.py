"""Tables into single statements: each cell that says something, with the heads, row names and groups it stands under.

Head rows are those that the markup calls so, else a first row that differs in kind from what is below. A table lists
parameters (a name in front, values beside it) or renditions (each column a parameter, each row a size or a quality);
what a column is for, its head says: recommended, required, minimum, maximum, a unit, a remark, what not to use, a size,
a latency mode.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from direkt.destination.published.cells.grid import Grid, GridCell
from direkt.destination.published.cells.statement import (
    OTHER_THINGS,
    Statement,
    figures,
    kind_of,
    says,
    sizes_in,
    statement,
)
from direkt.destination.published.cells.tables import Table
from direkt.destination.published.words import context as contexts
from direkt.destination.published.words.context import NOTHING, CellContext
from direkt.destination.published.words.vocabulary import UNITS, singular

__all__ = ["Statement", "statements"]


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
    other = found.other if OTHER_THINGS.search(found.other.lower()) else ""
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
    rows = [row for row in grid.rows if any(says(cell) for cell in row)]
    width = max(map(len, rows), default=0)
    rows = [[*row, *[GridCell(row[0].line, "")] * (width - len(row))] for row in rows]
    if not rows:
        return []
    rows = _turned(rows)
    heads = max(sum(any(map(says, row)) for row in grid.rows[: grid.heads]), _heads(rows))
    if heads:
        heads, rows = _second_head(rows, heads)
        rows = _status(_split(rows, heads), heads)
        width = max(map(len, rows))
    if width == 1:
        return _pairs(Grid(grid.title, [[GridCell(row[0].line, ""), row[0]] for row in rows], pairs=True), title)
    return Table(rows, heads, title).read()


def _turned(rows: list[list[GridCell]]) -> list[list[GridCell]]:
    """A table whose rows are minimum, recommended and maximum, turned so that its columns are."""
    firsts = [contexts.read(row[0].text) for row in rows[1:]]
    roles = [c for c in firsts if (c.limit or c.strength) and not (c.topics or c.sizes or c.odd or c.values or c.rates)]
    named = [c for c in (contexts.read(cell.text) for cell in rows[0][1:]) if c.topics and not c.odd]
    if len(roles) > 1 and len(roles) == len(firsts) and len(named) == len(rows[0]) - 1:
        return [list(column) for column in zip(*rows, strict=True)]
    return rows


_TWO = re.compile(r"^(.*?)[\s(\[]*\b([a-zäöüé.]+(?: [a-zäöüé.]+)?)\s*/\s*([a-zäöüé.]+(?: [a-zäöüé.]+)?)\s*[)\]]*$", re.IGNORECASE)
_PAIR = re.compile(r"^\s*([\d.,]+)\s*([a-z/]*)\s*/\s*([\d.,]+)\s*([a-z/]*)\s*$", re.IGNORECASE)


def _role(words: str) -> bool:
    """Whether words say how binding a figure is, or which end, and nothing else."""
    found = contexts.read(words)
    return bool(found.strength or found.limit) and not (found.topics or found.odd or found.values or found.sizes or found.rates or found.subject)


def _split(rows: list[list[GridCell]], heads: int) -> list[list[GridCell]]:
    """A column headed "recommended / maximum" over "6 / 9 Mbps" is two."""
    for n in range(len(rows[0]) - 1, 0, -1):
        two = _TWO.match(rows[heads - 1][n].text.strip())
        cells = [row[n] for row in rows[heads:] if says(row[n])]
        pairs = [_PAIR.match(cell.text) for cell in cells]
        if two is None or not (_role(two[2]) and _role(two[3])) or not cells or not all(pairs):
            continue
        out = []
        for number, row in enumerate(rows):
            first = second = row[n]
            if number == heads - 1:
                first, second = (replace(row[n], text=f"{two[1].strip()} ({role})") for role in (two[2], two[3]))
            elif number >= heads and (pair := _PAIR.match(row[n].text)):
                first = replace(row[n], text=f"{pair[1]} {pair[2] or pair[4]}".strip())
                second = replace(row[n], text=f"{pair[3]} {pair[4] or pair[2]}".strip())
            out.append([*row[:n], first, second, *row[n + 1 :]])
        rows = out
    return rows


def _status(rows: list[list[GridCell]], heads: int) -> list[list[GridCell]]:
    """A column that says of each row whether it is mandatory, recommended or not supported speaks of the row's values, or else of its name."""
    for n in range(1, len(rows[0])):
        cells = [row[n].text for row in rows[heads:] if says(row[n])]
        if contexts.read(rows[heads - 1][n].text).topics or len(cells) < 2 or not all(map(_role, cells)) or any(contexts.read(cell).limit for cell in cells):
            continue
        out = [[*row[:n], *row[n + 1 :]] for row in rows[:heads]]
        for row in rows[heads:]:
            rest = [*row[:n], *row[n + 1 :]]
            if says(row[n]):
                values = [m for m in range(1, len(rest)) if says(rest[m]) and not rest[m].text.strip().endswith(")")]
                if values:
                    rest = [replace(cell, text=f"{cell.text} ({row[n].text.strip()})") if m in values else cell for m, cell in enumerate(rest)]
                elif len(rest) > 1:
                    rest[1] = replace(row[n], text=f"{rest[0].text} ({row[n].text.strip()})")
                    rest[0] = replace(rest[0], text="")
            out.append(rest)
        return out
    return rows


def _second_head(rows: list[list[GridCell]], heads: int) -> tuple[int, list[list[GridCell]]]:
    """Takes a second head row along: "min, max" under "Bitrate"; a head that was left empty is its neighbour's."""
    if heads != 1 or len(rows) < 3:
        return heads, rows
    first, second = rows[0], rows[1]
    units = [tuple(map(singular, cell.text.lower().split())) in UNITS for cell in second if says(cell)]
    if len(units) > 1 and all(units):
        return 2, [
            rows[0],
            [replace(cell, text=f"({cell.text})") if says(cell) else cell for cell in second],
            *rows[2:],
        ]
    hangs = second[0] is first[0] or not says(second[0])
    kinds = [kind_of(cell) for cell in second[1:] if says(cell) and not any(cell is c for c in first)]
    if not hangs or len(kinds) < 2 or not all(kind in ("head", "condition") for kind in kinds):
        return heads, rows
    filled = list(first)
    for n in range(2, len(filled)):
        if not says(filled[n]) and says(second[n]):
            filled[n] = filled[n - 1]
    return 2, [filled, *rows[1:]]


def _title_topics(title: str) -> tuple[str, ...]:
    """A heading is about something only where it is no more than that: "Video bitrate in kbit/s"."""
    found = contexts.read(title)
    return found.topics if found.topics and not found.odd and "bitrate" in found.topics[-1] else ()


def _pairs(grid: Grid, title: CellContext) -> list[Statement]:
    out: list[Statement] = []
    group = title
    for row in grid.rows:
        if len(row) < 2:
            found = contexts.read(row[0].text)
            group = replace(title, subject=found.subject or title.subject, other=found.other or title.other)
            continue
        name, value = row[0], row[1]
        if says(value):
            out.append(statement(value.line, name.text, "", value.text, NOTHING, group, prose=grid.prose))
    return out


def _heads(rows: Sequence[Sequence[GridCell]]) -> int:
    """Head rows at the top: those whose cells are names, roles, sizes or modes, over cells that are figures and words."""
    if len(rows) < 2:
        return 0
    first = rows[0]
    kinds = [kind_of(cell) for cell in first]
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
    if all(kind in ("odd", "head", "topic") for kind in kinds) and not any(figures(c) for c in first):
        below = [kind_of(cell) for row in rows[1:4] for cell in row[1:] if says(cell)]
        return int(bool(below) and below.count("value") > len(below) / 2)
    return 0


def _continues(rows: Sequence[Sequence[GridCell]]) -> bool:
    first = rows[0]
    sizes = [sizes_in(cell) for cell in first[1:] if says(cell)]
    return len(sizes) > 1 and all(len(found) == 1 for found in sizes) and len(rows) > 1
