"""What a person sees and is asked while an event goes to air, step by step."""

from __future__ import annotations

import dataclasses
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import output, reports
from direkt.cli.event_change import person_text
from direkt.cli.exits import ExitCode
from direkt.cli.output import clock, escape, show

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.on_air import GoJson
    from direkt.platform.planned import PlannedEvent
    from direkt.rig.file import Rig
    from direkt.store.entry import LogEntry
    from direkt.work.live.go_types import Crew, GoCheck, GoEvent, Gone, GoWaiting, Judged, Link, Options
    from direkt.work.steps import Answer

_EVERY = 10.0  # s between lines of waiting, where no line can be written over
_MARKS = {"pass": "[green]✓[/]", "advise": "[yellow]![/]", "fail": "[bold red]✗[/]", "unseen": "[cyan]?[/]"}
_WHO = {"everyone": "for everyone", "link": "for whoever has the link", "invited": "for those who are invited"}


class Front:
    """Shows how an event goes to air, and asks."""

    def __init__(self, rig: Rig, planned: PlannedEvent, *, yes: bool, as_json: bool, practice: bool = False) -> None:
        from direkt.cli.crew import PersonAsker

        self.rig, self.planned, self.as_json, self.practice = rig, planned, as_json, practice
        self.out: Console = output.console(err=as_json)
        self.asker = PersonAsker(yes)
        self.waited = -_EVERY
        self.late = False  # that it is later than usual was told
        self.title = planned.name
        self.line = False  # a line that is written over stands there
        self.entries: list[LogEntry] = []
        self.document: GoJson = {
            "schema": "direkt.go/1", "event": planned.name, "start": planned.start.isoformat(), "rehearsal": practice, "dry_run": False,
            "on_air": False, "failed": None, "failure": None, "interrupted": False, "steps": [], "checks": [], "would": [], "feeds": [],
            "links": [], "looks": [], "left_on": [], "without": [],
        }  # fmt: skip

    def run(self, crew: Crew, how: Options, report: Path | None) -> ExitCode:
        """The whole order; the exit code."""
        from direkt.cli import recording

        if not how.dry_run:
            recording.begin(self.rig, "go", "goes to air", event=self.planned.name, mark=self.planned.mark)
        gone = self.drive(crew, how)
        code = self.finish(gone, how)
        if not how.dry_run:
            self._record(gone)
        if self.as_json:
            output.print_json(self.document)
        reports.save_page(report, self.document, lambda: reports.go_page(self.document, self.title))
        return code

    def drive(self, crew: Crew, how: Options) -> Gone:
        """Goes through the order, and shows it."""
        from direkt.platform import planned
        from direkt.work.live.go import go as work
        from direkt.work.steps import drive

        title = self.title = planned.wanted(self.rig, self.planned).title
        what = "Practice" if self.practice else "Would go live" if how.dry_run else "Going live"
        self.out.print(f"[bold]{what}: {escape(title)}[/]  {escape(self.planned.name)}, {self.planned.start:%a %Y-%m-%d %H:%M} "
                       f"{escape(self.planned.start.tzname() or '')}")  # fmt: skip
        return drive(work(self.rig, self.planned, crew, how), self.on_event)

    def on_event(self, event: GoEvent) -> Answer:
        """Shows one event; answers one question."""
        from direkt.work.live import go_types
        from direkt.work.live.event_at_platforms import Did, PersonStep

        if isinstance(event, go_types.GoWaiting):
            self._wait(event)
            return None
        self._end_line()
        if isinstance(event, go_types.StepBegan):
            self.out.print(f"\n[bold]{event.step:d}  {go_types.TITLES[event.step]}[/]")
            self.waited = -_EVERY
        elif isinstance(event, go_types.GoCheck):
            self._checked(event)
        elif isinstance(event, go_types.Ended):
            self.document["steps"].append(
                {
                    "step": int(event.step),
                    "title": go_types.TITLES[event.step],
                    "seconds": round(event.seconds, 1),
                    "good": event.good,
                }
            )
        elif isinstance(event, go_types.Would):
            self.document["would"].append(f"{event.step:d} {event.text}")
            self.out.print(f"   {event.step:d}  would {escape(event.text)}")
        elif isinstance(event, go_types.Judged):
            self._judged(event)
        elif isinstance(event, go_types.Link):
            self._link(event)
        elif isinstance(event, go_types.LookedAt):
            f = event.found
            self.document["looks"].append(
                {
                    "destination": event.destination,
                    "plays": f.plays,
                    "behind": f.behind,
                    "size": f.size or None,
                    "sound": f.sound,
                }
            )
        elif isinstance(event, Did):
            output.print_lines(
                self.out, [("   [green]✓[/]", f"[bold]{escape(event.destination)}[/]  {escape(event.what)}")]
            )
        elif isinstance(event, PersonStep):
            self.out.file.flush()
            return self.asker.ask(f"   {person_text(event)}", False)
        else:
            self.out.file.flush()
            return self.asker.ask(f"   {event.text}", event.otherwise, always=event.always)
        self.out.file.flush()
        return None

    def _checked(self, line: GoCheck) -> None:
        self.document["checks"].append(line)
        output.print_lines(
            self.out, [(f"   {_MARKS[line.verdict]}", f"[bold]{escape(line.what)}[/]  {escape(line.text)}")], indent=0
        )
        if line.advice:
            output.print_lines(self.out, [("       next:", escape(line.advice))], indent=0)

    def _wait(self, event: GoWaiting) -> None:
        usual = (
            f" (usual {event.usual.min:g} to {event.usual.max:g} s, now {event.seconds:.0f} s)"
            if event.usual is not None
            else f" ({event.seconds:.0f} s)"
        )
        late = (
            "; later than usual, still waiting" if event.usual is not None and event.seconds > event.usual.max else ""
        )
        limit = f", gives up at {event.limit:.0f} s" if event.limit and late else ""
        text = f"   … {event.text}{usual}{late}{limit}"
        if self.out.is_terminal:
            self.out.file.write("\r\x1b[2K" + text[: max(20, self.out.width - 1)])
            self.out.file.flush()
            self.line = True
        elif abs(event.seconds - self.waited) >= _EVERY or bool(late) != self.late:
            self.waited, self.late = event.seconds, bool(late)
            self.out.print(escape(text), soft_wrap=True)
            self.out.file.flush()

    def _end_line(self) -> None:
        if self.line:
            self.out.file.write("\r\x1b[2K")
            self.line = False

    def _judged(self, event: Judged) -> None:
        self.document["feeds"].append({
            "feed": event.feed, "destination": event.destination, "complaints": list(event.complaints),
            "rows": list(event.rows),
        })  # fmt: skip
        if not event.rows:
            return
        from direkt.finding import Verdict
        from direkt.parameters import find

        how = ", ".join(
            filter(
                None,
                (
                    f"sent: {event.measured}" if event.measured else "",
                    f"seen: {event.platform}" if event.platform else "",
                ),
            )
        )
        self.out.print(f"   [bold]{escape(event.feed)}[/]  {escape(how)}")
        off = [r for r in event.rows if r.verdict in (Verdict.FAIL, Verdict.UNSEEN)]  # what could be better is said below, with what to do
        for r in off:
            sides = (("required", escape(r.asked)), *((name, show(r.parameter, value)) for name, value in (("set", r.set), ("sent", r.sent), ("seen", r.seen)) if value is not None))
            words = ", ".join(f"{name} {text}" for name, text in sides if text)
            output.print_lines(self.out, [(f"   {_MARKS[r.verdict]}", f"[bold]{escape(find(r.parameter).label)}[/]  {words}")])
        held = [f"{find(r.parameter).label} {show(r.parameter, r.sent if r.sent is not None else r.seen)}" for r in event.rows if r.verdict is Verdict.PASS]
        if held:
            output.print_lines(self.out, [(f"   {_MARKS[Verdict.PASS]}", f"[dim]holds: {escape(', '.join(held))}[/]")])

    def _link(self, link: Link) -> None:
        links = self.document["links"]
        links.append({"destination": link.destination, "address": link.address, "audience": link.audience})
        self.out.print(
            f"   viewers of {escape(link.title)} ({escape(link.destination)}), {_WHO[link.audience]}: [bold]{escape(link.address)}[/]",
            soft_wrap=True,
        )
        if len(links) == 1 and self.out.is_terminal and not self.as_json:
            from direkt.cli.picture_code import print_code

            print_code(self.out, link.address)

    def finish(self, gone: Gone, how: Options) -> ExitCode:
        """The last lines; the exit code."""
        self._end_line()
        d = self.document
        d["dry_run"], d["on_air"], d["interrupted"], d["left_on"] = (
            how.dry_run,
            gone.on_air,
            gone.interrupted,
            list(gone.left_on),
        )
        d["without"] = list(gone.without)
        d["failed"], d["failure"] = (int(gone.failed) if gone.failed is not None else None), gone.failure or None
        self.out.print()
        if how.dry_run:
            self.out.print(
                "Nothing was changed." + (" Something is not true yet: see above." if gone.failed is not None else "")
            )
            return ExitCode.FAILS if gone.failed is not None else ExitCode.GOOD
        without = f" without {', '.join(gone.without)}" if gone.without else ""
        if gone.failed is None:
            self.out.print(
                f"[green]✓ on air[/]  {escape(self.planned.name)}{escape(without)}; end it with: direkt stop {escape(self.planned.name)}"
            )
            return ExitCode.GOOD
        if gone.interrupted:
            output.interrupted(
                f"at step {gone.failed:d}; {self._left(gone)}. Go on with: direkt go {self.planned.name}; end it with: direkt stop {self.planned.name}"
            )
            return ExitCode.INTERRUPTED
        air = "it is on air" if gone.on_air else "not on air"
        self.out.print(f"[bold red]✗ stopped at step {gone.failed:d}[/]  {air}; {escape(self._left(gone))}")
        if not self._stands_above(gone.failure):
            output.error(gone.failure or "it did not come to its end")
        output.note(f"Then go on with: direkt go {self.planned.name}")
        return ExitCode.FAILS

    def _stands_above(self, failure: str) -> bool:
        """Whether the same eyes have it before them, in a line with a cross."""
        from direkt.finding import Verdict

        if self.as_json or not (self.out.is_terminal and sys.stderr.isatty()):
            return False
        return any(c.verdict is Verdict.FAIL and failure.startswith(f"{c.what}: {c.text}") for c in self.document["checks"])

    @staticmethod
    def _left(gone: Gone) -> str:
        return f"still on: {'; '.join(gone.left_on)}" if gone.left_on else "nothing is known to be on"

    def _record(self, gone: Gone) -> None:
        from direkt.cli import recording
        from direkt.finding import Verdict
        from direkt.store.entry import LogEntry

        p = self.planned
        steps = {str(int(step)): round(seconds, 1) for step, seconds in gone.seconds.items()}
        without = f" without {', '.join(gone.without)}" if gone.without else ""
        text = f"on air{without}" if gone.failed is None else f"stopped at step {gone.failed:d}: {gone.failure or 'interrupted'}"
        recording.record(self.rig, [LogEntry(
            "go", "good" if gone.failed is None else "interrupted" if gone.interrupted else "failed", text, event=p.name, mark=p.mark,
            seconds=round(sum(gone.seconds.values()), 1),
            detail={"steps": steps, "links": [link.address for link in gone.links], "left_on": list(gone.left_on),
                    "checks": [dataclasses.asdict(c) for c in self.document["checks"] if c.verdict is not Verdict.PASS][:50]},
        )])  # fmt: skip


def time_sheet(out: Console, gone: Gone) -> None:
    """How long each step took."""
    from direkt.work.live.go_types import TITLES

    table = output.table("step", "", "took")
    for step, seconds in gone.seconds.items():
        table.add_row(str(int(step)), TITLES[step], f"{seconds:.1f} s")
    table.add_row("", "[bold]in all[/]", clock(sum(gone.seconds.values())))
    out.print("\n[bold]Time sheet[/]")
    output.print_table(out, table, all_columns=True)
