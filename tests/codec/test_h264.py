import random
import unittest
from fractions import Fraction

from direkt.codec import h264_levels as reader
from direkt.codec import h264_syntax as h264
from direkt.codec.bits import BitstreamError, escape, pack, se, stop, u, ue, unescape
from direkt.codec.testcard import CardSettings, TestCard


class ParameterSets(unittest.TestCase):
    def test_a_header_decoded_by_hand(self):
        # 42 c0 1e: profile 66, constraint sets 0 and 1, level 3.0. Then by hand: id 0, frame_num of 4 bits,
        # order type 0 with 4 bits, 3 references, no gaps, 20 x 15 macroblocks (320x240), frames only, no
        # cropping, no VUI.
        digits = u(66, 8) + u(0xC0, 8) + u(30, 8) + ue(0) + ue(0) + ue(0) + ue(0) + ue(3) + "0" + ue(19) + ue(14)
        sps = h264.parse_sps(b"\x67" + stop(digits + "1" + "1" + "0" + "0"))
        self.assertEqual((sps.profile, sps.level, sps.width, sps.height), ("constrained-baseline", "3.0", 320, 240))
        self.assertEqual((sps.reference_frames, sps.frame_mbs_only, sps.frame_rate), (3, True, None))
        self.assertIsNone(sps.sample_aspect)
        self.assertIsNone(sps.full_range)

    def test_cropping_aspect_colour_and_timing_of_an_interlaced_header(self):
        # High, 4:2:2 10 bits, 1920x1088 coded as fields, cropped to 1080: unit of 2 lines for fields of 4:2:2
        digits = u(122, 8) + u(0, 8) + u(41, 8) + ue(0) + ue(2) + ue(2) + ue(2) + "0" + "0" + ue(0) + ue(2)
        digits += ue(4) + "0" + ue(119) + ue(33) + "0" + "1" + "1" + "1" + ue(0) + ue(0) + ue(0) + ue(4)
        vui = "1" + u(255, 8) + u(4, 16) + u(3, 16) + "0" + "1" + u(5, 3) + "1" + "1" + u(9, 8) + u(18, 8) + u(9, 8)
        vui += "0" + "1" + u(1001, 32) + u(60000, 32) + "1" + "0" + "0" + "1" + "0"
        sps = h264.parse_sps(b"\x67" + escape(stop(digits + "1" + vui)))
        self.assertEqual((sps.profile, sps.width, sps.height), ("high422", 1920, 1080))
        self.assertEqual((sps.chroma_format, sps.bit_depth, sps.frame_mbs_only, sps.mb_adaptive), (2, 10, False, True))
        self.assertEqual((sps.sample_aspect, sps.full_range, sps.transfer), ((4, 3), True, 18))
        self.assertAlmostEqual(sps.frame_rate, 29.97, places=3)

    def test_every_sample_aspect_of_table_e_1(self):
        ratios = {1: (1, 1), 2: (12, 11), 3: (10, 11), 4: (16, 11), 5: (40, 33), 6: (24, 11), 7: (20, 11), 8: (32, 11), 9: (80, 33),
                  10: (18, 11), 11: (15, 11), 12: (64, 33), 13: (160, 99), 14: (4, 3), 15: (3, 2), 16: (2, 1), 0: None, 17: None, 254: None}  # fmt: skip
        head = (
            u(66, 8)
            + u(0, 8)
            + u(30, 8)
            + ue(0)
            + ue(0)
            + ue(0)
            + ue(0)
            + ue(1)
            + "0"
            + ue(19)
            + ue(14)
            + "1"
            + "1"
            + "0"
            + "1"
        )
        for code, ratio in ratios.items():
            sps = h264.parse_sps(b"\x67" + escape(stop(head + "1" + u(code, 8) + "0" * 8)))
            self.assertEqual(sps.sample_aspect, ratio, code)

    def test_scaling_lists_and_poc_type_1_are_stepped_over(self):
        digits = u(100, 8) + u(0, 8) + u(31, 8) + ue(0) + ue(1) + ue(0) + ue(0) + "0" + "1"
        for n in range(8):
            size = 16 if n < 6 else 64
            digits += "1" + se(2) + se(0) * (size - 1) if n in (0, 7) else "0"
        digits += ue(0) + ue(1) + "0" + se(-3) + se(4) + ue(2) + se(1) + se(-1) + ue(1) + "0"
        sps = h264.parse_sps(b"\x67" + stop(digits + ue(79) + ue(44) + "1" + "1" + "0" + "0"))
        self.assertEqual((sps.width, sps.height, sps.order_type), (1280, 720, 1))

    def test_cut_or_garbled_headers_raise_the_formats_own_error_only(self):
        good = TestCard(CardSettings(638, 362, Fraction(30000, 1001), 60, "high", 900)).sps
        source = random.Random(1)
        for size in range(len(good)):
            with self.assertRaises(BitstreamError, msg=f"cut to {size} bytes"):
                h264.parse_sps(good[:size])
        for _ in range(2000):
            bad = bytearray(good)
            for _ in range(source.randrange(1, 4)):
                bad[source.randrange(1, len(bad))] = source.randrange(256)
            try:
                h264.parse_sps(bad)
                h264.parse_pps(b"\x68" + bytes(bad[1:5]))
            except BitstreamError:
                continue

    def test_level_1b_has_its_own_name(self):
        digits = u(66, 8) + u(0xD0, 8) + u(11, 8) + ue(0) + ue(0) + ue(2) + ue(1) + "0" + ue(10) + ue(8) + "1100"
        self.assertEqual(h264.parse_sps(b"\x67" + stop(digits)).level, "1.0b")

    def test_each_limit_of_every_level(self):
        # Table A-1 as it stands in the standard: level, MaxMBPS, MaxFS, MaxDpbMbs, MaxBR
        table = """
            1.0 1485 99 396 64 | 1.0b 1485 99 396 128 | 1.1 3000 396 900 192 | 1.2 6000 396 2376 384 | 1.3 11880 396 2376 768 | 2.0 11880 396 2376 2000
            2.1 19800 792 4752 4000 | 2.2 20250 1620 8100 4000 | 3.0 40500 1620 8100 10000 | 3.1 108000 3600 18000 14000
            3.2 216000 5120 20480 20000 | 4.0 245760 8192 32768 20000 | 4.1 245760 8192 32768 50000 | 4.2 522240 8704 34816 50000
            5.0 589824 22080 110400 135000 | 5.1 983040 36864 184320 240000 | 5.2 2073600 36864 184320 240000
            6.0 4177920 139264 696320 240000 | 6.1 8355840 139264 696320 480000 | 6.2 16711680 139264 696320 800000
        """
        rows = [line.split() for line in table.replace("\n", "|").split("|") if line.strip()]
        for level, *limits in rows:
            per_second, largest, held, most = map(int, limits)
            side = int((8 * largest) ** 0.5)
            for profile, factor in (("main", 1.2), ("baseline", 1.2), ("high", 1.5), ("high10", 3.6), ("high422", 4.8)):
                for columns, rate, references, bitrate in (
                    (1, per_second, 1, 1), (1, 1, held, 1), (1, 1, 1, most * factor), (side, 1, 1, 1),
                    (1, per_second + 1, 1, 1), (1, 1, held + 1, 1), (1, 1, 1, most * factor + 1), (side + 1, 1, 1, 1),
                ):  # fmt: skip
                    fits = [
                        name for name, *of in rows
                        if rate <= int(of[0]) and references <= int(of[2]) and bitrate <= int(of[3]) * factor
                        and columns**2 <= 8 * int(of[1]) and columns <= int(of[1])
                    ]  # fmt: skip
                    if not fits:
                        with self.assertRaises(BitstreamError):
                            reader.lowest_level(16 * columns, 16, rate / columns, bitrate, profile, references)
                        continue
                    found = reader.lowest_level(
                        16 * columns, 16, rate / columns, bitrate, profile, references if columns == 1 else 1
                    )
                    self.assertEqual(found, fits[0], (level, profile, columns, rate, references, bitrate))

    def test_the_configuration_record_by_hand(self):
        # ISO/IEC 14496-15, 5.3.3.1: reserved bits are ones; High says its chroma format and bit depths behind the sets
        for profile, tail in (("high", "fdf8f800"), ("main", "")):
            card = TestCard(CardSettings(640, 360, Fraction(25), 50, profile, 1000, "cbr"))
            sps, pps = card.sps.hex(), card.pps.hex()
            wanted = f"01{sps[2:8]}ffe1{len(sps) // 2:04x}{sps}01{len(pps) // 2:04x}{pps}{tail}"
            self.assertEqual(h264.build_avc_config(card.sps, card.pps).hex(), wanted)

    def test_the_lowest_level_follows_table_a_1(self):
        for width, height, rate, bitrate, level in (
            (1280, 720, 30, 2000, "3.1"), (1280, 720, 60, 2000, "3.2"), (1920, 1080, 30, 5000, "4.0"), (1920, 1080, 50, 6800, "4.2"),
            (2560, 1440, 25, 12000, "5.0"), (3840, 2160, 60, 20000, "5.2"), (640, 360, 25, 30000, "4.1"), (176, 144, 15, 60, "1.0"),
            # each limit by itself: macroblocks a second, in a picture, along a side, and the bitrate
            (1280, 720, 30.01, 2000, "3.2"), (1296, 720, 1, 100, "3.2"), (2704, 16, 1, 100, "3.1"), (2720, 16, 1, 100, "3.2"), (640, 360, 25, 12000, "3.0"),
            (640, 360, 25, 12001, "3.1"),
        ):  # fmt: skip
            found = reader.lowest_level(width, height, rate, bitrate, "main")
            self.assertEqual(found, level, (width, height, rate, bitrate))
        self.assertEqual(reader.lowest_level(640, 360, 25, 15000, "high"), "3.0", "high carries 1.25 times as much")
        self.assertEqual(reader.lowest_level(1280, 720, 25, 1000, "main", references=5), "3.1")
        self.assertEqual(reader.lowest_level(1280, 720, 25, 1000, "main", references=6), "4.0", "and references")
        with self.assertRaisesRegex(BitstreamError, "no H.264 level"):
            reader.lowest_level(8192, 4320, 300, 100, "main")

    def test_a_decoder_configuration_survives_the_round_trip(self):
        for profile in ("baseline", "main", "high"):
            card = TestCard(CardSettings(640, 360, Fraction(25), 50, profile))
            record = h264.parse_avc_config(h264.build_avc_config(card.sps, card.pps))
            self.assertEqual((record.sps, record.pps, record.length_size), ((card.sps,), (card.pps,), 4))
        for cut in range(20):
            with self.assertRaises(BitstreamError):
                h264.parse_avc_config(h264.build_avc_config(card.sps, card.pps)[:cut])


class Units(unittest.TestCase):
    def test_emulation_prevention_goes_in_and_comes_out(self):
        for raw, escaped in (
            (b"\0\0\0\x80", b"\0\0\3\0\x80"), (b"\0\0\1\x80", b"\0\0\3\1\x80"), (b"\0\0\4\x80", b"\0\0\4\x80"),
            (b"\0\0\0\0\0\x80", b"\0\0\3\0\0\3\0\x80"), (b"\0\0\3\x80", b"\0\0\3\3\x80"), (b"\1\0\x80", b"\1\0\x80"),
        ):  # fmt: skip
            self.assertEqual(escape(raw), escaped)
            self.assertEqual(unescape(escaped), raw)
        source = random.Random(2)
        for _ in range(500):
            raw = bytes(source.choice((0, 0, 0, 1, 2, 3, 9)) for _ in range(source.randrange(30))) + b"\x80"
            self.assertEqual(unescape(escape(raw)), raw)
            self.assertNotRegex(escape(raw), rb"\0\0[\0-\2]")

    def test_slice_groups_of_every_kind_are_stepped_over(self):
        rest = ue(0) + ue(0) + "000" + se(0) + se(0) + se(-2) + "1" + "0"
        maps = {
            0: ue(5) + ue(6) + ue(7), 1: "", 2: ue(1) + ue(9) + ue(20) + ue(30), 3: "1" + ue(11), 4: "0" + ue(12), 5: "1" + ue(13),
            6: ue(11) + u(0x1B1B1B, 24),
        }  # fmt: skip
        for kind, digits in maps.items():
            for redundant in "01":
                pps = h264.parse_pps(b"\x68" + stop(ue(3) + ue(1) + "1" + "1" + ue(2) + ue(kind) + digits + rest + redundant))
                self.assertEqual((pps.id, pps.sps_id, pps.cabac, pps.order_present), (3, 1, True, True))
                self.assertEqual(pps.redundant_present, redundant == "1", kind)
        plain = h264.parse_pps(b"\x68" + stop(ue(0) + ue(0) + "0" + "0" + ue(0) + rest + "1"))
        self.assertEqual((plain.cabac, plain.redundant_present), (False, True))

    def test_marks_that_forget_all_that_was_before(self):
        sps = h264.parse_sps(TestCard(CardSettings(96, 64, Fraction(25), 10)).sps)  # frame_num of 8 bits, order type 2
        pps = h264.parse_pps(b"\x68" + stop(ue(0) + ue(0) + "00" + ue(0) + ue(0) * 2 + "000" + se(0) * 3 + "000"))
        start = ue(0) + ue(7) + ue(0) + u(1, 8)
        one, two, both = ue(1) + ue(4), ue(2) + ue(0), ue(3) + ue(1) + ue(0)
        for marks, forgets in (
            ("0", False), ("1" + ue(0), False), ("1" + ue(5) + ue(0), True), ("1" + one + two + ue(5) + ue(0), True),
            ("1" + both + ue(5) + ue(0), True), ("1" + both + ue(0) + ue(5), False), ("1" + ue(4) + ue(2) + ue(6) + ue(0) + ue(0), False),
            ("1" + ue(6) + ue(0) + ue(5) + ue(0), True), ("1" + one + ue(0), False),
        ):  # fmt: skip
            slice_ = stop(start + marks + ue(0) * 4)
            self.assertEqual(h264.parse_slice(b"\x61" + slice_, sps, pps).forgets, forgets, marks)
            self.assertFalse(h264.parse_slice(b"\x01" + slice_, sps, pps).forgets, "not kept to refer to")
        predicted = stop(ue(0) + ue(5) + ue(0) + u(1, 8) + "1" + ue(5) + ue(0))
        self.assertFalse(h264.parse_slice(b"\x61" + predicted, sps, pps).forgets)

    def test_slice_headers_of_fields(self):
        digits = u(100, 8) + u(0, 8) + u(40, 8) + ue(0) + ue(1) + ue(0) + ue(0) + "00" + ue(0) + ue(0) + ue(0) + ue(1)
        sps = h264.parse_sps(b"\x67" + stop(digits + "0" + ue(119) + ue(33) + "0" + "0" + "1" + "0" + "0"))
        header = h264.parse_slice(b"\x65" + pack(ue(0) + ue(7) + ue(0) + u(3, 4) + "1" + "1" + ue(6)), sps)
        self.assertEqual((header.field, header.bottom, header.frame_number, header.idr_id), (True, True, 3, 6))
        self.assertEqual(header.type, h264.I)

    def test_sei_messages(self):
        nal = b"\x06" + bytes([5, 255, 3]) + bytes(258) + bytes([6, 1, 0x84]) + b"\x80"
        self.assertEqual([(kind, len(payload)) for kind, payload in h264.parse_sei(escape(nal))], [(5, 258), (6, 1)])
        self.assertEqual(list(h264.parse_sei(b"\x06\x05\x20ab")), [])
