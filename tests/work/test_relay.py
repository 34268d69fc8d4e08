"""What a carried stream goes through: nothing but its time line and, where it has no sound, silence."""

import gc
import unittest
from fractions import Fraction

import numpy as np

from direkt.codec import h264_syntax
from direkt.codec.testcard import TestCard
from direkt.measure.meter import Meter
from direkt.media import Claims, Format, Framing, Samples, batch
from direkt.protocol.rtp import rtcp
from direkt.protocol.rtp.packet import Packet, build
from direkt.protocol.rtp.stream import Stream
from direkt.protocol.rtsp.sdp import Encoding
from direkt.work.relay import CannotCarry, Relay, Silence
from tests.support import card

TICK = Fraction(1, 90000)
CARD = TestCard(card())
VIDEO = Format("video", "h264", TICK, Framing.LENGTHS, h264_syntax.build_avc_config(CARD.sps, CARD.pps))
AAC = Format("audio", "aac", Fraction(1, 48000), configuration=b"\x11\x90")


def picture(n, *, key=False, begin=0, data=None, shown=None):
    at = begin + n * 3600
    return batch("video", [data or bytes([n & 255]) * 8], [at], [at if shown is None else begin + shown * 3600], [key])


def sound(n, begin=0):
    return batch("audio", [b"s%d" % n], [begin + n * 1024], [begin + n * 1024], [True])


def rows(events, track):
    """Time in ms, and the bytes, of each sample."""
    return [
        (int(e.dts[k]), bytes(e.sample(k)))
        for e in events
        if isinstance(e, Samples) and e.track == track
        for k in range(len(e))
    ]


class Relaying(unittest.TestCase):
    def test_from_a_keyframe_on_byte_for_byte_in_the_order_of_time(self):
        relay = Relay(Silence())
        out = relay.take([VIDEO, AAC, picture(0), picture(1), sound(0), picture(2, key=True), picture(3)], 0.0)
        out += relay.take([*(sound(n) for n in range(1, 8)), picture(4)], 0.1)
        self.assertEqual(relay.dropped, 2)
        self.assertIsInstance(out[0], Claims)
        self.assertEqual([e.track for e in out if isinstance(e, Format)][:2], ["video", "audio"])
        self.assertEqual(rows(out, "video"), [(0, b"\x02" * 8), (40, b"\x03" * 8), (80, b"\x04" * 8)])
        # sound from the keyframe's time on, as it is
        self.assertEqual(rows(out, "audio")[0], (5, b"s4"))
        self.assertEqual([b for _, b in rows(out, "audio")], [b"s4", b"s5", b"s6", b"s7"])

    def test_silence_where_there_is_no_sound_or_a_telephone_codec(self):
        for format in (None, Format("audio", "g711u", Fraction(1, 8000), sample_rate=8000, channels=1)):
            relay = Relay(Silence(44100, 1, 96))
            events = [VIDEO, *([format] if format else [])]
            for n in range(100):
                events += [picture(n, key=n % 50 == 0)]
                if format and n % 2 == 0:
                    events.append(batch("audio", [b"\xff" * 160], [n * 320], [n * 320], [True]))
            out = relay.take(events, 0.0)
            frames = rows(out, "audio")
            self.assertTrue(relay.silent)
            self.assertEqual([t for t, _ in frames], [round(n * 1024 / 44.1) for n in range(len(frames))])
            self.assertAlmostEqual(frames[-1][0], 3960, delta=24)
            self.assertEqual(
                next(e for e in out if isinstance(e, Format) and e.track == "audio").configuration.hex(), "1208"
            )

    def test_silence_comes_with_its_picture_so_that_a_wait_is_no_jump(self):
        relay, meter = Relay(Silence()), Meter("rtmp")
        for begin, now in ((0, 0.0), (999, 60.0)):
            relay.new_source()
            coded = TestCard(card())
            for n in range(25):
                one = picture(n, key=n == 0, begin=begin, data=coded.next().length_prefixed())
                live = Samples(
                    one.track, one.data, one.offset, one.size, one.dts, one.pts, one.marked, np.array([now + n / 25])
                )
                meter.add_all(relay.take([VIDEO, live], now + n / 25))
        v = meter.snapshot().values
        self.assertEqual(
            (v["stream.timestamps"], round(v["video.longest_gap"]), round(v["audio.longest_gap"])), ("clean", 59, 59)
        )

    def test_sound_that_comes_later_takes_over(self):
        relay = Relay(Silence())
        out = relay.take([VIDEO, *(picture(n, key=n == 0) for n in range(10))], 0.0)
        self.assertTrue(relay.silent)
        out = relay.take([AAC, *(sound(n) for n in range(19, 40)), *(picture(n) for n in range(10, 20))], 0.4)
        self.assertFalse(relay.silent)
        self.assertEqual({b[:1] for _, b in rows(out, "audio")}, {b"s"})

    def test_the_stream_goes_on_over_another_source(self):
        relay = Relay(Silence())
        relay.take([VIDEO, AAC, *(picture(n, key=n == 0) for n in range(50))], 10.0)
        relay.new_source()
        out = relay.take(
            [VIDEO, AAC, picture(0, begin=777), picture(1, key=True, begin=777), picture(2, begin=777)], 13.0
        )
        self.assertEqual([t for t, _ in rows(out, "video")], [4960, 5000])
        self.assertFalse([e for e in out if isinstance(e, Format | Claims)], "the platform knows it all")

    def test_a_new_connection_begins_at_nothing_with_everything(self):
        relay = Relay(Silence())
        relay.take([VIDEO, *(picture(n, key=n == 0) for n in range(50))], 0.0)
        relay.new_connection()
        out = relay.take([picture(50), picture(51, key=True), picture(52)], 2.0)
        self.assertEqual([t for t, _ in rows(out, "video")], [0, 40])
        self.assertEqual([type(e).__name__ for e in out[:3]], ["Claims", "Format", "Format"])

    def test_a_jump_of_the_cameras_times_is_none_of_the_platforms(self):
        relay = Relay(Silence())
        out = relay.take([VIDEO, *(picture(n, key=n == 0) for n in range(5))], 0.0)
        out += relay.take([picture(n, begin=10**9) for n in range(5, 8)], 0.2)
        out += relay.take([picture(n, begin=0) for n in range(8, 11)], 0.4)
        times = [t for t, _ in rows(out, "video")]
        self.assertEqual(times, sorted(times))
        self.assertLess(times[-1], 900)

    def test_pictures_shown_in_another_order_keep_it(self):
        relay = Relay(Silence())
        out = relay.take([VIDEO, picture(0, key=True, shown=1), picture(1, shown=3), picture(2, shown=2)], 0.0)
        found = [(int(e.dts[0]), int(e.pts[0])) for e in out if isinstance(e, Samples) and e.track == "video"]
        self.assertEqual(found, [(0, 40), (40, 120), (80, 80)])

    def test_new_parameter_sets_are_told(self):
        other = TestCard(card(320, 180))
        second = Format("video", "h264", TICK, Framing.LENGTHS, h264_syntax.build_avc_config(other.sps, other.pps))
        relay = Relay(Silence())
        out = relay.take([VIDEO, picture(0, key=True), picture(1), second, picture(2, key=True)], 0.0)
        told = [e.configuration for e in out if isinstance(e, Format) and e.track == "video"]
        self.assertEqual(told, [VIDEO.configuration, second.configuration])
        self.assertEqual([t for t, _ in rows(out, "video")], [0, 40, 80])

    def test_what_cannot_be_pushed_is_said(self):
        for codec, name in (("h265", "H.265"), ("mjpeg", "Motion JPEG")):
            with self.assertRaisesRegex(CannotCarry, f"sends {name}, which cannot be pushed: set its stream to H.264"):
                Relay(Silence()).take([Format("video", codec, TICK)], 0.0)


class LongRun(unittest.TestCase):
    def test_a_day_without_growth_or_drift(self):
        """24 h by a faster clock: packets in, samples out; the sound's clock is 40 ppm fast, stamps and numbers wrap."""
        encodings = [
            ("video", Encoding(96, "H264", 90000, 1, {})),
            ("audio", Encoding(97, "MPEG4-GENERIC", 48000, 2, {"mode": "AAC-hbr", "config": "1190"})),
        ]
        stream, relay = Stream(encodings, wait=0.0, made_up=False, follow=True), Relay(Silence())
        head = (16).to_bytes(2, "big") + (2 << 3).to_bytes(2, "big") + b"so"
        numbers = [65000, 65000]
        last, furthest, sent = {}, 0.0, 0
        size = None
        stap = b"\x78" + b"".join(len(n).to_bytes(2, "big") + n for n in (CARD.sps, CARD.pps, b"\x65\x88\x80"))

        def give(track, stamp, payload, t):
            packet = Packet(96 + track, numbers[track] & 0xFFFF, stamp & 0xFFFFFFFF, 70 + track, True, payload)
            numbers[track] += 1
            stream.rtp(track, build(packet), t)

        day, step = 86400, 8.0
        for n in range(int(day / step)):
            t = n * step
            for track, clock, fast in ((0, 90000, 1.0), (1, 48000, 1.00004)):
                stamp = 4294000000 + round(t * clock * fast) & 0xFFFFFFFF
                report = rtcp.SenderReport(70 + track, round((5000 + t) * 2**32), stamp, 1, 1)
                stream.rtcp(track, rtcp.sender_report(report, "c"), t)
            # a picture and a frame of sound now and then are enough to see where they are put
            give(0, 4294000000 + round(t * 90000), stap, t)
            give(1, 4294000000 + round(t * 48000 * 1.00004), head, t)
            for e in relay.take(stream.take(t), t):
                if isinstance(e, Samples):
                    sent += len(e)
                    now = int(e.dts[-1])
                    self.assertGreater(now, last.get(e.track, -1))
                    last[e.track] = now
            if n > 200:
                furthest = max(furthest, abs(last["video"] - last["audio"]))
            if n == 3000:
                gc.collect()
                size = len(gc.get_objects())
        gc.collect()
        grown = len(gc.get_objects()) - size
        self.assertGreater(sent, 20000)
        self.assertAlmostEqual(last["video"] / 1000, day - step, delta=0.1)
        self.assertLess(furthest, 12, "ms between sound and picture; without following it would be 3456")
        self.assertLess(grown, 100, "objects that are kept")


if __name__ == "__main__":
    unittest.main()
