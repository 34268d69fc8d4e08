"""Tables in CSV, Markdown and HTML, cut into rows of a name and a value, with the line each stands on."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from lxml.etree import _Element

_LONGEST = 1000  # characters of a cell; what is longer is prose
_MOST = 3000  # rows


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
    """The rows of a table in CSV, Markdown or HTML (``csv``, ``md``, ``html``). Raises UnusableInput."""
    found = _rows(text, kind)
    if len(found) > _MOST:
        raise UnusableInput(f"{len(found)} settings; at most {_MOST} are read: cut it down to the table of settings")
    return [row if len(row.value) <= _LONGEST else replace(row, value=row.value[:_LONGEST] + " …") for row in found]


def _rows(text: str, kind: str) -> list[Row]:
    if kind == "csv":
        dialect = ";" if text.count(";") > text.count(",") and ";" in text.split("\n", 1)[0] else ","
        if "\t" in text.split("\n", 1)[0]:
            dialect = "\t"
        reader = csv.reader(io.StringIO(text), delimiter=dialect)
        try:
            return _table([(reader.line_num, [cell.strip() for cell in row]) for row in reader if any(row)])
        except csv.Error as error:
            raise UnusableInput(f"line {reader.line_num}: {error}") from None
    if kind == "html":
        return _table(_html(text))
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


_ROWS = {"tr", "dt", "li"}
_CELLS = {"td", "th"}
_BREAKS = {"br", "li", "p", "div", "dd", "option"}  # each begins a line of its own
_UNREAD = {"script", "style", "template", "sup"}  # the last: a footnote's mark, which must not stick to a number


def _html(text: str) -> list[tuple[int, list[str]]]:
    """Table rows, pairs of definition lists, and list items."""
    from lxml import etree

    parser = etree.HTMLParser(encoding="utf-8", remove_comments=True, remove_pis=True, no_network=True)
    try:
        root = etree.fromstring(text.encode("utf-8", "replace"), parser)
    except etree.LxmlError:  # nothing in it
        return []
    out: list[tuple[int, list[str]]] = []
    for element in root.iter(*_ROWS) if root is not None else ():
        if element.tag == "tr":
            cells = [child for child in element if child.tag in _CELLS]
        elif next(element.iterancestors(*_CELLS), None) is not None:
            continue  # a list in a cell is the cell's
        elif element.tag == "dt":
            cells = [element, *_definitions(element)]
        else:
            cells = [element]
        if not any(next(cell.iter("table"), None) is not None for cell in cells):  # else it is there for the looks
            out.append((_line(element), [_words(cell) for cell in cells]))
    return [(line, row) for line, row in out if any(row)]


def _line(element: _Element) -> int:
    line = element.sourceline
    return line if isinstance(line, int) else 0


def _definitions(term: _Element) -> Iterator[_Element]:
    for following in term.itersiblings():
        if following.tag == "dd":
            yield following
        elif following.tag == "dt":
            return


def _words(cell: _Element) -> str:
    """The text of a cell; lines and list items are set off by commas."""
    parts: list[str] = []
    stack: list[_Element | str] = [cell]
    while stack:
        node = stack.pop()
        if isinstance(node, str):
            parts.append(node)
            continue
        if node.tag in _BREAKS and node is not cell:
            parts.append(", ")
        inside: list[_Element | str] = [node.text] if node.text else []
        for child in node:
            if child.tag not in _UNREAD and not (cell.tag == "li" and child.tag in ("ul", "ol")):
                inside.append(child)
            if child.tail:
                inside.append(child.tail)
        stack.extend(reversed(inside))
    return re.sub(r"(?:\s*,)+", ",", " ".join("".join(parts).split())).strip(", ")
