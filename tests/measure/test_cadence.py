"""The rhythm of pictures of known make-up."""

import random
import unittest
from fractions import Fraction

import numpy as np

from direkt.measure.cadence import Cadence
from direkt.media import column
from tests.support import MS


def rhythm(times, sizes=(), tick=MS) -> Cadence:
    """The cadence of times in s, taken in batches of these sizes."""
    ticks = column([round(t / float(tick)) for t in times])
    found, at = Cadence(tick), 0
    for size in (*sizes, len(ticks)):
        found.add(ticks[at : at + size])
        at += size
    return found.finished()


def grid(rate, count, start=0.0):
    return [start + n / float(rate) for n in range(count)]


class Rates(unittest.TestCase):
    def test_the_grain_of_time_stamps_is_no_jitter(self):
        for rate in (
            Fraction(25), Fraction(30), Fraction(30000, 1001), Fraction(50), Fraction(60000, 1001), Fraction(24000, 1001),
        ):
            for tick in (MS, Fraction(1, 90000), Fraction(1, 12800)):
                found = rhythm(grid(rate, 300), tick=tick)
                self.assertEqual(found.usual(), (float(rate), 0.0), (rate, tick))
                self.assertEqual((found.jitter, found.even, found.missing, found.repeated), (0.0, True, 0, 0))

    def test_every_rate_in_use_is_known_where_time_stamps_cannot_tell(self):
        for whole in (5, 10, 12, 15, 20, 24, 25, 30, 48, 50, 60, 90, 100, 120):
            for rate in (Fraction(whole), *([Fraction(whole * 1000, 1001)] if whole in (15, 24, 30, 60, 120) else ())):
                usual, off = rhythm(grid(rate, 2000)).usual()
                self.assertEqual((usual, off), (float(rate), 0.0), rate)
        self.assertEqual(rhythm(grid(Fraction(25, 2), 200)).usual(), (12.5, 0.0))
        usual, off = rhythm(grid(Fraction(16), 200)).usual()
        self.assertTrue(abs(usual - 16) <= off < 0.01 and off, "16 is none of them")

    def test_a_clock_that_jitters_by_4_ms_is_still_one_of_30(self):
        for seed in range(20):
            source = random.Random(seed)
            for rate in (30, 25, 50, 60):
                times = [max(0.0, t + source.uniform(-0.004, 0.004)) for t in grid(rate, 20 * rate)]
                found = rhythm(sorted(times))
                usual, off = found.usual()
                self.assertTrue(abs(usual - rate) <= max(off, 1e-9) and off < 0.02 * rate / 30, (usual, off))
                self.assertEqual(round(usual), rate)
                self.assertEqual((found.missing, found.repeated, len(found.segments)), (0, 0, 1), (rate, seed))
                self.assertTrue(0.005 < found.jitter < 0.009, found.jitter)

    def test_the_uncertainty_holds_the_true_rate(self):
        missed = 0
        for seed in range(200):
            source = random.Random(seed)
            rate = source.uniform(20, 60)
            times = [t + source.gauss(0, 0.002) for t in grid(rate, source.randrange(60, 900), 1.0)]
            usual, off = rhythm(sorted(times)).usual()
            missed += abs(usual - rate) > off + 1e-4
        self.assertLess(missed, 4)

    def test_the_headers_rate_is_meant_where_it_fits(self):
        found = rhythm(grid(30, 4))
        usual, off = found.usual()
        self.assertTrue(abs(usual - 30) < off < 1, "three intervals leave room for 29.97 and 30")
        self.assertEqual(found.usual(Fraction(30000, 1001)), (30000 / 1001, 0.0))
        self.assertEqual(rhythm(grid(30, 300)).usual(Fraction(17)), (30.0, 0.0), "a claim that does not fit")
        self.assertIsNone(rhythm([]).usual())
        self.assertIsNone(rhythm([1.0]).usual())


class Explanations(unittest.TestCase):
    """Rate, jitter, what is missing and what repeats: of each kind of times, the explanation that a person would give."""

    def test_strong_jitter_is_neither_a_loss_nor_another_rate(self):
        for rate, jitter in ((25, 0.014), (30, 0.014), (50, 0.008), (25, 0.018), (60, 0.006)):
            for seed in range(6):
                source = random.Random(seed)
                found = rhythm(sorted(t + source.uniform(-jitter, jitter) for t in grid(rate, 15 * rate, 1.0)))
                told = (rate, jitter, seed)
                self.assertEqual((len(found.segments), found.missing, found.repeated), (1, 0, 0), told)
                self.assertEqual(found.usual(), (float(rate), 0.0), told)
                self.assertAlmostEqual(found.jitter, 1.75 * jitter, delta=0.4 * jitter)

    def test_losses_are_counted_in_a_clock_that_jitters(self):
        for seed in range(8):
            source = random.Random(seed)
            lost = set(source.sample(range(10, 590), 12))
            times = [t + source.uniform(-0.008, 0.008) for n, t in enumerate(grid(25, 600, 1.0)) if n not in lost]
            found = rhythm(sorted(times))
            self.assertEqual((found.missing, found.repeated, len(found.segments)), (12, 0, 1), seed)
            self.assertEqual(found.usual(), (25.0, 0.0))

    def test_pictures_in_pairs_have_two_explanations(self):
        found = rhythm(sorted([*grid(30, 450), *(t + 0.002 for t in grid(30, 450))]))
        self.assertTrue(found.twofold, "twice as many that come in pairs, or each of them repeated")
        self.assertEqual(found.usual(), (60.0, 0.0), "pictures a second, either way")
        self.assertFalse(rhythm(grid(30, 450)).twofold)

    def test_a_regular_lateness_is_no_loss(self):
        found = rhythm([n * 1001 / 30000 + (0.014 if n % 3 == 0 else 0.0) for n in range(600)])
        self.assertEqual((found.usual(), found.missing, found.repeated, found.even), ((30000 / 1001, 0.0), 0, 0, True))

    def test_one_of_ten_pictures_dropped_is_not_a_lower_rate(self):
        found = rhythm([t for n, t in enumerate(grid(30, 600)) if n % 10 != 9])
        self.assertEqual((found.usual(), found.missing, len(found.segments)), ((30.0, 0.0), 59, 1))
        source = random.Random(3)
        kept = [n for n in range(600) if source.random() > 0.1 or n in (0, 599)]
        self.assertEqual(rhythm([n / 30 for n in kept]).missing, 600 - len(kept))

    def test_stamps_of_arrival_wander_and_lose_nothing(self):
        for seed in range(5):
            source, times, now = random.Random(seed), [], 0.0
            for n in range(1000):
                now = max(n / 25, now + 0.001) + max(0.0, source.gauss(0, 0.006))
                times.append(now)
            found = rhythm(times)
            self.assertEqual((len(found.segments), found.missing, found.repeated), (1, 0, 0), seed)
            self.assertAlmostEqual(found.usual()[0], 25, delta=0.02)

    def test_a_coarse_clock_is_jitter(self):
        for rate, grain in ((60, 0.010), (25, 0.016), (30, 0.020)):
            found = rhythm([round(n / rate / grain) * grain for n in range(600)])
            self.assertEqual((found.usual(), found.missing, found.repeated, found.even), ((float(rate), 0.0), 0, 0, True))

    def test_a_change_of_rate_shows_through_jitter(self):
        for before, after in ((25, 30), (30, 24), (50, 25)):
            source = random.Random(before)
            times = grid(before, 300, 1.0)
            times += grid(after, 300, times[-1] + 1 / after)
            found = rhythm(sorted(t + source.gauss(0, 0.005) for t in times))
            told = [found.rate(s)[0] for s in found.segments]
            self.assertEqual(len(told), 2, (before, after, told))
            self.assertAlmostEqual(told[0], before, delta=0.2)
            self.assertAlmostEqual(told[1], after, delta=0.2)


class Losses(unittest.TestCase):
    def test_what_is_missing_is_counted_and_timed_whatever_the_batches(self):
        for seed in range(60):
            source = random.Random(seed)
            rate = source.choice([25, 30, 50])
            count = source.randrange(200, 700)
            lost = sorted(source.sample(range(5, count - 5), source.randrange(1, 9)))
            times = [t + source.uniform(0, 0.003) for n, t in enumerate(grid(rate, count)) if n not in lost]
            wanted = rhythm(times)
            self.assertEqual(wanted.missing, len(lost), (seed, lost))
            places = [n for n in lost if n - 1 not in lost]
            for place, n in zip(wanted.missing_at, places, strict=False):
                self.assertAlmostEqual(place.at / 1000, (n - 1) / rate, delta=0.004)
            self.assertAlmostEqual(wanted.usual()[0], rate, delta=0.1)
            for sizes in ([1] * count, [source.randrange(1, 200) for _ in range(count)]):
                other = rhythm(times, sizes)
                self.assertEqual(
                    (other.missing, other.missing_at, other.longest, other.jitter, len(other.segments)),
                    (wanted.missing, wanted.missing_at, wanted.longest, wanted.jitter, len(wanted.segments)),
                )
                self.assertAlmostEqual(other.usual()[0], wanted.usual()[0], places=6)

    def test_a_freeze_of_a_second(self):
        times = grid(30, 150) + grid(30, 150, 6.0)
        found = rhythm(times)
        self.assertEqual((found.missing, round(found.longest / 1000, 2)), (30, 1.03))
        self.assertAlmostEqual(found.longest_at / 1000, 149 / 30, delta=0.001)
        self.assertEqual(found.usual(), (30.0, 0.0))
        self.assertFalse(found.even)

    def test_pictures_that_repeat(self):
        times = sorted([*grid(25, 200), 2.0, 5.0, 5.0])
        found = rhythm(times)
        self.assertEqual((found.repeated, found.repeated_at, found.missing), (3, [2000, 5000, 5000], 0))
        self.assertEqual(found.usual(), (25.0, 0.0))

    def test_an_early_picture_is_uneven_and_nothing_is_missing(self):
        times = grid(25, 200)
        times[77] -= 0.025
        found = rhythm(times)
        self.assertEqual((found.missing, found.repeated, found.uneven, found.even), (0, 0, 1, False))
        times[77] += 0.05
        found = rhythm(times)
        self.assertEqual((found.missing, found.repeated, found.even), (0, 0, False))

    def test_film_in_the_rhythm_of_a_faster_clock_is_even(self):
        times = [n // 2 * 5 / 60 + n % 2 * 2 / 60 for n in range(400)]
        found = rhythm(times)
        self.assertEqual(found.usual(), (24.0, 0.0))
        self.assertEqual((found.missing, found.repeated, len(found.segments)), (0, 0, 1))
        self.assertAlmostEqual(found.jitter, 1 / 120, delta=0.001)


class Changes(unittest.TestCase):
    def test_each_rate_is_told_from_where_it_begins(self):
        for rates in ((30, 25), (60, 30), (25, 50), (30, 24), (15, 30, 15), (50, 25, 30), (30, 29)):
            for jitter in (0.0, 0.002):
                source, times, begins = random.Random(7), [0.0], []
                for rate in rates:
                    begins.append(times[-1])
                    times += grid(rate, 240, times[-1] + 1 / rate)
                times = sorted(t + source.uniform(0, jitter) for t in times)
                for sizes in ((), [1] * len(times), [37] * 99):
                    found = rhythm(times, sizes)
                    told = [found.rate(s)[0] for s in found.segments]
                    self.assertEqual(len(told), len(rates), (rates, told))
                    for rate, got, begin, segment in zip(rates, told, begins, found.segments, strict=True):
                        self.assertAlmostEqual(got, rate, delta=0.02 * rate if jitter else 0.02)
                        self.assertAlmostEqual(segment.begin / 1000, begin, delta=0.7, msg=str(rates))
                    self.assertLess(found.missing + found.repeated, 8)

    def test_many_changes_stay_few(self):
        source, times = random.Random(3), [0.0]
        for _ in range(200):
            times += grid(source.randrange(5, 60), 90, times[-1] + 0.1)
        found = rhythm(times)
        self.assertLessEqual(len(found.segments), 24)
        self.assertIsNotNone(found.usual())

    def test_noise_raises_nothing(self):
        for seed in range(100):
            source = random.Random(seed)
            steps = [source.choice((0, 0, 1, 33, 40, 2000, source.randrange(3000))) for _ in range(source.randrange(300))]
            found = Cadence(MS)
            ticks = np.cumsum(column(steps))
            for at in range(0, len(ticks), 50):
                found.add(ticks[at : at + 50])
                if source.random() < 0.2:
                    found.new_run()
            done = found.finished()
            done.usual()
            self.assertGreaterEqual(done.missing, 0)
