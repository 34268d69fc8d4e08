"""Writing to several devices at a time, and putting one back."""

from __future__ import annotations

import contextlib
from typing import TYPE_CHECKING

from direkt.cli import options, output, recording, unfinished
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape, show
from direkt.cli.write_terms import Differing, agreed, key_for, terms_for
from direkt.errors import UnusableInput
from direkt.parameters import Values

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.device_settings import WriteAllJson, WriteAllRowJson
    from direkt.rig.file import Rig
    from direkt.store.entry import LogEntry
    from direkt.work.device.many import Became, Progress
    from direkt.work.device.unfinished import UnfinishedWrite
    from direkt.work.device.write import PlannedWrite
    from direkt.work.feeds import FeedParts



class Several:
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
        keyed = [(one, key_for(self.rig, one, sources)) for one in parts]
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
        from direkt.parameters import find
        from direkt.work.device import manage
        from direkt.work.device.planning import plan_feed

        def look(one: FeedParts) -> str:
            try:
                _, channel, plan = plan_feed(one)
            except DirektError as error:
                return f"[bold red]✗[/] {escape(error)}"
            words = [
                f"{find(s.parameter).label} {show(s.parameter, s.old)} -> [bold]{show(s.parameter, s.new)}[/]" for s in plan.changes
            ]
            bad = [f"[red]✗ {escape(find(u.parameter).label)}: {escape(u.reason)}[/]" for u in plan.unmet]
            return f"{escape(channel.name)}: " + ("; ".join(words + bad) or "nothing to change")

        by_name = {one.name: one for one in parts}
        if self.yes:
            recording.begin(self.rig, "write", f"{len(parts)} feeds are set", first=True)
            return True
        for name, words in zip(by_name, manage.for_all(by_name, lambda name: look(by_name[name])), strict=True):
            self.out.print(f"[bold]{escape(name)}[/]  {escape(by_name[name].device)}, {words}")
        yes = agreed(f"Write this to {len({one.device for one in parts})} devices?")
        if yes:
            recording.begin(self.rig, "write", f"{len(parts)} feeds are set", first=True)
        return yes

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


def changes_of(planned: PlannedWrite) -> Differing:
    return {step.parameter: [step.old, step.new] for step in planned.plan.changes}


def cut_of(rig: Rig, left: list[UnfinishedWrite], now: Values) -> Differing:
    """What writes that were cut had changed on a channel: before them, and as it was found."""
    from direkt.work.device import saved

    out: Differing = {}
    for one in left:
        if one.saved is not None:
            with contextlib.suppress(UnusableInput):
                before = saved.load(one.saved).values
                out |= {name: [old, now[name]] for name, old in before.items() if name in now and now[name] != old}
    return out


def cut_words(cut: Differing) -> str:
    """The same in the words of a log."""
    words = ", ".join(f"{name} {show(name, old)} -> {show(name, found)}" for name, (old, found) in cut.items())
    return f"; a write before it was cut, and had changed {words}" if cut else ""


def _entry(rig: Rig, one: Became) -> LogEntry:
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
