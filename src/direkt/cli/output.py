"""What people and programs read: a console in colour, in pipes without, tables, values, and JSON."""

from __future__ import annotations

import dataclasses
import json
import os
import re
import sys
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any, TextIO, cast

import click

from direkt import files, mask
from direkt.errors import UnusableInput, os_words
from direkt.printable import printable

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from direkt.parameters import Measured, Value

ALL = "direkt.all"  # in a command's context
_NARROW = 96  # columns below which tables turn into lines
_WIDE = 120  # from which two short ones stand beside each other
_NARROW_ROWS = 72  # below which a row's text stands under its label
_PIPE = 110  # columns of a pipe


def console(*, err: bool = False) -> Console:
    """Standard output or error for people. Pipes get 110 columns and no colour."""
    from rich.console import Console as RichConsole

    class Console(RichConsole):
        def on_broken_pipe(self) -> None:
            raise

    stream = sys.stderr if err else sys.stdout
    width = None if stream.isatty() or os.environ.get("COLUMNS") else _PIPE
    file = stream if stream.isatty() else cast("IO[str]", _Trimmed(stream))
    return Console(file=file, highlight=False, width=width, soft_wrap=False, emoji=False)


class _Trimmed:
    """A text stream whose lines do not end in the spaces that fill a table's last column."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        """Takes text; spaces before a line's end are left out."""
        self._stream.write(re.sub(r"[ ]+(?=\n)", "", text))
        return len(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def shows_all() -> bool:
    """Whether the command was given --all (options.all_option)."""
    context = click.get_current_context(silent=True)
    return context is not None and bool(context.meta.get(ALL))


def escape(text: object) -> str:
    """Text that stands for itself in console output."""
    from rich import markup

    return markup.escape(mask.own(printable(str(text))))  # before a layout breaks it into lines


def note(text: str) -> None:
    """A message for the person, beside the output."""
    console(err=True).print(escape(text))


def reveal(text: str) -> None:
    """A line that the person asked to see as it is, secrets and all."""
    if isinstance(sys.stdout, mask.Edge):
        sys.stdout.through(text + "\n")
    else:
        click.echo(text)


def error(text: str) -> None:
    """An error's lines."""
    for line in text.splitlines():
        click.echo(_by_words(f"error: {printable(line)}"), err=True)


def interrupted(text: str) -> None:
    """What state an interruption leaves things in."""
    click.echo("\n" + _by_words(f"Interrupted: {printable(text)}"), err=True)


def _by_words(line: str) -> str:
    """A line for standard error: a terminal gets it broken between words, a pipe whole."""
    if not sys.stderr.isatty():
        return line
    import textwrap

    width = console(err=True).width
    masked = mask.own(line)  # before a layout breaks it into lines
    return "\n".join(textwrap.wrap(masked, width, subsequent_indent="  ", break_long_words=False, break_on_hyphens=False))


def _plain(value: object) -> object:
    """What JSON has no words for, in those that it has: what the core keeps, field by field; a path as text."""
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {field.name: getattr(value, field.name) for field in dataclasses.fields(value)}
    if isinstance(value, Path):
        return str(value)
    if isinstance(value, Mapping):
        return dict(value)
    raise TypeError(f"{type(value).__name__} has no form in JSON")


def _masked(document: Mapping[str, object]) -> object:
    return mask.document(json.loads(json.dumps(document, default=_plain)))


def print_json(document: Mapping[str, object], *, revealed: bool = False) -> None:
    """The one JSON document of a command; ``revealed``: the person asked to see the secrets in it."""
    if revealed:
        reveal(_written(document))
    else:
        click.echo(_written(_masked(document)))


def _written(document: object) -> str:
    """As JSON, in letters that standard output can take."""
    return json.dumps(document, indent=2, default=_plain, ensure_ascii=not (sys.stdout.encoding or "utf-8").lower().startswith("utf"))


def save_report(path: Path | None, document: Mapping[str, object]) -> None:
    """Writes the JSON document beside the output. Raises UnusableInput."""
    if path is None:
        return
    text = json.dumps(_masked(document), indent=2, ensure_ascii=False) + "\n"
    try:
        if path.exists() and not path.is_file():  # a pipe or a terminal
            path.write_text(text, "utf-8")
        else:
            files.replace(path, text, path.stat().st_mode & 0o777 if path.exists() else 0o644)
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be written: {os_words(error)}") from None


def clock(seconds: float) -> str:
    """Seconds as ``mm:ss`` or ``h:mm:ss``."""
    whole = int(seconds)
    hours, rest = divmod(whole, 3600)
    return f"{hours}:{rest // 60:02d}:{rest % 60:02d}" if hours else f"{rest // 60:02d}:{rest % 60:02d}"


def show(name: str, value: Value | None, *, absent: str = "–") -> str:
    """A value for a table, safe to print."""
    from direkt import parameters

    return absent if value is None else escape(parameters.show(name, value))


def show_measured(name: str, found: Measured | None) -> str:
    """A measured value for a table, safe to print."""
    from direkt import parameters

    return escape(parameters.show_measured(name, found))


def is_narrow(out: Console) -> bool:
    """Whether tables would not fit."""
    return out.width < _NARROW


def is_wide(out: Console) -> bool:
    """Whether two short tables fit beside each other."""
    return out.width >= _WIDE


def table(*columns: str) -> Table:
    """A table in our style: a rule under the heads, no frame."""
    from rich import box
    from rich.table import Table

    made = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1))
    for n, column in enumerate(columns):
        made.add_column(column, overflow="fold", no_wrap=n == 0)
    return made


_LEAST = 12  # cells that a column's text may be broken into


def _fits(out: Console, columns: list[list[str]]) -> bool:
    """Whether every column of a table has room; what begins a row is not broken."""
    from rich.text import Text

    widths = [[Text.from_markup(cell).cell_len for cell in column] for column in columns]
    least = [max(column, default=0) if n == 0 else min(_LEAST, max(column, default=0)) for n, column in enumerate(widths)]
    return sum(least) + 2 * len(least) <= out.width


def _print_whole(out: Console, made: Table, columns: list[list[str]]) -> None:
    """A table, or each of its rows in lines where it has no room."""
    if _fits(out, columns):
        out.print(made)
        return
    heads = [str(column.header) for column in made.columns]
    for first, *others in zip(*columns, strict=True):
        out.print(first)
        print_lines(out, [(head, text) for head, text in zip(heads[1:], others, strict=True) if text], indent=2)


def print_table(out: Console, made: Table, *, all_columns: bool = False) -> None:
    """A table; without the columns that say the same in every row: what they say stands in a line below it.

    ``all_columns``: those as well. Where there is no room for a table, its rows are lines.
    """
    cells = [[str(cell) for cell in column.cells] for column in made.columns]
    alike = [] if all_columns else [n for n, column in enumerate(cells) if n and len(column) > 1 and len(set(column)) == 1]
    kept = [n for n in range(len(cells)) if n not in alike]
    if not alike:
        _print_whole(out, made, cells)
        return
    shown = table(*(str(made.columns[n].header) for n in kept))
    for row in zip(*cells, strict=True):
        shown.add_row(*(row[n] for n in kept))
    _print_whole(out, shown, [cells[n] for n in kept])
    told = [f"{made.columns[n].header} {cells[n][0]}".strip() for n in alike if cells[n][0]]
    if told:
        out.print(f"[dim]for all: {', '.join(told)}[/]")


def print_lines(out: Console, lines: Iterable[tuple[str, str]], *, indent: int = 0) -> None:
    """A label and a text (markup both) in each line; what is too long goes on under the text."""
    from rich.padding import Padding
    from rich.table import Table

    made = Table.grid(padding=(0, 2, 0, 0))
    made.add_column(no_wrap=True)
    made.add_column(overflow="fold")
    for label, text in lines:
        made.add_row(label, text)
    if made.row_count:
        out.print(Padding(made, (0, 0, 0, indent), expand=False))


def print_rows(out: Console, rows: Iterable[tuple[str, str, str]]) -> None:
    """A mark, a label and a text (markup, of one line or several) in each row; narrow terminals have the text under the label."""
    from rich.table import Table

    narrow = out.width < _NARROW_ROWS
    made = Table.grid(padding=(0, 2, 0, 0))
    made.add_column(no_wrap=True)
    if not narrow:
        made.add_column(overflow="fold", max_width=26)
    made.add_column(overflow="fold")
    for mark, label, text in rows:
        made.add_row(mark, f"{label}\n{text}") if narrow else made.add_row(mark, label, text)
    if made.row_count:
        out.print(made)
