import random
import struct
import unittest

from direkt.bitstream.aac import ToneWriter
from direkt.container import mp4
from direkt.container.media import Break, Claims, CodecConfig, MediaError, Sample
from tests.support import Folder, mp4_bytes


def read(data: bytes):
    return list(mp4.read(memoryview(data)))


def sound(count: int = 40) -> mp4.TrackToWrite:
    writer = ToneWriter(48000, 2, 128)
    samples = [(1024, 0, writer.next(), True) for _ in range(count)]
    return mp4.TrackToWrite("audio", 48000, writer.config, sample_rate=48000, channels=2, samples=samples)


class Reading(Folder):
    def test_what_is_written_is_read(self):
        found = read(mp4_bytes(60, others=[sound()]))
        claims = found[0]
        self.assertIsInstance(claims, Claims)
        self.assertEqual((claims.values["video.width"], claims.values["audio.channels"]), (640, 2))
        self.assertEqual([e.codec for e in found if isinstance(e, CodecConfig)], ["h264", "aac"])
        video = [e for e in found if isinstance(e, Sample) and e.track == "video"]
        self.assertEqual([round(e.dts, 6) for e in video], [round(n * 0.04, 6) for n in range(60)])
        self.assertEqual([n for n, e in enumerate(video) if e.key], [0, 50])
        times = [e.dts for e in found if isinstance(e, Sample)]
        self.assertEqual(times, sorted(times))
        self.assertEqual(len([e for e in found if isinstance(e, Sample) and e.track == "audio"]), 40)

    def test_an_independent_reader_opens_what_is_written(self):
        import cv2

        path = self.file("card.mp4", mp4_bytes(60, others=[sound()]))
        capture = cv2.VideoCapture(str(path))
        self.assertEqual(capture.get(cv2.CAP_PROP_FPS), 25)
        count = 0
        while capture.read()[0]:
            count += 1
        self.assertEqual(count, 60)

    def test_composition_offsets(self):
        track = mp4.TrackToWrite("video", 25, b"\x01", 64, 64, samples=[(1, o, b"x", o == 0) for o in (0, 2, -1, 0)])
        samples = [e for e in read(mp4.write([track])) if isinstance(e, Sample)]
        self.assertEqual([round(e.pts * 25) for e in samples], [0, 3, 1, 3])

    def test_an_edit_list_shifts_the_track(self):
        data = mp4_bytes(3)
        edit = struct.pack(">I4sI", 36, b"elst", 0) + struct.pack(">IIiI", 2, 500, -1, 0x10000)
        edit += struct.pack(">IiI", 1000, 512, 0x10000)
        edit = struct.pack(">I4s", 8 + len(edit), b"edts") + struct.pack(">I", len(edit)) + edit[4:]
        trak = data.index(b"trak")
        new = bytearray(data[: trak + 4] + edit + data[trak + 4 :])
        for name in (b"trak", b"moov"):
            at = new.index(name) - 4
            size = struct.unpack_from(">I", new, at)[0] + len(edit)
            struct.pack_into(">I", new, at, size)
        samples = [e for e in read(bytes(new)) if isinstance(e, Sample)]
        self.assertAlmostEqual(samples[0].pts, 0.5 - 0.04)

    def test_a_cut_recording_is_judged_up_to_there(self):
        data = mp4_bytes(60)
        index = data.index(b"moov") - 4
        moved = mp4_with_index_first(data)
        for size in range(0, len(moved), 997):
            try:
                found = read(moved[:size])
            except MediaError:
                continue
            if isinstance(found[-1], Break):
                self.assertIn("but the file has", found[-1].reason)
        with self.assertRaisesRegex(MediaError, "no index.*the file ends inside 'mdat', which begins at byte 28"):
            read(data[: index - 5])

    def test_damage_raises_nothing_but_the_formats_own_error(self):
        data = mp4_bytes(30, others=[sound(10)])
        begin = data.index(b"moov") - 4
        source = random.Random(4)
        for _ in range(1500):
            bad = bytearray(data)
            for _ in range(source.randrange(1, 4)):
                bad[source.randrange(begin, len(bad))] = source.choice((0, 1, 127, 255, source.randrange(256)))
            try:
                read(bytes(bad))
            except MediaError:
                continue

    def test_counts_that_lie_cost_no_memory(self):
        for name, offset in ((b"stsz", 12), (b"stts", 8), (b"stco", 8), (b"stsc", 8)):
            bad = bytearray(mp4_bytes(10))
            struct.pack_into(">I", bad, bad.index(name) + offset, 0x7FFFFFFF)
            with self.assertRaisesRegex(MediaError, "claims|gives|places"):
                read(bytes(bad))

    def test_fragmented_files_are_refused_clearly(self):
        with self.assertRaisesRegex(MediaError, "fragmented MP4"):
            read(mp4_bytes(3) + struct.pack(">I4s", 8, b"moof"))


def mp4_with_index_first(data: bytes) -> bytes:
    """The same file with the index before the payload, chunk offsets moved."""
    index = data.index(b"moov") - 4
    moov = bytearray(data[index:])
    at = moov.index(b"stco") + 12
    struct.pack_into(">I", moov, at, struct.unpack_from(">I", moov, at)[0] + len(moov))
    return data[:28] + bytes(moov) + data[28:index]


if __name__ == "__main__":
    unittest.main()
