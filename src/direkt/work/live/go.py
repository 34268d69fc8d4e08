"""Going live, in the right order: look, make and open the event, push, wait for the ingest, judge, go on air, look as a viewer.

Every step asks where things really are, so that the order can be begun again after a crash, a lost connection or Ctrl-C and
goes on from there. Pushes that this run began are taken off again when something is wrong before the event is on air; once it
is on air, nothing is taken from viewers by itself.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Generator
from dataclasses import dataclass, field, replace

from direkt import parameters
from direkt.destination.sheet import Span
from direkt.device.state import PushState, Slot
from direkt.errors import DirektError, UnusableInput
from direkt.finding import Verdict
from direkt.platform.event import Input, PlatformError, PlatformEvent, Seen
from direkt.platform.planned import PlannedEvent
from direkt.protocol import address
from direkt.rig.events import EventState
from direkt.rig.file import Rig
from direkt.store import event_memory
from direkt.work import feeds
from direkt.work.device import push
from direkt.work.feeds import FeedParts
from direkt.work.live import checks, clocks, dry_run, verdict
from direkt.work.live import event_at_platforms as air
from direkt.work.live.event_at_platforms import Airing, stamp_of
from direkt.work.live.first_look import look
from direkt.work.live.go_types import (
    Crew,
    Ended,
    GoCheck,
    GoEvent,
    Gone,
    GoStep,
    GoWaiting,
    Halt,
    Judged,
    Link,
    LookedAt,
    Options,
    Question,
    Row,
    StepBegan,
    Would,
    alone,
    reason,
)
from direkt.work.steps import END, Job, unbroken
from direkt.work.stream import carry

_POLL = 0.5  # s
_ASK_EVERY = 1.0  # s between questions to a platform
_CARRY_LIMIT = 25.0  # s for a carried push to get going
_LEAST_WAIT = 60.0  # s for the ingest, where the sheet names no time or a short one
_PATIENCE = 3.0  # times the sheet's longest time
_LOOK_LIMIT = 40.0  # s until viewers have something


def go(rig: Rig, planned: PlannedEvent, crew: Crew, options: Options) -> Job[GoEvent, Gone]:
    """Takes an event to air. Raises UnusableInput before anything is touched; later failures are in the result."""
    planned = _without(rig, planned, options)
    airings = air.gather(rig, planned, crew.means, practice=options.practice)
    parts: dict[str, FeedParts] = {}
    try:
        if options.invited_first:
            _may_hold_back(airings)
        for one in airings:
            for name in one.feeds:
                found = feeds.look_up(rig, name, crew.means.sources)
                parts[name] = replace(found, sheet=one.sheet)
        if options.dry_run:
            return (yield from _Going(list(airings), parts, crew, options).dry_run())
        with alone(rig.folder, planned.name, planned.mark):
            return (yield from _Going(list(airings), parts, crew, options).run())
    finally:
        air.close(airings)
        for part in parts.values():
            part.driver.close()


def _without(rig: Rig, planned: PlannedEvent, options: Options) -> PlannedEvent:
    """The event without what is left out. Raises UnusableInput."""
    feeds = {name: rig.file.feeds[name].destination for name in planned.entry.feeds}
    for name in options.without:
        if name not in feeds and name not in feeds.values():
            known = ", ".join(dict.fromkeys([*feeds, *feeds.values()]))
            raise UnusableInput(f"--without {name}: {planned.name} has no such feed or destination; it has {known}")
    left = [name for name, where in feeds.items() if name not in options.without and where not in options.without]
    if not left:
        raise UnusableInput(f"--without {', '.join(options.without)}: nothing of {planned.name} is left")
    return replace(planned, entry=planned.entry.model_copy(update={"feeds": left}))


def _may_hold_back(airings: list[Airing]) -> None:
    """Raises UnusableInput where no platform lets the audience be widened later."""
    able = [a for a in airings if not a.by_hand and a.platform.facts.widens and "invited" in a.platform.facts.audiences]
    if not able:
        names = ", ".join(a.sheet.name for a in airings)
        raise UnusableInput(f"--invited-first: at {names} the audience cannot be changed from here after the event is made; go without it")


@dataclass
class _Going:
    airings: list[Airing]
    feeds: dict[str, FeedParts]
    crew: Crew
    options: Options
    known: dict[str, PlatformEvent] = field(default_factory=dict)  # by destination
    began: list[str] = field(default_factory=list)  # feeds whose push this run may have started
    seconds: dict[GoStep, float] = field(default_factory=dict)
    links: list[Link] = field(default_factory=list)
    on_air: bool = False
    pushed_at: float = 0.0  # s since 1970 at which this run began its first push
    step: GoStep = GoStep.BEFORE
    left_out: list[str] = field(default_factory=list)
    removed: list[Airing] = field(default_factory=list)  # destinations that were left out on the way
    _bad: bool = False
    _wrong: list[str] = field(default_factory=list)  # what failed in this step: feeds, destinations and others
    _failure: str = ""
    _begun: str = ""
    _aired: list[str] = field(default_factory=list)

    @property
    def planned(self) -> PlannedEvent:
        return (self.airings or self.removed)[0].planned

    @property
    def now(self) -> str:
        return stamp_of(self.crew.means.wall())

    # The order

    def run(self) -> Job[GoEvent, Gone]:
        self._begun = self.now
        self.left_out = list(self.options.without)
        rig = self.airings[0].rig
        remembered = event_memory.read(rig.folder, self.planned.name, self.planned.mark)
        self.on_air = bool(remembered.on_air and not remembered.ended)
        try:
            for step, work in (
                (GoStep.BEFORE, self._before), (GoStep.EVENT, self._event), (GoStep.PUSH, self._push), (GoStep.INGEST, self._ingest),
                (GoStep.JUDGE, self._judge), (GoStep.AIR, self._air), (GoStep.LOOK, self._look),
            ):  # fmt: skip
                yield from self._one(step, work())
        except Halt:
            yield from self._take_back()
            return self._gone(self.step)
        except KeyboardInterrupt:
            END.taken()
            return (yield from self._interrupted())
        return self._gone(None)

    def _one(self, step: GoStep, work: Job[GoEvent, None]) -> Job[GoEvent, None]:
        """One step: what it raises is told, and ends the order."""
        self.step, self._bad, self._wrong = step, False, []
        begin = self.crew.clock.now()
        yield StepBegan(step)
        try:
            self._not_stopped()
            yield from work
        except DirektError as error:
            yield self._told(GoCheck(step, self.planned.name, Verdict.FAIL, reason(error)))
        finally:
            self.seconds[step] = self.crew.clock.now() - begin
        if self._bad:
            yield from self._go_on_without()
        yield Ended(step, not self._bad, self.seconds[step])
        if self._bad:
            raise Halt

    def _each(self, work: Callable[[Airing], Job[GoEvent, None]]) -> Job[GoEvent, None]:
        """Something at every destination: where it fails at one, the others are not kept from it."""
        for one in list(self.airings):
            try:
                yield from work(one)
            except DirektError as error:
                yield self._told(GoCheck(self.step, one.destination, Verdict.FAIL, reason(error)))

    # Going on with what works

    def _go_on_without(self) -> Job[GoEvent, None]:
        """Where only some feeds or destinations fail: whether to go on with the others."""
        wrong = list(dict.fromkeys(self._wrong))
        names = {one.destination for one in self.airings} | set(self.feeds)
        if not wrong or not set(wrong) <= names:
            return
        kept = [self._kept(one, wrong) for one in self.airings]
        if not any(one is not None and one.feeds for one in kept):
            return
        text = f"{self._failure}. Go on without {' and '.join(wrong)}?"
        if not (yield Question(text, self.options.unattended, always=not self.options.unattended)):
            return
        begun = [name for name in self.began if name in wrong or self.rig_destination(name) in wrong]
        for name in begun:
            yield self._off(name)
            self.began.remove(name)
        for one, left in zip(list(self.airings), kept, strict=True):
            if left is None:
                self.removed.append(one)
        self.airings = [one for one in kept if one is not None]
        self.left_out += wrong
        self._bad, self._failure = False, ""
        for name in wrong:
            event = self.known.get(name)
            more = f"; its event there is {event.state}" if event is not None else ""
            advice = f"once it works: direkt go {self.planned.name}"
            yield GoCheck(self.step, name, Verdict.ADVISE, f"left out{more}", advice)

    def rig_destination(self, feed: str) -> str:
        """Where a feed goes."""
        return self.feeds[feed].entry.destination

    @staticmethod
    def _kept(one: Airing, wrong: list[str]) -> Airing | None:
        """A destination without what fails; None: nothing is left of it."""
        if one.destination in wrong:
            return None
        left = replace(one, primary=tuple(n for n in one.primary if n not in wrong), backup=tuple(n for n in one.backup if n not in wrong))
        return left if left.feeds else None

    def _told(self, line: GoCheck) -> GoCheck:
        if line.verdict is Verdict.FAIL:
            self._bad = True
            self._wrong.append(line.what)
            self._failure = self._failure or f"{line.what}: {line.text}" + (
                f"; next: {line.advice}" if line.advice else ""
            )
        return line

    def _say(self, what: str, verdict: Verdict, text: str, advice: str = "") -> GoCheck:
        return self._told(GoCheck(self.step, what, verdict, text, advice))

    def _not_stopped(self) -> None:
        """Raises UnusableInput where direkt stop ended the event since this run began."""
        now = event_memory.read(self.airings[0].rig.folder, self.planned.name, self.planned.mark)
        stopped = (now.ended and now.ended >= self._begun) or now.paused > self._begun
        if stopped and self.step > GoStep.EVENT:
            raise UnusableInput("it was stopped meanwhile, by direkt stop")

    def _gone(self, failed: GoStep | None, *, interrupted: bool = False) -> Gone:
        return Gone(
            self.on_air,
            failed,
            interrupted,
            dict(self.seconds),
            tuple(self.links),
            tuple(self._on_now()),
            self._failure,
            tuple(dict.fromkeys(self.left_out)),
        )

    # 1

    def _before(self) -> Job[GoEvent, None]:
        for line in checks.before(self.airings, self.feeds, self.crew, self.options):
            yield self._told(line)

    # 2

    def _event(self) -> Job[GoEvent, None]:
        rig = self.airings[0].rig
        event_memory.change(
            rig.folder, self.planned.name, self.planned.mark,
            lambda s: s.model_copy(update={
                "begun": s.begun or self._begun, "ended": "", "invited_first": s.invited_first or self._invites_first,
            }),
        )  # fmt: skip
        yield from self._each(self._event_at)

    def _event_at(self, one: Airing) -> Job[GoEvent, None]:
        hold = "invited" if self._holds_back(one) else None
        event = yield from air.prepare(one, self.now, hold)
        if event.state is EventState.CLOSED:
            yield self._say(one.destination, Verdict.FAIL, "the event is closed; a closed event stays closed")
            return
        if not one.by_hand:
            yield from self._given(one, event)
        if not air.opens_itself(one) or not one.by_hand:
            event = yield from air.open_event(one, event, self.now)
        self.known[one.destination] = event
        air.remember(one, state=event)
        if not one.by_hand and event.state is not EventState.LIVE:
            self._not_on_air()
        who = {
            "everyone": "for everyone",
            "link": "for whoever has the link",
            "invited": "for those who are invited",
            None: "",
        }
        how = f" {who[event.audience]}" if event.audience is not None else ""
        opens = "; the push opens it" if air.opens_itself(one) and one.by_hand else ""
        yield self._say(one.destination, Verdict.PASS, f"{one.sheet.name}: the event is {event.state}{how}{opens}")
        if left := one.platform.facts.left_out(one.wanted()) if not one.by_hand else []:
            advice = "see to it on the platform's page"
            yield self._say(one.destination, Verdict.ADVISE, f"{one.sheet.name} cannot be seen from here: {', '.join(left)}", advice)

    def _not_on_air(self) -> None:
        """It was on air, and is not any more: somebody took the event away, and it was made anew."""
        self.on_air = False
        event_memory.change(
            self.airings[0].rig.folder,
            self.planned.name,
            self.planned.mark,
            lambda s: s.model_copy(update={"on_air": ""}),
        )

    @property
    def _invites_first(self) -> bool:
        return self.options.invited_first and not self.on_air

    def _holds_back(self, one: Airing) -> bool:
        now = event_memory.read(one.rig.folder, self.planned.name, self.planned.mark)
        facts = one.platform.facts
        return now.invited_first and "invited" in facts.audiences and facts.widens and not one.by_hand

    def _given(self, one: Airing, event: PlatformEvent) -> Job[GoEvent, None]:
        """The key is the event's own, and the rig's addresses are among those that the platform gives out."""
        ingest = one.platform.ingest(event)
        for server, role in ((one.entry.server, "primary"), (one.entry.backup, "backup")):
            given = ingest.addresses("primary" if role == "primary" else "backup")
            if (
                server is not None
                and given
                and str(address.parse(server)) not in given
                and (role == "primary" or one.backup)
            ):
                field_ = "server" if role == "primary" else "backup"
                yield self._say(
                    one.destination, Verdict.FAIL, f"the rig has {server}; the platform gives out {', '.join(given)}",
                    f"write one of these under destinations.{one.destination}.{field_}",
                )  # fmt: skip
        kept = air.adopt_key(one, ingest.key, self.crew.means)
        air.remember(one, mark=air.key_mark(one.rig, ingest.key))
        if kept.changed:
            yield self._say(one.destination, Verdict.PASS, f"the event's key is kept in {kept.where}")

    # 3

    def _push(self) -> Job[GoEvent, None]:
        event_memory.change(
            self.airings[0].rig.folder,
            self.planned.name,
            self.planned.mark,
            lambda s: s.resumed(self.now),
        )
        for role in ("primary", "backup"):
            for one in self.airings:
                for name in one.primary if role == "primary" else one.backup:
                    try:
                        yield from self._start(one, self.feeds[name])
                    except DirektError as error:
                        yield self._say(name, Verdict.FAIL, reason(error), f"direkt push state {name}")

    def _start(self, one: Airing, feed: FeedParts) -> Job[GoEvent, None]:
        key = feed.rig.key(feed.destination, self.crew.means.sources)
        if one.by_hand:
            air.remember(one, mark=air.key_mark(one.rig, key))
        if checks.by_hand(feed):
            step = f"Start the push on {feed.device} to {feed.destination.server}"
            if step not in one.place.done:
                yield from air.ask(one, step, "now", self.now)
            air.remember(one, pushed=True)
            yield self._say(feed.name, Verdict.PASS, f"{feed.device}: started by hand")
            return
        if feed.entry.carry:
            yield from self._start_carrying(one, feed)
            return
        slot = push.look(feed).slot
        if slot.state is not PushState.STOPPED and slot.server == feed.destination.server:
            if slot.state is PushState.RETRYING:  # perhaps with the key of a past event
                push.stop(feed, self.crew.clock)
                self._begins(feed)
        else:
            self._begins(feed)
        air.remember(one, pushed=True)
        found = yield from _unheard(push.start(feed, key, self.crew.clock))
        slot = found.slot
        said = f": {slot.message}" if slot.message else ""
        text = f"{feed.device}, slot {slot.number}, channel {slot.channel}, to {slot.server}: {slot.state}{said}"
        if slot.state is PushState.STOPPED:
            yield self._say(feed.name, Verdict.FAIL, text, f"direkt push state {feed.name}")
        else:
            yield self._say(feed.name, Verdict.PASS if slot.state is PushState.PUSHING else Verdict.ADVISE, text)

    def _begins(self, feed: FeedParts) -> None:
        self.began.append(feed.name)
        self.pushed_at = self.pushed_at or self.crew.means.wall()

    def _start_carrying(self, one: Airing, feed: FeedParts) -> Job[GoEvent, None]:
        running = carry.running(feed)
        if running is not None and running.server != feed.destination.server:
            yield self._say(
                feed.name,
                Verdict.FAIL,
                f"it is carried to {running.server}",
                f"stop that first: direkt push off {feed.name}",
            )
            return
        if running is None:
            self._begins(feed)
            air.remember(one, pushed=True)
            self.crew.launch(feed.name)
        begin = self.crew.clock.now()
        while True:
            running, since = carry.running(feed), self.crew.clock.now() - begin
            if running is not None and running.pushing:
                text = f"carried from {running.source} by process {running.process}: pushing"
                yield self._say(feed.name, Verdict.PASS, text)
                return
            if since > _CARRY_LIMIT:
                last = self.crew.last_words(feed.name)
                said = f": {last}" if last else ""
                why = (
                    f"camera: {running.coming}; platform: {running.push}"
                    if running is not None
                    else f"it does not start{said}"
                )
                yield self._say(
                    feed.name,
                    Verdict.FAIL,
                    f"not carried after {_CARRY_LIMIT:g} s: {why}",
                    f"direkt check --feed {feed.name}",
                )
                return
            yield GoWaiting(self.step, f"{feed.name} is to be carried", since, None, _CARRY_LIMIT)
            self.crew.clock.sleep(_POLL)

    # 4

    def _ingest(self) -> Job[GoEvent, None]:
        yield from self._each(lambda one: self._wait_for(one) if one.platform.facts.tells_ingest else self._seen_by_person(one))

    def _limit(self, one: Airing) -> tuple[Span | None, float]:
        span = one.sheet.session.shows_after_s if one.sheet.session is not None else None
        usual = span.max * _PATIENCE if span is not None else 0.0
        return span, self.options.wait if self.options.wait is not None else max(_LEAST_WAIT, usual)

    def _seen_by_person(self, one: Airing) -> Job[GoEvent, None]:
        """The platform tells nothing: a person looks, as the sheet says."""
        span, _ = self._limit(one)
        listed = [step for step in one.sheet.checklist if step.phase == "pushing" and step.does in (None, "look")]
        when = f"usual {span.min:g} to {span.max:g} s after the push began" if span is not None else ""
        for step in listed:
            if step.step not in one.place.done:
                yield from air.ask(one, step.step, step.when, self.now)
        if not any(step.does == "look" for step in listed):
            step_ = f"See that {one.sheet.name} shows picture and sound"
            if step_ not in one.place.done:
                yield from air.ask(one, step_, when, self.now)
        if air.opens_itself(one):
            one.platform.open(self.known[one.destination])
        yield self._say(one.destination, Verdict.PASS, f"{one.sheet.name} shows it, a person says")

    def _wait_for(self, one: Airing) -> Job[GoEvent, None]:
        clock, (span, limit) = self.crew.clock, self._limit(one)
        begin, asked = clock.now(), -_ASK_EVERY
        trouble, seen, arrived = "", None, False
        while True:
            since = clock.now() - begin
            if since - asked >= _ASK_EVERY:
                asked = since
                self._not_stopped()
                try:
                    seen, trouble = one.platform.seen(self.known[one.destination]), ""
                except PlatformError as error:
                    trouble = reason(error)
                primary = seen.input("primary") if seen is not None else None
                if primary is not None and primary.arriving and not arrived:
                    arrived = True
                    yield self._say(one.destination, Verdict.PASS, f"{one.sheet.name}: it arrives, after {since:.0f} s")
                if self._all_there(one, seen):
                    if primary is None or primary.shown:
                        text, verdict = f"{one.sheet.name}: it is shown, after {since:.0f} s", Verdict.PASS
                    else:
                        text, verdict = f"{one.sheet.name} does not report whether it is shown", Verdict.UNSEEN
                    yield self._say(one.destination, verdict, text)
                    yield from self._contradictions(one, seen)
                    return
            if since > limit:
                yield self._say(one.destination, Verdict.FAIL, *self._why_not(one, seen, trouble, limit))
                return
            what = "arrives and is not shown yet" if arrived else "nothing arrives yet"
            yield GoWaiting(self.step, f"{one.sheet.name}: {trouble or what}", since, span, limit)
            clock.sleep(_POLL)

    def _contradictions(self, one: Airing, seen: Seen | None) -> Job[GoEvent, None]:
        """What arrives, beside what the devices say; and the ingest's clock beside ours."""
        for name in one.feeds:
            feed = self.feeds[name]
            words = self._device_says(feed)
            if words and not checks.by_hand(feed) and not self._pushes(feed):
                yield self._say(
                    name, Verdict.ADVISE, f"{one.sheet.name} says that it arrives, and {words}: who pushes with its key?",
                    f"direkt push state {name}",
                )  # fmt: skip
        for one_input in seen.inputs if seen is not None else ():
            ahead = clocks.ahead_of(one_input.since, self.pushed_at, self.crew.means.wall()) if self.pushed_at else None
            if ahead is not None:
                text = f"{one.sheet.name} says that it arrives since {one_input.since}, {clocks.span(ahead)} of this machine's clock"
                yield self._say(one.destination, Verdict.ADVISE, text, "one of the two is wrong: see step 1")

    @staticmethod
    def _pushes(feed: FeedParts) -> bool:
        """Whether its own side says so; one that does not answer is no contradiction."""
        if feed.entry.carry:
            running = carry.running(feed)
            return running is None or running.pushing  # another machine may carry it
        try:
            return push.look(feed).slot.state in (PushState.PUSHING, PushState.UNKNOWN)
        except DirektError:
            return True

    @staticmethod
    def _all_there(one: Airing, seen: Seen | None) -> bool:
        if seen is None:
            return False
        primary, backup = seen.input("primary"), seen.input("backup")
        good = not one.primary or (primary is not None and primary.arriving is True and primary.shown is not False)
        return good and (not one.backup or (backup is not None and backup.arriving is True))

    def _why_not(self, one: Airing, seen: Seen | None, trouble: str, limit: float) -> tuple[str, str]:
        """What stands in the way, asked from both ends."""
        if trouble:
            return trouble, "look at the platform's page; go on with: direkt go"
        primary = seen.input("primary") if seen is not None else None
        said = [f"{name}: {words}" for name in one.feeds if (words := self._device_says(self.feeds[name]))]
        at_device = f"; {'; '.join(said)}" if said else ""
        missing = one.backup and primary is not None and primary.arriving and primary.shown is not False
        if missing and not (seen is not None and seen.arrives("backup")):
            name = one.backup[0]
            told = "nothing of the backup arrived" if seen is not None and seen.arrives("backup") is False else "whether the backup arrives is not reported"
            return (
                f"{one.sheet.name}: the primary arrives; {told} within {limit:g} s{at_device}",
                f"direkt push state {name}, or go on without it: direkt go {self.planned.name} --without {name}",
            )
        if primary is not None and primary.arriving:
            words = "; ".join(primary.complaints)
            return (
                f"{one.sheet.name}: it arrives and was not shown within {limit:g} s{f': {words}' if words else ''}",
                "look at the platform's page: is the event the right one? Wait longer with --wait",
            )
        first = self.feeds[one.feeds[0]]
        if first.name not in self.began and not first.entry.carry and not checks.by_hand(first):
            at_device += "; it was pushing before, perhaps with another key"
            return (
                f"{one.sheet.name}: nothing arrived within {limit:g} s{at_device}",
                f"direkt push off {first.name}; then again: direkt go {self.planned.name}",
            )
        return (
            f"{one.sheet.name}: nothing arrived within {limit:g} s{at_device}",
            f"direkt push state {first.name}; direkt reach {one.destination}; then again: direkt go {self.planned.name}",
        )

    def _device_says(self, feed: FeedParts) -> str:
        if checks.by_hand(feed):
            return ""
        if feed.entry.carry:
            running = carry.running(feed)
            return (
                "no process carries it any more" if running is None else f"camera {running.coming}, platform {running.push}"
            )
        slot = self._slot(feed)
        if slot is None:
            return f"{feed.device} does not answer"
        return f"{feed.device} says {slot.state}" + (f" ({slot.message})" if slot.message else "")

    @staticmethod
    def _slot(feed: FeedParts) -> Slot | None:
        """Its push slot; None: it does not answer."""
        with contextlib.suppress(DirektError):
            return push.look(feed).slot
        return None

    # 5

    def _judge(self) -> Job[GoEvent, None]:
        yield from self._each(self._judge_at)

    def _judge_at(self, one: Airing) -> Job[GoEvent, None]:
        seen = None
        if one.platform.facts.tells_ingest:
            with contextlib.suppress(PlatformError):
                seen = one.platform.seen(self.known[one.destination])
        for name in one.feeds:
            role = "primary" if name in one.primary else "backup"
            arriving = seen.input("primary" if role == "primary" else "backup") if seen is not None else None
            yield from self._judge_feed(one, self.feeds[name], arriving)

    def _judge_feed(self, one: Airing, feed: FeedParts, arriving: Input | None) -> Job[GoEvent, None]:
        found = yield from verdict.judge(feed, self.crew, arriving, practice=self.options.practice)
        rows = found.rows
        complaints = arriving.complaints if arriving is not None else ()
        yield Judged(feed.name, one.destination, rows, found.sent, one.sheet.name if found.seen else "", complaints)
        bad = [row for row in rows if row.verdict is Verdict.FAIL]
        if bad:
            yield self._say(
                feed.name,
                Verdict.FAIL,
                _in_words(bad[0]),
                f"direkt match {feed.name}",
            )
        elif arriving is not None and (complaints or arriving.health not in ("", "good")):
            words = "; ".join(complaints) or arriving.health
            yield self._say(feed.name, Verdict.ADVISE, f"{one.sheet.name} says: {words}")
            if not self.on_air and not (
                yield Question(f"{one.sheet.name} is not content ({words}). Go on air all the same?", False)
            ):
                yield self._say(
                    feed.name,
                    Verdict.FAIL,
                    f"{one.sheet.name} is not content: {words}",
                    f"direkt check --feed {feed.name}",
                )
        elif not found.seen and not found.sent:
            yield self._say(
                feed.name, Verdict.UNSEEN, "neither the platform nor the device lets the stream be measured: look at it"
            )
        else:
            unseen = [parameters.find(row.parameter).label for row in rows if row.verdict is Verdict.UNSEEN and row.asked]
            text = f"conforms to {one.sheet.name}"
            if unseen:
                text += f" as far as seen; not seen: {', '.join(unseen[:4])}" + (f" and {len(unseen) - 4} more" if len(unseen) > 4 else "")
            yield self._say(feed.name, Verdict.UNSEEN if unseen else Verdict.PASS, text)
        for row in (row for row in rows if row.verdict is Verdict.ADVISE):
            yield self._say(feed.name, Verdict.ADVISE, _in_words(row))

    # 6

    def _air(self) -> Job[GoEvent, None]:
        if self.on_air and all(
            self.known[a.destination].state is EventState.LIVE for a in self.airings if not a.by_hand
        ):
            yield self._say(self.planned.name, Verdict.PASS, "it is on air")
            return
        if self.options.at_start:
            yield from self._until_start()
        elif not (yield Question(f"On air now with {self.planned.name}?", True)):
            yield self._say(
                self.planned.name, Verdict.FAIL, "not on air: you said no", f"direkt go {self.planned.name}"
            )
            return
        self._not_stopped()
        self._aired = []
        yield from self._each(self._air_at)
        if not self._aired:
            return
        now = self.now
        event_memory.change(
            self.airings[0].rig.folder,
            self.planned.name,
            self.planned.mark,
            lambda s: s.model_copy(update={"on_air": s.on_air or now}),
        )
        self.on_air = True
        yield self._say(self.planned.name, Verdict.PASS, "on air" + (f" at {', '.join(self._aired)}" if self._bad else ""))

    def _air_at(self, one: Airing) -> Job[GoEvent, None]:
        event = yield from air.air(one, self._fresh(one), self.now)
        self.known[one.destination] = event
        air.remember(one, state=event)
        self._aired.append(one.destination)

    def _fresh(self, one: Airing) -> PlatformEvent:
        """As it is now: others may have changed it since step 2."""
        found = one.find()
        if found is None:
            raise PlatformError(f"{one.sheet.name} does not know the event any more: somebody took it away")
        return found

    def _until_start(self) -> Job[GoEvent, None]:
        start = self.planned.start.timestamp()
        while (left := start - self.crew.means.wall()) > 0:
            yield GoWaiting(self.step, f"on air at {self.planned.start:%H:%M:%S}, in", left)
            self.crew.clock.sleep(min(_POLL, left))

    # 7

    def _look(self) -> Job[GoEvent, None]:
        for one in self.airings:
            event = self.known[one.destination]
            if event.watch:
                link = Link(one.destination, one.sheet.name, event.watch, event.audience or one.planned.entry.audience)
                self.links.append(link)
                yield link
            if event.player:
                yield from self._look_at(one, event)
            elif not one.by_hand:
                yield self._say(
                    one.destination,
                    Verdict.UNSEEN,
                    f"{one.sheet.name} does not report where players fetch it: look at the page",
                )
        if (
            not self._bad
            and event_memory.read(self.airings[0].rig.folder, self.planned.name, self.planned.mark).invited_first
        ):
            yield from self._widen()
        if self.planned.entry.notify and not self._bad:
            yield self._say(self.planned.name, Verdict.PASS, f"notify: {', '.join(self.planned.entry.notify)}")

    def _look_at(self, one: Airing, event: PlatformEvent) -> Job[GoEvent, None]:
        clock = self.crew.clock
        begin = clock.now()
        while True:
            found = look(event.player, one.platform.view, self.crew.means.wall(), self.pushed_at)
            since = clock.now() - begin
            if found.plays:
                yield LookedAt(one.destination, found)
                behind = f", with a delay of {found.behind:.0f} s" if found.behind is not None else ""
                sound = "" if found.sound else ", without sound"
                verdict = Verdict.PASS if found.sound else Verdict.ADVISE
                yield self._say(one.destination, verdict, f"viewers get {found.size}{behind}{sound}")
                most = one.planned.entry.delay_limit
                if most is not None and found.behind is not None and found.behind > most:
                    text = f"the viewer delay is {found.behind:.0f} s; required: at most {most:g} s"
                    yield self._say(one.destination, Verdict.ADVISE, text, "look at the delay on the platform's page")
                elif most is not None and found.behind is None:
                    yield self._say(one.destination, Verdict.UNSEEN, f"the viewer delay is not reported; required: at most {most:g} s")
                return
            if since > _LOOK_LIMIT:
                yield LookedAt(one.destination, found)
                yield self._say(
                    one.destination, Verdict.FAIL, f"viewers get nothing after {_LOOK_LIMIT:g} s: {found.why}",
                    f"look at {event.watch or 'the page'}; it is on air: end it with direkt stop {self.planned.name}",
                )  # fmt: skip
                return
            yield GoWaiting(self.step, f"{one.sheet.name}: {found.why}", since, None, _LOOK_LIMIT)
            clock.sleep(_ASK_EVERY)

    def _widen(self) -> Job[GoEvent, None]:
        for one in self.airings:
            if one.by_hand or "invited" not in one.platform.facts.audiences or not one.platform.facts.widens:
                continue
            event = one.platform.change(self._fresh(one), one.wanted())
            air.remember(one, state=event)
            self.known[one.destination] = event
            yield self._say(one.destination, Verdict.PASS, f"opened to {one.planned.entry.audience}")
        event_memory.change(
            self.airings[0].rig.folder,
            self.planned.name,
            self.planned.mark,
            lambda s: s.model_copy(update={"invited_first": False}),
        )

    # When something is wrong

    def _take_back(self) -> Job[GoEvent, None]:
        """Takes off what this run began, unless the event is on air."""
        if self.on_air or self.options.keep_on or not self.began:
            return
        for name in reversed(self.began):
            yield self._off(name)
        self.began = []

    def _off(self, name: str) -> GoCheck:
        feed = self.feeds[name]
        try:
            if feed.entry.carry:
                carry.end(feed, self.crew.clock)
            else:
                push.stop(feed, self.crew.clock)
        except DirektError as error:
            return GoCheck(self.step, name, Verdict.FAIL, reason(error), f"direkt stop {name}")
        return GoCheck(self.step, name, Verdict.PASS, "its push is off again")

    def _interrupted(self) -> Job[GoEvent, Gone]:
        """Ctrl-C: leave it as it is, or take all down."""
        down = False
        if self.began or self.on_air:
            with unbroken():
                down = bool(
                    (
                        yield Question(
                            "Take the pushes of this event off? No leaves everything as it is.", False, always=True
                        )
                    )
                )
        if down:
            for name in [n for one in self.airings for n in one.feeds if not checks.by_hand(self.feeds[n])]:
                with unbroken():
                    yield self._off(name)
        return self._gone(self.step, interrupted=True)

    def _event_now(self, one: Airing) -> str:
        """How its event stands, where that matters; empty: it is not open."""
        before = self.known.get(one.destination)
        at = f"the event at {one.sheet.name} ({one.destination})"
        try:
            event = one.find()
        except DirektError:
            if before is not None and before.state in (EventState.OPEN, EventState.LIVE):
                return f"{at} was {before.state} when it was asked last"
            return f"{at} could not be asked: it may be open" if self.step > GoStep.BEFORE or self._was_begun(one) else ""
        return f"{at} is {event.state}" if event is not None and event.state in (EventState.OPEN, EventState.LIVE) else ""

    def _was_begun(self, one: Airing) -> bool:
        """Whether it was begun before, as far as is remembered here."""
        with contextlib.suppress(DirektError):
            return one.place.state != "none" or one.place.pushed
        return True

    def _on_now(self) -> list[str]:
        """What is on, as platforms and devices tell; what cannot be asked is said as it was last."""
        out = []
        for one in (*self.airings, *self.removed):
            if words := self._event_now(one):
                out.append(words)
            for name in one.feeds:
                feed = self.feeds[name]
                if checks.by_hand(feed):
                    if one.place.pushed:
                        out.append(f"{feed.device} was started by hand")
                elif feed.entry.carry:
                    if carry.running(feed) is not None:
                        out.append(f"{name} is carried")
                elif name in self.began or one.place.pushed:
                    slot = self._slot(feed)
                    if slot is None or slot.state is not PushState.STOPPED:
                        out.append(f"{name}: {self._device_says(feed)}")
        return out

    def dry_run(self) -> Job[GoEvent, Gone]:
        """Looks, and says what would be done."""
        yield StepBegan(GoStep.BEFORE)
        begin = self.crew.clock.now()
        yield from self._before()
        good = not self._bad
        self.seconds[GoStep.BEFORE] = self.crew.clock.now() - begin
        yield Ended(GoStep.BEFORE, good, self.seconds[GoStep.BEFORE])
        for one in self.airings:
            yield from dry_run.would(one, self.feeds, *self._limit(one))
        yield Would(
            GoStep.AIR,
            f"on air at {self.planned.start:%Y-%m-%d %H:%M}" if self.options.at_start else "ask whether to go on air",
        )
        yield Would(
            GoStep.LOOK,
            "print the watch link and look as a viewer" + ("; then widen the audience" if self._invites_first else ""),
        )
        return Gone(False, None if good else GoStep.BEFORE, False, dict(self.seconds), (), (), self._failure)


def _unheard(job: Job[push.PushStanding, push.Look]) -> Generator[GoEvent, bool | None, push.Look]:
    """A job whose own events say nothing that the order does not say."""
    yield from ()
    while True:
        try:
            next(job)
        except StopIteration as end:
            found: push.Look = end.value
            return found


def _in_words(row: Row) -> str:
    """A row in a sentence: what it is, its value as far as known, and what to do."""
    name, sent, seen = row.parameter, row.sent, row.seen
    value = sent if sent is not None else seen
    shown = f" {parameters.show(name, value)}" if value not in (None, "yes", "no") else ""
    if sent is not None and seen is not None and not parameters.same(name, sent, seen, measured=True):
        shown = f" {parameters.show(name, sent)} as sent, {parameters.show(name, seen)} at the platform"
    words = row.advice or f"required: {row.asked}"
    begin = ", " if words.startswith("Recommended") else ": "
    return f"{parameters.find(row.parameter).label}{shown}{begin}{words[:1].lower()}{words[1:]}"
