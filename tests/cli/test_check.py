import json
from fractions import Fraction

from direkt.codec.aac_writer import ToneWriter
from tests import mp4_writer
from tests.support import AudioSettings, Cli, card, flv_bytes, mp4_bytes


class Check(Cli):
    def test_names_of_files_steer_no_terminal(self):
        for command in (["check", "a\x1b[2J.flv"], ["sheet", "show", "\x1b]0;x\x07"], ["check", "a\u202eb.flv"]):
            result = self.direkt(*command)
            self.assertEqual((result.code, set("\x1b\x07\u202e") & set(result.out + result.err)), (2, set()), result)

    def test_a_good_recording_passes_and_a_bad_one_fails(self):
        good = card(1920, 1080, Fraction(50), 80, "high", 6900)
        self.file("good.flv", flv_bytes(5.2, good, AudioSettings(48000, 2, 160)))
        result = self.direkt("check", "good.flv", "--sheet", "tarnlight")
        self.assertEqual(result.code, 0, result)
        self.assertIn("✓ PASSES  good.flv against Tarnlight: everything holds", result.out)
        result = self.direkt("check", "good.flv", "--sheet", "plainsong-village", "--json")
        self.assertEqual(result.code, 1)
        document = result.json
        self.assertEqual((document["schema"], document["verdict"]), ("direkt.check/1", "fail"))
        failed = {f["parameter"] for f in document["findings"] if f["verdict"] == "fail"}
        self.assertEqual(
            failed,
            {
                "video.profile",
                "video.level",
                "video.size",
                "video.frame_rate",
                "video.bitrate.mean",  # for the size to go to
                "audio.sample_rate",
                "audio.bitrate.mean",
            },
        )
        for finding in document["findings"]:
            self.assertLessEqual({"parameter", "verdict", "asked", "set", "sent", "advice"}, set(finding))
        self.assertEqual(document["measured"]["video.width"], 1920)

    def test_two_beside_each_other(self):
        self.file("a.flv", flv_bytes(4, card(1280, 720, Fraction(25), 50, "main", 2500)))
        self.file("b.flv", flv_bytes(4, card(640, 360, Fraction(25), 50, "main", 1000)))
        self.file("a.json", json.dumps(self.direkt("check", "a.flv", "--json").json))
        result = self.direkt("compare", "a.flv", "a.json")
        self.assertEqual((result.code, "✓ nothing differs" in result.out), (0, True), result)
        result = self.direkt("compare", "a.flv", "b.flv")
        self.assertEqual(result.code, 1)
        self.assertRegex(result.out, r"picture size +1280x720 +640x360")
        self.assertNotIn("video.", result.out)
        document = self.direkt("compare", "a.json", "b.flv", "--json").json
        self.assertIn({"parameter": "video.size", "label": "picture size", "a": "1280x720", "b": "640x360"}, document["differs"])
        for name, content, words in (("n.json", "[1]", "no document"), ("m.json", "{", "m.json: "), ("e.json", "{}", "no measures"), ("d.json", "[" * 5000, "d.json: ")):
            self.file(name, content)
            self.one_line(self.direkt("compare", "a.flv", name), 2, words)
        self.one_line(self.direkt("compare", "a.flv", "gone.flv"), 2, "gone.flv")

    def test_other_writers_documents_beside_a_recording(self):
        self.file("a.flv", flv_bytes(4))
        for value in (10**400, float("inf"), float("nan"), "fast", True, [1], None, -1e300):
            self.file("w.json", json.dumps({"measured": {"video.bitrate.mean": value}}))
            self.one_line(self.direkt("compare", "w.json", "a.flv"), 2, "video.bitrate.mean")
        self.file("new.json", json.dumps({"measured": {"video.of_tomorrow": 1, "video.codec": "h264"}}))
        self.assertEqual(self.direkt("compare", "new.json", "a.flv").code, 0)
        self.file("bare.json", json.dumps({"measured": {}}))
        result = self.direkt("compare", "bare.json", "a.flv")
        self.assertEqual((result.code, "? nothing can be compared" in result.out, "nothing differs" in result.out), (1, True, False), result)

    def test_where_a_recording_breaks_stands_wherever_it_is_told_of(self):
        whole = flv_bytes(8)
        self.file("a.flv", whole)
        self.file("cut.flv", whole[: len(whole) // 2])
        for name in ("r.html", "r.json"):
            self.direkt("check", "cut.flv", "--sheet", "tarnlight", "--report", name, "--junit", "j.xml")
        for told in ((self.folder / "r.html").read_text(), (self.folder / "j.xml").read_text()):
            self.assertIn("it breaks at byte", told)
        for other in ("cut.flv", "r.json"):
            result = self.direkt("compare", "a.flv", other)
            self.assertIn("✗ breaks  at byte", result.out, other)
        for option in ("--report", "--junit"):
            self.one_line(self.direkt("check", "a.flv", option, "."), 2, f"{option} .: this is a folder")
            self.one_line(self.direkt("check", "a.flv", option, "no/r.xml"), 2, f"{option} no/r.xml: there is no folder")

    def test_mp4_and_its_false_claims(self):
        tone = ToneWriter(48000, 1, 96)
        sound = mp4_writer.TrackToWrite(
            "audio", 48000, tone.config, sample_rate=48000, channels=2, samples=[(1024, 0, tone.next(), True)] * 100
        )
        self.file("a.mp4", mp4_bytes(60, others=(sound,)))
        result = self.direkt("check", "a.mp4", "--json")
        self.assertEqual((result.code, result.json["verdict"]), (0, None))
        self.assertEqual(result.json["measured"]["audio.channels"], 1)
        self.assertEqual([d["what"] for d in result.json["differences"]], ["audio.channels"])
        self.assertIn("the MP4 header says 2 ch, the stream itself has 1 ch", self.direkt("check", "a.mp4").out)

    def test_what_cannot_be_read_is_one_clear_line(self):
        self.file("empty.flv", b"")
        self.file("text.flv", "hello there, this is text")
        self.file("cut.mp4", mp4_bytes(60)[:5000])
        self.file("sound.flv", flv_bytes(1)[:13])
        for name, words in (
            ("none.flv", "no such file"), ("empty.flv", "is empty"), ("text.flv", "68 65 6c 6c"), ("cut.mp4", "no index"),
            ("sound.flv", "no video"), (".", "is a directory"),
        ):  # fmt: skip
            self.one_line(self.direkt("check", name, "--sheet", "tarnlight"), 2, f"{name}: ", words)
        self.one_line(self.direkt("check", "empty.flv", "--sheet", "tarnlite"), 2, "did you mean tarnlight")

    def test_a_cut_recording_is_judged_and_the_place_named(self):
        whole = flv_bytes(3)
        self.file("cut.flv", whole[: len(whole) - 700])
        result = self.direkt("check", "cut.flv", "--sheet", "tarnlight")
        self.assertEqual(result.code, 1)
        self.assertIn("breaks", result.out)
        self.assertRegex(result.out, r"at byte \d+: the recording ends in the middle of a tag")

    def test_other_codecs(self):
        data = mp4_bytes(30).replace(b"avc1", b"vp09")
        self.file("vp9.mp4", data)
        result = self.direkt("check", "vp9.mp4")
        self.assertEqual(result.code, 2)
        self.assertIn("the video is vp9; of it only times and bytes were measured", result.err)
        result = self.direkt("check", "vp9.mp4", "--sheet", "tarnlight", "--json")
        self.assertEqual(result.code, 1)
        self.assertEqual(result.json["findings"][0]["verdict"], "fail")

    def test_a_report_beside_the_output(self):
        self.file("a.flv", flv_bytes(2))
        self.assertEqual(self.direkt("check", "a.flv", "--report", "r.json").code, 0)
        self.assertIn('"direkt.check/1"', (self.folder / "r.json").read_text())
        self.one_line(self.direkt("check", "a.flv", "--report", "no/such/r.json"), 2, "there is no folder no/such")
