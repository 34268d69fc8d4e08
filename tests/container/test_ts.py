"""MPEG transport streams: our writer and reader against each other, an independent decoder, and packets put together by hand."""

import struct
import unittest
import zlib
from unittest import mock

from direkt.container import ContainerError, Source, ts, ts_writer
from direkt.media import Break, Format, Framing, Odd, Samples
from tests.support import Folder, card, flat, measure, stream


def written(found, tables_every=0):
    """Media events as a transport stream."""
    writer, out = ts_writer.TsWriter(), []
    for event in found:
        if isinstance(event, Format):
            writer.format(event)
    out.append(writer.tables())
    for event in found:
        if isinstance(event, Samples):
            out += [packets for _, _, packets in writer.samples(event)]
            if tables_every:
                out.append(writer.tables())
    return b"".join(out)


def read(data):
    return list(ts.read(Source(data)))


def packet(pid, payload, *, begins=False, count=0, field=b""):
    """A packet by the standard's figure (2.4.3.2), with stuffing in the adaptation field."""
    room = 184 - len(payload)
    if room:
        field = bytes([room - 1]) + (b"\0" + b"\xff" * (room - 2) if room > 1 else b"")
    return (struct.pack(">BHB", 0x47, (0x4000 if begins else 0) | pid, (0x30 if field else 0x10) | count) + field + payload)


class Both(Folder):
    def test_what_is_written_is_read_again(self):
        found = stream(4, card())
        a, b = measure(found).values, measure(read(written(found))).values
        for name, value in a.items():
            if "bitrate" not in name and name != "video.filler":
                self.assertEqual(b.get(name), value, name)
        self.assertAlmostEqual(b["video.bitrate.mean"], a["video.bitrate.mean"], delta=0.01 * a["video.bitrate.mean"])
        for track in ("video", "audio"):
            ours, theirs = flat(found, track), flat(read(written(found)), track)
            self.assertEqual(len(ours), len(theirs))
            first = theirs[0].dts - ours[0].dts
            self.assertLess(max(abs(t.dts - o.dts - first) for o, t in zip(ours, theirs, strict=True)), 0.0001)
        sound = [s.data for s in flat(found, "audio")]
        self.assertEqual([s.data for s in flat(read(written(found)), "audio")], sound)

    def test_an_independent_decoder_reads_what_is_written(self):
        import cv2

        path = self.file("own.ts", written(stream(2, card(320, 240))))
        capture, count = cv2.VideoCapture(str(path)), 0
        while capture.read()[0]:
            count += 1
        self.assertEqual((count, capture.get(cv2.CAP_PROP_FRAME_WIDTH), round(capture.get(cv2.CAP_PROP_FPS))), (50, 320, 25))

    def test_tables_in_between_and_other_packet_sizes(self):
        data = written(stream(2))
        plain = measure(read(data)).values
        self.assertEqual(measure(read(written(stream(2), 1))).values["video.size"], plain["video.size"])
        rows = [data[n : n + 188] for n in range(0, len(data), 188)]
        for made in (b"".join(bytes(4) + row for row in rows), b"".join(row + bytes(16) for row in rows)):
            self.assertEqual(ts.score(made[:2048]), 90)
            self.assertEqual(measure(read(made)).values, plain)

    def test_time_stamps_go_round(self):
        with mock.patch.object(ts_writer, "_LEAD", (1 << 33) - 2 * ts_writer.CLOCK):
            data = written(stream(4))
        values = measure(read(data)).values
        self.assertEqual(values["stream.timestamps"], "clean")
        self.assertAlmostEqual(values["stream.duration"], 4, delta=0.1)


class Broken(unittest.TestCase):
    def setUp(self):
        self.data = written(stream(2, audio=None))

    def test_packets_that_are_missing_are_counted(self):
        at = 188 * (len(self.data) // 188 // 2)
        remarks = [e.text for e in read(self.data[:at] + self.data[at + 3 * 188 :]) if isinstance(e, Odd)]
        self.assertIn("3 packets of the video are missing", remarks)

    def test_bytes_between_packets_are_passed_over(self):
        at = 188 * (len(self.data) // 188 // 2)
        found = read(self.data[:at] + b"noise" * 7 + self.data[at:])
        self.assertTrue(any(isinstance(e, Odd) and "35 bytes at" in e.text for e in found))
        self.assertEqual(len(flat(found, "video")), 50)

    def test_the_end_is_cut(self):
        found = read(self.data[:-100])
        self.assertIsInstance(found[-1], Break)
        self.assertIn("88 of 188 bytes", found[-1].reason)

    def test_what_is_no_transport_stream(self):
        for data, words in (
            (bytes(1000), "no sync bytes"), (b"\x47", "no sync bytes"), (packet(0x100, bytes(184)) * 20, "no table says"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ContainerError, words):
                read(data)

    def test_the_checksum_is_the_standards(self):
        # a table written by hand, and its checksum by another way: zlib's turned round
        def turned(data):
            return bytes(int(f"{byte:08b}"[::-1], 2) for byte in data)

        for text in (b"", b"123456789", bytes(range(40))):
            other = zlib.crc32(turned(text)) ^ 0xFFFFFFFF
            self.assertEqual(ts_writer.crc(text), int(f"{other:032b}"[::-1], 2))
        self.assertEqual(ts_writer.crc(b"123456789"), 0x0376E6E7)  # as published for CRC-32/MPEG-2

    def test_one_picture_by_hand(self):
        stamp = 123_456_789
        five = (
            bytes([0x21 | stamp >> 29 & 0xE])
            + struct.pack(">H", stamp >> 14 & 0xFFFE | 1)
            + struct.pack(">H", stamp << 1 & 0xFFFE | 1)
        )
        nal = b"\0\0\0\1\x65" + bytes(range(1, 60))
        pes = b"\0\0\1\xe0\0\0\x80\x80\x05" + five + nal
        pat = bytes.fromhex("00b00d0001c100000001f000") + bytes(4)
        pmt = bytes.fromhex("02b0120001c10000e100f000") + bytes.fromhex("1be100f000") + bytes(4)
        found = read(
            packet(0, b"\0" + pat, begins=True)
            + packet(0x1000, b"\0" + pmt, begins=True)
            + packet(0x100, pes, begins=True)
        )
        format, samples = (next(e for e in found if isinstance(e, kind)) for kind in (Format, Samples))
        self.assertEqual((format.codec, format.framing), ("h264", Framing.START_CODES))
        self.assertEqual((bytes(samples.sample(0)), int(samples.pts[0]), bool(samples.marked[0])), (nal, stamp, True))


if __name__ == "__main__":
    unittest.main()
