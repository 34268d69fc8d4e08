"""RTP packets (RFC 3550, section 5.1): read and written."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from direkt.errors import Malformed

HEADER_SIZE = 12
_HEADER = struct.Struct(">BBHII")


class RtpError(Malformed):
    """A packet that breaks RFC 3550, or a payload that breaks its own standard."""


@dataclass(frozen=True, slots=True)
class Packet:
    """One packet without its padding, header extension and contributing sources."""

    payload_type: int  # 0 to 127
    sequence: int  # 16 bits
    timestamp: int  # 32 bits, in ticks of the payload's clock
    ssrc: int
    marker: bool
    payload: bytes


def parse(data: bytes) -> Packet:
    """A packet. Raises RtpError."""
    if len(data) < HEADER_SIZE:
        raise RtpError(f"an RTP packet of {len(data)} bytes; the header alone has 12")
    first, second, sequence, timestamp, ssrc = _HEADER.unpack_from(data)
    if first >> 6 != 2:
        raise RtpError(f"RTP version {first >> 6}; expected 2")
    begin, end = HEADER_SIZE + 4 * (first & 15), len(data)
    if first & 0x10:  # header extension, 5.3.1
        if begin + 4 > end:
            raise RtpError("an RTP packet ends in its header extension")
        begin += 4 + 4 * int.from_bytes(data[begin + 2 : begin + 4], "big")
    if first & 0x20 and end > begin:  # padding: its last byte says how much
        end -= data[-1]
    if begin > end:
        raise RtpError("an RTP packet ends before its payload begins")
    return Packet(second & 127, sequence, timestamp, ssrc, second >= 128, data[begin:end])


def build(packet: Packet) -> bytes:
    """The bytes of a packet."""
    second = packet.payload_type | (0x80 if packet.marker else 0)
    head = _HEADER.pack(0x80, second, packet.sequence & 0xFFFF, packet.timestamp & 0xFFFFFFFF, packet.ssrc & 0xFFFFFFFF)
    return head + packet.payload
