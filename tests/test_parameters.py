import unittest

from direkt import demand, parameters
from direkt.parameters import Bound, Measured, ParameterError, clean, same, show
from tests.parameters_page import PAGE, page


class Table(unittest.TestCase):
    def test_every_name_has_its_row_with_meaning_and_advice(self):
        self.assertGreater(len(parameters.TABLE), 40)
        for name, row in parameters.TABLE.items():
            self.assertTrue(all(text.endswith(".") for text in (row.meaning, row.advice, row.measured)), name)
            self.assertIn(parameters.setting_of(name), parameters.TABLE)
            self.assertIn(row.needs[0] if row.needs else name, parameters.TABLE)
            if row.aim:
                self.assertTrue(row.aim.format(target=2, way="Raise", frames=100, rate=50, mega=0.002).endswith("."), name)
            if row.kind is parameters.ValueKind.CHOICE:
                self.assertTrue(row.choices, name)

    def test_the_page_says_what_the_table_says(self):
        self.assertEqual(PAGE.read_text(), page(), "run: python -m tests.parameters_page")

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
        self.assertEqual(show("video.bitrate.mean", 6899.96), "6900 kbit/s")
        self.assertEqual(show("video.codec", None), "not seen")

    def test_sameness_knows_how_finely_things_are_measured(self):
        self.assertFalse(same("video.frame_rate", 29.97, 30, measured=True))
        self.assertTrue(same("video.keyframe_interval.max", 2.001, 2))
        self.assertTrue(same("video.bitrate.mean", 6700, 6900, measured=True))
        self.assertFalse(same("video.bitrate.mean", 6700, 6900))

    def test_what_a_device_sets_follows_to_all_names(self):
        full = parameters.expand_set(
            {"video.size": "1440x1080", "video.keyframe_interval.median": 4, "audio.present": "no", "audio.codec": "aac"}
        )
        self.assertEqual(
            (full["video.width"], full["video.display_aspect"], full["video.keyframe_interval.max"]), (1440, "4:3", 4)
        )
        self.assertNotIn("audio.codec", full)


class MeasuredValues(unittest.TestCase):
    def test_they_have_the_decimals_of_their_row(self):
        for name, value, wanted in (
            ("video.frame_rate", 29.97002997, 29.97), ("video.bitrate.mean", 6899.96, 6900.0), ("video.frame_jitter", 0.666, 0.67),
            ("stream.pace", 0.99949, 0.999), ("video.width", 640.4, 640), ("video.codec", "h264", "h264"),
        ):  # fmt: skip
            self.assertEqual(parameters.measured(name, value).value, wanted)

    def test_bounds_and_uncertainty_are_shown(self):
        for found, words in (
            (Measured(5.24, Bound.AT_LEAST), "at least 5.24 s"), (Measured(2, uncertainty=0.25), "2 ± 0.25 s"), (None, "not seen"),
            (Measured(3, Bound.AT_MOST), "at most 3 s"), (Measured(3, uncertainty=2.3e-8), "3 s"),
        ):  # fmt: skip
            self.assertEqual(parameters.show_measured("video.keyframe_interval.max", found), words)
        self.assertEqual(parameters.measured("video.frame_rate", 30.0, uncertainty=0.44556).uncertainty, 0.45)

    def test_level_1b_ranks_between_its_neighbours(self):
        levels = ["1.0", "1.0b", "1.1", "3.0", "3.1", "4.2"]
        self.assertEqual(sorted(levels, key=lambda v: parameters.ordered("video.level", v)), levels)


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

    def test_what_lies_beyond_a_value(self):
        def beyond(raw, value, upwards):
            return demand.parse("video.keyframe_interval.max", raw).allows_beyond(value, upwards=upwards)

        for raw, value, upwards, wanted in (
            ({"max": 4}, 5, True, False), ({"max": 4}, 3, True, None), ({"min": 2}, 3, True, True), ({"min": 2}, 1, True, None),
            ({"min": 2}, 1, False, False), ({"min": 2}, 3, False, None), ({"max": 4}, 3, False, True), ({"min": 1, "max": 4}, 5, False, None),
            ([2, 4], 5, True, False), ([2, 4], 3, True, None), ([2, 4], 1, False, False), ([2, 4], 3, False, None),
        ):  # fmt: skip
            self.assertIs(beyond(raw, value, upwards), wanted, (raw, value, upwards))

    def test_mistakes(self):
        for name, raw, words in (
            ("video.codec", [], "empty list"), ("video.frame_rate", {"max": 1, "min": 2}, "min 2 is above max 1"),
            ("video.frame_rate", {"most": 1}, "got most"), ("video.codec", {"min": "h264"}, "a range needs numbers"),
            ("video.frame_rate", {}, "neither"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ParameterError, words):
                demand.parse(name, raw)
