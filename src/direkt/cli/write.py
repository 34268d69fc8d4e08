"""direkt write: set feeds' devices as their sheets ask, and read them back."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, recording, unfinished
from direkt.cli.exits import ExitCode
from direkt.cli.match import print_plan, print_unmet
from direkt.cli.output import escape, show
from direkt.cli.write_several import Several, changes_of, cut_of, cut_words
from direkt.cli.write_terms import Differing, agreed, key_for, terms_for
from direkt.errors import UnusableInput
from direkt.work.steps import END

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.device_settings import WriteJson
    from direkt.rig.file import Rig
    from direkt.secret import Secret
    from direkt.work.device.unfinished import UnfinishedWrite
    from direkt.work.device.write import PlannedWrite, WriteEvent, WriteTerms, Written
    from direkt.work.feeds import FeedParts
    from direkt.work.steps import Answer, Job


@click.command()
@click.argument("feeds", nargs=-1, metavar="[FEED]...")
@click.option("--all", "every", is_flag=True, help="Every feed of the rig.")
@click.option("--yes", is_flag=True, help="Write without asking.")
@options.time_option("--wait", default=60.0, help="How long a restart may take.")
@click.option(
    "--near",
    metavar="START",
    help="When the feed goes on air (18:30, or 2026-07-03 18:30): half an hour before, nothing restarts.",
)
@click.option("--live", is_flag=True, help="Also while the device pushes: that interrupts what viewers see.")
@click.option("--restart-anyway", is_flag=True, help="Restart a device even shortly before its feed's start.")
@click.option(
    "--parallel", type=click.IntRange(1, 256), default=16, show_default=True, help="How many devices at the same time."
)
@click.option(
    "--restore",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Put back settings and push slot as saved earlier.",
)
@options.details_option
@options.rig_option
@options.json_option
def write(
    feeds: tuple[str, ...], every: bool, yes: bool, wait: float, near: str | None, live: bool, restart_anyway: bool, parallel: int,
    restore: Path | None, rig_path: Path | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Set the device of each FEED as its destination requires: settings, server address and key.

    Shows the changes and asks. Saves the old settings to a file first, restarts a device when it needs it, reads
    everything back, and reports each value that did not stick. What fails on the way is put back. A write that ends early
    says what state the device is in, and so does the next command.
    """
    rig = options.load_rig(rig_path)
    names = rig.every("feed") if every else list(dict.fromkeys(feeds))
    if every and feeds:
        raise UnusableInput("name feeds, or --all, not both")
    if len(names) > 1 or every:
        if restore is not None:
            raise UnusableInput("--restore goes with one feed")
        for name in names:
            rig.feed_name(name)
        return Several(rig, names, yes, as_json, wait, near, live, restart_anyway, parallel).run()
    return one(
        rig,
        names[0] if names else None,
        yes,
        as_json,
        restore,
        terms_for(rig, names[0] if names else None, wait, near, restart_anyway, live=live),
    )


def one(rig: Rig, feed: str | None, yes: bool, as_json: bool, restore: Path | None, terms: WriteTerms) -> ExitCode:
    """Writes one feed, or restores it."""
    from direkt.work import feeds

    sources = options.sources(rig)
    left = unfinished.tell(rig, feed=feed)
    parts = feeds.look_up(rig, feed, sources)
    try:
        from direkt.work.device import write as work

        if restore is not None:
            job = work.restore(parts, restore, sources, options.SystemClock(), terms)
        else:
            key = key_for(rig, parts, sources)
            options.remind(parts.destination)
            job = work.write(parts, key, options.SystemClock(), terms)
        return _Front(parts, yes, as_json, left, restoring=restore is not None).run(job)
    finally:
        parts.driver.close()


class _Front:
    """Shows what a write does, and asks for it."""

    def __init__(
        self, feed: FeedParts, yes: bool, as_json: bool, left: list[UnfinishedWrite], *, restoring: bool
    ) -> None:
        self.feed, self.yes, self.as_json, self.left, self.restoring = feed, yes, as_json, left, restoring
        self.out: Console = output.console(err=as_json)
        self.standing: UnfinishedWrite | None = None
        self.planned: PlannedWrite | None = None
        self.cut: Differing = {}  # what a write that was cut had changed
        self.waited = False  # it was said that settings take their time

    def run(self, job: Job[WriteEvent, Written]) -> ExitCode:
        from direkt.work.steps import drive

        try:
            written = drive(job, self._on_event)
        except KeyboardInterrupt:
            END.taken()
            output.interrupted(self.standing.text if self.standing else f"{self.feed.device} was not changed")
            return ExitCode.INTERRUPTED
        return self._finish(written)

    def _on_event(self, event: WriteEvent) -> Answer:
        from direkt.work.device import write as work
        from direkt.work.device.unfinished import UnfinishedWrite
        from direkt.work.steps import Agree

        if isinstance(event, Agree):
            agreed = self.yes or self.agreed()
            if agreed:
                what = "restore" if self.restoring else "write"
                detail = {"changes": changes_of(self.planned), "cut": self.cut} if self.planned is not None else {}
                recording.begin(self.feed.rig, what, f"{self.feed.device} is set{cut_words(self.cut)}", feed=self.feed.name, first=True, detail=detail)
            return agreed
        if isinstance(event, work.PlannedWrite):
            self.planned, self.cut = event, cut_of(self.feed.rig, self.left, event.channel.values)
            self._show(event)
        elif isinstance(event, UnfinishedWrite):
            self.standing = event
        elif isinstance(event, work.Saved):
            output.note(f"old settings saved: {event.path}")
        elif isinstance(event, work.Restarting):
            output.note(f"restarting {self.feed.device} ...")
        elif isinstance(event, work.Checking):
            if not self.waited:
                self.waited = True
                output.note(f"{', '.join(event.what)}: not in force yet; read again for up to {self.feed.driver.patience:.0f} s ...")
        elif isinstance(event, work.PuttingBack):
            output.note(f"! {event.reason}: putting back what was ...")
        else:
            output.note(f"{self.feed.device} is back after {event.seconds:.1f} s")
        return None

    def agreed(self) -> bool:
        return agreed("Write this to the device?")

    def _show(self, planned: PlannedWrite) -> None:
        feed, slot, out = self.feed, planned.slot, self.out
        count = len(planned.plan.changes)
        out.print(
            f"[bold]{escape(feed.name)}[/]  {escape(feed.device)}, channel {escape(planned.channel.name)}: {count} changes"
        )
        print_plan(out, planned.plan, only_changes=True)
        if slot is None:
            out.print("no push slot: settings only")
        elif planned.key is None:
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
        else:
            for words in written.refused:
                out.print(f"[yellow]! the picture is set, the sound is not[/]  {escape(words)}")
            old = target.channel.values
            if any(item.set is not None and item.set not in (item.wanted, old.get(item.what)) for item in written.lost):
                output.note(
                    f"What became another value is remembered for this model and firmware (direkt device learned): direkt match {feed.name} keeps to it."
                )
            if written.saved is not None and not self.restoring:
                output.note(f"To go back to what was: direkt write {feed.name} --restore {written.saved}")
        if target.plan.unmet:
            print_unmet(out, target.plan)
        if target.missing:
            out.print(f"[bold red]✗ not put back[/]  {escape(target.missing)}")
        bad = bool(written.lost or target.plan.unmet or target.missing)
        recording.record_feed(
            feed, "restore" if self.restoring else "write", "failed" if bad else "good",
            f"{len(target.plan.changes)} changes" + (f", {len(written.lost)} did not stick" if written.lost else "") + cut_words(self.cut),
            changes=changes_of(target), **({"cut": self.cut} if self.cut else {}),
        )  # fmt: skip
        if self.as_json:
            output.print_json(self._document(written))
        elif not written.lost and not self.restoring and target.slot is not None:
            output.note(f"The push is off. Rehearse before going live: direkt rehearse {feed.name}")
        return ExitCode.FAILS if written.lost or target.plan.unmet or target.missing else ExitCode.GOOD

    def _document(self, written: Written) -> WriteJson:
        plan = written.target.plan
        return {
            "schema": "direkt.write/1", "feed": self.feed.name, "device": self.feed.device, "sheet": self.feed.sheet.id,
            "written": plan.values(), "restarted": written.restarted, "saved": str(written.saved),
            "sound_refused": list(written.refused),
            "did_not_stick": [{"parameter": i.what, "wanted": i.wanted, "set": i.set} for i in written.lost],
            "unmet": list(plan.unmet),
            "not_put_back": written.target.missing or None, "set": written.set or {}, "unfinished": self.left,
        }  # fmt: skip


def _key(key: Secret) -> str:
    return str(key) if len(key) else "no key"


