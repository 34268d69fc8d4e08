"""Whatever happens, what the watch says is true: devices, ingests, the line and this machine's clock fail at random, and each word is held
against how things really are."""

import os
import random
import unittest

from direkt.device.state import PushState
from direkt.watch.policy import RestartTerms
from direkt.watch.tracker import FeedState
from tests.watch.fakes import Case, arriving, followed

SEEDS = range(400) if os.environ.get("DIREKT_FAULTS") == "all" else range(0, 400, 50)
SLACK = 15.0  # s that the watch may need to know
LAG = 3.0  # s by which the ingest is behind


class Really:
    """The world as it is, beside what the watch is shown of it."""

    def __init__(self, seed):
        self.rng = random.Random(seed)
        self.names = [f"f{n}" for n in range(self.rng.choice((1, 2, 5)))]
        self.case = Case(self.names, events=[followed(*self.names[:2])], terms=RestartTerms(push=3, device=1, within=600, pause=4))
        self.roles = dict(zip(self.names, ("primary", "backup"), strict=False))
        for name in self.names[:2]:
            self.case.watcher.trackers[name].facts = self.case.watcher.trackers[name].facts.__class__(
                *[getattr(self.case.watcher.trackers[name].facts, f) if f != "role" else self.roles[name] for f in self.case.watcher.trackers[name].facts.__slots__]
            )
        self.tells = self.rng.random() < 0.8  # whether there is an ingest that tells
        self.history = {name: [] for name in self.names}  # whether it was really on, second by second
        self.words_lie = dict.fromkeys(self.names)
        self.arrived = {name: [] for name in self.names}
        world = self.case.world
        look = world.device

        def device(name):
            found = look(name)
            said = self.words_lie[name]
            if said is None or found.error:
                return found
            slot = found.slots[1].__class__(1, "main", found.slots[1].server, 19, said, "", found.slots[1].sent_bytes)
            return found.__class__(found.at, "", {1: slot}, found.temperature, found.uptime, (), found.began)

        world.device = device
        world.pushing(*self.names)
        world.on.update(dict.fromkeys(self.names, True))
        self.claims = dict.fromkeys(self.names, (None, 0.0))
        self.wrong, self.slept = [], float("-inf")
        self.lied = dict.fromkeys(self.names, float("-inf"))  # when the device last said something that was not so

    def on(self, name):
        d = self.case.world.devices[name]
        return d.state is PushState.PUSHING and d.rate > 0

    def turn(self):
        now, world, rng = self.case.clock.at, self.case.world, self.rng
        for name in self.names:
            self.history[name].append((now, self.on(name)))
            self.history[name] = [one for one in self.history[name] if now - one[0] < 60]
        if self.tells:
            inputs = []
            for name in self.names[:2]:
                late = [was for at, was in self.history[name] if at <= now - LAG]
                inputs.append(arriving(self.roles[name], arriving=bool(late and late[-1])))
            world.inputs[world.events[0].key] = inputs
        if rng.random() < 0.01:
            self.fault()
        self.hold()

    def fault(self):
        world, rng = self.case.world, self.rng
        name = rng.choice(self.names)
        d = world.devices[name]
        what = rng.randrange(13)
        if what == 0 and d.state is PushState.PUSHING:
            d.state, d.message = PushState.RETRYING, "the connection broke"
        elif what == 1:
            d.rate = 0.0 if d.rate else 750_000.0
        elif what == 2:
            d.answers = not d.answers
        elif what == 3:
            d.booted, d.state = self.case.clock.now(), PushState.STOPPED
        elif what == 4:
            d.state = PushState.STOPPED  # somebody's hand, or nobody's
        elif what == 5 and d.state is not PushState.PUSHING:
            world.pushing(name)  # somebody starts it
        elif what == 6:
            world.event_error = "" if world.event_error else "closed for repair"
        elif what == 7:
            self.case.clock.wall_ahead += rng.choice((-7200, -30, 40, 5000))
        elif what == 8:
            self.case.clock.at += rng.choice((3, 20, 200))  # the machine gave no turn
            self.slept = self.case.clock.at
            for one in world.devices.values():
                one.since = max(one.since, self.case.clock.at - 2)
        elif what == 9:
            d.counts_every = rng.choice((0.0, 10.0))
        elif what == 10:
            d.heals = not d.heals
        elif what == 11 and len(self.names) > 2:
            for one in world.devices.values():
                one.state = PushState.RETRYING
        else:
            self.words_lie[name] = None if self.words_lie[name] is not None else rng.choice((PushState.PUSHING, PushState.RETRYING))

    def hold(self):
        """What was said for longer than the watch may need is true of some moment meanwhile; what it cannot know it does not say."""
        now = self.case.clock.at
        for name in self.names:
            if self.words_lie[name] is not None:
                self.lied[name] = now
            row = self.case.watcher.trackers[name]
            state, since = self.claims[name]
            if row.state is not state:
                self.claims[name] = (row.state, now)
                continue
            patience = SLACK + (60 if self.case.world.devices[name].counts_every or self.words_lie[name] else 0)
            if now - since < patience or now - self.slept < 60:
                continue
            lately = [was for at, was in self.history[name] if now - at <= patience]
            told = self.tells and not self.case.world.event_error and name in self.names[:2]
            if row.state is FeedState.ON and not any(lately) and "is not known" not in row.text and (told or self.words_lie[name] is None):
                self.wrong.append((round(now), name, "said on, was off", row.text))
            if row.state is FeedState.DROPPED and all(lately) and now - self.lied[name] > SLACK and self.case.world.devices[name].answers:
                self.wrong.append((round(now), name, "said dropped, was on", row.text))


class Truth(unittest.TestCase):
    def test_what_is_said_is_true(self):
        for seed in SEEDS:
            with self.subTest(seed=seed):
                one = Really(seed)
                one.case.run(30)
                one.case.run(420, one.turn)
                self.assertEqual(one.wrong[:3], [], seed)


if __name__ == "__main__":
    unittest.main()
