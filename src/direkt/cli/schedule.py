"""direkt schedule: events and feeds by the clock."""

from __future__ import annotations

import datetime
import os
import secrets
import shutil
import sys
import threading
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput
from direkt.work.steps import END, unbroken

if TYPE_CHECKING:
    from direkt.cli.schemas import ScheduleJson, TurnJson
    from direkt.rig.file import Rig
    from direkt.store.entry import Entry, Outcome, Phase
    from direkt.watch.notify import Telling
    from direkt.work.live.end_findings import EndEvent
    from direkt.work.live.go_types import Crew, GoEvent
    from direkt.work.live.schedule_service import ServiceEvent
    from direkt.work.live.timetable import Turn
    from direkt.work.steps import Answer

_SETTLE = 40.0  # s that what is being done gets to come to a known state


@click.group()
def schedule() -> None:
    """Begin and end events and feeds by the clock.

    What is begun when stands in the rig under 'schedule': events at their own times, feeds in daily windows or always.
    """


@schedule.command("list")
@click.option("--days", type=options.Number(0, 4000), help="Only what begins within so many days.")
@click.option("--most", type=click.IntRange(1, 1000), default=12, show_default=True, help="How many times at most.")
@options.rig_option
@options.json_option
def list_(days: float | None, most: int, rig_path: Path | None, as_json: bool) -> ExitCode:
    """List what is on now and comes next, in local time and UTC."""
    from direkt.work.live import timetable

    rig = options.load_rig(rig_path)
    now = datetime.datetime.now(datetime.UTC)
    timetable.check(rig, now)
    found = timetable.upcoming(rig, now, most, days)
    if as_json:
        document: ScheduleJson = {"schema": "direkt.schedule/1", "turns": [_json(rig, turn, now) for turn in found]}
        output.print_json(document)
        return ExitCode.GOOD
    out = output.console()
    if not found:
        out.print(
            "nothing comes: write events and feeds under 'schedule' in the rig"
            if not rig.file.schedule
            else "nothing comes any more"
        )
        return ExitCode.GOOD
    table = output.table("entry", "what", "begins", "UTC", "ends", "UTC", "")
    for turn in found:
        state = "now" if turn.begin <= now else ""
        if turn.end is None:
            table.add_row(escape(turn.entry), escape(_what(rig, turn)), "always on", "", "", "", state)
            continue
        table.add_row(
            escape(turn.entry),
            escape(_what(rig, turn)),
            _local(turn.start),
            _utc(turn.start),
            _local(turn.end),
            _utc(turn.end),
            state,
        )
    out.print(table)
    before = [name for name, entry in rig.file.schedule.items() if entry.event is not None]
    if before:
        words = ", ".join(f"{escape(name)} {escape(rig.file.schedule[name].before)}" for name in before)
        out.print(f"'direkt go' begins earlier than that: {words} before")
    return ExitCode.GOOD


def _what(rig: Rig, turn: Turn) -> str:
    entry = rig.file.schedule[turn.entry]
    return f"event {entry.event}" if entry.event is not None else f"feed {entry.feed}"


def _local(moment: datetime.datetime) -> str:
    return escape(f"{moment:%a %Y-%m-%d %H:%M} {moment.tzname() or ''}".strip())


def _utc(moment: datetime.datetime) -> str:
    return f"{moment.astimezone(datetime.UTC):%H:%M}"


def _json(rig: Rig, turn: Turn, now: datetime.datetime) -> TurnJson:
    entry = rig.file.schedule[turn.entry]
    always = turn.end is None
    return {
        "entry": turn.entry, "event": entry.event, "feeds": list(turn.feeds), "begin": None if always else turn.begin.isoformat(),
        "start": None if always else turn.start.isoformat(), "start_utc": None if always else _stamp(turn.start),
        "end": turn.end.isoformat() if turn.end is not None else None, "end_utc": _stamp(turn.end) if turn.end is not None else None,
        "now": turn.begin <= now,
    }  # fmt: skip


def _stamp(moment: datetime.datetime) -> str:
    return moment.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


@schedule.command()
@click.option(
    "--for", "seconds", type=options.Seconds(), metavar="TIME", help="End after this long; otherwise at Ctrl-C."
)
@click.option("--no-rehearsal", is_flag=True, help="Do not ask for a rehearsal since the last change.")
@options.rig_option
def run(seconds: float | None, no_rehearsal: bool, rig_path: Path | None) -> ExitCode:
    """Do 'go' and 'stop' at the times of the schedule, until Ctrl-C.

    No turn is taken twice, however often this is started. What a person stopped stays off. Ending it leaves everything on that is
    on. Let 'direkt watch' run beside it: this looks at the clock, not at drops.
    """
    from direkt.store import turns

    rig = options.load_rig(rig_path)
    if not rig.file.schedule:
        raise UnusableInput(f"{rig.source}: nothing is scheduled: write events and feeds under 'schedule'")
    with turns.alone(rig.folder):
        return _Service(rig, rig_path, rehearsal=not no_rehearsal).run(seconds)


class _Service:
    def __init__(self, rig: Rig, rig_path: Path | None, *, rehearsal: bool) -> None:
        from direkt.cli.service import Manager
        from direkt.cli.watch import Pool, Recorder, telling_of
        from direkt.watch.notices import Notices
        from direkt.work.live.schedule_service import Service

        self.out = output.console()
        self.rig_path = rig_path if rig_path is not None else rig.path
        self.acts = _Acts(rig, rehearsal=rehearsal)
        self.clock = options.SystemClock()
        self.recorder = Recorder(rig)
        self.telling: Telling | None = None
        if rig.file.watch.notify:
            self.telling = telling_of(rig, lambda name, words, good: self._say(f"{name} {words}", good=good))
        self.notices = Notices()
        self.manager = Manager()
        self.deeds: dict[str, str] = {}  # by entry: what of it is being done
        self.service = Service(self._load, self.acts, self.clock, time.time, Pool(len(rig.file.schedule) + 2).submit)
        self.seen = _mtime(rig.path)

    def _load(self) -> Rig:
        rig = options.load_rig(self.rig_path)
        self.acts.rig = rig
        return rig

    def run(self, seconds: float | None) -> ExitCode:
        entries = len(self.service.rig.file.schedule)
        self._say(
            f"{self.service.rig.file.name}: {entries} {'entry' if entries == 1 else 'entries'} by the clock; Ctrl-C ends this, and leaves on what is on"
        )
        interrupted = False
        told = ""
        try:
            for event in self.service.run(seconds):
                told = self._on_event(event, told)
                if (now := _mtime(self.rig_path)) != self.seen:
                    self.seen = now
                    self.service.look_again()
        except KeyboardInterrupt:
            END.taken()
            interrupted = True
        self.acts.over.set()
        self.manager.stopping()
        if self.service.doing:
            self._say(f"ending; {', '.join(self.service.doing)} is in the middle: waiting for a known state")
        with unbroken():
            for event in self.service.settle(_SETTLE):
                self._on_event(event, told)
            if self.service.doing:
                output.error(f"{', '.join(self.service.doing)}: how that ended is not known; see: direkt watch")
        self.recorder.close()
        if self.telling is not None:
            self.telling.close()
        words = "the schedule has ended; what is on stays on: see direkt watch, direkt stop"
        if interrupted:
            output.interrupted(words)
            return ExitCode.INTERRUPTED
        output.note(words)
        return ExitCode.FAILS if self.service.failing else ExitCode.GOOD

    def _say(self, text: str, *, good: bool = True) -> None:
        self.out.print(
            f"{time.strftime('%Y-%m-%d %H:%M:%S')}  {'' if good else '[yellow]![/] '}{escape(text)}", soft_wrap=True
        )
        self.out.file.flush()

    def _on_event(self, event: ServiceEvent, told: str) -> str:
        from direkt.work.live import schedule_service

        if isinstance(event, schedule_service.Doing):
            self._say(f"{event.turn.entry}: {event.deed}s")
            deed = self.deeds[event.turn.entry] = secrets.token_hex(8)
            self.recorder.add(self._entry(event.turn, "good", f"{event.turn.entry}: {event.deed}s", deed, "began"))
        elif isinstance(event, schedule_service.Done):
            again = f"; again in {event.again:g} s" if event.again is not None else ""
            self._say(f"{event.turn.entry}: {event.deed}: {event.text}{again}", good=event.good)
            deed = self.deeds.pop(event.turn.entry, "")
            text = f"{event.turn.entry}: {event.deed}: {event.text}"
            self.recorder.add(self._entry(event.turn, "good" if event.good else "failed", text, deed, "ended" if deed else ""))
        elif isinstance(event, schedule_service.Said):
            self._say(event.text, good=event.good)
        else:
            self.manager.alive()
            self._tell()
            following = (
                f"next: {event.next.entry}, {event.next.begin:%a %Y-%m-%d %H:%M:%S} {event.next.begin.tzname() or ''}"
                if event.next
                else ""
            )
            if following and following != told:
                self._say(following)
                return following
        return told

    @staticmethod
    def _entry(turn: Turn, outcome: Outcome, text: str, deed: str, phase: Phase) -> Entry:
        from direkt.store.entry import Entry

        p = turn.planned
        return Entry(
            "schedule", outcome, text, event=p.name if p is not None else "", mark=p.mark if p is not None else "",
            feed=turn.feeds[0] if p is None else "", detail={"process": os.getpid()}, deed=deed, phase=phase,
        )  # fmt: skip

    def _tell(self) -> None:
        from direkt.watch.notices import Condition, Key

        now, rig = self.clock.now(), self.service.rig
        states = {}
        for entry, text in self.service.failing.items():
            scheduled = rig.file.schedule.get(entry)
            event = scheduled.event or "" if scheduled is not None else ""
            states[Key("schedule", entry)] = Condition(
                "fail", f"does not succeed by the clock: {text}", "look at it: direkt schedule list", event
            )
        for notice in self.notices.update(states, now, time.time()):
            if self.telling is not None:
                self.telling.tell(notice)
        if self.telling is not None:
            self.telling.remind(self.notices)


class _Acts:
    """Begins and ends turns with the same jobs as direkt go, stop and push."""

    def __init__(self, rig: Rig, *, rehearsal: bool) -> None:
        self.rig, self.rehearsal = rig, rehearsal
        self.over = threading.Event()

    def _crew(self) -> Crew:
        from direkt.cli import crew

        return crew.crew(self.rig)

    def begin(self, turn: Turn) -> tuple[bool, str]:
        """An event goes to air; a feed's push starts."""
        return self._go(turn) if turn.planned is not None else self._start(turn.feeds[0])

    def end(self, turn: Turn) -> tuple[bool, str]:
        """The certain end of it."""
        from direkt.cli.stop import record
        from direkt.work.live import end, end_findings
        from direkt.work.live.event_at_platforms import PersonStep
        from direkt.work.steps import drive

        aim = end.Aim(turn.feeds, (turn.planned,) if turn.planned is not None else ())
        drops: list[end_findings.Dropped] = []

        def on_event(event: EndEvent) -> Answer:
            if isinstance(event, end_findings.Dropped):
                drops.append(event)
            return False if isinstance(event, PersonStep) else None

        stopped = drive(end.stop(self.rig, aim, self._crew(), seconds=60.0), on_event)
        record(self.rig, aim, stopped, drops, pause=False)
        left = [f"{i.name}: {i.text}" for i in stopped.left]
        return stopped.proven, stopped.words if stopped.proven else "; ".join(left) or "interrupted"

    def _go(self, turn: Turn) -> tuple[bool, str]:
        from direkt.work.live.event_at_platforms import PersonStep
        from direkt.work.live.go import go
        from direkt.work.live.go_types import Options, Question
        from direkt.work.steps import drive

        assert turn.planned is not None

        def on_event(event: GoEvent) -> Answer:
            if self.over.is_set() and not isinstance(event, Question):
                raise KeyboardInterrupt
            if isinstance(event, PersonStep):
                return False
            return event.otherwise and not event.always if isinstance(event, Question) else None

        gone = drive(
            go(self.rig, turn.planned, self._crew(), Options(rehearsal=self.rehearsal, at_start=True, unattended=True)), on_event
        )
        if gone.interrupted:
            left = "; ".join(gone.left_on)
            return False, f"interrupted; still on: {left}" if left else "interrupted; nothing is on"
        return (
            gone.failed is None,
            "on air" + (f" without {', '.join(gone.without)}" if gone.without else "")
            if gone.failed is None
            else f"stopped at step {gone.failed:d}: {gone.failure}",
        )

    def _start(self, feed: str) -> tuple[bool, str]:
        from direkt.watch.world import RealWorld

        world = RealWorld(self.rig, [feed], self._crew())
        try:
            return world.ensure(feed)
        finally:
            world.close()


def _mtime(path: Path) -> float:
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0


@schedule.command()
@click.option("--watch", "watching", is_flag=True, help="The unit of direkt watch instead.")
@click.option("--user", is_flag=True, help="A unit for your own service manager (systemctl --user).")
@click.option("--as", "account", metavar="ACCOUNT", help="Who runs it [default: you; root only if you say so].")
@click.option("--no-rehearsal", is_flag=True, help="Do not ask for a rehearsal since the last change.")
@options.rig_option
def unit(watching: bool, user: bool, account: str | None, no_rehearsal: bool, rig_path: Path | None) -> ExitCode:
    """Print a systemd unit that runs the schedule, or the watch, from the start of this machine on.

    It holds no secret, may write only where Direkt keeps its files, and is looked after by a watchdog. What is pushed goes on when the
    service is stopped.
    """
    import getpass
    import os

    from direkt.report import unitfile

    rig = options.load_rig(rig_path)
    program = shutil.which("direkt") or sys.executable
    words = [program] if Path(program).name == "direkt" else [sys.executable, "-m", "direkt"]
    words += ["watch"] if watching else ["schedule", "run", *(["--no-rehearsal"] if no_rehearsal else [])]
    words += ["--rig", str(rig.path)]
    environment = (
        {"DIREKT_CONFIG": str(Path(os.environ["DIREKT_CONFIG"]).resolve())} if os.environ.get("DIREKT_CONFIG") else {}
    )
    who = account or getpass.getuser()
    if not user and who == "root" and account is None:
        who = _owner(rig.folder)
        if who in ("", "root"):
            raise UnusableInput("a service that runs as root may do everything: name another account with --as, or say --as root")
    what = "watch" if watching else "schedule"
    click.echo(
        unitfile.text(
            f"Direkt: the {what} of {rig.file.name}",
            words,
            str(rig.folder),
            None if user else who,
            environment,
            [str(rig.folder), str(options.config_folder().resolve())],
        ),
        nl=False,
    )
    where = f"~/.config/systemd/user/direkt-{what}.service" if user else f"/etc/systemd/system/direkt-{what}.service"
    manager = "systemctl --user" if user else "systemctl"
    output.note(f"Put it into {where}; then: {manager} daemon-reload; {manager} enable --now direkt-{what}")
    if not user and who != getpass.getuser():
        output.note(f"It runs as {who}, who has to be able to read and write {rig.folder} and {options.config_folder()}")
    if os.environ.get("DIREKT_DATABASE"):
        output.note(
            "! DIREKT_DATABASE is set here and not in the unit, since it may hold a password: put it into the EnvironmentFile that the unit names"
        )
    return ExitCode.GOOD


def _owner(folder: Path) -> str:
    """Whose folder it is; empty where that is not known."""
    try:
        return folder.owner()
    except (OSError, KeyError):
        return ""
