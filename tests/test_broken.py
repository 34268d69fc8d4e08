"""Inputs that once broke a reader, found by tests.fuzz; and a few mutations of each, so that it can be relied on."""

import random
import unittest

from tests import fuzz


class Broken(unittest.TestCase):
    def test_what_once_broke_a_reader_no_longer_does(self):
        for target in fuzz.TARGETS:
            for path in sorted((fuzz.BROKEN / target.name).glob("*.bin")):
                with self.subTest(path.name):
                    self.assertEqual(fuzz.trial(target, path.read_bytes()), "")

    def test_good_inputs_are_read_and_damaged_ones_are_told(self):
        for target in fuzz.TARGETS:
            seeds = target.seeds()
            for data in [*seeds, *(fuzz.mutate(seeds, target.words, random.Random(n)) for n in range(8))]:
                with self.subTest(target.name):
                    self.assertEqual(fuzz.trial(target, data), "")

    def test_a_reader_that_breaks_is_noticed(self):
        def read(data: bytes) -> None:
            if b"x" in data:
                raise KeyError("x")

        target = fuzz.Target("made up", lambda: [b"axb"], read)
        self.assertIn("KeyError at test_broken.py", fuzz.trial(target, b"an x"))
        self.assertEqual(fuzz.trial(target, b"another"), "")
        self.assertEqual(fuzz.cut_down(target, b"a" * 400 + b"x" + b"b" * 900), b"x")


if __name__ == "__main__":
    unittest.main()
