"""A judgement in words, its strip of time, and how both are laid out: at every width, without colour, in a pipe, with odd names."""

from __future__ import annotations

import io
import random
import re
import unittest

from rich.console import Console

from direkt import parameters
from direkt.cli import judgement as judging
from direkt.finding import Verdict
from direkt.measure.meter import Measurement
from direkt.measure.series import OverTime
from direkt.parameters import Bound, Measured
from direkt.report import reading, strip
from tests.test_causes import SHEET, judged

WIDTHS = (60, 80, 100, 158)
BAD = {"video__size": "640x360", "video__width": 640, "video__height": 360, "video__bitrate__mean": 700.0, "audio__present": "no"}
NAMES = ("finish", "a" * 60, "רגאטה של האגם הצפוני", "a b\tc", "[bold]x[/]", "é" * 30)


def over_time(kbit_s, times=(), width=1.0):
    return OverTime(width, tuple(kbit_s), (0,) * len(kbit_s), tuple(times), len(kbit_s) * width)


class Words(unittest.TestCase):
    def read(self, **changes):
        return reading.read(judged(**changes)[0])

    def test_what_holds_is_one_line_and_what_fails_comes_in_its_order(self):
        good = self.read()
        self.assertEqual((good.verdict, good.fix, good.summary), (Verdict.PASS, (), "everything holds"))
        bad = self.read(**BAD)
        self.assertEqual([item.head.label for item in bad.fix], ["audio", "picture size"])
        self.assertEqual([line.label for line in bad.fix[1].follows], ["video bitrate"])
        self.assertEqual((bad.fix[1].head.now, bad.fix[1].head.wanted), ("640x360", "1920x1080 or 1280x720"))
        shown = {line.parameter for item in (*bad.fix, *bad.better, *bad.unknown) for line in (item.head, *item.follows)}
        shown |= {line.parameter for line in bad.holds}
        every = {f.parameter for f in judged(**BAD)[0].findings}
        self.assertLessEqual(every - shown, {"video.width", "video.height"}, "nothing is left out")

    def test_every_row_of_the_table_has_a_label_of_its_own(self):
        labels = [row.label for row in parameters.TABLE.values()]
        self.assertEqual(len(labels), len(set(labels)))
        self.assertTrue(all(re.fullmatch(r"[A-Za-z][A-Za-z -]+", label) for label in labels), labels)

    def test_what_is_only_just_inside_says_so(self):
        for value, tight in ((7990.0, True), (7700.0, False), (4000.0, False)):
            found = {line.parameter: line.now for line in self.read(video__bitrate__peak=value).holds}
            self.assertEqual("only just" in found["video.bitrate.peak"], tight, value)

    def test_when_it_began_is_told(self):
        gap = Measured(9.0, Bound.AT_LEAST, since=81.5)
        self.assertEqual(self.read(audio__longest_gap=gap).fix[0].when, "from 1:21.5 on")

    def test_no_name_of_a_parameter_and_no_line_is_too_wide(self):
        found, _ = judged(**BAD)
        made = reading.read(found)
        series = Measurement({}, video_series=over_time([700.0] * 40, range(0, 40, 9)))
        for width in WIDTHS:
            for name in NAMES:
                for colour in (True, False):
                    out = Console(file=io.StringIO(), width=width, force_terminal=colour, highlight=False, color_system="truecolor" if colour else None, no_color=not colour)
                    judging.print_judged(out, name, "8 s received", series, found, SHEET, with_set=False)
                    text = re.sub(r"\x1b\[[0-9;]*m", "", out.file.getvalue())
                    lines = text.splitlines()
                    self.assertLessEqual(max(map(len, lines)), width, (width, name))
                    self.assertIn("FAILS", lines[0])
                    self.assertNotIn("video.size", text)
                    self.assertEqual("keyframes" in text.replace("longest keyframe", ""), colour, "a pipe gets no strip")
                    for label in (item.head.label for item in made.fix):
                        self.assertIn(label, text)


class Strips(unittest.TestCase):
    def setUp(self):
        self.findings = judged(video__keyframe_interval__max=9.0)[0].findings

    def test_bars_against_a_count_of_our_own(self):
        source = random.Random(3)
        for _ in range(50):
            rates = [source.uniform(0, 8000) for _ in range(source.randrange(3, 400))]
            width = source.randrange(3, 200)
            bars, _ = strip.lines(over_time(rates), self.findings, width)
            cells = min(width, len(rates))
            self.assertEqual((len(bars.cells), len(bars.beyond)), (cells, cells))
            edges = [n * len(rates) // cells for n in range(cells + 1)]
            for n in range(cells):
                part = rates[edges[n] : max(edges[n + 1], edges[n] + 1)]
                mean = sum(part) / len(part)
                self.assertEqual(bars.beyond[n], mean < 1500 or mean > 5000, "the sheet's band at this size")

    def test_keyframes_late_ones_and_breaks(self):
        track = over_time([2000.0] * 20, (0.0, 2.0, 4.0, 13.0, 15.0))
        marks = strip.lines(track, self.findings, 20, breaks=[6.2])[1]
        self.assertEqual(marks.cells, "|·|·|·✗······|·|····")
        self.assertEqual([n for n, late in enumerate(marks.beyond) if late], [8, 9, 10, 11, 12, 13, 19])

    def test_too_little_time_makes_none(self):
        self.assertEqual(strip.lines(over_time([1.0, 2.0]), self.findings, 80), [])
        self.assertEqual(strip.lines(over_time([1.0] * 9), self.findings, 2), [])


if __name__ == "__main__":
    unittest.main()
