"""direkt sheet: what destinations' ingests ask for."""

from __future__ import annotations

import click
from rich.markup import escape

from direkt.cli import common


@click.group()
def sheet() -> None:
    """Show what destinations' ingests ask for."""


@sheet.command("list")
@common.json_option
@common.handled
def list_(as_json: bool) -> None:
    """List the sheets that ship with Direkt."""
    from direkt.sheet import library

    sheets = [library.load(name) for name in library.shipped()]
    if as_json:
        rows = [{"id": s.id, "name": s.name, "summary": s.summary} for s in sheets]
        common.print_json({"schema": "direkt.sheet-list/1", "sheets": rows})
        return
    out = common.console()
    made = common.table("sheet", "destination", "")
    for s in sheets:
        made.add_row(s.id, escape(s.name), escape(s.summary))
    out.print(made)
    common.note("Show one with: direkt sheet show NAME. A sheet of your own is named by its file.")


@sheet.command()
@click.argument("name", metavar="NAME|FILE")
@common.json_option
@common.handled
def show(name: str, as_json: bool) -> None:
    """Show a sheet: what it demands, what it recommends, and its bitrates."""
    from direkt import parameters
    from direkt.sheet import library

    s = library.load(name)
    names = parameters.in_table_order(s.rules)
    if as_json:
        common.print_json({
            "schema": "direkt.sheet-show/1", "id": s.id, "name": s.name, "summary": s.summary, "source": s.source,
            "rules": {n: {**s.rules[n].json(), "because": s.rules[n].because} for n in names},
            "ladder": [
                {"size": f"{r.width}x{r.height}", "frame_rate": {"min": r.slowest, "max": r.fastest},
                 "bitrate": {"min": r.minimum, "best": r.best, "max": r.maximum}} for r in s.ladder
            ],
            "notes": list(s.notes),
        })  # fmt: skip
        return
    out = common.console()
    out.print(f"[bold]{escape(s.name)}[/]  {escape(s.summary)}")
    made = common.table("parameter", "must be", "should be", "because")
    for n in names:
        rule = s.rules[n]
        made.add_row(
            n, escape(rule.must.text()) if rule.must else "", escape(rule.should.text()) if rule.should else "",
            escape(rule.because),
        )  # fmt: skip
    out.print(made)
    if s.ladder:
        steps = common.table("picture up to", "frame rate", "video bitrate (kbit/s)", "best (kbit/s)")
        for r in s.ladder:
            best = f"{r.best:g}" if r.best is not None else ""
            steps.add_row(
                f"{r.width}x{r.height}", f"{r.slowest:g} to {r.fastest:g} fps", f"{r.minimum:g} to {r.maximum:g}", best
            )
        out.print(steps)
    for text in s.notes:
        out.print(escape(text))
