"""One fault each: the finding that comes first names it, and what follows from it stands under it."""

import unittest

from direkt import documents, parameters
from direkt.destination.file import build
from direkt.device_side import DeviceSide, Preset
from direkt.finding import Verdict
from direkt.judge import judge_sent
from direkt.parameters import Bound, Measured

RULES = """\
schema: direkt.sheet/1
name: Test
rules:
  video.codec: {must: h264}
  video.profile: {should: high}
  video.size: {must: [1920x1080, 1280x720], should: 1280x720}
  video.frame_rate: {must: {max: 50}}
  video.keyframe_interval.max: {must: {max: 4}}
  video.keyframe_interval.median: {should: 2}
  video.display_aspect: {should: "16:9"}
  video.gop_closed: {should: "yes"}
  video.bitrate.peak: {must: {max: 8000}}
  audio.present: {must: "yes"}
  audio.codec: {must: aac}
  audio.sample_rate: {must: 48000}
ladder:
  - {size: 1920x1080, frame_rate: {min: 20, max: 50}, bitrate: {min: 3000, best: 4000, max: 5000}}
  - {size: 1280x720, frame_rate: {min: 20, max: 50}, bitrate: {min: 1500, best: 2500, max: 5000}}
"""
SHEET = build(documents.parse(RULES, "t.yaml"), "t")
SENT = {
    "video.codec": "h264", "video.profile": "high", "video.size": "1280x720", "video.width": 1280, "video.height": 720,
    "video.display_aspect": "16:9", "video.frame_rate": 25.0, "video.keyframe_interval.max": 2.0, "video.keyframe_interval.median": 2.0,
    "video.join_interval.max": 2.0, "video.gop_closed": "yes", "video.bitrate.mean": 2500.0, "video.bitrate.peak": 2800.0,
    "audio.present": "yes", "audio.codec": "aac", "audio.sample_rate": 48000, "stream.duration": 30.0,
}  # fmt: skip


def judged(sheet=SHEET, set_=None, device=None, **changes):
    found = {name: Measured(value) for name, value in SENT.items()}
    for name, value in changes.items():
        name = name.replace("__", ".")
        if value is None:
            found.pop(name, None)
        else:
            found[name] = value if isinstance(value, Measured) else Measured(value)
    ordered = {name: found[name] for name in parameters.in_table_order(found)}
    judgement = judge_sent(sheet, ordered, set_, device=device)
    return judgement, {f.parameter: f for f in judgement.findings}


def first(judgement):
    return min(judgement.findings, key=lambda f: f.order)


class One(unittest.TestCase):
    def check(self, cause, parameter, verdict=Verdict.FAIL, follows=(), **changes):
        judgement, found = judged(**changes)
        head = first(judgement)
        self.assertEqual((head.parameter, head.cause, head.verdict), (parameter, cause, verdict), changes)
        for name in follows:
            self.assertEqual((found[name].follows, found[name].cause), (parameter, cause), name)
        others = [f for f in judgement.findings if f.verdict in ("fail", "advise") and f is not head and f.follows != head.parameter]
        self.assertEqual([f.parameter for f in others], [], "mostly one fault, and one thing to mend")
        self.assertEqual(sorted(f.order for f in judgement.findings), list(range(1, len(judgement.findings) + 1)))
        return head, found

    def test_sound_that_stops(self):
        gap = Measured(9.0, Bound.AT_LEAST, since=21.0, note="it stops at 21.0 s and does not come back")
        head, _ = self.check("sound-stops", "audio.longest_gap", audio__longest_gap=gap)
        self.assertEqual(head.since, 21.0)

    def test_a_picture_that_freezes_to_the_end(self):
        head, _ = self.check("picture-frozen", "video.frozen", video__frozen=Measured(18.0, since=12.0))
        self.assertEqual(head.since, 12.0)
        judgement, _ = judged(video__frozen=Measured(3.0, since=12.0))
        self.assertEqual(judgement.verdict, Verdict.PASS)

    def test_a_hole(self):
        self.check(
            "picture-stops", "video.longest_gap", follows=("video.pictures_missing",), video__longest_gap=Measured(2.5, since=7.0),
            video__pictures_missing=62, video__frame_rate=Measured(22.0, usual=25.0, lossy=True), stream__duration=30.0,
        )  # fmt: skip

    def test_two_that_begin_far_apart_are_no_delay(self):
        sheet = build(documents.parse(RULES.replace("ladder:", "  stream.av_offset: {should: {min: -150, max: 150}}\nladder:"), "t.yaml"), "t")
        for offset, cause in ((4011.0, "late-start"), (-2500.0, "late-start"), (600.0, None), (20.0, None)):
            _, found = judged(sheet, stream__av_offset=offset)
            self.assertEqual((found["stream.av_offset"].cause or None), cause, offset)

    def test_no_header(self):
        gone = {
            name.replace(".", "__"): None for name in SENT
            if name.startswith("video.") and name not in ("video.codec", "video.frame_rate", "video.bitrate.mean")
        }
        judgement, found = judged(**gone, video__configured="no")
        self.assertEqual((first(judgement).parameter, first(judgement).cause), ("video.configured", "no-video-header"))
        for finding in judgement.findings:
            self.assertNotIn("for longer", finding.advice)
        self.assertEqual(found["video.size"].follows, "video.configured")
        judgement, _ = judged(audio__configured="no", audio__sample_rate=None, audio__channels=None, audio__profile=None)
        self.assertEqual(first(judgement).cause, "no-audio-header")

    def test_what_is_there_and_not_read_is_not_off(self):
        present = Measured("yes", unread="it is scrambled")
        judgement, found = judged(audio__present=present, audio__sample_rate=None)
        self.assertEqual(found["audio.present"].verdict, Verdict.PASS)
        self.assertNotIn("Turn audio on", " ".join(f.advice for f in judgement.findings))
        self.assertIn("there and is not read: it is scrambled", found["audio.sample_rate"].advice)

    def test_lost_pictures_are_not_a_wrong_rate(self):
        rate = Measured(24.0, usual=25.0, lossy=True)
        head, found = self.check("pictures-lost", "video.pictures_missing", video__frame_rate=rate, video__pictures_missing=30, stream__duration=30.0)
        self.assertEqual(found["video.frame_rate"].verdict, Verdict.PASS)
        self.assertIn("4.0% of all", head.note)
        self.check(
            "pictures-lost", "video.pictures_missing", Verdict.ADVISE, video__frame_rate=Measured(24.99, usual=25.0, lossy=True),
            video__pictures_missing=2, stream__duration=100.0,
        )  # fmt: skip
        _, found = judged(video__frame_rate=Measured(40.0, usual=25.0))
        self.assertEqual(found["video.frame_rate"].verdict, Verdict.PASS, "40 is allowed")
        _, found = judged(video__frame_rate=Measured(55.0, usual=25.0))
        self.assertEqual(found["video.frame_rate"].verdict, Verdict.FAIL, "two rates are no losses")

    def test_keyframes_that_are_not_idr(self):
        open_ = {"video__keyframe_interval__max": Measured(12.0, Bound.AT_LEAST), "video__keyframe_interval__median": 12.0, "video__join_interval__max": 2.0}
        head, _ = self.check("open-groups", "video.keyframe_interval.max", video__gop_closed="no", follows=("video.keyframe_interval.median",), **open_)
        self.assertIn("closed", head.advice)
        self.assertNotIn("Set the keyframe interval", head.advice)
        head, _ = self.check("refresh", "video.keyframe_interval.max", video__gop_closed="yes", **open_)
        self.assertIn("intra refresh", head.advice)
        del open_["video__join_interval__max"]
        self.check("keyframe-interval", "video.keyframe_interval.max", video__join_interval__max=12.0, **open_)
        self.check("keyframe-interval", "video.keyframe_interval.median", Verdict.ADVISE, video__keyframe_interval__median=3.0)

    def test_high_peaks_over_a_low_mean_are_one_cause(self):
        judgement, found = judged(video__bitrate__mean=1000.0, video__bitrate__peak=9000.0)
        head = first(judgement)
        self.assertEqual((head.parameter, head.cause), ("video.bitrate.peak", "variable-bitrate"))
        self.assertEqual(found["video.bitrate.mean"].follows, "video.bitrate.peak")

    def test_a_limit_that_is_not_kept_aims_at_the_best_and_what_is_not_seen_yet_says_so(self):
        _, found = judged(video__keyframe_interval__max=10.0, video__keyframe_interval__median=10.0, video__join_interval__max=10.0)
        self.assertIn("interval to 2 s: 50 frames at 25 fps", found["video.keyframe_interval.max"].advice)
        _, found = judged(video__keyframe_interval__max=Measured(3.0, bound=Bound.AT_LEAST))
        finding = found["video.keyframe_interval.max"]
        self.assertEqual((finding.verdict, finding.advice), (Verdict.UNSEEN, "Watch or record for longer."))

    def test_the_wrong_codec(self):
        self.check("codec", "video.codec", video__codec="h265", video__profile="main", follows=("video.profile",))

    def test_a_rate_that_must_go_asks_for_no_bitrate_of_its_own(self):
        _, found = judged(video__frame_rate=60.0, video__bitrate__mean=6000.0, video__keyframe_interval__median=6.0)
        self.assertEqual(found["video.frame_rate"].cause, "rate")
        self.assertEqual(found["video.bitrate.mean"].follows, "video.frame_rate")
        self.assertIn("100 frames at 50 fps", found["video.keyframe_interval.median"].advice)

    def test_a_size_that_must_go(self):
        big = {"video__size": "3840x2160", "video__width": 3840, "video__height": 2160}
        judgement, found = judged(video__bitrate__mean=16000.0, video__bitrate__peak=18000.0, **big)
        self.assertEqual((first(judgement).parameter, first(judgement).cause), ("video.size", "size"))
        self.assertIn("1280x720", first(judgement).words, "the best one")
        mean = found["video.bitrate.mean"]
        self.assertEqual((mean.follows, mean.asked.json()), ("video.size", {"must": {"min": 1500, "max": 5000}, "should": 2500}))
        self.assertEqual(found["video.bitrate.peak"].follows, "video.size")

    def test_a_portrait_picture_has_no_black_sides(self):
        _, found = judged(video__size="1080x1920", video__width=1080, video__height=1920, video__display_aspect="9:16")
        for finding in found.values():
            self.assertNotIn("black sides", finding.advice)

    def test_nothing_to_see_comes_before_what_is_refused(self):
        judgement, _ = judged(
            video__profile="baseline", audio__longest_gap=Measured(9.0, Bound.AT_LEAST, since=3.0), video__keyframe_interval__median=9.0
        )  # fmt: skip
        order = [f.parameter for f in sorted(judgement.findings, key=lambda f: f.order)]
        self.assertEqual(order[0], "audio.longest_gap")
        verdicts = [f.verdict for f in sorted(judgement.findings, key=lambda f: f.order) if not f.follows]
        rank = {"fail": 0, "advise": 1, "unseen": 2, "pass": 3}
        self.assertEqual([rank[v] for v in verdicts], sorted(rank[v] for v in verdicts))


SET = {"video.codec": "h264", "video.size": "1280x720", "video.frame_rate": 25.0, "video.keyframe_interval.median": 2.0, "video.bitrate.mean": 2500.0}
LONG = {"video__keyframe_interval__max": 9.0, "video__keyframe_interval__median": 8.0, "video__join_interval__max": 9.0}


class ByTheDevice(unittest.TestCase):
    """Causes for which the device's own word is evidence: named where they are the truth, and not where only the signs are the same."""

    def judged(self, device, changes, **said):
        set_ = parameters.expand_set({**SET, **said})
        return judged(set_=set_, device=None if device is None else DeviceSide("main", {**SET, **said}, **device), **changes)

    def head(self, device, changes, **said):
        return first(self.judged(device, changes, **said)[0])

    def test_an_adaptive_mode_that_the_device_says_is_on(self):
        said = {"video.adaptive": "yes"}
        judgement, found = self.judged({}, {**LONG, "video__bitrate__mean": 900.0}, **said)
        head = first(judgement)
        self.assertEqual((head.cause, head.parameter), ("adaptive", "video.keyframe_interval.max"))
        self.assertIn("adaptive codec mode is on", head.why)
        self.assertNotIn("restart", head.words)
        for name in ("video.keyframe_interval.median", "video.bitrate.mean"):
            self.assertEqual(found[name].follows, head.parameter, name)

    def test_the_same_signs_without_such_a_mode(self):
        for said in ({"video.adaptive": "no"}, {}):
            self.assertNotEqual(self.head({}, LONG, **said).cause, "adaptive")
        # it is on, and the interval is just what is set: too long, and not stretched
        head = self.head({}, {**LONG, "video__keyframe_interval__max": 8.0}, **{"video.adaptive": "yes", "video.keyframe_interval.median": 8.0})
        self.assertEqual(head.cause, "keyframe-interval")

    def test_where_what_is_set_would_fail_as_well_both_are_said(self):
        head = self.head({}, LONG, **{"video.adaptive": "yes", "video.keyframe_interval.median": 5.0})
        self.assertIn("Then: ", head.advice)

    def test_a_restart_that_is_needed(self):
        other = {"video__size": "1920x1080", "video__width": 1920, "video__height": 1080, "video__bitrate__mean": 4000.0, "video__frame_rate": 50.0}
        judgement, found = self.judged({"restart_needed": True}, other)
        head = first(judgement)
        self.assertEqual(head.cause, "restart")
        self.assertTrue(head.advice.startswith("Restart the device"))
        off = [f for f in judgement.findings if f.differs]
        self.assertGreater(len(off), 2)
        self.assertEqual({f.cause for f in off}, {"restart"})
        self.assertEqual(found["audio.present"].verdict, Verdict.PASS)

    def test_no_restart_explains_what_is_as_it_is_set(self):
        even = dict.fromkeys(LONG, 8.0)
        head = self.head({"restart_needed": True}, even, **{"video.keyframe_interval.median": 8.0})
        self.assertEqual(head.cause, "keyframe-interval")

    def test_the_second_channel_is_pushed(self):
        second = {"video.size": "640x360", "video.frame_rate": 25.0, "video.bitrate.mean": 700.0}
        small = {"video__size": "640x360", "video__width": 640, "video__height": 360, "video__bitrate__mean": 690.0}
        head = self.head({"others": {"second": second}}, small)
        self.assertEqual((head.cause, head.parameter), ("other-channel", "video.size"))
        self.assertIn("It pushes channel second, not main", head.why)

    def test_the_same_size_that_is_no_channels_or_of_two(self):
        small = {"video__size": "640x360", "video__width": 640, "video__height": 360, "video__bitrate__mean": 690.0}
        for others in (
            {"second": {"video.size": "640x480"}}, {"second": {"video.size": "640x360", "video.frame_rate": 12.0}},
            {"second": {"video.size": "640x360"}, "third": {"video.size": "640x360"}}, {},
        ):  # fmt: skip
            self.assertNotEqual(self.head({"others": others}, small).cause, "other-channel", others)

    PRESETS = tuple(
        Preset("LIVE > QUALITY", word, {"video.size": size, "video.frame_rate": rate, "video.bitrate.mean": bitrate})
        for word, size, rate, bitrate in (("A", "1280x720", 25, 2400), ("B", "1280x720", 50, 3600), ("C", "960x540", 25, 1400), ("D", "960x540", 60, 2000))
    )
    POOR = {"video__size": "960x540", "video__width": 960, "video__height": 540, "video__bitrate__mean": 1390.0, "video__frame_rate": 60.0}  # fmt: skip

    def by_preset(self, presets=PRESETS, settings=None, **changes):
        device = DeviceSide("main", settings or {}, presets=presets)
        return judged(device=device, **{**self.POOR, "video__bitrate__mean": 1950.0, **changes})

    def test_a_preset_that_ties_size_and_rate(self):
        judgement, found = self.by_preset()
        head = first(judgement)
        self.assertEqual((head.cause, head.parameter), ("preset", "video.size"))
        self.assertEqual(head.why, "It sends what 'D' under LIVE > QUALITY makes: picture size, frame rate and video bitrate are one setting there.")
        self.assertEqual(found["video.frame_rate"].follows, "video.size")

    def test_the_same_size_and_rate_that_no_preset_makes_or_that_two_make(self):
        twice = (*self.PRESETS, Preset("LIVE > OTHER", "E", self.PRESETS[3].values))
        for reason, (judgement, _) in {
            "another bitrate": self.by_preset(video__bitrate__mean=900.0),
            "another rate": self.by_preset(video__frame_rate=55.0),
            "two fit": self.by_preset(twice),
            "none known": self.by_preset(()),
            "the device says otherwise": self.by_preset(settings={"video.size": "1280x720"}),
        }.items():
            self.assertNotIn("preset", {f.cause for f in judgement.findings}, reason)

    def test_one_value_alone_that_is_off_is_not_laid_to_the_preset(self):
        judgement, _ = judged(device=DeviceSide("main", {}, presets=self.PRESETS), video__frame_rate=50.0, video__bitrate__mean=3600.0, video__profile="main")
        self.assertNotIn("preset", {f.cause for f in judgement.findings})

    def test_a_sensor_that_is_4_to_3(self):
        narrow = {"video__size": "1280x960", "video__width": 1280, "video__height": 960, "video__display_aspect": "4:3"}
        head = self.head({"source": (2592, 1944)}, narrow, **{"video.size": "1280x960"})
        self.assertEqual(head.cause, "sensor")
        self.assertIn("2592x1944", head.why)
        self.assertNotEqual(self.head({"source": (1920, 1080)}, narrow, **{"video.size": "1280x960"}).cause, "sensor")
        self.assertNotEqual(self.head(None, narrow, **{"video.size": "1280x960"}).cause, "sensor")

