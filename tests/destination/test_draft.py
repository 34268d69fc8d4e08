import unittest
from pathlib import Path
from unittest import mock

from direkt import documents
from direkt.destination import draft
from direkt.destination.file import build
from direkt.destination.lint import lint
from direkt.destination.published.cells import grid, layout
from direkt.errors import UnusableInput


def rows(text: str, kind: str):
    return layout.statements(grid.read(text, kind))


def drafted(text: str, kind: str = "csv"):
    made = draft.read(text, kind)
    written = draft.write(made, "Copse Live")
    return build(documents.parse(written, "draft.yaml"), "draft"), made.not_understood, written


def one(name: str, value: str):
    """Rules (must, should) and whether the row was understood."""
    s, left, _ = drafted(f'"{name}","{value}"\n')
    rules = {n: (r.must.json() if r.must else None, r.should.json() if r.should else None) for n, r in s.rules.items()}
    return rules, not left


class Rows(unittest.TestCase):
    def test_intervals_in_frames_at_several_rates(self):
        interval = "video.keyframe_interval.median"
        self.assertEqual(one("Keyframe interval", "50 frames at 25 fps and 100 frames at 50 fps"), ({interval: (2, None)}, True))
        self.assertEqual(one("Keyframe interval", "50 frames at 25 fps and 50 frames at 50 fps"), ({}, False))  # 2 s, or 1 s

    def test_a_size_at_the_end_of_what_was_cut(self):
        for value in ("1280x720 -", "1280x720 to", "1280x720 ("):
            self.assertEqual(one("Resolution", value)[0], {"video.size": ("1280x720", None)}, value)

    def test_what_the_words_say(self):
        for name, value, wanted in (
            ("Key pictures", "one each 2 s, never further apart than 3",
             {"video.keyframe_interval.median": (None, 2), "video.keyframe_interval.max": ({"max": 3}, None)}),
            ("Keyframe interval", "2 seconds", {"video.keyframe_interval.median": (2, None)}),
            ("GOP", "closed, at most 4 s", {"video.gop_closed": ("yes", None), "video.keyframe_interval.max": ({"max": 4}, None)}),
            ("Keyframe frequency", "1-4 seconds", {"video.keyframe_interval.min": ({"min": 1}, None), "video.keyframe_interval.max": ({"max": 4}, None)}),
            ("Sound", "AAC-LC two-channel, 160k, 48 kHz only",
             {"audio.codec": ("aac", None), "audio.profile": ("lc", None), "audio.sample_rate": (48000, None), "audio.channels": (2, None),
              "audio.bitrate.mean": (160, None)}),
            ("Audio bitrate", "up to 192 kbps, 128 kbps recommended", {"audio.bitrate.mean": ({"max": 192}, 128)}),
            ("Audio sample rate", "44.1 kHz or 48 kHz", {"audio.sample_rate": ([44100, 48000], None)}),
            ("Video codec", "H.264 (AVC)", {"video.codec": ("h264", None)}),
            ("Profile", "Main or High, level up to 4.1", {"video.profile": (["main", "high"], None), "video.level": ({"max": "4.1"}, None)}),
            ("Frame rate", "25, 29.97 or 30 fps", {"video.frame_rate": ([25, 29.97, 30], None)}),
            ("Frame rate", "max 60 fps", {"video.frame_rate": ({"max": 60}, None)}),
            ("Resolution", "1920x1080 or 1280x720", {"video.size": (["1920x1080", "1280x720"], None)}),
            ("Rate control", "constant bitrate recommended", {"video.rate_control": (None, "cbr")}),
            ("B-frames", "none", {"video.b_frames": (0, None)}),
            ("Scan type", "progressive only", {"video.scan": ("progressive", None)}),
            ("Aspect ratio", "16:9 with square pixels", {"video.display_aspect": ("16:9", None), "video.sample_aspect": ("1:1", None)}),
            ("Aspect ratio", "16:9 or 2:1", {"video.display_aspect": (["16:9", "2:1"], None)}),
            ("Video bitrate", "4,000 to 6,000 kbps", {"video.bitrate.mean": ({"min": 4000, "max": 6000}, None)}),
        ):  # fmt: skip
            rules, good = one(name, value)
            self.assertTrue(good, (name, value))
            self.assertEqual(rules, wanted, (name, value))

    def test_what_is_not_wholly_understood_claims_nothing(self):
        for name, value in (
            ("Keyframe interval", "60 frames"), ("Keyframe interval", "2"), ("Keyframe interval", "2 s unless low latency"), ("Audio", "AAC except on weekends"),
            ("Captions", "CEA-608"), ("Bitrate", "enough"), ("Ports", "1935"), ("Latency", "low"), ("B-frames", "a few"), ("Audio channels", "stereo (5.1 for subscribers)"),
            ("Frame rate", "30 fps for mobile"), ("Keyframe interval", "2 s, 4 s"), ("Video bitrate", "6 Mbps for sport"), ("Video codec", "better not H.265"),
        ):  # fmt: skip
            rules, good = one(name, value)
            self.assertEqual((rules, good), ({}, False), (name, value))

    def test_ladders(self):
        s, left, _ = drafted(
            '"Full HD, 50/60 frames",5-8 Mbps\n"720p, 25/30 fps","1,500-3,000 kbps, recommended 2,500 kbps"\n1280x720,"max 4 Mbps, best 3 Mbps"\n'
        )
        self.assertEqual(left, [])
        self.assertEqual([(r.width, r.slowest, r.fastest, r.minimum, r.best, r.maximum) for r in s.ladder],
                         [(1920, 50, 60, 5000, None, 8000), (1280, 25, 30, 1500, 2500, 3000), (1280, 1, 300, 0, 3000, 4000)])  # fmt: skip


class Published(unittest.TestCase):
    """Whole made-up tables: what is claimed is what a person reads there, and the rest is listed."""

    def draft(self, name: str):
        path = Path(__file__).with_name("tables") / name
        s, left, _ = drafted(path.read_text("utf-8"), path.suffix.lstrip("."))
        return (s, {n: r.json() for n, r in s.rules.items()}, [one.words.partition(":")[0].partition(" [")[0] for one in left])

    def test_copse(self):
        s, rules, left = self.draft("copse.csv")
        self.assertEqual(left, ["Chat"])
        self.assertEqual(
            [(r.width, r.slowest, r.fastest, r.minimum, r.best, r.maximum) for r in s.ladder], [(1920, 50, 60, 4000, 6000, 9000)],
        )
        self.assertEqual(rules["video.profile"], {"must": ["main", "high"], "should": "high"})
        self.assertEqual(rules["video.frame_rate"], {"must": [25, 30, 50, 60], "should": 50})
        self.assertEqual(rules["video.keyframe_interval.max"], {"must": {"max": 4}})
        self.assertEqual(rules["video.keyframe_interval.median"], {"should": 2})
        self.assertEqual(rules["audio.channels"], {"must": [1, 2], "should": 2})
        self.assertEqual(rules["video.rate_control"], {"should": "cbr"})

    def test_thicket(self):
        s, rules, left = self.draft("thicket.md")
        self.assertEqual(left, ["Event length"])
        self.assertEqual(s.servers[0].address, "rtmps://push.thicket.example/event")
        self.assertEqual([(p.protocol, p.port) for p in s.protocols], [("rtmps", 443)])
        self.assertEqual(rules["video.height"], {"must": {"max": 720}})
        self.assertEqual((rules["video.gop_closed"], rules["video.keyframe_interval.median"]), ({"must": "yes"}, {"must": 2}))
        self.assertEqual(rules["audio.bitrate.mean"], {"must": 128})
        self.assertEqual(rules["video.b_frames"], {"must": {"max": 2}})

    def test_holt(self):
        _, rules, left = self.draft("holt.html")
        self.assertEqual(left, ["Keyframe distance"])
        self.assertEqual(rules["video.codec"], {"must": ["h265", "h264"]})
        self.assertEqual(rules["audio.bitrate.mean"], {"must": {"min": 96, "max": 192}})
        self.assertEqual(rules["video.rate_control"], {"must": ["vbr", "cbr"], "should": "cbr"})


class Destinations(unittest.TestCase):
    """A column for each destination: which is meant, only a person knows."""

    CASES = (  # rows of a table; what each destination's sheet says of the video's bitrate
        (("Setting|Tarnlight|Plainsong", "Video bitrate|6000 kbit/s|3000 kbit/s"), {"Tarnlight": {"must": 6000}, "Plainsong": {"must": 3000}}),
        (("Setting|Main event|Village Live", "Video bitrate|6 Mbps|3 Mbps"), {"Main event": {"must": 6000}, "Village Live": {"must": 3000}}),
        (("|Tarnlight|Plainsong|Harbour TV", "Video bitrate|6000 kbps|–|2500 kbps", "Keyframe interval|2 s|2 s|2 s"),
         {"Tarnlight": {"must": 6000}, "Plainsong": None, "Harbour TV": {"must": 2500}}),
        (("Setting|Unit|Tarnlight|Plainsong", "Video bitrate|kbit/s|6000|3000", "Keyframe interval|s|2|4"),
         {"Tarnlight": {"must": 6000}, "Plainsong": {"must": 3000}}),
        (("Setting|Tarnlight|Plainsong|Required", "Video bitrate|6 Mbps|3 Mbps|no", "Keyframe interval|2 s|4 s|yes"),
         {"Tarnlight": {"should": 6000}, "Plainsong": {"should": 3000}}),
        (("Setting|Tarnlight recommended|Tarnlight maximum|Plainsong recommended|Plainsong maximum", "Video bitrate|6 Mbps|9 Mbps|3 Mbps|4 Mbps"),
         {"Tarnlight": {"must": {"max": 9000}, "should": 6000}, "Plainsong": {"must": {"max": 4000}, "should": 3000}}),
    )  # fmt: skip

    def test_each_column_makes_its_own_sheet_and_none_is_claimed_unasked(self):
        for rows, wanted in self.CASES:
            text = "\n".join(["|".join(rows[0].split("|")), "|".join(["--"] * len(rows[0].split("|"))), *rows[1:]])
            text = "\n".join(f"|{line}|" for line in text.split("\n"))
            with self.subTest(table=text):
                made = draft.read(text, "md")
                self.assertEqual(made.choices, list(wanted))
                self.assertNotIn("video.bitrate.mean", made.found.rules.get("", {}))
                for destination, bitrate in wanted.items():
                    rule = draft.read(text, "md", destination).found.rules[""].get("video.bitrate.mean") if bitrate else None
                    self.assertEqual(rule.parts if rule else None, bitrate)

    def test_primary_and_backup_are_no_destinations(self):
        text = "|Setting|Primary|Backup|\n|--|--|--|\n|Server|rtmp://a.example/live|rtmp://b.example/live|\n|Video codec|H.264|H.264|"
        self.assertEqual(draft.read(text, "md").choices, [])


class Tables(unittest.TestCase):
    def test_markdown_with_columns_and_lists(self):
        text = """# Copse Live
| Parameter | Recommended | Maximum |
|---|---|---|
| Video bitrate | 4500 kbps | 6000 kbps |
| Keyframe interval | 2 seconds | 4 seconds |
| Frame rate | 30 | 60 fps |

- **Audio**: AAC, 44.1 kHz, stereo
- Moderation: a volunteer watches the chat
"""
        s, left, written = drafted(text, "md")
        self.assertEqual(lint(s), [])
        self.assertEqual(s.rules["video.bitrate.mean"].json(), {"must": {"max": 6000}, "should": 4500})
        self.assertEqual(s.rules["video.frame_rate"].json(), {"must": {"max": 60}, "should": 30})
        self.assertEqual(s.rules["audio.channels"].json(), {"must": 2})
        self.assertEqual([one.words.partition(":")[0].partition(" [")[0] for one in left], ["Moderation"])
        self.assertIn("# line 4: Video bitrate [Recommended]: 4500 kbps", written)
        self.assertIn("#   line 9: Moderation: a volunteer watches the chat", written)

    def test_html_tables_and_definition_lists(self):
        text = """<html><style>td {color: red}</style><table><tr><th>Setting</th><th>Value</th></tr>
<tr><td>Video&nbsp;codec</td><td><b>H.264</b></td></tr><tr><td>Ingest protocol</td><td>RTMP (port 1935)<br>RTMPS (port 443)</td></tr></table>
<dl><dt>Server address</dt><dd>rtmp://in.copse.example/app</dd></dl><script>var x = "Audio: mp3";</script></html>"""
        s, left, _ = drafted(text, "html")
        self.assertEqual((s.rules["video.codec"].json(), left), ({"must": "h264"}, []))
        self.assertEqual([(p.protocol, p.port) for p in s.protocols], [("rtmp", 1935), ("rtmps", 443)])
        self.assertEqual(s.servers[0].address, "rtmp://in.copse.example/app")

    def test_html_as_people_write_it(self):
        for text, wanted in (
            ("<table><tr><td><table><tr><td>Frame rate</td><td>30</td></tr></table></td></tr></table>", [("Frame rate", "30")]),
            ("<table><tr><td>Rate<td>30 fps<tr><td>Codec<td>H.264</table>", [("Rate", "30 fps"), ("Codec", "H.264")]),
            ("<table><tr><td>Codec</td><td><ul><li>H.264</li><li>High</li></ul></td></tr></table>", [("Codec", "H.264, High")]),
            ("<TABLE><TR><TH>Codec</TH><TD><P>H.264<BR>High</TD></TR></TABLE>", [("Codec", "H.264, High")]),
            ("<dl><dt>Codec<dd>H.264<dt>Rate<dd>30</dl>", [("Codec", "H.264"), ("Rate", "30")]),
            ("<ul><li>Codec: H.264<ul><li>Profile: high</li></ul></li></ul>", [("Codec", "H.264"), ("Profile", "high")]),
            ("<table><tr><td>Bitrate<sup>1</sup></td><td>4500<sup>2</sup> kbit/s</td></tr></table>", [("Bitrate", "4500 kbit/s")]),
            ("<table><tr><td>A<!-- z -->B<script>x='<td>'</script></td><td>1<style>y</style>2</td></tr></table>", [("AB", "12")]),
            ('<?xml version="1.0" encoding="utf-16"?><meta charset="latin1"><table><tr><td>Größe</td><td>1280×720</td></tr></table>', [("Größe", "1280×720")]),
            ("", []), ("<", []), ("no table", []), ("<b>" * 9999, []), ("<table><tr><td>" * 999, []),
        ):  # fmt: skip
            self.assertEqual(
                [(row.name, row.text.replace("\n", ", ")) for row in rows(text, "html") if not row.prose], wanted, text[:80],
            )
        lines = "<table>\n<tr><td>A</td><td>1</td></tr>\n\n<tr><td>B</td><td>2</td></tr></table>"
        self.assertEqual([row.line for row in rows(lines, "html")], [2, 4])

    def test_tables_without_end(self):
        cell = "Bitrate," + "4500 kbit/s " * 9000
        (row,) = rows(cell, "csv")
        self.assertLess(len(row.text), 1010)
        for text, kind in (("<tr><td>A<td>1" * 40_000, "html"), ("A,1\n" * 40_000, "csv"), ("- A: 1\n" * 40_000, "md")):
            with self.assertRaisesRegex(UnusableInput, "more than 3000 settings"):
                rows(text, kind)
        with self.assertRaisesRegex(UnusableInput, "line 1: field larger than"):
            rows('"' + "x" * 200_000, "csv")
        with mock.patch.object(draft, "_LIMIT", -1), self.assertRaisesRegex(UnusableInput, "takes more than"):
            draft.read("A,1\n", "csv")

    def test_ranges_that_run_downwards_are_not_claimed(self):
        for row in (
            "Bitrate,500 to 3 kbps", "Keyframe interval,4 to 2 s", "Frame rate,60 to 30 fps",
            '"Bitrate, 1080p30","6 to 3 Mbps, best 4 Mbps"',
        ):
            s, left, _ = drafted(row + "\n")
            self.assertEqual((s.rules, s.ladder, bool(left)), ({}, (), True), row)
            self.assertIn("downwards", left[0].why)
        s, left, _ = drafted("Bitrate,at least 1500 kbps\nVideo bitrate,at most 500 kbps\n")
        self.assertEqual((s.rules, len(left)), ({}, 2))

    def test_rows_that_contradict_each_other_are_listed(self):
        s, left, _ = drafted("Scan,progressive\nAudio codec,AAC\nAudio,MP3\n")
        self.assertEqual([*s.rules], ["video.scan"])  # two readings: both are listed, none is claimed
        self.assertEqual([one.words for one in left], ["Audio codec: AAC", "Audio: MP3"])
        self.assertIn("says something else", left[0].why)

    def test_other_separators_and_hostile_text(self):
        s, _, _ = drafted("Setting;Value\nFrame rate;25, 50 fps\n")
        self.assertEqual(s.rules["video.frame_rate"].json(), {"must": [25, 50]})
        for text in ("", "a", '"', "x,y\n" * 50, 'Video codec,"H.264""\\n  evil: {must: x}"\n', "Audio,\x00\n"):
            for kind in ("csv", "md", "html"):
                build(documents.parse(draft.write(draft.read(text, kind), 'T "x" \\'), "d.yaml"), "d")

    def test_what_one_size_says_does_not_hold_for_all(self):
        for text, rules in (
            ("Setting,1080p,720p\nKeyframe interval,2 s,\n", {}), ("Setting,1080p,720p\nKeyframe interval,2 s,4 s\n", {}),
            ("Setting,1080p,720p\nKeyframe interval,2 s,2 s\n", {"video.keyframe_interval.median": {"must": 2}}),
        ):
            s, left, _ = drafted(text)
            self.assertEqual({n: r.json() for n, r in s.rules.items()}, rules, text)
            self.assertEqual(bool(left), not rules)

    def test_a_rate_that_is_not_understood_makes_no_step(self):
        for rate, steps in (
            ("50", 2), ("29.97", 2), ("up to 60", 2), ("25/30", 2), ("variable", 1), ("29970", 1), ("any", 1), ("0", 1),
        ):
            s, left, _ = drafted(f"Resolution,FPS,Bitrate (kbps)\n1920x1080,{rate},6000\n1280x720,25,3000\n")
            self.assertEqual((len(s.ladder), bool(left)), (steps, steps == 1), rate)

    def test_levels_are_those_of_the_standard(self):
        # H.264, table A-1, without 1b
        for level in (
            "1.0", "1.1", "1.2", "1.3", "2.0", "2.1", "2.2", "3.0", "3.1", "3.2", "4.0", "4.1", "4.2", "5.0", "5.1", "5.2", "6.0",
            "6.1", "6.2",
        ):
            self.assertEqual(one("Level", level), ({"video.level": (level, None)}, True))
        for level in ("1.4", "2.3", "3.3", "4.3", "6.3", "7.0"):
            self.assertEqual(one("Level", level), ({}, False), level)

    def test_ports_belong_to_what_stands_beside_them(self):
        for text, wanted in (
            ("RTMP 1935, RTMPS 443", {("rtmp", 1935), ("rtmps", 443)}),
            ("1935 (RTMP); 443 (RTMPS)", {("rtmp", 1935), ("rtmps", 443)}), ("RTMP on TCP port 1935", {("rtmp", 1935)}),
            ("RTMP, RTMPS: 443", set()), ("1935, 443", set()), ("RTMP 70000", set()),
        ):
            s, left, _ = drafted(f'Ports,"{text}"\n')
            self.assertEqual({(p.protocol, p.port) for p in s.protocols}, wanted, text)
            self.assertEqual(bool(left), not wanted, text)
