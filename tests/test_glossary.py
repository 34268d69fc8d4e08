import unittest

from direkt import glossary, parameters


class Words(unittest.TestCase):
    def test_there_are_more_than_eighty_and_none_twice(self):
        found = list(glossary.entries())
        self.assertGreater(len(found), 80)
        self.assertEqual(len({e.term for e in found}), len(found))
        self.assertLessEqual(set(parameters.TABLE), {e.term for e in found})
        for e in found:
            self.assertTrue(e.what.endswith(".") or e.what.endswith("?"), e.term)

    def test_words_of_devices_pages_and_near_spellings(self):
        for word, term in (
            ("BP", "baseline"), ("GOP length", "keyframe interval"), ("keyfram", "keyframe"), ("Kbps", "kbit/s"), ("CVBR", "vbr"), ("H.265", "h265"),
            ("substream", "sub stream"), ("video.codec", "video.codec"), ("Stream URL", "server address"), ("29,97", "29.97"), ("digest", "digest login"),
        ):  # fmt: skip
            self.assertIn(term, [e.term for e in glossary.find(word)[0]], word)
        self.assertEqual(glossary.find("xqzzy")[0], [])


class Sums(unittest.TestCase):
    def test_by_hand(self):
        self.assertEqual(parameters.keyframe_frames(2, 50), 100)
        self.assertEqual(parameters.keyframe_frames(2, 30000 / 1001), 60)
        self.assertEqual(parameters.keyframe_seconds(250, 25), 10)
        self.assertAlmostEqual(glossary.data_volume(8000, 1), 3.6)
        self.assertEqual(glossary.level_for(1920, 1080, 50), "4.2")
        self.assertIsNone(glossary.level_for(8192, 8192, 300))
        self.assertAlmostEqual(glossary.bits_per_pixel(6220.8, 1920, 1080, 50)[0], 0.06)
