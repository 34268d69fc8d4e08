import dataclasses
import unittest
from fractions import Fraction

import numpy as np

from direkt.codec.aac_writer import ToneWriter
from direkt.codec.bits import pack, ue
from direkt.container import flv_writer
from direkt.measure.meter import Meter
from direkt.media import Break, Claims, Format, Framing, Samples, batch
from direkt.parameters import Bound
from tests import hand
from tests.support import (
    MS,
    AudioSettings,
    card,
    events,
    flat,
    flv_bytes,
    measure,
    parts_of,
    pictures,
    units,
    video_format,
)

IDR, P, B, I = (  # noqa: E741
    bytes([head]) + pack(ue(0) + ue(kind) + "1" * 9) for head, kind in ((0x65, 7), (0x41, 5), (0x01, 6), (0x41, 7))
)
RECOVERY = b"\x06\x06\x01\x84\x80"


def pattern(letters: str, rate: float = 25.0, start: float = 0.0) -> list:
    """Pictures in decoding order; B-pictures are shown before the picture decoded before them."""
    kinds = {"K": IDR, "P": P, "B": B, "I": I, "R": I}
    rows = []
    for n, letter in enumerate(letters):
        shown = n + 1 if letter != "B" else n - 1
        nals = [RECOVERY, I] if letter == "R" else [kinds[letter]]
        rows.append((start + n / rate, start + shown / rate, nals, letter == "K"))
    return [video_format(), pictures(rows)]


def shift(found: list, ticks: int) -> list:
    out = []
    for e in found:
        if isinstance(e, Samples):
            e = Samples(e.track, e.data, e.offset, e.size, e.dts + ticks, e.pts + ticks, e.marked)
        out.append(e)
    return out


class Truth(unittest.TestCase):
    def test_a_stream_of_known_making_measures_as_it_was_made(self):
        made = card(1280, 720, Fraction(50), 100, "main", 3000, "cbr")
        v = measure(events(flv_bytes(10, made, AudioSettings(44100, 1, 96)))).values
        wanted = {
            "video.codec": "h264", "video.profile": "main", "video.level": "3.2", "video.size": "1280x720", "video.width": 1280,
            "video.height": 720, "video.sample_aspect": "1:1", "video.display_aspect": "16:9", "video.scan": "progressive",
            "video.chroma": "4:2:0", "video.bit_depth": 8, "video.frame_rate": 50.0, "video.keyframe_interval.min": 2.0,
            "video.keyframe_interval.median": 2.0, "video.keyframe_interval.max": 2.0, "video.gop_closed": "yes",
            "video.b_frames": 0, "video.reference_frames": 1, "video.entropy": "cavlc", "video.rate_control": "cbr",
            "video.colour.range": "limited", "video.colour.primaries": "bt.709", "audio.present": "yes", "audio.codec": "aac",
            "audio.profile": "lc", "audio.sample_rate": 44100, "audio.channels": 1, "audio.silent": "no",
            "stream.av_offset": 0.0, "stream.timestamps": "clean",
        }  # fmt: skip
        self.assertEqual({name: v.get(name) for name in wanted}, wanted)
        self.assertAlmostEqual(v["video.bitrate.mean"], 3000, delta=4)
        self.assertAlmostEqual(v["video.bitrate.peak"], 3000, delta=65)
        self.assertAlmostEqual(v["audio.bitrate.mean"], 96, delta=0.2)
        self.assertAlmostEqual(v["stream.duration"], 10, delta=0.03)
        self.assertAlmostEqual(v["stream.bitrate.mean"], 3096, delta=10)
        self.assertLess(v["video.frame_jitter"], 0.01)

    def test_bitrates_equal_the_bytes_that_were_counted(self):
        found = events(flv_bytes(4, card(interval=25, bitrate=800, control="vbr"), None))
        total = sum(len(s.data) for s in flat(found, "video"))
        v = measure(found).values
        self.assertAlmostEqual(v["video.bitrate.mean"], total * 8 / 4 / 1000, delta=0.1)
        self.assertEqual(v["audio.present"], "no")
        self.assertNotIn("audio.codec", v)

    def test_29_97_is_not_30(self):
        for rate, wanted in ((Fraction(30000, 1001), 29.97), (Fraction(30), 30.0), (Fraction(60000, 1001), 59.94)):
            found = measure(events(flv_bytes(6, card(rate=rate), None))).found["video.frame_rate"]
            self.assertEqual((found.value, found.uncertainty), (wanted, None))

    def test_batches_of_any_size_measure_the_same(self):
        whole = events(flv_bytes(6, card(interval=25, control="vbr"), AudioSettings(48000, 2, 128)))
        wanted = measure(whole)
        for size in (1, 7, 100):
            small = []
            for event in whole:
                small += parts_of(event, [size] * (len(event) // size + 1)) if isinstance(event, Samples) else [event]
            self.assertEqual(measure(small), wanted)

    def test_interruptions_and_silence(self):
        v = measure(events(flv_bytes(3, audio=AudioSettings(48000, 2, 128, tone=False)))).values
        self.assertEqual(v["audio.silent"], "yes")
        meter = Meter()
        for part in (flv_bytes(3), flv_bytes(2)):
            meter.add_all(events(part))
            meter.interrupt()
        v = meter.snapshot().values
        self.assertAlmostEqual(v["stream.duration"], 5.0, delta=0.05)
        self.assertEqual((v["stream.timestamps"], v["video.frame_rate"]), ("clean", 25.0))
        self.assertEqual(v["video.keyframe_interval.median"], 2.0)

    def test_one_second_with_sound_is_not_silence(self):
        tone, silent = (ToneWriter(48000, 1, 64, tone=on) for on in (True, False))
        config = Format("audio", "aac", MS, configuration=tone.config)
        for sounding, wanted in ((0, "yes"), (1, "no"), (200, "no")):
            rows = [tone.next() if n // 4 < sounding else silent.next() for n in range(4 * 200)]
            times = [n * 250 for n in range(len(rows))]
            found = measure([*pattern("K"), config, batch("audio", rows, times, times, [True] * len(rows))]).found
            self.assertEqual(found["audio.silent"].value, wanted, sounding)
            note = found["audio.silent"].note
        self.assertEqual(note, "")
        self.assertLess(found["audio.level"].value, -20)


class Pictures(unittest.TestCase):
    def test_keyframes_are_idr_pictures_whatever_the_container_says(self):
        config, samples = pattern("KPPPPIPPPPKPPPP")
        samples.marked[:] = True
        m = measure([config, samples])
        self.assertEqual(m.values["video.keyframe_interval.median"], 0.4)
        self.assertEqual([(d.what, d.claimed, d.stream) for d in m.differences], [("keyframes", 15, 2)])
        config, samples = pattern("KPPPPIPPPPKPPPP")
        samples.marked[:] = np.roll(samples.marked, 1)
        self.assertEqual(
            [d.what for d in measure([config, samples]).differences], ["keyframes"], "the right number in wrong places"
        )

    def test_an_open_stretch_counts_as_at_least(self):
        m = measure(pattern("K" + "P" * 99))
        found = m.found["video.keyframe_interval.max"]
        self.assertEqual((found.value, found.bound), (4.0, Bound.AT_LEAST))
        self.assertNotIn("video.keyframe_interval.median", m.values)
        m = measure(pattern("KPPPPKPPPPKPPPPPPPPPPPPPPPP"))
        self.assertEqual((m.values["video.keyframe_interval.min"], m.values["video.keyframe_interval.max"]), (0.2, 0.68))
        m = measure(pattern("PPPPPPPPPPKPPPPKPPPP"))
        self.assertEqual(m.values["video.keyframe_interval.max"], 0.4, "the stretch in front of the first one counts too")
        found = measure(pattern("KPPPPKPPPPKPPPPP")).found["video.keyframe_interval.max"]
        self.assertEqual((found.value, found.bound), (0.2, None), "one picture more is within the grain")

    def test_no_keyframe_at_all_is_said(self):
        found = measure(pattern("PPPPRPPPP")).found
        self.assertEqual(found["video.gop_closed"].value, "yes", "nothing is shown before the picture one joins at")
        keys = found["video.keyframe_interval.max"]
        self.assertEqual((keys.value, keys.bound), (0.36, Bound.AT_LEAST))
        self.assertIn("no keyframe at all, 1 recovery points", keys.note)

    def test_b_pictures_are_counted_in_a_row_and_do_not_jitter(self):
        m = measure(pattern("K" + "PBB" * 30 + "PBBB" + "P" * 30))
        self.assertEqual(m.values["video.b_frames"], 3)
        self.assertEqual(m.values["video.frame_rate"], 25.0)

    def test_a_picture_in_several_samples_is_one(self):
        rows = []
        for n in range(50):
            t = n / 25
            kind = [IDR] if n % 25 == 0 else [P]
            rest = [bytes([0x41]) + pack(ue(400) + ue(5) + "1" * 20)]
            rows += [(t, t, [b"\x09\xf0"]), (t, t, kind, n % 25 == 0), (t, t, rest)]
        m = measure([video_format(), pictures(rows)])
        self.assertEqual((m.values["video.frame_rate"], m.values["video.keyframe_interval.median"]), (25.0, 1.0))
        self.assertEqual(m.differences, ())
        total = sum(len(units(row[2])) for row in rows)
        self.assertAlmostEqual(m.values["video.bitrate.mean"], total * 8 / 2 / 1000, delta=0.06)

    def test_a_change_of_picture_is_told_and_the_whole_is_kept(self):
        first = events(flv_bytes(2, card(640, 360), None))
        second = events(flv_bytes(4, card(320, 180, interval=25), None))
        m = measure(first + shift(second, 2000))
        self.assertEqual((m.values["video.size"], m.values["stream.duration"]), ("320x180", 6.0))
        self.assertEqual(m.remarks, ("the picture changes: 640x360 high until 2.0 s, then 320x180 high",))

    def test_broken_pictures_are_counted_not_fatal(self):
        rows = [(0, 0, [IDR]), (0.04, 0.04, [P]), (0.08, 0.08, b"\0\0\0\x09\x41\x9a"), (0.12, 0.12, b"\1")]
        m = measure([video_format(), pictures(rows)])
        self.assertIn("2 pictures have units inside", m.remarks[-1])

    def test_other_codecs_get_times_and_bytes_only(self):
        rows = [(n / 25, n / 25, bytes(1000), n == 0) for n in range(150)]
        m = measure([Format("video", "vp9", MS, configuration=b"\x01"), pictures(rows)])
        v = m.values
        self.assertEqual((v["video.codec"], v["video.frame_rate"], v["video.bitrate.mean"]), ("vp9", 25.0, 200.0))
        self.assertEqual((v["video.rate_control"], m.odd_codec), ("cbr", "vp9"))
        for name in ("video.width", "video.keyframe_interval.max", "video.gop_closed", "video.scan", "video.b_frames"):
            self.assertNotIn(name, v)
        self.assertEqual(m.differences, ())

    def test_another_codec_in_mid_stream_is_measured_anew(self):
        later = [Format("video", "vp9", MS), pictures([(2 + n / 25, 2 + n / 25, bytes(10)) for n in range(25)])]
        m = measure([*pattern("K" + "P" * 40), *later])
        self.assertEqual((m.values["video.codec"], m.values["stream.duration"]), ("vp9", 1.0))
        self.assertIn("changes from h264 to vp9", m.remarks[0])


class Changes(unittest.TestCase):
    """A stream whose parameter sets change without end is measured up to there; one that changes now and then is measured for ever."""

    def changing(self, count, each, inside=False):
        made = []
        for n in range(count):
            sps, pps = hand.sps(320 + 16 * (n % 50), 240), hand.pps()
            record = bytes([1, *sps[1:4], 255, 225]) + len(sps).to_bytes(2, "big") + sps + b"\1" + len(pps).to_bytes(2, "big") + pps
            if not inside or not n:
                made.append(Format("video", "h264", MS, Framing.LENGTHS, record))
            rows = [((n * each + k) * 40, k == 0) for k in range(each)]
            data = [hand.lengths(*((sps, pps) if inside and key else ()), hand.slice_(7 if key else 5, idr=key, number=k, size=40)) for k, (_, key) in enumerate(rows)]
            made.append(batch("video", data, [t for t, _ in rows], [t for t, _ in rows], [key for _, key in rows]))
        return measure(made)

    def test_without_end(self):
        for inside in (False, True):
            m = self.changing(1200, 1, inside)
            self.assertIn("more than 200 times: what comes after", " ".join(m.remarks), inside)
            self.assertLess(m.values["stream.duration"], 12)
            told = [line for line in m.remarks if line.startswith("the picture changes")]
            self.assertLess(len(told[0]), 1000)

    def test_now_and_then(self):
        m = self.changing(260, 60)
        self.assertNotIn("is not measured", " ".join(m.remarks))
        self.assertAlmostEqual(m.values["stream.duration"], 260 * 60 / 25, delta=0.1)


class Time(unittest.TestCase):
    def test_backward_and_jump(self):
        for times, wanted in (
            ([0, 0.04, 0.02, 0.06], "backward"), ([0, 0.04, 5.0, 5.04], "jump"), ([0, 0.04, 0.08], "clean"),
            ([0, 1.0, 2.0], "clean"), ([0, 2.001], "jump"), ([0, 0.04, 0.04], "repeated"), ([0, 9, 0], "backward"),
        ):  # fmt: skip
            m = measure([video_format(), pictures([(t, t, [P]) for t in times])])
            self.assertEqual(m.values["stream.timestamps"], wanted, times)

    def test_a_jump_does_not_count_as_time(self):
        m = measure(pattern("KPPPP") + pattern("KPPPP", start=100.0)[1:])
        self.assertAlmostEqual(m.values["stream.duration"], 0.4)
        self.assertEqual(m.values["video.frame_rate"], 25.0)

    def audio(self, count: int, stretch: float, start: float):
        found = events(flv_bytes(0.1))
        config = next(e for e in found if isinstance(e, Format) and e.track == "audio")
        frame = flat(found, "audio")[0].data
        times = [start + n * 1024 / 48000 * stretch for n in range(count)]
        return [Format("audio", "aac", Fraction(1, 48000), configuration=config.configuration),
                pictures([(t, t, frame) for t in times], Fraction(1, 48000), "audio")]  # fmt: skip

    def test_offset_and_drift(self):
        m = measure([*pattern("KP"), *self.audio(2000, 1.001, 0.29)])
        self.assertEqual(m.values["stream.av_offset"], 250.0)
        self.assertAlmostEqual(m.values["stream.av_drift"], -999, delta=1)
        self.assertNotIn("stream.av_drift", measure([*pattern("KP"), *self.audio(1400, 1.001, 0)]).values, "29.9 s")
        self.assertIn("stream.av_drift", measure([*pattern("KP"), *self.audio(1408, 1.001, 0)]).values, "30.03 s")

    def test_pace(self):
        config, samples = pattern("P" * 100)
        for late in (0, 3600):  # s at which the stream's own time begins
            for pace, wanted in ((20, 0.8), (25, 1.0), (50, 2.0)):
                meter = Meter()
                meter.add(config)
                times = samples.dts + round(late / config.tick)
                for at in range(0, 100, 10):
                    part = dataclasses.replace(samples, dts=times, pts=times, arrival=np.arange(100) / pace)[at : at + 10]
                    meter.add(part)
                self.assertAlmostEqual(meter.snapshot().values["stream.pace"], wanted, delta=0.001)
        self.assertNotIn("stream.pace", measure(pattern("PPP")).values)

    def test_jitter_is_that_of_the_hundredth_worst(self):
        times = [n / 25 + (0.010 if n % 20 == 0 else 0) for n in range(400)]
        m = measure([video_format(), pictures([(t, t, [P]) for t in times])])
        self.assertAlmostEqual(m.values["video.frame_jitter"], 10, delta=0.2)


class Silence(unittest.TestCase):
    def test_frames_that_do_not_tell(self):
        tone, silent = (ToneWriter(48000, 2, 64, tone=on) for on in (True, False))
        cut = tone.next()[:2]
        for frames, wanted in (
            ([cut] * 9, "unknown"), ([silent.next()] * 9, "yes"), ([silent.next()] * 4 + [cut] * 5, "unknown"),
            ([silent.next()] * 8 + [cut], "yes"), ([cut] * 8 + [tone.next()], "no"),
        ):  # fmt: skip
            samples = pictures([(n, n, frame) for n, frame in enumerate(frames)], track="audio")
            m = measure([Format("audio", "aac", MS, configuration=tone.config), samples])
            self.assertEqual(m.values["audio.silent"], wanted)


class Claimed(unittest.TestCase):
    def test_what_a_container_claims_wrongly_is_shown_and_not_believed(self):
        data = flv_bytes(3, facts={"width": 1920.0, "height": 360.0, "framerate": 30.0, "videocodecid": 7.0})
        m = measure(events(data))
        self.assertEqual(
            {(d.what, d.claimed, d.stream) for d in m.differences}, {("video.width", 1920, 640), ("video.frame_rate", 30, 25.0)},
        )
        self.assertEqual(m.values["video.width"], 640)

    def test_breaks_and_unreadable_configurations(self):
        m = measure([Format("video", "h264", MS, configuration=b"\x01\x02"), Break(77, "cut")])
        self.assertEqual(m.broken.offset, 77)
        self.assertIn("cannot be read", m.remarks[0])
        self.assertEqual(measure([Claims("x", {"video.width": 1})]).values, {})
        m = measure([pictures([(0, 0, [P])])])
        self.assertIn("before anything said how it is coded", m.remarks[0])

    def test_a_stream_with_an_unreadable_configuration_is_measured_by_its_own_headers(self):
        config, samples = pattern("KPPPPKPPPP")
        bad = Format("video", "h264", MS, config.framing, b"\x01\x02")
        m = measure([bad, samples])
        self.assertEqual((m.values["video.frame_rate"], m.values["video.keyframe_interval.median"]), (25.0, 0.2))
        self.assertNotIn("video.size", m.values)


class Evenly(unittest.TestCase):
    def test_rate_control_needs_three_windows_and_notices_a_broken_promise(self):
        for seconds, wanted in ((5.9, None), (6.1, "cbr")):
            found = events(flv_bytes(seconds, card(interval=50), None))
            found[0] = video_format(card(interval=50, control="vbr"))  # promises nothing
            self.assertEqual(measure(found).values.get("video.rate_control"), wanted)
        found = events(flv_bytes(9, card(bitrate=2000, control="vbr", interval=25), None))
        self.assertEqual(measure(found).values["video.rate_control"], "vbr")
        promise = video_format(card(bitrate=1500, control="cbr"))
        m = measure([promise, *(e for e in found if isinstance(e, Samples))])
        self.assertIn("promises CBR of 1500", m.found["video.rate_control"].note)

    def test_within_ten_percent_is_constant(self):
        for stray, wanted in ((90, "cbr"), (120, "vbr")):
            rows = []
            for n in range(400):
                size = 1000 + stray * (1 if n // 50 % 2 else -1)
                rows.append((n / 25, n / 25, units([IDR if n % 25 == 0 else P, b"\x0c" + bytes([255]) * (size - 20)])))
            m = measure([video_format(card(control="vbr")), pictures(rows)])
            self.assertEqual(m.values["video.rate_control"], wanted, stray)

    def test_an_interval_that_is_no_whole_number_of_seconds_is_one_window(self):
        made = card(rate=Fraction(30000, 1001), interval=60, bitrate=1000)
        rows = []
        for n in range(600):  # 2.002 s: a large keyframe, then small pictures; even from interval to interval
            size = 60_000 if n % 60 == 0 else 1000
            t = n * 1001 / 30000
            rows.append((t, t, units([IDR if n % 60 == 0 else P, b"\x0c" + bytes([255]) * size])))
        m = measure([video_format(made), pictures(rows)])
        self.assertEqual(m.values["video.rate_control"], "cbr")


class Streams(unittest.TestCase):
    def test_sound_of_simple_codecs_is_measured(self):
        data = flv_writer.header() + b"".join(flv_writer.tag(8, n * 20, b"\x72" + bytes([0xD5]) * 160) for n in range(200))
        meter = Meter()
        meter.add_all(events(data))
        v = {name: found.value for name, found in meter.audio.values().items()}
        self.assertEqual(
            (v["audio.codec"], v["audio.sample_rate"], v["audio.channels"], v["audio.silent"]), ("g711a", 8000, 1, "yes"),
        )
        self.assertEqual((v["audio.bitrate.mean"], v["audio.bitrate.peak"]), (64.0, 64.0))
