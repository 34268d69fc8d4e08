"""What is kept of a measurement comes back as it was, is judged as it was, and nonsense is said."""

from __future__ import annotations

import json
import random
import unittest

from direkt import parameters
from direkt.errors import Malformed
from direkt.measure import kept
from direkt.measure.meter import Measurement
from direkt.measure.series import OverTime
from direkt.parameters import Bound, Measured, ValueKind
from direkt.report import comparison
from tests.test_causes import SENT, judged


def any_value(source, row):
    if row.kind is ValueKind.NUMBER:
        return source.choice([0, 0.0, 1, 2.5, -3.25, 40000])
    return {ValueKind.SIZE: "640x360", ValueKind.RATIO: "16:9", ValueKind.VERSION: "3.1", ValueKind.YES_NO: source.choice(["yes", "no"])}.get(
        row.kind, row.choices[0] if row.choices else "x"
    )


class Kept(unittest.TestCase):
    def test_everything_comes_back(self):
        source = random.Random(2)
        for _ in range(60):
            found = {}
            for name, row in parameters.TABLE.items():
                if source.random() < 0.6:
                    found[name] = Measured(
                        any_value(source, row), source.choice([None, *Bound]), source.choice([None, 0.0, 1.5]), source.choice(["", "a note"]),
                        source.choice([(), (any_value(source, row),)]), source.choice([None, any_value(source, row)]), source.random() < 0.2, source.choice([None, 0.0, 9.5]), source.choice(["", "why"]),
                    )  # fmt: skip
            rates = [source.uniform(0, 9000) for _ in range(source.choice([1, 40, 240]))]
            series = OverTime(1.0, tuple(round(rate, 1) for rate in rates), tuple(source.randrange(3) for _ in rates), (0.0, 2.125), float(len(rates)))
            made = Measurement(found, remarks=("odd",), video_series=series)
            self.assertEqual(kept.read(json.loads(json.dumps(kept.keep(made)))), made)

    def test_a_day_is_kept_small_and_its_mean_stays(self):
        rates = tuple(1000.0 + n % 7 for n in range(3600))
        text = json.dumps(kept.keep(Measurement({}, video_series=OverTime(24.0, rates, (12,) * 3600, tuple(map(float, range(3600))), 86400.0))))
        self.assertLess(len(text), 12_000)
        back = kept.read(json.loads(text)).video_series
        self.assertEqual((sum(back.marks), round(sum(back.kbit_s) / len(back.kbit_s))), (3600 * 12, 1003))

    def test_it_is_judged_as_it_was(self):
        first, _ = judged(video__bitrate__mean=900.0)
        found = {name: Measured(value) for name, value in SENT.items()} | {"video.bitrate.mean": Measured(900.0)}
        again = kept.read(kept.keep(Measurement(found)))
        from tests.test_causes import SHEET, judge_sent

        self.assertEqual([f.verdict for f in judge_sent(SHEET, again.found).findings], [f.verdict for f in first.findings])

    def test_nonsense_is_said(self):
        for nonsense in ({}, {"found": 3}, {"found": {"video.size": {}}}, {"found": {"video.size": {"value": [1]}}}, {"found": {}, "video": {"width": 1}}, {"found": {"video.size": None}}):
            self.assertRaises(Malformed, kept.read, nonsense)
        self.assertEqual(kept.read({"found": {"video.from_the_future": {"value": 1}}}).found, {})
        for nonsense in ({}, {"measured": 3}, {"measured": {"video.size": {}}}):
            self.assertRaises(Malformed, kept.of_document, nonsense)


class Beside(unittest.TestCase):
    def compare(self, a, b):
        return comparison.compare(Measurement(a), Measurement(b))

    def test_what_differs_and_what_measuring_alone_makes(self):
        a = {"video.size": Measured("1280x720"), "video.width": Measured(1280), "video.bitrate.mean": Measured(2500.0), "audio.codec": Measured("aac"),
             "video.keyframe_interval.max": Measured(5.0, Bound.AT_LEAST), "stream.duration": Measured(9.0)}  # fmt: skip
        b = {"video.size": Measured("1920x1080"), "video.width": Measured(1920), "video.bitrate.mean": Measured(2500.4), "video.keyframe_interval.max": Measured(10.0),
             "stream.duration": Measured(60.0), "video.tier": Measured("main")}  # fmt: skip
        found = self.compare(a, b)
        self.assertEqual([d.parameter for d in found.differs], ["video.size"])
        self.assertEqual({d.parameter for d in found.one_sided}, {"audio.codec", "video.tier"})
        self.assertEqual(set(found.same), {"video.bitrate.mean", "video.keyframe_interval.max"})

    def test_a_bound_that_cannot_reach_the_other_differs(self):
        a, b = {"video.keyframe_interval.max": Measured(12.0, Bound.AT_LEAST)}, {"video.keyframe_interval.max": Measured(10.0)}
        self.assertEqual([d.parameter for d in self.compare(a, b).differs], ["video.keyframe_interval.max"])
        self.assertEqual(len(self.compare(b, a).differs), 1)

    def test_every_measure_is_in_one_of_the_three(self):
        source = random.Random(4)
        for _ in range(40):
            sides = [{n: Measured(any_value(source, r)) for n, r in parameters.TABLE.items() if source.random() < 0.5} for _ in range(2)]
            found = self.compare(*sides)
            told = [*found.same, *(d.parameter for d in (*found.differs, *found.one_sided))]
            self.assertEqual(len(told), len(set(told)))
            self.assertLessEqual(set(told), set(sides[0]) | set(sides[1]))


if __name__ == "__main__":
    unittest.main()
