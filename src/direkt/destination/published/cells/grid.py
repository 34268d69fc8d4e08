"""Texts cut into tables: CSV, Markdown, HTML, and plain text whose columns are set off by spaces.

A cell that spans rows or columns stands in every place that it covers. Line breaks, lists and paragraphs within a cell
end a line there. Lists, definition lists and lines of "name: value" become tables of two columns. The last headings
above a table go with it. Cost: one pass over the text; at most 3,000 rows and 80,000 characters are taken.
"""

from __future__ import annotations

import csv
import html
import io
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from lxml.etree import _Element

_LONGEST = 1000  # characters of a cell; what is longer is prose
_MOST = 3000  # rows
_UNSEEN = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u00ad\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff]")
_MOST_CELLS = 40_000
_MOST_PROSE = 500  # lines in no table or list
_LONGEST_LINE = 4000  # characters of a line of text
_MOST_TEXT = 80_000  # characters of all cells


@dataclass(frozen=True, slots=True)
class GridCell:
    """One cell; one that spans several places is the same object in all of them."""

    line: int  # from 1
    text: str
    head: bool = False


@dataclass(slots=True)
class Grid:
    """One table, or the lines of a list."""

    title: str = ""
    rows: list[list[GridCell]] = field(default_factory=list)
    heads: int = 0  # rows that the markup itself calls heads
    pairs: bool = False  # names and values from a list, not a table
    prose: bool = False  # sentences that stand in no table


def read(text: str, kind: str) -> list[Grid]:
    """The tables of a text in CSV, Markdown or HTML, or in plain text (``csv``, ``md``, ``html``, ``txt``). Raises UnusableInput."""
    text = _UNSEEN.sub(" ", text.replace("\r\n", "\n").replace("\r", "\n"))
    found = _csv(text) if kind == "csv" else _html(text) if kind == "html" else _text(text)
    grids = [grid for grid in found if any(cell.text for row in grid.rows for cell in row)]
    _check(grids)
    return grids


def _check(grids: Sequence[Grid]) -> None:
    """Raises UnusableInput for more than anybody publishes as settings."""
    rows = sum(len(grid.rows) for grid in grids if not grid.prose)
    if rows > _MOST:
        raise UnusableInput(f"more than {_MOST} settings: cut it down to the table of settings")
    size = sum(len(cell.text) for grid in grids for row in grid.rows for cell in row)
    if size > _MOST_TEXT or sum(len(row) for grid in grids for row in grid.rows) > _MOST_CELLS:
        raise UnusableInput(f"more than {_MOST_TEXT} characters of settings: cut it down to the table of settings")


def _cell(line: int, text: str, *, head: bool = False) -> GridCell:
    lines = (" ".join(part.split()) for part in text.split("\n"))
    clean = "\n".join(part for part in lines if part)
    return GridCell(line, clean if len(clean) <= _LONGEST else clean[:_LONGEST] + " …", head)


# CSV


def _csv(text: str) -> list[Grid]:
    delimiter = _delimiter(text)
    reader = csv.reader(io.StringIO(text), delimiter=delimiter)
    grid = Grid()
    try:
        for row in reader:
            if any(cell.strip() for cell in row):
                grid.rows.append([_cell(reader.line_num, cell) for cell in row])
            elif grid.rows:
                return [grid, *_shifted(text, reader.line_num)]
            if len(grid.rows) > _MOST:
                break
    except csv.Error as error:
        raise UnusableInput(f"line {reader.line_num}: {error}") from None
    return [grid]


def _shifted(text: str, line: int) -> list[Grid]:
    """The tables behind an empty line."""
    rest = text.split("\n", line)[-1] if text.count("\n") >= line else ""
    return [
        Grid(g.title, [[GridCell(c.line + line, c.text, c.head) for c in row] for row in g.rows]) for g in _csv_parts(rest)
    ]


def _csv_parts(text: str) -> list[Grid]:
    grids: list[Grid] = [Grid()]
    reader = csv.reader(io.StringIO(text), delimiter=_delimiter(text))
    try:
        for row in reader:
            if any(cell.strip() for cell in row):
                grids[-1].rows.append([_cell(reader.line_num, cell) for cell in row])
            elif grids[-1].rows:
                grids.append(Grid())
    except csv.Error as error:
        raise UnusableInput(f"line {reader.line_num}: {error}") from None
    return grids


def _delimiter(text: str) -> str:
    """The sign that cuts most of the first lines into the same number of cells."""
    lines = [line for line in text.split("\n", 60)[:60] if line.strip()]
    best, most = ",", 0.0
    for sign in (";", "\t", "|", ","):
        try:
            cut = [row for row in csv.reader(lines, delimiter=sign) if row]
        except csv.Error:
            continue
        counts = [len(row) for row in cut]
        usual = max(set(counts), key=counts.count) if counts else 1
        score = counts.count(usual) / len(counts) if usual > 1 else 0.0
        if any('"' in cell for row in cut for cell in row):
            score /= 4  # it cuts through what quotation marks hold together
        if score > most + 0.1 or (score > 0 and most == 0):
            best, most = sign, score
    return best


# Text


_RULE = re.compile(
    r"\s*\|\s*:?-+:?\s*(\|\s*:?-+:?\s*)*\|?\s*|\s*:?-+:?\s*(\|\s*:?-+:?\s*)+\|?\s*|\s*[+|]?[-=+]{4,}[+|]?\s*"
)
_BULLET = re.compile(
    r"\s*(?:[-+*•–·▪◦✓✔►]|\(?\d{1,2}[.)]|\(?[a-z]\)|\d{1,2}(?:\.\d{1,2}){1,3}\.?(?=\s+[^\W\d_]{3}))\s+"
)
_PAIR = re.compile(r"([^\n:=|]{1,80}?)\s*(?::|=|：|\s[–—-]|\s->|\s→)\s+(\S.*)|([^\n:=|]{1,80}?)\s*[:=]\s*((?!//)\S.*)")
_SENTENCE = re.compile(r"(?:[^\W\d_]++[.,!?']*+ ?+|\d++,?+ (?=[a-z]))*+")
_GAP = re.compile(r"\S(?:  |\t)|\.{3}|_{4}|…")
_EMPHASIS = re.compile(
    r"(\*\*|__|``?)(?=\S)(.+?)(?<=\S)\1|(?<![\w*])\*(?=[^\s*])([^*\n]+?)(?<=[^\s*])\*(?![\w*])|(?<![\w_])_(?=[^\s_])([^_\n]+?)(?<=[^\s_])_(?![\w_])"
)
_LINK = re.compile(r"!?\[([^\[\]\n]{0,200})\]\(([^()\s]{0,500})(?:\s[^()\n]{0,100})?\)")


def _text(text: str) -> list[Grid]:
    """Markdown, and plain text: tables with bars, columns of spaces, lists and lines of names and values."""
    grids: list[Grid] = []
    title = ""
    lines = [line[:_LONGEST_LINE] for line in text.split("\n")]
    n = prose = 0
    while n < len(lines):
        if len(grids) > _MOST or (grids and len(grids[-1].rows) > _MOST):
            _check(grids)
        if prose > _MOST_PROSE and _SENTENCE.fullmatch(lines[n]):
            n += 1
            continue
        line = _inline(lines[n])
        if not line.strip():
            n += 1
        elif heading := re.match(r"\s{0,3}(#{1,6})\s+(.*?)#*\s*$", line):
            title, n = heading[2].strip(), n + 1
        elif (
            line.strip().startswith("|")
            or (" | " in line and not _RULE.fullmatch(line))
            or re.match(r"[^|]+\|[^|]+\|", line)
        ):
            n = _bars(lines, n, title, grids)
        elif (upto := _columns(lines, n, title, grids)) > n:
            n = upto
        else:
            n = _line(lines, n, title, grids)
            if grids[-1].prose and (prose := prose + 1) > _MOST_PROSE:
                grids.pop()
    return grids


def _inline(line: str) -> str:
    """A line without emphasis, links and entities."""
    if "&" in line:
        line = html.unescape(line)
    if "](" in line:
        line = _LINK.sub(lambda m: m[2] if "://" in m[2] and "http" not in m[2] else m[1], line)
    if any(c in line for c in "*_`"):
        line = _EMPHASIS.sub(lambda m: m[2] or m[3] or m[4] or "", line)
    return re.sub(r"<br\s*/?>", "\n", line) if "<br" in line else line


def _bars(lines: list[str], n: int, title: str, grids: list[Grid]) -> int:
    grid = Grid(title)
    while n < len(lines) and "|" in (line := _inline(lines[n])):
        if _RULE.fullmatch(line):
            grid.heads = grid.heads or len(grid.rows)
        else:
            inner = line.strip()
            inner = inner[1:] if inner.startswith("|") else inner
            inner = inner[:-1] if inner.endswith("|") and not inner.endswith("\\|") else inner
            grid.rows.append([_cell(n + 1, part.replace("\\|", "|")) for part in re.split(r"(?<!\\)\|", inner)])
        n += 1
        if n < len(lines) and _RULE.fullmatch(lines[n]) and "|" not in lines[n]:
            grid.heads = grid.heads or len(grid.rows)
            n += 1
    grids.append(grid)
    return n


def _columns(lines: list[str], n: int, title: str, grids: list[Grid]) -> int:
    """Lines whose cells are set off by two spaces or a tab; each cell goes to the column it stands under."""
    found: list[tuple[int, list[tuple[int, str]]]] = []
    at = n
    if not _GAP.search(lines[n]):
        return n
    while at < len(lines):
        if _RULE.fullmatch(lines[at]) and found:
            at += 1
            continue
        parts = _parts(lines[at])
        if len(parts) < 2 or len(found) > _MOST:
            break
        found.append((at + 1, parts))
        at += 1
    if len(found) < 2:
        return n
    starts = max((parts for _, parts in found), key=len)
    places = [start for start, _ in starts]
    grid = Grid(title)
    for number, parts in found:
        row = [_cell(number, "")] * len(places)
        for index, (start, text) in enumerate(parts):
            column = (
                min(range(len(places)), key=lambda c: abs(places[c] - start)) if len(parts) < len(places) else index
            )
            row[column] = _cell(number, f"{row[column].text} {text}" if row[column].text else text)
        grid.rows.append(row)
    grids.append(grid)
    return at


def _parts(line: str) -> list[tuple[int, str]]:
    line = re.sub(
        r"\.{3,}|…{2,}|_{4,}",
        lambda m: " " * max(2, len(m[0])),
        _inline(line).expandtabs(16) if "\t" in line else _inline(line),
    )
    lead = _BULLET.match(line)
    if lead and len(line[lead.end() :].strip()) > 0:
        line = " " * lead.end() + line[lead.end() :]
    return [(m.start(), m[0]) for m in re.finditer(r"\S+(?: \S+)*", line)]


def _line(lines: list[str], n: int, title: str, grids: list[Grid]) -> int:
    """A line of a list, a pair of name and value, or prose."""
    line = _inline(lines[n])
    bullet = _BULLET.match(line)
    body = line[bullet.end() :] if bullet else line.strip()
    name, value = pair(body)
    listed = name != "" or bullet is not None
    last = grids[-1] if grids else None
    if listed and value:
        if last is None or not last.pairs or last.prose or last.title != title or len(last.rows[0]) < 2:
            last = Grid(title, pairs=True)
            grids.append(last)
        last.rows.append([_cell(n + 1, name), _cell(n + 1, value)])
    elif name and not value:
        grids.append(Grid(title, [[_cell(n + 1, name)]], pairs=True))
    else:
        grids.append(Grid(title, [[_cell(n + 1, ""), _cell(n + 1, body)]], pairs=True, prose=bullet is None))
    return n + 1


def pair(text: str) -> tuple[str, str]:
    """Name and value of a line such as "Codec: H.264"; no name where it is none."""
    text = text.strip()
    if not any(sign in text for sign in (":", "=", "：", " – ", " — ", " - ", "->", "→")):
        return "", text
    match = _PAIR.fullmatch(text)
    if match is None:
        return ("" if not re.fullmatch(r"[^:=|]{1,60}:", text) else text[:-1].strip()), (
            "" if text.endswith(":") else text
        )
    name, value = (match[1], match[2]) if match[1] is not None else (match[3], match[4])
    if re.fullmatch(r"\d{1,2}", name.split()[-1] if name.split() else "") and re.match(r"\d", value):
        return "", text  # a time or a ratio
    if re.search(r"(?i)\b(?:rtmps?|srt|https?)$", name) and value.startswith("//"):
        return "", text
    return name.strip(), value.strip()


# HTML


_CELLS = ("td", "th")
_BREAKS = {"br", "li", "p", "div", "dd", "dt", "option", "tr", "hr", "ul", "ol"}  # each begins a line of its own
_UNREAD = {"script", "style", "template", "sup", "del", "s", "strike", "noscript"}  # sup: a footnote's mark
_HEADINGS = ("h1", "h2", "h3", "h4", "h5", "h6", "caption", "legend")
_SIGNS = re.compile(r"[:=–—]| - ")
_BLOCKS = (*_HEADINGS, "table", "tr", "dl", "li", "p")


def _html(text: str) -> list[Grid]:
    """Tables, definition lists, list items, and paragraphs of names and values, in their order."""
    from lxml import etree

    parser = etree.HTMLParser(encoding="utf-8", remove_comments=True, remove_pis=True, no_network=True)
    try:
        root = etree.fromstring(text.encode("utf-8", "replace"), parser)
    except etree.LxmlError:  # nothing in it
        return []
    grids: list[Grid] = []
    title = ""
    taken = prose = 0
    for element in root.iter(*_BLOCKS) if root is not None else ():
        tag = element.tag
        if prose > _MOST_PROSE and tag == "p" and not len(element) and not _SIGNS.search(element.text or ""):
            continue
        if tag in _HEADINGS:
            title = _words(element).replace("\n", " ") if tag != "caption" else title
        elif tag == "table":
            grid = _table(element, title)
            if grid.rows:
                grids.append(grid)
                taken += sum(map(len, grid.rows))
        elif tag == "tr":
            if next(element.iterancestors("table"), None) is None:  # rows of a table that was cut off
                taken += _stray(element, title, grids)
        elif next(element.iterancestors(*_CELLS, "dl"), None) is not None:
            continue  # what stands in a cell is the cell's
        elif tag == "dl":
            rows = [
                [_cell(_at(term), _words(term)), _cell(_at(term), "\n".join(map(_words, _definitions(term))))]
                for term in element.iter("dt")
            ]
            grids.append(Grid(title, rows, pairs=True))
        elif tag == "p" and next(element.iterancestors("li"), None) is not None:
            continue
        else:
            _loose(element, title, grids)
            if grids and grids[-1].prose and (prose := prose + 1) > _MOST_PROSE:
                grids.pop()
        if taken > _MOST_CELLS or (grids and len(grids[-1].rows) > _MOST):
            _check(grids)
        if len(grids) > _MOST:
            _check(grids)
            break
    return grids


def _loose(element: _Element, title: str, grids: list[Grid]) -> None:
    """An item of a list, or a paragraph: each of its lines may be a name and a value."""
    for line in _words(element).split("\n"):
        name, value = pair(line)
        if not name and not value:
            continue
        last = grids[-1] if grids else None
        if name and value:
            if last is None or not last.pairs or last.prose or last.title != title:
                last = Grid(title, pairs=True)
                grids.append(last)
            last.rows.append([_cell(_at(element), name), _cell(_at(element), value)])
        elif value:
            grids.append(
                Grid(
                    title, [[_cell(_at(element), ""), _cell(_at(element), value)]], pairs=True, prose=element.tag == "p"
                )
            )


def _stray(tr: _Element, title: str, grids: list[Grid]) -> int:
    row = [_cell(_at(child), _words(child), head=child.tag == "th") for child in tr if child.tag in _CELLS]
    if row and (not grids or grids[-1].pairs or grids[-1].title != title):
        grids.append(Grid(title))
    if row:
        grids[-1].rows.append(row)
    return len(row)


def _table(table: _Element, title: str) -> Grid:
    grid = Grid(title)
    caption = table.find("caption")
    if caption is not None:
        grid.title = f"{title} / {_words(caption)}".strip(" /").replace("\n", " ")
    hanging: dict[int, tuple[int, GridCell]] = {}  # column: rows that a cell above still covers
    for tr in table.iter("tr"):
        if next(tr.iterancestors("table"), None) is not table:
            continue
        cells = [child for child in tr if child.tag in _CELLS]
        if any(next(cell.iter("table"), None) is not None for cell in cells):
            continue  # there for the looks
        row, hanging = _row(tr, cells, hanging)
        if not row:
            continue
        heads = all(cell.head for cell in row) and len(row) > 1
        parent = tr.getparent()
        if heads or (parent is not None and parent.tag == "thead"):
            if grid.heads == len(grid.rows):
                grid.heads += 1
        grid.rows.append(row)
        if len(grid.rows) > _MOST:
            break
    return grid


def _row(
    tr: _Element, cells: Iterable[_Element], hanging: dict[int, tuple[int, GridCell]]
) -> tuple[list[GridCell], dict[int, tuple[int, GridCell]]]:
    row: list[GridCell] = []
    left: dict[int, tuple[int, GridCell]] = {}

    def cover() -> None:
        while len(row) in hanging:
            rows, above = hanging[len(row)]
            if rows > 1:
                left[len(row)] = rows - 1, above
            row.append(above)

    for element in cells:
        cover()
        cell = _cell(_at(element), _words(element), head=element.tag == "th")
        rows, columns = _span(element, "rowspan", 400), _span(element, "colspan", 40)
        for _ in range(columns):
            if rows > 1:
                left[len(row)] = rows - 1, cell
            row.append(cell)
    cover()
    return row, left


def _span(element: _Element, name: str, most: int) -> int:
    text = str(element.get(name) or "1").strip()
    return min(most, max(1, int(text))) if text.isascii() and text.isdigit() and len(text) < 6 else 1


def _at(element: _Element) -> int:
    line = element.sourceline
    return line if isinstance(line, int) else 0


def _definitions(term: _Element) -> Iterator[_Element]:
    for following in term.itersiblings():
        if following.tag == "dd":
            yield following
        elif following.tag == "dt":
            return


def _words(element: _Element) -> str:
    """The text of an element; what breaks a line there ends a line here."""
    parts: list[str] = []
    stack: list[_Element | str] = [element]
    while stack:
        node = stack.pop()
        if isinstance(node, str):
            parts.append(node)
            continue
        if node.tag in _BREAKS and node is not element:
            parts.append("\0")
        if node.tag == "img" and node.get("alt"):
            parts.append(f" {node.get('alt')} ")
        inside: list[_Element | str] = [node.text] if node.text else []
        for child in node:
            if child.tag not in _UNREAD and not (element.tag == "li" and child.tag in ("ul", "ol")):
                inside.append(child)
                if child.tag in ("p", "div", "li", "dd", "tr"):
                    inside.append("\0")
            if child.tail:
                inside.append(child.tail)
        stack.extend(reversed(inside))
    lines = (" ".join(line.split()) for line in "".join(parts).split("\0"))
    return "\n".join(line for line in lines if line)
