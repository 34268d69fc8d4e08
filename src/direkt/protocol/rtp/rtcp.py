"""RTCP packets (RFC 3550, section 6): sender reports, descriptions and goodbyes read; all that a receiver and a sender say, written."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from direkt.protocol.rtp.packet import RtpError

# RFC 3550, 12.1
SENDER_REPORT, RECEIVER_REPORT, DESCRIPTION, GOODBYE = 200, 201, 202, 203
_CNAME = 1  # RFC 3550, 6.5.1
_MOST = 64  # packets of a compound one that are looked at


@dataclass(frozen=True, slots=True)
class SenderReport:
    """What a sender says of itself (RFC 3550, 6.4.1)."""

    ssrc: int
    ntp: int  # wall clock, in 2^-32 s since 1900
    timestamp: int  # the same moment in the payload's ticks, 32 bits
    packets: int  # sent so far, 32 bits
    octets: int  # of payload, 32 bits


@dataclass(frozen=True, slots=True)
class Description:
    """The name that all streams of one sender share (RFC 3550, 6.5.1)."""

    ssrc: int
    cname: str


@dataclass(frozen=True, slots=True)
class Goodbye:
    """These sources end (RFC 3550, 6.6)."""

    sources: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Block:
    """What a receiver says of a source (RFC 3550, 6.4.1)."""

    ssrc: int
    fraction: int  # lost since the last report, in 256ths
    lost: int  # so far, 24 bits signed
    highest: int  # extended sequence number
    jitter: int  # ticks
    last: int  # the middle 32 bits of the last sender report's time; 0: none came
    delay: int  # since then, in 65536ths of a second


Report = SenderReport | Description | Goodbye | Block


def is_rtcp(data: bytes) -> bool:
    """Whether a packet is RTCP rather than RTP, where both come at one place (RFC 5761, 4)."""
    return len(data) >= 8 and data[0] >> 6 == 2 and 192 <= data[1] <= 223


def parse(data: bytes) -> list[Report]:
    """What a compound packet holds; kinds that nobody here needs are passed over. Raises RtpError."""
    out: list[Report] = []
    at = 0
    for _ in range(_MOST):
        if at >= len(data):
            break
        if len(data) - at < 4:
            raise RtpError("an RTCP packet ends in its header")
        first, kind, words = struct.unpack_from(">BBH", data, at)
        if first >> 6 != 2:
            raise RtpError(f"RTCP version {first >> 6}; expected 2")
        end = at + 4 + 4 * words
        if end > len(data):
            raise RtpError(f"an RTCP packet of {end - at} bytes, {len(data) - at} are there")
        body, count = data[at + 4 : end], first & 31
        if kind == SENDER_REPORT:
            if len(body) < 24:
                raise RtpError("a sender report ends too early")
            out.append(SenderReport(*struct.unpack_from(">IQIII", body)))
            out += _blocks(body[24:], count)
        elif kind == RECEIVER_REPORT:
            out += _blocks(body[4:], count)
        elif kind == DESCRIPTION:
            out += _descriptions(body, count)
        elif kind == GOODBYE and len(body) >= 4 * count:
            out.append(Goodbye(struct.unpack_from(f">{count}I", body)))
        at = end
    return out


def _blocks(body: bytes, count: int) -> list[Block]:
    found = []
    for n in range(min(count, len(body) // 24)):
        ssrc, both, *rest = struct.unpack_from(">IIIIII", body, 24 * n)
        lost = both & 0xFFFFFF
        found.append(Block(ssrc, both >> 24, lost - (1 << 24) if lost >> 23 else lost, *rest))
    return found


def _descriptions(body: bytes, count: int) -> list[Description]:
    found: list[Description] = []
    at = 0
    for _ in range(count):
        if len(body) - at < 4:
            break
        ssrc = int.from_bytes(body[at : at + 4], "big")
        at += 4
        while at < len(body) and body[at]:
            size = body[at + 1] if at + 1 < len(body) else 0
            if body[at] == _CNAME:
                found.append(Description(ssrc, body[at + 2 : at + 2 + size].decode("utf-8", "replace")))
            at += 2 + size
        at += 4 - at % 4  # at least one null ends a chunk
    return found


def _packet(kind: int, count: int, body: bytes) -> bytes:
    return struct.pack(">BBH", 0x80 | count, kind, len(body) // 4) + body


def description(ssrc: int, cname: str) -> bytes:
    """A source description with its CNAME (at most 255 bytes)."""
    name = cname.encode()[:255]
    body = struct.pack(">IBB", ssrc, _CNAME, len(name)) + name
    return _packet(DESCRIPTION, 1, body + bytes(4 - len(body) % 4))


def receiver_report(ssrc: int, cname: str, blocks: list[Block]) -> bytes:
    """A compound packet of a receiver (RFC 3550, 6.1): its report and its description."""
    body = struct.pack(">I", ssrc)
    for b in blocks:
        lost = max(-0x800000, min(0x7FFFFF, b.lost)) & 0xFFFFFF
        words = (b.ssrc, (b.fraction & 255) << 24 | lost, b.highest, b.jitter, b.last, b.delay)
        body += struct.pack(">IIIIII", *(word & 0xFFFFFFFF for word in words))
    return _packet(RECEIVER_REPORT, len(blocks), body) + description(ssrc, cname)


def sender_report(report: SenderReport, cname: str) -> bytes:
    """A compound packet of a sender: its report and its description."""
    words = (report.timestamp, report.packets, report.octets)
    body = struct.pack(">IQIII", report.ssrc, report.ntp, *(word & 0xFFFFFFFF for word in words))
    return _packet(SENDER_REPORT, 0, body) + description(report.ssrc, cname)


def goodbye(ssrc: int) -> bytes:
    """A source ends."""
    return _packet(GOODBYE, 1, struct.pack(">I", ssrc))
