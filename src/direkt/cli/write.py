"""direkt write: set a feed's device as its sheet asks, and read it back."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, unfinished
from direkt.cli.exits import ExitCode
from direkt.cli.match import print_plan, print_unmet
from direkt.cli.output import escape, show
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.schemas import UnfinishedJson, WriteJson
    from direkt.secret import Secret
    from direkt.work.feeds import FeedParts
    from direkt.work.standing import Standing
    from direkt.work.steps import Answer, Job
    from direkt.work.write import Planned, WriteEvent, Written


@click.command()
@click.argument("feed", required=False)
@click.option("--yes", is_flag=True, help="Write without asking.")
@options.time_option("--wait", default=60.0, help="How long a restart may take.")
@click.option(
    "--restore",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Put back settings and push slot as saved earlier.",
)
@options.rig_option
@options.json_option
def write(
    feed: str | None, yes: bool, wait: float, restore: Path | None, rig_path: Path | None, as_json: bool
) -> ExitCode:
    """Set FEED's device as its destination asks: settings, server address and key.

    Shows the changes and asks. Saves the old settings to a file first, restarts the device when it needs it,
    reads everything back, and reports each value that did not stick. A write that ends early says what state the
    device is in, and so does the next command.
    """
    from direkt.work import feeds

    rig = options.load_rig(rig_path)
    sources = options.sources(rig)
    left = unfinished.tell(rig, feed=feed)
    parts = feeds.look_up(rig, feed, sources)
    try:
        from direkt.work import write as work

        if restore is not None:
            job = work.restore(parts, restore, sources, options.SystemClock(), wait=wait)
        else:
            key = rig.key(parts.destination, sources)
            options.remind(parts.destination)
            job = work.write(parts, key, options.SystemClock(), wait=wait)
        return _Front(parts, yes, as_json, left, restoring=restore is not None).run(job)
    finally:
        parts.driver.close()


class _Front:
    """Shows what a write does, and asks for it."""

    def __init__(
        self, feed: FeedParts, yes: bool, as_json: bool, left: list[UnfinishedJson], *, restoring: bool
    ) -> None:
        self.feed, self.yes, self.as_json, self.left, self.restoring = feed, yes, as_json, left, restoring
        self.out: Console = output.console(err=as_json)
        self.standing: Standing | None = None

    def run(self, job: Job[WriteEvent, Written]) -> ExitCode:
        from direkt.work.steps import drive

        try:
            written = drive(job, self._on_event)
        except KeyboardInterrupt:
            output.interrupted(self.standing.text if self.standing else f"{self.feed.device} was not changed")
            return ExitCode.INTERRUPTED
        return self._finish(written)

    def _on_event(self, event: WriteEvent) -> Answer:
        from direkt.work import write as work
        from direkt.work.standing import Standing
        from direkt.work.steps import Agree

        if isinstance(event, Agree):
            return self.yes or self._agreed()
        if isinstance(event, work.Planned):
            self._show(event)
        elif isinstance(event, Standing):
            self.standing = event
        elif isinstance(event, work.Saved):
            output.note(f"old settings saved: {event.path}")
        elif isinstance(event, work.Restarting):
            output.note(f"restarting {self.feed.device} ...")
        else:
            output.note(f"{self.feed.device} is back after {event.seconds:.1f} s")
        return None

    def _agreed(self) -> bool:
        if not sys.stdin.isatty():
            raise UnusableInput("nobody is there to agree: add --yes to write without asking")
        return click.confirm("Write this to the device?", default=False, err=True)

    def _show(self, planned: Planned) -> None:
        feed, slot, out = self.feed, planned.slot, self.out
        count = len(planned.plan.changes)
        out.print(
            f"[bold]{escape(feed.name)}[/]  {escape(feed.device)}, channel {escape(planned.channel.name)}: {count} changes"
        )
        print_plan(out, planned.plan, only_changes=True)
        if planned.key is None:
            out.print(f"push slot {slot.number}: {escape(slot.server or 'empty')}, left as it is")
        else:
            out.print(f"push slot {slot.number}: {escape(slot.server or 'empty')} -> [bold]{escape(planned.server or 'empty')}[/], "
                      f"{escape(_key(planned.key))}, channel {escape(planned.slot_channel)}")  # fmt: skip
        if planned.missing:
            out.print(f"[bold red]✗ cannot be put back[/]  {escape(planned.missing)}")
        if planned.pushing:
            out.print("[yellow]! the device is pushing[/]  a restart drops the push")

    def _finish(self, written: Written) -> ExitCode:
        feed, out = self.feed, self.out
        if not written.agreed:
            out.print(f"{escape(feed.device)} was not changed.")
            return ExitCode.INTERRUPTED
        for item in written.lost:
            out.print(f"[bold red]✗ did not stick[/]  {escape(item.what)}: wrote {show(item.what, item.wanted)}, "
                      f"reads {show(item.what, item.set)}")  # fmt: skip
        target = written.target
        if not written.lost:
            slot = " and the push slot" if target.key is not None else ""
            out.print(f"[green]✓ {len(target.plan.changes)} changes{slot} read back as written[/]")
        print_unmet(out, target.plan)
        if target.missing:
            out.print(f"[bold red]✗ not put back[/]  {escape(target.missing)}")
        if self.as_json:
            output.print_json(self._document(written))
        elif not written.lost and not self.restoring:
            output.note(f"The push is off. Rehearse before going live: direkt rehearse {feed.name}")
        return ExitCode.FAILS if written.lost or target.plan.unmet or target.missing else ExitCode.GOOD

    def _document(self, written: Written) -> WriteJson:
        plan = written.target.plan
        return {
            "schema": "direkt.write/1", "feed": self.feed.name, "device": self.feed.device, "sheet": self.feed.sheet.id,
            "written": plan.values(), "restarted": written.restarted, "saved": str(written.saved),
            "did_not_stick": [{"parameter": i.what, "wanted": i.wanted, "set": i.set} for i in written.lost],
            "unmet": [{"parameter": u.parameter, "reason": u.reason, "rule": u.rule} for u in plan.unmet],
            "not_put_back": written.target.missing or None, "set": written.set or {}, "unfinished": self.left,
        }  # fmt: skip


def _key(key: Secret) -> str:
    return f"key {key}" if key else "no key"
