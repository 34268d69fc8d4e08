"""The log of changes, and what was learned of models."""

import stat
import unittest

from direkt.demand import Demand, parse
from direkt.device.state import Channel
from direkt.match.plan import plan
from direkt.store import changes, learned
from direkt.store.changes import Change
from direkt.store.learned import Lesson
from direkt.store.small_file import place
from tests.support import Folder

ENTRY = {"schema": "direkt.change/1", "when": "20260103-174501", "what": "write", "feed": "f", "device": "tower", "model": "B2", "firmware": "2", "channel": "main",
         "changes": {"video.size": (None, "2x2")}, "outcome": "as wanted", "set": {"video.size": "2x2"}}  # fmt: skip


class Log(Folder):
    def test_lines_are_added_and_broken_ones_passed_over(self):
        self.assertEqual(changes.read(self.folder), [])
        for n in range(3):
            changes.add(self.folder, Change(**{**ENTRY, "feed": f"f{n}"}))
        path = place(self.folder, "changes.jsonl")
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)
        path.write_bytes(path.read_bytes() + b'{"cut": \n\xff\n' + b"x" * 70000 + b"\n" + path.read_bytes()[:40])
        self.assertEqual([one.feed for one in changes.read(self.folder)], ["f0", "f1", "f2"])
        self.assertEqual(changes.last(self.folder, "tower", "main").feed, "f2")
        self.assertIsNone(changes.last(self.folder, "tower", "second"))


class Learned(Folder):
    def lesson(self, **more):
        return Lesson(**{"model": "B2", "firmware": "2", "channel": "main", "parameter": "video.bitrate.mean", "old": 2000, "wanted": 6900, "became": 4000,
                         "when": "20260103-174501", **more})  # fmt: skip

    def channel(self, **limits):
        raw = {"video.bitrate.mean": {"min": 100, "max": 9000}, "video.rate_control": ["cbr", "vbr"], **limits}
        values = {"video.bitrate.mean": 2000, "video.rate_control": "vbr"}
        return Channel("main", values, {name: parse(name, one) for name, one in raw.items()})

    def test_an_end_of_a_range_and_a_word_that_is_not_kept(self):
        for lesson, narrower in (
            (self.lesson(), Demand("video.bitrate.mean", maximum=4000)), (self.lesson(wanted=500, became=1000), Demand("video.bitrate.mean", minimum=1000)),
            (self.lesson(parameter="video.rate_control", old=None, wanted="cbr", became="vbr"), Demand("video.rate_control", ("vbr",))),
        ):  # fmt: skip
            (law,) = learned.applied(self.channel(), [lesson], "B2", "2").together
            self.assertEqual(law.then, (narrower,))
            self.assertIn("on 2026-01-03", law.because)
        for other in ({"model": "B3"}, {"firmware": "3"}, {"channel": "second"}, {"parameter": "audio.channels"}):
            self.assertEqual(learned.applied(self.channel(), [self.lesson(**other)], "B2", "2").together, ())

    def test_what_became_the_old_value_again_or_a_step_of_the_device_forbids_nothing(self):
        for lesson in (
            self.lesson(became=2000), self.lesson(parameter="video.rate_control", old="vbr", wanted="cbr", became="vbr"),
            self.lesson(wanted=4000, became=4096), self.lesson(wanted=4000, became=3968),
        ):  # fmt: skip
            self.assertEqual(learned.applied(self.channel(), [lesson], "B2", "2").together, ())
        # the same value for several wishes is an end of the range after all
        two = [self.lesson(wanted=4200, became=4096), self.lesson(wanted=4400, became=4096)]
        self.assertEqual([learned.kind_of(one, two) for one in two], ["limit", "limit"])

    def test_a_lesson_keeps_its_circumstances(self):
        lesson = self.lesson(beside={"video.rate_control": "vbr"})
        (law,) = learned.applied(self.channel(), [lesson], "B2", "2").together
        self.assertEqual(law.when, (Demand("video.rate_control", ("vbr",)),))
        tied = self.lesson(tied=["video.size"], wanted=4000, became=4096)
        self.assertEqual(learned.kind_of(tied, [tied]), "tie")
        learned.add(self.folder, [lesson, self.lesson()])
        self.assertEqual(len(learned.read(self.folder)), 2, "one for each circumstance")
        self.assertEqual((learned.forget(self.folder, "B3"), learned.forget(self.folder, "B2", "video.bitrate.mean")), (0, 2))
        self.assertEqual(learned.read(self.folder), [])

    def test_they_are_kept_and_replaced_and_match_keeps_to_them(self):
        learned.add(self.folder, [self.lesson()])
        learned.add(self.folder, [self.lesson(became=3000), self.lesson(wanted=5000, became=3500)])
        found = learned.read(self.folder)
        self.assertEqual([(one.wanted, one.became) for one in found], [(6900, 3000), (5000, 3500)])
        from direkt.destination.sheet import Rule, Sheet

        sheet = Sheet(
            "T",
            "t",
            "",
            {
                "video.bitrate.mean": Rule(
                    "video.bitrate.mean", Demand("video.bitrate.mean", minimum=2500), Demand("video.bitrate.mean", (6900,)),
                )
            },
        )
        made = plan(learned.applied(self.channel(), found, "B2", "2"), sheet, None)
        self.assertEqual(made.values(), {"video.bitrate.mean": 3000})
        place(self.folder, "learned.json").write_text("{")
        self.assertEqual(learned.read(self.folder), [])


if __name__ == "__main__":
    unittest.main()
