import itertools
import unittest

from direkt.codec import aac, aac_writer
from direkt.codec.aac_tables import (
    LONG_BANDS,
    PAIR_CODES,
    PAIR_LENGTHS,
    SAMPLE_RATES,
    SCALE_CODES,
    SCALE_LENGTHS,
)
from direkt.codec.bits import BitstreamError, pack, u
from direkt.codec.reader import Sound


class Tables(unittest.TestCase):
    def test_codebooks_are_complete_and_no_code_begins_another(self):
        for lengths, codes in ((SCALE_LENGTHS, SCALE_CODES), (PAIR_LENGTHS, PAIR_CODES)):
            words = sorted(format(code, f"0{length}b") for length, code in zip(lengths, codes, strict=True))
            self.assertEqual(sum(2.0 ** -len(word) for word in words), 1.0)
            for a, b in itertools.pairwise(words):
                self.assertFalse(b.startswith(a))

    def test_bands_rise_to_1024(self):
        counts = [len(bands) - 1 for bands in LONG_BANDS]
        self.assertEqual(counts, [41, 41, 47, 49, 49, 51, 47, 47, 43, 43, 43, 40, 40])
        for bands in LONG_BANDS:
            self.assertEqual((bands[0], bands[-1]), (0, 1024))
            self.assertEqual(list(bands), sorted(set(bands)))


class Config(unittest.TestCase):
    def test_plain_configurations(self):
        config = aac.parse_config(bytes.fromhex("1190"))
        self.assertEqual((config.profile, config.sample_rate, config.channels), ("lc", 48000, 2))
        config = aac.parse_config(bytes.fromhex("11b0"))
        self.assertEqual((config.sample_rate, config.channels), (48000, 6))
        for rate in SAMPLE_RATES:
            for channels in (1, 2):
                config = aac.parse_config(aac_writer.build_config(rate, channels))
                self.assertEqual((config.profile, config.sample_rate, config.channels), ("lc", rate, channels))

    def test_he_aac_in_both_signallings(self):
        plain = u(2, 5) + u(6, 4) + u(1, 4) + "000"
        extended = pack(plain + u(0x2B7, 11) + u(5, 5) + "1" + u(3, 4))
        config = aac.parse_config(extended)
        self.assertEqual((config.profile, config.core_rate, config.sample_rate), ("he", 24000, 48000))
        self.assertEqual(config.frame_samples, 1024)
        config = aac.parse_config(pack(plain + u(0x2B7, 11) + u(5, 5) + "1" + u(3, 4) + u(0x548, 11) + "1"))
        self.assertEqual((config.profile, config.channels), ("he-v2", 2))
        config = aac.parse_config(pack(u(29, 5) + u(6, 4) + u(1, 4) + u(3, 4) + u(2, 5) + "000"))
        self.assertEqual((config.profile, config.sample_rate, config.channels), ("he-v2", 48000, 2))

    def test_channels_of_a_program_config_element_and_an_odd_rate(self):
        element = u(0, 4) + u(1, 2) + u(3, 4) + u(2, 4) + u(0, 4) + u(1, 4) + u(1, 2) + u(0, 3) + u(0, 4) + "000"
        element += "0" + u(0, 4) + "1" + u(0, 4) + "1" + u(1, 4) + u(0, 4)
        config = aac.parse_config(pack(u(2, 5) + u(15, 4) + u(47999, 24) + u(0, 4) + "000" + element + "00000000"))
        self.assertEqual((config.sample_rate, config.channels), (47999, 6))

    def test_errors(self):
        for data in (
            b"",
            b"\x11",
            pack(u(2, 5) + u(14, 4) + u(2, 4) + "000"),
            pack(u(2, 5) + u(15, 4) + u(0, 24) + u(0, 7)),
        ):
            with self.assertRaises(BitstreamError):
                aac.parse_config(data)
        with self.assertRaisesRegex(BitstreamError, "47000"):
            aac_writer.build_config(47000, 2)
        with self.assertRaisesRegex(BitstreamError, "6 audio channels"):
            aac_writer.build_config(48000, 6)


class Tone(unittest.TestCase):
    def test_sound_and_silence_are_told_apart(self):
        for rate in (8000, 22050, 44100, 48000):
            for channels in (1, 2):
                for tone, wanted in ((True, Sound.SOUND), (False, Sound.SILENCE)):
                    writer = aac_writer.ToneWriter(rate, channels, 32, tone=tone)
                    self.assertEqual({aac.sound_of(writer.next()) for _ in range(20)}, {wanted})

    def test_the_bitrate_is_exact(self):
        for bitrate in (32, 96, 160, 256):
            writer = aac_writer.ToneWriter(48000, 2, bitrate)
            total = sum(len(writer.next()) for _ in range(469))  # 10.005 s
            self.assertAlmostEqual(total * 8 / (469 * writer.frame_seconds) / 1000, bitrate, delta=0.05)

    def test_a_cut_frame_is_unknown_and_a_quiet_one_silent(self):
        frame = aac_writer.ToneWriter(48000, 2, 128).next()
        self.assertEqual(aac.sound_of(frame[:2]), Sound.UNKNOWN)
        self.assertEqual(aac.sound_of(b""), Sound.UNKNOWN)
        # one channel, one band with codebook 1 at scale factor 40: 2^-15 of a code value
        quiet = "000" + u(0, 4) + u(40, 8) + "0000" + u(1, 6) + "0" + u(1, 4) + u(1, 5) + "0"
        self.assertEqual(aac.sound_of(pack(quiet + "0" * 20)), Sound.UNKNOWN)

    def test_bitrates_out_of_reach_are_refused(self):
        with self.assertRaisesRegex(BitstreamError, "288"):
            aac_writer.ToneWriter(48000, 1, 300)
        with self.assertRaises(BitstreamError):
            aac_writer.ToneWriter(48000, 2, 1)
