import unittest

from direkt import documents
from direkt.destination.file import build
from direkt.finding import Verdict
from direkt.judge import judge_sent
from direkt.parameters import Bound, Measured, expand_set

SHEET = build(documents.parse("""\
schema: direkt.sheet/1
name: Test
rules:
  video.codec: {must: h264}
  video.size: {must: [1920x1080, 1280x720], should: 1920x1080}
  video.frame_rate: {must: {max: 50}}
  video.keyframe_interval.max: {must: {max: 4}}
  video.keyframe_interval.median: {should: 2}
  audio.present: {must: "yes"}
  audio.codec: {must: aac}
  stream.av_offset: {should: {min: -100, max: 100}}
ladder:
  - {size: 1920x1080, frame_rate: {min: 20, max: 50}, bitrate: {min: 3000, best: 4000, max: 5000}}
""", "t.yaml"), "t")  # fmt: skip
SENT = {
    "video.codec": "h264", "video.size": "1920x1080", "video.width": 1920, "video.height": 1080, "video.frame_rate": 25.0,
    "video.keyframe_interval.max": 2.0, "video.keyframe_interval.median": 2.0, "video.bitrate.mean": 4100.0,
    "audio.present": "yes", "audio.codec": "aac", "stream.av_offset": 3.0,
}  # fmt: skip


def judged(set_=None, **changes):
    sent = {**SENT, **{name.replace("__", "."): value for name, value in changes.items()}}
    found = {n: v if isinstance(v, Measured) else Measured(v) for n, v in sent.items() if v is not None}
    judgement = judge_sent(SHEET, found, set_)
    return judgement, {f.parameter: f for f in judgement.findings}


class Judging(unittest.TestCase):
    def test_a_stream_as_asked_passes(self):
        judgement, _ = judged()
        self.assertEqual((judgement.verdict, judgement.count(Verdict.PASS)), (Verdict.PASS, len(judgement.findings)))

    def test_demanded_fails_recommended_advises_unknown_is_unseen(self):
        judgement, found = judged(video__size="1280x720", video__width=1280, video__height=720)
        self.assertEqual((judgement.verdict, found["video.size"].verdict), (Verdict.ADVISE, Verdict.ADVISE))
        judgement, found = judged(video__frame_rate=60.0)
        self.assertEqual((judgement.verdict, found["video.frame_rate"].verdict), (Verdict.FAIL, Verdict.FAIL))
        judgement, found = judged(video__keyframe_interval__median=None)
        self.assertEqual((judgement.verdict, found["video.keyframe_interval.median"].verdict), (Verdict.ADVISE, Verdict.UNSEEN))

    def test_the_ladder_judges_the_bitrate_with_numbers_to_set(self):
        _, found = judged(video__bitrate__mean=5600.0)
        finding = found["video.bitrate.mean"]
        self.assertEqual(finding.verdict, Verdict.FAIL)
        self.assertIn("Lower the video bitrate to 4000 kbit/s (4 Mbit/s)", finding.advice)
        self.assertEqual(finding.asked.json(), {"must": {"min": 3000, "max": 5000}, "should": 4000})

    def test_an_interval_that_is_still_open_fails_when_too_long_and_is_unseen_when_not(self):
        name = "video.keyframe_interval.max"
        for seconds, bound, verdict in (
            (6.0, Bound.AT_LEAST, Verdict.FAIL), (3.0, Bound.AT_LEAST, Verdict.UNSEEN), (3.0, None, Verdict.PASS),
            (3.0, Bound.AT_MOST, Verdict.PASS), (6.0, Bound.AT_MOST, Verdict.UNSEEN),
        ):  # fmt: skip
            _, found = judged(video__keyframe_interval__max=Measured(seconds, bound))
            self.assertEqual(found[name].verdict, verdict, (seconds, bound))
        open_ = Measured(6.0, Bound.AT_LEAST)
        _, found = judged({name: 10}, video__keyframe_interval__max=open_)
        self.assertNotIn("The device says", found[name].advice)
        _, found = judged({name: 5}, video__keyframe_interval__max=open_)
        self.assertIn("The device says 5 s but sends 6 s", found[name].words)
        _, found = judged(video__keyframe_interval__median=6.0)
        self.assertIn("2 s: 50 frames at 25 fps", found["video.keyframe_interval.median"].advice)

    def test_a_value_that_may_lie_on_either_side_is_unseen(self):
        for value, off, verdict in (
            (50.4, None, Verdict.FAIL), (50.4, 0.5, Verdict.UNSEEN), (50.4, 0.3, Verdict.FAIL), (49.9, 0.5, Verdict.PASS),
        ):  # fmt: skip
            _, found = judged(video__frame_rate=Measured(value, uncertainty=off))
            self.assertEqual(found["video.frame_rate"].verdict, verdict, (value, off))

    def test_a_device_that_says_one_thing_and_sends_another(self):
        set_ = expand_set({"video.size": "1280x720", "video.codec": "h264", "video.bitrate.mean": 4000})
        judgement, found = judged(set_)
        self.assertEqual((judgement.verdict, found["video.size"].verdict), (Verdict.ADVISE, Verdict.ADVISE))
        self.assertIn("The device says 1280x720 but sends 1920x1080", found["video.size"].words)
        self.assertEqual(found["video.bitrate.mean"].verdict, Verdict.PASS)

    def test_no_audio_is_one_finding_not_many(self):
        judgement, _found = judged(audio__present="no", audio__codec=None, stream__av_offset=None)
        self.assertEqual([f.parameter for f in judgement.findings if f.verdict is not Verdict.PASS], ["audio.present"])

    def test_what_no_reader_reads_is_said_so_and_no_longer_look_is_advised(self):
        sent = {
            name: Measured(value)
            for name, value in (("video.codec", "av1"), ("video.frame_rate", 25.0), ("audio.present", "no"))
        }
        found = judge_sent(SHEET, sent).findings
        self.assertEqual(sum(f.verdict is Verdict.UNSEEN for f in found), 3)
        for finding in found:
            if finding.parameter.startswith("video.") and finding.verdict is Verdict.UNSEEN:
                self.assertIn("Of av1 only times and bytes", finding.advice)
            self.assertNotIn("None", finding.advice)

    def test_no_video_fails(self):
        judgement = judge_sent(SHEET, {"audio.present": Measured("yes"), "stream.duration": Measured(4.0)})
        self.assertEqual(judgement.findings[0].verdict, Verdict.FAIL)
        self.assertIn("No video", judgement.findings[0].advice)

    def test_without_a_sheet_only_contradictions_are_found(self):
        sent = {name: Measured(value) for name, value in SENT.items()}
        self.assertEqual(judge_sent(None, sent).findings, ())
        (finding,) = judge_sent(None, sent, {"video.frame_rate": 50}).findings
        self.assertEqual((finding.verdict, finding.asked), (Verdict.ADVISE, None))
