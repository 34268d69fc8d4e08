"""Headers of Opus, MPEG audio and G.711, assembled by hand."""

import unittest

import numpy as np

from direkt.codec import mpeg_audio, opus, registry
from direkt.codec.bits import BitstreamError
from direkt.codec.reader import audio_reader, video_reader
from direkt.media import Format, batch
from tests.support import MS


def samples(parts, step=20):
    times = [n * step for n in range(len(parts))]
    return batch("audio", list(parts), times, times, [True] * len(parts))


def reader(codec: str, configuration: bytes = b"", rate: int = 0, channels: int = 0):
    said: list[str] = []
    made = audio_reader(Format("audio", codec, MS, configuration=configuration, sample_rate=rate, channels=channels), said.append)
    made.configure(Format("audio", codec, MS, configuration=configuration, sample_rate=rate, channels=channels))
    return made, said


class Opus(unittest.TestCase):
    def test_lengths_of_packets_are_those_of_the_table(self):
        # RFC 6716, Table 2, a row of each kind; then two frames, two of different size, and a number of frames
        for first, more, length in (
            (0 << 3, b"", 480), (3 << 3, b"", 2880), (12 << 3, b"", 480), (16 << 3, b"", 120), (31 << 3, b"", 960),
            (31 << 3 | 1, b"", 1920), (31 << 3 | 2, b"", 1920), (31 << 3 | 3, b"\x06", 5760),
        ):  # fmt: skip
            self.assertEqual(opus.packet_length(bytes([first]) + more), length)
        for packet in (b"", b"\xfb", b"\xfb\x07", b"\xfb\x00"):
            with self.assertRaises(BitstreamError):
                opus.packet_length(packet)

    def test_heads_and_reading(self):
        for head in (b"OpusHead\x01\x06\x38\x01\x80\xbb\0\0\0\0\0", b"\0\x06\0\x78\0\0\xbb\x80\0\0\0"):
            self.assertEqual(opus.parse_head(head), 6)
        made, said = reader("opus", b"\0\x02\0\x78\0\0\xbb\x80\0\0\0")
        self.assertEqual(dict(made.declared.values), {"audio.sample_rate": 48000, "audio.channels": 2})
        self.assertEqual((made.rate, made.lengths(samples([b"\xf8a", b"\xf9b", b"\xfb"])).tolist()), (48000, [960, 1920, 0]))
        self.assertEqual(len(said), 1)
        with self.assertRaises(BitstreamError):
            opus.parse_head(b"OpusHead\x01\x00")


class MpegAudio(unittest.TestCase):
    def test_headers_by_hand(self):
        # ff fb 90 44: MPEG-1, layer III, 128 kbit/s, 44.1 kHz, no padding, joint stereo: 417 bytes
        for data, wanted in (
            ("fffb9044", (3, 44100, 2, 128, 1152, 417)), ("fffb92c4", (3, 44100, 1, 128, 1152, 418)),
            ("fffd9444", (2, 48000, 2, 160, 1152, 480)), ("fff384c4", (3, 24000, 1, 64, 576, 192)),
            ("ffe384c4", (3, 12000, 1, 64, 576, 384)), ("ffff9444", (1, 48000, 2, 288, 384, 288)),
        ):  # fmt: skip
            h = mpeg_audio.parse_header(bytes.fromhex(data))
            self.assertEqual((h.layer, h.sample_rate, h.channels, h.bitrate, h.samples, h.size), wanted, data)
        for data in ("", "fffb90", "00fb9044", "ffeb9044", "fff99044", "fffbf044", "fffb9c44"):
            with self.assertRaises(BitstreamError):
                mpeg_audio.parse_header(bytes.fromhex(data))

    def test_the_length_of_a_frame_of_every_bitrate(self):
        # the standards' table: bitrate_index, then kbit/s of layers I, II and III, and of MPEG-2's layer I and its others
        table = """
            1 32 32 32 32 8 | 2 64 48 40 48 16 | 3 96 56 48 56 24 | 4 128 64 56 64 32 | 5 160 80 64 80 40 | 6 192 96 80 96 48
            7 224 112 96 112 56 | 8 256 128 112 128 64 | 9 288 160 128 144 80 | 10 320 192 160 160 96 | 11 352 224 192 176 112
            12 384 256 224 192 128 | 13 416 320 256 224 144 | 14 448 384 320 256 160
        """
        for row in table.replace("\n", "|").split("|"):
            if not row.strip():
                continue
            index, *rates = map(int, row.split())
            one, two, three, low_one, low_others = rates
            for version, code, kbit, samples, slot in (
                (3, 3, one, 384, 4), (3, 2, two, 1152, 1), (3, 1, three, 1152, 1), (2, 3, low_one, 384, 4), (2, 2, low_others, 1152, 1),
                (2, 1, low_others, 576, 1), (0, 1, low_others, 576, 1),
            ):  # fmt: skip
                for choice, rate in enumerate((44100, 48000, 32000)):
                    rate //= {3: 1, 2: 2, 0: 4}[version]
                    for padding in (0, 1):
                        head = bytes([0xFF, 0xE0 | version << 3 | code << 1 | 1, index << 4 | choice << 2 | padding << 1, 0x40])
                        h = mpeg_audio.parse_header(head)
                        slots = samples // 8 // slot * kbit * 1000 // rate + padding
                        self.assertEqual((h.bitrate, h.samples, h.sample_rate, h.size), (kbit, samples, rate, slots * slot), row)

    def test_frames_are_believed_over_the_container(self):
        frame = bytes.fromhex("fffb9044") + bytes(413)
        made, said = reader("mp3", rate=22050, channels=1)
        self.assertEqual(made.declared.values["audio.sample_rate"], 22050)
        self.assertEqual(made.lengths(samples([frame, frame * 2, b"noise"])).tolist(), [1152, 2304, 0])
        self.assertEqual(dict(made.declared.values), {"audio.codec": "mp3", "audio.sample_rate": 44100, "audio.channels": 2})
        self.assertEqual((made.rate, len(said)), (44100, 1))
        made, _ = reader("mp3")
        made.lengths(samples([bytes.fromhex("fffd9444") + bytes(476)]))
        self.assertEqual(made.declared.values["audio.codec"], "mp2")


class G711(unittest.TestCase):
    def test_codes_of_the_recommendation(self):
        # the ends of both laws, and silence: G.711 tables 1a to 2b, as 16-bit values
        made, _ = reader("g711a")
        self.assertEqual([round(made._table[code] * 32768) for code in (0xD5, 0x55, 0xAA, 0x2A)], [8, -8, 32256, -32256])
        made, _ = reader("g711u")
        self.assertEqual([round(made._table[code] * 32768) for code in (0xFF, 0x7F, 0x80, 0x00)], [0, 0, 32124, -32124])

    def test_sound_and_silence(self):
        wave = np.sin(np.arange(160) / 3)
        for codec, quiet in (("g711a", 0xD5), ("g711u", 0xFF)):
            made, _ = reader(codec, channels=1)
            loud = bytes(int(np.abs(made._table - level).argmin()) for level in 0.1 * wave)
            faint = bytes(int(np.abs(made._table - level).argmin()) for level in 0.0005 * wave)
            found = samples([bytes([quiet]) * 160, loud, faint])
            levels = [made.power(found, n) for n in range(3)]
            self.assertEqual(levels[0], 0.0)
            self.assertAlmostEqual(levels[1], 0.1**2 / 2, delta=0.0002)
            self.assertAlmostEqual(levels[2], 0.0005**2 / 2, delta=1e-7)
            self.assertEqual((made.rate, made.lengths(found).tolist()), (8000, [160] * 3))


class Registry(unittest.TestCase):
    def test_every_reader_that_is_named_can_be_had(self):
        for row in registry.VIDEO.values():
            made = video_reader(Format("video", row.name, MS), lambda _: None)
            self.assertEqual(made.knows_keyframes, bool(row.module), row.name)
        for row in registry.AUDIO.values():
            made = audio_reader(Format("audio", row.name, MS), lambda _: None)
            made.configure(Format("audio", row.name, MS, sample_rate=8000, channels=1))
            self.assertEqual(made.declared.values["audio.channels"], 1, row.name)

    def test_no_code_stands_for_two_codecs(self):
        rows = [*registry.VIDEO.values(), *registry.AUDIO.values()]
        for pick in (lambda r: r.four_cc, lambda r: r.object_types, lambda r: [(r.track, code) for code in r.flv]):
            codes = [code for row in rows for code in pick(row)]
            self.assertEqual(len(codes), len(set(codes)))
