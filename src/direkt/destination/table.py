"""Tables in CSV, Markdown and HTML, cut into rows of a name and a value, with the line each stands on."""

from __future__ import annotations

import csv
import html.parser
import io
import re
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Row:
    """One row of the table."""

    line: int  # from 1
    name: str
    value: str
    qualifier: str = ""  # the head of the value's column, such as "Recommended"

    @property
    def words(self) -> str:
        """As it stood there."""
        head = f"{self.name} [{self.qualifier}]" if self.qualifier else self.name
        return f"{head}: {self.value}"


def rows(text: str, kind: str) -> list[Row]:
    """The rows of a table in CSV, Markdown or HTML (``csv``, ``md``, ``html``)."""
    if kind == "csv":
        dialect = ";" if text.count(";") > text.count(",") and ";" in text.split("\n", 1)[0] else ","
        if "\t" in text.split("\n", 1)[0]:
            dialect = "\t"
        reader = csv.reader(io.StringIO(text), delimiter=dialect)
        return _table([(reader.line_num, [cell.strip() for cell in row]) for row in reader if any(row)])
    if kind == "html":
        parser = _Cells()
        parser.feed(text)
        parser.close()
        return _table(parser.rows)
    return _markdown(text)


def _markdown(text: str) -> list[Row]:
    table: list[tuple[int, list[str]]] = []
    out: list[Row] = []
    for number, raw in enumerate(text.splitlines(), 1):
        line = re.sub(r"[*_`]{1,3}", "", raw).strip()
        if line.startswith("|"):
            cells = [cell.strip() for cell in line.strip("|").split("|")]
            if not all(re.fullmatch(r":?-+:?", cell) for cell in cells):
                table.append((number, cells))
            continue
        out += _table(table)
        table = []
        match = re.match(r"(?:[-+•]|\d+[.)])?\s*([^:|]{2,60}):\s+(\S.*)", line)
        if match and not line.startswith("#"):
            out.append(Row(number, match[1].strip(), match[2].strip()))
    return out + _table(table)


_HEADS = re.compile(r"setting|parameter|property|name|what|item|value|recommend|suggest|required?|requirement|max|min|limit|best|"
                    r"allowed|supported|accepted|specification|note", re.IGNORECASE)  # fmt: skip


def _table(cells: list[tuple[int, list[str]]]) -> list[Row]:
    """Rows of names and values; a head row gives the value columns their qualifier."""
    if not cells:
        return []
    heads: list[str] = []
    first = cells[0][1]
    if (
        len(first) > 1
        and all(_HEADS.search(cell) or not cell for cell in first)
        and not any(re.search(r"\d", c) for c in first)
    ):
        heads, cells = first, cells[1:]
    out = []
    for line, row in cells:
        filled = [(n, cell) for n, cell in enumerate(row) if n and cell and cell not in ("-", "–", "—", "n/a")]
        for n, cell in filled:
            head = heads[n] if n < len(heads) else ""
            plain = re.fullmatch(r"(?i)values?|settings?|specifications?|requirements?|", head)
            out.append(Row(line, row[0], cell, "" if plain else head))
        if len(row) == 1 and ":" in row[0]:
            name, _, value = row[0].partition(":")
            out.append(Row(line, name.strip(), value.strip()))
    return [row for row in out if row.name]


class _Cells(html.parser.HTMLParser):
    """Table rows, definition lists and list items."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.rows: list[tuple[int, list[str]]] = []
        self._row: list[str] | None = None
        self._cell: list[str] | None = None
        self._skip = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in ("script", "style"):
            self._skip += 1
        elif tag in ("tr", "dt", "li"):
            self._end()
            self._row = []
            if tag != "tr":
                self._cell = []
        elif tag in ("td", "th", "dd"):
            self._close_cell()
            self._row = [] if self._row is None else self._row
            self._cell = []
        elif tag == "br" and self._cell is not None:
            self._cell.append(", ")

    def handle_endtag(self, tag: str) -> None:
        if tag in ("script", "style"):
            self._skip = max(0, self._skip - 1)
        elif tag in ("td", "th", "dt"):
            self._close_cell()
        elif tag in ("tr", "dd", "li", "table", "ul", "dl"):
            self._end()

    def handle_data(self, data: str) -> None:
        if self._cell is not None and not self._skip:
            self._cell.append(data)

    def _close_cell(self) -> None:
        if self._cell is not None and self._row is not None:
            self._row.append(" ".join("".join(self._cell).split()))
        self._cell = None

    def _end(self) -> None:
        self._close_cell()
        if self._row:
            self.rows.append((self.getpos()[0], self._row))
        self._row = None

    def close(self) -> None:
        super().close()
        self._end()
