"""What a carried stream goes through: nothing but its time line and, where it has no sound, silence."""

import gc
import itertools
import math
import unittest
from fractions import Fraction
from unittest import mock

import numpy as np

from direkt.codec import aac_frame, g711, h264_syntax
from direkt.codec.testcard import TestCard
from direkt.measure.meter import Meter
from direkt.media import Claims, Damaged, Format, Framing, Odd, Samples, batch
from direkt.protocol.rtp import rtcp
from direkt.protocol.rtp.packet import Packet, build
from direkt.protocol.rtp.stream import RtpStream
from direkt.protocol.rtsp.sdp import Encoding
from direkt.work.stream import relay as relaying
from direkt.work.stream.relay import CannotCarry, Relay, Silence
from tests.support import card, thorough

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

    def test_silence_where_there_is_no_sound_or_a_codec_that_is_not_read(self):
        bare = Format("audio", "aac", Fraction(1, 8000), sample_rate=8000, channels=1)  # nobody knows how it is coded
        for format in (None, Format("audio", "opus", Fraction(1, 8000), sample_rate=8000, channels=1), bare):
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
            self.assertEqual(next(e for e in out if isinstance(e, Format) and e.track == "audio").configuration.hex(), "1208")

    def test_silence_comes_with_its_picture_so_that_a_wait_is_no_jump(self):
        relay, meter = Relay(Silence()), Meter("rtmp")
        for begin, now in ((0, 0.0), (999, 60.0)):
            relay.new_source()
            coded = TestCard(card())
            for n in range(25):
                one = picture(n, key=n == 0, begin=begin, data=coded.next().length_prefixed())
                live = Samples(one.track, one.data, one.offset, one.size, one.dts, one.pts, one.marked, np.array([now + n / 25]))
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
        kinds = [b[:1] == b"s" for _, b in rows(out, "audio")]
        self.assertEqual((kinds, sum(kinds) > 15), (sorted(kinds), True), "its own from where it begins")

    def test_the_stream_goes_on_over_another_source(self):
        relay = Relay(Silence())
        relay.take([VIDEO, AAC, *(picture(n, key=n == 0) for n in range(50))], 10.0)
        relay.new_source()
        out = relay.take([VIDEO, AAC, picture(0, begin=777), picture(1, key=True, begin=777), picture(2, begin=777)], 13.0)
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
        for codec, words in (("h265", "H.265, which this platform's sheet does not name"), ("mjpeg", "Motion JPEG, which cannot be pushed")):
            with self.assertRaisesRegex(CannotCarry, f"sends {words}: set its stream to H.264"):
                Relay(Silence()).take([Format("video", codec, TICK)], 0.0)
        Relay(Silence(), codecs=("h264", "h265")).take([Format("video", "h265", TICK)], 0.0)

    def test_jumping_stamps_never_throw_sound_and_picture_apart(self):
        for jump in (-7.0, 3.5, 10.0, 100.0, -100.0):
            for sound_first in (False, True):
                relay, out = Relay(Silence()), []
                begin = 10**9
                out += relay.take([VIDEO, AAC], 0.0)
                for n in range(250):
                    t = n / 25
                    shift = {track: jump if t >= (5.0 if (track == "audio") == sound_first else 5.3) else 0.0 for track in ("video", "audio")}
                    events = [picture(n, begin=begin + round(shift["video"] * 90000), key=n % 25 == 0)]
                    first = round((begin / 90000 + shift["audio"] + t) * 48000)
                    events += [batch("audio", [b"%d" % n], [first], [first], [True])]
                    out += relay.take(events, t)
                video, heard = dict(enumerate(t for t, _ in rows(out, "video"))), {int(b): t for t, b in rows(out, "audio") if b.isdigit()}
                for n in range(250):
                    if n in heard and not 120 <= n <= 140:
                        self.assertAlmostEqual(heard[n], video[n], delta=3, msg=(jump, sound_first, n))
                times = list(video.values())
                self.assertLess(max(b - a for a, b in itertools.pairwise(times)), 500, (jump, sound_first))
                self.assertEqual(times, sorted(times))

    def test_a_pause_of_the_network_is_one_of_both(self):
        relay, out = Relay(Silence()), []
        out += relay.take([VIDEO, AAC], 0.0)
        for n in [*range(50), *range(175, 225)]:
            t = n / 25
            out += relay.take([picture(n, key=n % 25 == 0), batch("audio", [b"%d" % n], [n * 1920], [n * 1920], [True])], t)
        video = [t for t, _ in rows(out, "video")]
        heard = {int(b): t for t, b in rows(out, "audio") if b.isdigit()}
        self.assertEqual(video, [n * 40 for n in [*range(50), *range(175, 225)]])
        self.assertEqual([heard[n] for n in (10, 180, 200)], [400, 7200, 8000])

    def test_sound_that_stops_is_replaced_and_comes_back(self):
        relay, out = Relay(Silence()), []
        out += relay.take([VIDEO, AAC], 0.0)
        frame = 0
        for n in range(500):
            t = n / 25
            events = [picture(n, key=n % 25 == 0)]
            while frame * 1024 / 48000 < t:
                if not 5 <= frame * 1024 / 48000 < 12:
                    events.append(sound(frame))
                frame += 1
            out += relay.take(events, t)
        heard = rows(out, "audio")
        times = [t for t, _ in heard]
        self.assertEqual(times, sorted(times))
        self.assertLess(max(b - a for a, b in itertools.pairwise(times)), 25, "no hole")
        ours = [t for t, b in heard if not b.startswith(b"s")]
        self.assertTrue(4900 < ours[0] < 5100 and 11900 < ours[-1] < 12100, (ours[0], ours[-1]))
        said = [e.text for e in out if isinstance(e, Odd)]
        self.assertEqual(len(said), 2)
        self.assertIn("the camera's sound stopped at 5.0 s: silence is sent in its place", said[0])
        self.assertFalse(relay.silent)
        self.assertEqual(len([e for e in out if isinstance(e, Format) and e.track == "audio"]), 1, "coded as what it stands for")

    def test_what_depends_on_a_lost_picture_is_left_out_up_to_the_next_keyframe(self):
        for keep in (False, True):
            relay = Relay(Silence(), keep_damaged=keep)
            events = [VIDEO, *(picture(n, key=n % 10 == 0) for n in range(14)), Damaged("video", 2), *(picture(n, key=n % 10 == 0) for n in range(16, 30))]
            out = relay.take(events, 0.0)
            got = [b[0] for _, b in rows(out, "video")]
            self.assertEqual(got, [n for n in range(30) if n not in (14, 15) and (keep or not 15 < n < 20)])
            self.assertEqual((relay.damaged, relay.behind), (2, 0 if keep else 4))
        relay = Relay(Silence())
        out = relay.take([VIDEO, AAC, picture(0, key=True), Damaged("audio", 3), picture(1)], 0.0)
        self.assertEqual(len(rows(out, "video")), 2, "lost sound spoils no picture")

    def test_what_the_stream_is(self):
        told = {"video.bitrate.mean": 4000, "audio.bitrate.mean": 96, "video.frame_rate": 50.0, "video.gop_closed": "yes"}
        out = Relay(Silence(), told=told).take([VIDEO, AAC, picture(0, key=True)], 0.0)
        claims = next(e for e in out if isinstance(e, Claims)).values
        wanted = {"video.width": 640, "video.height": 360, "video.frame_rate": 25.0, "video.bitrate.mean": 4000, "audio.bitrate.mean": 96,
                  "audio.sample_rate": 48000, "audio.channels": 2, "video.codec": "h264", "audio.codec": "aac"}  # fmt: skip
        self.assertEqual(claims, wanted)


class Telephone(unittest.TestCase):
    def test_telephone_sound_is_coded_and_stays_with_its_picture(self):
        table = [round(32767 * v) for v in g711.decode("g711u", bytes(range(256)))]
        for codec, rate in (("g711u", 8000), ("pcm", 16000)):
            format = Format("audio", codec, Fraction(1, rate), sample_rate=rate, channels=1)
            relay, out = Relay(Silence(48000, 2, 96)), []
            out += relay.take([VIDEO, format], 0.0)
            for n in range(150):
                # a tone that begins at 2 s
                wave = [0.3 * math.sin(2 * math.pi * 500 * (n * rate // 50 + k) / rate) if n * rate // 50 + k >= 2 * rate else 0.0 for k in range(rate // 50)]
                if codec == "pcm":
                    data = b"".join(round(v * 32767).to_bytes(2, "big", signed=True) for v in wave)
                else:
                    data = bytes(min(range(256), key=lambda c, v=v: abs(table[c] - v * 32767)) for v in wave)
                at = n * rate // 50
                out += relay.take([*([picture(n // 2, key=n % 50 == 0)] if n % 2 == 0 else []), batch("audio", [data], [at], [at], [True])], n / 50)
            self.assertEqual((relay.coded, relay.silent), (codec, False))
            meter = Meter("rtmp")
            for e in out:
                meter.add(e)
            found = meter.snapshot().values
            self.assertEqual((found["audio.codec"], found["audio.sample_rate"], found["audio.channels"], found["audio.longest_gap"]), ("aac", 48000, 2, 0.0))
            self.assertAlmostEqual(found["audio.bitrate.mean"], 96, delta=1)
            loud = [aac_frame.read_frame(b, 3).power > 1e-4 for _, b in rows(out, "audio")]
            begins = rows(out, "audio")[loud.index(True)][0]
            self.assertTrue(2000 - 2 * 1024 / 48 - 1 <= begins <= 2000, "a frame's window reaches over the next one")


@mock.patch.object(relaying, "_SOUND_GONE", 100.0)  # its sound is sparse by design
class LongRun(unittest.TestCase):
    def test_a_day_without_growth_or_drift(self):
        """24 h by a faster clock: packets in, samples out; the sound's clock is 40 ppm fast, stamps and numbers wrap."""
        encodings = [
            ("video", Encoding(96, "H264", 90000, 1, {})),
            ("audio", Encoding(97, "MPEG4-GENERIC", 48000, 2, {"mode": "AAC-hbr", "config": "1190"})),
        ]
        stream, relay = RtpStream(encodings, wait=0.0, made_up=False, follow=True), Relay(Silence())
        head = (16).to_bytes(2, "big") + (2 << 3).to_bytes(2, "big") + b"so"
        numbers = [65000, 65000]
        last, furthest, sent = {}, 0.0, 0
        size = None
        stap = b"\x78" + b"".join(len(n).to_bytes(2, "big") + n for n in (CARD.sps, CARD.pps, b"\x65\x88\x80"))

        def give(track, stamp, payload, t):
            packet = Packet(96 + track, numbers[track] & 0xFFFF, stamp & 0xFFFFFFFF, 70 + track, True, payload)
            numbers[track] += 1
            stream.rtp(track, build(packet), t)

        day, step = thorough(86400, 28800), 8.0
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
        self.assertGreater(sent, 0.9 * 2 * day / step)
        self.assertAlmostEqual(last["video"] / 1000, day - step, delta=0.1)
        self.assertLess(furthest, 12, "ms between sound and picture; without following it would be 3456")
        self.assertLess(grown, 100, "objects that are kept")


if __name__ == "__main__":
    unittest.main()
