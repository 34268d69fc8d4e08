import itertools
import math
import random
import unittest
from fractions import Fraction

import numpy as np

from direkt.codec import aac, aac_frame, aac_writer
from direkt.codec.aac_books import BOOKS
from direkt.codec.aac_tables import LONG_BANDS, SAMPLE_RATES, SCALE_CODES, SCALE_LENGTHS, SHORT_BANDS, rate_index
from direkt.codec.bits import BitstreamError, pack, u
from direkt.media import Format, batch
from tests import aac_encoder
from tests.support import thorough


class Tables(unittest.TestCase):
    def test_codebooks_are_complete_and_no_code_begins_another(self):
        books = [(SCALE_LENGTHS, SCALE_CODES), *((book.lengths, book.codes) for book in BOOKS.values())]
        for lengths, codes in books:
            words = sorted(format(code, f"0{length}b") for length, code in zip(lengths, codes, strict=True))
            self.assertEqual(sum(Fraction(1, 2 ** len(word)) for word in words), 1)
            for a, b in itertools.pairwise(words):
                self.assertFalse(b.startswith(a))

    def test_books_have_the_values_of_table_4_95(self):
        for number, (size, signed, largest) in {
            1: (4, True, 1), 2: (4, True, 1), 3: (4, False, 2), 4: (4, False, 2), 5: (2, True, 4), 6: (2, True, 4),
            7: (2, False, 7), 8: (2, False, 7), 9: (2, False, 12), 10: (2, False, 12), 11: (2, False, 16),
        }.items():  # fmt: skip
            book = BOOKS[number]
            every = itertools.product(range(-largest if signed else 0, largest + 1), repeat=size)
            self.assertEqual([book.values(n) for n in range(len(book.codes))], list(every))

    def test_bands_rise_to_1024_and_128(self):
        self.assertEqual([len(b) - 1 for b in LONG_BANDS], [41, 41, 47, 49, 49, 51, 47, 47, 43, 43, 43, 40, 40])
        self.assertEqual([len(b) - 1 for b in SHORT_BANDS], [12, 12, 12, 14, 14, 14, 15, 15, 15, 15, 15, 15, 15])
        for bands, end in [*((b, 1024) for b in LONG_BANDS), *((b, 128) for b in SHORT_BANDS)]:
            self.assertEqual((bands[0], bands[-1]), (0, end))
            self.assertEqual(list(bands), sorted(set(bands)))
            self.assertTrue(all(n % 4 == 0 for n in bands))

    def test_rates_that_are_not_in_the_table_use_the_nearest(self):
        self.assertEqual([rate_index(rate) for rate in SAMPLE_RATES[:12]], list(range(12)))
        self.assertEqual([rate_index(n) for n in (192000, 92017, 92016, 47999, 9391, 9390, 7350)], [0, 0, 1, 3, 10, 11, 11])


class Config(unittest.TestCase):
    def test_the_borders_between_rates(self):
        # ISO/IEC 14496-3, Table 4.82: from this rate on, the tables of that index hold
        borders = (92017, 75132, 55426, 46009, 37566, 27713, 23004, 18783, 13856, 11502, 9391)
        for index, border in enumerate(borders):
            self.assertEqual((rate_index(border), rate_index(border - 1)), (index, index + 1), border)

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
        behind_a_delay = pack(u(2, 5) + u(3, 4) + u(0, 4) + "0" + "1" + u(0x1555, 14) + "0" + element + "00000000")
        self.assertEqual(aac.parse_config(behind_a_delay).channels, 6)

    def test_an_object_type_behind_the_escape(self):
        config = aac.parse_config(pack(u(31, 5) + u(42 - 32, 6) + u(3, 4) + u(2, 4) + u(0, 9)))
        self.assertEqual((config.object_type, config.sample_rate, config.channels), (42, 48000, 2))

    def test_errors(self):
        for data in (b"", b"\x11", pack(u(2, 5) + u(14, 4) + u(2, 4) + "000"), pack(u(2, 5) + u(15, 4) + u(0, 24) + u(0, 7))):
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
                for tone in (True, False):
                    writer = aac_writer.ToneWriter(rate, channels, 32, tone=tone)
                    frames = [aac_frame.read_frame(writer.next(), rate_index(rate)) for _ in range(20)]
                    self.assertEqual({frame.channels for frame in frames}, {channels})
                    levels = {10 * math.log10(max(frame.power, 1e-12)) for frame in frames}
                    self.assertEqual(len(levels), 1)
                    self.assertAlmostEqual(levels.pop(), -23 if tone else -120, delta=1)  # a tenth of the largest sine

    def test_the_bitrate_is_exact(self):
        for bitrate in (32, 96, 160, 256):
            writer = aac_writer.ToneWriter(48000, 2, bitrate)
            total = sum(len(writer.next()) for _ in range(469))  # 10.005 s
            self.assertAlmostEqual(total * 8 / (469 * 1024 / 48000) / 1000, bitrate, delta=0.05)

    def test_bitrates_out_of_reach_are_refused(self):
        with self.assertRaisesRegex(BitstreamError, "288"):
            aac_writer.ToneWriter(48000, 1, 300)
        with self.assertRaises(BitstreamError):
            aac_writer.ToneWriter(48000, 2, 1)


class Level(unittest.TestCase):
    """Sounds of known level, coded by the tests' own encoder."""

    @staticmethod
    def level(sound) -> float:
        return 10 * math.log10(float(np.mean(np.square(sound))))

    def sounds(self, rate: int):
        source, t = np.random.default_rng(5), np.arange(aac_encoder.N * 10) / rate
        voice = np.convolve(source.standard_normal(len(t)), [1, 0.9, 0.8, 0.6, 0.3, 0.1], "same")
        return {"tone": np.sin(2 * np.pi * 997 * t), "hiss": source.standard_normal(len(t)),
                "voice": voice * (0.15 + np.abs(np.sin(2 * np.pi * 3 * t)))}  # fmt: skip

    def test_it_is_that_of_the_sound_from_20_to_85_db_below_full_scale(self):
        for rate, short, choice in ((48000, False, 0), (44100, True, 1), (16000, False, 1), (8000, True, 0)):
            for name, sound in self.sounds(rate).items():
                for wanted in thorough((-20, -45, -59, -61, -85), (-20, -60, -85)):
                    mono = sound * 10 ** ((wanted - self.level(sound)) / 20)
                    for channels in (mono, np.stack([mono, 0.3 * mono], 1)):
                        frames = aac_encoder.encode(channels, rate, short=short, choice=choice)
                        power = np.mean([aac_frame.read_frame(f, rate_index(rate)).power for f in frames])
                        found, true = 10 * math.log10(power), self.level(channels[512:-512])
                        self.assertAlmostEqual(found, true, delta=1, msg=(rate, name, wanted, short))


# Frames put together from the tables of ISO/IEC 14496-3, 4.4.2: bit strings, nothing of the writer

END, CLOSED = "111", "000"  # ID_END; no pulse, no TNS, no gain control
LONG = "0" + "00" + "0"  # ics_reserved_bit, window_sequence, window_shape
ONE = "10000"  # book 1: 1, 0, 0, 0
UNIT = 1 / 2048 / 1024 / 32768**2  # of a spectral line of 1, in the mean square of its frame


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


LOUD = mono(200, 1, 1, "0" + CLOSED + ONE)  # a line of 2^25


def heard(*bits: str) -> aac_frame.AacHeard:
    return aac_frame.read_frame(pack("".join(bits)), 3)


class ByHand(unittest.TestCase):
    def lines(self, found: aac_frame.AacHeard) -> float:
        """The power in units of a spectral line of 1."""
        return found.power / UNIT * found.channels

    def test_a_line_of_every_kind(self):
        for bits, wanted in (
            (mono(100, 1, 1, "0" + CLOSED + ONE), 1), (mono(104, 1, 1, "0" + CLOSED + ONE), 4),
            (mono(100, 1, 2, "0" + "1011" + CLOSED + ONE + ONE), 1.5),  # a scale factor two lower
            (mono(100, 11, 1, "0" + CLOSED + "0000" + "0000"), 0),
            # book 11: 16 with an escape of 5 ones, 20 in all bits: 2^9 + 5; the other value 0; sign; then a pair of zeros
            (mono(100, 11, 1, "0" + CLOSED + "1110001110" + "1" + "111110" + u(5, 9) + "0000"), 517 ** (8 / 3)),
            # noise: 9 bits of offset to gain - 90, then - 256
            (mono(90, 13, 1, u(256 + 60, 9) + CLOSED), 2.0**30),
            (mono(93, 13, 2, u(256, 9) + "0" + CLOSED), 2 * 2.0**1.5),
        ):  # fmt: skip
            self.assertAlmostEqual(self.lines(heard(bits, END)) / (wanted or 1), 1 if wanted else 0, places=6)

    def test_pulses_add_to_the_lines_that_they_stand_on(self):
        # four lines of book 1: the first is 1; pulses start at band 0 (line 0)
        for offsets, sizes, wanted in (
            ([0], [5], 6 ** (8 / 3)),  # on the line that is 1
            ([2], [9], 1 + 9 ** (8 / 3)),  # on one that is 0
            ([0, 3, 0], [1, 2, 15], 2 ** (8 / 3) + 17 ** (8 / 3)),  # the third on the second
        ):
            pulses = "1" + u(len(sizes) - 1, 2) + u(0, 6) + "".join(u(o, 5) + u(s, 4) for o, s in zip(offsets, sizes, strict=True))
            found = heard(mono(100, 1, 1, "0" + pulses + "00" + ONE), END)
            self.assertAlmostEqual(self.lines(found), wanted, places=6)
        # in the second band, on its second line, which book 11 gives 517 by an escape (the first one is 0)
        pulses = "1" + u(0, 2) + u(1, 6) + u(1, 5) + u(3, 4)
        escape = "1110001110" + "1" + "111110" + u(5, 9) + "0000"
        found = heard(mono(100, 11, 2, "0" + "0" + pulses + "00" + "0000" * 2 + escape), END)
        self.assertAlmostEqual(self.lines(found) / 520 ** (8 / 3), 1, places=6)
        with self.assertRaises(BitstreamError):
            heard(mono(100, 1, 1, "0" + "1" + u(0, 2) + u(63, 6) + u(0, 9) + "00" + ONE), END)

    def test_an_empty_channel_is_silence_whatever_stands_in_it(self):
        for rest in (
            CLOSED,
            "0" "1" + u(1, 2) + "1" + u(20, 6) + u(5, 5) + "0" "0" + "1010" * 5 + "0",  # a filter of 5 coefficients of 4 bits
            "0" "1" + u(1, 2) + "1" + u(20, 6) + u(5, 5) + "1" "1" + "101" * 5 + "0",  # compressed: 3 bits
            "0" "1" + u(2, 2) + "0" + u(9, 6) + u(0, 5) + u(3, 6) + u(7, 5) + "1" "0" + "101" * 7 + "0",  # one of order 0
            "0" "1" + u(0, 2) + "0",
            "1" + u(1, 2) + u(3, 6) + "0" * 18 + "00",  # two pulses
        ):  # fmt: skip
            for bands in (0, 1, 30, 31, 49):
                silent = element(0, channel(77, LONG + u(bands, 6) + "0", section(0, bands) if bands else "", rest))
                self.assertEqual(heard(silent, END), aac_frame.AacHeard(0.0, 1, False), (rest, bands))
                self.assertEqual(self.lines(heard(silent, LOUD, END)), 2.0**50, (rest, bands))

    def test_a_filter_over_frequency_gives_its_power_back(self):
        # one coefficient of 4 bits, 4: k = sin(4 pi / 15), over all bands: 1 / (1 - k^2)
        shaped = "0" + "1" + u(1, 2) + "1" + u(49, 6) + u(1, 5) + "00" + u(4, 4) + "0"
        k = math.sin(4 * math.pi / 15)
        self.assertAlmostEqual(self.lines(heard(mono(100, 1, 1, "0" + shaped + ONE), END)), 1 / (1 - k * k))
        # -4 in 3 bits, compressed from 4: k = sin(-4 pi / 17); and over the upper bands only, where nothing is
        shaped = "0" + "1" + u(1, 2) + "1" + u(49, 6) + u(1, 5) + "01" + u(4, 3) + "0"
        k = math.sin(4 * math.pi / 17)
        self.assertAlmostEqual(self.lines(heard(mono(100, 1, 1, "0" + shaped + ONE), END)), 1 / (1 - k * k))
        shaped = "0" + "1" + u(1, 2) + "1" + u(48, 6) + u(1, 5) + "00" + u(4, 4) + "0"
        self.assertAlmostEqual(self.lines(heard(mono(100, 1, 1, "0" + shaped + ONE), END)), 1)

    def test_short_windows_in_groups(self):
        # window_sequence 2: 4 bits of bands, 7 of grouping: groups of 3, 1, 2 and 2
        window = "0" + u(2, 2) + "0" + u(12, 4) + "1101010"
        tns = "0" + "1" + ("1" + "0" + u(5, 4) + u(3, 3) + "01" + "10" * 3 + "0") * 4 + "0"
        for rest in (CLOSED, tns):
            silent = channel(50, window, (u(0, 4) + u(7, 3) + u(5, 3)) * 4, rest)
            self.assertEqual(heard(element(0, silent), END).power, 0)
            pair = element(1, "0", silent, channel(100, LONG + u(1, 6) + "0", section(1, 1), "0" + CLOSED + ONE))
            self.assertAlmostEqual(self.lines(heard(pair, END)), 1)
        # the first band of the first group: 3 windows of 4 lines; a line of a short window has 8 times the power
        books = u(1, 4) + u(1, 3) + u(0, 4) + u(7, 3) + u(4, 3) + (u(0, 4) + u(7, 3) + u(5, 3)) * 3
        loud = element(0, channel(100, window, books, "0" + CLOSED + ONE * 3))
        self.assertAlmostEqual(self.lines(heard(loud, END)), 3 * 8)

    def test_a_pair_with_a_common_window_and_a_mask(self):
        window = "0" + u(2, 2) + "0" + u(12, 4) + "1101010"  # four groups
        for mask, times in ((u(0, 2), 1), (u(1, 2) + "10" * 24, 2), (u(2, 2), 2)):
            empty = channel(50, "", (u(0, 4) + u(7, 3) + u(5, 3)) * 4, CLOSED)
            books = u(1, 4) + u(1, 3) + u(0, 4) + u(7, 3) + u(4, 3) + (u(0, 4) + u(7, 3) + u(5, 3)) * 3
            full = channel(100, "", books, "0" + CLOSED + ONE * 3)
            self.assertEqual(heard(element(1, "1", window, mask, empty, empty), END).power, 0)
            self.assertAlmostEqual(self.lines(heard(element(1, "1", window, mask, empty, full), END)), times * 24)

    def test_intensity_is_the_left_channel_scaled(self):
        window = LONG + u(1, 6) + "0"
        left = channel(100, "", section(1, 1), "0" + CLOSED + ONE)
        for book in (14, 15):
            for step, place in (("0", 0), ("1010", 1), ("100", -1), ("1011", -2)):
                right = channel(100, "", section(book, 1), step + CLOSED)
                found = self.lines(heard(element(1, "1", window, u(0, 2), left, right), END))
                self.assertAlmostEqual(found, 1 + 2.0 ** (-0.5 * place))

    def test_what_stands_beside_the_channels(self):
        silent = element(0, channel(0, LONG + u(0, 6) + "0", "", CLOSED))
        program = u(5, 3) + u(0, 4) + u(1, 2) + u(3, 4) + u(1, 4) + u(0, 4) * 2 + u(1, 2) + u(0, 3) + u(0, 4) + "000"
        program += u(0, 5) + u(0, 4)
        program += "0" * (-len(program) % 8) + u(2, 8) + "1" * 16
        for size in (0, 1, 254, 255, 256, 300):
            count = u(size, 8) if size < 255 else u(255, 8) + u(size - 255, 8)
            for align in ("0", "1"):
                head = u(4, 3) + u(0, 4) + align + count
                head += "0" * (-len(head) % 8) if align == "1" else ""
                self.assertEqual(heard(head + "10110001" * size, silent, END).power, 0, (size, align))
                self.assertEqual(self.lines(heard(head + "10110001" * size, LOUD, END)), 2.0**50, (size, align))
        for size in (0, 1, 14, 15, 16, 200):
            count = u(size, 4) if size < 15 else u(15, 4) + u(size - 14, 8)
            for first, sbr in (("1101", True), ("1110", True), ("1111", False), ("0000", False)):
                fill = u(6, 3) + count + (first + "0000" + "11110000" * (size - 1) if size else "")
                self.assertEqual(heard(fill, LOUD, END), aac_frame.AacHeard(0.5, 1, sbr and size > 0))
                self.assertEqual(heard(silent, fill, END), aac_frame.AacHeard(0.0, 1, sbr and size > 0))
        self.assertEqual(self.lines(heard(program, LOUD, END)), 2.0**50)

    def test_frames_that_make_no_sense(self):
        for bits in (
            "", "000", mono(200, 12, 1, "0"), mono(200, 1, 1, "0" + CLOSED), element(2, "0" * 40), mono(0, 1, 1, "100" + CLOSED + ONE),
            element(0, u(0, 8), LONG, u(1, 6), "1", "0" * 40), element(0, u(0, 8), LONG, u(50, 6), "0" * 40),
            mono(200, 11, 1, "0" + CLOSED + "1110001110" + "1" + "1" * 12), element(0, channel(9, LONG + "0" * 7, "", "001")),
        ):  # fmt: skip
            with self.assertRaises(BitstreamError):
                heard(bits)
        source = random.Random(6)
        frame = aac_encoder.encode(0.1 * np.random.default_rng(1).standard_normal(4096), 48000)[0]
        for _ in range(2000):
            bad = bytearray(frame[: source.randrange(1, len(frame))])
            for _ in range(source.randrange(1, 5)):
                bad[source.randrange(len(bad))] = source.randrange(256)
            try:
                aac_frame.read_frame(bad, source.randrange(12), source.choice((960, 1024)))
            except BitstreamError:
                continue


class Reading(unittest.TestCase):
    def reader(self, config: bytes) -> aac.Reader:
        reader = aac.Reader(lambda text: None)
        reader.configure(Format("audio", "aac", Fraction(1, 1000), configuration=config))
        return reader

    def one(self, frame: bytes):
        return batch("audio", [frame], [0], [0], [True])

    def test_frames_are_remembered_and_what_is_remembered_is_bounded(self):
        reader = self.reader(bytes.fromhex("1188"))
        for n in range(1000):
            gain = n % 256
            frame = pack(mono(gain, 1, 1, "0" + CLOSED + ONE) + END + u(n, 24))
            found = [reader.power(self.one(frame), 0) for _ in range(2)]
            self.assertAlmostEqual(found[0] / UNIT / 2.0 ** (0.5 * (gain - 100)), 1)
            self.assertEqual(found[0], found[1])
            self.assertTrue(0 < len(reader._known) <= 256)
        self.assertGreater(len(reader._known), 50)
        self.assertIsNone(reader.power(self.one(b"\x00"), 0))
        self.assertIsNone(reader.power(self.one(pack(END)), 0), "no channel at all")

    def test_sbr_that_only_frames_carry_is_found(self):
        fill = u(6, 3) + u(2, 4) + "1101" + "0" * 12
        frame = pack(LOUD + fill + END)
        reader = self.reader(pack(u(2, 5) + u(6, 4) + u(1, 4) + "000"))
        self.assertEqual((reader.declared.values["audio.profile"], reader.rate), ("lc", 24000))
        reader.power(self.one(frame), 0)
        self.assertEqual(dict(reader.declared.values), {"audio.profile": "he", "audio.sample_rate": 48000, "audio.channels": 1})
        self.assertEqual(reader.rate, 24000)
        # the configuration says that there is none: 0x2b7, object type 5, flag 0
        reader = self.reader(pack(u(2, 5) + u(6, 4) + u(1, 4) + "000" + u(0x2B7, 11) + u(5, 5) + "0"))
        reader.power(self.one(frame), 0)
        self.assertEqual(reader.declared.values["audio.profile"], "lc")

    def test_other_kinds_of_aac_are_not_looked_into(self):
        reader = self.reader(pack(u(1, 5) + u(3, 4) + u(1, 4) + "000"))
        self.assertIsNone(reader.power(self.one(pack(LOUD + END)), 0))
