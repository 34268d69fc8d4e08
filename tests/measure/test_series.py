"""A track over time against a count by hand, and in bounded memory however long it is."""

from __future__ import annotations

import random
import unittest
from collections import Counter
from fractions import Fraction

import numpy as np

from direkt.measure import series
from direkt.measure.series import Series


class Counting(unittest.TestCase):
    def test_bytes_and_keyframes_of_random_streams(self):
        source = random.Random(8)
        for _ in range(40):
            tick = source.choice([Fraction(1, 1000), Fraction(1, 90000)])
            made, by_hand, keys = Series(tick), Counter(), Counter()
            at, shift, last = source.randrange(10**6), None, 0.0
            for _ in range(source.randrange(1, 5)):  # stretches; times jump in between
                made.begin(at)
                shift = last - at * float(tick)
                for _ in range(source.randrange(1, 6)):
                    count = source.randrange(1, 80)
                    ticks = np.cumsum([0, *(source.randrange(1, int(1 / tick) // 10) for _ in range(count - 1))]) + at
                    sizes = np.array([source.randrange(1, 9000) for _ in range(count)])
                    marks = ticks[:: source.randrange(1, 9)]
                    made.add(ticks, sizes)
                    made.mark(marks)
                    for tick_, size in zip(ticks.tolist(), sizes.tolist(), strict=True):
                        place = max(0.0, tick_ * float(tick) + shift)
                        by_hand[int(place)] += size
                        last = max(last, place)
                    for tick_ in marks.tolist():
                        keys[int(max(0.0, tick_ * float(tick) + shift))] += 1
                    at = int(ticks[-1]) + int(1 / tick) // 25
                at = source.randrange(10**7)
            found = made.over_time()
            self.assertEqual(found.marks, tuple(keys[n] for n in range(len(found.marks))))
            self.assertAlmostEqual(found.seconds, last, places=6)
            for n, rate in enumerate(found.kbit_s[:-1]):
                self.assertAlmostEqual(rate * 1000 / 8, by_hand[n], places=3)
            self.assertEqual(sum(keys.values()), sum(found.marks))

    def test_a_day_takes_no_more_than_an_hour(self):
        made = Series(Fraction(1, 1000))
        for hour in range(24):
            ticks = np.arange(hour * 3_600_000, (hour + 1) * 3_600_000, 2000)
            made.add(ticks, np.full(len(ticks), 250_000))
            made.mark(ticks)
        found = made.over_time()
        self.assertLessEqual(len(found.kbit_s), series.MOST)
        self.assertLessEqual(len(found.times), series.MOST + 3600)
        self.assertEqual(sum(found.marks), 24 * 1800)
        self.assertTrue(all(abs(rate - 1000) < 70 for rate in found.kbit_s[:-1]), "1 Mbit/s all day")

    def test_nothing_yet(self):
        self.assertEqual(Series(Fraction(1, 1000)).over_time().kbit_s, ())


if __name__ == "__main__":
    unittest.main()
