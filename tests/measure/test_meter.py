import unittest
from fractions import Fraction

from direkt.bitstream.bits import pack, stop, u, ue
from direkt.container.media import Break, Claims, CodecConfig, Sample
from direkt.measure.meter import Meter
from direkt.measure.statistics import Bitrate, Clock, Intervals
from tests.support import AudioSettings, card, configs, events, flv_bytes, picture

IDR, P, B, I = (  # noqa: E741
    bytes([head]) + pack(ue(0) + ue(kind) + "1" * 9) for head, kind in ((0x65, 7), (0x41, 5), (0x01, 6), (0x41, 7))
)
RECOVERY = b"\x06\x06\x01\x84\x80"


def measure(found, step: float = 0.001):
    meter = Meter(step)
    for event in found:
        meter.add(event)
    return meter.snapshot()


def pattern(letters: str, rate: float = 25.0, start: float = 0.0):
    """Pictures in decoding order; B-pictures are shown before the picture decoded before them."""
    kinds = {"K": IDR, "P": P, "B": B, "I": I, "R": I}
    out = []
    for n, letter in enumerate(letters):
        shown = n + 1 if letter != "B" else n - 1
        nals = [RECOVERY, I] if letter == "R" else [kinds[letter]]
        out.append(picture(start + shown / rate, nals, dts=start + n / rate, key=letter == "K"))
    return [configs(), *out]


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
            "video.colour.range": "limited", "video.colour.primaries": "bt709", "audio.present": "yes", "audio.codec": "aac",
            "audio.profile": "lc", "audio.sample_rate": 44100, "audio.channels": 1, "audio.silent": "no",
            "stream.av_offset": 0.0, "stream.timestamps": "clean",
        }  # fmt: skip
        self.assertEqual({name: v.get(name) for name in wanted}, wanted)
        self.assertAlmostEqual(v["video.bitrate.mean"], 3000, delta=4)
        self.assertAlmostEqual(v["video.bitrate.peak"], 3000, delta=65)
        self.assertAlmostEqual(v["audio.bitrate.mean"], 96, delta=0.2)
        self.assertAlmostEqual(v["stream.duration"], 10, delta=0.03)
        self.assertLess(v["video.frame_jitter"], 0.01)

    def test_bitrates_equal_the_bytes_that_were_counted(self):
        found = events(flv_bytes(4, card(interval=25, bitrate=800, control="vbr"), None))
        total = sum(len(e.data) for e in found if isinstance(e, Sample))
        v = measure(found).values
        self.assertAlmostEqual(v["video.bitrate.mean"], total * 8 / 4 / 1000, delta=0.1)
        self.assertEqual(v["audio.present"], "no")
        self.assertNotIn("audio.codec", v)

    def test_29_97_is_not_30(self):
        for rate, wanted in ((Fraction(30000, 1001), 29.97), (Fraction(30), 30.0), (Fraction(60000, 1001), 59.94)):
            found = events(flv_bytes(6, card(rate=rate), None))
            self.assertEqual(measure(found).values["video.frame_rate"], wanted)
        # without timing in the header the time stamps must tell by themselves
        clock = Clock()
        times = [round(n * 1001 / 30000, 3) for n in range(300)]
        clock.add_all(times, times)
        self.assertAlmostEqual(clock.rate(0.001, None), 30000 / 1001)
        self.assertAlmostEqual(clock.rate(0.001, 25.0), 30000 / 1001, msg="a claim that does not fit is not believed")

    def test_interruptions_and_silence(self):
        v = measure(events(flv_bytes(3, audio=AudioSettings(48000, 2, 128, tone=False)))).values
        self.assertEqual(v["audio.silent"], "yes")
        meter = Meter()
        for part in (flv_bytes(3), flv_bytes(2)):
            for event in events(part):
                meter.add(event)
            meter.interrupt()
        v = meter.snapshot().values
        self.assertAlmostEqual(v["stream.duration"], 5.0, delta=0.05)
        self.assertEqual((v["stream.timestamps"], v["video.frame_rate"]), ("clean", 25.0))
        self.assertEqual(v["video.keyframe_interval.median"], 2.0)


class Pictures(unittest.TestCase):
    def test_keyframes_are_idr_pictures_whatever_the_container_says(self):
        found = pattern("KPPPPIPPPPKPPPP")
        found = [f._replace(key=True) if isinstance(f, Sample) else f for f in found]
        m = measure(found)
        self.assertEqual(m.values["video.keyframe_interval.median"], 0.4)
        self.assertEqual([(d.what, d.claimed, d.stream) for d in m.differences], [("keyframes", 15, 2)])

    def test_an_open_stretch_counts_as_at_least(self):
        m = measure(pattern("K" + "P" * 99))
        self.assertEqual(m.values["video.keyframe_interval.max"], 4.0)
        self.assertNotIn("video.keyframe_interval.median", m.values)
        self.assertTrue(m.notes["video.keyframe_interval.max"].startswith("at least"))
        m = measure(pattern("KPPPPKPPPPKPPPPPPPPPPPPPPPP"))
        self.assertEqual(
            (m.values["video.keyframe_interval.min"], m.values["video.keyframe_interval.max"]), (0.2, 0.68)
        )

    def test_no_keyframe_at_all_is_said(self):
        m = measure(pattern("PPPPRPPPP"))
        self.assertNotIn("video.keyframe_interval.max", m.values)
        self.assertEqual(m.values["video.gop_closed"], "no")
        self.assertIn("1 recovery points", m.notes["video.keyframe_interval.max"])

    def test_b_pictures_are_counted_in_a_row_and_do_not_jitter(self):
        m = measure(pattern("K" + "PBB" * 30 + "PBBB" + "P" * 30))
        self.assertEqual(m.values["video.b_frames"], 3)
        self.assertEqual(m.values["video.frame_rate"], 25.0)

    def test_fields(self):
        digits = u(100, 8) + u(0, 8) + u(40, 8) + ue(0) + ue(1) + ue(0) + ue(0) + "00" + ue(0) + ue(2) + ue(1) + "0"
        digits += ue(119) + ue(33) + "0" + "0" + "1" + "1" + ue(0) + ue(0) + ue(0) + ue(2) + "1" + "0" * 7 + "1" + "0"
        from direkt.bitstream import h264

        sps = b"\x67" + h264.escape(stop(digits))
        pps = b"\x68" + stop(ue(0) + ue(0) + "1")
        config = CodecConfig("video", "h264", h264.build_avc_config(sps, pps))
        field = b"\x65" + pack(ue(0) + ue(7) + ue(0) + u(0, 4) + "1" + "0" + ue(0))
        frame = b"\x41" + pack(ue(0) + ue(5) + ue(0) + u(1, 4) + "0")
        timing = [b"\x06\x01\x01" + bytes([kind << 4]) + b"\x80" for kind in (0, 3)]
        for nals, wanted in (([[field]], "interlaced"), ([[timing[0], frame]], "progressive"), ([[timing[1], frame]], "interlaced"),
                             ([[field], [timing[0], frame]], "mixed")):  # fmt: skip
            v = measure([config, *(picture(n / 25, part) for n, part in enumerate(nals * 3))]).values
            self.assertEqual((v["video.scan"], v["video.size"]), (wanted, "1920x1080"))

    def test_a_change_of_picture_starts_anew_and_is_told(self):
        first, second = (
            events(flv_bytes(2, card(640, 360), None)),
            events(flv_bytes(4, card(320, 180, interval=25), None)),
        )
        shifted = [e._replace(dts=e.dts + 2, pts=e.pts + 2) if isinstance(e, Sample) else e for e in second]
        m = measure(first + shifted)
        self.assertEqual((m.values["video.size"], m.values["video.keyframe_interval.median"]), ("320x180", 1.0))
        self.assertIn("changes from 640x360", m.remarks[0])

    def test_broken_pictures_are_counted_not_fatal(self):
        bad = Sample("video", 0.08, 0.08, b"\0\0\0\x09\x41\x9a", False)
        m = measure([configs(), picture(0, [IDR]), picture(0.04, [P]), bad, Sample("video", 0.12, 0.12, b"\0", False)])
        self.assertIn("2 pictures have NAL units", m.remarks[-1])

    def test_other_codecs_get_times_and_bytes_only(self):
        found = [CodecConfig("video", "h265", b"\x01")] + [
            Sample("video", n / 25, n / 25, bytes(1000), n == 0) for n in range(50)
        ]
        v = measure(found).values
        self.assertEqual((v["video.codec"], v["video.frame_rate"], v["video.bitrate.mean"]), ("h265", 25.0, 200.0))
        self.assertNotIn("video.width", v)
        self.assertNotIn("video.keyframe_interval.max", v)


class Time(unittest.TestCase):
    def test_backward_and_jump(self):
        for times, wanted in (
            ([0, 0.04, 0.02, 0.06], "backward"),
            ([0, 0.04, 5.0, 5.04], "jump"),
            ([0, 0.04, 0.08], "clean"),
        ):
            m = measure([configs(), *(picture(t, [P]) for t in times)])
            self.assertEqual(m.values["stream.timestamps"], wanted)

    def test_a_jump_does_not_count_as_time(self):
        m = measure(pattern("KPPPP") + pattern("KPPPP", start=100.0)[1:])
        self.assertAlmostEqual(m.values["stream.duration"], 0.4)
        self.assertEqual(m.values["video.frame_rate"], 25.0)

    def test_offset_drift_and_pace(self):
        config = next(e for e in events(flv_bytes(0.1)) if isinstance(e, CodecConfig) and e.track == "audio")
        frame = next(e for e in events(flv_bytes(0.1)) if isinstance(e, Sample) and e.track == "audio")
        late = [
            frame._replace(dts=0.25 + n * 1024 / 48000 * 1.001, pts=0.25 + n * 1024 / 48000 * 1.001)
            for n in range(2000)
        ]
        m = measure([configs(), config, picture(0, [IDR]), picture(0.04, [P]), *late])
        self.assertEqual(m.values["stream.av_offset"], 250.0)
        self.assertAlmostEqual(m.values["stream.av_drift"], -999, delta=1)
        meter = Meter()
        meter.add(configs())
        for n in range(100):
            meter.add(picture(n / 25, [P]), wall=n / 20)
        self.assertAlmostEqual(meter.snapshot().values["stream.pace"], 0.8, delta=0.01)

    def test_jitter_is_that_of_the_hundredth_worst(self):
        times = [n / 25 + (0.010 if n % 20 == 0 else 0) for n in range(400)]
        m = measure([configs(), *(picture(t, [P]) for t in times)])
        self.assertAlmostEqual(m.values["video.frame_jitter"], 10, delta=0.1)


class Claimed(unittest.TestCase):
    def test_what_a_container_claims_wrongly_is_shown_and_not_believed(self):
        data = flv_bytes(3, metadata={"width": 1920.0, "height": 360.0, "framerate": 30.0, "videocodecid": 7.0})
        m = measure(events(data))
        self.assertEqual(
            {(d.what, d.claimed, d.stream) for d in m.differences},
            {("video.width", 1920, 640), ("video.frame_rate", 30, 25.0)},
        )
        self.assertEqual(m.values["video.width"], 640)

    def test_the_configuration_may_differ_from_the_header(self):
        config = configs()
        lying = CodecConfig("video", "h264", config.data[:1] + b"\x4d\x00\x1f" + config.data[4:])
        m = measure([lying, picture(0, [IDR])])
        self.assertIn("profile 77", m.remarks[0])
        self.assertEqual(m.values["video.profile"], "high")

    def test_breaks_and_unreadable_configurations(self):
        m = measure([CodecConfig("video", "h264", b"\x01\x02"), Break(77, "cut")])
        self.assertEqual(m.broken.offset, 77)
        self.assertIn("cannot be read", m.remarks[0])
        self.assertEqual(measure([Claims("x", {"video.width": 1})]).values, {})


class Figures(unittest.TestCase):
    def test_a_long_stream_stays_small(self):
        rate = Bitrate()
        for start in range(0, 20_000, 100):
            rate.add_all([start + n / 10 for n in range(1000)], [100] * 1000)
        self.assertLessEqual(len(rate.course), 4096)
        self.assertEqual((rate.bytes, rate.peak), (20_000_000, 1000))
        self.assertEqual({size / 8 for size in rate.windows(8)}, {1000})

    def test_intervals(self):
        seen = Intervals()
        seen.add_all([0.04] * 98 + [0.05, 0.09])
        self.assertEqual((seen.shortest, seen.longest, seen.quantile(0.5)), (0.04, 0.09, 0.04))
        self.assertAlmostEqual(seen.strays(0.04, 0.99), 0.01)
        for n in range(200_000):
            seen.add_all([n / 90_000])
        self.assertLess(len(seen._seen), 130_000)

    def test_rate_control_needs_three_windows_and_notices_a_broken_promise(self):
        self.assertNotIn("video.rate_control", measure(events(flv_bytes(5, card(interval=50), None))).values)
        found = events(flv_bytes(9, card(bitrate=2000, control="vbr", interval=25), None))
        self.assertEqual(measure(found).values["video.rate_control"], "vbr")
        promise = configs(card(bitrate=2000, control="cbr"))
        m = measure([promise, *(e for e in found if isinstance(e, Sample))])
        self.assertIn("promises CBR of 2000", m.notes["video.rate_control"])
