"""H.265 headers on units written bit by bit, and the test card in a decoder that shares no code with us."""

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

from direkt.codec import h265, h265_syntax
from direkt.codec.bits import BitstreamError, escape, pack, se, stop, u, ue
from direkt.codec.h265_card import H265Card
from direkt.codec.reader import Join, Parity, Scan
from direkt.codec.testcard import CardSettings
from direkt.measure.meter import Meter
from direkt.media import Format, Framing, batch

PTL = "00" + "0" + u(1, 5) + u(0x60000000, 32) + u(0b1001 << 44, 48) + u(123, 8)


def header(kind):
    return bytes([kind << 1, 1])


def sps(*, sets="1", vui="", layers=1, ptl=PTL, width=1920, height=1088, crop=(0, 0, 0, 4), chroma=1, lists="0", number=0):
    """By 7.3.2.2, in the standard's order."""
    digits = u(0, 4) + u(layers - 1, 3) + "1" + ptl
    if layers > 1:
        digits += "11" * (layers - 1) + "00" * (9 - layers) + (u(0, 88) + u(90, 8)) * (layers - 1)
    digits += ue(number) + ue(chroma) + ue(width) + ue(height) + "1" + "".join(map(ue, crop))
    digits += ue(0) + ue(0) + ue(4) + "1" + (ue(4) + ue(2) + ue(0)) * layers
    digits += ue(0) + ue(3) + ue(0) + ue(3) + ue(0) + ue(0) + lists + "11" + "0" + sets
    digits += "1" + ue(1) + u(5, 8) + "1" + "11" + ("1" + vui if vui else "0") + "0"
    return header(33) + escape(stop(digits))


def vui(*, field="0", structs="0", hrd="0", timing=(1001, 60000)):
    digits = "1" + u(255, 8) + u(4, 16) + u(3, 16) + "0" + "1" + u(5, 3) + "1" + "1" + u(9, 8) + u(16, 8) + u(9, 8)
    digits += "0" + "0" + field + structs + "0"
    return digits + "1" + u(timing[0], 32) + u(timing[1], 32) + "0" + hrd + "0"


PPS = header(34) + stop(ue(0) + ue(0) + "1" + "0" + u(2, 3) + "0" * 20)
VPS = header(32) + b"\x0c\x01" + bytes(18) + b"\x80"


def slice_(kind, type_, *, first=True, dependent=False, address=1, blocks=510, body=bytes(60)):
    """A slice segment's beginning (7.3.6.1), for PPS: dependent segments, two extra bits."""
    digits = "1" if first else "0"
    digits += "0" if 16 <= kind <= 23 else ""
    digits += ue(0)
    if not first:
        digits += ("1" if dependent else "0") + u(address, (blocks - 1).bit_length())
    if not dependent:
        digits += "00" + ue(type_)
    return header(kind) + escape(pack(digits + "1")) + body


def read(units, *, sets=(VPS, None, PPS), sps_=None, meter=False):
    reader = h265.Reader(lambda text: remarks.append(text))
    remarks = []
    for unit in (VPS, sps_ or sps(), PPS):
        reader._take(unit)
    data = [b"".join(len(n).to_bytes(4, "big") + n for n in group) for group in units]
    count = list(range(len(data)))
    return reader.read(batch("video", data, count, count, [False] * len(data))), reader


class Sets(unittest.TestCase):
    def test_sizes_rates_and_colours(self):
        found = h265_syntax.parse_sps(sps(vui=vui()))
        self.assertEqual((found.width, found.height, found.coded_width, found.coded_height), (1920, 1080, 1920, 1088))
        self.assertEqual((found.profile, found.level, found.references, found.reorder), ("main", "4.1", 4, 2))
        self.assertEqual((found.frame_rate, found.sample_aspect), (Fraction(60000, 1001), (4, 3)))
        self.assertEqual((found.full_range, found.primaries, found.transfer, found.matrix), (True, 9, 16, 9))
        self.assertEqual((found.block_size, found.blocks), (64, 510))

    def test_what_stands_in_front_may_be_long(self):
        lists = "1" + "1" + ("0" + ue(0)) * 3 + ("1" + se(3) * 16) * 3 + ("1" + se(-2) * 64) * 6
        lists += ("1" + se(8) + se(1) * 64) * 6 + ("1" + se(8) + se(1) * 64) * 2
        # the second set is told by what differs from the first: it keeps two of three distances
        first = ue(2) + ue(1) + ue(0) + "1" + ue(1) + "1" + ue(0) + "1"
        second = "1" + "1" + ue(0) + "1" + "01" + "00" + "1"
        third = "1" + "0" + ue(0) + "1" * 4
        for sets in (ue(0), ue(1) + first, ue(2) + first + second, ue(3) + first + second + third):
            for layers in (1, 3):
                found = h265_syntax.parse_sps(sps(sets=sets, lists=lists, layers=layers, vui=vui()))
                self.assertEqual((found.frame_rate, found.sub_layers, found.primaries), (Fraction(60000, 1001), layers, 9))

    def test_promised_rates(self):
        hrd = ("1" + "1" + "0" + "0" + u(2, 4) + u(3, 4) + u(23, 5) * 3 + "1" + ue(0) + ue(0) + ue(15624) + ue(31249) + "1")
        found = h265_syntax.parse_sps(sps(vui=vui(hrd=hrd)))
        self.assertEqual(found.hrd, h265_syntax.HevcHrd(15625 << 8, 31250 << 7, True))

    def test_profiles_and_levels(self):
        for code, compatible, profile in ((1, 0, "main"), (2, 0, "main10"), (4, 0, "other"), (3, 0, "main-still"), (0, 1 << 29, "main10")):
            ptl = "00" + "0" + u(code, 5) + u(compatible, 32) + u(0, 48) + u(156, 8)
            found = h265_syntax.parse_sps(sps(ptl=ptl))
            self.assertEqual((found.profile, found.level), (profile, "5.2"))
        # Table A.2: the constraint flags from max_12bit to intra, of each profile by hand
        for flags, profile in (
            ("1001100", "main12"), ("1101000", "main422-10"), ("1001000", "main422-12"), ("1110000", "main444"), ("1100000", "main444-10"),
            ("1000000", "main444-12"), ("1111110", "monochrome"), ("1001110", "monochrome-12"), ("1111101", "main-intra"),
            ("1101101", "main10-intra"), ("1101001", "main422-10-intra"), ("0000001", "main444-16-intra"), ("0000110", "monochrome-16"),
        ):  # fmt: skip
            ptl = "00" + "0" + u(4, 5) + u(1 << 27, 32) + "1001" + flags + "01" + u(0, 35) + u(120, 8)
            self.assertEqual(h265_syntax.parse_sps(sps(ptl=ptl)).profile, profile)
        for kbit, tier, level in ((12000, "main", "4.0"), (30000, "high", "4.0"), (30000, "main", "5.1"), (30000, "", "4.0")):
            self.assertEqual(h265.lowest_level(1920, 1080, 30, kbit, "main", 1, tier), level, (kbit, tier))
        self.assertEqual(h265.lowest_level(1920, 1080, 30, 20000, "main422-10", 1, "main"), "4.0")
        for size, rate, rate_kbit, level in (
            ((1920, 1080), 30, 6000, "4.0"), ((1920, 1080), 60, 6000, "4.1"), ((3840, 2160), 30, 20000, "5.0"),
            ((3840, 2160), 60, 30000, "5.1"), ((1280, 720), 30, 9000, "3.1"), ((1280, 720), 30, 12000, "4.0"),
        ):  # fmt: skip
            self.assertEqual(h265.lowest_level(*size, rate, rate_kbit, "main"), level)
        with self.assertRaises(BitstreamError):
            h265.lowest_level(20000, 20000, 30, 1000, "main")

    def test_bad_ones_end_in_words(self):
        good = sps(vui=vui())
        for cut in range(len(good)):
            try:
                h265_syntax.parse_sps(good[:cut])
            except BitstreamError:
                continue
        for bad in (sps(width=0), sps(crop=(2000, 0, 0, 0)), sps(sets=ue(65)), sps(sets=ue(1) + ue(17) + ue(0)), sps(number=16)):
            with self.assertRaises(BitstreamError):
                h265_syntax.parse_sps(bad)

    def test_the_record_both_ways(self):
        made = h265_syntax.configuration_of([PPS, VPS, sps()])
        # ISO/IEC 14496-15, 8.3.3.1.2, field by field
        self.assertEqual(made[:2] + made[12:13] + made[21:23], b"\x01\x01\x7b\x0f\x03")
        self.assertEqual(h265_syntax.parse_hevc_config(made).units, (VPS, sps(), PPS))
        self.assertEqual(h265_syntax.configuration_of([PPS, sps()]), b"")
        for cut in range(len(made)):
            with self.assertRaises(BitstreamError):
                h265_syntax.parse_hevc_config(made[:cut])


class Pictures(unittest.TestCase):
    def test_kinds_of_pictures_slices_and_dependent_segments(self):
        found, _ = read(
            [
                [slice_(19, 2), slice_(19, 2, first=False, address=200)],
                [slice_(1, 1), slice_(1, 1, first=False, dependent=True), slice_(1, 0, first=False, address=300)],
                [slice_(21, 2)], [slice_(8, 0)], [slice_(0, 0)], [slice_(16, 2)], [slice_(20, 2)],
            ]
        )  # fmt: skip
        self.assertEqual(found.first.tolist(), [0, 1, 2, 3, 4, 5, 6])
        self.assertEqual(found.join.tolist(), [Join.KEYFRAME, 0, Join.RECOVERY, 0, 0, Join.KEYFRAME, Join.KEYFRAME])
        self.assertEqual(found.slices.tolist(), [2, 2, 1, 1, 1, 1, 1])
        self.assertEqual(found.bipredicted.tolist(), [False, True, False, True, True, False, False])
        self.assertEqual(found.anchor.tolist(), [False, False, True, False, False, False, False])
        self.assertEqual(found.damaged, 0)

    def test_recovery_points_and_fields(self):
        point = header(39) + b"\x06\x01\xc4\x80"
        top = header(39) + b"\x01\x01\x10\x80"
        bottom = header(39) + b"\x01\x01\x20\x80"
        with_structs = sps(vui=vui(field="1", structs="1"))
        found, _ = read([[point, top, slice_(1, 1)], [bottom, slice_(1, 1)]], sps_=with_structs)
        self.assertEqual(found.join.tolist(), [Join.RECOVERY], "two fields are one picture")
        self.assertEqual((found.scan.tolist(), found.parity.tolist()), ([Scan.FIELDS], [Parity.UNKNOWN]))
        interlaced = "00" + "0" + u(1, 5) + u(0x60000000, 32) + u(0b0101 << 44, 48) + u(123, 8)
        found, _ = read([[slice_(1, 1)]], sps_=sps(ptl=interlaced))
        self.assertEqual(found.scan.tolist(), [Scan.FIELDS])

    def test_fields_are_halves_of_pictures(self):
        def field(kind, structure, *, low=1):
            return [header(39) + bytes([1, 1, structure << 4, 0x80]), slice_(kind, 2 if kind == 19 else low)]

        with_structs = sps(vui=vui(field="1", structs="1"))
        order = [(19, 1), (1, 2), (1, 1), (1, 2), (1, 1), (1, 2)]
        found, _ = read([field(*one) for one in order], sps_=with_structs)
        self.assertEqual((found.first.tolist(), found.parity.tolist()), ([0, 2, 4], [Parity.TOP] * 3))
        self.assertEqual(found.join.tolist(), [Join.KEYFRAME, 0, 0])
        found, _ = read([field(*one) for one in [(1, 2), *order, (1, 1)]], sps_=with_structs)
        self.assertEqual(found.first.tolist(), [0, 1, 3, 5, 7], "one that is cut in front, one at the end")
        self.assertEqual(found.parity.tolist()[1:], [Parity.TOP] * 4)
        meter = Meter()
        meter.add(Format("video", "h265", Fraction(1, 50), Framing.LENGTHS, h265_syntax.configuration_of([VPS, with_structs, PPS])))
        data = [b"".join(len(n).to_bytes(4, "big") + n for n in field(*order[n % 6])) for n in range(60)]
        meter.add(batch("video", data, list(range(60)), list(range(60)), [n % 6 == 0 for n in range(60)]))
        values = meter.snapshot().values
        self.assertEqual((values["video.frame_rate"], values["video.scan"], values["video.field_order"]), (25.0, "interlaced", "top"))
        self.assertEqual((values["video.keyframe_interval.median"], values["video.tier"]), (0.12, "main"))
        plain = h265_syntax.parse_sps(with_structs)
        self.assertEqual(values["video.size"], f"{plain.width}x{2 * plain.height}")

    def test_units_of_other_layers_are_no_pictures(self):
        def layer(unit, number):
            return bytes([unit[0] | number >> 5, unit[1] | (number & 31) << 3]) + unit[2:]

        other = layer(slice_(1, 1), 1)
        found, _ = read([[slice_(19, 2), layer(slice_(19, 2), 1)], [slice_(1, 1), other], [slice_(1, 1), other], [layer(sps(), 40), slice_(1, 1)]])
        self.assertEqual((found.first.tolist(), found.slices.tolist()), ([0, 1, 2, 3], [1, 1, 1, 1]))
        found, _ = read([[slice_(19, 2)], [other], [slice_(1, 1)], [other]])
        self.assertEqual(found.first.tolist(), [0, 2], "also in samples of their own")

    def test_open_groups(self):
        meter = Meter()
        config = h265_syntax.configuration_of([VPS, sps(), PPS])
        meter.add(Format("video", "h265", Fraction(1, 25), Framing.LENGTHS, config))
        rows = [(19, 2, 0), (1, 1, 1), (1, 1, 2), (21, 2, 5), (8, 0, 3), (8, 0, 4), (1, 1, 6), (1, 1, 7)]
        data = [b"".join(len(n).to_bytes(4, "big") + n for n in [slice_(k, t)]) for k, t, _ in rows]
        meter.add(batch("video", data, [n - 2 for n in range(8)], [p for _, _, p in rows], [k == 19 for k, _, _ in rows]))
        v = meter.snapshot().values
        self.assertEqual((v["video.gop_closed"], v["video.b_frames"], v["video.frame_rate"]), ("no", 2, 25.0))

    def test_start_codes_and_sets_in_the_stream(self):
        reader = h265.Reader(lambda text: None)
        reader.configure(Format("video", "h265", Fraction(1, 25), Framing.START_CODES))
        data = b"".join(b"\0\0\0\1" + n for n in (VPS, sps(vui=vui()), PPS, slice_(19, 2)))
        found = reader.read(batch("video", [data], [0], [0], [True]))
        self.assertEqual((found.join.tolist(), reader.declared.values["video.size"]), ([Join.KEYFRAME], "1920x1080"))


class Card(unittest.TestCase):
    def test_a_vision_package_decodes_it_as_it_was_drawn(self):
        import cv2

        for width, height, rate in ((640, 360, 25), (1280, 720, 50), (322, 242, 30)):
            card = H265Card(CardSettings(width, height, Fraction(rate), 12, "main", 900, "cbr"))
            pictures = [card.next() for _ in range(40)]
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "a.h265"
                path.write_bytes(b"".join(b"\0\0\0\1" + nal for p in pictures for nal in p.nals))
                video = cv2.VideoCapture(str(path))
                shown = []
                while (got := video.read())[0]:
                    shown.append(got[1])
            self.assertEqual((len(shown), shown[0].shape[:2]), (40, (height, width)))
            for image in shown:
                # bars from 7 (Y, Cb and Cr of 128) down to 0, in the top row of blocks
                self.assertEqual(image[4, 4].tolist(), [130, 130, 130])
                self.assertTrue((image[4, width - 4] < [60, 180, 60]).all())
            # the block that moves is not the bar below it
            row = (-(-height // 32) // 2) * 32 + 8
            if row < height:
                for n in (0, 5, 11, 12, 20):
                    at = (n % 12) % -(-width // 32) * 32 + 8
                    self.assertNotEqual(shown[n][row, at].tolist(), shown[n][4, at].tolist(), n)

    def test_it_measures_as_it_was_made(self):
        card = H265Card(CardSettings(640, 360, Fraction(25), 50, "main", 1500, "cbr"))
        pictures = [card.next() for _ in range(200)]
        meter = Meter()
        meter.add(Format("video", "h265", Fraction(1, 25), Framing.LENGTHS, card.configuration))
        at = list(range(200))
        meter.add(batch("video", [p.length_prefixed() for p in pictures], at, at, [p.keyframe for p in pictures]))
        m = meter.snapshot()
        self.assertEqual(
            [
                m.values[f"video.{n}"]
                for n in ("codec", "profile", "size", "keyframe_interval.max", "bitrate.mean", "scan", "moving", "level")
            ],
            ["h265", "main", "640x360", 2.0, 1500.0, "progressive", "yes", "2.1"],
        )
        self.assertEqual((m.remarks, m.differences), ((), ()))


if __name__ == "__main__":
    unittest.main()
