"""The schedule while it runs: the service, and what it does at its times."""

from __future__ import annotations

import os
import secrets
import threading
import time
from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.work.steps import END, unbroken

if TYPE_CHECKING:
    from direkt.rig.file import Rig
    from direkt.store.entry import LogEntry, Outcome, Phase
    from direkt.watch.notify import Telling
    from direkt.work.live.end_findings import EndEvent
    from direkt.work.live.go_types import Crew, GoEvent
    from direkt.work.live.schedule_service import ServiceEvent
    from direkt.work.live.timetable import Turn
    from direkt.work.steps import Answer

_SETTLE = 40.0  # s that what is being done gets to come to a known state


class ScheduleRun:
    def __init__(self, rig: Rig, rig_path: Path | None, *, rehearsal: bool) -> None:
        from direkt.cli.service import Manager
        from direkt.cli.watch_parts import LogRecorder, Pool, telling_of
        from direkt.watch.notices import Notices
        from direkt.work.live.schedule_service import ScheduleService

        self.out = output.console()
        self.rig_path = rig_path if rig_path is not None else rig.path
        self.acts = _Acts(rig, rehearsal=rehearsal)
        self.clock = options.SystemClock()
        self.recorder = LogRecorder(rig)
        self.telling: Telling | None = None
        if rig.file.watch.notify:
            self.telling = telling_of(rig, lambda name, words, good: self._say(f"{name} {words}", good=good))
        self.notices = Notices()
        self.manager = Manager()
        self.deeds: dict[str, str] = {}  # by entry: what of it is being done
        self.service = ScheduleService(self._load, self.acts, self.clock, time.time, Pool(len(rig.file.schedule) + 2).submit)
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

        if isinstance(event, schedule_service.EntryBegins):
            self._say(f"{event.turn.entry}: {event.deed}s")
            deed = self.deeds[event.turn.entry] = secrets.token_hex(8)
            self.recorder.add(self._entry(event.turn, "good", f"{event.turn.entry}: {event.deed}s", deed, "began"))
        elif isinstance(event, schedule_service.Done):
            again = f"; again in {event.again:g} s" if event.again is not None else ""
            self._say(f"{event.turn.entry}: {event.deed}: {event.text}{again}", good=event.good)
            deed = self.deeds.pop(event.turn.entry, "")
            text = f"{event.turn.entry}: {event.deed}: {event.text}"
            self.recorder.add(self._entry(event.turn, "good" if event.good else "failed", text, deed, "ended" if deed else ""))
        elif isinstance(event, schedule_service.ScheduleNote):
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
    def _entry(turn: Turn, outcome: Outcome, text: str, deed: str, phase: Phase) -> LogEntry:
        from direkt.store.entry import LogEntry

        p = turn.planned
        return LogEntry(
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
            return False, f"interrupted; still on: {left}" if left else "interrupted; nothing is known to be on"
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
