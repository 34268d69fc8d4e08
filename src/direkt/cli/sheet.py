"""direkt sheet: what destinations' ingests ask for."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import files
from direkt.cli import options, output
from direkt.cli.draft import draft
from direkt.cli.output import escape
from direkt.cli.sheet_compare import bitrate, compare, lint
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.destinations import SheetShowJson
    from direkt.destination.sheet import Mode, Sheet


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
    output.print_table(out, made, all_columns=True)
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
    output.print_table(out, made, all_columns=True)
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
            {"size": f"{r.width}x{r.height}", "frame_rate": {"min": r.slowest, "max": r.fastest}, "codecs": list(r.codecs), "bitrate": bitrate(r)}
            for r in s.ladder
        ],
        "notes": list(s.notes), "peak_percent": s.peak_percent,
        "audio_ladder": [{"channels": r.channels, "bitrate": bitrate(r)} for r in s.audio_ladder],
        "protocols": [p.model_dump() for p in s.protocols], "servers": [p.model_dump() for p in s.servers],
        "spherical": s.spherical.model_dump() if s.spherical else None,
        "session": s.session.model_dump() if s.session else None, "key": s.key.model_dump() if s.key else None,
        "checklist": [c.model_dump() for c in s.checklist],
        "modes": {
            m.name: {"summary": m.summary, "viewers_behind_s": m.behind.model_dump() if m.behind is not None else None, "rules": {n: r.json() for n, r in m.rules.items()}} for m in s.modes.values()
        },
    }  # fmt: skip


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


sheet.add_command(draft)


sheet.add_command(compare)
sheet.add_command(lint)
