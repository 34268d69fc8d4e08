import itertools
import unittest
from fractions import Fraction

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
from direkt.media import Format, batch


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

    def test_channels_of_every_configuration(self):
        # ISO/IEC 14496-3, Table 1.19, with the low-frequency channel
        for code, channels in {1: 1, 2: 2, 3: 3, 4: 4, 5: 5, 6: 6, 7: 8, 8: 0, 11: 7, 12: 8, 14: 8}.items():
            self.assertEqual(aac.parse_config(pack(u(2, 5) + u(3, 4) + u(code, 4) + "000")).channels, channels)

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
            self.assertAlmostEqual(total * 8 / (469 * 1024 / 48000) / 1000, bitrate, delta=0.05)

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


# Frames put together from the tables of ISO/IEC 14496-3, 4.4.2: bit strings, nothing of the writer

END, CLOSED = "111", "000"  # ID_END; no pulse, no TNS, no gain control
LONG = "0" + "00" + "0"  # ics_reserved_bit, window_sequence, window_shape


def element(kind: int, *parts: str) -> str:
    return u(kind, 3) + u(0, 4) + "".join(parts)


def channel(gain: int, window: str, sections: str, rest: str) -> str:
    return u(gain, 8) + window + sections + rest


def section(book: int, bands: int) -> str:
    out = u(book, 4)
    while bands >= 31:
        out, bands = out + u(31, 5), bands - 31
    return out + u(bands, 5)


def mono(gain: int, book: int, bands: int, rest: str = "") -> str:
    return element(0, channel(gain, LONG + u(bands, 6) + "0", section(book, bands), rest))


def heard(*bits: str) -> Sound:
    return aac.sound_of(pack("".join(bits)))


class ByHand(unittest.TestCase):
    def test_the_least_loud_frame_that_counts(self):
        # 32 x 1 x 2^((g - 100) / 4) / 1024 against 33: 32 at g = 140, 38 at 141
        self.assertEqual(heard(mono(141, 1, 1, "0"), "0" * 40), Sound.SOUND)
        self.assertEqual(heard(mono(140, 1, 1, "0"), "0" * 40), Sound.UNKNOWN)
        self.assertEqual(heard(mono(140, 1, 2, "00"), "0" * 40), Sound.SOUND, "two bands together")
        # 8191^(4/3) instead of 1: 28.7 at g = 70, 34.1 at 71
        self.assertEqual(heard(mono(71, 11, 1, "0"), "0" * 40), Sound.SOUND)
        self.assertEqual(heard(mono(70, 11, 1, "0"), "0" * 40), Sound.UNKNOWN)
        # noise: its energy is 9 bits of offset to gain - 90, then - 256: 2^(n / 4) / 1024
        self.assertEqual(heard(mono(90, 13, 1, u(256 + 61, 9)), "0" * 40), Sound.SOUND)
        self.assertEqual(heard(mono(90, 13, 1, u(256 + 60, 9)), "0" * 40), Sound.UNKNOWN)

    def test_an_empty_channel_is_silence_whatever_stands_in_it(self):
        loud = mono(200, 1, 1, "0")
        for rest in (
            CLOSED,
            "0" "1" + u(1, 2) + "1" + u(20, 6) + u(5, 5) + "0" "0" + "1010" * 5 + "0",  # a filter of 5 coefficients of 4 bits
            "0" "1" + u(1, 2) + "1" + u(20, 6) + u(5, 5) + "1" "1" + "101" * 5 + "0",  # compressed: 3 bits
            "0" "1" + u(2, 2) + "0" + u(9, 6) + u(0, 5) + u(3, 6) + u(7, 5) + "1" "0" + "101" * 7 + "0",  # one of order 0
            "0" "1" + u(0, 2) + "0",
        ):  # fmt: skip
            for bands in (0, 1, 30, 31, 49):
                silent = element(0, channel(77, LONG + u(bands, 6) + "0", section(0, bands) if bands else "", rest))
                self.assertEqual(heard(silent, END), Sound.SILENCE, (rest, bands))
                self.assertEqual(heard(silent, loud, "0" * 40), Sound.SOUND, (rest, bands))

    def test_short_windows_in_groups(self):
        # window_sequence 2: 4 bits of bands, 7 of grouping: groups of 3, 1, 2 and 2
        window = "0" + u(2, 2) + "0" + u(12, 4) + "1100101"
        tns = "0" + "1" + ("1" + "0" + u(5, 4) + u(3, 3) + "01" + "10" * 3 + "0") * 4 + "0"
        for rest in (CLOSED, tns):
            silent = channel(50, window, (u(0, 4) + u(7, 3) + u(5, 3)) * 4, rest)
            self.assertEqual(heard(element(0, silent), END), Sound.SILENCE)
            pair = element(1, "0", silent, channel(141, LONG + u(1, 6) + "0", section(1, 1), "0"))
            self.assertEqual(heard(pair, "0" * 40), Sound.SOUND)

    def test_a_pair_with_a_common_window_and_a_mask(self):
        window = "0" + u(2, 2) + "0" + u(12, 4) + "1100101"  # four groups
        for mask in (u(0, 2), u(1, 2) + "10" * 24, u(2, 2)):
            empty = channel(50, "", (u(0, 4) + u(7, 3) + u(5, 3)) * 4, CLOSED)
            full = channel(
                141, "", u(1, 4) + u(1, 3) + u(0, 4) + u(7, 3) + u(4, 3) + (u(0, 4) + u(7, 3) + u(5, 3)) * 3, "0"
            )
            self.assertEqual(heard(element(1, "1", window, mask, empty, empty), END), Sound.SILENCE)
            self.assertEqual(heard(element(1, "1", window, mask, empty, full), "0" * 40), Sound.SOUND)

    def test_what_stands_beside_the_channels(self):
        silent, loud = element(0, channel(0, LONG + u(0, 6) + "0", "", CLOSED)), mono(200, 1, 1, "0")
        for size in (0, 1, 254, 255, 256, 300):
            count = u(size, 8) if size < 255 else u(255, 8) + u(size - 255, 8)
            for align in ("0", "1"):
                head = u(4, 3) + u(0, 4) + align + count
                head += "0" * (-len(head) % 8) if align == "1" else ""
                self.assertEqual(heard(head + "10110001" * size, silent, END), Sound.SILENCE, (size, align))
                self.assertEqual(heard(head + "10110001" * size, loud, "0" * 40), Sound.SOUND, (size, align))
        for size in (0, 1, 14, 15, 16, 200):
            count = u(size, 4) if size < 15 else u(15, 4) + u(size - 14, 8)
            self.assertEqual(heard(u(6, 3) + count + "11110000" * size, loud, "0" * 40), Sound.SOUND, size)
            self.assertEqual(heard(silent, u(6, 3) + count + "11110000" * size, END), Sound.SILENCE, size)

    def test_silence_is_remembered_and_what_is_remembered_is_bounded(self):
        reader = aac.Reader(lambda text: None)
        reader.configure(Format("audio", "aac", Fraction(1, 1000), configuration=bytes.fromhex("1188")))
        for n in range(3000):
            frame = pack(mono(n % 256, 1, 1, "0") + u(n, 24))
            samples = batch("audio", [frame, frame], [0, 21], [0, 21], [True, True])
            wanted = Sound.SOUND if n % 256 > 140 else Sound.UNKNOWN
            self.assertEqual([reader.sound(samples, 0), reader.sound(samples, 1)], [wanted] * 2)
            self.assertTrue(0 < len(reader._known) <= 256)
        self.assertGreater(len(reader._known), 50)
