"""direkt match: what to change on a feed's device, and why."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.markup import escape

from direkt.cli import common


@click.command()
@click.argument("feed", required=False)
@common.rig_option
@common.json_option
@common.handled
def match(feed: str | None, rig_path: Path | None, as_json: bool) -> int:
    """Compare FEED's device with what its destination asks; say what to change, to what, and why.

    Changes nothing. Exits with 1 when something that is asked cannot be met.
    """
    rig = common.load_rig(rig_path)
    name = rig.feed_name(feed)
    driver = common.open_device(rig, rig.file.feeds[name].device)
    try:
        _, channel, sheet, plan = make_plan(rig, name, driver)
    finally:
        driver.close()
    if as_json:
        common.print_json(document(name, sheet, channel, plan))
    else:
        out = common.console()
        out.print(f"[bold]{escape(name)}[/]  {escape(rig.file.feeds[name].device)}, channel {escape(channel.name)}, "
                  f"against {escape(sheet.name)}")  # fmt: skip
        print_plan(out, plan)
        if plan.changes:
            common.note(f"Nothing was changed. To set it: direkt write {name}")
    return 1 if plan.unmet else 0


def make_plan(rig: Any, name: str, driver: Any) -> tuple[Any, Any, Any, Any]:
    """The device's state, the feed's channel, its sheet, and the plan."""
    from direkt.match.budget import share_of
    from direkt.match.plan import plan

    feed, _, destination = rig.feed(name)
    sheet = rig.sheet(destination)
    state = driver.read()
    channel = state.channels.get(feed.channel)
    if channel is None:
        raise common.Failure(
            f"{feed.device} has no channel {feed.channel!r}; it has {', '.join(state.channels)}", common.USE
        )
    return state, channel, sheet, plan(channel, sheet, state.input, share_of(rig, name))


def document(name: str, sheet: Any, channel: Any, plan: Any) -> dict[str, Any]:
    """The JSON of a plan."""
    return {
        "schema": "direkt.match/1", "feed": name, "sheet": sheet.id, "channel": channel.name,
        "steps": [
            {"parameter": s.parameter, "asked": s.asked, "set": s.old, "wanted": s.new, "change": s.changes,
             "reason": s.reason, "rule": s.rule} for s in plan.steps
        ],
        "unmet": [{"parameter": u.parameter, "reason": u.reason, "rule": u.rule} for u in plan.unmet],
    }  # fmt: skip


def print_plan(out: Console, plan: Any, *, only_changes: bool = False) -> None:
    """Asked beside set, with what it is to become and why."""
    steps = plan.changes if only_changes else plan.steps
    if common.is_narrow(out):
        for s in steps:
            new = f" -> [bold]{common.show(s.parameter, s.new)}[/]" if s.changes else " (kept)"
            out.print(f"{s.parameter}: {common.show(s.parameter, s.old)}{new}\n    {escape(s.reason)}")
    elif steps:
        made = common.table("setting", "asked", "set now", "change to", "why")
        for s in steps:
            new = f"[bold]{common.show(s.parameter, s.new)}[/]" if s.changes else ""
            where = f" [dim]{escape(_short(s.rule))}[/]" if s.rule and s.changes else ""
            made.add_row(s.parameter, escape(s.asked), common.show(s.parameter, s.old), new, escape(s.reason) + where)
        out.print(made)
    if not plan.changes:
        out.print("[green]✓[/] nothing to change: every setting is as the sheet asks")
    for u in plan.unmet:
        out.print(f"[bold red]✗ cannot be met[/]  {escape(u.parameter)}: {escape(u.reason)}")


def _short(rule: str) -> str:
    path, _, line = rule.rpartition(":")
    return f"({Path(path).name} line {line})"
