"""direkt match: what to change on a feed's device, and why."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import parameters
from direkt.cli import options, output, unfinished
from direkt.cli.exits import ExitCode, code_of
from direkt.cli.output import escape, show
from direkt.errors import DirektError

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.device_settings import FailedJson, MatchAllJson, MatchJson
    from direkt.device.state import Channel
    from direkt.match.plan import Plan, PlannedStep
    from direkt.rig.file import Rig
    from direkt.work.device.unfinished import UnfinishedWrite
    from direkt.work.feeds import FeedParts


@click.command()
@click.argument("feed", required=False)
@click.option("--all", "every", is_flag=True, help="Every feed of the rig, devices read at the same time.")
@options.details_option
@options.rig_option
@options.json_option
def match(feed: str | None, every: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Compare FEED's device with what its destination requires; say what to change, to what, and why.

    All combinations of settings that the device offers are looked at; where none meets every demand, the smallest set
    of demands in conflict is named, with the nearest settings. Changes nothing. Exits with 1 when something that is
    asked cannot be met, or what is set is not in force.
    """
    rig = options.load_rig(rig_path)
    if every:
        return _all(rig, as_json)
    from direkt.device.state import Capability
    from direkt.work import feeds
    from direkt.work.device.planning import plan_feed

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
        _print(out, parts, channel, plan)
        if state.restart_needed:
            unfinished.not_in_force(out, parts.device, parts.name)
        if plan.changes:
            by_hand = Capability.WRITE not in parts.driver.capabilities
            output.note(
                f"Nothing was changed. To set it{' by hand' if by_hand else ''}: direkt {'card' if by_hand else 'write'} {parts.name}"
            )
    return ExitCode.FAILS if plan.unmet or state.restart_needed else ExitCode.GOOD


def _print(out: Console, parts: FeedParts, channel: Channel, plan: Plan) -> None:
    called = f" ({channel.title})" if channel.title and channel.title != channel.name else ""
    out.print(f"[bold]{escape(parts.name)}[/]  {escape(parts.device)}, channel {escape(channel.name + called)}, "
              f"against {escape(parts.sheet.name)}")  # fmt: skip
    print_plan(out, plan)


def _all(rig: Rig, as_json: bool) -> ExitCode:
    """Every feed, one after the other in the output, at the same time on the network."""
    from direkt.device.state import Capability
    from direkt.work import feeds
    from direkt.work.device import manage
    from direkt.work.device.planning import plan_feed

    sources = options.sources(rig)
    left = {name: unfinished.tell(rig, feed=name) for name in rig.every("feed")}

    def opened(name: str) -> FeedParts | DirektError:
        try:
            return feeds.look_up(rig, name, sources)
        except DirektError as error:
            return error

    def one(parts: FeedParts | DirektError) -> tuple[FeedParts, Channel, Plan, bool] | DirektError:
        if isinstance(parts, DirektError):
            return parts
        try:
            state, channel, plan = plan_feed(parts)
        except DirektError as error:
            return error
        finally:
            parts.driver.close()
        return parts, channel, plan, state.restart_needed

    found = dict(zip(rig.file.feeds, manage.for_all(map(opened, rig.file.feeds), one), strict=True))
    code = ExitCode.GOOD
    documents: list[MatchJson] = []
    failed: list[FailedJson] = []
    out = output.console()
    for name, made in found.items():
        if isinstance(made, DirektError):
            code = max(code, code_of(made))
            failed.append({"feed": name, "reason": str(made)})
            if not as_json:
                out.print(f"[bold]{escape(name)}[/]  [bold red]✗[/] {escape(made)}\n")
            continue
        parts, channel, plan, restart_needed = made
        if plan.unmet or restart_needed:
            code = max(code, ExitCode.FAILS)
        if as_json:
            documents.append(_document(parts, channel, plan, restart_needed, left[name]))
            continue
        _print(out, parts, channel, plan)
        if restart_needed:
            unfinished.not_in_force(out, parts.device, parts.name)
        out.print()
    if as_json:
        document: MatchAllJson = {"schema": "direkt.match-all/1", "feeds": documents, "failed": failed}
        output.print_json(document)
    else:
        made_plans = [made for made in found.values() if not isinstance(made, DirektError)]
        by_hand = [made[0].name for made in made_plans if Capability.WRITE not in made[0].driver.capabilities]
        if len(by_hand) < len(made_plans):
            output.note("Nothing was changed. To set all of it: direkt write --all")
        for name in by_hand:
            output.note(f"{name} is set by hand: direkt card {name}")
    return code


def _document(
    feed: FeedParts, channel: Channel, plan: Plan, restart_needed: bool, left: list[UnfinishedWrite]
) -> MatchJson:
    return {
        "schema": "direkt.match/1", "feed": feed.name, "sheet": feed.sheet.id, "channel": channel.name,
        "steps": [
            {"parameter": s.parameter, "asked": s.asked, "set": s.old, "wanted": s.new, "change": s.changes,
             "reason": s.reason, "rule": s.rule} for s in plan.steps
        ],
        "unmet": list(plan.unmet),
        "conflict": list(plan.conflict), "notes": list(plan.notes), "restart_needed": restart_needed, "unfinished": left,
    }  # fmt: skip


def print_plan(out: Console, plan: Plan, *, only_changes: bool = False) -> None:
    """What changes, with what it is to become and why; what stays in one line; what cannot be met. With --details every setting."""
    if output.shows_all():
        _print_steps(out, plan.changes if only_changes else plan.steps)
    else:
        rows = [("[bold]→[/]", f"[bold]{escape(_label(s))}[/]", _change(s)) for s in plan.changes]
        kept = [f"{_label(s)} {show(s.parameter, s.old)}" for s in plan.steps if not s.changes and s.old is not None]
        if kept and not only_changes:
            rows.append(("[green]✓[/]", "stays", f"[dim]{', '.join(kept)}[/]"))
        output.print_rows(out, rows)
    if not plan.changes and not plan.unmet:
        out.print("[green]✓[/] nothing to change: every setting is as the sheet requires")
    print_unmet(out, plan)


def _label(step: PlannedStep) -> str:
    return parameters.find(step.parameter).label


def _change(step: PlannedStep) -> str:
    line = _line_of(step.rule)
    first = f"{show(step.parameter, step.old)} → [bold]{show(step.parameter, step.new)}[/]"
    asked = f"  [dim]required: {escape(step.asked)}[/]" if step.asked else ""
    return f"{first}{asked}" + (f"[dim], line {line}[/]" if line else "") + (f"\n[dim]{escape(step.why)}[/]" if step.why else "")


def _print_steps(out: Console, steps: Sequence[PlannedStep]) -> None:
    """Every setting under the name that sheets and JSON have for it, with the whole reason."""
    made = output.table("setting", "required", "set now", "change to", "why", "line")
    for s in steps:
        new = f"[bold]{show(s.parameter, s.new)}[/]" if s.changes else ""
        made.add_row(s.parameter, escape(s.asked), show(s.parameter, s.old), new, escape(s.reason), f"[dim]{_line_of(s.rule) if s.changes else ''}[/]")
    if made.row_count:
        output.print_table(out, made, all_columns=True)


def print_unmet(out: Console, plan: Plan) -> None:
    """What is asked and cannot be met, which demands are in each other's way, and what else to know."""
    for u in plan.unmet:
        out.print(f"[bold red]✗ cannot be met[/]  {escape(parameters.find(u.parameter).label if u.parameter in parameters.TABLE else u.parameter)}: {escape(u.reason)}")
    if plan.conflict:
        out.print(
            "[bold]in conflict[/]  these cannot hold together; one has to give (another camera, destination or channel):"
        )
        for words in plan.conflict:
            out.print(f"    {escape(words)}")
    for words in plan.notes:
        out.print(f"[yellow]![/] {escape(words)}")


def _line_of(rule: str) -> str:
    """The line of the sheet in which a rule stands."""
    return rule.rpartition(":")[2]
