"""Running figures, held against the same reckoned the slow way on all of the stream at once."""

import itertools
import random
import unittest
from fractions import Fraction

import numpy as np

from direkt.measure.figures import Bitrate, Evenness, Intervals, TrackClock
from direkt.measure.video import _Rows
from direkt.media import column
from tests.support import MS


def pieces(source: random.Random, *columns):
    """Columns cut into the same random batches."""
    at, count = 0, len(columns[0])
    while at < count:
        end = min(count, at + source.randrange(1, 60))
        yield tuple(c[at:end] for c in columns)
        at = end


class Peaks(unittest.TestCase):
    def test_the_fullest_second_is_that_of_brute_force(self):
        source = random.Random(41)
        for tick in (MS, Fraction(1, 12000), Fraction(1, 90000)):
            times = np.cumsum([source.randrange(1, 90) * int(MS / tick) for _ in range(400)])
            sizes = column([source.randrange(1, 5000) for _ in range(400)])
            rate = Bitrate(tick)
            for t, s in pieces(source, times, sizes):
                rate.add(t, s)
            window = Fraction(9995, 10000) / tick
            best = max(
                sum(int(s) for t, s in zip(times, sizes, strict=True) if end - window < t <= end)
                for end in times.tolist()
            )
            self.assertEqual((rate.peak, rate.bytes), (best, int(sizes.sum())))

    def test_a_window_holds_one_second_and_no_more(self):
        rate = Bitrate(MS)
        rate.add(column(range(0, 5000, 100)), column([100] * 50))
        self.assertEqual(rate.peak, 1000, "ten pictures of a tenth of a second")
        self.assertEqual(rate.peak_kbit_s, 8.0)
        self.assertEqual(rate.recent(), 8.0)
        self.assertEqual(rate.kbit_s(5), 8.0)

    def test_no_window_spans_a_gap(self):
        rate = Bitrate(MS)
        rate.add(column([0, 900]), column([100, 100]))
        rate.new_stretch()
        rate.add(column([950]), column([100]))
        self.assertEqual(rate.peak, 200)


class Windows(unittest.TestCase):
    def slow(self, times, sizes, keys):
        """Windows cut one sample at a time: at the first keyframe from 1 s on, or at 10 s."""
        out, begin, total = [], None, 0
        for n, (time, size) in enumerate(zip(times, sizes, strict=True)):
            if begin is None:
                if n in keys:
                    begin, total = time, size
                continue
            if (time - begin >= 1000 and n in keys) or time - begin >= 10_000:
                out.append((total, time - begin))
                begin, total = time, 0
            total += size
        return out

    def test_they_are_those_of_brute_force(self):
        source = random.Random(42)
        for _ in range(30):
            step, interval = source.choice([20, 33, 40, 500]), source.choice([1, 3, 25, 50, 61, 700])
            times = np.arange(source.randrange(1, 900)) * step + 5000
            sizes = column([source.randrange(1, 5000) for _ in times])
            keys = column([n for n in range(len(times)) if n % interval == 2])
            even = Evenness(MS)
            marks = np.isin(np.arange(len(times)), keys)
            for t, s, m in pieces(source, times, sizes, marks):
                even.add(t, s, np.flatnonzero(m))
            self.assertEqual(even.windows, self.slow(times.tolist(), sizes.tolist(), set(keys.tolist())))

    def test_many_windows_stay_few(self):
        even = Evenness(MS)
        times = np.arange(20_000) * 500
        even.add(times, np.full(20_000, 100), np.arange(20_000))
        self.assertLessEqual(len(even.windows), 4097)
        self.assertEqual(set(even.deviations()), {0.0})


class Clocks(unittest.TestCase):
    def test_runs_breaks_and_spans(self):
        for dts, wanted in (
            ([0, 40, 80], (1, 0, 0, 80)), ([0, 40, 20, 60], (2, 1, 0, 80)), ([0, 1000, 2000], (1, 0, 0, 2000)),
            ([0, 2001, 2041], (2, 0, 1, 40)), ([0, 0, 0], (1, 0, 0, 0)), ([0, 40, 5000, 5040], (2, 0, 1, 80)),
        ):  # fmt: skip
            for cut in range(len(dts) + 1):
                clock = TrackClock(MS)
                for part in (dts[:cut], dts[cut:]):
                    clock.add(column(part), column(part))
                found = (clock.runs, clock.backward, clock.jumps, round(clock.span * 1000))
                self.assertEqual(found, wanted, (dts, cut))

    def test_which_samples_begin_a_run(self):
        clock = TrackClock(MS)
        self.assertEqual(clock.add(column([0, 40, 9000, 20]), column([0, 40, 9000, 20])), [0, 2, 3])
        clock.interrupt()
        self.assertEqual(clock.add(column([60]), column([60])), [0])
        self.assertEqual((clock.backward, clock.jumps, clock.runs), (1, 1, 4), "an interruption is no break")


class Bridges(unittest.TestCase):
    """A step of five seconds in one track is a gap where the other ran on meanwhile, and a jump where it did not."""

    @staticmethod
    def clock(*times: int) -> TrackClock:
        made = TrackClock(MS)
        made.add(column(times), column(times))
        return made

    def test_what_another_track_must_show(self):
        leaping = (0, 40, 80, 5080, 5120, 5160)
        whole = range(0, 7000, 1000)
        for others, gaps in (
            (whole, 1), (range(80, 5081, 1000), 1), (range(120, 6000, 980), 0), (range(0, 5000, 1000), 0), ((0, 6000), 0), ((), 0),
            ((0, 1000, 2000, 1900, 3000, 4000, 5000, 6000), 0), ((0, 1000, 4000, 5000, 6000), 0), ((0, 1000, 3400, 5000, 6000), 1),
        ):  # fmt: skip
            track = self.clock(*leaping)
            track.bridge(self.clock(*others) if others else None)
            self.assertEqual((len(track.gaps), track.jumps), (gaps, 1 - gaps), list(others))

    def test_what_was_waited_for_is_a_gap_by_itself(self):
        for waited, gaps in ((5.0, 1), (2.6, 1), (2.4, 0), (0.04, 0)):
            made = TrackClock(MS)
            times = column([0, 40, 5040, 5080])
            made.add(times, times, None, np.array([0, 0.04, 0.04 + waited, 0.08 + waited]))
            made.bridge(None)
            self.assertEqual(len(made.gaps), gaps, waited)


class Times(unittest.TestCase):
    def test_intervals(self):
        seen = Intervals(MS)
        seen.add(column([40] * 98 + [50, 90]))
        self.assertEqual((seen.shortest, seen.longest, seen.quantile(0.5), len(seen)), (0.04, 0.09, 0.04, 100))

    def test_far_too_many_kinds_are_rounded(self):
        fine = Intervals(Fraction(1, 90000))
        for start in range(0, 400_000, 1000):
            fine.add(column(range(start, start + 1000)))
        self.assertLess(len(fine._seen), 103_000)
        self.assertAlmostEqual(fine.longest, 400_000 / 90_000, delta=0.01)

    def test_rows_are_those_of_brute_force(self):
        source = random.Random(43)
        for _ in range(50):
            marks = [source.random() < 0.6 for _ in range(source.randrange(1, 120))]
            rows = _Rows()
            for (part,) in pieces(source, np.array(marks)):
                rows.add(part)
            wanted = max((len(list(group)) for mark, group in itertools.groupby(marks) if mark), default=0)
            self.assertEqual(rows.longest, wanted)

    def test_a_row_that_is_known_late(self):
        rows = _Rows()
        rows.add(np.array([True, True, False]))
        rows.add(np.array([True, False]), late=True)
        self.assertEqual(rows.longest, 4)
