"""The waist's own helpers against the plainest way to do the same."""

import random
import unittest

from direkt.media import column, words


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
        self.assertEqual(
            words(data, column([40, 3, 40])).tolist(), [int.from_bytes(data[n : n + 8], "big") for n in (40, 3, 40)]
        )
        self.assertEqual(words(b"", column([0])).tolist(), [0])
