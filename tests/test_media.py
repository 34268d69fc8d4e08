"""The waist's own helpers against the plainest way to do the same."""

import random
import unittest

import numpy as np

from direkt.media import Samples, batch, column, joined, words


class Words(unittest.TestCase):
    def test_every_place_of_every_short_buffer(self) -> None:
        for size in range(1, 40):
            data = random.Random(size).randbytes(size)
            places = list(range(size + 20))
            expected = [int.from_bytes((data[at : at + 8] + bytes(8))[:8], "big") for at in places]
            self.assertEqual(words(data, column(places)).tolist(), expected, size)

    def test_places_in_any_order_and_none(self) -> None:
        data = bytes(range(1, 60))
        self.assertEqual(words(memoryview(data), column([])).tolist(), [])
        self.assertEqual(words(data, column([40, 3, 40])).tolist(), [int.from_bytes(data[n : n + 8], "big") for n in (40, 3, 40)])
        self.assertEqual(words(b"", column([0])).tolist(), [0])


class Joined(unittest.TestCase):
    def test_batches_put_together_hold_the_same_samples(self) -> None:
        chance = random.Random(2)
        for turn in range(200):
            live, rows, batches = turn % 2 == 0, [], []
            for _ in range(chance.randrange(1, 6)):
                count = chance.randrange(0, 4)
                parts = [chance.randbytes(chance.randrange(0, 9)) for _ in range(count)]
                times = [chance.randrange(1000) for _ in range(count)]
                marks = [chance.random() < 0.5 for _ in range(count)]
                one = batch("video", parts, times, times[::-1], marks, [t / 7 for t in times] if live else None)
                if chance.random() < 0.5:  # a window into something larger, as a mapped file is
                    one = Samples("video", b"##" + bytes(one.data) + b"#", one.offset + 2, one.size, one.dts, one.pts, one.marked, one.arrival)
                batches.append(one)
                rows += list(zip(parts, times, times[::-1], marks, strict=True))
            whole = joined(batches)
            found = [
                (bytes(whole.sample(n)), int(whole.dts[n]), int(whole.pts[n]), bool(whole.marked[n])) for n in range(len(whole))
            ]
            self.assertEqual(found, rows)
            self.assertEqual(whole.arrival is not None, live)
            if whole.arrival is not None:
                self.assertTrue(np.array_equal(whole.arrival, [row[1] / 7 for row in rows]))
