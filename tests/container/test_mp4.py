import contextlib
import random
import struct
import time
import tracemalloc
import unittest
from fractions import Fraction

from direkt.codec.aac_writer import ToneWriter
from direkt.container import ContainerError
from direkt.media import Break, Claims, Format, Odd
from tests import mp4_writer
from tests.support import Folder, card, flat, measure, mp4_bytes, mp4_events, video_format

read = mp4_events


def sound(count: int = 40) -> mp4_writer.TrackToWrite:
    writer = ToneWriter(48000, 2, 128)
    samples = [(1024, 0, writer.next(), True) for _ in range(count)]
    return mp4_writer.TrackToWrite("audio", 48000, writer.config, sample_rate=48000, channels=2, samples=samples)


def with_edits(data: bytes, *entries: tuple[int, int]) -> bytes:
    """The file with an edit list in its first track: (duration in the movie's ticks, start in the track's)."""
    rows = b"".join(struct.pack(">IiI", *entry, 0x10000) for entry in entries)
    edit = struct.pack(">I4sII", 16 + len(rows), b"elst", 0, len(entries)) + rows
    edit = struct.pack(">I4s", 8 + len(edit), b"edts") + edit
    trak = data.index(b"trak")
    new = bytearray(data[: trak + 4] + edit + data[trak + 4 :])
    for name in (b"trak", b"moov"):
        at = new.index(name) - 4
        struct.pack_into(">I", new, at, struct.unpack_from(">I", new, at)[0] + len(edit))
    return bytes(new)


def with_tables(data: bytes, tables: bytes, copies: int = 1) -> bytes:
    """The file with other tables in its (first) track, which is then there ``copies`` times."""
    trak = data.index(b"trak") - 4
    end = trak + struct.unpack_from(">I", data, trak)[0]
    new = bytearray(data[trak:end])
    table = new.index(b"stsd") - 12
    head = new[table + 8 : new.index(b"stsd") - 4 + struct.unpack_from(">I", new, new.index(b"stsd") - 4)[0]]
    new[table:] = struct.pack(">I4s", 8 + len(head) + len(tables), b"stbl") + head + tables
    for name in (b"minf", b"mdia", b"trak"):
        at = new.index(name) - 4
        struct.pack_into(">I", new, at, len(new) - at)
    moov = data.index(b"moov") - 4
    body = data[moov + 8 : trak] + bytes(new) * copies
    return data[:moov] + struct.pack(">I4s", 8 + len(body), b"moov") + body


class Reading(Folder):
    def test_what_is_written_is_read(self):
        found = read(mp4_bytes(60, others=(sound(),)))
        claims = found[0]
        self.assertIsInstance(claims, Claims)
        self.assertEqual((claims.values["video.width"], claims.values["audio.channels"]), (640, 2))
        formats = [e for e in found if isinstance(e, Format)]
        self.assertEqual([(f.codec, f.tick) for f in formats], [("h264", Fraction(1, 1500)), ("aac", Fraction(1, 48000))])
        video = flat(found, "video")
        self.assertEqual([s.dts for s in video], [Fraction(n, 25) for n in range(60)])
        self.assertEqual([n for n, s in enumerate(video) if s.key], [0, 50])
        writer = ToneWriter(48000, 2, 128)
        self.assertEqual([s.data for s in flat(found, "audio")], [writer.next() for _ in range(40)])

    def test_an_independent_reader_opens_what_is_written(self):
        import cv2

        path = self.file("card.mp4", mp4_bytes(60, others=(sound(),)))
        capture = cv2.VideoCapture(str(path))
        self.assertEqual(capture.get(cv2.CAP_PROP_FPS), 25)
        count = 0
        while capture.read()[0]:
            count += 1
        self.assertEqual(count, 60)

    def test_composition_offsets(self):
        samples = [(1, o, b"x", o == 0) for o in (0, 2, -1, 0)]
        track = mp4_writer.TrackToWrite("video", 25, b"\x01", 64, 64, samples=samples)
        self.assertEqual([s.pts * 25 for s in flat(read(mp4_writer.write([track])), "video")], [0, 3, 1, 3])

    def test_an_edit_list_shifts_the_track(self):
        data = with_edits(mp4_bytes(3), (3500, -1), (7000, 60))
        # 60 ticks are the first picture: it is cut away, and the second comes after the empty half second
        self.assertEqual([f.pts for f in flat(read(data), "video")], [Fraction(1, 2), Fraction(27, 50)])
        self.assertEqual([f.pts for f in flat(read(with_edits(mp4_bytes(3), (7000, 90))), "video")],
                         [-Fraction(20, 1000), Fraction(20, 1000)], "half of the second picture is shown")  # fmt: skip

    def test_a_cut_recording_is_judged_up_to_there(self):
        data = mp4_bytes(60)
        index = data.index(b"moov") - 4
        moved = mp4_with_index_first(data)
        whole = flat(read(moved), "video")
        self.assertEqual(whole, flat(read(data), "video"))
        cut = 0
        for size in range(0, len(moved), 997):
            try:
                found = read(moved[:size])
            except ContainerError:
                continue
            samples = flat(found, "video")
            self.assertEqual(samples, whole[: len(samples)])
            if isinstance(found[-1], Break):
                cut += 1
                self.assertIn("but the file has", found[-1].reason)
        self.assertGreater(cut, 10)
        with self.assertRaisesRegex(ContainerError, "no index.*the file ends inside 'mdat', which begins at byte 20"):
            read(data[: index - 5])

    def test_damage_raises_nothing_but_the_formats_own_error(self):
        data = mp4_bytes(30, others=(sound(10),))
        begin = data.index(b"moov") - 4
        source = random.Random(4)
        for _ in range(1500):
            bad = bytearray(data)
            for _ in range(source.randrange(1, 4)):
                bad[source.randrange(begin, len(bad))] = source.choice((0, 1, 127, 255, source.randrange(256)))
            try:
                read(bytes(bad))
            except ContainerError:
                continue

    def test_counts_that_lie_cost_no_memory(self):
        for name, offset in ((b"stsz", 12), (b"stts", 8), (b"stco", 8), (b"stsc", 8)):
            bad = bytearray(mp4_bytes(10))
            struct.pack_into(">I", bad, bad.index(name) + offset, 0x7FFFFFFF)
            with self.assertRaisesRegex(ContainerError, "claims|gives|places"):
                read(bytes(bad))

    def test_a_small_file_that_claims_much_takes_little(self):
        # each of 20,000 chunks claims all 20,000 samples; then 300 tracks, each of the whole file in samples of a byte
        crowded = bytearray(mp4_bytes(10))
        table = struct.pack(">I4sII", 16 + 4 * 20000, b"stco", 0, 20000) + bytes(4 * 20000)
        sizes = struct.pack(">I4sIII", 20, b"stsz", 0, 1, 20000)
        groups = struct.pack(">I4sIIIII", 28, b"stsc", 0, 1, 1, 20000, 1)
        times = struct.pack(">I4sIIII", 24, b"stts", 0, 1, 20000, 1)
        crowded = with_tables(bytes(crowded), sizes + groups + times + table)
        many = with_tables(mp4_bytes(10), sizes + groups + times + table, copies=300)
        for data in (crowded, many):
            tracemalloc.start()
            begin = time.process_time()
            with contextlib.suppress(ContainerError):
                read(data)
            peak = tracemalloc.get_traced_memory()[1]
            tracemalloc.stop()
            self.assertLess(peak, 40 << 20)
            self.assertLess(time.process_time() - begin, 20, "no time is asserted, but a hang is")
        with self.assertRaisesRegex(ContainerError, "at most 16777216 are read"):
            read(with_tables(mp4_bytes(1), struct.pack(">I4sIII", 20, b"stsz", 0, 1, 1 << 25) + groups + times + table))

    def test_sound_of_which_every_value_is_counted(self):
        tone = [bytes([0xD5 ^ (0x20 * (n // 9 % 2))]) for n in range(20000)]
        for count, chunk in ((20000, 800), (19999, 800), (500, 1000), (800, 800), (20000, 20000)):
            rows = [(1, 0, value, True) for value in tone[:count]]
            track = mp4_writer.TrackToWrite(
                "audio", 8000, b"", sample_rate=8000, channels=1, samples=rows, plain=b"alaw", chunk=chunk
            )
            found = read(mp4_bytes(60, others=(track,)))
            heard = flat(found, "audio")
            self.assertEqual(b"".join(s.data for s in heard), b"".join(tone[:count]))
            self.assertEqual({len(s.data) for s in heard[:-1]} or {400}, {400}, "50 ms")
            self.assertEqual([s.dts for s in heard], [Fraction(at, 8000) for at in range(0, count, 400)])
            m = measure(found)
            self.assertEqual((m.values["audio.codec"], m.values["audio.silent"]), ("g711a", "no"))
            if count > 8000:
                self.assertAlmostEqual(m.values["audio.bitrate.mean"], 64, delta=0.1)

    def test_fragmented_files_are_refused_clearly(self):
        with self.assertRaisesRegex(ContainerError, "fragmented MP4"):
            read(mp4_bytes(3) + struct.pack(">I4s", 8, b"moof"))

    def test_tracks_walk_through_the_file_together(self):
        found = read(mp4_bytes(600, others=(sound(600),)))
        tracks = [(e.track, len(e)) for e in found if not isinstance(e, Claims | Format | Break)]
        self.assertEqual({track: sum(n for t, n in tracks if t == track) for track, _ in tracks}, {"video": 600, "audio": 600})


def mp4_with_index_first(data: bytes) -> bytes:
    """The same file with the index before the payload, chunk offsets moved."""
    index = data.index(b"moov") - 4
    moov = bytearray(data[index:])
    at = moov.index(b"stco") + 12
    struct.pack_into(">I", moov, at, struct.unpack_from(">I", moov, at)[0] + len(moov))
    return data[:20] + bytes(moov) + data[20:index]


class Tracks(unittest.TestCase):
    """What writers do with the index, made by the tests' own writer."""

    def track(self, count=100, name="video", **more) -> mp4_writer.TrackToWrite:
        video, rate = name == "video", 25 if name == "video" else 48000
        length = 1 if video else 1024
        rows = [(length, 0, bytes([n % 256]) * (n % 14 + 1), True) for n in range(count)]
        config = video_format().configuration if video else bytes.fromhex("1190")
        return mp4_writer.TrackToWrite(name, rate, config, 640, 360, 48000, 2, rows, **more)

    def seen(self, *tracks):
        found = read(mp4_writer.write(tracks))
        return found, [e.text for e in found if isinstance(e, Odd)]

    def test_compact_sizes(self):
        wanted = flat(self.seen(self.track(101))[0], "video")
        for bits in (4, 8, 16):
            self.assertEqual(flat(self.seen(self.track(101, bits=bits))[0], "video"), wanted)
        data = mp4_writer.write([self.track(101, bits=8)])
        at = data.index(b"stz2") + 4
        for place, value, words in (
            (at + 7, b"\x05", "fields of 5 bits"), (at + 8, b"\x00\xff\xff\xff", "claims 16777215 entries where 101 fit"),
        ):
            with self.assertRaisesRegex(ContainerError, words):
                read(data[:place] + value + data[place + len(value) :])

    def test_times_for_more_or_fewer_samples_than_there_are(self):
        wanted = flat(self.seen(self.track())[0], "video")
        found, odd = self.seen(self.track(surplus=7))
        self.assertEqual((flat(found, "video"), len(odd)), (wanted, 1))
        self.assertIn("gives times for 107 samples of 100", odd[0])

    def test_a_second_description_holds_from_its_samples_on(self):
        other = video_format(card(320, 180)).configuration
        found, odd = self.seen(self.track(second=other, second_from=37))
        kinds = [
            (e.configuration == other, None) if isinstance(e, Format) else (None, len(e))
            for e in found
            if not isinstance(e, Claims)
        ]
        self.assertEqual((kinds, odd), ([(False, None), (None, 37), (True, None), (None, 63)], []))
        self.assertEqual(flat(found, "video"), flat(self.seen(self.track())[0], "video"))
        data = mp4_writer.write([self.track(second=other, second_from=37)])
        at = data.index(b"stsc") + 4 + 4 + 4 + 12 + 8
        found = read(data[:at] + b"\0\0\0\x09" + data[at + 4 :])
        self.assertIn("uses sample description 9", next(e.text for e in found if isinstance(e, Odd)))
        self.assertEqual(len(flat(found, "video")), 100)

    def test_tracks_that_are_off_or_many(self):
        found, odd = self.seen(
            self.track(enabled=False), self.track(50), self.track(9, "audio"), self.track(8, "audio", enabled=False)
        )
        self.assertEqual((len(flat(found, "video")), len(flat(found, "audio"))), (50, 9))
        self.assertEqual(len(odd), 2)
        found, odd = self.seen(self.track(50), self.track(40))
        self.assertEqual((len(flat(found, "video")), odd), (50, ["there are several picture tracks: the first is measured"]))

    def times(self, *edits, name="video", count=100):
        found, odd = self.seen(self.track(count, name, edits=list(edits)))
        starts = next(e.starts for e in found if isinstance(e, Format))
        return [int(f.pts * (25 if name == "video" else 48000)) for f in flat(found, name)], starts, odd

    def test_edits_say_what_is_shown_and_when(self):
        second = 7000
        for edits, wanted, starts, cut in (
            ([], list(range(100)), None, 0), ([(4 * second, 0)], list(range(100)), 0, 0),
            ([(second, -1), (4 * second, 0)], list(range(25, 125)), 25, 0),
            ([(second, 10)], list(range(25)), 0, 75), ([(0, 10)], list(range(90)), 0, 10),
            ([(second, 0), (second, 50)], list(range(50)), 0, 50), ([(second, 50), (second, 0)], list(range(50)), 0, 50),
            ([(second, 0), (second, -1), (second, 50)], [*range(25), *range(50, 75)], 0, 50),
            ([(second, 0), (second, 0)], list(range(50)), 0, 75), ([(second, -1)], list(range(25, 125)), None, 0),
        ):  # fmt: skip
            found, begin, odd = self.times(*edits)
            self.assertEqual((found, begin), (wanted, starts), edits)
            self.assertEqual(bool(odd), cut > 5, odd)
            if odd:
                self.assertIn(f"cuts {cut / 25:.2f} s of the picture away", odd[0])

    def test_priming_behind_an_empty_edit(self):
        # the encoder's 2112 values are cut away: two frames, and a sixteenth of the third
        for empty in (0, 3500):
            edits = ([(empty, -1)] if empty else []) + [(7000, 2112)]
            found, starts, odd = self.times(*edits, name="audio")
            late = empty * 48000 // 7000
            self.assertEqual((found[0], found[1], starts, odd[:1]), (late - 64, late + 960, late, odd[:1]))
            meter = measure([*self.seen(self.track())[0], *self.seen(self.track(100, "audio", edits=edits))[0]])
            self.assertEqual(meter.values["stream.av_offset"], empty / 7)
