import random
import unittest

from direkt.container import flv
from direkt.container.media import Break, Claims, CodecConfig, MediaError, Sample
from direkt.protocol import amf
from tests.support import events, flv_bytes


class Reading(unittest.TestCase):
    def test_what_is_written_is_read(self):
        found = events(flv_bytes(2, metadata={"width": 640.0, "framerate": 25.0, "stereo": True}))
        self.assertEqual(
            found[0], Claims("onMetaData", {"video.width": 640, "video.frame_rate": 25, "audio.channels": 2})
        )
        self.assertEqual([e.codec for e in found if isinstance(e, CodecConfig)], ["h264", "aac"])
        video = [e for e in found if isinstance(e, Sample) and e.track == "video"]
        audio = [e for e in found if isinstance(e, Sample) and e.track == "audio"]
        self.assertEqual((len(video), len(audio)), (50, 94))
        self.assertEqual([n for n, e in enumerate(video) if e.key], [0])
        self.assertEqual(video[49].dts, 1.96)

    def test_a_recording_cut_anywhere_is_judged_up_to_there(self):
        whole = flv_bytes(0.2)
        complete = len(events(whole))
        for size in range(flv.HEADER_SIZE, len(whole)):
            found = events(whole[:size])
            samples = [e for e in found if not isinstance(e, Break)]
            self.assertLessEqual(len(samples), complete)
            if isinstance(found[-1] if found else None, Break):
                self.assertLessEqual(found[-1].offset, size)
        for size in range(flv.HEADER_SIZE):
            if whole[:size][:3] != b"FLV":
                with self.assertRaises(MediaError):
                    events(whole[:size])

    def test_a_length_that_lies_is_named_with_its_byte(self):
        whole = bytearray(flv_bytes(0.5))
        place = 13 + 1
        whole[place : place + 3] = (0xFFFFFF).to_bytes(3, "big")
        found = events(bytes(whole))
        self.assertEqual(found[-1].offset, 13)
        self.assertIn("16777215 bytes claimed", found[-1].reason)
        whole = bytearray(flv_bytes(0.5))
        size = int.from_bytes(whole[14:17], "big")
        whole[14:17] = (size + 3).to_bytes(3, "big")
        self.assertIsInstance(events(bytes(whole))[-1], Break)

    def test_negative_composition_times_and_late_time_stamps(self):
        body = flv.video_frame(b"\0\0\0\2\x41\x9a", key=False, offset=-40)
        data = flv.header() + flv.tag(flv.VIDEO, 0x01020304, body) + flv.tag(flv.VIDEO, 0xFFFFFFF0, body)
        first, second = events(data)
        self.assertEqual((first.dts, round(first.pts, 3)), (16909.060, 16909.020))
        self.assertEqual(second.dts, -0.016)

    def test_other_codecs_are_named_and_lose_no_sample(self):
        for body, codec, rate, channels in (
            (bytes([0x2F]) + bytes(10), "mp3", 44100, 2), (bytes([0x72]) + bytes(10), "g711a", 8000, 1),
            (bytes([0xB2]) + bytes(10), "speex", 16000, 1),
        ):  # fmt: skip
            data = flv.header() + flv.tag(flv.AUDIO, 0, body) * 3
            config, *rest = events(data)
            self.assertEqual((config.codec, config.sample_rate, config.channels), (codec, rate, channels))
            self.assertEqual((len(rest), config.first.dts), (2, 0.0))

    def test_extended_headers(self):
        parser = flv.TagParser()
        config = parser.parse(flv.VIDEO, 0, b"\x90hvc1" + b"\x01abc")
        self.assertEqual((config.codec, config.data), ("h265", b"\x01abc"))
        sample = parser.parse(flv.VIDEO, 40, b"\x91hvc1" + b"\0\0\x28" + b"data")
        self.assertEqual((sample.pts, bytes(sample.data), sample.key), (0.08, b"data", True))
        self.assertEqual(bytes(parser.parse(flv.VIDEO, 80, b"\xa3avc1data").data), b"data")
        self.assertEqual(parser.parse(flv.AUDIO, 0, b"\x90Opus" + b"x").codec, "opus")
        with self.assertRaises(MediaError):
            parser.parse(flv.VIDEO, 0, b"\x90hv")

    def test_random_damage_raises_nothing_but_the_formats_own_error(self):
        whole = flv_bytes(0.4, metadata={"width": 640.0})
        source = random.Random(3)
        for _ in range(400):
            bad = bytearray(whole)
            for _ in range(source.randrange(1, 6)):
                bad[source.randrange(len(bad))] = source.randrange(256)
            try:
                events(bytes(bad))
            except MediaError:
                continue

    def test_damaged_metadata_claims_nothing(self):
        parser = flv.TagParser()
        self.assertIsNone(parser.parse(flv.SCRIPT, 0, b"\x02\x00\x0aonMetaData\x08\x00"))
        self.assertIsNone(parser.parse(flv.SCRIPT, 0, amf.encode(["onCuePoint", {"a": 1.0}])))
