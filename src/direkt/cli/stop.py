"""direkt stop: the certain end."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.event_change import person_text
from direkt.cli.event_chosen import yes_option
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.cli.documents.on_air import StopJson
    from direkt.rig.file import Rig
    from direkt.work.live.end import Aim
    from direkt.work.live.end_findings import Dropped, EndEvent, Off, Stopped
    from direkt.work.live.go_types import Crew
    from direkt.work.steps import Answer

_WORDS = {"on": "still on"}


@click.command()
@click.argument("name", required=False, metavar="[EVENT|FEED]")
@click.option(
    "--all",
    "every",
    is_flag=True,
    help="Everything of the rig: every push slot of every device, every event that was begun.",
)
@click.option(
    "--for",
    "seconds",
    type=options.Seconds(),
    metavar="TIME",
    default=0.0,
    help="Try again until all is off, at most so long (10m).",
)
@click.option("--wipe-key", is_flag=True, help="Take the keys out of the devices' push slots as well.")
@click.option(
    "--pause",
    is_flag=True,
    help="Only the pushes go off; the event stays open and keeps its link. 'direkt go' resumes it.",
)
@yes_option
@options.report_option
@options.rig_option
@options.json_option
def stop(
    name: str | None, every: bool, seconds: float, wipe_key: bool, pause: bool, yes: bool, report: Path | None, rig_path: Path | None,
    as_json: bool,
) -> ExitCode:  # fmt: skip
    """End EVENT or FEED for certain: push off, and proven off; what is carried ended; the event closed.

    In a panic: direkt stop --all. Exits with 0 only when all of it is proven by somebody who could know: the platform, its ingest,
    the device, a person. Where nobody could be asked it says so and exits with 1; what is still on, or does not answer, gives 3.
    Twice does no harm.
    """
    from direkt.cli import crew, recording
    from direkt.work.live import end

    rig = options.load_rig(rig_path)
    if every and name is not None:
        raise UnusableInput("name an event or feed, or --all, not both")
    if pause and wipe_key:
        raise UnusableInput("--pause and --wipe-key exclude each other: the key is needed again")
    aim = end.aim(rig, name, every=every, now=time.time())
    if pause:
        _may_pause(rig, aim)
    front = _Front(yes, as_json)
    recording.begin(
        rig, "stop", "is paused" if pause else f"stops {name or 'everything'}", event=name if name in rig.file.events and name is not None else "",
        feed=name if name in rig.file.feeds and name is not None else "",
    )
    stopped = front.run(rig, aim, crew.crew(rig), seconds, wipe_key, pause)
    document: StopJson = {
        "schema": "direkt.stop/1", "proven": stopped.proven and not any(i.said for i in stopped.items), "interrupted": stopped.interrupted, "paused": pause,
        "items": [
            {"what": i.what.value, "name": i.name, "proven": i.proven and not i.said, "known": i.proof.value, "said": i.said, "text": i.text, "advice": i.advice} for i in stopped.items
        ],
    }  # fmt: skip
    code = front.finish(stopped, name or "--all", pause=pause)  # the verdict first: a log may be slow
    if as_json:
        output.print_json(document)
    output.save_report(report, document)
    record(rig, aim, stopped, front.drops, pause=pause)
    return code


def _may_pause(rig: Rig, aim: Aim) -> None:
    """Raises UnusableInput where a platform ends the event with the push, or wants a new key then."""
    if not aim.events:
        raise UnusableInput("--pause goes with an event")
    for name in aim.feeds:
        destination = rig.file.destinations[rig.file.feeds[name].destination]
        sheet = rig.sheet(destination)
        after = sheet.session.after_stop if sheet.session is not None else None
        if after == "new key":
            raise UnusableInput(
                f"{sheet.name} wants a new key after a stop, so that there is no pause: direkt stop {aim.events[0].name}"
            )
        if destination.platform is not None:
            file = rig.file.platforms[destination.platform].file
            if file is not None:
                from direkt.platform import platform_file

                if not platform_file.load(file, rig.folder).pauses:
                    raise UnusableInput(
                        f"{sheet.name} closes an event when its push stops: direkt stop {aim.events[0].name}"
                    )


class _Front:
    def __init__(self, yes: bool, as_json: bool) -> None:
        from direkt.cli.crew import PersonAsker

        self.asker = PersonAsker(yes)
        self.out = output.console(err=as_json)
        self.drops: list[Dropped] = []

    def run(self, rig: Rig, aim: Aim, crew: Crew, seconds: float, wipe: bool, pause: bool) -> Stopped:
        from direkt.work.live import end
        from direkt.work.steps import drive

        return drive(end.stop(rig, aim, crew, seconds=seconds, wipe=wipe, pause=pause, unasked=self.asker.yes), self.on_event)

    def on_event(self, event: EndEvent) -> Answer:
        from direkt.work.live import end_findings
        from direkt.work.live.event_at_platforms import PersonStep

        if isinstance(event, end_findings.Off):
            mark = marked(event)
            output.print_lines(self.out, [(mark, f"[bold]{escape(event.name)}[/]  {escape(event.text)}")], indent=0)
            if event.advice:
                output.print_lines(self.out, [(" " * 12, f"next: {escape(event.advice)}")])
        elif isinstance(event, end_findings.Dropped):
            self.drops.append(event)
            self.out.print(
                f"[yellow]! dropped[/]  [bold]{escape(event.destination)}[/]  {escape(event.title)} had nothing of the {event.role} push for "
                f"{event.gap.seconds:g} s from {escape(event.gap.began)} on"
            )
        elif isinstance(event, end_findings.Round):
            self.out.print(
                f"… tried again for {event.seconds:.0f} s more: {escape('; '.join(event.left))}", soft_wrap=True
            )
        elif isinstance(event, PersonStep):
            self.out.file.flush()
            return self.asker.ask(person_text(event), False)
        else:
            self.out.print(f"[green]✓[/]  [bold]{escape(event.destination)}[/]  {escape(event.what)}")
        self.out.file.flush()
        return None

    def finish(self, stopped: Stopped, name: str, *, pause: bool) -> ExitCode:
        left = stopped.left
        if stopped.interrupted:
            output.interrupted(f"not everything was checked; run it again: direkt stop {name}")
            return ExitCode.INTERRUPTED
        if not left:
            what = (
                "the pushes are off, the event stays; resume it with: direkt go" if pause else escape(stopped.words)
            )
            self.out.print(f"\n[green]✓ {what}[/]" + (f" {escape(name)}" if pause else ""))
            return ExitCode.GOOD
        self.out.print()
        told: dict[str, list[str]] = {}  # why each stands above; here they are only named
        for item in left:
            told.setdefault(str(_WORDS.get(item.proof, item.proof)), []).append(item.name)
        for word, names in told.items():
            output.error(f"{word}: {', '.join(dict.fromkeys(names))}")
        if stopped.only_unknown:
            output.note("Nothing shows that anything is on, but these could not be asked.")
            return ExitCode.FAILS
        output.note(f"Not proven to be off: {len(left)}. Again, for longer: direkt stop {name} --for 10m")
        return ExitCode.NO_ANSWER


def marked(item: Off) -> str:
    """What is known of one thing, as a mark and a word."""
    from direkt.work.live.end_findings import Proof, What

    if item.proof is Proof.OFF:
        word = "✓" if item.what in (What.EVENT, What.ACCOUNT) else "✓ off"
        return f"[green]{word:<12}[/]"
    if item.proof is Proof.UNKNOWN:
        return f"[yellow]{'? not known':<12}[/]"
    return f"[bold red]{'✗ still on' if item.proof is Proof.ON else '✗ no answer':<12}[/]"


def record(rig: Rig, aim: Aim, stopped: Stopped, drops: list[Dropped], *, pause: bool) -> None:
    """Into the log."""
    from direkt.cli import recording
    from direkt.store.entry import LogEntry, Outcome

    outcome: Outcome = "interrupted" if stopped.interrupted else "good" if stopped.proven else "failed"
    left = "; ".join(f"{i.name}: {i.text}" for i in stopped.items if not i.proven)
    text = (
        ("paused" if pause else "all off")
        if stopped.proven
        else f"not known to be off: {left}"
        if stopped.only_unknown
        else f"still on or not proven: {left}"
        if left
        else "interrupted"
    )
    detail = {
        "items": [{"what": i.what.value, "name": i.name, "proven": i.proven and not i.said, "known": i.proof.value, "said": i.said, "text": i.text} for i in stopped.items]
    }
    events = [LogEntry("stop", outcome, text, event=p.name, mark=p.mark, detail=detail) for p in aim.events]
    events += [
        LogEntry(
            "drop", "failed", f"{d.title} had nothing of the {d.role} push", event=p.name, mark=p.mark, destination=d.destination,
            seconds=d.gap.seconds, detail={"began": d.gap.began},
        ) for p in aim.events[:1] for d in drops
    ]  # fmt: skip
    recording.record(
        rig, events or [LogEntry("stop", outcome, text, feed=aim.feeds[0] if len(aim.feeds) == 1 else "", detail=detail)]
    )
