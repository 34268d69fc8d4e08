"""direkt write: set a feed's device as its sheet asks, and read it back."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.match import print_plan, print_unmet
from direkt.cli.output import escape, show
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.schemas import WriteJson
    from direkt.work.feeds import FeedParts
    from direkt.work.steps import Answer, Job
    from direkt.work.write import Planned, Standing, WriteEvent, Written


@click.command()
@click.argument("feed", required=False)
@click.option("--yes", is_flag=True, help="Write without asking.")
@options.time_option("--wait", default=60.0, help="How long a restart may take.")
@click.option("--restore", type=click.Path(path_type=Path), metavar="FILE", help="Write back settings saved earlier.")
@options.rig_option
@options.json_option
def write(
    feed: str | None, yes: bool, wait: float, restore: Path | None, rig_path: Path | None, as_json: bool
) -> ExitCode:
    """Set FEED's device as its destination asks: settings, server address and key.

    Shows the changes and asks. Saves the old settings to a file first, restarts the device when it needs it,
    reads everything back, and reports each value that did not stick.
    """
    from direkt.work import feeds

    rig = options.load_rig(rig_path)
    sources = options.sources(rig)
    parts = feeds.look_up(rig, feed, sources)
    try:
        key = rig.key(parts.destination, sources)
        options.remind(parts.destination)
        from direkt.work.write import write as work

        job = work(parts, key, options.SystemClock(), restore=restore, wait=wait)
        front = _Front(parts, yes, as_json)
        return front.run(job)
    finally:
        parts.driver.close()


class _Front:
    """Shows what a write does, and asks for it."""

    def __init__(self, feed: FeedParts, yes: bool, as_json: bool) -> None:
        self.feed, self.yes, self.as_json = feed, yes, as_json
        self.out: Console = output.console(err=as_json)
        self.standing: Standing | None = None

    def run(self, job: Job[WriteEvent, Written]) -> ExitCode:
        from direkt.work.steps import drive

        try:
            written = drive(job, self._on_event)
        except KeyboardInterrupt:
            output.interrupted(self.standing.text if self.standing else f"{self.feed.device} was not changed.")
            return ExitCode.INTERRUPTED
        return self._finish(written)

    def _on_event(self, event: WriteEvent) -> Answer:
        from direkt.work import write as work
        from direkt.work.steps import Agree

        if isinstance(event, Agree):
            return self.yes or self._agreed()
        if isinstance(event, work.Planned):
            self._show(event)
        elif isinstance(event, work.Standing):
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
        out.print(f"push slot {slot.number}: {escape(slot.server or 'empty')} -> [bold]{escape(planned.server)}[/], "
                  f"key {escape(planned.key)}, channel {escape(feed.entry.channel)}")  # fmt: skip
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
        if not written.lost:
            out.print(f"[green]✓ {len(written.plan.changes)} changes and the push slot read back as written[/]")
        print_unmet(out, written.plan)
        if self.as_json:
            output.print_json(self._document(written))
        elif not written.lost:
            output.note(f"The push is off. Rehearse before going live: direkt rehearse {feed.name}")
        return ExitCode.FAILS if written.lost or written.plan.unmet else ExitCode.GOOD

    def _document(self, written: Written) -> WriteJson:
        return {
            "schema": "direkt.write/1", "feed": self.feed.name, "device": self.feed.device, "sheet": self.feed.sheet.id,
            "written": written.plan.values(), "restarted": written.restarted, "saved": str(written.saved),
            "did_not_stick": [{"parameter": i.what, "wanted": i.wanted, "set": i.set} for i in written.lost],
            "unmet": [{"parameter": u.parameter, "reason": u.reason, "rule": u.rule} for u in written.plan.unmet],
            "set": written.set or {},
        }  # fmt: skip
