"""The schedule as a service: looks at the clock every second, begins what is due, ends what is over, and takes no turn twice.

Pure decisions on what is known: the time, the turns, and what is remembered. What takes long runs elsewhere (``submit``), one
thing for each entry at a time. The wall clock is asked anew each time, since it may be set; after a jump nothing is decided for a
while, so that a clock that is wrong for a moment ends nothing.
"""

from __future__ import annotations

import contextlib
import datetime
import queue
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from direkt.errors import DirektError, UnusableInput
from direkt.platform import planned as planning
from direkt.rig.file import Rig
from direkt.store import event_memory, turns, wishes
from direkt.store.small_file import DamagedMemory
from direkt.store.turns import Taken
from direkt.work.live import timetable
from direkt.work.live.go_types import reason
from direkt.work.live.timetable import Turn
from direkt.work.steps import Job, StepClock

TICK = 1.0  # s
_JUMP = 5.0  # s by which the clock was set, from where on it is said
_CALM = 20.0  # s after a jump in which nothing is decided
_CALM_ENDS = 300.0  # s after a jump forward in which nothing is ended: the clock may be wrong for a moment
_CHECK = 86400.0  # s for which it holds that nothing overlaps
_RENEW = 600.0  # s for which turns that were worked out hold
_PAUSES = (15.0, 30.0, 60.0, 120.0, 300.0)  # s between tries
_LOOK_BACK = datetime.timedelta(days=2)


class Deed(StrEnum):
    """What is done by the clock."""

    BEGIN = "begin"
    END = "end"


@dataclass(frozen=True, slots=True)
class EntryBegins:
    """Something begins to be done."""

    deed: Deed
    turn: Turn


@dataclass(frozen=True, slots=True)
class Done:
    """How that went."""

    deed: Deed
    turn: Turn
    good: bool
    text: str
    again: float | None = None  # s until it is tried again


@dataclass(frozen=True, slots=True)
class ScheduleNote:
    """Something to know."""

    text: str
    good: bool = True


@dataclass(frozen=True, slots=True)
class NothingDue:
    """Nothing is due; told each second."""

    next: Turn | None


ServiceEvent = EntryBegins | Done | ScheduleNote | NothingDue


class Acts(Protocol):
    """What the service can do; each takes long, and runs elsewhere. They raise DirektError."""

    def begin(self, turn: Turn) -> tuple[bool, str]:
        """An event goes to air, a feed's push starts; whether that went well, and in words."""

    def end(self, turn: Turn) -> tuple[bool, str]:
        """The same ends, for certain."""


@dataclass(slots=True)
class _Try:
    deed: Deed
    mark: str
    count: int
    after: float  # steady: not before


class ScheduleService:
    """One schedule. ``load`` gives the rig as its file is now."""

    def __init__(
        self, load: Callable[[], Rig], acts: Acts, clock: StepClock, wall: Callable[[], float], submit: Callable[[Callable[[], None]], None]
    ) -> None:  # fmt: skip
        self._load, self._acts, self._clock, self._wall, self._submit = load, acts, clock, wall, submit
        self.rig = load()
        timetable.check(self.rig, self._now())
        self._checked = clock.now()  # when overlaps were looked for
        self._turns: dict[str, list[Turn]] = {}
        self._worked_out: float | None = None
        self._last: tuple[float, float] | None = None  # steady and wall
        self._calm = float("-inf")
        self._forward = float("-inf")  # when the clock was set forward
        self._doing: dict[str, Turn] = {}
        self._tries: dict[str, _Try] = {}
        self._results: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._out: deque[ServiceEvent] = deque()
        self._wrong = ""
        self.failing: dict[str, str] = {}  # what does not succeed, by entry

    def _now(self) -> datetime.datetime:
        return datetime.datetime.fromtimestamp(self._wall(), datetime.UTC)

    def run(self, seconds: float | None = None) -> Job[ServiceEvent, None]:
        """Until ``seconds`` are over, or it is interrupted. What is on stays on."""
        begin = self._clock.now()
        while seconds is None or self._clock.now() - begin < seconds:
            self.step()
            while self._out:
                yield self._out.popleft()
            yield NothingDue(self._next())
            self._clock.sleep(TICK)

    @property
    def doing(self) -> list[str]:
        """Entries of which something is being done."""
        return list(self._doing)

    def settle(self, seconds: float) -> list[ServiceEvent]:
        """Waits for what is being done; what became of it."""
        begin = self._clock.now()
        while self._doing and self._clock.now() - begin < seconds:
            self._take()
            self._clock.sleep(0.1)
        self._take()
        return list(self._out)

    def step(self) -> None:
        """One look at the clock."""
        steady, wall = self._clock.now(), self._wall()
        self._take()
        if self._last is not None:
            jump = (wall - self._last[1]) - (steady - self._last[0])
            if abs(jump) >= _JUMP:
                self._calm, self._worked_out = steady, None
                self._forward = steady if jump > 0 else float("-inf")
                self._say(
                    f"this machine's clock was set {abs(jump):.0f} s {'forward' if jump > 0 else 'back'}", good=False
                )
        self._last = (steady, wall)
        if steady - self._calm < _CALM:
            return
        if self._worked_out is None or steady - self._worked_out >= _RENEW:
            self._work_out(steady)
        remembered = self._remembered()
        if remembered is None:
            return
        now = self._now()
        for deed in (Deed.END, Deed.BEGIN):  # what is over ends before anything else begins
            for entry, some in self._turns.items():
                if entry not in self._doing:
                    self._decide(deed, entry, some, remembered.get(entry, Taken()), now, steady)
        self._left_over(remembered, now, steady)

    def _remembered(self) -> dict[str, Taken] | None:
        """What was taken before. A damaged file is put aside: what it told is not known any more, and that is said."""
        try:
            found = turns.read(self.rig.folder)
        except DamagedMemory:
            try:
                aside = turns.set_aside(self.rig.folder, self._clock.stamp() or f"{self._wall():.0f}")
            except UnusableInput as error:
                self._cannot(str(error))
                return None
            text = (
                f"what was begun before is not known: {turns.FILE_NAME} was damaged, and is put aside as {aside.name}; what is over by now and "
                "still on is not ended by the schedule: look with direkt watch"
            )
            self.failing[turns.FILE_NAME] = text
            self._say(text, good=False)
            found = {}
        except UnusableInput as error:
            self._cannot(str(error))
            return None
        if self._wrong:
            self._wrong = ""
            self.failing.pop(turns.FILE_NAME, None)
        return found

    def _cannot(self, text: str) -> None:
        if text != self._wrong:
            self._wrong = self.failing[turns.FILE_NAME] = text
            self._say(text, good=False)

    @property
    def _busy(self) -> set[str]:
        """Feeds to which something is being done."""
        return {feed for turn in self._doing.values() for feed in turn.feeds}

    def _left_over(self, remembered: dict[str, Taken], now: datetime.datetime, steady: float) -> None:
        """What was begun before a long down-time, and is over: it ends, or somebody is told."""
        for entry, known in remembered.items():
            if not known.mark or known.ended or known.until is None or known.until > now.timestamp() or entry in self._doing:
                continue
            if any(turn.mark == known.mark for turn in self._turns.get(entry, ())):
                continue
            scheduled = self.rig.file.schedule.get(entry)
            feeds = [f for f in known.feeds if f in self.rig.file.feeds]
            feeds = feeds or ([scheduled.feed] if scheduled is not None and scheduled.feed in self.rig.file.feeds else [])
            if scheduled is None or not feeds:
                self._tell_of(entry, f"it was begun by the schedule and is not in it any more; it may be on: direkt stop {' '.join(feeds) or '--all'}")
                continue
            end = datetime.datetime.fromtimestamp(known.until, datetime.UTC)
            self._do(Deed.END, Turn(entry, tuple(feeds), end, end, end, known.mark), steady)
        for event in event_memory.every(self.rig.folder):
            entry = next((name for name, e in self.rig.file.schedule.items() if e.event == event.event), "")
            if not entry or entry in self._doing or not event.begun or (event.ended and not event.paused):
                continue
            if any(turn.mark == event.mark for turn in self._turns.get(entry, ())):
                continue
            planned = None
            with contextlib.suppress(UnusableInput):
                planned = planning.by_mark(self.rig, event.event, event.mark)
            if planned is None:
                self._tell_of(entry, f"{event.event} was begun at a time that the rig does not have any more; it may be on: direkt stop {event.event}")
            elif planned.end <= now:
                self._do(Deed.END, Turn(entry, tuple(planned.entry.feeds), planned.start, planned.start, planned.end, event.mark, planned), steady)

    def _tell_of(self, entry: str, text: str) -> None:
        """Something that a person has to look at, told once and kept."""
        if self.failing.get(entry) != text:
            self.failing[entry] = text
            self._say(f"{entry}: {text}", good=False)

    def _say(self, text: str, *, good: bool = True) -> None:
        self._out.append(ScheduleNote(text, good))

    def _take(self) -> None:
        for _ in range(self._results.qsize()):
            self._results.get()()

    def _work_out(self, steady: float) -> None:
        """The turns around now, of the rig as it is now; of a rig that cannot be used, those of before."""
        self._worked_out = steady
        now = self._now()
        try:
            rig = self._load()
            if rig.file != self.rig.file or steady - self._checked >= _CHECK:
                timetable.check(rig, now)
                self._checked = steady
            limit = now + datetime.timedelta(days=3)
            turns = {
                name: list(timetable.iter_while(timetable.turns(rig, name, now, past=_LOOK_BACK), limit))
                for name in rig.file.schedule
            }
        except DirektError as error:
            self._say(f"the rig cannot be used, the schedule of before holds: {reason(error)}", good=False)
            return
        for name in self._turns:
            if name not in turns:
                self._say(f"{name} is not in the schedule any more: what of it is on stays on")
        self.rig, self._turns = rig, turns

    def look_again(self) -> None:
        """The rig's file has changed."""
        self._worked_out = None

    def _next(self) -> Turn | None:
        now = self._now()
        return min(
            (t for some in self._turns.values() for t in some if t.begin > now), key=lambda t: t.begin, default=None
        )

    # What is due

    def _decide(
        self, deed: Deed, entry: str, some: list[Turn], known: Taken, now: datetime.datetime, steady: float
    ) -> None:  # fmt: skip
        for turn in some:
            over = turn.end is not None and turn.end <= now
            if set(turn.feeds) & self._busy:
                continue
            if deed is Deed.END and over and self._has_to_end(turn, known):
                if steady - self._forward < _CALM_ENDS:
                    return  # the clock was set forward a moment ago: it may be wrong
                if turn.planned is None and (other := self._goes_on(turn, now)) is not None:
                    self._hand_over(turn, other)
                else:
                    self._do(Deed.END, turn, steady)
                return
            if deed is Deed.BEGIN and not over and turn.begin <= now and self._may_begin(turn, known):
                self._do(Deed.BEGIN, turn, steady)
                return

    def _goes_on(self, over: Turn, now: datetime.datetime) -> Turn | None:
        """The turn that wants the same pushes on now; None: none does."""
        others = (t for entry, some in self._turns.items() for t in some if entry != over.entry)
        return next((t for t in others if t.begin <= now < t.until and set(over.feeds) <= set(t.feeds)), None)

    def _hand_over(self, over: Turn, other: Turn) -> None:
        """A window that touches another one ends without its push."""
        try:
            turns.change(self.rig.folder, over.entry, lambda old: old.model_copy(update={"ended": True}))
        except UnusableInput as error:
            self._cannot(str(error))
            return
        self._say(f"{over.entry} is over; {', '.join(over.feeds)} stays on for {other.entry}")

    def _has_to_end(self, turn: Turn, known: Taken) -> bool:
        if turn.planned is not None:
            try:
                at = event_memory.read(self.rig.folder, turn.planned.name, turn.mark)
            except UnusableInput as error:
                self._tell_of(turn.entry, f"{error}; it may still be on: direkt stop {turn.planned.name}")
                return False
            return bool(at.begun) and (not at.ended or bool(at.paused))
        return known.mark == turn.mark and not known.ended

    def _may_begin(self, turn: Turn, known: Taken) -> bool:
        """Whether nobody began it, or this service has not seen yet whether it is on; and nobody ended it."""
        wished = wishes.read(self.rig.folder).on
        unseen = turn.entry not in self._seen and all(wished.get(feed) is not False for feed in turn.feeds)
        by_clock = known.mark == turn.mark and known.ended  # it is on now, and was ended: the clock was wrong then
        if turn.planned is not None:
            with contextlib.suppress(UnusableInput):
                at = event_memory.read(self.rig.folder, turn.planned.name, turn.mark)
                if at.ended and not at.paused and by_clock:
                    text = f"{turn.planned.name} was ended while this machine's clock was wrong; a closed event stays closed: change its start in the rig"
                    self._tell_of(turn.entry, text)
                return not at.ended and not at.paused and (not at.on_air or unseen)
            return False
        if by_clock:
            self._say(f"{turn.entry} was ended while this machine's clock was wrong: it begins again", good=False)
            return True
        return known.mark != turn.mark or unseen

    @property
    def _seen(self) -> set[str]:
        """Entries that were begun well by this service."""
        return {name for name, one in self._tries.items() if one.count < 0 and one.deed is Deed.BEGIN}

    def _do(self, deed: Deed, turn: Turn, steady: float) -> None:
        tried = self._tries.get(turn.entry)
        if tried is None or (tried.deed, tried.mark) != (deed, turn.mark):
            tried = self._tries[turn.entry] = _Try(deed, turn.mark, 0, float("-inf"))
        if steady < tried.after:
            return
        if turn.planned is None and deed is Deed.BEGIN:
            until = turn.end.timestamp() if turn.end is not None else None
            try:
                feeds = list(turn.feeds)
                turns.change(self.rig.folder, turn.entry, lambda _: Taken(mark=turn.mark, until=until, feeds=feeds))
            except UnusableInput as error:
                tried.after = steady + _PAUSES[0]
                self._say(str(error), good=False)
                return
        self._doing[turn.entry] = turn
        self._out.append(EntryBegins(deed, turn))
        act = self._acts.begin if deed is Deed.BEGIN else self._acts.end

        def run() -> None:
            try:
                good, text = act(turn)
            except DirektError as error:
                good, text = False, reason(error)
            except Exception as error:  # what nobody has thought of ends one try, not the service
                good, text = False, f"it failed ({type(error).__name__})"
            self._results.put(lambda: self._became(deed, turn, good, text))

        self._submit(run)

    def _became(self, deed: Deed, turn: Turn, good: bool, text: str) -> None:
        self._doing.pop(turn.entry, None)
        tried = self._tries[turn.entry]
        again: float | None = None
        if good:
            self.failing.pop(turn.entry, None)
            tried.count = -1
            if deed is Deed.END:
                with contextlib.suppress(UnusableInput):
                    turns.change(self.rig.folder, turn.entry, lambda old: old.model_copy(update={"mark": turn.mark, "ended": True}))
        else:
            again = _PAUSES[min(max(0, tried.count), len(_PAUSES) - 1)]
            tried.count = max(0, tried.count) + 1
            tried.after = self._clock.now() + again
            self.failing[turn.entry] = text
            if turn.planned is None and deed is Deed.BEGIN:  # so that it is tried again
                with contextlib.suppress(UnusableInput):
                    turns.change(self.rig.folder, turn.entry, lambda _: Taken())
        self._out.append(Done(deed, turn, good, text, again))
