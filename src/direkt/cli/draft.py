"""direkt sheet draft: a published settings table read into a sheet."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import files
from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput, os_words
from direkt.printable import printable

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.destinations import (
        CellWordsJson,
        DraftedCellJson,
        DraftedSheetJson,
        SheetDraftJson,
        SheetDraftsJson,
    )
    from direkt.destination.draft import Draft, DraftedCell

_KINDS = {
    ".csv": "csv", ".tsv": "csv", ".tab": "csv", ".md": "md", ".markdown": "md", ".txt": "txt", ".text": "txt", ".eml": "txt",
    ".html": "html", ".htm": "html", ".xhtml": "html",
}  # fmt: skip
_MOST = 1 << 20  # bytes of a file


@click.command()
@click.argument("source", metavar="TABLE.csv|.md|.html|.txt", type=click.Path(path_type=Path))
@click.option("--name", help="The destination's name [default: the file's].")
@click.option(
    "--explain", is_flag=True, help="Show each cell with its words marked by what became of them, not the sheet."
)
@click.option(
    "--each", metavar="FOLDER", type=click.Path(path_type=Path),
    help="The table has a column for each destination: write a sheet for each into FOLDER.",
)  # fmt: skip
@options.json_option
def draft(source: Path, name: str | None, explain: bool, each: Path | None, as_json: bool) -> ExitCode:
    """Read a published settings table into a sheet, on standard output. Exits with 1 where something is doubtful or contradicts itself.

    Each line of the sheet carries the words it came from. Where two readings remain, both are listed and none is claimed.
    """
    from direkt.destination import draft as drafting

    text, kind = _read(source)
    try:
        made = drafting.read(text, kind)
    except UnusableInput as error:
        raise UnusableInput(f"{source}: {error}") from None
    if not made.cells:
        raise UnusableInput(f"{source}: it contains no table, list or line of settings")
    if each is not None:
        if explain or name is not None:
            raise UnusableInput(f"--each and {'--explain' if explain else '--name'} exclude each other")
        return _draft_each(source, text, kind, made.choices, each, as_json)
    sheet_text = drafting.write(made, name or source.stem)
    left = [one for one in made.not_understood if not one.aside]
    if as_json:
        document: SheetDraftJson = {
            "schema": "direkt.sheet-draft/1", "sheet": sheet_text,
            "not_understood": [{"line": one.line, "words": one.words, "reason": one.why} for one in left],
            "not_for_a_sheet": [{"line": one.line, "words": one.words, "reason": one.why} for one in made.not_understood if one.aside],
            "cells": [_cell(cell) for cell in made.cells],
        }  # fmt: skip
        output.print_json(document)
    elif explain:
        _explain(output.console(), made)
    else:
        click.echo(sheet_text, nl=False)
    for one in made.not_understood if not explain else ():
        sign, what = ("·", "not for a sheet") if one.aside else ("!", "not understood")
        click.echo(printable(f"{sign} line {one.line} {what}: {one.words}  ({one.why})"), err=True)
    if made.found.empty:
        hint = "" if explain else f"; direkt sheet draft --explain {source} shows why"
        raise UnusableInput(f"{source}: nothing in it was understood{hint}")
    if len(made.choices) > 1:
        output.note(f"! If {' and '.join(made.choices)} are destinations, this makes a sheet for each: direkt sheet draft {source} --each FOLDER")
    if not as_json and not explain:
        more = f"Left to you: {len(left)}. " if left else ""
        output.note(f"{more}Save it to a file, read it against its source, then: direkt sheet lint FILE")
    return ExitCode.FAILS if left else ExitCode.GOOD


def _draft_each(source: Path, text: str, kind: str, destinations: list[str], folder: Path, as_json: bool) -> ExitCode:
    """A sheet for each column; none is written where one of them cannot be."""
    from direkt.destination import draft as drafting

    if len(destinations) < 2:
        raise UnusableInput(f"{source}: no two columns of it are destinations (heads that mean nothing else); leave --each out")
    paths = [folder / f"{files.name_of(head.lower())}.yaml" for head in destinations]
    twice = next((path for path in paths if paths.count(path) > 1), None)
    if twice is not None:
        raise UnusableInput(f"{source}: two columns would both be {twice}; rename one of them in the table")
    drafts = [drafting.read(text, kind, head) for head in destinations]
    written: list[DraftedSheetJson] = []
    for path in paths:
        if path.exists():
            raise UnusableInput(f"{path}: already exists; move it away, or name another folder. Nothing was written")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for head, path, made in zip(destinations, paths, drafts, strict=True):
            files.create(path, drafting.write(made, head))
            left = [one for one in made.not_understood if not one.aside]
            written.append({
                "destination": head, "file": str(path),
                "not_understood": [{"line": one.line, "words": one.words, "reason": one.why} for one in left],
            })  # fmt: skip
    except OSError as error:
        done = f"; written: {', '.join(one['file'] for one in written)}" if written else ""
        raise UnusableInput(f"{folder}: cannot be written: {os_words(error)}{done}") from None
    if as_json:
        document: SheetDraftsJson = {"schema": "direkt.sheet-drafts/1", "sheets": written}
        output.print_json(document)
    for sheet in written if not as_json else ():
        click.echo(printable(f"{sheet['file']}  {sheet['destination']}"))
        for one in sheet["not_understood"]:
            click.echo(printable(f"! line {one['line']} not understood: {one['words']}  ({one['reason']})"), err=True)
    if not as_json:
        output.note("Read each against its source, then: direkt sheet lint FILE")
    return ExitCode.FAILS if any(sheet["not_understood"] for sheet in written) else ExitCode.GOOD


def _read(source: Path) -> tuple[str, str]:
    kind = _KINDS.get(source.suffix.lower())
    if kind is None:
        raise UnusableInput(f"{source}: expected a table in .csv, .md, .html or .txt")
    try:
        data = files.read(source, _MOST)
    except OSError as error:
        raise UnusableInput(f"{source}: cannot be read: {os_words(error)}") from None
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace"), kind
    if (place := data.find(b"\0")) >= 0:
        raise UnusableInput(f"{source}: no text: byte {place} is 0; save the table as .csv, .md, .html or .txt")
    try:
        return data.decode("utf-8-sig"), kind
    except UnicodeDecodeError as error:  # what spreadsheets and old pages write
        output.note(f"! {source}: byte {error.start} is no UTF-8; read as Windows-1252. Check letters with accents.")
        return data.decode("cp1252", "replace"), kind


def _cell(cell: DraftedCell) -> DraftedCellJson:
    one = cell.statement
    words: list[CellWordsJson] = [
        {"words": one.text[start:end], "start": start, "end": end, "became": what or None}
        for start, end, what in sorted(cell.marks)
    ]
    return {
        "line": one.line,
        "name": one.name,
        "head": one.head,
        "text": one.text,
        "words": words,
        "reasons": cell.reasons,
    }


def _explain(out: Console, made: Draft) -> None:
    """Every cell: what was taken in square brackets with a number, what was not understood between question marks."""
    for cell in made.cells:
        one = cell.statement
        head = f"{one.name} [{one.head}]" if one.head and one.name else one.name or one.head
        out.print(f"[dim]line {one.line}[/]  [bold]{escape(head)}[/]")
        became = list(dict.fromkeys(what for _, _, what in sorted(cell.marks) if what))
        out.print(f"  [dim]{_one_line(one.text)}[/]" if one.aside else f"  {_marked(cell, became)}")
        if became:
            said = (f"[green]{number}[/] {escape(_says(made, cell, what))}" for number, what in enumerate(became, 1))
            out.print(f"    {'   '.join(said)}")
        for why in dict.fromkeys(cell.reasons):
            out.print(f"    [dim]· {escape(why)}[/]" if one.aside else f"    [yellow]?[/] {escape(why)}")
    out.print(
        "\n[green]\\[taken]1[/] says what stands at 1   [yellow]?left?[/] is not understood   · is not for a sheet   all else only shapes what stands beside it"
    )


def _says(made: Draft, cell: DraftedCell, what: str) -> str:
    """A parameter with what the whole table says of it."""
    from direkt import demand
    from direkt.destination.sheet import Protocol

    rule = made.found.rules.get(cell.statement.context.mode.replace("normal", ""), {}).get(what)
    if what == "protocols":
        own = [
            Protocol(protocol=name, port=port, **told).text()  # type: ignore[arg-type]
            for (name, port), (told, ones) in made.found.protocols.items() if any(one.statement is cell.statement for one in ones)
        ]  # fmt: skip
        return f"protocols: {', '.join(own)}"
    if what == "servers":
        return f"servers: {', '.join(server for server, (_, _, one) in made.found.servers.items() if one.statement is cell.statement)}"
    if what == "viewers_behind_s":
        span = next((span for span, one in made.found.behind.values() if one.statement is cell.statement), None)
        return f"viewers behind: {_fact(span)} s" if span is not None else what
    if what in made.found.facts:
        return f"{what}: {_fact(made.found.facts[what][0])}"
    if rule is None:
        return {"video.bitrate.mean": "the ladder", "audio.bitrate.mean": "the audio ladder"}.get(what, what)
    must, never, should = (rule.parts.get(part) for part in ("must", "never", "should"))
    parts = [demand.parse(what, must, never).text()] if must is not None or never is not None else []
    parts += [f"best {demand.parse(what, should).text()}"] if should is not None else []
    return f"{what}: {'; '.join([*parts, *(['the same as the source'] if rule.same_as_source else [])])}"


def _fact(value: object) -> str:
    if isinstance(value, dict):
        return " to ".join(f"{end:g}" for end in value.values())
    return f"{value:g}" if isinstance(value, int | float) else str(value)


def _marked(cell: DraftedCell, became: list[str]) -> str:
    text = cell.statement.text
    at = 0
    parts: list[str] = []
    spans: list[tuple[int, int, list[str]]] = []
    for start, end, what in sorted(cell.marks, key=lambda mark: (mark[0], -mark[1])):
        if spans and start < spans[-1][1]:
            if what:  # a word taken lies within what was left, or says two things
                last = spans[-1]
                spans[-1] = (last[0], max(last[1], end) if last[2] else last[1], [*last[2], what])
            continue
        spans.append((start, end, [what] if what else []))
    for start, end, whats in spans:
        parts.append(f"[dim]{_one_line(text[at:start])}[/]" if text[at:start] else "")
        words = _one_line(text[start:end])
        if whats:
            numbers = ",".join(str(became.index(what) + 1) for what in dict.fromkeys(whats))
            parts.append(f"[green]\\[{words}]{numbers}[/]")
        else:
            parts.append(f"[yellow]?{words}?[/]")
        at = end
    parts.append(f"[dim]{_one_line(text[at:])}[/]" if text[at:] else "")
    return "".join(parts)


def _one_line(text: str) -> str:
    return escape(text.replace("\n", " ⏎ "))
