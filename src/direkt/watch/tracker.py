"""One feed as the watch follows it: whether it is on, since when, and why not; and its last ten minutes.

Pure: looks and times come in. What a device says is believed only as far as its counter moves and its ingest, where one tells,
has something of it. A device that stops by itself is told from one that a person stopped: that one answers all the while, and
gives no reason.
"""

from __future__ import annotations

import statistics
from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from direkt.device.state import PushState, Slot
from direkt.parameters import Value
from direkt.platform.event import Input
from direkt.watch.looks import CarriedLook, DeviceLook, EventLook

STRIP = 600.0  # s
CELL = 2.0  # s of a cell of the strip
START = 20.0  # s that a push gets to begin
_FRESH = 15.0  # s for which a look is good
_STILL = 2.5  # s for which a counter may stand, at the least
_BEGINS = 6.0  # s for which a counter may stay at 0 after a push began
_UNLEARNT = 60.0  # s for which it may, while it is not known how often the device counts
_NOTHING = 0.5  # s for which an ingest may have nothing of a push that is on
_LAG = 8.0  # s by which an ingest may be late to notice that a push has gone
_HALF, _LEAST = 0.5, 100.0  # of the usual rate, or kbit/s, from where on a counter that moves is a push, and not the tries of one
_THIN = 0.6  # of the usual bitrate
_THIN_FOR = 15.0  # s


class FeedState(StrEnum):
    """How a feed stands."""

    OFF = "off"
    STARTING = "starting"
    ON = "on"
    DROPPED = "dropped"
    STOPPED = "stopped"  # by a person, at the device
    ELSEWHERE = "elsewhere"  # it pushes to another server
    UNKNOWN = "not known"


MARKS = {
    FeedState.OFF: "·", FeedState.STARTING: "~", FeedState.ON: "━", FeedState.DROPPED: "x", FeedState.STOPPED: "-",
    FeedState.ELSEWHERE: ">", FeedState.UNKNOWN: "?",
}  # fmt: skip
_WORST = (
    FeedState.DROPPED, FeedState.ELSEWHERE, FeedState.STOPPED, FeedState.UNKNOWN, FeedState.STARTING, FeedState.ON, FeedState.OFF,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class FeedFacts:
    """What a feed is."""

    name: str
    device: str
    destination: str
    server: str
    slot: int
    role: str  # primary or backup
    carried: bool
    by_hand: bool  # no program reaches its device


@dataclass(frozen=True, slots=True)
class PushReport:
    """The push as its own side tells it."""

    state: FeedState
    text: str = ""
    looked: bool = True  # somebody looked


_UNSEEN = PushReport(FeedState.UNKNOWN, "not looked at yet", looked=False)


class Tracker:
    """Follows one feed. Times are s of a steady clock."""

    def __init__(self, facts: FeedFacts, begin: float) -> None:
        self.facts = facts
        self.state = FeedState.UNKNOWN
        self.text = _UNSEEN.text
        self.known = False  # it was looked at
        self.since = begin  # of the state
        self.dropped: float | None = None  # since when it is dropped
        self.drops = 0
        self.missing = 0.0  # s, all drops together
        self.seen_on = False  # by this watch
        self.stopped_by_person = False
        self.started_by_person = False
        self.kbit_s: float | None = None  # what goes out, by the device's counter or as measured
        self.expected: bool | None = None
        self.device: DeviceLook | None = None
        self.carrying: CarriedLook | None = None
        self.event: EventLook | None = None
        self._wish: bool | None = None
        self.wished_at = begin  # when it was last said whether it is meant to be on
        self._mending = False
        self.returned: float | None = None  # when its device answered again, or had begun anew
        self._count: tuple[float, int] | None = None  # when the counter moved last, and what it was then
        self._moved: float | None = None  # when it moved last
        self._against: float | None = None  # since when its own side and the ingest contradict each other
        self._steps: deque[float] = deque(maxlen=6)  # s between its latest moves: some devices count every ten seconds
        self._on_since: float | None = None  # the push is on, as its own side tells
        self._lost = False  # it was on, and then its device began anew, or was silent and does not tell which
        self._silent = False  # it does not answer
        self._answered: DeviceLook | None = None  # what it answered last
        self._nothing: float | None = None  # since when the ingest has nothing
        self._said_off: tuple[float, int, int] | None = None  # since when it says that it does not push, its counter then and last
        self._moves = 0  # of the counter since
        self._moved_against = begin  # when it moved last
        self.sends_against = False  # it counts on all the same
        self._content: dict[str, float] = {}  # since when a parameter has a bad value
        self._first = True  # the counter has not moved since it was looked at first
        self._rates: deque[float] = deque(maxlen=150)
        self._thin: float | None = None
        self._cells: deque[FeedState] = deque(maxlen=int(STRIP / CELL))
        self._cell_end: float | None = None
        self._cell: FeedState | None = None

    # What comes in

    def take_device(self, look: DeviceLook) -> None:
        """A look at its device."""
        self.device = look
        if look.error:
            self._silent = True
            return
        before, self._answered = self._answered, look
        known = before is not None and before.uptime is not None and look.uptime is not None
        anew = look.uptime < before.uptime if known else self._silent  # type: ignore[operator,union-attr]
        if anew or (self._silent and before is not None):
            self.returned = look.at
        self._lost, self._silent = self._lost or (anew and self.seen_on), False
        slot = look.slots.get(self.facts.slot)
        if slot is not None and not self.facts.carried:
            self._counted(look.at, slot.sent_bytes, on=slot.state is PushState.PUSHING)

    def take_carried(self, look: CarriedLook) -> None:
        """A look at what this machine carries of it."""
        self.carrying = look
        running = look.running
        self._counted(look.at, running.sent if running is not None else 0, on=running is not None and running.pushing)

    def take_event(self, look: EventLook | None) -> None:
        """A look at its event; None: it is in none that goes on."""
        self.event = look

    def _counted(self, at: float, sent: int, *, on: bool) -> None:
        """The rate is that between two moves of the counter: some devices count every ten seconds only."""
        self._counted_against(at, sent, on=on)
        if self._count is None or not on or sent < self._count[1] or self._moved is None:
            self._count, self._moved, self.kbit_s = (at, sent), at if on else None, None
            self._first = True
            return
        then, before = self._count
        if sent == before:
            if self._moved is not None and at - self._moved > self._patience():
                self.kbit_s = 0.0
            return
        if self._moved is not None and not self._first:
            self._steps.append(at - self._moved)
        self._moved = at
        if at - then < 0.6:
            return
        self._count = (at, sent)
        if self._first:  # it began somewhere between two moves
            self._first = False
            return
        self.kbit_s = (sent - before) * 8 / 1000 / (at - then)
        self._rates.append(self.kbit_s)
        usual = self.usual
        thin = usual is not None and self.kbit_s < usual * _THIN
        self._thin = (self._thin if self._thin is not None else at) if thin else None

    def _counted_against(self, at: float, sent: int, *, on: bool) -> None:
        """What it sends while it says that it does not push: a counter is believed before words, but not the bytes of its tries."""
        if on or self._said_off is None or sent < self._said_off[1]:
            self._said_off, self._moves, self.sends_against = None if on else (at, sent, sent), 0, False
            return
        then, first, last = self._said_off
        if sent == last:
            if at - self._moved_against > (max(_STILL, 2 * max(self._steps)) if len(self._steps) >= 2 else _STILL):
                self._said_off, self._moves, self.sends_against = (at, sent, sent), 0, False
            return
        self._moves += 1
        self._moved_against = at
        self._said_off = (then, first, sent)
        least = (self.usual or 0.0) * _HALF or _LEAST
        rate = (sent - first) * 8 / 1000 / (at - then) if at > then else 0.0
        self.sends_against = self._moves >= 2 and rate >= least

    @property
    def _sends_all_the_same(self) -> bool:
        return self._said_off is not None and self.sends_against

    def _patience(self) -> float:
        """s for which the counter may stand."""
        return max(_STILL, 2 * max(self._steps)) if len(self._steps) >= 2 else _UNLEARNT

    @property
    def input(self) -> Input | None:
        """What the ingest sees of it, where a look is fresh."""
        return self.event.input(self.facts.role) if self.event is not None and not self.event.error else None

    @property
    def measured_here(self) -> bool:
        """Whether what is sent is measured by this machine."""
        running = self.carrying.running if self.carrying is not None else None
        return running is not None and bool(running.measured)

    @property
    def silence_added(self) -> bool:
        """Whether this machine adds silence, since the camera has no sound that can be pushed."""
        running = self.carrying.running if self.carrying is not None else None
        return running is not None and running.silence_added

    @property
    def values(self) -> Mapping[str, Value]:
        """What is measured of it, here or by its ingest."""
        running = self.carrying.running if self.carrying is not None else None
        if running is not None and running.measured:
            return running.measured
        seen = self.input
        return seen.values if seen is not None and seen.arriving else {}

    def content_since(self, parameter: str, bad: str, now: float) -> float | None:
        """Since when a parameter has had this value while the push is on; None: it has another, or is not told."""
        if self.state is not FeedState.ON or self.values.get(parameter) != bad:
            self._content.pop(parameter, None)
            return None
        return self._content.setdefault(parameter, now)

    @property
    def usual(self) -> float | None:
        """kbit/s that mostly go out; None: not known yet."""
        return statistics.median(self._rates) if len(self._rates) >= 10 else None

    def is_thin(self, now: float) -> bool:
        """Whether much less than usual has gone out for a while."""
        return self.state is FeedState.ON and self._thin is not None and now - self._thin >= _THIN_FOR

    # What it means

    def judge(self, now: float, wish: bool | None, *, mending: bool = False, at_device: bool = False) -> None:
        """How it stands now; ``wish``: whether it is meant to be on, where somebody said so.

        ``mending``: a watch that is gone was about to start it again; ``at_device``: it is off since somebody stopped it at the device.
        """
        self._mending = mending
        if wish is not self._wish:
            self._wish, self.wished_at = wish, now
            self.stopped_by_person = self.stopped_by_person and wish is not True
        own = self._own(now)
        if own.state is FeedState.ON:
            self._on_since = self._on_since if self._on_since is not None else now
            # whoever stopped it at the device has started it again there
            self.started_by_person = wish is False and (at_device or self.stopped_by_person)
            self._lost = self.stopped_by_person = False
        elif own.state not in (FeedState.UNKNOWN, FeedState.STARTING):
            self._on_since = None
        found = self._with_ingest(own, now)
        if found.state is FeedState.ON:
            self.seen_on = True
        if found.state is FeedState.STOPPED:
            self.stopped_by_person = True
        self._become(found, now)

    @property
    def wanted(self) -> bool:
        """Whether it is meant to be on."""
        return not self.stopped_by_person and (self._wish is True or (self._wish is None and self.seen_on))

    def _become(self, found: PushReport, now: float) -> None:
        if found.state is not self.state:
            if found.state is FeedState.DROPPED:
                self.drops += 1
                self.dropped = now
            elif self.dropped is not None and found.state is not FeedState.STARTING:
                self.missing += now - self.dropped
                self.dropped = None
            self.state, self.since = found.state, now
        self.text, self.known = found.text, found.looked
        self._strip(now)

    def _strip(self, now: float) -> None:
        if self.device is None and self.carrying is None and self.event is None and not self.facts.by_hand:
            return  # nobody has looked yet
        if self._cell_end is None:
            self._cell_end = now + CELL
        while now >= self._cell_end:
            self._cells.append(self._cell if self._cell is not None else self.state)
            self._cell = None
            self._cell_end += CELL
            if now - self._cell_end > STRIP:  # this machine slept
                self._cells.clear()
                self._cell_end = now + CELL
        self._cell = self.state if self._cell is None else min(self._cell, self.state, key=_WORST.index)

    def strip(self, cells: int) -> str:
        """The last ten minutes, a mark for each part, the latest last; a space where nobody watched."""
        whole = [*self._cells, *([self._cell] if self._cell is not None else [])][-int(STRIP / CELL) :]
        most = int(STRIP / CELL)
        per, out = most / cells, []
        padded: list[FeedState | None] = [*[None] * (most - len(whole)), *whole]
        for n in range(cells):
            some = [s for s in padded[int(n * per) : max(int(n * per) + 1, int((n + 1) * per))] if s is not None]
            out.append(MARKS[min(some, key=_WORST.index)] if some else " ")
        return "".join(out)

    def _own(self, now: float) -> PushReport:
        """As its own side has it: the device, this machine, or nobody."""
        if self.facts.carried:
            return self._as_carried(now)
        if self.facts.by_hand:
            seen = self.input
            if not self.wanted and (seen is None or not seen.arriving):
                return PushReport(FeedState.OFF, f"{self.facts.device} is set by hand")
            return PushReport(FeedState.UNKNOWN, f"{self.facts.device} is set by hand: it reports nothing")
        look = self.device
        if look is None:
            return _UNSEEN
        if look.error:
            return PushReport(FeedState.UNKNOWN, look.error)
        slot = look.slots.get(self.facts.slot)
        if slot is None:
            return PushReport(FeedState.UNKNOWN, f"{self.facts.device} reports no push slot {self.facts.slot}")
        if self._sends_all_the_same and (not slot.server or slot.server == self.facts.server):
            return PushReport(FeedState.ON, f"{self.facts.device} says {slot.state}, and its counter goes on: it sends")
        if slot.state is PushState.STOPPED:
            if self._wish is True and self.wished_at >= look.began and self.state is not FeedState.DROPPED:
                return PushReport(FeedState.STARTING, "it is being started")  # what was seen is older than the wish
            return self._as_stopped(slot)
        if slot.server and slot.server != self.facts.server:
            return PushReport(FeedState.ELSEWHERE, f"{self.facts.device} pushes to {slot.server}")
        said = f": {slot.message}" if slot.message else ""
        if slot.state is PushState.PUSHING:
            # a device that has counted before and says 0 has sent nothing of this push
            counts = slot.sent_bytes > 0 or bool(self._steps)
            return self._moving(look.at, counts, f"{self.facts.device} says pushing and sends nothing", 0.0 if slot.sent_bytes else _BEGINS)
        if slot.state is PushState.UNKNOWN:
            return PushReport(FeedState.UNKNOWN, f"{self.facts.device} does not report whether it pushes")
        if slot.state is PushState.CONNECTING and not self.seen_on and now - self.since < START and self.state in (
            FeedState.STARTING, FeedState.OFF, FeedState.UNKNOWN
        ):  # fmt: skip
            return PushReport(FeedState.STARTING, f"{self.facts.device} connects")
        return PushReport(FeedState.DROPPED, f"{self.facts.device} says {slot.state}{said}")

    def _moving(self, at: float, counts: bool, still: str, least: float = 0.0) -> PushReport:
        stood = at - self._moved if self._moved is not None else 0.0
        if counts and stood > max(least, self._patience()):
            return PushReport(FeedState.DROPPED, still)
        if counts and stood > _STILL and len(self._steps) < 2:
            return PushReport(FeedState.ON, f"{self.facts.device} says so; its counter has stood still for {stood:.0f} s, and how often it counts is not known")
        return PushReport(FeedState.ON)

    def _as_stopped(self, slot: Slot) -> PushReport:
        """A device that does not push: off, given up, begun anew, or stopped by somebody."""
        device = self.facts.device
        if self._wish is False or not self.wanted:
            if self.stopped_by_person:
                return PushReport(FeedState.STOPPED, self.text)
            return PushReport(FeedState.OFF)
        if slot.message:
            return PushReport(FeedState.DROPPED, f"{device} has given up: {slot.message}")
        if self._mending:
            return PushReport(FeedState.DROPPED, f"a watch that has ended was about to start the push of {device} again")
        if self._lost:
            return PushReport(FeedState.DROPPED, f"{device} was away and came back without its push")
        if self.state is FeedState.DROPPED and self.dropped is not None:
            return PushReport(FeedState.DROPPED, f"{device} does not push")
        how = "says stopped, and gives no reason: somebody stopped it there, or it has given up" if self.seen_on else "does not push, and was meant to"
        return PushReport(FeedState.STOPPED, f"{device} {how}")

    def _as_carried(self, now: float) -> PushReport:
        running = self.carrying.running if self.carrying is not None else None
        if self.carrying is None:
            return _UNSEEN
        if running is None:
            if self.wanted:
                return PushReport(FeedState.DROPPED, "no process carries it any more")
            return PushReport(FeedState.OFF)
        if running.server != self.facts.server:
            return PushReport(FeedState.ELSEWHERE, f"it is carried to {running.server}")
        if running.pushing:
            camera = running.coming if running.coming != "coming" else "its camera sends nothing"
            return self._moving(self.carrying.at, True, camera)
        if (
            not self.seen_on
            and self.state in (FeedState.STARTING, FeedState.OFF, FeedState.UNKNOWN)
            and now - self.since < START
        ):
            return PushReport(FeedState.STARTING, f"camera: {running.coming}; platform: {running.push}")
        side = running.coming if running.coming != "coming" else running.push
        return PushReport(FeedState.DROPPED, side)

    def _with_ingest(self, own: PushReport, now: float) -> PushReport:
        """The same beside what the ingest has of it."""
        look, one = self.event, self.input
        if look is None or look.error or not look.told or now - look.at > _FRESH or one is None:
            self._nothing = self._against = None
            return own
        if one.arriving is None:
            self._nothing = self._against = None
            return own
        if one.arriving:
            self._nothing = None
            return self._beside_arriving(own, now)
        self._against = None
        self._nothing = self._nothing if self._nothing is not None else now
        if own.state is FeedState.ON:
            begun = self._on_since if self._on_since is not None else now
            if now - max(self._nothing, begun) < _NOTHING:
                return PushReport(self.state if self.state is not FeedState.UNKNOWN else FeedState.STARTING, self.text)
            if not self.seen_on and now - begun < START:
                return PushReport(FeedState.STARTING, "it is sent, and has not arrived yet")
            return PushReport(FeedState.DROPPED, "it is sent, and nothing arrives at the ingest")
        if own.state is FeedState.UNKNOWN and self.wanted and now - self._nothing >= _NOTHING:
            return PushReport(FeedState.DROPPED, f"nothing arrives at the ingest; {own.text}")
        return own

    def _beside_arriving(self, own: PushReport, now: float) -> PushReport:
        """What arrives is believed before a counter, and that before words; but an ingest may be late to notice."""
        if own.state is FeedState.UNKNOWN:
            self._against = None
            return PushReport(FeedState.ON, f"{own.text}; the ingest has it")
        if own.state is not FeedState.DROPPED:
            self._against = None
            return own
        self._against = self._against if self._against is not None else now
        if self._as_words and self.seen_on and now - self._against < _LAG:
            return own
        return PushReport(FeedState.ON, f"{own.text}; the ingest has it all the same")

    @property
    def contradicted(self) -> bool:
        """Whether its own side says that it has dropped, while the ingest has something of it."""
        return self._against is not None or self._sends_all_the_same

    @property
    def _as_words(self) -> bool:
        """Whether the device says itself that it does not push."""
        slot = self.device.slots.get(self.facts.slot) if self.device is not None and not self.facts.carried else None
        running = self.carrying.running if self.carrying is not None else None
        if self.facts.carried:
            return running is None or not running.pushing
        return slot is None or slot.state is not PushState.PUSHING
