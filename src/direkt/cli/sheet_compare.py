"""Sheets held against themselves and each other: lint and compare."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:

    from direkt.cli.documents.destinations import BitrateJson, ProblemJson, SheetProblemsJson
    from direkt.destination.sheet import AudioRung, Rung



@click.command()
@click.argument("files", metavar="NAME|FILE...", nargs=-1, required=True)
@options.json_option
def lint(files: tuple[str, ...], as_json: bool) -> ExitCode:
    """Find contradictions and mistakes of form in sheets. Exits with 1 for contradictions, 2 for mistakes.

    A warning (!) is what can be meant but is unlikely to be; it changes nothing of the exit code.
    """
    from direkt.destination import library
    from direkt.destination import lint as linter
    from direkt.documents import DocumentError

    code = ExitCode.GOOD
    document: list[SheetProblemsJson] = []
    out = output.console()
    for name in files:
        try:
            found = [(c.source, c.text, c.warning) for c in linter.lint(library.load(name))]
            code = max(code, ExitCode.FAILS) if not all(warning for *_, warning in found) else code
        except DocumentError as error:
            found = [(f"{error.source}:{p.line}" if p.line else error.source, p.message, False) for p in error.problems]
            code = ExitCode.USE
        problems: list[ProblemJson] = [{"source": s, "text": text, "warning": warning} for s, text, warning in found]
        document.append({"sheet": name, "problems": problems})
        if not as_json:
            for source, text, warning in found:
                mark = "[yellow]![/]" if warning else "[bold red]✗[/]"
                out.print(f"{mark} {escape(source)}: {escape(text)}")
            if not found:
                out.print(f"[green]✓[/] {escape(name)}: nothing wrong")
    if as_json:
        output.print_json({"schema": "direkt.sheet-lint/1", "sheets": document})
    return code


@click.command()
@click.argument("names", metavar="NAME|FILE...", nargs=-1, required=True)
@options.json_option
def compare(names: tuple[str, ...], as_json: bool) -> ExitCode:
    """Show sheets side by side, and what satisfies all of them at once. Exits with 1 when nothing does."""
    from direkt import parameters
    from direkt.destination import compare as comparing
    from direkt.destination import library

    if len(names) < 2:
        raise UnusableInput("name at least two sheets")
    sheets = [library.load(name) for name in names]
    shared = comparing.common(sheets)
    if as_json:
        output.print_json({
            "schema": "direkt.sheet-compare/1", "sheets": [s.id for s in sheets],
            "common": {n: d.json() for n, d in shared.demands.items()}, "best": {n: d.json() for n, d in shared.wishes.items()},
            "pictures": [
                {"size": size, "frame_rate": rate, "codec": r.codecs[0] if r.codecs else None, "bitrate": bitrate(r)}
                for size, rate, r in shared.pictures
            ],
            "sounds": [{"channels": a.channels, "bitrate": bitrate(a)} for a in shared.sounds],
            "protocols": None if shared.protocols is None else list(shared.protocols),
            "blockers": list(shared.blockers),
        })  # fmt: skip
        return ExitCode.FAILS if shared.blockers else ExitCode.GOOD
    out = output.console()
    made = output.table("", *(escape(s.name) for s in sheets), "all at once")
    blocked = {b.parameter for b in shared.blockers}
    for name in parameters.in_table_order({n for s in sheets for n in s.rules}):
        cells = [escape(s.rules[name].text()) if name in s.rules else "–" for s in sheets]
        both = "[bold red]✗ impossible[/]" if name in blocked else ""
        if not both:
            both = escape(shared.demands[name].text()) if name in shared.demands else ""
            if name in shared.wishes and shared.wishes[name] != shared.demands.get(name):
                both = f"{both}; best {escape(shared.wishes[name].text())}".lstrip("; ")
        made.add_row(parameters.find(name).label, *cells, both)
    output.print_table(out, made, all_columns=True)
    if shared.pictures:
        apart = ["codec"] if any(r.codecs for _, _, r in shared.pictures) else []
        steps = output.table("picture", "frame rate", *apart, "video bitrate (kbit/s)", "best (kbit/s)")
        alike: dict[tuple[str, tuple[str, ...], str, str], list[float]] = {}
        for size, rate, r in shared.pictures:
            alike.setdefault((size, r.codecs, r.text, f"{r.best:g}" if r.best is not None else ""), []).append(rate)
        for (size, codecs, text, best), rates in alike.items():
            steps.add_row(size, f"{', '.join(f'{rate:g}' for rate in rates)} fps", *([" or ".join(codecs)] if apart else []), text, best)
        out.print(steps)
    for a in shared.sounds:
        best = f", best {a.best:g}" if a.best is not None else ""
        out.print(f"sound of {a.channels} channel{'s' if a.channels > 1 else ''}: {a.text} kbit/s{best}")
    if shared.protocols:
        out.print(f"all of them take {' and '.join(shared.protocols)}")
    for b in shared.blockers:
        out.print(f"[bold red]✗ impossible at once[/]  {escape(parameters.find(b.parameter).label)}: {escape(b.text)}")
    if not shared.blockers and shared.protocols:
        out.print("[green]✓[/] one encoder can satisfy all of them")
    elif not shared.blockers and shared.protocols is not None:
        out.print("[yellow]![/] their settings go together, but no protocol does: the device has to push to each by another one")
    elif not shared.blockers:
        silent = [s.name for s in sheets if not s.protocols]
        out.print(f"[green]✓[/] their settings go together; which protocols they take is not stated by {escape(', '.join(silent))}")
    return ExitCode.FAILS if shared.blockers else ExitCode.GOOD


def bitrate(rung: Rung | AudioRung) -> BitrateJson:
    return {"min": rung.minimum, "best": rung.best, "max": rung.maximum}
