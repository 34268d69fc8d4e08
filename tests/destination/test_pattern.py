import re
import time
import unittest
from unittest import mock

from direkt import documents
from direkt.destination import pattern
from direkt.destination.file import build
from direkt.destination.lint import lint
from direkt.destination.paste import untangle
from direkt.destination.pattern import Pattern, PatternError

SLOW = "(a|aa)+$"


class Patterns(unittest.TestCase):
    def test_whole_keys_and_beginnings(self):
        like = Pattern("varn~fake~[a-z]{3,5}")
        for text in ("varn~fake~abc", "varn~fake~abcde", "varn~fake~ab", "varn~fake~abcdef", "VARN~fake~abc", "", "x"):
            self.assertEqual(like.fits(text), re.fullmatch("varn~fake~[a-z]{3,5}", text) is not None, text)
        for text, wanted in (
            ("", True), ("varn", True), ("varn~fake~a", True), ("varn~fake~abc", True), ("varm", False),
            ("varn~fake~abcdef", False),
        ):
            self.assertEqual(like.could_begin(text), wanted, text)

    def test_what_is_none_or_takes_too_long(self):
        for text, words in (
            ("(", "not a regular expression"), ("a{2,1}", "not a regular expression"), ("a" * 401, "at most 400"),
        ):
            with self.assertRaisesRegex(PatternError, words):
                Pattern(text)
        with mock.patch.object(pattern, "_LIMIT", 0.3):
            begin = time.monotonic()
            like = Pattern(SLOW)
            for _ in range(3):
                with self.assertRaisesRegex(PatternError, "takes more than 0.3 s"):
                    like.fits("a" * 80 + "b")
            self.assertLess(time.monotonic() - begin, 20, "no time is asserted, but a hang is")

    def test_sheets_and_pastes_end_in_time(self):
        text = f'schema: direkt.sheet/1\nname: T\nkey: {{pattern: "{SLOW}", example: {"a" * 80}b}}\nrules: {{video.codec: {{must: h264}}}}\n'
        with mock.patch.object(pattern, "_LIMIT", 0.3):
            found = [c.text for c in lint(build(documents.parse(text, "t.yaml"), "t"))]
            self.assertTrue(any("takes more than" in words for words in found), found)
            with self.assertRaisesRegex(PatternError, "takes more than") as caught:
                untangle("a" * 80 + "b", pattern=SLOW)
            self.assertNotIn("aaaa", str(caught.exception))
