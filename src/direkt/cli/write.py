"""direkt write: set feeds' devices as their sheets ask, and read them back."""

from __future__ import annotations

import contextlib
import datetime
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, recording, unfinished
from direkt.cli.exits import ExitCode
from direkt.cli.match import print_plan, print_unmet
from direkt.cli.output import escape, show
from direkt.errors import UnusableInput
from direkt.parameters import Value, Values
from direkt.work.steps import END

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.schemas import UnfinishedJson, WriteAllJson, WriteAllRowJson, WriteJson
    from direkt.destination.references import Sources
    from direkt.rig.file import Rig
    from direkt.secret import Secret
    from direkt.store.entry import Entry
    from direkt.work.device.many import Became, Progress
    from direkt.work.device.unfinished import Standing
    from direkt.work.device.write import Planned, Terms, WriteEvent, Written
    from direkt.work.feeds import FeedParts
    from direkt.work.steps import Answer, Job

_QUIET = 30 * 60.0  # s before a feed's start in which nothing restarts


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
        return _Several(rig, names, yes, as_json, wait, near, live, restart_anyway, parallel).run()
    return one(
        rig,
        names[0] if names else None,
        yes,
        as_json,
        restore,
        terms_for(rig, names[0] if names else None, wait, near, restart_anyway, live=live),
    )


def one(rig: Rig, feed: str | None, yes: bool, as_json: bool, restore: Path | None, terms: Terms) -> ExitCode:
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
            key = _key_for(rig, parts, sources)
            options.remind(parts.destination)
            job = work.write(parts, key, options.SystemClock(), terms)
        return _Front(parts, yes, as_json, left, restoring=restore is not None).run(job)
    finally:
        parts.driver.close()


def _key_for(rig: Rig, parts: FeedParts, sources: Sources) -> Secret:
    """The destination's key; none is asked for where the device has no place for it. Raises SecretError."""
    from direkt.device.state import Capability
    from direkt.secret import Secret

    return rig.key(parts.destination, sources) if Capability.SLOTS in parts.driver.capabilities else Secret("")


def terms_for(
    rig: Rig, feed: str | None, wait: float, near: str | None, restart_anyway: bool, *, live: bool = False
) -> Terms:  # fmt: skip
    """What a write may do. Raises UnusableInput for a time that is none."""
    from direkt.work.device.write import Terms

    entry = rig.file.feeds.get(feed or "") or (
        next(iter(rig.file.feeds.values())) if len(rig.file.feeds) == 1 else None
    )
    said = near if near is not None else entry.start if entry is not None else None
    if near is None and (event := _event_soon(rig, feed)) is not None and not restart_anyway:
        return Terms(wait, f"{event}; to restart it all the same: --restart-anyway", live)
    if said is None:
        return Terms(wait, live=live)
    begin, now = _moment(said), datetime.datetime.now()
    left = (begin - now).total_seconds()
    if restart_anyway or not 0 <= left <= _QUIET:
        return Terms(wait, live=live)
    return Terms(
        wait, f"it goes on air at {begin:%H:%M}, in {left / 60:.0f} min; to restart it all the same: --restart-anyway", live
    )


def _event_soon(rig: Rig, feed: str | None) -> str | None:
    """What event of the feed is on, or begins within the quiet time, in words."""
    from direkt.platform import planned

    name = feed or (next(iter(rig.file.feeds)) if len(rig.file.feeds) == 1 else "")
    now = datetime.datetime.now(datetime.UTC)
    for event, entry in rig.file.events.items():
        if name in entry.feeds:
            try:
                one = planned.next_one(rig, event, now)
            except UnusableInput:
                continue
            left = (one.start - now).total_seconds()
            if left <= _QUIET:
                when = (
                    f"begins at {one.start:%H:%M}, in {left / 60:.0f} min"
                    if left > 0
                    else f"is on until {one.end:%H:%M}"
                )
                return f"its event {event} {when}"
    return None


def _moment(text: str) -> datetime.datetime:
    """A time of today, or date and time; the local one. Raises UnusableInput."""
    for form in ("%H:%M", "%H:%M:%S"):
        try:
            clock = datetime.datetime.strptime(text.strip(), form).time()
        except ValueError:
            continue
        found = datetime.datetime.combine(datetime.date.today(), clock)
        behind = (datetime.datetime.now() - found).total_seconds() > 12 * 3600
        return found + datetime.timedelta(days=1) if behind else found
    try:
        found = datetime.datetime.fromisoformat(text.strip())
    except ValueError:
        raise UnusableInput(f"{text!r} is no time; expected 18:30 or 2026-07-03 18:30") from None
    return found.astimezone().replace(tzinfo=None) if found.tzinfo is not None else found


Differing = dict[str, list[Value | None]]  # a parameter: what it was, and what it is


class _Front:
    """Shows what a write does, and asks for it."""

    def __init__(
        self, feed: FeedParts, yes: bool, as_json: bool, left: list[UnfinishedJson], *, restoring: bool
    ) -> None:
        self.feed, self.yes, self.as_json, self.left, self.restoring = feed, yes, as_json, left, restoring
        self.out: Console = output.console(err=as_json)
        self.standing: Standing | None = None
        self.planned: Planned | None = None
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
        from direkt.work.device.unfinished import Standing
        from direkt.work.steps import Agree

        if isinstance(event, Agree):
            agreed = self.yes or self._agreed()
            if agreed:
                what = "restore" if self.restoring else "write"
                detail = {"changes": _changes(self.planned), "cut": self.cut} if self.planned is not None else {}
                recording.begin(self.feed.rig, what, f"{self.feed.device} is set{_told(self.cut)}", feed=self.feed.name, first=True, detail=detail)
            return agreed
        if isinstance(event, work.Planned):
            self.planned, self.cut = event, _cut(self.feed.rig, self.left, event.channel.values)
            self._show(event)
        elif isinstance(event, Standing):
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

    def _agreed(self) -> bool:
        return _agreed("Write this to the device?")

    def _show(self, planned: Planned) -> None:
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
            f"{len(target.plan.changes)} changes" + (f", {len(written.lost)} did not stick" if written.lost else "") + _told(self.cut),
            changes=_changes(target), **({"cut": self.cut} if self.cut else {}),
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
            "unmet": [{"parameter": u.parameter, "reason": u.reason, "rule": u.rule} for u in plan.unmet],
            "not_put_back": written.target.missing or None, "set": written.set or {}, "unfinished": self.left,
        }  # fmt: skip


def _agreed(question: str) -> bool:
    if not sys.stdin.isatty():
        raise UnusableInput("there is no terminal to confirm on: add --yes to write without asking")
    return click.confirm(question, default=False, err=True)


def _key(key: Secret) -> str:
    return str(key) if len(key) else "no key"


class _Several:
    """Many feeds: shown together, asked for once, a line for each while they are written."""

    def __init__(
        self, rig: Rig, names: list[str], yes: bool, as_json: bool, wait: float, near: str | None, live: bool, restart_anyway: bool, parallel: int
    ) -> None:  # fmt: skip
        self.rig, self.names, self.yes, self.as_json, self.parallel = rig, names, yes, as_json, parallel
        self.terms = {name: terms_for(rig, name, wait, near, restart_anyway, live=live) for name in names}
        self.out: Console = output.console(err=as_json)

    def run(self) -> ExitCode:
        from direkt.work import feeds
        from direkt.work.device.many import Many

        sources = options.sources(self.rig)
        for name in self.names:
            unfinished.tell(self.rig, feed=name)
        parts = [feeds.look_up(self.rig, name, sources) for name in self.names]
        keyed = [(one, _key_for(self.rig, one, sources)) for one in parts]
        if not self._shown(parts):
            for one in parts:
                one.driver.close()
            self.out.print("Nothing was changed.")
            return ExitCode.INTERRUPTED
        job = Many(keyed, options.SystemClock(), self.terms, self._tell, self.parallel)
        found = job.run()
        return self._finish(found)

    def _shown(self, parts: list[FeedParts]) -> bool:
        """What would change everywhere; whether it is agreed to."""
        from direkt.errors import DirektError
        from direkt.work.device import manage
        from direkt.work.device.planning import plan_feed

        def look(one: FeedParts) -> str:
            try:
                _, channel, plan = plan_feed(one)
            except DirektError as error:
                return f"[bold red]✗[/] {escape(error)}"
            words = [
                f"{s.parameter} {show(s.parameter, s.old)} -> [bold]{show(s.parameter, s.new)}[/]" for s in plan.changes
            ]
            bad = [f"[red]✗ {escape(u.parameter)}: {escape(u.reason)}[/]" for u in plan.unmet]
            return f"{escape(channel.name)}: " + ("; ".join(words + bad) or "nothing to change")

        by_name = {one.name: one for one in parts}
        if self.yes:
            recording.begin(self.rig, "write", f"{len(parts)} feeds are set", first=True)
            return True
        for name, words in zip(by_name, manage.for_all(by_name, lambda name: look(by_name[name])), strict=True):
            self.out.print(f"[bold]{escape(name)}[/]  {escape(by_name[name].device)}, {words}")
        agreed = _agreed(f"Write this to {len({one.device for one in parts})} devices?")
        if agreed:
            recording.begin(self.rig, "write", f"{len(parts)} feeds are set", first=True)
        return agreed

    def _tell(self, progress: Progress) -> None:
        output.note(f"{progress.device} ({progress.feed}): {progress.words}")

    def _finish(self, found: list[Became]) -> ExitCode:
        code = ExitCode.GOOD
        for one in found:
            written = one.written
            if one.by_hand:
                self.out.print(f"– {escape(one.feed)}  {escape(one.device)}: {escape(one.reason)}")
                continue
            if written is None:
                code = ExitCode.INTERRUPTED if one.interrupted else max(code, ExitCode.NO_ANSWER)
                reason = "; ".join(filter(None, (one.reason.removeprefix(f"{one.device} "), one.standing)))
                self.out.print(f"[bold red]✗[/] {escape(one.feed)}  {escape(one.device)}: {escape(reason)}")
                continue
            bad = written.lost or written.target.plan.unmet
            code = max(code, ExitCode.FAILS) if bad else code
            mark = "[bold red]✗[/]" if bad else "[green]✓[/]"
            self.out.print(
                f"{mark} {escape(one.feed)}  {escape(one.device)}: {len(written.target.plan.changes)} changes in {one.seconds:.1f} s"
            )
            for item in written.lost:
                self.out.print(
                    f"    did not stick  {escape(item.what)}: wrote {show(item.what, item.wanted)}, reads {show(item.what, item.set)}"
                )
            for unmet in written.target.plan.unmet:
                self.out.print(f"    cannot be met  {escape(unmet.parameter)}: {escape(unmet.reason)}")
        recording.record(self.rig, [_entry(self.rig, one) for one in found if not one.by_hand])
        if self.as_json:
            document: WriteAllJson = {"schema": "direkt.write-all/1", "feeds": [_row(one) for one in found]}
            output.print_json(document)
        return code


def _changes(planned: Planned) -> Differing:
    return {step.parameter: [step.old, step.new] for step in planned.plan.changes}


def _cut(rig: Rig, left: list[UnfinishedJson], now: Values) -> Differing:
    """What writes that were cut had changed on a channel: before them, and as it was found."""
    from direkt.work.device import saved

    out: Differing = {}
    for one in left:
        if one["saved"] is not None:
            with contextlib.suppress(UnusableInput):
                before = saved.load(Path(one["saved"])).values
                out |= {name: [old, now[name]] for name, old in before.items() if name in now and now[name] != old}
    return out


def _told(cut: Differing) -> str:
    """The same in the words of a log."""
    words = ", ".join(f"{name} {show(name, old)} -> {show(name, found)}" for name, (old, found) in cut.items())
    return f"; a write before it was cut, and had changed {words}" if cut else ""


def _entry(rig: Rig, one: Became) -> Entry:
    from direkt.store.entry import Of

    about, seconds = Of(one.feed, one.device, rig.file.feeds[one.feed].destination), round(one.seconds, 1)
    if one.written is None:
        return about.entry(
            "write", "interrupted" if one.interrupted else "failed", one.reason or one.standing, seconds=seconds
        )
    changes, bad = one.written.target.plan.changes, bool(one.written.lost or one.written.target.plan.unmet)
    detail = {"changes": {step.parameter: [step.old, step.new] for step in changes}}
    return about.entry("write", "failed" if bad else "good", f"{len(changes)} changes", seconds=seconds, detail=detail)


def _row(one: Became) -> WriteAllRowJson:
    written = one.written
    outcome = (
        "by hand" if one.by_hand else "failed" if written is None else "not all stuck" if written.lost else "as wanted"
    )
    return {
        "feed": one.feed, "device": one.device, "outcome": outcome, "written": written.target.plan.values() if written else {},
        "did_not_stick": [item.what for item in written.lost] if written else [],
        "unmet": [unmet.parameter for unmet in written.target.plan.unmet] if written else [],
        "reason": "; ".join(filter(None, (one.reason, one.standing))) if written is None else "", "seconds": round(one.seconds, 2),
    }  # fmt: skip
