import unittest

from direkt import demand, parameters
from direkt.parameters import ParameterError, clean, same, show

NAMES = [
    "video.codec",
    "video.profile",
    "video.level",
    "video.width",
    "video.height",
    "video.sample_aspect",
    "video.display_aspect",
    "video.scan",
    "video.chroma",
    "video.bit_depth",
    "video.frame_rate",
    "video.frame_jitter",
    "video.keyframe_interval.min",
    "video.keyframe_interval.median",
    "video.keyframe_interval.max",
    "video.gop_closed",
    "video.b_frames",
    "video.reference_frames",
    "video.entropy",
    "video.rate_control",
    "video.bitrate.mean",
    "video.bitrate.peak",
    "video.colour.range",
    "video.colour.primaries",
    "video.colour.transfer",
    "video.colour.matrix",
    "audio.present",
    "audio.codec",
    "audio.profile",
    "audio.sample_rate",
    "audio.channels",
    "audio.bitrate.mean",
    "audio.bitrate.peak",
    "audio.silent",
    "stream.protocol",
    "stream.duration",
    "stream.bitrate.mean",
    "stream.av_offset",
    "stream.av_drift",
    "stream.timestamps",
    "stream.pace",
]


class Table(unittest.TestCase):
    def test_every_name_has_its_row_with_meaning_and_advice(self):
        for name in NAMES:
            row = parameters.find(name)
            self.assertTrue(row.meaning.endswith(".") and row.advice.endswith("."), name)
            self.assertIn(parameters.setting_of(name), parameters.TABLE)
            if row.kind is parameters.Kind.CHOICE:
                self.assertTrue(row.choices, name)

    def test_unknown_names_come_with_the_nearest(self):
        with self.assertRaisesRegex(ParameterError, "did you mean video.codec"):
            parameters.find("video.codek")

    def test_values_are_brought_to_one_form_or_refused(self):
        for name, raw, value in (
            ("video.size", "1920 X 1080", "1920x1080"), ("video.display_aspect", "32:18", "16:9"), ("audio.present", True, "yes"),
            ("audio.silent", False, "no"), ("video.level", 4.1, "4.1"), ("video.level", "4", "4.0"), ("video.codec", "h264", "h264"),
            ("stream.av_offset", -20, -20),
        ):  # fmt: skip
            self.assertEqual(clean(name, raw), value)
        for name, raw, words in (
            ("video.codec", "H264", "did you mean h264"), ("video.frame_rate", "50", "expected a number in fps"),
            ("video.frame_rate", True, "expected a number"), ("video.frame_rate", float("nan"), "number"),
            ("video.bitrate.mean", -1, "0 or more"), ("video.size", "1920", "like 1920x1080"), ("audio.present", "maybe", "yes or no"),
            ("video.level", "high", 'like "4.1"'),
        ):  # fmt: skip
            with self.assertRaisesRegex(ParameterError, words):
                clean(name, raw)

    def test_showing(self):
        self.assertEqual(show("video.keyframe_interval.max", 2.0), "2 s")
        self.assertEqual(show("video.frame_rate", 29.97), "29.97 fps")
        self.assertEqual(show("video.bitrate.mean", 6899.6), "6900 kbit/s")
        self.assertEqual(show("video.codec", None), "not seen")

    def test_sameness_knows_how_finely_things_are_measured(self):
        self.assertFalse(same("video.frame_rate", 29.97, 30, measured=True))
        self.assertTrue(same("video.keyframe_interval.max", 2.001, 2))
        self.assertTrue(same("video.bitrate.mean", 6700, 6900, measured=True))
        self.assertFalse(same("video.bitrate.mean", 6700, 6900))

    def test_what_a_device_sets_follows_to_all_names(self):
        full = parameters.expand_set(
            {
                "video.size": "1440x1080",
                "video.keyframe_interval.median": 4,
                "audio.present": "no",
                "audio.codec": "aac",
            }
        )
        self.assertEqual(
            (full["video.width"], full["video.display_aspect"], full["video.keyframe_interval.max"]), (1440, "4:3", 4)
        )
        self.assertNotIn("audio.codec", full)


class Demands(unittest.TestCase):
    def test_forms(self):
        exact = demand.parse("video.codec", "h264")
        listed = demand.parse("video.frame_rate", [25, 29.97, 50])
        ranged = demand.parse("video.level", {"max": "4.1"})
        self.assertEqual((exact.text(), listed.text(), ranged.text()), ("h264", "25, 29.97 or 50 fps", "at most 4.1"))
        self.assertEqual((exact.json(), listed.json(), ranged.json()), ("h264", [25, 29.97, 50], {"max": "4.1"}))
        self.assertTrue(ranged.allows("3.1") and ranged.allows("1.0b") and not ranged.allows("4.2"))
        self.assertEqual(demand.parse("video.bitrate.mean", {"min": 1, "max": 2}).text(), "1 to 2 kbit/s")
        self.assertEqual((listed.nearest(40), listed.nearest(26)), (50, 25))
        self.assertEqual(demand.parse("audio.channels", {"min": 1, "max": 2}).nearest(6), 2)

    def test_measured_values_count_within_their_resolution_but_not_further(self):
        most = demand.parse("video.keyframe_interval.max", {"max": 2})
        self.assertTrue(most.allows(2.02, measured=True))
        self.assertFalse(most.allows(2.04, measured=True))
        self.assertFalse(most.allows(2.02))

    def test_mistakes(self):
        for name, raw, words in (
            ("video.codec", [], "empty list"), ("video.frame_rate", {"max": 1, "min": 2}, "min 2 is above max 1"),
            ("video.frame_rate", {"most": 1}, "got most"), ("video.codec", {"min": "h264"}, "a range needs numbers"),
            ("video.frame_rate", {}, "neither"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ParameterError, words):
                demand.parse(name, raw)
