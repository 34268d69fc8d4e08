"""Transport streams as ISO/IEC 13818-1 allows them, assembled by hand: other writers' habits."""

import unittest
import unittest.mock

from direkt.container import ContainerError, Source, ts
from direkt.media import Odd, Samples, UnreadTrack
from tests import hand
from tests.support import Cli, flat, measure

CLOCK = 90_000
V, A = 0x100, 0x101
AVC, HEVC, ADTS, LATM, MPEG, AC3, EAC3 = 0x1B, 0x24, 0x0F, 0x11, 0x03, 0x81, 0x87
SLOT = CLOCK // 25


def read(mux, programme=None):
    return list(ts.read(Source(mux.bytes() if isinstance(mux, hand.Mux) else mux), programme))


def odd(found):
    return [e.text for e in found if isinstance(e, Odd)]


def start(*tracks, mux=None):
    """A stream with one programme of these types and PIDs."""
    mux = mux or hand.Mux()
    mux.table(0, hand.pat([(1, 0x1000)]))
    mux.table(0x1000, hand.pmt(1, V, [(kind, pid, b"") for kind, pid in tracks]))
    return mux


def video(count=100, **more):
    """Bytes, pts and dts of each picture."""
    return [(hand.annex_b(*units), p * SLOT + CLOCK, d * SLOT + CLOCK) for d, p, units in hand.pictures(count, group=25, **more)]


def one_each(mux, pictures, pid=V):
    for data, pts, dts in pictures:
        mux.data(pid, hand.pes(0xE0, data, pts, dts))


class Pictures(unittest.TestCase):
    def setUp(self):
        self.plain = start((AVC, V))
        one_each(self.plain, video())
        self.whole = measure(read(self.plain)).values

    def same(self, mux, *, but=()):
        found = measure(read(mux)).values
        for name, value in self.whole.items():
            if name not in but:
                self.assertEqual(found.get(name), value, name)
        return found

    def test_the_plain_one(self):
        self.assertEqual((self.whole["video.frame_rate"], self.whole["video.keyframe_interval.max"]), (25.0, 1.0))
        self.assertEqual((self.whole["stream.duration"], self.whole["video.size"]), (4.0, "640x368"))
        pictures = flat(read(self.plain), "video")
        self.assertEqual([p.data for p in pictures], [data for data, _, _ in video()])

    def test_several_pictures_in_a_packet(self):
        for each in (2, 5, 10):
            mux, pictures = start((AVC, V)), video()
            for n in range(0, 100, each):
                part = pictures[n : n + each]
                mux.data(V, hand.pes(0xE0, b"".join(p[0] for p in part), part[0][1]))
            self.same(mux)

    def test_a_picture_in_several_packets(self):
        mux = start((AVC, V))
        for data, pts, _ in video():
            for n, piece in enumerate(hand.split(data, [90, 200, 77])):
                mux.data(V, hand.pes(0xE0, piece, None if n else pts))
        self.same(mux)

    def test_packets_that_begin_anywhere(self):
        for size in (500, 1234, 4000):
            pictures = video()
            whole, starts = b"".join(p[0] for p in pictures), []
            at = 0
            for data, pts, _ in pictures:
                starts.append((at, pts))
                at += len(data)
            mux = start((AVC, V))
            for begin in range(0, len(whole), size):
                first = next((pts for place, pts in starts if begin <= place < begin + size), None)
                mux.data(V, hand.pes(0xE0, whole[begin : begin + size], first))
            self.same(mux)

    def test_a_time_on_every_tenth_picture(self):
        mux = start((AVC, V))
        for n, (data, pts, _) in enumerate(video()):
            mux.data(V, hand.pes(0xE0, data, None if n % 10 else pts))
        self.same(mux)
        self.assertTrue(any("only some pictures carry a time" in text for text in odd(read(mux))))

    def test_pictures_out_of_order_with_and_without_all_times(self):
        for step in (1, 3):
            mux = start((AVC, V))
            for n, (data, pts, dts) in enumerate(video(order=[4, 2, 1, 3])):
                mux.data(V, hand.pes(0xE0, data, None if n % step else pts, dts))
            found = measure(read(mux)).values
            self.assertEqual((found["video.frame_rate"], found["video.pictures_missing"]), (25.0, 0))
            self.assertEqual((found["video.keyframe_interval.median"], found["stream.duration"]), (1.0, 4.0))

    def test_no_picture_carries_a_time(self):
        mux = start((AVC, V))
        for data, _, _ in video():
            mux.data(V, hand.pes(0xE0, data, None))
        found = read(mux)
        self.assertEqual([(u.track, u.codec) for u in found if isinstance(u, UnreadTrack)], [("video", "h264")])
        self.assertEqual(measure(found).values["video.codec"], "h264")

    def test_packets_that_come_twice_are_taken_once(self):
        mux = start((AVC, V))
        for data, pts, _ in video():
            packet = hand.pes(0xE0, data, pts)
            for at in range(0, len(packet), 184):
                mux.packet(V, packet[at : at + 184], begins=at == 0)
                if at in (0, 184):
                    mux.twice()
        self.same(mux)
        self.assertEqual(odd(read(mux)), [])

    def test_slices_without_delimiters_and_fields(self):
        mux = start((AVC, V))
        sets = [hand.sps(interlaced=True), hand.pps()]
        for n in range(50):
            for half in (0, 1):
                unit = hand.slice_(hand.I if not n and not half else hand.P, idr=not n and not half, number=n, field=half)
                pts = CLOCK + (2 * n + half) * SLOT // 2
                mux.data(V, hand.pes(0xE0, hand.annex_b(*(sets if not n and not half else []), unit), pts))
        found = measure(read(mux)).values
        self.assertEqual((found["video.frame_rate"], found["video.scan"], found["video.field_order"]), (25.0, "interlaced", "top"))

    def test_both_fields_of_a_picture_in_one_packet(self):
        mux = start((AVC, V))
        sets = [hand.sps(interlaced=True), hand.pps()]
        for n in range(50):
            fields = [hand.slice_(hand.I if not n and not half else hand.P, idr=not n and not half, number=n, field=half) for half in (0, 1)]  # fmt: skip
            mux.data(V, hand.pes(0xE0, hand.annex_b(hand.AUD, *(sets if not n else []), fields[0], hand.AUD, fields[1]), CLOCK + n * SLOT))
        found = measure(read(mux)).values
        self.assertEqual((found["video.frame_rate"], found["video.scan"], found["video.pictures_missing"]), (25.0, "interlaced", 0))

    def test_the_first_slice_of_a_picture_is_lost(self):
        mux = start((AVC, V))
        for n, (data, pts, _) in enumerate(video()):
            if n == 40:
                data = hand.annex_b(hand.slice_(hand.P, number=n, first=200))
            mux.data(V, hand.pes(0xE0, data, pts))
        self.assertEqual(len(flat(read(mux), "video")), 100)


class Sound(unittest.TestCase):
    def heard(self, kind, packets):
        """What is measured of sound in these PES packets (bytes and time), beside a picture."""
        mux = start((AVC, V), (kind, A))
        one_each(mux, video(101))
        for data, pts in packets:
            mux.data(A, hand.pes(0xC0, data, pts))
        self.found = read(mux)
        return measure(self.found).values

    def test_frames_that_run_across_packets(self):
        frames = hand.sounds()
        plain = self.heard(ADTS, frames)
        self.assertAlmostEqual(plain["audio.bitrate.mean"], 153 * 8 * 48000 / 1024 / 1000, delta=0.1)
        whole, starts = b"".join(f for f, _ in frames), [(n * 160, pts) for n, (_, pts) in enumerate(frames)]
        for size in (100, 1000, 184 * 7 - 14):
            cut = []
            for begin in range(0, len(whole), size):
                first = next((pts for place, pts in starts if begin <= place < begin + size), None)
                cut.append((whole[begin : begin + size], first))
            self.assertEqual(self.heard(ADTS, cut), plain, size)
            self.assertEqual(odd(self.found), [])

    def test_a_time_only_now_and_then(self):
        plain = self.heard(ADTS, hand.sounds())
        found = self.heard(ADTS, [(data, None if n % 7 else pts) for n, (data, pts) in enumerate(hand.sounds())])
        self.assertEqual(found, plain)

    def test_two_raw_blocks_in_a_frame(self):
        block = hand.padded_silence(150)
        for crc in (False, True):
            body = block + block
            if crc:  # a position, and check sums behind both blocks
                size = 7 + 2 + 2 + 2 * (len(block) + 2)
                bits = hand.Bits().u(12, 0xFFF).u(1, 0).u(2, 0).u(1, 0).u(2, 1).u(4, 3).u(1, 0).u(3, 2).u(4, 0).u(13, size).u(11, 0x7FF).u(2, 1)
                frame = bits.aligned() + (len(block) + 2).to_bytes(2, "big") + b"\0\0" + block + b"\0\0" + block + b"\0\0"
            else:
                frame = hand.adts(body, blocks=2)
            found = self.heard(ADTS, [(frame, CLOCK + n * 2048 * CLOCK // 48000) for n in range(94)])
            self.assertEqual(len(flat(self.found, "audio")), 188)
            self.assertAlmostEqual(found["audio.duration"], 188 * 1024 / 48000, places=3)
            self.assertAlmostEqual(found["audio.bitrate.mean"], 150 * 8 * 48000 / 1024 / 1000, delta=0.2)
            self.assertEqual(found["audio.longest_gap"], 0)

    def test_latm(self):
        body = hand.padded_silence(150)
        found = self.heard(LATM, [(hand.latm(body, first=n % 10 == 0), CLOCK + n * 1920) for n in range(188)])
        self.assertEqual((found["audio.codec"], found["audio.profile"], found["audio.sample_rate"], found["audio.channels"]), ("aac", "lc", 48000, 2))
        self.assertEqual(found["audio.silent"], "yes")
        self.assertEqual({s.data for s in flat(self.found, "audio")}, {body})

    def test_mpeg_audio_and_ac3(self):
        found = self.heard(MPEG, [(hand.mp2() * 3, CLOCK + n * 3 * 2160) for n in range(55)])
        self.assertEqual((found["audio.codec"], found["audio.sample_rate"], found["audio.channels"]), ("mp2", 48000, 2))
        self.assertAlmostEqual(found["audio.bitrate.mean"], 192, delta=0.5)
        found = self.heard(AC3, [(hand.ac3(), CLOCK + n * 2880) for n in range(125)])
        self.assertEqual((found["audio.codec"], found["audio.sample_rate"], found["audio.channels"]), ("ac3", 48000, 2))
        self.assertAlmostEqual(found["audio.bitrate.mean"], 192, delta=0.5)

    def test_what_is_there_and_cannot_be_read_is_present(self):
        mux = hand.Mux()
        mux.table(0, hand.pat([(1, 0x1000)]))
        mux.table(0x1000, hand.pmt(1, V, [(AVC, V, b""), (0x06, A, b"\x05\x04Opus")]))
        one_each(mux, video())
        found = measure(read(mux))
        self.assertEqual((found.values["audio.present"], found.values["audio.codec"]), ("yes", "opus"))
        self.assertIn("not read", found.found["audio.present"].note)
        mux = start((AVC, V), (ADTS, A))
        one_each(mux, video())
        for data, pts in hand.sounds():
            mux.data(A, hand.pes(0xC0, data, pts), scrambled=2)
        found = measure(read(mux))
        self.assertEqual((found.values["audio.present"], found.values["audio.codec"]), ("yes", "aac"))
        self.assertIn("scrambled", found.found["audio.present"].note)

    def test_ac3_of_private_data(self):
        mux = hand.Mux()
        mux.table(0, hand.pat([(1, 0x1000)]))
        mux.table(0x1000, hand.pmt(1, V, [(AVC, V, b""), (0x06, A, b"\x6a\x01\x00")]))
        one_each(mux, video())
        for n in range(125):
            mux.data(A, hand.pes(0xBD, hand.ac3(), CLOCK + n * 2880))
        self.assertEqual(measure(read(mux)).values["audio.codec"], "ac3")

    def test_a_second_track_that_is_read_is_taken_before_the_first_that_is_not(self):
        mux = hand.Mux()
        mux.table(0, hand.pat([(1, 0x1000)]))
        mux.table(0x1000, hand.pmt(1, V, [(AVC, V, b""), (0x06, 0x102, b"\x05\x04Opus"), (ADTS, A, b"")]))
        one_each(mux, video())
        for data, pts in hand.sounds():
            mux.data(A, hand.pes(0xC0, data, pts))
        found = read(mux)
        self.assertEqual(measure(found).values["audio.codec"], "aac")
        self.assertTrue(any("a second audio track (Opus, PID 258) is not read" in text for text in odd(found)))

    def test_noise_between_frames(self):
        frames = [(data if n % 20 else b"\xff\x00noise" + data, pts) for n, (data, pts) in enumerate(hand.sounds())]
        self.heard(ADTS, frames)
        self.assertEqual(len(flat(self.found, "audio")), 188)


class Tables(unittest.TestCase):
    def test_over_several_packets_in_any_place(self):
        info = b"".join(bytes([0xA0 + n, 80]) + bytes(80) for n in range(5))
        mux = hand.Mux()
        mux.table(0, hand.pat([(n, 0x1000 + n) for n in range(1, 60)]))
        mux.table(0x1001, hand.pmt(1, V, [(AVC, V, b"")], info=info))
        one_each(mux, video())
        self.assertEqual(len(flat(read(mux), "video")), 100)

    def test_two_sections_of_an_association(self):
        mux = hand.Mux()
        mux.table(0, hand.pat([(7, 0x1007)], part=0, last=1), hand.pat([(1, 0x1000)], part=1, last=1))
        mux.table(0x1000, hand.pmt(1, V, [(AVC, V, b"")]))
        one_each(mux, video())
        found = read(mux)
        self.assertEqual(len(flat(found, "video")), 100)
        self.assertTrue(any("programme 7 that is not there" in text for text in odd(found)))

    def test_repeated_after_every_picture(self):
        mux = hand.Mux()
        for data, pts, dts in video():
            start((AVC, V), mux=mux)
            mux.data(V, hand.pes(0xE0, data, pts, dts))
        found = read(mux)
        self.assertEqual((len(flat(found, "video")), odd(found)), (100, []))

    def test_tracks_that_move(self):
        mux, pictures, frames = start((AVC, V), (ADTS, A)), video(200), hand.sounds(376)
        one_each(mux, pictures[:100])
        for data, pts in frames[:188]:
            mux.data(A, hand.pes(0xC0, data, pts))
        mux.table(0x1000, hand.pmt(1, 0x200, [(AVC, 0x200, b""), (ADTS, 0x201, b"")], version=1))
        one_each(mux, pictures[100:], 0x200)
        for data, pts in frames[188:]:
            mux.data(0x201, hand.pes(0xC0, data, pts))
        found = read(mux)
        values = measure(found).values
        self.assertEqual((values["stream.duration"], values["video.pictures_missing"]), (8.021, 0))
        self.assertIn("the tables move the video from PID 256 to 512", odd(found))

    def test_a_table_that_is_not_in_force_yet_says_nothing(self):
        mux = start((AVC, V))
        mux.table(0x1000, hand.pmt(1, V, [(HEVC, 0x300, b"")], version=1, current=0))
        one_each(mux, video())
        self.assertEqual(len(flat(read(mux), "video")), 100)

    def test_the_best_programme_is_read_and_the_others_are_named(self):
        mux = hand.Mux()
        mux.table(0, hand.pat([(0, 0x10), (3, 0x1003), (1, 0x1001), (2, 0x1002)]))
        mux.table(0x1003, hand.pmt(3, 0x301, [(ADTS, 0x301, b"")]))
        mux.table(0x1001, hand.pmt(1, V, [(AVC, V, b""), (ADTS, A, b"")]))
        mux.table(0x1002, hand.pmt(2, 0x200, [(AVC, 0x200, b"")]))
        one_each(mux, video(50))
        one_each(mux, video(100), 0x200)
        found = read(mux)
        self.assertEqual(len(flat(found, "video")), 50)
        self.assertTrue(any(text.startswith("programme 3 (AAC) is not read") for text in odd(found)))
        self.assertEqual(len(flat(read(mux, 2), "video")), 100)
        with self.assertRaisesRegex(ContainerError, r"no programme 9 in it \(there are: 3, 1, 2\)"):
            read(mux, 9)

    def test_a_damaged_table_says_nothing_where_a_good_one_is(self):
        good = hand.pmt(1, V, [(AVC, V, b"")])
        bad = bytearray(hand.pmt(1, V, [(AVC, 0x123, b"")], version=2))
        bad[-1] ^= 1
        mux = start((AVC, V))
        pictures = video()
        one_each(mux, pictures[:50])
        mux.table(0x1000, bytes(bad))
        one_each(mux, pictures[50:])
        found = read(mux)
        self.assertEqual(len(flat(found, "video")), 100)
        self.assertIn("tables with a wrong check sum, which were passed over: 1", odd(found))
        mux = hand.Mux()
        mux.table(0, hand.pat([(1, 0x1000)]))
        mux.table(0x1000, good[:-1] + b"\0")
        one_each(mux, video())
        self.assertEqual(len(flat(read(mux), "video")), 100, "believed where there is no other")

    def test_the_programmes_number_changes(self):
        mux, pictures = start((AVC, V)), video(200)
        one_each(mux, pictures[:100])
        mux.table(0, hand.pat([(5, 0x1005)], version=1))
        mux.table(0x1005, hand.pmt(5, 0x200, [(AVC, 0x200, b"")]))
        one_each(mux, pictures[100:], 0x200)
        self.assertEqual(len(flat(read(mux), "video")), 200)


class Command(Cli):
    def test_a_programme_by_its_number(self):
        mux = hand.Mux()
        mux.table(0, hand.pat([(1, 0x1001), (2, 0x1002)]))
        mux.table(0x1001, hand.pmt(1, V, [(AVC, V, b"")]))
        mux.table(0x1002, hand.pmt(2, 0x200, [(AVC, 0x200, b"")]))
        one_each(mux, video(50))
        one_each(mux, video(100), 0x200)
        path = self.file("two.ts", mux.bytes())
        first, second = (self.direkt("check", str(path), *more, "--json") for more in ((), ("--programme", "2")))
        self.assertEqual((first.code, second.code), (0, 0), second.err)
        self.assertEqual([round(r.json["measured"]["stream.duration"]) for r in (first, second)], [2, 4])
        wrong = self.direkt("check", str(path), "--programme", "7")
        self.assertEqual(wrong.code, 2)
        self.assertIn("there are: 1, 2", wrong.err)


class Same(unittest.TestCase):
    def test_blocks_of_any_size_give_the_same(self):
        mux = start((AVC, V), (ADTS, A))
        one_each(mux, video(order=[2, 1]))
        for data, pts in hand.sounds():
            mux.data(A, hand.pes(0xC0, data, pts))
        whole = [(s.track, s.dts.tolist(), s.pts.tolist()) for s in self.joined(read(mux))]
        with unittest.mock.patch.object(ts, "_BLOCK", 7):
            self.assertEqual([(s.track, s.dts.tolist(), s.pts.tolist()) for s in self.joined(read(mux))], whole)

    def joined(self, found):
        out = {}
        for one in found:
            if isinstance(one, Samples):
                old = out.get(one.track)
                out[one.track] = one if old is None else _both(old, one)
        return [out[track] for track in sorted(out)]


def _both(a, b):
    import numpy as np

    return Samples(a.track, b"", *(np.concatenate([getattr(a, n), getattr(b, n)]) for n in ("offset", "size", "dts", "pts", "marked")))
