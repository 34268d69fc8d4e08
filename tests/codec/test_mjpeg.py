"""Motion JPEG: images made by another library, headers by hand, and packets as RFC 2435 draws them."""

import unittest
from fractions import Fraction

from direkt.codec import mjpeg
from direkt.codec.bits import BitstreamError
from direkt.measure.meter import Meter
from direkt.media import Format, batch
from direkt.protocol.rtp import formats
from direkt.protocol.rtp.order import Ordered
from direkt.protocol.rtp.packet import Packet
from direkt.protocol.rtsp.sdp import Encoding


def image(width, height, sampling=None):
    import cv2
    import numpy as np

    noise = np.random.default_rng(1).integers(0, 255, (height, width, 3), np.uint8)
    more = [] if sampling is None else [cv2.IMWRITE_JPEG_SAMPLING_FACTOR, sampling]
    return cv2.imencode(".jpg", noise, [cv2.IMWRITE_JPEG_QUALITY, 50, *more])[1].tobytes()


class Images(unittest.TestCase):
    def test_size_and_chroma_of_another_writers_images(self):
        for width, height, code, chroma in ((640, 360, 0x221111, "4:2:0"), (321, 183, 0x211111, "4:2:2"), (64, 48, 0x111111, "4:4:4")):
            data = image(width, height, code)
            for made in (data, data[:2] + b"\xff\xe1" + (6002).to_bytes(2, "big") + bytes(6000) + data[2:]):
                found = mjpeg.parse_header(made)
                self.assertEqual((found["video.size"], found["video.chroma"], found["video.bit_depth"]), (f"{width}x{height}", chroma, 8))

    def test_what_is_none(self):
        for data in (b"", b"\xff\xd8", b"\xff\xd8\xff\xda\0\2", b"RIFF", b"\xff\xd8\xff\xc0\0\5\x08\0", b"\xff\xd8\xff\xe0\0\0\xff\xc0"):
            with self.assertRaises(BitstreamError):
                mjpeg.parse_header(data)

    def test_a_stream_of_them(self):
        meter = Meter()
        meter.add(Format("video", "mjpeg", Fraction(1, 90000)))
        pictures = [image(320, 240) for _ in range(30)]
        times = [n * 6000 for n in range(30)]
        meter.add(batch("video", pictures, times, times, [True] * 30))
        values = meter.snapshot().values
        self.assertEqual((values["video.size"], values["video.frame_rate"], values["video.keyframe_interval.max"]), ("320x240", 15.0, 0.067))
        self.assertEqual((values["video.chroma"], values["video.b_frames"]), ("4:2:0", 0))


class Packets(unittest.TestCase):
    def test_the_header_says_size_and_sampling(self):
        for kind, chroma in ((0, "4:2:2"), (1, "4:2:0"), (64, "4:2:2"), (65, "4:2:0")):
            reading = formats.payload("video", Encoding(26, "JPEG", 90000, 1, {}), lambda text: None)
            meter = Meter()
            for n in range(20):
                # 3.1: type specific, offset of three bytes, type, Q, width and height in 8 px; then restart and table headers
                head = bytes([0, 0, 0, 0, kind, 255, 80, 45]) + (b"\0\1\xc0\0" if kind > 63 else b"") + b"\0\0\0\x80" + bytes(128)
                rest = bytes([0, 0, 3, 232, kind, 255, 80, 45]) + (b"\0\1\xc0\0" if kind > 63 else b"")
                units = []
                for at, (payload, marker) in enumerate(((head + b"a" * 1000, False), (rest + b"b" * 500, True))):
                    packet = Packet(26, 2 * n + at, n * 6000, 1, marker, payload)
                    units += reading.add(Ordered(packet, n * 6000, 0.0, 0, n == 0 and at == 0))
                self.assertEqual([unit.data for unit in units], [b"a" * 1000 + b"b" * 500])
                if n == 0:
                    meter.add(reading.format)
                meter.add(batch("video", [units[0].data], [n * 6000], [n * 6000], [True]))
            values = meter.snapshot().values
            self.assertEqual((values["video.size"], values["video.chroma"], values["video.frame_rate"]), ("640x360", chroma, 15.0))
