import unittest

from direkt.codec.bits import BitReader, BitstreamError, pack, se, stop, u, ue


class Bits(unittest.TestCase):
    def test_exp_golomb_codes_are_those_of_the_standard(self):
        # H.264 Table 9-2 and Table 9-3
        self.assertEqual([ue(n) for n in range(5)], ["1", "010", "011", "00100", "00101"])
        self.assertEqual([se(n) for n in (0, 1, -1, 2, -2)], ["1", "010", "011", "00100", "00101"])

    def test_what_is_written_is_read(self):
        digits = "".join(ue(n) for n in range(300)) + "".join(se(n) for n in range(-150, 150)) + u(5, 7)
        reader = BitReader(pack(digits))
        self.assertEqual([reader.ue() for _ in range(300)], list(range(300)))
        self.assertEqual([reader.se() for _ in range(300)], list(range(-150, 150)))
        self.assertEqual(reader.u(7), 5)

    def test_the_end_is_an_error_not_zeros(self):
        reader = BitReader(b"\x80")
        reader.u(8)
        with self.assertRaisesRegex(BitstreamError, "1 bits too early"):
            reader.u(1)
        with self.assertRaises(BitstreamError):
            BitReader(bytes(20)).ue()

    def test_trailing_bits(self):
        self.assertEqual(stop("101"), b"\xb0")
