"""The watch itself: asks in turn, judges, mends, and shows; one loop, whatever the number of feeds.

Strategy. All that waits for somebody else (a device, a platform, a mend) runs in a pool and hands its result back through a
queue; the loop only takes results, judges, and hands out what is due. Nobody is asked again before they have answered, so a slow
device delays nobody but itself, and memory holds one look for each. The loop costs O(feeds) every half second.
"""

from __future__ import annotations

import heapq
import itertools
import queue
import secrets
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Literal, TypeVar

from direkt.errors import DirektError
from direkt.rig.events import EventState
from direkt.store.usage import Usage
from direkt.store.wishes import Wishes
from direkt.watch import causes, conditions, rows
from direkt.watch.board import Board, EventRow, FeedRow, Happening, NextEvent, Warned
from direkt.watch.causes import CommonCause
from direkt.watch.conditions import Machine
from direkt.watch.looks import DeviceLook, EventLook
from direkt.watch.notices import Key, Notices
from direkt.watch.policy import Act, Mending, RestartTerms
from direkt.watch.tracker import FeedState, Tracker
from direkt.watch.watch_events import (
    ActionBegan,
    Command,
    Followed,
    Frame,
    Happened,
    MachineLook,
    Setup,
    WatchEvent,
    World,
)
from direkt.work.live.go_types import reason
from direkt.work.steps import Job, StepClock

Found = TypeVar("Found")

_TICKS = (0.25, 0.5)  # s, of a watch of few feeds and of one of many
_FEW = 20
_SOONEST, _LATEST = 0.7, 4.0  # s between looks at one device
_POLITE = 60.0  # looks a second, all together
_BEARS = 4.0  # times as long as it takes to answer, a device or platform is left alone
_EVENT_SOONEST = 1.0  # s between looks at one event
_JUMP = 5.0  # s by which this machine's clock was set, from where on it is said
_CALM = 120.0  # s after that in which nothing is said by the clock
_LATE, _LATE_KEPT = 2.0, 30.0  # s of lateness that are worth a word, and for how long that is said
_STALE = 5.0  # s after the watch was late in which drops are neither judged nor mended
_TOGETHER = 3.5  # s that a drop waits to be told, where others may follow
_SURE = 2.0  # s that a cause in common has to hold
_CANARY = RestartTerms(push=1000, device=0, within=3600.0, pause=20.0)  # one feed alone is tried while many have one cause
_EVENTS_EVERY = 5.0  # s between looks at which events go on
_MACHINE_EVERY = 30.0
_CERTIFICATES_EVERY = 6 * 3600.0
_KEEP_EVERY = 30.0
_AFTER_FAILURE = 10.0
_MOST_HAPPENINGS = 200
_SMOOTH = 25.0  # s over which the rate of what goes out is levelled
_MOST_COMMANDS = 20
_UNDO = 600.0  # s for which a stop from the page can be undone there
_MUTED = 3600.0  # s


@dataclass(slots=True)
class _Doing:
    act: Act | None  # None: stop
    feed: str
    began: float
    by_person: bool
    canary: bool = False  # to find out whether what many feeds have in common is over


class Watcher:
    """One watch. ``submit`` runs a function somewhere; what it returns comes back by the queue that it fills itself."""

    def __init__(
        self, world: World, setup: Setup, clock: StepClock, wall: Callable[[], float], submit: Callable[[Callable[[], None]], None],
        usage: Usage,
    ) -> None:  # fmt: skip
        self.world, self.setup, self.clock, self.wall, self._submit, self.usage = (
            world,
            setup,
            clock,
            wall,
            submit,
            usage,
        )
        now = clock.now()
        self._begin, self._begin_wall = now, wall()
        self.trackers = {facts.name: Tracker(facts, now) for facts in setup.feeds}
        self.mendings = {facts.name: Mending(setup.terms) for facts in setup.feeds}
        for feed, act, ago in setup.earlier:
            if feed in self.mendings:
                self.mendings[feed].remember(act, now - ago)
        self._devices: dict[str, DeviceLook] = {}
        self._silent: dict[str, float] = {}
        self._of_device: dict[str, list[str]] = {}
        for facts in setup.feeds:
            if not facts.by_hand:
                self._of_device.setdefault(facts.device, []).append(facts.name)
        self._events: dict[str, Followed] = {}
        self._event_looks: dict[str, EventLook] = {}
        self._event_silent: dict[str, float] = {}
        self._asked_events: set[str] = set()  # those that have a look before them
        self._next: NextEvent | None = None
        self._machine = MachineLook(None)
        self._certificates: Mapping[str, float] = {}
        self.notices = Notices()
        self._happenings: deque[Happening] = deque(maxlen=_MOST_HAPPENINGS)
        self._out: deque[WatchEvent] = deque()
        self._results: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._commands: queue.Queue[Command] = queue.Queue(_MOST_COMMANDS)
        self._doing: dict[str, _Doing] = {}  # by device, or by feed where that is carried
        self._restarts: dict[str, int] = {}
        self._given_up: dict[str, str] = {}
        self._stopped_from_page: dict[str, float] = {}
        self._wishes = Wishes({}, frozenset())
        self._rate = 0.0  # bytes/s
        self._kept = now
        self._stepped: tuple[float, float] | None = None  # when it looked last, steady and wall
        self._calm = float("-inf")  # when this machine's clock was set
        self._lates: deque[tuple[float, float]] = deque(maxlen=100)  # when it was late, and by how much
        self.cause: CommonCause | None = None
        self._found_since: tuple[str, float] | None = None  # which cause, and since when
        self._cause_over = float("-inf")
        self._canary = Mending(_CANARY)
        self._answers: dict[str, float] = {}  # s that the last answer of a device or event took
        self._limits: dict[str, tuple[float, float]] = {}  # by event: when its limit was reckoned, and what was left
        self._due: list[tuple[float, int, str]] = []
        self._numbers = itertools.count()
        self._plan_jobs(now)

    # What is due

    @property
    def period(self) -> float:
        """s between looks at one device."""
        return self.setup.period or min(_LATEST, max(_SOONEST, len(self._of_device) / _POLITE))

    def _pause(self, job: str) -> float:
        """s between looks: as often as it bears."""
        least = self.period if job.startswith("device") or self.setup.period else max(_EVENT_SOONEST, self.period)
        return max(least, min(10.0, _BEARS * self._answers.get(job, 0.0)))

    @property
    def tick(self) -> float:
        """s between turns of the loop."""
        return _TICKS[len(self.trackers) > _FEW]

    @property
    def late(self) -> float:
        """s by which the watch was late at the worst, in the last half minute."""
        now = self.clock.now()
        return max((by for at, by in self._lates if now - at <= _LATE_KEPT), default=0.0)

    @property
    def oldest(self) -> float:
        """s since the oldest of the looks that are due."""
        now = self.clock.now()
        return max((now - look.at for look in self._devices.values()), default=0.0)

    def _plan_jobs(self, now: float) -> None:
        for name in ("followed", "machine", "certificates"):
            self._at(now, name)
        spread = self.period / max(1, len(self._of_device))
        for n, device in enumerate(self._of_device):
            self._at(now + n * spread, f"device {device}")

    def _at(self, when: float, job: str) -> None:
        heapq.heappush(self._due, (when, next(self._numbers), job))

    def _hand_out(self, now: float) -> None:
        while self._due and self._due[0][0] <= now:
            _, _, job = heapq.heappop(self._due)
            kind, _, name = job.partition(" ")
            later = self._later(job)
            if kind == "device":
                if name in self._doing:  # it is being restarted: that asks enough
                    self._at(now + self.period, job)
                else:
                    took = self._took_device(name, job)
                    self._ask(partial(self.world.device, name), took, partial(self._odd_device, took))
            elif kind == "event":
                followed = self._events.get(name)
                if followed is None:
                    self._asked_events.discard(name)
                else:
                    self._ask(partial(self.world.event, followed), self._took_event(name, job), later)
            elif kind == "followed":
                self._ask(self.world.followed, self._took_followed, later)
            elif kind == "machine":
                self._ask(self.world.machine, self._took_machine, later)
            else:
                self._ask(self.world.certificates, self._took_certificates, later)

    def _later(self, job: str) -> Callable[[str], None]:
        def then(words: str) -> None:
            self._at(self.clock.now() + _AFTER_FAILURE, job)
            self._happen("note", job, f"it could not be looked at ({words})", good=False)

        return then

    def _odd_device(self, took: Callable[[DeviceLook], None], words: str) -> None:
        took(DeviceLook(self.clock.now(), f"it could not be read ({words})"))

    def _ask(self, look: Callable[[], Found], then: Callable[[Found], None], failed: Callable[[str], None]) -> None:
        """Looks in the pool. What nobody has thought of ends one look, not the watch: ``failed`` is given its name."""

        def run() -> None:
            try:
                result = look()
            except Exception as error:
                words = type(error).__name__
                self._results.put(lambda: failed(words))
            else:
                self._results.put(lambda: then(result))

        self._submit(run)

    def _took_device(self, name: str, job: str) -> Callable[[DeviceLook], None]:
        asked = self.clock.now()

        def then(look: DeviceLook) -> None:
            now = self.clock.now()
            self._answers[job] = look.at - look.began if look.began and not look.error else 0.0
            self._at(max(asked + self._pause(job), now + 0.2), job)
            self._devices[name] = look
            if look.error:
                self._silent.setdefault(name, now)
            else:
                self._silent.pop(name, None)
            for feed in self._of_device[name]:
                tracker = self.trackers[feed]
                tracker.take_device(look)
                slot = look.slots.get(tracker.facts.slot)
                if slot is not None and not tracker.facts.carried and not look.error:
                    self.usage.count(feed, slot.sent_bytes)

        return then

    def _took_followed(self, found: tuple[Sequence[Followed], NextEvent | None]) -> None:
        now = self.clock.now()
        self._at(now + _EVENTS_EVERY, "followed")
        events, self._next = found
        known, self._events = self._events, {one.key: one for one in events}
        for key, one in self._events.items():
            if one.asked and key not in self._asked_events:
                self._asked_events.add(key)
                self._at(now, f"event {key}")
        for key in known:
            if key not in self._events:
                self._event_looks.pop(key, None)
                self._event_silent.pop(key, None)
        self._spread_events()

    def _took_event(self, key: str, job: str) -> Callable[[EventLook], None]:
        asked = self.clock.now()

        def then(look: EventLook) -> None:
            if key not in self._events:
                self._asked_events.discard(key)
                return
            now = self.clock.now()
            self._answers[job] = max(0.0, look.at - asked) if not look.error else 0.0
            self._at(max(asked + self._pause(job), now + 0.2), job)
            if look.error:
                self._event_silent.setdefault(key, now)
                before = self._event_looks.get(key)
                if before is not None:  # what it said last, and that it does not say it any more
                    look = EventLook(look.at, look.error, before.known, before.state, before.watch, other_key=before.other_key)
            else:
                self._event_silent.pop(key, None)
            self._event_looks[key] = look
            self._spread_events()

        return then

    def _spread_events(self) -> None:
        by_feed = {feed: key for key, one in self._events.items() for feed in one.feeds}
        for name, tracker in self.trackers.items():
            look = self._event_looks.get(by_feed[name]) if name in by_feed else None
            if look is not None and self._shares_input(name, self._events[by_feed[name]]):
                look = replace(look, told=False, inputs=())  # which of them arrives, nobody tells
            tracker.take_event(look)

    def _shares_input(self, name: str, one: Followed) -> bool:
        """Whether another feed of the event goes to the same input."""
        role = self.trackers[name].facts.role
        return sum(self.trackers[feed].facts.role == role for feed in one.feeds if feed in self.trackers) > 1

    def _took_machine(self, look: MachineLook) -> None:
        self._at(self.clock.now() + _MACHINE_EVERY, "machine")
        self._machine = look

    def _took_certificates(self, found: Mapping[str, float]) -> None:
        self._at(self.clock.now() + _CERTIFICATES_EVERY, "certificates")
        self._certificates = found

    # The loop

    def ask(self, command: Command) -> bool:
        """From any thread: a person wants that; False: too many do."""
        try:
            self._commands.put_nowait(command)
        except queue.Full:
            return False
        return True

    def run(self, seconds: float | None = None) -> Job[WatchEvent, Board]:
        """Watches for ``seconds``, or until it is interrupted; the last board. Pushes are left as they are."""
        board = self.board()
        try:
            while seconds is None or self.clock.now() - self._begin < seconds:
                self.step()
                while self._out:
                    yield self._out.popleft()
                board = self.board()
                yield Frame(board)
                self.clock.sleep(self.tick)
        finally:
            self.usage.keep()
        return board

    def step(self) -> None:
        """One turn."""
        now = self.clock.now()
        sent = self.usage.sent
        self._look_at_self(now)
        self._hand_out(now)
        for _ in range(self._results.qsize()):
            self._results.get()()
        self._wishes = self.world.wishes()
        for name, tracker in self.trackers.items():
            if tracker.facts.carried:
                self._look_at_carried(name, tracker, now)
        if now - self._late_at > _STALE:
            self._judge(now)
        self._find_cause(now)
        self._rate += (max(0, self.usage.sent - sent) / self.tick - self._rate) * min(1.0, self.tick / _SMOOTH)
        if now - self._kept > _KEEP_EVERY:
            self._kept = now
            self.usage.keep()
        self._tell(now)
        self._commanded()
        if self.setup.mend and now - self._late_at > _STALE:
            self._mend(now)

    @property
    def _late_at(self) -> float:
        """When the watch was late last."""
        return self._lates[-1][0] if self._lates else float("-inf")

    def _look_at_self(self, now: float) -> None:
        """Whether this machine gives the watch its turn, and whether its clock was set."""
        wall = self.wall()
        before, self._stepped = self._stepped, (now, wall)
        if before is None:
            return
        late, jump = now - before[0] - self.tick, (wall - before[1]) - (now - before[0])
        if late >= _LATE and self._devices:
            if now - self._late_at > _LATE_KEPT:
                self._happen("note", "this machine", f"the watch was {late:.0f} s late: this machine is too busy, or it slept", good=False)
            self._lates.append((now, late))
        if abs(jump) >= _JUMP:
            self._calm = now
            how = f"{abs(jump):.0f} s {'forward' if jump > 0 else 'back'}"
            self._happen("note", "this machine", f"its clock was set {how}: nothing is said by it for {_CALM / 60:.0f} min", good=False)

    @property
    def _is_calm(self) -> bool:
        """Whether this machine's clock was just set."""
        return self.clock.now() - self._calm < _CALM

    def _find_cause(self, now: float) -> None:
        """What many drops have in common; it is told once, and mending waits."""
        asked = [key for key, one in self._events.items() if one.asked]
        silent = {key: at for key, at in self._event_silent.items() if key in asked}
        before = self.cause
        found = causes.find(list(self.trackers.values()), self._silent, silent, len(asked), now)
        if found is None or self._found_since is None or (found.kind != self._found_since[0] and before is None):
            self._found_since = (found.kind, now) if found is not None else None
        settled = self._found_since is not None and now - self._found_since[1] >= _SURE
        self.cause = found if found is None or before is not None or settled else None
        if self.cause is not None and (before is None or before.kind != self.cause.kind):
            self._happen("note", self.cause.name, self.cause.text, good=False)
            self._canary = Mending(_CANARY)
        elif self.cause is None and before is not None:
            self._cause_over = now
            self._happen("note", before.name, f"not all of {len(before.feeds)} feeds are off any more")

    def _look_at_carried(self, name: str, tracker: Tracker, now: float) -> None:
        if tracker.carrying is None or now - tracker.carrying.at >= 1.0:
            look = self.world.carried(name)
            tracker.take_carried(look)
            if look.running is not None:
                self.usage.count(name, look.running.sent)

    def _judge(self, now: float) -> None:
        for name, tracker in self.trackers.items():
            if self._place(name) in self._doing:
                continue
            before, dropped, person, known = tracker.state, tracker.dropped, tracker.stopped_by_person, tracker.known
            w = self._wishes
            tracker.judge(now, w.on.get(name), mending=name in w.mending, at_device=name in w.at_device)
            self._news(name, tracker, before, dropped, now, known=known)
            if self.setup.mend and tracker.started_by_person:
                self.world.wish(name, True)
                self._happen("note", name, "somebody started it again at the device: it is looked after again")
            if self.setup.mend and tracker.stopped_by_person and not person and self._wishes.on.get(name):
                self.world.wish(name, False, at_device=True)

    def _news(
        self, name: str, tracker: Tracker, before: FeedState, dropped: float | None, now: float, *, known: bool
    ) -> None:  # fmt: skip
        if tracker.state is before:
            return
        if tracker.state is FeedState.DROPPED and tracker.wanted:
            self._happen("drop", name, f"dropped: {tracker.text}", good=False)
        elif before is FeedState.DROPPED and tracker.state is FeedState.ON and dropped is not None:
            self.mendings[name].well()
            self._given_up.pop(name, None)
            self._happen("well", name, f"recovered after {now - dropped:.0f} s", seconds=now - dropped)
        elif before is FeedState.DROPPED and dropped is not None:
            self._given_up.pop(name, None)
            self._happen("note", name, f"{tracker.state} after {now - dropped:.0f} s dropped", seconds=now - dropped)
        elif tracker.state is FeedState.STOPPED:
            self._happen("note", name, f"{tracker.text}: it is left off", good=False)
        elif known:
            self._happen("note", name, f"{tracker.state}" + (f": {tracker.text}" if tracker.text else ""))
        if tracker.state is FeedState.ON:
            self.mendings[name].well()

    def _happen(
        self,
        what: str,
        name: str,
        text: str,
        *,
        good: bool = True,
        seconds: float | None = None,
        act: Act | None = None,
        deed: str = "",
        by: Literal["watch", "page"] = "watch",
    ) -> None:
        happening = Happening(self.wall(), what, name, text, good)
        self._happenings.appendleft(happening)
        tracker = self.trackers.get(name)
        event = next((e for e in self._events.values() if name in e.feeds), None)
        facts = tracker.facts if tracker is not None else None
        self._out.append(Happened(
            happening, name if facts is not None else "", facts.device if facts is not None else "",
            facts.destination if facts is not None else "", event.name if event is not None else "", event.mark if event is not None else "",
            round(seconds, 1) if seconds is not None else None, act, by, event is not None and event.asked, deed,
        ))  # fmt: skip

    def note(self, name: str, text: str, *, good: bool) -> None:
        """Something for the list of what happened, from whoever drives the watch."""
        self._happenings.appendleft(Happening(self.wall(), "tell", name, text, good))

    # Telling

    def _tell(self, now: float) -> None:
        wall = self.wall()
        trackers = list(self.trackers.values())
        names = {feed: one.name for one in self._events.values() for feed in one.feeds}
        on_air = {feed for one in self._events.values() if one.on_air for feed in one.feeds}
        wanted = {t.facts.device for t in trackers if t.wanted}
        machine = Machine(self._machine.disk_free, self.setup.plan, self.usage.sent, self._rate, self._certificates)
        cause = self.cause
        held = cause.feeds if cause is not None else frozenset()
        held_devices = {self.trackers[name].facts.device for name in held}
        several = sum(t.wanted for t in trackers) >= causes.LEAST
        line = cause is not None and cause.kind in ("line", "network")
        found = dict(itertools.chain(
            conditions.of_watch(self.late), [conditions.of_cause(cause)] if cause is not None else [],
            conditions.of_feeds(trackers, names, on_air, self._given_up, now, held, _TOGETHER if several else 0.0),
            conditions.of_devices(self._devices, self._silent, wanted, self.setup.bounds, now, held_devices),
            conditions.of_events(
                [self._running(one, wall) for one in self._events.values()], self.setup.bounds, now, wall, calm=self._is_calm, held=line
            ),
            conditions.of_machine(machine, self.setup.bounds),
        ))  # fmt: skip
        for notice in self.notices.update(found, now, wall):
            self._out.append(notice)

    def _running(self, one: Followed, wall: float) -> conditions.RunningEvent:
        look = self._event_looks.get(one.key)
        return conditions.RunningEvent(
            one.name, one.platform, one.end, look.error if look is not None else "", self._event_silent.get(one.key), self._limit(one, look, wall),
            one.on_air, look is not None and look.state is EventState.CLOSED,
        )  # fmt: skip

    def _limit(self, one: Followed, look: EventLook | None, wall: float) -> float | None:
        """s until the platform ends the push; while this machine's clock was just set, by the steady one."""
        now, kept = self.clock.now(), self._limits.get(one.key)
        if self._is_calm and kept is not None:
            return kept[1] - (now - kept[0])
        found = rows.limit(one, look, wall)
        if found is not None and not self._is_calm:
            self._limits[one.key] = (now, found)
        return found

    # Mending

    def _place(self, feed: str) -> str:
        facts = self.trackers[feed].facts
        return f"carried {feed}" if facts.carried else facts.device

    def _mend(self, now: float) -> None:
        for name, tracker in self.trackers.items():
            place = self._place(name)
            if place in self._doing or tracker.facts.by_hand:
                continue
            if tracker.state is not FeedState.DROPPED or not tracker.wanted or tracker.dropped is None:
                continue
            device = self._devices.get(tracker.facts.device)
            if not tracker.facts.carried and (device is None or device.error):
                continue  # it does not answer: nothing can be done until it does
            if tracker.contradicted:
                continue  # the ingest has it
            if self.cause is not None and name in self.cause.feeds:
                if name == self._canary_name() and self._canary.due(tracker.dropped, now, device=False) is Act.PUSH:
                    self._do(_Doing(Act.PUSH, name, now, False, True), place)
                continue
            since = max(tracker.dropped, self._cause_over)
            act = self.mendings[name].due(since, now, device=self._may_restart(tracker), returned=tracker.returned)
            if act is Act.NOTHING and name in self._given_up:
                continue  # until some of what was tried is long enough ago
            if act is Act.NOTHING:
                terms = self.setup.terms
                tried = [
                    f"{self.mendings[name].count(a, now)} times: {a}"
                    for a in (Act.PUSH, Act.DEVICE)
                    if self.mendings[name].count(a, now)
                ]
                self._given_up[name] = (
                    f"tried {' and '.join(tried)} within {terms.within / 60:.0f} min"
                    if tried
                    else "it is not restarted by itself"
                )
                self._happen("note", name, f"{self._given_up[name]}: a person has to look", good=False)
            elif act is not None:
                self._given_up.pop(name, None)
                self._do(_Doing(act, name, now, False), place)

    def _canary_name(self) -> str:
        """The one feed that is tried while many have one cause: the first that a program reaches."""
        assert self.cause is not None
        able = [name for name, t in self.trackers.items() if name in self.cause.feeds and not t.facts.by_hand and not t.contradicted]
        return next((name for name in able if (d := self._devices.get(self.trackers[name].facts.device)) is None or not d.error), "")

    def _may_restart(self, tracker: Tracker) -> bool:
        """Whether nothing else that this device pushes would be lost with a restart, and nothing of it begins soon."""
        if tracker.facts.carried or tracker.facts.device in self.setup.quiet(self.wall()):
            return False
        others = (
            self.trackers[name] for name in self._of_device.get(tracker.facts.device, []) if name != tracker.facts.name
        )
        return not any(one.state in (FeedState.ON, FeedState.STARTING) for one in others)

    def _commanded(self) -> None:
        for _ in range(self._commands.qsize()):
            command = self._commands.get()
            if command.what in ("seen", "mute", "unmute"):
                self._noticed(command)
                continue
            if command.feed not in self.trackers or self.trackers[command.feed].facts.by_hand:
                continue
            place = self._place(command.feed)
            if place in self._doing:
                self._happen("note", command.feed, "something is being done to it already", good=False)
                continue
            act = None if command.what == "stop" else Act.PUSH
            self._do(_Doing(act, command.feed, self.clock.now(), True), place)

    def _noticed(self, command: Command) -> None:
        """Somebody has seen a warning, or does not want to be reminded of it for an hour."""
        kind, _, name = command.feed.partition(" ")
        key, wall = Key(kind, name), self.wall()
        if command.what == "seen" and self.notices.acknowledge(key, wall):
            self._happen("note", name, f"somebody has seen it: {self.notices.current[key].text}")
        elif command.what == "mute" and self.notices.mute(key, wall + _MUTED):
            self._happen("note", name, f"muted for {_MUTED / 60:.0f} min: {self.notices.current[key].text}")
        elif command.what == "unmute" and self.notices.mute(key, 0.0):
            self._happen("note", name, f"not muted any more: {self.notices.current[key].text}")

    def _do(self, doing: _Doing, place: str) -> None:
        self._doing[place] = doing
        feed = doing.feed
        device, deed = self.trackers[feed].facts.device, secrets.token_hex(8)
        event = next((e for e in self._events.values() if feed in e.feeds), None)
        self._out.append(ActionBegan(
            "stop" if doing.act is None else "mend", doing.act.value if doing.act is not None else "stop the push", deed, feed, device,
            self.trackers[feed].facts.destination, event.name if event is not None else "", event.mark if event is not None else "",
        ))  # fmt: skip

        def run() -> tuple[bool, str]:
            try:
                if doing.act is None:
                    return True, self.world.stop(feed)
                if doing.act is Act.DEVICE:
                    return True, f"{self.world.restart(device)}; {self.world.start(feed)}"
                return True, self.world.start(feed)
            except DirektError as error:
                return False, reason(error)

        def then(result: tuple[bool, str]) -> None:
            now = self.clock.now()
            del self._doing[place]
            good, words = result
            if doing.act is None and doing.by_person and good:
                self._stopped_from_page[feed] = now
            if doing.act is not None:
                self._stopped_from_page.pop(feed, None)
                self._restarts[feed] = self._restarts.get(feed, 0) + 1
                self.trackers[feed].stopped_by_person = False
                if doing.canary:
                    self._canary.did(doing.act, doing.began, now)
                elif doing.by_person:
                    self.mendings[feed].well()
                    self._given_up.pop(feed, None)
                else:
                    self.mendings[feed].did(doing.act, doing.began, now)
            who = "from the page" if doing.by_person else "by the watch"
            what = {Act.PUSH: "push started again", Act.DEVICE: "device restarted", None: "push stopped"}[doing.act]
            self._happen(
                "stop" if doing.act is None else "mend", feed, f"{what} {who}: {words}", good=good, act=doing.act, deed=deed,
                by="page" if doing.by_person else "watch",
            )

        self._ask(run, then, lambda words: then((False, f"it failed ({words})")))

    @property
    def names(self) -> set[str]:
        """What it looks after, by the names under which it tells of them."""
        events = {f"{one.name} at {one.platform}" for one in self._events.values()} | {one.name for one in self._events.values()}
        return {*self.trackers, *self._of_device, *self._certificates, *events, "this machine", "the line"}

    @property
    def doing(self) -> list[str]:
        """What is being done to feeds at this moment, in words."""
        words = {Act.PUSH: "is being started again", Act.DEVICE: "has its device restarted", None: "is being stopped"}
        return [f"{one.feed} {words[one.act]}" for one in self._doing.values()]

    def settle(self, seconds: float) -> list[str]:
        """Waits until nothing is being done any more, at most so long; what still is."""
        begin = self.clock.now()
        while self._doing and self.clock.now() - begin < seconds:
            for _ in range(self._results.qsize()):
                self._results.get()()
            self.clock.sleep(0.1)
        return self.doing

    # The board

    def board(self) -> Board:
        """Everything as it stands."""
        now, wall = self.clock.now(), self.wall()
        by_feed = {feed: one for one in self._events.values() for feed in one.feeds}
        warnings = [
            Warned(
                key.kind, key.name, c.weight, c.text, c.advice, self.notices.since(key) or wall, self.notices.acknowledged(key),
                self.notices.muted(key, wall),
            ) for key, c in self.notices.current.items()
        ]  # fmt: skip
        warnings.sort(key=lambda w: (w.kind not in ("late", "cause"), w.weight != "fail", w.since, w.name))
        plan = self.setup.plan
        return Board(
            self.setup.rig, wall, self._begin_wall,
            tuple(self._row(name, t, by_feed.get(name), now) for name, t in self.trackers.items()),
            tuple(self._event_row(one, wall) for one in self._events.values()),
            tuple(warnings), tuple(self._happenings), self._next,
            self.usage.sent / 1e9 if plan is not None else None, plan / 1e9 if plan is not None else None,
            {name: look.temperature for name, look in self._devices.items() if not look.error}, self.late, self.oldest,
        )  # fmt: skip

    def _event_row(self, one: Followed, wall: float) -> EventRow:
        look = self._event_looks.get(one.key)
        return rows.event_row(one, look, self._limit(one, look, wall))

    def _row(self, name: str, one: Tracker, event: Followed | None, now: float) -> FeedRow:
        doing = self._doing.get(self._place(name))
        words = {
            Act.PUSH: "its push is being started again", Act.DEVICE: "its device is being restarted", None: "it is being stopped",
        }  # fmt: skip
        return rows.feed_row(
            one, event, self._devices.get(one.facts.device), now, restarts=self._restarts.get(name, 0),
            doing=words[doing.act] if doing is not None and doing.feed == name else "", mending=doing is not None,
            undo=now - self._stopped_from_page.get(name, float("-inf")) < _UNDO and one.state is FeedState.OFF,
        )  # fmt: skip
