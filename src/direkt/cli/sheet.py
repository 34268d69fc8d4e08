"""direkt sheet: what destinations' ingests ask for."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import files
from direkt.cli import options, output
from direkt.cli.draft import draft
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.schemas import BitrateJson, ProblemJson, SheetProblemsJson, SheetShowJson
    from direkt.destination.sheet import AudioRung, Mode, Rung, Sheet


@click.group()
def sheet() -> None:
    """Show what destinations' ingests require."""


@sheet.command("list")
@options.json_option
def list_(as_json: bool) -> None:
    """List the sheets that ship with Direkt."""
    from direkt.destination import library

    sheets = [library.load(name) for name in library.shipped()]
    if as_json:
        rows = [{"id": s.id, "name": s.name, "summary": s.summary} for s in sheets]
        output.print_json({"schema": "direkt.sheet-list/1", "sheets": rows})
        return
    out = output.console()
    made = output.table("sheet", "destination", "")
    for s in sheets:
        made.add_row(s.id, escape(s.name), escape(s.summary))
    out.print(made)
    output.note("Show one with: direkt sheet show NAME. A sheet of your own is named by its file.")


@sheet.command()
@click.argument("name", metavar="NAME|FILE")
@options.json_option
def show(name: str, as_json: bool) -> None:
    """Show a sheet: what it demands, what it recommends, and its bitrates."""
    from direkt import parameters
    from direkt.destination import library

    s = library.load(name)
    if as_json:
        output.print_json(_document(s))
        return
    out = output.console()
    out.print(f"[bold]{escape(s.name)}[/]  {escape(s.summary)}")
    made = output.table("parameter", "must be", "should be", "because")
    for n in parameters.in_table_order(s.rules):
        rule = s.rules[n]
        made.add_row(
            n, escape(rule.must.text()) if rule.must else "", escape(rule.should.text()) if rule.should else "",
            escape(rule.because),
        )  # fmt: skip
    out.print(made)
    if s.ladder:
        apart = ["codec"] if any(r.codecs for r in s.ladder) else []
        steps = output.table("picture up to", "frame rate", *apart, "video bitrate (kbit/s)", "best (kbit/s)")
        for r in s.ladder:
            best = f"{r.best:g}" if r.best is not None else ""
            codec = [" or ".join(r.codecs) or "any"] if apart else []
            steps.add_row(f"{r.width}x{r.height}", f"{r.slowest:g} to {r.fastest:g} fps", *codec, r.text, best)
        out.print(steps)
    _print_facts(out, s)
    for text in s.notes:
        out.print(escape(text))


def _document(s: Sheet) -> SheetShowJson:
    from direkt import parameters

    return {
        "schema": "direkt.sheet-show/1", "id": s.id, "name": s.name, "summary": s.summary, "source": s.source,
        "rules": {n: {**s.rules[n].json(), "because": s.rules[n].because} for n in parameters.in_table_order(s.rules)},
        "ladder": [
            {"size": f"{r.width}x{r.height}", "frame_rate": {"min": r.slowest, "max": r.fastest}, "codecs": list(r.codecs), "bitrate": _bitrate(r)}
            for r in s.ladder
        ],
        "notes": list(s.notes), "peak_percent": s.peak_percent,
        "audio_ladder": [{"channels": r.channels, "bitrate": _bitrate(r)} for r in s.audio_ladder],
        "protocols": [p.model_dump() for p in s.protocols], "servers": [p.model_dump() for p in s.servers],
        "spherical": s.spherical.model_dump() if s.spherical else None,
        "session": s.session.model_dump() if s.session else None, "key": s.key.model_dump() if s.key else None,
        "checklist": [c.model_dump() for c in s.checklist],
        "modes": {
            m.name: {"summary": m.summary, "viewers_behind_s": m.behind.model_dump() if m.behind is not None else None, "rules": {n: r.json() for n, r in m.rules.items()}} for m in s.modes.values()
        },
    }  # fmt: skip


def _bitrate(rung: Rung | AudioRung) -> BitrateJson:
    return {"min": rung.minimum, "best": rung.best, "max": rung.maximum}


def _print_facts(out: Console, s: Sheet) -> None:
    """What a sheet says beside its rules."""
    from direkt.parameters import PEAK_WINDOW

    lines: list[tuple[str, str]] = []

    def line(head: str, text: str) -> None:
        lines.append((f"[bold]{head}[/]", escape(text)))

    for a in s.audio_ladder:
        best = f", best {a.best:g}" if a.best is not None else ""
        line("audio", f"{a.channels} ch: {a.text} kbit/s{best}")
    if s.peak_percent is not None:
        line("bitrate", f"no {PEAK_WINDOW:g} s more than {s.peak_percent:g} % above the mean")
    if s.protocols:
        line(
            "protocols",
            ", ".join(p.text() for p in s.protocols),
        )
    for server in s.servers:
        place = f" ({server.region}, {server.role})" if server.region else f" ({server.role})"
        line("server", server.address + place)
    if s.session is not None:
        told = s.session
        span = told.shows_after_s
        parts = [
            f"the event opens {told.opens}" if told.opens else "",
            f"the picture shows {span.min:g} to {span.max:g} s after the push begins" if span else "",
            f"after a stop: {told.after_stop}" if told.after_stop else "",
            f"at most {told.longest_hours:g} h" if told.longest_hours else "",
            f"a new account waits {told.lead_time_hours:g} h" if told.lead_time_hours else "",
        ]
        line("session", "; ".join(part for part in parts if part))
    if s.key is not None and (s.key.lives or s.key.lives_hours or s.key.example):
        like = f", like {s.key.example}" if s.key.example else ""
        hours = f"{s.key.lives_hours:g} h" if s.key.lives_hours else ""
        line("key", f"lives for {s.key.lives or hours or 'a time that is not stated'}{like}".replace("for for", "for"))
    if s.spherical is not None:
        if s.spherical.taken:
            aspects = f", picture {' or '.join(s.spherical.display_aspects)}" if s.spherical.display_aspects else ""
            mark = "; mark the event as spherical" if s.spherical.mark_event else ""
            line("spherical", f"taken: {', '.join(s.spherical.projections) or 'any projection'}{aspects}{mark}")
        else:
            line("spherical", "not taken")
    for mode in s.modes.values():
        changes = "; ".join(f"{n} {r.text()}" for n, r in mode.rules.items())
        line(
            "latency",
            "  ".join(
                part for part in (f"{s.id}:{mode.name}", ": ".join(t for t in (mode.summary, _behind(mode), changes) if t)) if part
            ),
        )
    for n, item in enumerate(s.checklist, 1):
        line("by hand" if n == 1 else "", f"{n}. {item.when}: {item.step}")
    output.print_lines(out, lines)


def _behind(mode: Mode) -> str:
    return f"viewers {mode.behind.min:g} to {mode.behind.max:g} s behind" if mode.behind is not None and not mode.summary else ""


@sheet.command()
@click.argument("file", type=click.Path(path_type=Path))
def new(file: Path) -> None:
    """Write a commented skeleton of a sheet to FILE."""
    from direkt.destination.skeleton import SKELETON

    try:
        files.create(file, SKELETON)
    except FileExistsError:
        raise UnusableInput(f"{file} already exists; choose another name") from None
    except OSError as error:
        raise UnusableInput(f"{file}: cannot be written: {os_words(error)}") from None
    output.note(f"{file} is written. Fill it in, then: direkt sheet lint {file}")


@sheet.command()
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


@sheet.command()
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
                {"size": size, "frame_rate": rate, "codec": r.codecs[0] if r.codecs else None, "bitrate": _bitrate(r)}
                for size, rate, r in shared.pictures
            ],
            "sounds": [{"channels": a.channels, "bitrate": _bitrate(a)} for a in shared.sounds],
            "protocols": None if shared.protocols is None else list(shared.protocols),
            "blockers": [{"parameter": b.parameter, "text": b.text} for b in shared.blockers],
        })  # fmt: skip
        return ExitCode.FAILS if shared.blockers else ExitCode.GOOD
    out = output.console()
    made = output.table("parameter", *(escape(s.name) for s in sheets), "all at once")
    blocked = {b.parameter for b in shared.blockers}
    for name in parameters.in_table_order({n for s in sheets for n in s.rules}):
        cells = [escape(s.rules[name].text()) if name in s.rules else "–" for s in sheets]
        both = "[bold red]✗ impossible[/]" if name in blocked else ""
        if not both:
            both = escape(shared.demands[name].text()) if name in shared.demands else ""
            if name in shared.wishes and shared.wishes[name] != shared.demands.get(name):
                both = f"{both}; best {escape(shared.wishes[name].text())}".lstrip("; ")
        made.add_row(name, *cells, both)
    out.print(made)
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
        out.print(f"[bold red]✗ impossible at once[/]  {escape(b.parameter)}: {escape(b.text)}")
    if not shared.blockers and shared.protocols:
        out.print("[green]✓[/] one encoder can satisfy all of them")
    elif not shared.blockers and shared.protocols is not None:
        out.print("[yellow]![/] their settings go together, but no protocol does: the device has to push to each by another one")
    elif not shared.blockers:
        silent = [s.name for s in sheets if not s.protocols]
        out.print(f"[green]✓[/] their settings go together; which protocols they take is not stated by {escape(', '.join(silent))}")
    return ExitCode.FAILS if shared.blockers else ExitCode.GOOD


sheet.add_command(draft)
