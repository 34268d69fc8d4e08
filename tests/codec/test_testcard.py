import itertools
import math
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import cv2

from direkt.codec import h264_syntax as h264
from direkt.codec.bits import BitReader, BitstreamError
from direkt.codec.testcard import CardSettings, TestCard


def decode(data: bytes):
    """Pictures as an independent decoder sees them."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "card.h264"
        path.write_bytes(data)
        capture = cv2.VideoCapture(str(path))
        pictures = []
        while True:
            good, image = capture.read()
            if not good:
                return pictures
            pictures.append(image)


def byte_stream(picture) -> bytes:
    """In byte stream format (H.264, Annex B)."""
    return b"".join(b"\0\0\0\1" + nal for nal in picture.nals)


class Decoded(unittest.TestCase):
    def check(self, settings: CardSettings, count: int) -> None:
        card = TestCard(settings)
        pictures = decode(b"".join(byte_stream(card.next()) for _ in range(count)))
        self.assertEqual(len(pictures), count)
        for index, image in enumerate(pictures):
            self.assertEqual(image.shape, (settings.height, settings.width, 3))
            self.check_card(card, image, index)

    def check_card(self, card: TestCard, image, index: int) -> None:
        """Every macroblock in the middle of the card has the luma that the writer meant."""
        luma = cv2.cvtColor(image, cv2.COLOR_BGR2GRAY)
        columns, rows = card.settings.width // 16, card.settings.height // 16
        for y in range(min(rows, card._card_rows)):
            for x in range(0, columns, 3):
                wanted = (card.colour_at(x, y, index)[0] - 16) * 255 / 219
                block = luma[y * 16 + 8, x * 16 + 8]
                # grey from RGB is only near to the coded luma for strong colours
                chroma = max(abs(c - 128) for c in card.colour_at(x, y, index)[1:])
                if chroma < 8:
                    self.assertLess(abs(int(block) - wanted), 5, (index, x, y))

    def test_every_profile_size_and_rate_decodes_to_the_card(self):
        self.check(CardSettings(640, 360, Fraction(25), 10, "baseline", 800, "cbr"), 30)
        self.check(CardSettings(1280, 720, Fraction(30000, 1001), 15, "main", 2000, "cbr"), 32)
        self.check(CardSettings(1920, 1080, Fraction(50), 20, "high", 12000, "vbr"), 41)
        self.check(CardSettings(638, 362, Fraction(60), 7, "high"), 15)
        self.check(CardSettings(16, 16, Fraction(10), 5, "main"), 12)
        self.check(CardSettings(18, 400, Fraction(24), 100, "constrained-baseline"), 12)

    def test_the_bars_are_those_of_three_quarters_colour(self):
        high = [
            (180, 128, 128), (168, 44, 136), (145, 147, 44), (133, 63, 52), (63, 193, 204), (51, 109, 212), (28, 212, 120),
            (16, 128, 128),
        ]
        standard = [
            (180, 128, 128), (162, 44, 142), (131, 156, 44), (112, 72, 58), (84, 184, 198), (65, 100, 212), (35, 212, 114),
            (16, 128, 128),
        ]
        for height, wanted in ((720, high), (576, standard)):
            card = TestCard(CardSettings(1280, height, Fraction(25), 10, "high"))
            for n, colour in enumerate(wanted):
                found = card.colour_at(n * 10 + 5, 3, 0)
                self.assertTrue(all(abs(a - b) <= 1 for a, b in zip(found, colour, strict=True)), (n, found, colour))
        pictures = decode(byte_stream(TestCard(CardSettings(640, 360, Fraction(25), 10, "high")).next()))
        for n, bgr in enumerate(
            ((191,) * 3, (0, 191, 191), (191, 191, 0), (0, 191, 0), (191, 0, 191), (0, 0, 191), (191, 0, 0), (0,) * 3)
        ):
            seen = pictures[0][40, n * 80 + 40]
            self.assertTrue(all(abs(int(a) - b) < 12 for a, b in zip(seen, bgr, strict=True)), (n, seen, bgr))

    def test_the_marker_moves_and_the_count_counts(self):
        for width, height, count in ((640, 360, 85), (1920, 1080, 9), (1280, 720, 20), (160, 96, 25), (96, 64, 9)):
            self.check_motion(TestCard(CardSettings(width, height, Fraction(25), 100, "high")), width // 16, count)

    def check_motion(self, card: TestCard, columns: int, count: int) -> None:
        pictures = decode(b"".join(byte_stream(card.next()) for _ in range(count)))
        self.assertEqual(len(pictures), count)
        marker = card._still_rows * 16 + 8
        counter = (card._still_rows + card._marker_rows) * 16 + 4
        bits = min(24, columns - 2)
        wide = (columns - 2) // bits
        left = (columns - wide * bits) // 2
        for index, image in enumerate(pictures):
            row = cv2.cvtColor(image, cv2.COLOR_BGR2GRAY)
            lit = row[marker].reshape(columns, 16).mean(axis=1) > 90
            thick = max(1, columns // 40)
            self.assertEqual(set(lit.nonzero()[0].tolist()), {(index + n) % columns for n in range(thick)}, index)
            cells = row[counter].reshape(columns, 16).mean(axis=1)
            blocks = cells[left : left + wide * bits].reshape(bits, wide)
            self.assertTrue(((blocks > 200) | (blocks < 30)).all())
            self.assertEqual(int("".join("01"[int(b[0] > 128)] for b in blocks), 2), index % (1 << bits))
            self.assertTrue(((cells[:left] > 30) & (cells[:left] < 120)).all(), "the field around the count")
            self.assertTrue(((cells[left + wide * bits :] > 30) & (cells[left + wide * bits :] < 120)).all())


class Stream(unittest.TestCase):
    def test_headers_say_what_was_asked(self):
        card = TestCard(CardSettings(1918, 1078, Fraction(30000, 1001), 60, "high", 5000, "cbr", sample_aspect=(12, 11)))
        sps = h264.parse_sps(card.sps)
        self.assertEqual((sps.width, sps.height, sps.coded_width, sps.coded_height), (1918, 1078, 1920, 1088))
        self.assertEqual((sps.profile, sps.level, sps.sample_aspect), ("high", "4.0", (12, 11)))
        self.assertEqual((sps.primaries, sps.transfer, sps.matrix, sps.full_range), (1, 1, 1, False))
        self.assertEqual(sps.frame_rate, Fraction(30000, 1001))
        self.assertTrue(sps.nal_hrd.cbr)
        self.assertEqual(sps.nal_hrd.bitrate, 5_000_000)
        self.assertFalse(h264.parse_pps(card.pps).cabac)

    def test_cbr_is_held_by_filler_at_every_picture(self):
        card = TestCard(CardSettings(1280, 720, Fraction(50), 100, "high", 3000, "cbr"))
        total = 0
        for n in range(1, 501):
            total += card.next().size
            late = total * 8 - n * 60_000
            self.assertTrue(-100 < late <= 0 if n % 100 > 5 else abs(late) < 2 * 60_000, f"{late} bits after picture {n}")
        self.assertAlmostEqual(total * 8 / 10 / 1000, 3000, delta=3)

    def test_the_hrd_is_what_the_pictures_keep(self):
        for rate, bitrate, interval in ((Fraction(50), 4321, 30), (Fraction(30000, 1001), 2500, 45)):
            card = TestCard(CardSettings(640, 360, rate, interval, "high", bitrate, "cbr"))
            hrd = h264.parse_sps(card.sps).nal_hrd
            self.assertTrue(abs(hrd.bitrate - bitrate * 1000) <= 32 and hrd.cpb_size == hrd.bitrate, hrd)
            lengths = hrd.initial_delay_length, hrd.removal_delay_length, hrd.output_delay_length
            self.assertEqual(lengths, (24, 24, 24))
            sent = 0
            for n in range(3 * interval):
                picture = card.next()
                messages = dict(h264.parse_sei(next(nal for nal in picture.nals if nal[0] & 31 == h264.SEI)))
                since = n % interval
                ticks = 2 * (since if n % interval else min(n, interval))  # Annex D: since the last buffering period
                self.assertEqual(messages[1], (ticks << 24).to_bytes(6, "big"), n)
                self.assertEqual(0 in messages, since == 0)
                if since == 0:
                    bits = int.from_bytes(messages[0], "big") >> (8 * len(messages[0]) - 49)
                    first, offset = bits >> 24 & 0xFFFFFF, bits & 0xFFFFFF
                    self.assertEqual((bits >> 48, first + offset), (1, 90000))
                    # the buffer is filled for half a second, and from then on as fast as it is emptied
                    self.assertAlmostEqual(first, 90000 * (0.5 + n / float(rate) - sent / hrd.bitrate), delta=2)
                sent += picture.size * 8

    def test_idr_pictures_in_a_row_are_told_apart(self):
        card = TestCard(CardSettings(96, 64, Fraction(25), 1, "main", 3000))
        found = []
        for _ in range(4):
            (unit,) = [nal for nal in card.next().nals if nal[0] & 31 == h264.IDR][:1]
            bits = BitReader(h264.unescape(unit[1:]))
            bits.ue(), bits.ue(), bits.ue(), bits.u(8)
            found.append(bits.ue())
        self.assertEqual([a != b for a, b in itertools.pairwise(found)], [True] * 3)

    def test_vbr_follows_its_mean_and_strays_from_it(self):
        card = TestCard(CardSettings(1280, 720, Fraction(25), 50, "high", 4000, "vbr"))
        sizes = [card.next().size for _ in range(500)]
        self.assertAlmostEqual(sum(sizes) * 8 / 20 / 1000, 4000, delta=200)
        sent = 0
        for n, size in enumerate(sizes):  # busy and quiet in turns of 5 s: 4000 x (1 + 0.35 sin(2 pi t / 5)) kbit/s
            sent += size * 8
            due = 4e6 * ((n + 1) / 25 + 0.35 * 5 / (2 * math.pi) * (1 - math.cos(2 * math.pi * n / 25 / 5)))
            settled = n % 50 > 5  # a keyframe is larger, and paid for by the pictures behind it
            self.assertLess(abs(due - sent), 4000 if settled else 3 * 4e6 / 25, n)
        seconds = [sum(sizes[n : n + 25]) * 8 / 1000 for n in range(0, 500, 25)]
        self.assertGreater(max(seconds) / min(seconds), 1.3)
        self.assertIsNone(h264.parse_sps(card.sps).nal_hrd)

    def test_keyframes_come_when_they_should_and_no_start_code_hides_in_a_unit(self):
        card = TestCard(CardSettings(320, 180, Fraction(25), 12, "main", 900, "vbr"))
        for index in range(60):
            picture = card.next()
            self.assertEqual(picture.keyframe, index % 12 == 0)
            kinds = [nal[0] & 31 for nal in picture.nals]
            self.assertEqual(h264.IDR in kinds, picture.keyframe)
            for nal in picture.nals:
                self.assertNotRegex(nal, rb"\0\0[\0-\2]")

    def test_what_cannot_be_made_is_refused_with_its_reason(self):
        for settings, words in (
            (CardSettings(641, 360, Fraction(25), 50), "width 641"), (CardSettings(640, 8, Fraction(25), 50), "height 8"),
            (CardSettings(640, 360, Fraction(0), 50), "frame rate 0"),
            (CardSettings(640, 360, Fraction(25), 0), "keyframe interval 0"),
            (CardSettings(640, 360, Fraction(25), 50, "main10"), "main10"),
            (CardSettings(640, 360, Fraction(25), 50, "main", 500, "abr"), "abr"),
            (CardSettings(1920, 1080, Fraction(25), 1, "main", 300), "at least"),
        ):
            with self.assertRaisesRegex(BitstreamError, words):
                TestCard(settings)
