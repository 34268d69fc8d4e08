import random
import struct
from fractions import Fraction

from direkt.codec.aac_writer import ToneWriter
from direkt.container import ContainerError
from direkt.media import Break, Claims, Format
from tests import mp4_writer
from tests.support import Folder, flat, mp4_bytes, mp4_events

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


class Reading(Folder):
    def test_what_is_written_is_read(self):
        found = read(mp4_bytes(60, others=(sound(),)))
        claims = found[0]
        self.assertIsInstance(claims, Claims)
        self.assertEqual((claims.values["video.width"], claims.values["audio.channels"]), (640, 2))
        formats = [e for e in found if isinstance(e, Format)]
        self.assertEqual(
            [(f.codec, f.tick) for f in formats], [("h264", Fraction(1, 1500)), ("aac", Fraction(1, 48000))]
        )
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
        self.assertEqual(flat(read(data), "video")[0].pts, Fraction(1, 2) - Fraction(1, 25))
        self.assertEqual(flat(read(with_edits(mp4_bytes(3), (7000, 90))), "video")[0].pts, -Fraction(60, 1000))

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

    def test_fragmented_files_are_refused_clearly(self):
        with self.assertRaisesRegex(ContainerError, "fragmented MP4"):
            read(mp4_bytes(3) + struct.pack(">I4s", 8, b"moof"))

    def test_tracks_walk_through_the_file_together(self):
        found = read(mp4_bytes(600, others=(sound(600),)))
        tracks = [(e.track, len(e)) for e in found if not isinstance(e, Claims | Format | Break)]
        self.assertEqual(
            {track: sum(n for t, n in tracks if t == track) for track, _ in tracks}, {"video": 600, "audio": 600}
        )


def mp4_with_index_first(data: bytes) -> bytes:
    """The same file with the index before the payload, chunk offsets moved."""
    index = data.index(b"moov") - 4
    moov = bytearray(data[index:])
    at = moov.index(b"stco") + 12
    struct.pack_into(">I", moov, at, struct.unpack_from(">I", moov, at)[0] + len(moov))
    return data[:20] + bytes(moov) + data[20:index]
