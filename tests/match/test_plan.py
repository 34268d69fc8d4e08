import unittest

from direkt import demand, documents
from direkt.destination import library
from direkt.destination.file import build
from direkt.device.input import input_signal
from direkt.device.state import Channel
from direkt.match.plan import plan

SET = {
    "video.codec": "h264", "video.profile": "high", "video.size": "2560x1440", "video.frame_rate": 25, "video.rate_control": "vbr",
    "video.bitrate.mean": 12000, "video.keyframe_interval.median": 10, "audio.present": "no", "audio.codec": "aac",
    "audio.sample_rate": 44100, "audio.channels": 2, "audio.bitrate.mean": 96,
}  # fmt: skip
LIMITS = {
    "video.codec": ["h264", "h265"], "video.profile": ["baseline", "main", "high"],
    "video.size": ["2560x1440", "1920x1080", "1280x720", "960x540", "640x360"], "video.frame_rate": [60, 59.94, 50, 30, 29.97, 25],
    "video.rate_control": ["cbr", "vbr"], "video.bitrate.mean": {"min": 300, "max": 20000},
    "video.keyframe_interval.median": {"min": 0.04, "max": 24}, "audio.present": ["yes", "no"], "audio.codec": ["aac"],
    "audio.sample_rate": [44100, 48000], "audio.channels": [1, 2], "audio.bitrate.mean": [64, 96, 128, 160, 192],
}  # fmt: skip


def make(sheet="tarnlight", signal="1080p50", uplink=None, limits=None, rules=None, **changes):
    values = {**SET, **{name.replace("__", "."): value for name, value in changes.items()}}
    allowed = {name: demand.parse(name, raw) for name, raw in {**LIMITS, **(limits or {})}.items() if raw}
    chosen = library.load(sheet) if rules is None else build(
        documents.parse(f"schema: direkt.sheet/1\nname: T\nrules:\n{rules}", "t.yaml"), "t")  # fmt: skip
    return plan(Channel("main", values, allowed), chosen, input_signal(signal) if signal else None, uplink)


class Matching(unittest.TestCase):
    def test_the_wrong_encoder_is_set_right(self):
        p = make()
        self.assertEqual(p.unmet, ())
        self.assertEqual(p.values(), {
            "video.size": "1920x1080", "video.frame_rate": 50, "video.rate_control": "cbr", "video.bitrate.mean": 6900,
            "video.keyframe_interval.median": 1.6, "audio.present": "yes", "audio.sample_rate": 48000, "audio.bitrate.mean": 160,
        })  # fmt: skip
        reasons = {step.parameter: step.reason for step in p.changes}
        self.assertIn("(80 frames at 50 fps)", reasons["video.keyframe_interval.median"])
        self.assertIn("demands video.keyframe_interval.max of at most 3.6 s", reasons["video.keyframe_interval.median"])
        for step in p.changes:
            self.assertRegex(step.rule, r"tarnlight.yaml:\d+")

    def test_each_change_says_whether_it_is_demanded(self):
        reasons = {step.parameter: step.reason.split(":")[0] for step in make().changes}
        for name, verb in (
            ("video.size", "demands it"), ("audio.present", "demands it"), ("video.frame_rate", "recommends it"),
            ("video.rate_control", "recommends it"), ("audio.sample_rate", "recommends it"), ("video.bitrate.mean", "demands it"),
        ):  # fmt: skip
            self.assertIn(f"the sheet {verb}", reasons[name], name)
        kept = {step.parameter: step.reason for step in make(audio__sample_rate=48000).steps}
        self.assertEqual(kept["audio.sample_rate"], "kept: as asked")

    def test_sound_that_is_on_is_never_switched_off_to_meet_something_else(self):
        rules = "  video.bitrate.mean: {must: {min: 3000, max: 5000}}\n  audio.bitrate.mean: {must: 160}\n  audio.sample_rate: {must: 48000}\n"
        for uplink in (3050.0, 2000.0, 500.0):
            p = make(rules=rules, uplink=uplink, audio__present="yes", limits={"audio.bitrate.mean": [64, 96], "audio.sample_rate": [44100]})
            self.assertNotIn("audio.present", p.values(), uplink)
            self.assertTrue(p.unmet)
        p = make(rules='  audio.present: {must: "no"}\n', audio__present="yes")
        self.assertEqual(p.values(), {"audio.present": "no"}, "it is what the sheet asks for")

    def test_a_range_that_is_not_told_may_be_set(self):
        allowed = {name: demand.parse(name, raw) for name, raw in LIMITS.items()}
        allowed["video.bitrate.mean"] = demand.Demand("video.bitrate.mean")
        p = plan(Channel("main", SET, allowed), library.load("tarnlight"), input_signal("1080p50"))
        self.assertEqual((p.unmet, p.values()["video.bitrate.mean"]), ((), 6900))

    def test_of_several_that_fit_the_nearest_is_taken(self):
        for old, wanted in ((12000, 8000), (2000, 4000), (100, 4000)):
            p = make(video__bitrate__mean=old, rules="  video.bitrate.mean: {must: {min: 4000, max: 8000}}\n")
            self.assertEqual(p.values()["video.bitrate.mean"], wanted)
        p = make(audio__present="yes", audio__bitrate__mean=64, rules="  audio.bitrate.mean: {must: {min: 100, max: 200}}\n")
        self.assertEqual(p.values()["audio.bitrate.mean"], 128)
        p = make(video__profile="baseline", rules="  video.profile: {must: [high, main]}\n")
        self.assertIn(p.values()["video.profile"], ("high", "main"))

    def test_what_is_already_right_stays(self):
        wanted = make().values()
        again = make(**{name.replace(".", "__"): value for name, value in wanted.items()})
        self.assertEqual((again.changes, again.unmet), ((), ()))

    def test_the_inputs_family_is_kept(self):
        for signal, rate in (("1080p50", 50), ("1080p59.94", 59.94), ("1080p60", 60), ("1080i50", 50)):
            found = make(signal=signal).values().get("video.frame_rate", 25)
            self.assertEqual(found, rate, signal)
        p = make("plainsong-village", signal="1080p60")
        self.assertEqual(p.values()["video.frame_rate"], 30)
        p = make("plainsong-village", signal="1080p59.94")
        self.assertIn("the input is 1080p59.94", p.unmet[0].reason)

    def test_interlaced_input_and_no_input_are_said(self):
        self.assertIn("the input is 1080i50", next(u for u in make(signal="1080i50").unmet if u.parameter == "video.scan").reason)
        self.assertIn("no signal", make(signal=None).unmet[0].reason)

    def test_no_pixels_are_invented(self):
        p = make(signal="720p50", video__size="640x360")
        self.assertEqual(p.values()["video.size"], "960x540")
        p = make(signal="720p50", video__size="2560x1440")
        self.assertEqual(p.values()["video.size"], "1280x720")

    def test_the_uplink_bounds_the_bitrate_then_the_picture(self):
        self.assertEqual(make(uplink=6000).values()["video.bitrate.mean"], 5800)
        thin = make(uplink=3000)
        self.assertLess(thin.values()["video.bitrate.mean"], 3000)
        self.assertIn("the uplink carries no more", " ".join(s.reason for s in thin.changes))
        self.assertIn("the uplink leaves 500 kbit/s", make(uplink=500).unmet[0].reason)

    def test_what_the_device_cannot_is_unmet_with_the_rule(self):
        p = make(limits={"video.profile": ["baseline"]})
        (unmet,) = p.unmet
        self.assertEqual((unmet.parameter, unmet.reason), ("video.profile", "asked main or high; the device can do baseline"))
        p = make(limits={"audio.present": None})
        self.assertIn("fixed at no", p.unmet[0].reason)
        p = make("plainsong-village", limits={"video.size": ["1920x1080"]}, video__size="1920x1080")
        self.assertEqual({u.parameter for u in p.unmet}, {"video.size", "video.level"})

    def test_merely_allowed_is_kept_when_the_device_cannot_do_the_recommended(self):
        p = make("plainsong-village")
        step = next(s for s in p.steps if s.parameter == "audio.bitrate.mean")
        self.assertEqual((step.changes, step.new), (False, 96))
        self.assertIn("the device cannot", step.reason)

    def test_the_same_as_the_source(self):
        rules = "  video.frame_rate: {same_as_source: true}\n"
        for signal, rate in (("1080p50", 50), ("1080p59.94", 59.94), ("1080p25", 25)):
            p = make(signal=signal, rules=rules, video__frame_rate=30)
            self.assertEqual((p.values()["video.frame_rate"], p.unmet), (rate, ()), signal)
            self.assertIn("the same as the source", p.changes[0].reason)
        p = make(signal="1080p24", rules=rules)
        self.assertIn("1080p24", p.unmet[0].reason)

    def test_a_latency_mode_is_matched_like_any_sheet(self):
        wanted = make("tarnlight:low").values()
        self.assertEqual(wanted["video.keyframe_interval.median"], 0.8)
        kept = make("tarnlight:low", video__keyframe_interval__median=1.6)
        self.assertEqual(kept.values()["video.keyframe_interval.median"], 0.8, "0.8 s is recommended there")

    def test_the_audio_bitrate_follows_the_channels(self):
        rules = (
            "  audio.present: {must: 'yes'}\n  audio.channels: {must: 1}\naudio_ladder:\n"
            "  - {channels: 1, bitrate: {min: 64, max: 80}}\n  - {channels: 2, bitrate: {min: 128, max: 192}}\n"
        )
        wanted = make(rules=rules, audio__bitrate__mean=160).values()
        self.assertEqual((wanted["audio.channels"], wanted["audio.bitrate.mean"]), (1, 64))

    def test_seconds_stay_when_only_the_frame_rate_changes(self):
        p = make(video__keyframe_interval__median=1.6, video__size="1920x1080")
        step = next(s for s in p.steps if s.parameter == "video.keyframe_interval.median")
        self.assertFalse(step.changes)
        self.assertIn("80 frames at 50 fps", step.reason)

    def test_exclusive_rules_on_one_setting(self):
        rules = "  video.keyframe_interval.max: {must: {max: 2}}\n  video.keyframe_interval.min: {must: {min: 3}}\n"
        (unmet,) = make(rules=rules).unmet
        self.assertTrue(unmet.parameter.startswith("video.keyframe_interval"))

    def test_a_setting_nobody_asks_for_is_left_alone(self):
        p = make(rules="  video.codec: {must: h264}\n")
        self.assertEqual(p.changes, ())
