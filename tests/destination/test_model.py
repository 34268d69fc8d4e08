import json
import unittest

from direkt import documents
from direkt.destination import compare, library
from direkt.destination.file import SheetFile, build, json_schema
from direkt.destination.lint import lint
from direkt.destination.skeleton import SKELETON
from direkt.documents import DocumentError
from direkt.errors import UnusableInput
from direkt.finding import Verdict
from direkt.judge import judge_sent
from direkt.parameters import Measured, expand_set
from tests.support import Folder

HEAD = "schema: direkt.sheet/1\nname: T\n"


def sheet(text: str, load=None):
    return build(documents.parse(HEAD + text, "t.yaml"), "t", load)


class Whole(Folder):
    def test_everything_that_an_ingest_says_is_there(self):
        s = library.load("tarnlight")
        self.assertEqual([(p.protocol, p.port) for p in s.protocols], [("rtmp", 1935), ("rtmps", 443), ("srt", 9710)])
        self.assertEqual([server.role for server in s.servers], ["primary", "primary", "backup"])
        self.assertEqual((s.session.longest_hours, s.session.shows_after_s.max, s.session.after_stop), (9, 34, "same key"))
        self.assertTrue(s.spherical.taken and s.spherical.mark_event)
        self.assertEqual((s.key.lives, len(s.checklist)), ("one event", 6))

    def test_a_latency_mode_changes_what_it_names_and_nothing_else(self):
        plain, low = library.load("tarnlight"), library.load("tarnlight:low")
        self.assertEqual(low.rules["video.keyframe_interval.max"].must.maximum, 1.6)
        self.assertEqual(low.rules["video.b_frames"].must.one_of, (0,))
        self.assertEqual(low.rules["video.size"], plain.rules["video.size"])
        with self.assertRaisesRegex(UnusableInput, "no latency mode 'lower'; it has low"):
            library.load("tarnlight:lower")

    def test_a_sheet_on_top_of_another(self):
        self.file("base.yaml", HEAD + "rules:\n  video.codec: {must: h264}\n  audio.codec: {must: aac}\npeak_percent: 10\n")
        self.file("top.yaml", HEAD + "extends: base.yaml\nrules:\n  video.codec: {must: [h264, h265]}\n")
        top = library.load("top.yaml", self.folder)
        self.assertEqual(
            (top.rules["video.codec"].must.one_of, top.rules["audio.codec"].must.one_of), (("h264", "h265"), ("aac",))
        )
        self.assertEqual(top.peak_percent, 10)
        self.file("round.yaml", HEAD + "extends: round.yaml\nrules: {}\n")
        with self.assertRaisesRegex(DocumentError, "extends itself|round.yaml"):
            library.load("round.yaml", self.folder)
        self.file("lost.yaml", HEAD + "extends: nowhere.yaml\n")
        with self.assertRaisesRegex(DocumentError, "lost.yaml:3: extends: .*no such file"):
            library.load("lost.yaml", self.folder)

    def test_peaks_audio_ladder_and_same_as_source(self):
        s = sheet("peak_percent: 20\naudio_ladder:\n  - {channels: 2, bitrate: {min: 96, best: 128, max: 160}}\n"
                  "rules:\n  video.frame_rate: {same_as_source: true}\n")  # fmt: skip
        sent = {"video.codec": "h264", "video.frame_rate": 25.0, "video.bitrate.mean": 1000.0, "video.bitrate.peak": 1300.0,
                "audio.present": "yes", "audio.channels": 2, "audio.bitrate.mean": 200.0}  # fmt: skip
        sent = {name: Measured(value) for name, value in sent.items()}
        found = {f.parameter: f.verdict for f in judge_sent(s, sent, source_rate=50.0).findings}
        self.assertEqual(found["video.bitrate.peak"], Verdict.FAIL)
        self.assertEqual(found["audio.bitrate.mean"], Verdict.FAIL)
        self.assertEqual(found["video.frame_rate"], Verdict.FAIL)
        found = {f.parameter: f.verdict for f in judge_sent(s, sent).findings}
        self.assertEqual(found["video.frame_rate"], Verdict.UNSEEN)

    def test_servers_of_srt_have_no_application(self):
        s = sheet("protocols: [{protocol: srt, port: 9710}]\nservers: [{address: 'srt://in.example:9710'}]\n")
        self.assertEqual((s.servers[0].parsed.port, s.servers[0].parsed.app), (9710, ""))
        self.assertEqual(lint(s), [])
        wrong = sheet("protocols: [{protocol: srt, port: 9710}]\nservers: [{address: 'srt://in.example:1'}]\n")
        self.assertIn("uses srt on port 1", lint(wrong)[0].text)
        with self.assertRaisesRegex(DocumentError, "expected srt://host:port"):
            sheet("servers: [{address: 'srt://in.example:9710/live'}]\n")

    def test_portrait_pictures_find_their_rung(self):
        s = library.load("tarnlight")
        rule = s.rules_for(expand_set({"video.size": "1080x1920", "video.frame_rate": 30}))["video.bitrate.mean"]
        self.assertEqual(rule.must.minimum, 3100)

    def test_mistakes_in_the_new_parts(self):
        for text, words in (
            ("key: {pattern: '[a'}\n", "t.yaml:3: key.pattern: not a regular expression"), ("protocols: [{protocol: ftp, port: 1}]\n", "expected rtmp or"),
            ("servers: [{address: 'http://x.example/a'}]\n", "'http'"), ("rules:\n  video.codec: {same_as_source: true}\n", "video.frame_rate only"),
            ("latency:\n  low:\n    rules:\n      video.codek: {must: h264}\n", "t.yaml:6: .*did you mean"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DocumentError, words):
                sheet(text)

    def test_the_schema_fits_the_shipped_sheets_and_knows_every_parameter(self):
        schema = json_schema()
        self.assertIn("video.codec", schema["properties"]["rules"]["properties"])
        self.assertFalse(schema["additionalProperties"])
        json.dumps(schema)
        self.assertEqual(set(schema["properties"]), {f.alias or n for n, f in SheetFile.model_fields.items()})


class Lint(unittest.TestCase):
    def test_shipped_sheets_and_the_skeleton_are_clean(self):
        for name in library.shipped():
            self.assertEqual(lint(library.load(name)), [])
        self.assertEqual(lint(build(documents.parse(SKELETON, "new.yaml"), "new")), [])

    def test_each_contradiction_is_found_with_its_line(self):
        rung = "ladder:\n  - {size: 1280x720, frame_rate: {min: 20, max: 30}, bitrate: {min: 1, max: 3000}}\n"
        for text, line, words in (
            ("rules:\n  video.codec: {must: h264, should: h265}\n", 4, "outside what it allows"),
            ("rules:\n  video.frame_rate: {must: [25, 30], should: [30, 60]}\n", 4, "recommends 60 fps"),
            (
                "rules:\n  video.keyframe_interval.max: {must: {max: 2}}\n  video.keyframe_interval.median: {should: 4}\n", 4,
                "cannot go with",
            ),
            ("rules:\n  video.size: {must: 640x480}\n  video.display_aspect: {must: '16:9'}\n", 4, "which is 4:3"),
            ("rules:\n  audio.present: {must: 'no'}\n  audio.codec: {must: aac}\n", 5, "audio.present must be no"),
            (
                "rules:\n  video.size: {must: 1280x720}\n  video.frame_rate: {must: [25, 50]}\n" + rung, 0,
                "hole: no bitrate for 1280x720 at 50 fps",
            ),
            (
                rung + "  - {size: 1280x720, frame_rate: {min: 30, max: 60}, bitrate: {min: 1, max: 9}}\n", 5,
                "overlaps: 1280x720 at 30 to 30",
            ),
            (
                "rules:\n  video.level: {must: {max: '3.1'}}\n  video.size: {must: 1920x1080}\n  video.frame_rate: {must: 25}\n",
                4, "too low for 1920x1080 at 25 fps",
            ),
            ("rules:\n  video.level: {must: {max: '3.1'}}\n" + rung.replace("3000", "30000"), 6, "more than level 3.1 permits"),
            ("servers: [{address: 'rtmp://a.example/x', role: backup}]\n", 0, "one must be the primary"),
            (
                "protocols: [{protocol: rtmps, port: 443}]\nservers: [{address: 'rtmp://a.example/x'}]\n", 0,
                "protocols does not list",
            ),
            ("key: {pattern: '[a-z]+', example: '12'}\n", 0, "does not fit"),
            (
                "rules:\n  video.b_frames: {should: 2}\nlatency:\n  low:\n    rules:\n      video.b_frames: {must: 0, should: 1}\n",
                8, "in latency mode low",
            ),
        ):
            found = lint(sheet(text))
            self.assertEqual(len(found), 1, (text, found))
            self.assertIn(words, found[0].text)
            if line:
                self.assertEqual(found[0].source, f"t.yaml:{line}", found)


class Compare(unittest.TestCase):
    def test_what_satisfies_all(self):
        shared = compare.common([library.load("tarnlight"), library.load("plainsong-village")])
        self.assertEqual(shared.blockers, ())
        self.assertEqual(shared.demands["video.size"].one_of, ("1280x720",))
        self.assertEqual(shared.demands["audio.bitrate.mean"].json(), {"min": 96, "max": 128})
        self.assertEqual(
            next((size, rate, r.minimum, r.best, r.maximum) for size, rate, r in shared.pictures),
            ("1280x720", 25.0, 1500, 1900, 2200),
        )

    def test_what_makes_it_impossible_is_named_with_both_sides(self):
        other = sheet("rules:\n  video.size: {must: 640x360}\n  video.codec: {must: h264}\n")
        shared = compare.common([library.load("tarnlight"), other])
        self.assertEqual([b.parameter for b in shared.blockers], ["video.size"])
        self.assertIn("Tarnlight: 1920x1080", shared.blockers[0].text)
        self.assertIn("T: 640x360", shared.blockers[0].text)

    def test_bitrates_that_do_not_meet(self):
        def one(low: int, high: int):
            return sheet("rules:\n  video.size: {must: 1280x720}\n  video.frame_rate: {must: 25}\n"
                         f"ladder: [{{size: 1280x720, frame_rate: {{min: 20, max: 30}}, bitrate: {{min: {low}, max: {high}}}}}]\n")  # fmt: skip

        (blocker,) = compare.common([one(1000, 2000), one(2500, 3000)]).blockers
        self.assertIn("do not meet", blocker.text)
