import random
import unittest

from direkt.protocol import amf


class Amf0(unittest.TestCase):
    def test_bytes_of_the_specification(self):
        self.assertEqual(amf.encode_value(1.5), bytes.fromhex("003ff8000000000000"))
        self.assertEqual(amf.encode_value("ab"), bytes.fromhex("0200026162"))
        self.assertEqual(amf.encode_value({"a": True}), bytes.fromhex("030001610101000009"))
        self.assertEqual(amf.encode_value(None), b"\x05")
        self.assertEqual(amf.encode_value(amf.EcmaArray(a=None)), bytes.fromhex("080000000100016105000009"))

    def test_round_trip(self):
        value = {"n": -3.25, "s": "ü" * 40, "l": [1.0, "x", None, {"d": False}], "long": "y" * 70000}
        self.assertEqual(amf.decode(amf.encode(["connect", 1.0, value])), ["connect", 1.0, value])

    def test_types_that_are_only_read(self):
        self.assertEqual(amf.decode(bytes.fromhex("0b40000000000000000000")), [2.0])  # date
        self.assertEqual(amf.decode(bytes.fromhex("100001630001610101000009")), [{"a": True}])  # typed object
        self.assertEqual(amf.decode(bytes.fromhex("0a00000002 03000009 07 0001".replace(" ", ""))), [[{}, {}]])
        self.assertEqual(amf.decode(b"\x06\x0d"), [None, None])

    def test_damage_is_named_with_its_byte_and_nothing_grows(self):
        for data, words in (
            (b"\x00\x01", "8 bytes wanted at byte 1"), (b"\x02\xff\xff", "65535 bytes"), (b"\x0a\xff\xff\xff\xff", "4294967295"),
            (b"\x63", "marker 99 at byte 0"), (b"\x0a\0\0\0\1" * 40, "deeper"), (b"\x07\0\5", "reference"),
        ):  # fmt: skip
            with self.assertRaisesRegex(amf.AmfError, words):
                amf.decode(data)
        source = random.Random(5)
        for _ in range(3000):
            data = bytes(source.choice((0, 1, 2, 3, 8, 9, 10, 11, 17, 255)) for _ in range(source.randrange(40)))
            for decode in (amf.decode, amf.decode3):
                try:
                    decode(data)
                except amf.AmfError:
                    continue


class Amf3(unittest.TestCase):
    def test_round_trip_through_the_switch(self):
        value = {"a": [1, 2.5, "x"], "b": True, "c": None, "e": b"raw"}
        found = amf.decode(b"\x11" + amf.encode_value3(value))
        self.assertEqual(found, [{"a": [1.0, 2.5, "x"], "b": True, "c": None, "e": b"raw"}])

    def test_integers_at_the_borders_of_their_lengths(self):
        # U29 of the AMF3 specification, 1.3.1: seven bits in each byte, eight in the fourth
        for number, data in (
            (0x7F, "7f"), (0x80, "8100"), (0x3FFF, "ff7f"), (0x4000, "818000"), (0x1FFFFF, "ffff7f"), (0x200000, "80c08000"),
            (0x212345, "80c2a345"), (0xFFFFFFF, "bfffffff"),
        ):  # fmt: skip
            self.assertEqual(amf.encode_value3(number).hex(), "04" + data, number)
            self.assertEqual(amf.decode(b"\x11\x04" + bytes.fromhex(data)), [float(number)])

    def test_a_command_message_with_its_format_byte(self):
        data = b"\x00" + amf.encode(["connect", 1.0]) + b"\x11" + amf.encode_value3({"app": "live"})
        self.assertEqual(amf.decode3(data), ["connect", 1.0, {"app": "live"}])

    def test_references_and_traits(self):
        # 09 05 01: array of two, no names; 06 05 "ab"; 06 00: the first string again
        self.assertEqual(amf.decode(bytes.fromhex("11090501060561620600")), [["ab", "ab"]])
        # two objects: 0a 13 01 03 "k": traits with the one name k; 0a 01: the first traits again
        two = bytes.fromhex("110905010a1301036b04010a010402")
        self.assertEqual(amf.decode(two), [[{"k": 1.0}, {"k": 2.0}]])

    def test_every_type_of_amf3(self):
        for data, wanted in (
            ("00", None), ("01", None), ("02", False), ("03", True), ("0405", 5.0), ("053ff8000000000000", 1.5), ("06056162", "ab"),
            ("07056162", "ab"), ("0b056162", "ab"), ("0c056162", b"ab"), ("0801" + "4000000000000000", 2.0), ("090301" + "0405", [5.0]),
            ("09010361" + "0405" + "01", {"a": 5.0}), ("09030361" + "0405" + "01" + "03", {"a": 5.0, "0": True}),
            ("0a0b01" + "0361" + "0405" + "01", {"a": 5.0}), ("0a13010361" + "0405", {"a": 5.0}), ("0a1b010361" + "0405" + "0362" + "03" + "01", {"a": 5.0, "b": True}),
        ):  # fmt: skip
            self.assertEqual(amf.decode(b"\x11" + bytes.fromhex(data)), [wanted], data)
            again = amf.decode3(bytes.fromhex("00" + "11" + data + "11" + data))
            self.assertEqual(again, [wanted, wanted], data)
        for marker in (13, 14, 255):
            with self.assertRaisesRegex(amf.AmfError, f"AMF3 marker {marker} at byte 1"):
                amf.decode(bytes([0x11, marker, 1]))
        # references count objects of every kind: text of XML, bytes, dates, arrays
        self.assertEqual(
            amf.decode(bytes.fromhex("11090b01" + "07056162" + "0c036b" + "0b036d" + "0702" + "0c04")),
            [["ab", b"k", "m", "ab", b"k"]],
        )

    def test_depth_is_bounded_in_every_kind_of_nest(self):
        for nest in (
            "0a0b010361",
            "09010361",
            "090301",
            "0a1301036b",
            "0a0b01036b",
        ):  # dynamic, named, listed, with traits
            data = bytes.fromhex("11" + nest * 5000)
            with self.assertRaisesRegex(amf.AmfError, "deeper", msg=nest):
                amf.decode(data)
        for nest in ("0a00000001", "0300016b", "080000000000016b", "1000016300016b"):
            with self.assertRaisesRegex(amf.AmfError, "deeper", msg=nest):
                amf.decode(bytes.fromhex(nest * 5000))

    def test_negative_numbers_and_dates(self):
        self.assertEqual(amf.decode(b"\x11\x04\xff\xff\xff\xff"), [-1.0])
        self.assertEqual(amf.decode(b"\x11\x08\x01" + bytes.fromhex("4000000000000000")), [2.0])
