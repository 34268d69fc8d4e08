"""What is sent as RTP, taken apart again by the payload formats' own text (RFC 6184, 5.7 and 5.8; RFC 7798, 4.4), not by our reader."""

from __future__ import annotations

import random
import unittest
from fractions import Fraction

from direkt.media import Format
from direkt.protocol.rtp.sender import Encoding, Sender, Style


def units_of(payloads: list[bytes], header: int) -> tuple[list[bytes], list[bytes]]:
    """The NAL units of one picture's payloads, and the heads of those that hold several or a part."""
    out, heads, open_ = [], [], b""
    for payload in payloads:
        kind = payload[0] & 31 if header == 1 else payload[0] >> 1 & 63
        if kind == (24 if header == 1 else 48):
            heads.append(payload[:header])
            at = header
            while at < len(payload):
                size = payload[at] << 8 | payload[at + 1]
                out.append(payload[at + 2 : at + 2 + size])
                at += 2 + size
        elif kind == (28 if header == 1 else 49):
            heads.append(payload[:header])
            flags = payload[header]
            if flags & 0x80:
                inner = flags & (31 if header == 1 else 63)
                open_ = bytes([payload[0] & 0xE0 | inner]) if header == 1 else bytes([payload[0] & 0x81 | inner << 1, payload[1]])
            open_ += payload[header + 1 :]
            if flags & 0x40:
                out.append(open_)
        else:
            out.append(payload)
    return out, heads


class Pictures(unittest.TestCase):
    def sent(self, codec: str, units: list[bytes], style: Style) -> list[bytes]:
        sender = Sender.__new__(Sender)  # without a configuration record: what is sent of a picture needs none
        sender.encoding, sender._style, sender._format = Encoding(96, codec.upper(), 90000, 1), style, Format("video", codec, Fraction(1, 90000))
        sender.ssrc, sender.first, sender.sequence, sender.packets, sender.octets, sender._sets = 7, 0, 0, 0, 0, []
        data = b"".join(len(unit).to_bytes(4, "big") + unit for unit in units)
        return [packet[12:] for packet in sender.send(data, 0)]

    def test_units_come_back_as_they_were(self) -> None:
        source = random.Random(6)
        for codec, header, kinds in (("h264", 1, range(1, 13)), ("h265", 2, range(40))):
            for _ in range(60):
                units = []
                for _ in range(source.randrange(1, 8)):
                    size = source.choice([3, 20, 199, 200, 201, 1399, 1400, 1401, 5000])
                    kind = source.choice(list(kinds))
                    front = bytes([source.randrange(4) << 5 | kind]) if header == 1 else bytes([kind << 1 | source.randrange(2), source.randrange(1, 256)])
                    units.append(front + source.randbytes(size))
                style = Style(together=True)
                payloads = self.sent(codec, units, style)
                got, heads = units_of(payloads, header)
                self.assertEqual(got, units)
                self.assertLessEqual(max(map(len, payloads)), max(style.largest, 1500))
                for head in heads:
                    self.assertEqual(head[0] & 0x80, 0, "the forbidden bit")

    def test_several_units_together_are_worth_as_much_as_the_best_of_them(self) -> None:
        """RFC 6184, 5.7.1: nal_ref_idc of the packet is the greatest of its units'."""
        payloads = self.sent("h264", [b"\x06abc", b"\x67def", b"\x28ghi", b"\x65" + b"x" * 300], Style(together=True))
        self.assertEqual(payloads[0][0], 0x60 | 24)
        # RFC 7798, 4.4.2: of H.265 the lowest layer, and the lowest sub-layer
        payloads = self.sent("h265", [b"\x41\x0babc", b"\x40\x12def", b"\x26\x01" + b"x" * 300], Style(together=True))
        self.assertEqual(payloads[0][:2], bytes([48 << 1, 2 << 3 | 2]))


if __name__ == "__main__":
    unittest.main()
