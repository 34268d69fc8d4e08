"""Faults at every step of going live and ending: whatever fails, and whenever, what is said is true of how things really are."""

import os
import unittest
from unittest import mock

from direkt.platform import by_file
from tests.lab.encoder import Habits
from tests.lab.reedbank import TOKEN, Faults
from tests.lab.stage import KEY
from tests.lab.test_go import GoStage

EVERY = 1 if os.environ.get("DIREKT_FAULTS") == "all" else 21


def platform(**faults):
    return lambda case: setattr(case.platform, "faults", Faults(**faults))


def tower(**habits):
    return lambda case: setattr(case.tower, "habits", Habits(**habits))


FAULTS = {
    "platform down": platform(down=True), "an error in a good answer": platform(trouble="not now"), "steps take a while": platform(slow=0.3),
    "steps do nothing": platform(sticks=True), "slower, please": platform(wait=["1"] * 3), "leave me alone": platform(wait=["900"] * 50),
    "an answer is lost": platform(lose=1), "its health is not told": platform(blind=True), "the list breaks off": platform(list_breaks=True, page=1),
    "a strange state": platform(odd_phase="wobbling"), "the token has ended": lambda case: case.platform.tokens.clear(),
    "tower down": tower(down=True), "tower says dialling": tower(says="dialling"), "tower says nothing of it": tower(says="dunno", counts=False),
    "tower lies that it is idle": tower(says="idle", stop_does_nothing=True), "tower does not stop": tower(stop_does_nothing=True),
    "tower starts again by itself": tower(starts_again=0.2), "tower counts seldom": tower(counts_every=0.6), "tower counts nothing": tower(counts=False),
    "the event is taken away": lambda case: case.platform.casts.clear(), "the line is taken away": lambda case: case.platform.lines.clear(),
    "somebody else pushes with its key": lambda case: [case.elsewhere_pushes(line.name) for line in list(case.platform.lines.values())],
    "somebody closes it": lambda case: [setattr(c, "phase", "over") for c in case.platform.casts.values()],
    "somebody puts it on air": lambda case: [setattr(c, "phase", "airing") for c in case.platform.casts.values()],
    "somebody gives it another key": lambda case: [setattr(line, "name", "varn~fake~other") for line in case.platform.lines.values()],
}  # fmt: skip
WHEN = (0, 5, 9, 14, 20)  # questions to the platform after which it happens


class Whatever(GoStage):
    """go, then stop while the fault lasts, then stop once it is over: each word is held against the world."""

    def keys(self):
        return {KEY, *(line.name for line in self.platform.lines.values()), "varn~fake~other", self.tower.ways[1].name}

    def really_on(self):
        out = ["the tower pushes"] if self.tower.pushing else []
        out += [f"{c.about['name']} is {c.phase}" for c in self.platform.live()]
        out += ["something arrives" for key, _ in self.platform.arriving if key in self.keys()]
        return out

    def held(self, result, verb):
        """What a command said is true."""
        text = " ".join((result.out + result.err).split())
        self.assertNotIn("Traceback", text)
        self.assertIn(result.code, (0, 1, 2, 3), result)
        for secret in (*self.keys(), TOKEN):
            if secret:
                self.assertNotIn(secret, text)
        really = self.really_on()
        if verb == "stop" and (result.code == 0 or "proven" in text.replace("not proven", "").replace("Not proven", "")):
            self.assertEqual(really, [], result)
        if verb == "go" and "✓ on air finals" in text:
            self.assertTrue(any(c.phase == "airing" for c in self.platform.live()), result)
        if verb == "go" and "nothing is known to be on" in text:
            self.assertEqual([one for one in really if "pushes" not in one or self.tower.habits == Habits()], [], result)

    def one(self, name, fault, when):
        asked = [0]
        original = self.platform._handle

        def handle(h):
            asked[0] += 1
            if asked[0] == when:
                fault(self)
            return original(h)

        self.platform._handle = handle
        if when == 0:
            fault(self)
        self.held(self.direkt("go", "finals", "--no-rehearsal", text="y\n" * 9), "go")
        self.held(self.direkt("stop", "finals", text=""), "stop")
        # the fault is over
        self.platform.faults, self.tower.habits = Faults(), Habits()
        self.platform.tokens.add(TOKEN)
        self.platform._handle = original
        self.elsewhere.clear()
        self.moved()
        last = self.direkt("stop", "--all", text="y\n" * 9)
        self.held(last, "stop")
        if "somebody gives" not in name and "line is taken" not in name:
            self.assertEqual((last.code, self.really_on()), (0, []), last)

    def test_everything(self):
        cases = [(name, fault, when) for name, fault in FAULTS.items() for when in WHEN]
        for name, fault, when in cases[::EVERY]:
            with self.subTest(fault=name, when=when):
                self.tearDown()
                self.doCleanups()
                self.setUp()
                with mock.patch.object(by_file, "length_of", lambda _: 0.6):
                    self.one(name, fault, when)


if __name__ == "__main__":
    unittest.main()
