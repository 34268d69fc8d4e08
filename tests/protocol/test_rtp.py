"""RTP, RTCP and payload formats on packets assembled by hand, and orders against counting by brute force."""

import itertools
import random
import struct
import unittest
from fractions import Fraction

from direkt.codec.bits import pack, u
from direkt.media import Delivery, Format, Odd, Samples
from direkt.protocol.rtp import packet, rtcp
from direkt.protocol.rtp.formats import payload
from direkt.protocol.rtp.order import Order, Ordered
from direkt.protocol.rtp.packet import Packet, RtpError
from direkt.protocol.rtp.stream import RtpStream
from direkt.protocol.rtsp.sdp import Encoding

SPS = bytes.fromhex("6742c01eda0507e840000003004000000c83c58ba8")
PPS = bytes.fromhex("68ce3c80")


def raw(seq, stamp, payload=b"", *, pt=96, marker=False, ssrc=7, first=0x80, extra=b""):
    return (struct.pack(">BBHII", first, pt | (0x80 if marker else 0), seq & 0xFFFF, stamp & 0xFFFFFFFF, ssrc) + extra + payload)


class Packets(unittest.TestCase):
    def test_header_extension_sources_and_padding_are_taken_off(self):
        data = raw(5, 9, first=0x80 | 0x20 | 0x10 | 2, extra=bytes(8) + b"\xbe\xde\0\1abcd" + b"hello" + b"\0\0\3")
        self.assertEqual(packet.parse(data), Packet(96, 5, 9, 7, False, b"hello"))
        self.assertEqual(packet.parse(packet.build(Packet(8, 65535, 1, 2, True, b"x"))), Packet(8, 65535, 1, 2, True, b"x"))

    def test_what_is_none(self):
        for data in (b"", bytes(11), bytes(12), raw(1, 1, first=0x90), raw(1, 1, first=0x8F), raw(1, 1, b"\xff", first=0xA0)):
            with self.assertRaises(RtpError):
                packet.parse(data)

    def test_rtcp_by_the_figures_of_the_standard(self):
        # 6.4.1: a sender report with one block, then SDES and BYE in one compound packet
        sr = bytes.fromhex("81c8000c 00000007 e0000000 80000000 00000010 00000003 00000400"
                           "00000009 40fffffe 0001ffff 00000020 12345678 00010000".replace(" ", ""))  # fmt: skip
        sdes = bytes.fromhex("81ca0003 00000007 0104") + b"cam1" + bytes(2)
        bye = bytes.fromhex("81cb0001 00000007")
        found = rtcp.parse(sr + sdes + bye)
        self.assertEqual(found[0], rtcp.SenderReport(7, 0xE000000080000000, 16, 3, 1024))
        self.assertEqual(found[1], rtcp.Block(9, 64, -2, 0x1FFFF, 32, 0x12345678, 0x10000))
        self.assertEqual(found[2:], [rtcp.Description(7, "cam1"), rtcp.Goodbye((7,))])
        self.assertEqual(rtcp.receiver_report(1, "d", [found[1]])[8:32], sr[28:52])
        for bad in (b"\x80\xc8", sr[:20], b"\x40" + sr[1:], sr[:3] + b"\xff" + sr[4:]):
            with self.assertRaises(RtpError):
                rtcp.parse(bad)


class Orders(unittest.TestCase):
    def run_order(self, sequence, wait=0.2, step=0.001):
        """Numbers in the order in which they come; those handed on, and the order."""
        order, out = Order(90000, wait), []
        now = 0.0
        for n in sequence:
            now += step
            out += order.add(Packet(96, n & 0xFFFF, n * 100 & 0xFFFFFFFF, 7, False, b""), now)
        return [o.time // 100 for o in [*out, *order.flush()]], order, out

    def test_random_networks_are_counted_exactly(self):
        for seed in range(60):
            source = random.Random(seed)
            start = source.choice((0, 1000, 65500))
            sent = list(range(start, start + 400))
            kept = [n for n in sent if source.random() > 0.05 or n in (start, start + 399)]
            arrived, doubled, swapped = [], 0, 0
            for n in kept:
                arrived.append((n - start + source.choice((0, 0, 0, 0, 3.5)), n))
                if source.random() < 0.03:
                    arrived.append((n - start + 0.1, n))
                    doubled += 1
            arrived = [n for _, n in sorted(arrived, key=lambda a: a[0])]
            if arrived[0] != start:
                arrived.insert(0, start)
                arrived.pop(arrived.index(start, 1))
            seen, high = set(), -1
            for n in arrived:
                swapped += n < high and n not in seen
                seen.add(n)
                high = max(high, n)
            times, order, _ = self.run_order(arrived)
            c = order.counts
            self.assertEqual(times, sorted(set(kept)), seed)
            self.assertEqual(
                (c.received, c.lost, c.doubled, c.reordered, c.late), (len(kept), 400 - len(kept), doubled, swapped, 0), seed,
            )

    def test_late_ones_are_no_losses_and_not_used(self):
        times, order, _ = self.run_order([1, 2, 4, *range(5, 300), 3], wait=0.05)
        self.assertEqual((3 in times, order.counts.lost, order.counts.late), (False, 0, 1))

    def test_by_tcp_nothing_waits(self):
        order = Order(90000, 0.0)
        self.assertEqual(len(order.add(Packet(96, 1, 0, 7, False, b""), 0)), 1)
        (found,) = order.add(Packet(96, 4, 0, 7, False, b""), 0)
        self.assertEqual((found.lost, order.counts.lost), (2, 2))

    def test_another_source_takes_over_only_when_it_goes_on(self):
        order, out = Order(90000, 0.0), []
        for n in range(10):
            out += order.add(Packet(96, n, n * 3600, 7, False, b""), n / 25)
        out += order.add(Packet(96, 5000, 1, 99, False, b"stray"), 0.4)
        self.assertEqual((len(out), order.counts.sources), (10, 0))
        for n in range(10, 20):
            out += order.add(Packet(96, 40000 + n, 7_000_000 + n * 3600, 8, False, b""), n / 25)
        self.assertEqual((order.counts.sources, len(out), out[10].anew), (1, 20, True))
        self.assertEqual([b.time - a.time for a, b in itertools.pairwise(out)], [3600] * 19)

    def test_numbers_that_begin_anew(self):
        order, out = Order(90000, 0.0), []
        for n in [*range(30000, 30010), *range(5)]:
            out += order.add(Packet(96, n, len(out) * 3600, 7, False, b""), 0)
        self.assertEqual((order.counts.restarts, order.counts.lost, len(out)), (1, 0, 15))

    def test_time_stamps_wrap(self):
        order, out = Order(90000, 0.0), []
        for n in range(10):
            out += order.add(Packet(96, 65530 + n & 0xFFFF, 0xFFFFFFFF - 9000 + n * 3600 & 0xFFFFFFFF, 7, False, b""), 0)
        self.assertEqual([b.time - a.time for a, b in itertools.pairwise(out)], [3600] * 9)


class Sending:
    """Packets of one track, as some camera would make them."""

    def __init__(self, encoding, track="video"):
        self.remarks = []
        self.payload = payload(track, encoding, self.remarks.append)
        self.seq = 0

    def give(self, data, time, *, marker=False, lost=0):
        found = Packet(96, self.seq, time, 7, marker, data)
        self.seq += 1
        return self.payload.add(Ordered(found, time, time / 90000, lost, self.seq == 1))


H264 = Encoding(96, "H264", 90000, 1, {})


def units(data):
    out = []
    while data:
        size = int.from_bytes(data[:4], "big")
        out.append(data[4 : 4 + size])
        data = data[4 + size :]
    return out


class Pictures(unittest.TestCase):
    def test_single_aggregated_and_fragmented_units(self):
        s = Sending(H264)
        idr = b"\x65\x88" + bytes(range(100)) * 20
        stap = b"\x78" + b"".join(len(n).to_bytes(2, "big") + n for n in (SPS, PPS))
        self.assertEqual(s.give(stap, 0), [])
        parts = [idr[1:][n : n + 700] for n in range(0, len(idr) - 1, 700)]
        for n, part in enumerate(parts):
            flags = 5 | (0x80 if n == 0 else 0) | (0x40 if n == len(parts) - 1 else 0)
            out = s.give(bytes([0x7C, flags]) + part, 0, marker=n == len(parts) - 1)
        self.assertEqual([units(p.data) for p in out], [[SPS, PPS, idr]])
        self.assertEqual((out[0].key, out[0].made_up, s.remarks), (True, False, []))
        self.assertTrue(s.payload.format.configuration)
        (p,) = s.give(b"\x41\x9a\x01\x02", 3600, marker=True)
        self.assertEqual((units(p.data), p.key, p.time), ([b"\x41\x9a\x01\x02"], False, 3600))

    def test_pictures_end_with_the_time_where_markers_are_wrong_or_missing(self):
        for markers in (lambda n: False, lambda n: True):
            s = Sending(H264)
            found = []
            for picture in range(5):
                for n in range(3):
                    head = b"\x41\x9a" if n == 0 else b"\x41\x1a"
                    found += s.give(head + bytes([n]), picture * 3600, marker=markers(n))
            found += s.payload.end()
            later = [units(p.data) for p in found[-3:]]
            self.assertEqual([len(each) for each in later], [3, 3, 3])
            self.assertEqual([p.time for p in found[-3:]], [7200, 10800, 14400])

    def test_a_hole_is_made_up_as_long_as_its_neighbours(self):
        s = Sending(H264)
        s.give(b"\x7c\x85\x88" + b"a" * 999, 0)
        s.give(b"\x7c\x05" + b"b" * 1000, 0)
        (p,) = s.give(b"\x7c\x45" + b"c" * 400, 0, marker=True, lost=2)
        self.assertEqual((p.made_up, p.key, len(units(p.data)[0])), (True, True, 1 + 1000 + 1000 + 2000 + 400))
        # the beginning of a picture is lost: it begins as others do
        (p,) = s.give(b"\x7c\x45" + b"d" * 400, 3600, marker=True, lost=1)
        self.assertEqual((p.made_up, p.key, units(p.data)[0][:3], len(units(p.data)[0])), (True, True, b"\x65\x88a", 1401))

    def test_pictures_that_were_lost_whole_are_there_again(self):
        s = Sending(H264)
        for n in range(8):
            s.give(b"\x41\x9a" + bytes([n]) * 50, n * 3600, marker=True)
        found = s.give(b"\x41\x9a" + bytes(50), 10 * 3600, marker=True, lost=2)
        self.assertEqual([(p.time // 3600, p.made_up) for p in found], [(8, True), (9, True), (10, False)])
        # without a lost packet, a pause is a pause
        found = s.give(b"\x41\x9a" + bytes(50), 20 * 3600, marker=True)
        self.assertEqual([p.time // 3600 for p in found], [20])

    def test_what_does_not_add_up_is_told(self):
        s = Sending(H264)
        for data in (b"\x78\x00\x50ab", b"\x79abc", b"\x7c", b"\x7c\x85", b"\x67\xff", b"\x00"):
            s.give(data, 0)
        self.assertIn("an aggregation packet does not add up", s.remarks)
        self.assertTrue(any("interleaved" in r for r in s.remarks))
        self.assertTrue(any("parameter set cannot be read" in r for r in s.remarks))

    def test_units_with_start_codes_in_front(self):
        s = Sending(H264)
        (p,) = s.give(b"\0\0\0\1" + SPS + b"\0\0\1" + PPS + b"\0\0\0\1\x65\x88abc", 0, marker=True)
        self.assertEqual((units(p.data), p.key), ([SPS, PPS, b"\x65\x88abc"], True))
        self.assertIn("start codes in front", s.remarks[0])

    def test_h265(self):
        s = Sending(Encoding(96, "H265", 90000, 1, {}))
        unit = b"\x26\x01\xaf" + bytes(range(200)) * 10
        one = b"\x60\x01" + b"".join(len(n).to_bytes(2, "big") + n for n in (b"\x4e\x01abc", b"\x4e\x01de"))
        s.give(one, 0)
        body = unit[2:]
        s.give(b"\x62\x01\x93" + body[:900], 0)
        s.give(b"\x62\x01\x13" + body[900:1800], 0)
        (p,) = s.give(b"\x62\x01\x53" + body[1800:], 0, marker=True)
        self.assertEqual((units(p.data), p.key), ([b"\x4e\x01abc", b"\x4e\x01de", unit], True))


class Sound(unittest.TestCase):
    HBR = {"mode": "AAC-hbr", "sizelength": "13", "indexlength": "3", "indexdeltalength": "3", "config": "1190"}

    def test_several_frames_fragments_and_what_was_lost(self):
        s = Sending(Encoding(96, "MPEG4-GENERIC", 48000, 2, self.HBR), "audio")
        head = (32).to_bytes(2, "big") + (3 << 3).to_bytes(2, "big") + (2 << 3).to_bytes(2, "big")
        found = s.give(head + b"abcde", 0, marker=True)
        self.assertEqual([(f.data, f.time) for f in found], [(b"abc", 0), (b"de", 1024)])
        part = (16).to_bytes(2, "big") + (10 << 3).to_bytes(2, "big")
        self.assertEqual(s.give(part + b"01234", 2048), [])
        (f,) = s.give(part + b"56789", 2048, marker=True)
        self.assertEqual(f.data, b"0123456789")
        one = (16).to_bytes(2, "big") + (1 << 3).to_bytes(2, "big")
        found = s.give(one + b"x", 2048 + 4 * 1024, lost=3)
        self.assertEqual([(f.time // 1024, f.made_up) for f in found], [(3, True), (4, True), (5, True), (6, False)])
        self.assertEqual(s.payload.format, Format("audio", "aac", Fraction(1, 48000), configuration=b"\x11\x90"))

    def test_modes_may_leave_out_what_they_fix(self):
        s = Sending(Encoding(96, "MPEG4-GENERIC", 48000, 2, {"mode": "aac-HBR", "config": '"1190"'}), "audio")
        self.assertEqual(s.give((16).to_bytes(2, "big") + (2 << 3).to_bytes(2, "big") + b"ab", 0)[0].data, b"ab")
        for bad in (b"", b"\0", b"\xff\xff", (16).to_bytes(2, "big") + b"\xff\xff\0"):
            s.give(bad, 9000)
        self.assertTrue(s.remarks)

    def test_latm_with_its_configuration_beside_it_and_in_it(self):
        asc = u(2, 5) + u(3, 4) + u(2, 4) + "000"  # LC, 48 kHz, stereo
        mux = "0" + "1" + u(0, 6) + u(0, 4) + u(0, 3) + asc + u(0, 3) + u(255, 8) + "0" + "0"
        s = Sending(Encoding(96, "MP4A-LATM", 48000, 1, {"cpresent": "0", "config": pack(mux).hex()}), "audio")
        long = bytes(range(256)) + b"tail"
        (f,) = s.give(b"\xff\x05" + long, 0, marker=True)
        self.assertEqual((f.data, s.payload.format.configuration), (long, bytes.fromhex("1190")))
        self.assertEqual(s.give(b"\xff\x05" + long[:100], 1024), [])
        self.assertEqual(s.give(long[100:], 1024, marker=True)[0].data, long)
        inside = Sending(Encoding(96, "MP4A-LATM", 48000, 1, {}), "audio")
        digits = "0" + mux + u(3, 8) + "".join(u(b, 8) for b in b"abc")
        digits += "0" * (-len(digits) % 8) + "1" + u(2, 8) + "".join(u(b, 8) for b in b"de")
        found = inside.give(pack(digits), 0, marker=True)
        self.assertEqual([f.data for f in found], [b"abc", b"de"])
        self.assertEqual(inside.payload.format.configuration, bytes.fromhex("1190"))

    def test_a_description_without_a_configuration(self):
        s = Sending(Encoding(96, "MPEG4-GENERIC", 44100, 2, {"mode": "AAC-hbr"}), "audio")
        self.assertEqual((s.payload.format.configuration, "its form is not known" in s.remarks[0]), (b"", True))
        self.assertEqual((s.payload.format.sample_rate, s.payload.format.channels), (44100, 2))

    def test_telephone_sound(self):
        s = Sending(Encoding(0, "PCMU", 8000, 1, {}), "audio")
        s.give(b"\xff" * 160, 0)
        found = s.give(b"\xff" * 160, 480, lost=2)
        self.assertEqual([(f.time, f.made_up) for f in found], [(160, True), (320, True), (480, False)])
        self.assertEqual((s.payload.format.codec, s.payload.format.sample_rate), ("g711u", 8000))


class Streams(unittest.TestCase):
    """Both tracks on one time line."""

    AAC = Encoding(97, "MPEG4-GENERIC", 48000, 2, Sound.HBR)

    def stream(self, **more):
        return RtpStream([("video", H264), ("audio", self.AAC)], wait=0.0, made_up=True, **more)

    def give(self, stream, seconds, *, begin=0.0, v0=1000, a0=500, sound_later=0.0, rate=25, fast=1.0):
        frame = (16).to_bytes(2, "big") + (1 << 3).to_bytes(2, "big") + b"x"
        out = []
        for n in range(int(seconds * rate)):
            t = begin + n / rate
            n = round(t * rate)
            stream.rtp(0, raw(n, v0 + round(t * 90000), b"\x41\x9aab", marker=True), t)
            stamp = a0 + round((t - sound_later) * 48000 * fast)
            if t >= sound_later:
                stream.rtp(1, raw(n, stamp, frame, pt=97, marker=True, ssrc=8), t)
            out += stream.take(t)
        return out

    @staticmethod
    def first(events):
        return {
            track: next(int(e.pts[0]) * (1 / 90000 if track == "video" else 1 / 48000) for e in events if isinstance(e, Samples) and e.track == track)
            for track in ("video", "audio")
        }  # fmt: skip

    def report(self, ssrc, wall, stamp):
        return rtcp.sender_report(rtcp.SenderReport(ssrc, round(wall * 2**32), stamp & 0xFFFFFFFF, 1, 1), "c")

    def test_by_reports(self):
        stream = self.stream()
        stream.rtcp(0, self.report(7, 5000.0, 1000), 0.0)  # before any packet
        stream.rtcp(1, self.report(8, 5000.25, 500), 0.0)
        first = self.first(self.give(stream, 1))
        self.assertAlmostEqual(first["audio"] - first["video"], 0.25, 4)
        for track, ssrc in ((0, 7), (1, 8)):  # a report of one track says nothing of the other: then it goes by arrival
            stream = self.stream()
            stream.rtcp(track, self.report(ssrc, 5000.0, 1000), 0.0)
            first = self.first(self.give(stream, 5, sound_later=0.4))
            self.assertAlmostEqual(first["audio"] - first["video"], 0.4, 2)

    def test_by_what_the_server_said_else_by_arrival(self):
        stream = self.stream()
        stream.begins(0, 1000)
        stream.begins(1, 500 - 4800)
        first = self.first(self.give(stream, 5))
        self.assertAlmostEqual(first["audio"] - first["video"], 0.1, 4)
        stream = self.stream()
        events = self.give(stream, 5, sound_later=0.4)
        first = self.first(events)
        self.assertAlmostEqual(first["audio"] - first["video"], 0.4, 2)
        self.assertTrue(any(isinstance(e, Odd) and "sends no sender reports" in e.text for e in events))

    def test_nonsense_reports_are_not_believed(self):
        stream = self.stream()
        stream.rtcp(0, self.report(7, 5000.0, 1000), 0.0)
        stream.rtcp(1, self.report(8, 9000.0, 500), 0.0)
        events = self.give(stream, 5)
        first = self.first(events)
        self.assertAlmostEqual(first["audio"] - first["video"], 0.0, 2)
        self.assertTrue(any(isinstance(e, Odd) and "not believed" in e.text for e in events))

    def test_clocks_that_run_apart_are_told_and_followed(self):
        for follow in (False, True):
            stream = self.stream(follow=follow)
            ends = {}
            for minute in range(40):
                t = minute * 5.0
                stream.rtcp(0, self.report(7, 5000 + t, 1000 + round(t * 90000)), t)
                stream.rtcp(1, self.report(8, 5000 + t, 500 + round(t * 48000 * 1.0002)), t)
                for e in self.give(stream, 1, begin=t, rate=5, fast=1.0002):
                    if isinstance(e, Samples):
                        ends[e.track] = int(e.pts[-1]) / (90000 if e.track == "video" else 48000)
                    elif isinstance(e, Delivery) and e.track == "audio":
                        drift = e.drift
            off = ends["audio"] - ends["video"]
            if follow:
                self.assertLess(abs(off), 0.006)
            else:
                self.assertAlmostEqual(off, 195.8 * 0.0002, 3)
                self.assertAlmostEqual(drift, 200, -1)

    def test_a_track_of_which_nothing_comes_does_not_hold_the_other_for_ever(self):
        stream, out = self.stream(), []
        for n in range(150):
            stream.rtp(0, raw(n, n * 3600, b"\x41\x9aab", marker=True), n / 25)
            out += stream.take(n / 25)
        self.assertEqual(sum(len(e) for e in out if isinstance(e, Samples)), 150)

    def test_pictures_that_are_sent_in_another_order_than_shown(self):
        stream = RtpStream([("video", H264)], wait=0.0, made_up=True)
        stream._tracks[0].payload.reorder = 1
        shown = [0, 2, 1, 4, 3, 6, 5, 8, 7]
        events = []
        for n, pts in enumerate(shown):
            stream.rtp(0, raw(n, pts * 3600, b"\x41\x9aab", marker=True), n / 25)
            events += stream.take(n / 25)
        rows = [(int(e.pts[k]), int(e.dts[k])) for e in events if isinstance(e, Samples) for k in range(len(e))]
        self.assertEqual([p // 3600 for p, _ in rows], shown)
        self.assertEqual([d // 3600 for _, d in rows], [-1, 0, 1, 2, 3, 4, 5, 6, 7])

    def test_a_goodbye_may_overtake_the_last_packets_of_its_source(self):
        bye = bytes.fromhex("81cb000100000007")  # RFC 3550, 6.6: one source, 7
        for later, ssrc, over in ((0.05, 7, True), (0.05, 8, False), (0.6, 7, False)):
            stream = RtpStream([("video", H264)], wait=0.0, made_up=True)
            for n in range(5):
                stream.rtp(0, raw(n, n * 3600, b"\x41\x9aab", marker=True), n / 25)
            stream.rtcp(0, bye, 0.2)
            stream.rtp(0, raw(5, 5 * 3600, b"\x41\x9aab", marker=True, ssrc=ssrc), 0.2 + later)
            self.assertEqual(stream.goodbye, over, (later, ssrc))
            stream.take(1.3)
            self.assertEqual(stream.ended, over)

    def test_both_kinds_of_packet_at_one_place(self):
        stream = self.stream()
        stream.rtp(0, self.report(7, 5000.0, 1000), 0.0)
        stream.rtp(1, self.report(8, 5000.25, 500), 0.0)
        first = self.first(self.give(stream, 1))
        self.assertAlmostEqual(first["audio"] - first["video"], 0.25, 4)
        for track, ssrc in ((0, 7), (1, 8)):  # a report of one track says nothing of the other: then it goes by arrival
            stream = self.stream()
            stream.rtcp(track, self.report(ssrc, 5000.0, 1000), 0.0)
            first = self.first(self.give(stream, 5, sound_later=0.4))
            self.assertAlmostEqual(first["audio"] - first["video"], 0.4, 2)

    def test_bad_packets_are_told_and_passed_over(self):
        stream = RtpStream([("video", H264)], wait=0.0, made_up=True)
        for data in (b"", b"\0" * 20, raw(1, 1, b"x", pt=111)):
            stream.rtp(0, data, 0)
            stream.rtcp(0, data, 0)
        self.assertTrue(all(isinstance(e, Odd) for e in stream.take(0)))


class LastPackets(unittest.TestCase):
    def test_the_last_packet_of_a_picture_is_lost(self):
        from direkt.protocol.rtp.stream import RtpStream
        from direkt.protocol.rtsp.sdp import Encoding
        from tests import hand

        def packets(kind, number, count, **more):
            unit = hand.slice_(kind, number=number, size=900, seed=number + 1, **more)
            size = -(-(len(unit) - 1) // count)
            parts = [unit[1 + at : 1 + at + size] for at in range(0, len(unit) - 1, size)]
            out = []
            for n, part in enumerate(parts):
                flags = (0x80 if n == 0 else 0) | (0x40 if n == len(parts) - 1 else 0) | unit[0] & 31
                out.append(bytes([unit[0] & 0xE0 | 28, flags]) + part)
            return unit, out

        for count in (2, 3, 5):
            for gone in range(1, 12):
                made, sequence, units = RtpStream([("video", Encoding(96, "H264", 90000, 1, {}))], wait=0.0, made_up=False), 0, []
                for number in range(14):
                    kind = hand.I if number == 0 else hand.P
                    unit, parts = packets(kind, number, count, idr=number == 0)
                    units.append(unit)
                    for n, part in enumerate(parts):
                        last = n == len(parts) - 1
                        head = bytes([0x80, 96 | last << 7]) + sequence.to_bytes(2, "big") + (number * 3600).to_bytes(4, "big") + b"\0\0\0\7"
                        sequence += 1
                        if not (number == gone and last):
                            made.rtp(0, head + part, number / 25)
                got = [bytes(e.sample(n))[4:] for e in made.take(1.0, over=True) if isinstance(e, Samples) for n in range(len(e))]
                self.assertEqual(got, [u for n, u in enumerate(units) if n != gone], (count, gone))
                self.assertEqual(made.left_out, 1)


if __name__ == "__main__":
    unittest.main()
