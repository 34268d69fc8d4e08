"""A world for a watch: devices, ingests and what is carried, with a clock that runs as fast as it is turned."""

from __future__ import annotations

import random
from dataclasses import dataclass, replace

from direkt.described.errors import DeviceError
from direkt.device.state import PushState, Slot
from direkt.platform.event import Input
from direkt.rig.events import EventState
from direkt.store.carried import CarriedFeed
from direkt.store.usage import Usage
from direkt.store.wishes import Wishes
from direkt.watch.conditions import Bounds
from direkt.watch.looks import CarriedLook, DeviceLook, EventLook
from direkt.watch.notices import Notice
from direkt.watch.policy import RestartTerms
from direkt.watch.tracker import FeedFacts
from direkt.watch.watch_events import Followed, Frame, Happened, MachineLook, Setup
from direkt.watch.watcher import Watcher

SERVER = "rtmp://ingest.tarnlight.example/live"


class Clock:
    """Time that passes when somebody sleeps."""

    def __init__(self):
        self.at, self.wall_ahead = 1000.0, 1_800_000_000.0

    def now(self):
        return self.at

    def sleep(self, seconds):
        self.at += seconds

    def wall(self):
        return self.at + self.wall_ahead

    def stamp(self):
        return "20270115-080000"


@dataclass
class Device:
    """One encoder with one slot."""

    state: PushState = PushState.STOPPED
    server: str = SERVER
    message: str = ""
    rate: float = 750_000.0  # bytes/s that its counter moves by
    counts_every: float = 0.0  # s between moves of the counter
    uptime_told: bool = True
    booted: float = 0.0
    answers: bool = True
    temperature: float = 45.0
    heals: bool = True  # a start brings the push up
    sent: float = 0.0
    since: float = 1000.0


class World:
    """What there is, and what was done to it."""

    def __init__(self, clock, names, carried=(), events=(), slots=1):
        self.clock = clock
        self.devices = {name: Device() for name in names}
        self.carry = dict.fromkeys(carried)
        self.events = list(events)
        self.inputs = {}
        self.event_error = ""
        self.event_state = EventState.LIVE
        self.on = {}
        self.mending = set()
        self.at_device = set()
        self.done = []
        self.next = None
        self.disk = 100e9
        self.days = {}
        self.asked = 0

    def pushing(self, *names):
        for name in names:
            self.devices[name].state = PushState.PUSHING
            self.devices[name].since = self.clock.at

    def device(self, name):
        self.asked += 1
        d, now = self.devices[name], self.clock.now()
        if not d.answers:
            return DeviceLook(now, "does not answer", began=now)
        if d.state is PushState.PUSHING:
            passed = now - d.since
            if not d.counts_every or passed >= d.counts_every:
                d.sent += d.rate * passed
                d.since = now
        slot = Slot(1, "main", d.server, 19, d.state, d.message, int(d.sent))
        return DeviceLook(now, "", {1: slot}, d.temperature, now - d.booted if d.uptime_told else None, (), now)

    def carried(self, feed):
        return CarriedLook(self.clock.now(), self.carry.get(feed))

    def followed(self):
        return self.events, self.next

    def event(self, one):
        now = self.clock.now()
        if self.event_error:
            return EventLook(now, self.event_error)
        return EventLook(now, "", True, self.event_state, "https://tarnlight.example/w/1", True, tuple(self.inputs.get(one.key, ())), 12)

    def machine(self):
        return MachineLook(self.disk)

    def certificates(self):
        return self.days

    def wishes(self):
        return Wishes(dict(self.on), frozenset(self.mending), frozenset(self.at_device))

    def wish(self, feed, on, at_device=False):
        self.on[feed] = on
        self.at_device.discard(feed)
        if at_device:
            self.at_device.add(feed)

    def start(self, feed):
        self.done.append(("start", feed, self.clock.now()))
        d = self.devices[feed]
        if not d.answers:
            raise DeviceError(f"{feed} does not answer")
        if d.heals:
            d.state, d.message, d.sent, d.since = PushState.PUSHING, "", 0.0, self.clock.at
        self.on[feed] = True
        return f"{feed} says {d.state}"

    def restart(self, device):
        self.done.append(("restart", device, self.clock.now()))
        d = self.devices[device]
        d.booted, d.state, d.heals = self.clock.now(), PushState.STOPPED, True
        return f"{device} is back after 2 s"

    def stop(self, feed):
        self.done.append(("stop", feed, self.clock.now()))
        self.devices[feed].state = PushState.STOPPED
        self.on[feed] = False
        return "stopped"


def facts(name, **more):
    return replace(FeedFacts(name, name, "tarnlight", SERVER, 1, "primary", False, False), **more)


def running(name, **more):
    values = {
        "feed": name, "device": name, "source": "rtsp://192.0.2.3/main", "server": SERVER, "key_length": 19, "process": 7, "since": "20270115-080000",
        "coming": "coming", "push": "pushing", "pushing": True, "sent": 0, "pushes": 1, "left_out": 0,
    }  # fmt: skip
    return CarriedFeed(**{**values, **more})


def followed(*feeds, **more):
    one = Followed(
        "finals 1 tarnlight", "finals", "20270115T080000Z", "The finals", "tarnlight", "Tarnlight", feeds, 1_800_000_000.0, 1_800_020_000.0,
        1_800_001_000.0, True, True, None, True,
    )  # fmt: skip
    return replace(one, **more)


def arriving(role="primary", **more):
    return replace(Input(role, True, "", True), **more)


class Case:
    """A watch in such a world, turned by hand."""

    def __init__(self, names, *, terms=None, plan=None, carried=(), events=(), bounds=None, period=None, mend=True, earlier=(), by_hand=(), roles=None):
        self.clock = Clock()
        self.world = World(self.clock, names, carried, events)
        made = tuple(facts(name, carried=name in carried, by_hand=name in by_hand, role=(roles or {}).get(name, "primary")) for name in names)
        bounds = bounds or Bounds(75.0, 2e9, 1800.0, 14.0)
        setup = Setup("Regatta", made, terms or RestartTerms(), bounds, mend, period, plan, earlier)
        self.watcher = Watcher(self.world, setup, self.clock, self.clock.wall, lambda work: work(), Usage(None))
        self.happened, self.notices = [], []

    def run(self, seconds, each=None):
        """So many seconds; what happened is kept."""
        end = self.clock.at + seconds
        while self.clock.at < end:
            if each is not None:
                each()
            self.watcher.step()
            while self.watcher._out:
                event = self.watcher._out.popleft()
                if isinstance(event, Happened):
                    self.happened.append(event)
                elif isinstance(event, Notice):
                    self.notices.append(event)
                assert not isinstance(event, Frame)
            self.clock.sleep(self.watcher.tick)

    def row(self, name):
        return next(row for row in self.watcher.board().feeds if row.name == name)

    def told(self, kind):
        return [n for n in self.notices if n.key.kind == kind]


def random_world(seed, case, names):
    """Drops of every kind, at random."""
    rng = random.Random(seed)

    def each():
        if rng.random() < 0.004:
            d = case.world.devices[rng.choice(names)]
            what = rng.randrange(4)
            if what == 0 and d.state is PushState.PUSHING:
                d.state, d.message = PushState.RETRYING, "the connection broke"
            elif what == 1 and d.state is PushState.PUSHING:
                d.rate = 0.0
            elif what == 2:
                d.answers = not d.answers
            else:
                d.booted, d.state = case.clock.now(), PushState.STOPPED
        for d in case.world.devices.values():
            if not d.rate and rng.random() < 0.02:
                d.rate = 750_000.0
            if not d.answers and rng.random() < 0.05:
                d.answers = True

    return each
