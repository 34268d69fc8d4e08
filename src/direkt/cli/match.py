"""direkt match: what to change on a feed's device, and why."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, unfinished
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape, show

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.schemas import MatchJson, UnfinishedJson
    from direkt.device.model import Channel
    from direkt.match.plan import Plan
    from direkt.work.feeds import FeedParts


@click.command()
@click.argument("feed", required=False)
@options.rig_option
@options.json_option
def match(feed: str | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Compare FEED's device with what its destination asks; say what to change, to what, and why.

    Changes nothing. Exits with 1 when something that is asked cannot be met, or what is set is not in force.
    """
    from direkt.work import feeds
    from direkt.work.write import plan_feed

    rig = options.load_rig(rig_path)
    left = unfinished.tell(rig, feed=feed)
    parts = feeds.look_up(rig, feed, options.sources(rig))
    try:
        state, channel, plan = plan_feed(parts)
    finally:
        parts.driver.close()
    if as_json:
        output.print_json(_document(parts, channel, plan, state.restart_needed, left))
    else:
        out = output.console()
        out.print(f"[bold]{escape(parts.name)}[/]  {escape(parts.device)}, channel {escape(channel.name)}, "
                  f"against {escape(parts.sheet.name)}")  # fmt: skip
        print_plan(out, plan)
        if state.restart_needed:
            unfinished.not_in_force(out, parts.device, parts.name)
        if plan.changes:
            output.note(f"Nothing was changed. To set it: direkt write {parts.name}")
    return ExitCode.FAILS if plan.unmet or state.restart_needed else ExitCode.GOOD


def _document(
    feed: FeedParts, channel: Channel, plan: Plan, restart_needed: bool, left: list[UnfinishedJson]
) -> MatchJson:
    return {
        "schema": "direkt.match/1", "feed": feed.name, "sheet": feed.sheet.id, "channel": channel.name,
        "steps": [
            {"parameter": s.parameter, "asked": s.asked, "set": s.old, "wanted": s.new, "change": s.changes,
             "reason": s.reason, "rule": s.rule} for s in plan.steps
        ],
        "unmet": [{"parameter": u.parameter, "reason": u.reason, "rule": u.rule} for u in plan.unmet],
        "restart_needed": restart_needed, "unfinished": left,
    }  # fmt: skip


def print_plan(out: Console, plan: Plan, *, only_changes: bool = False) -> None:
    """Asked beside set, with what it is to become and why; what cannot be met; on narrow terminals changes first."""
    steps = plan.changes if only_changes else plan.steps
    if output.is_narrow(out):
        for s in plan.changes:
            out.print(f"{s.parameter}: {show(s.parameter, s.old)} -> [bold]{show(s.parameter, s.new)}[/]")
            out.print(f"    {escape(s.reason)}")
        kept = [f"{s.parameter} {show(s.parameter, s.old)}" for s in steps if not s.changes]
        if kept:
            out.print(f"[dim]kept:[/] {', '.join(kept)}")
    elif steps:
        made = output.table("setting", "asked", "set now", "change to", "why")
        for s in steps:
            new = f"[bold]{show(s.parameter, s.new)}[/]" if s.changes else ""
            where = f" [dim]{escape(_short(s.rule))}[/]" if s.rule and s.changes else ""
            made.add_row(s.parameter, escape(s.asked), show(s.parameter, s.old), new, escape(s.reason) + where)
        out.print(made)
    if not plan.changes:
        out.print("[green]✓[/] nothing to change: every setting is as the sheet asks")
    print_unmet(out, plan)


def print_unmet(out: Console, plan: Plan) -> None:
    """What is asked and cannot be met."""
    for u in plan.unmet:
        out.print(f"[bold red]✗ cannot be met[/]  {escape(u.parameter)}: {escape(u.reason)}")


def _short(rule: str) -> str:
    path, _, line = rule.rpartition(":")
    return f"({Path(path).name} line {line})"
