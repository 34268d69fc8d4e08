import random
import unittest

from direkt import documents
from direkt.destination import library
from direkt.destination.file import build
from direkt.documents import DocumentError
from direkt.parameters import expand_set

GOOD = """\
schema: direkt.sheet/1
name: Test
rules:
  video.codec:
    must: h264
  video.frame_rate:
    must: {min: 24, max: 60}
    should: [50, 60]
ladder:
  - {size: 1280x720, frame_rate: {min: 20, max: 30}, bitrate: {min: 1000, best: 2000, max: 3000}}
  - {size: 1920x1080, frame_rate: {min: 20, max: 60}, bitrate: {min: 4000, max: 6000}}
"""


def sheet(text: str):
    return build(documents.parse(text, "test.yaml"), "test")


def problems(text: str) -> list[str]:
    try:
        sheet(text)
    except DocumentError as error:
        return error.lines()
    return []


class Files(unittest.TestCase):
    def test_the_shipped_ones_load_and_ask_for_what_they_are_known_for(self):
        self.assertEqual(library.shipped(), ["plainsong-village", "tarnlight"])
        large, small = library.load("tarnlight"), library.load("plainsong-village")
        self.assertTrue(large.rules["video.size"].must.allows("1920x1080"))
        self.assertFalse(small.rules["video.size"].must.allows("1920x1080"))
        self.assertFalse(small.rules["video.frame_rate"].must.allows(50))

    def test_unknown_names_get_a_hint(self):
        with self.assertRaisesRegex(DocumentError, "did you mean tarnlight"):
            library.load("tarnlite")
        with self.assertRaisesRegex(DocumentError, "none.yaml: cannot be read: no such file"):
            library.load("none.yaml")

    def test_the_ladder_gives_the_bitrate_of_the_smallest_fitting_rung(self):
        s = sheet(GOOD)
        for size, rate, wanted in (
            ("1280x720", 25, 1000), ("640x360", 30, 1000), ("1280x720", 50, 4000), ("1920x1080", 25, 4000),
        ):
            rule = s.rules_for(expand_set({"video.size": size, "video.frame_rate": rate}))["video.bitrate.mean"]
            self.assertEqual(rule.must.minimum, wanted)
        self.assertNotIn("video.bitrate.mean", s.rules_for(expand_set({"video.size": "3840x2160", "video.frame_rate": 25})))

    def test_each_mistake_has_its_line_its_place_and_what_was_expected(self):
        for old, new, line, words in (
            ("video.codec:", "video.codek:", 4, "did you mean video.codec"),
            ("must: h264", "must: H264", 5, "did you mean h264?"),
            ("min: 24, max: 60", "min: 24, max: sixty", 7, "expected a number in fps"),
            ("[50, 60]", "{above: 50}", 8, "got above"), ("name: Test", "nam: Test", 1, "'name' is missing"),
            ("name: Test", "name: Test\ntitel: x", 3, "unknown entry 'titel'"),
            ("    should: [50, 60]", "    shoud: 50", 8, "did you mean 'should'?"),
            ("direkt.sheet/1", "direkt.sheet/9", 1, "expected 'direkt.sheet/1'"),
            ("size: 1280x720", "size: 720p", 10, "expected a size like 1920x1080"),
            ("best: 2000", "best: 9000", 10, "best 9000 lies outside 1000 to 3000"),
            ("max: 30}", "max: 3}", 10, "frame_rate min 20 is above max 3"),
            ("max: 6000", "max: -1", 11, "greater than or equal to 0"),
        ):
            found = problems(GOOD.replace(old, new, 1))
            self.assertTrue(any(f"test.yaml:{line}: " in p and words in p for p in found), (new, found))

    def test_a_range_of_one_value_and_a_best_at_either_end_are_none(self):
        for old, new in (("min: 1000, best: 2000, max: 3000", "min: 2000, best: 2000, max: 2000"), ("best: 2000", "best: 1000"),
                         ("best: 2000", "best: 3000"), ("min: 20, max: 30", "min: 30, max: 30")):  # fmt: skip
            self.assertIn(old, GOOD)
            self.assertEqual(problems(GOOD.replace(old, new, 1)), [])

    def test_the_most_channels(self):
        rung = "audio_ladder: [{channels: %d, bitrate: {min: 1, max: 2}}]\n"
        self.assertEqual(problems(GOOD + rung % 24), [])
        for count in (0, 25):
            self.assertEqual(len(problems(GOOD + rung % count)), 1)

    def test_several_mistakes_come_in_one_run(self):
        text = (GOOD.replace("h264", "h266") .replace("[50, 60]", "fast") .replace("640", "x") .replace("best: 2000", "best: 1"))
        self.assertEqual(len(problems(text)), 3)

    def test_yaml_that_is_none(self):
        for text, words in (
            ("a: [1", "not valid YAML"), ("- 1\n", "expected entries"), ("", "expected entries like"), ("a: 1\na: 2\n", "duplicate"),
            ("a: !!python/object/apply:os.system [x]\n", "missing|unknown"), ("\0", "not valid YAML"), ("a: *b\n", "undefined alias"),
        ):  # fmt: skip
            found = problems(text)
            self.assertTrue(found, text)
            self.assertRegex("\n".join(found), words)
        bomb = "a: &a [x, x]\n" + "".join(
            f"{c}: &{c} [{', '.join(['*' + p] * 20)}]\n" for p, c in zip("abcdef", "bcdefg", strict=True)
        )
        self.assertRegex("\n".join(problems(bomb)), "aliases")

    def test_damaged_text_gives_problems_never_anything_else(self):
        source = random.Random(8)
        for _ in range(150):
            text = list(GOOD)
            for _ in range(source.randrange(1, 8)):
                text[source.randrange(len(text))] = source.choice("{}[]:-&*!|>%@`'\"#,?\t\n 9x")
            for line in problems("".join(text)):
                self.assertTrue(line.startswith("test.yaml"), line)
