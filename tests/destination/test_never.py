"""What must never be, steps for one codec, what SRT wants: in files, judged, compared, linted and matched."""

import itertools
import unittest

from direkt import demand, documents, parameters
from direkt.demand import Demand, both
from direkt.destination import compare
from direkt.destination.file import build
from direkt.destination.lint import lint
from direkt.documents import DocumentError
from direkt.finding import Verdict
from direkt.judge import judge_sent
from direkt.parameters import Bound, Measured, ParameterError
from tests.match.test_plan import make

RATES = (24, 25, 30, 50, 60)


def sheet(body, name="T"):
    return build(documents.parse(f"schema: direkt.sheet/1\nname: {name}\n{body}", "t.yaml"), name.lower())


def wishes():
    """Demands on a frame rate of every form, each with the values that it takes, counted by hand."""
    for listed in ((24,), (25, 50), RATES):
        yield Demand("video.frame_rate", listed), set(listed)
    for low, high in itertools.product((None, 25, 50), (None, 30, 60)):
        if low is not None and high is not None and low > high:
            continue
        for never in ((), (24,), (25, 60), (50,)):
            taken = {r for r in RATES if (low or 0) <= r <= (high or 99) and r not in never}
            yield Demand("video.frame_rate", minimum=low, maximum=high, never=never), taken


class Demands(unittest.TestCase):
    def test_what_is_taken_alone_and_together(self):
        every = list(wishes())
        self.assertGreater(len(every), 25)
        for one, taken in every:
            self.assertEqual({r for r in RATES if one.allows(r)}, taken, one)
            self.assertEqual({r for r in RATES if one.allows(r + 0.0001, measured=True)}, taken, one)
            for rate in RATES:
                near = one.nearest(rate)
                self.assertTrue(near is None or one.allows(near), (one, rate))
            for other, theirs in every:
                met = both(one, other)
                found = {r for r in RATES if met.allows(r)} if met is not None else set()
                self.assertEqual(found, taken & theirs, (one, other))

    def test_how_it_is_read_and_written(self):
        for must, never, text, json in (
            (None, "h265", "not h265", {"never": ["h265"]}), (None, ["vp9", "av1"], "not vp9 or av1", {"never": ["vp9", "av1"]}),
        ):  # fmt: skip
            made = demand.parse("video.codec", must, never)
            self.assertEqual((made.text(), made.json()), (text, json))
        made = demand.parse("video.frame_rate", {"max": 60}, [24, 48])
        self.assertEqual(made.text(), "at most 60 fps, not 24 or 48")
        self.assertEqual(demand.parse("audio.present", None, "no"), Demand("audio.present", ("yes",)))
        self.assertEqual(demand.parse("video.codec", ["h264", "h265"], "vp9").one_of, ("h264", "h265"))
        for name, must, never, words in (
            ("video.codec", ["h264", "vp9"], ["vp9"], "under must and under never"), ("audio.present", None, ["yes", "no"], "leaves no value"),
            ("video.frame_rate", None, {"min": 3}, "a limit is must"), ("video.codec", None, [], "empty list"), ("video.codec", None, "h266x", "h266x"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ParameterError, words):
                demand.parse(name, must, never)

    def test_a_value_that_may_still_grow_into_what_is_refused_is_open(self):
        made = demand.parse("video.b_frames", {"max": 9}, 3)
        self.assertIsNone(made.allows_beyond(2, upwards=True))
        self.assertIs(made.allows_beyond(10, upwards=True), False)
        self.assertIs(Demand("video.b_frames", never=(3,)).allows_beyond(4, upwards=True), True)


class Sheets(unittest.TestCase):
    BODY = """\
rules:
  video.codec: {never: h265}
  video.frame_rate: {must: {min: 20, max: 60}, never: [24]}
ladder:
  - {codec: h264, size: 1280x720, frame_rate: {min: 20, max: 60}, bitrate: {min: 2000, best: 3000, max: 4000}}
  - {codec: [av1, vp9], size: 1280x720, frame_rate: {min: 20, max: 60}, bitrate: {min: 1000, best: 1500, max: 2500}}
"""

    def judged(self, **values):
        found = {"video.size": "1280x720", "video.width": 1280, "video.height": 720, "video.frame_rate": 25.0, "video.codec": "h264",
                 "video.bitrate.mean": 3000.0, **{k.replace("__", "."): v for k, v in values.items()}}  # fmt: skip
        measured = {n: v if isinstance(v, Measured) else Measured(v) for n, v in found.items()}
        return {f.parameter: f for f in judge_sent(sheet(self.BODY), measured).findings}

    def test_a_stream_is_judged_by_what_must_never_be(self):
        self.assertIs(self.judged()["video.codec"].verdict, Verdict.PASS)
        found = self.judged(video__codec="h265", video__frame_rate=24.0)
        self.assertEqual([found[n].verdict for n in ("video.codec", "video.frame_rate")], [Verdict.FAIL] * 2)
        self.assertIn("Required: not h265", found["video.codec"].words)
        self.assertEqual(found["video.codec"].asked.json(), {"never": ["h265"]})
        self.assertEqual(found["video.frame_rate"].asked.json(), {"must": {"min": 20, "max": 60}, "never": [24]})
        self.assertIs(self.judged(video__frame_rate=23.976)["video.frame_rate"].verdict, Verdict.PASS)
        self.assertIs(self.judged(video__frame_rate=Measured(24.0, Bound.AT_LEAST))["video.frame_rate"].verdict, Verdict.UNSEEN)

    def test_a_step_holds_for_its_codec(self):
        for codec, rate, verdict in (("h264", 3000.0, Verdict.PASS), ("av1", 3000.0, Verdict.FAIL), ("vp9", 1500.0, Verdict.PASS), ("h264", 1500.0, Verdict.FAIL)):
            self.assertIs(self.judged(video__codec=codec, video__bitrate__mean=rate)["video.bitrate.mean"].verdict, verdict, (codec, rate))
        finding = self.judged(video__codec="mjpeg")["video.bitrate.mean"]
        self.assertEqual((finding.asked, finding.verdict), (None, Verdict.ADVISE))
        self.assertIn("no bitrate for 1280x720 at 25 fps in mjpeg", finding.advice)

    def test_mistakes_are_named_with_their_line(self):
        for body, line, words in (
            ("rules:\n  video.codec:\n    must: [h264, vp9]\n    never: vp9\n", 6, "vp9 stands under must and under never"),
            ("rules:\n  video.scan: {never: [progressive, interlaced, mixed]}\n", 4, "leaves no value"),
            ("rules:\n  video.scan: {never: slanted}\n", 4, "slanted"),
            ("rules:\n  video.scan: {because: so}\n", 4, "expected must, should or never"),
            ("rules: {}\nladder:\n  - {codec: h266x, size: 1280x720, frame_rate: {min: 1, max: 60}, bitrate: {max: 1}}\n", 5, "h266x"),
            ("rules: {}\nprotocols:\n  - {protocol: rtmp, port: 1935, passphrase: required}\n", 5, "passphrase goes with srt only"),
        ):
            with self.assertRaises(DocumentError) as caught:
                sheet(body)
            told = caught.exception.lines()[0]
            self.assertIn(words, told)
            self.assertRegex(told, rf"t\.yaml.*\b{line}\b")

    def test_contradictions(self):
        for body, words in (
            ("rules:\n  video.codec: {should: h265, never: h265}\n", "recommends h265, outside what it allows"),
            ("rules:\n  stream.protocol: {never: rtmp}\nprotocols:\n  - {protocol: rtmp, port: 1935}\n", "protocols lists rtmp; stream.protocol must be not rtmp"),
            (self.BODY + "  - {codec: h265, size: 640x360, frame_rate: {min: 20, max: 60}, bitrate: {max: 900}}\n", "is for h265; video.codec must be not h265"),
            (self.BODY + "  - {codec: vp9, size: 1280x720, frame_rate: {min: 50, max: 60}, bitrate: {max: 900}}\n", "50 to 60 fps in vp9 stands on two steps"),
            ("rules:\n  video.codec: {must: [h264, av1]}\n  video.size: {must: 1280x720}\n  video.frame_rate: {must: 25}\nladder:\n"
             "  - {codec: h264, size: 1280x720, frame_rate: {min: 20, max: 60}, bitrate: {max: 4000}}\n", "no bitrate for 1280x720 at 25 fps in av1"),
            ("rules: {}\nladder:\n  - {codec: h264, size: 1280x720, frame_rate: {min: 20, max: 60}, bitrate: {best: 3000}}\n"
             "  - {codec: h265, size: 1280x720, frame_rate: {min: 20, max: 60}, bitrate: {best: 3500}}\n", "more than h264 with 3000"),
            ("rules: {}\nprotocols:\n  - {protocol: srt, port: 9710, latency_ms: {min: 900, max: 300}}\n", "min 900 is above max 300"),
        ):  # fmt: skip
            texts = [c.text for c in lint(sheet(body))]
            self.assertTrue(any(words in text for text in texts), (words, texts))
        self.assertEqual(lint(sheet(self.BODY)), [])
        both_ways = "rules: {}\nladder:\n  - {size: 1280x720, frame_rate: {min: 20, max: 60}, bitrate: {best: 3000}}\n  - {codec: av1, size: 1280x720, frame_rate: {min: 20, max: 60}, bitrate: {best: 1500}}\n"
        made = sheet(both_ways)
        self.assertEqual(lint(made), [], "one step for each, and one that is the exception")
        self.assertEqual([made.rung_for(1280, 720, 25, codec).best for codec in ("av1", "h264", None)], [1500, 3000, 3000])

    def test_matching_keeps_to_it(self):
        rules = "  video.codec: {never: [h264]}\n  video.frame_rate: {never: [25]}\n"
        values = make(rules=rules).values()
        self.assertEqual((values["video.codec"], values["video.frame_rate"]), ("h265", 50))
        self.assertTrue(make(rules="  video.codec: {never: [h264, h265]}\n").unmet)
        ladder = "  video.size: {must: 1280x720}\nladder:\n  - {codec: h264, size: 1280x720, frame_rate: {min: 1, max: 60}, bitrate: {best: 4000, max: 5000}}\n  - {codec: h265, size: 1280x720, frame_rate: {min: 1, max: 60}, bitrate: {best: 2500, max: 3000}}\n"
        for codec, kbits in (("h264", 4000), ("h265", 2500)):
            self.assertEqual(make(rules=ladder, video__codec=codec, limits={"video.codec": [codec]}).values()["video.bitrate.mean"], kbits)


class Compared(unittest.TestCase):
    LADDER = "  - {{codec: {}, size: 1280x720, frame_rate: {{min: 20, max: 60}}, bitrate: {{min: {}, best: {}, max: {}}}}}\n"

    def test_codecs_one_by_one(self):
        a = sheet("rules:\n  video.frame_rate: {must: [25, 50]}\n  video.size: {must: 1280x720}\nladder:\n" + self.LADDER.format("h264", 2000, 3000, 5000) + self.LADDER.format("av1", 1000, 2000, 2500), "A")
        b = sheet("rules:\n  video.codec: {never: [h264]}\n  video.bitrate.mean: {must: {max: 1800}}\n", "B")
        shared = compare.common([a, b])
        self.assertEqual(shared.blockers, ())
        self.assertEqual({(size, rate, r.codecs, r.minimum, r.best, r.maximum) for size, rate, r in shared.pictures},
                         {("1280x720", rate, ("av1",), 1000, 1800, 1800) for rate in (25.0, 50.0)})  # fmt: skip
        c = sheet("rules:\n  video.codec: {must: h264}\n", "C")
        self.assertEqual([b.parameter for b in compare.common([b, c]).blockers], ["video.codec"])

    def test_a_ladder_and_a_plain_limit_are_weighed_against_each_other(self):
        a = sheet("rules:\n  video.frame_rate: {must: 25}\n  video.size: {must: 1280x720}\nladder:\n" + self.LADDER.format("h264", 2000, 3000, 5000), "A")
        (blocker,) = compare.common([a, sheet("rules:\n  video.bitrate.mean: {must: {max: 1500}}\n", "B")]).blockers
        self.assertIn("1280x720 at 25 fps in h264: A 2000 to 5000 kbit/s, B at most 1500 kbit/s do not meet", blocker.text)

    def test_sound_and_protocols(self):
        steps = "rules: {{}}\nprotocols:\n  - {{protocol: {}, port: 1935}}\naudio_ladder:\n  - {{channels: 2, bitrate: {{min: {}, best: {}, max: {}}}}}\n  - {{channels: {}, bitrate: {{max: 64}}}}\n"
        a, b = sheet(steps.format("rtmp", 96, 160, 256, 1), "A"), sheet(steps.format("rtmps", 128, 192, 320, 6), "B")
        shared = compare.common([a, b])
        self.assertEqual([(s.channels, s.minimum, s.best, s.maximum) for s in shared.sounds], [(2, 128, 160, 256)])
        self.assertEqual((shared.protocols, shared.blockers), ((), ()))
        self.assertEqual(compare.common([a, a]).protocols, ("rtmp",))
        self.assertIsNone(compare.common([a, sheet("rules: {}\n")]).protocols)
        (blocker,) = compare.common([a, sheet("rules:\n  audio.bitrate.mean: {must: {min: 320}}\n", "C")]).blockers
        self.assertEqual(blocker.parameter, "audio.bitrate.mean")

    def test_shared_bitrates_are_those_that_each_sheet_takes(self):
        """Counted through, kbit by kbit."""
        spans = ((2, 5), (4, 9), (6, 7), (1, None))
        for one, other in itertools.product(spans, repeat=2):
            bodies = []
            for low, high in (one, other):
                end = f", max: {high}" if high else ""
                bodies.append(f"rules:\n  video.frame_rate: {{must: 25}}\n  video.size: {{must: 1280x720}}\nladder:\n  - {{size: 1280x720, frame_rate: {{min: 20, max: 60}}, bitrate: {{min: {low}{end}}}}}\n")
            shared = compare.common([sheet(body, "AB"[n]) for n, body in enumerate(bodies)])
            taken = {k for k in range(1, 12) if all(low <= k <= (high or 99) for low, high in (one, other))}
            found = {k for k in range(1, 12) for _, _, r in shared.pictures if r.minimum <= k <= (r.maximum or 99)}
            self.assertEqual(found, taken, (one, other))
            self.assertEqual(bool(shared.blockers), not taken)


class Parameters(unittest.TestCase):
    def test_every_word_that_a_parameter_may_be_can_be_refused(self):
        for row in parameters.TABLE.values():
            for word in row.choices:
                made = demand.parse(row.name, None, word)
                self.assertFalse(made.allows(word), (row.name, word))
                self.assertTrue(all(made.allows(other) for other in row.choices if other != word), (row.name, word))


if __name__ == "__main__":
    unittest.main()
