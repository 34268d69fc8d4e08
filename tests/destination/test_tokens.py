"""The table reader's small parts by themselves, each against values written by hand."""

import unittest

from direkt.destination.published.cells import grid
from direkt.destination.published.words import context
from direkt.destination.published.words.numbers import Habit, habit_of, resolve
from direkt.destination.published.words.tokens import NumberToken, Size, scan, without_notes


def kinds(text):
    return [(token.kind.name, text[token.start : token.end]) for token in scan(text)]


def numbers(text):
    return [token.value for token in scan(text) if isinstance(token.value, NumberToken)]


class Numbers(unittest.TestCase):
    def test_what_digits_may_mean(self):
        for text, values in (
            ("4500", (4500,)), ("4.5", (4.5,)), ("4,5", (4.5,)), ("4.500", (4500, 4.5)), ("4,500", (4500, 4.5)), ("4 500", (4500,)), ("4'500", (4500,)),
            ("4\u00a0500", (4500,)), ("4\u202f500,5", (4500.5,)), ("1.234,5", (1234.5,)), ("1,234.5", (1234.5,)), ("1.234.567", (1234567,)), ("0.125", (0.125,)), ("29.97", (29.97,)),
            ("12.3456", (12.3456,)), ("1234.567", (1234.567,)),
        ):  # fmt: skip
            (found,) = numbers(text)
            self.assertEqual(found.all, values, text)
        (several,) = numbers("25,30,50,60")
        self.assertEqual((several.all, several.listed), ((), (25, 30, 50, 60)))
        (two,) = numbers("25,30")
        self.assertEqual((two.all, two.listed), ((25.3,), (25, 30)))
        self.assertEqual([n.all[0] for n in numbers("1 080 720")], [1080720])
        self.assertEqual([n.all[0] for n in numbers("10 80")], [10, 80])

    def test_the_tables_habit(self):
        for shown, mark in (
            (["4,5"], ","), (["4.5"], "."), (["4,5", "4.5"], ""), (["4.500"], ""), (["29.97", "2.0"], ""), (["29,97"], ","), (["1.234,5"], ","), (["48"], ""),
        ):  # fmt: skip
            self.assertEqual(habit_of([n for text in shown for n in numbers(text)]).mark, mark, shown)

    def test_one_reading_or_none(self):
        (number,) = numbers("4.500")
        for what, factor, mark, wanted in (
            ("video.bitrate.mean", 1, "", 4500), ("video.bitrate.mean", 1000, "", 4500), ("video.bitrate.mean", 1, ",", 4500), ("video.bitrate.mean", 1, ".", None),
            ("video.bitrate.mean", 1000, ".", 4500), ("video.bitrate.mean", 1000, ",", None), ("session.lead_time_hours", 1, "", None), ("session.lead_time_hours", 1, ".", 4.5),
            ("session.lead_time_hours", 1, ",", 4500), ("audio.sample_rate", 1, "", None), ("video.keyframe_interval", 1, "", 4.5),
        ):  # fmt: skip
            self.assertEqual(resolve(number, what, factor, Habit(mark)), wanted, (what, factor, mark))


class Sizes(unittest.TestCase):
    def test_how_sizes_are_written(self):
        for text, size in (
            ("1920x1080", (1920, 1080, "", ())), ("1920 × 1080 px", (1920, 1080, "", ())), ("1920*1080", (1920, 1080, "", ())), ("1,920 x 1,080", (1920, 1080, "", ())),
            ("1280 by 720", (1280, 720, "", ())), ("1920x1080p50", (1920, 1080, "p", (50,))), ("1080p", (1920, 1080, "p", ())), ("1080i/25", (1920, 1080, "i", (25,))),
            ("1080p50/60", (1920, 1080, "p", (50, 60))), ("720p @ 60", (1280, 720, "p", (60,))), ("720p59.94", (1280, 720, "p", (59.94,))), ("720/50p", (1280, 720, "p", (50,))),
            ("Full HD", (1920, 1080, "", ())), ("UHD", (3840, 2160, "", ())), ("540p", (960, 540, "p", ())),
        ):  # fmt: skip
            found = [token.value for token in scan(text)]
            self.assertEqual(len(found), 1, (text, found))
            self.assertIsInstance(found[0], Size, text)
            self.assertEqual((found[0].width, found[0].height, found[0].scan, found[0].rates), size, text)
        for text in ("480p", "576p", "4K", "240p"):
            self.assertTrue(scan(text)[0].value.only_height, text)
        for text in ("HD", "1920", "1080", "x1080", "12x12", "1080px"):
            self.assertFalse([t for t in scan(text) if isinstance(t.value, Size)], text)


class Words(unittest.TestCase):
    def test_the_longest_phrase_counts_and_every_place_is_kept(self):
        for text, wanted in (
            ("no more than 3", [("LIMIT", "no more than"), ("NUMBER", "3")]), ("key-frame interval", [("TOPIC", "key-frame interval")]), ("Max. 4 s", [("LIMIT", "Max"), ("NUMBER", "4"), ("UNIT", "s")]),
            ("HE-AAC v2", [("VALUE", "HE-AAC v2")]), ("H. 264", [("VALUE", "H. 264")]), ("128k", [("NUMBER", "128"), ("UNIT", "k")]), ("≤4s", [("LIMIT", "≤"), ("NUMBER", "4"), ("UNIT", "s")]),
            ("6 Mbit/s", [("NUMBER", "6"), ("UNIT", "Mbit/s")]), ("High@L4.2", [("WORD", "High"), ("FILLER", "@"), ("TOPIC", "L"), ("NUMBER", "4.2")]), ("60 frames per second", [("NUMBER", "60"), ("UNIT", "frames per second")]),
            ("Frames per second", [("TOPIC", "Frames per second")]), ("6 MB/s", [("NUMBER", "6"), ("WORD", "MB/s")]), ("6 Mb/s", [("NUMBER", "6"), ("UNIT", "Mb/s")]), ("4.1+", [("NUMBER", "4.1"), ("LIMIT", "+")]),
        ):  # fmt: skip
            self.assertEqual(kinds(text), wanted, text)

    def test_footnotes_go_and_units_stay(self):
        for text, wanted in (
            ("30 fps [3]", "30 fps"), ("AAC*", "AAC"), ("4500² kbit/s", "4500 kbit/s"), ("1920*1080", "1920*1080"), ("interval [s]", "interval [s]"), ("H.264†", "H.264"), ("6 (7)*", "6 (7)"),
        ):  # fmt: skip
            self.assertEqual(without_notes(text), wanted)

    def test_what_heads_say(self):
        for text, wanted in (
            ("Max. video bitrate (kbps)", {"topics": ("video bitrate",), "limit": "max"}), ("Recommended", {"strength": "should"}), ("1080p @ 50 fps", {"rates": (50.0, 50.0)}),
            ("25/30 fps", {"rates": (25.0, 30.0)}), ("up to 30 fps", {"rates": (1, 30.0)}), ("Low latency", {"mode": "low"}), ("Sound", {"subject": "audio"}), ("Audio codec", {"topics": ("audio.codec",)}),
            ("Mono", {"channels": 1}), ("Backup server", {"role": "backup"}), ("Thumbnail", {"other": "Thumbnail"}), ("Sports", {"other": "Sports"}), ("Zebra", {"odd": ("Zebra",)}), ("Unit", {"column": "unit"}),
        ):  # fmt: skip
            found = context.read(text)
            self.assertEqual({key: getattr(found, key) for key in wanted}, wanted, text)


class Grids(unittest.TestCase):
    def cells(self, text, kind):
        return [[[cell.text for cell in row] for row in table.rows] for table in grid.read(text, kind)]

    def test_spans_and_lines(self):
        text = ("<table><tr><th rowspan=2>A<th colspan=2>B<tr><td>1<td>2<tr><td>x<br>y<td><ul><li>p<li>q</ul><td>3</table>")
        self.assertEqual(self.cells(text, "html"), [[["A", "B", "B"], ["A", "1", "2"], ["x\ny", "p\nq", "3"]]])

    def test_separators(self):
        for text in ("a;b\n1,5;2\n", "a\tb\n1,5\t2\n", '"a","b"\n"1,5","2"\n', "a|b\n1,5|2\n"):
            self.assertEqual(self.cells(text, "csv"), [[["a", "b"], ["1,5", "2"]]], text)
        self.assertEqual(self.cells("a,b\n\nc,d\n", "csv"), [[["a", "b"]], [["c", "d"]]])

    def test_columns_of_spaces_keep_their_places(self):
        text = "Item        Min     Max\nRate        25      50\nKeyframe            4 s\n"
        self.assertEqual(self.cells(text, "txt"), [[["Item", "Min", "Max"], ["Rate", "25", "50"], ["Keyframe", "", "4 s"]]])

    def test_pairs(self):
        for line, wanted in (
            ("Codec: H.264", ("Codec", "H.264")), ("fps = 25", ("fps", "25")), ("Codec - H.264", ("Codec", "H.264")), ("Codec → H.264", ("Codec", "H.264")), ("at 14:30", ("", "at 14:30")),
            ("rtmp://a.example/x", ("", "rtmp://a.example/x")), ("Server: rtmp://a.example/x", ("Server", "rtmp://a.example/x")), ("Video:", ("Video", "")), ("16:9", ("", "16:9")), ("plain words", ("", "plain words")),
        ):  # fmt: skip
            self.assertEqual(grid.pair(line), wanted, line)


if __name__ == "__main__":
    unittest.main()
