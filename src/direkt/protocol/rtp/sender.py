"""The sender's end of RTP: samples into packets, and the reports that go with them (RFC 3550, 6184, 7798, 3640, 6416)."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from dataclasses import dataclass

from direkt.codec import aac, h264_syntax, h265_syntax
from direkt.codec.bits import pack, u
from direkt.media import Format
from direkt.protocol.rtp import packet, rtcp
from direkt.protocol.rtp.packet import Packet
from direkt.protocol.rtsp.sdp import Encoding

LARGEST = 1400  # bytes of a payload
_VIDEO_CLOCK = 90000  # Hz


@dataclass(frozen=True, slots=True)
class Style:
    """In what senders differ."""

    sets_in_description: bool = True  # parameter sets of the picture stand in the session description
    sets_in_stream: bool = True  # and in front of every keyframe
    together: bool = False  # parameter sets and messages share a packet (STAP-A, AP)
    latm: bool = False  # AAC as RFC 6416 rather than RFC 3640
    largest: int = LARGEST


def describe(format: Format, payload_type: int, style: Style) -> Encoding:
    """What the session description says of a track."""
    said: dict[str, str] = {}
    if format.codec == "h264":
        record = h264_syntax.parse_avc_config(format.configuration)
        said = {"packetization-mode": "1", "profile-level-id": record.sps[0][1:4].hex().upper()}
        if style.sets_in_description:
            said["sprop-parameter-sets"] = ",".join(_base64(unit) for unit in (*record.sps, *record.pps))
        return Encoding(payload_type, "H264", _VIDEO_CLOCK, 1, said)
    if format.codec == "h265":
        if style.sets_in_description:
            for unit in h265_syntax.parse_hevc_config(format.configuration).units:
                name = {h265_syntax.VPS: "vps", h265_syntax.SPS: "sps", h265_syntax.PPS: "pps"}.get(unit[0] >> 1 & 63)
                if name:
                    said[f"sprop-{name}"] = _base64(unit)
        return Encoding(payload_type, "H265", _VIDEO_CLOCK, 1, said)
    if format.codec == "aac":
        config = aac.parse_config(format.configuration)
        clock, channels = config.core_rate, config.channels
        if style.latm:
            # StreamMuxConfig (1.7.3.1): one programme, one layer, no subframes
            config_bits = "".join(f"{byte:08b}" for byte in format.configuration)
            mux = u(0, 1) + u(1, 1) + u(0, 6 + 4 + 3) + config_bits + u(0, 3) + u(255, 8) + "00"
            said = {"profile-level-id": "41", "object": "2", "cpresent": "0", "config": pack(mux).hex()}
            return Encoding(payload_type, "MP4A-LATM", clock, channels, said)
        said = {
            "streamtype": "5", "profile-level-id": "1", "mode": "AAC-hbr", "sizelength": "13", "indexlength": "3",
            "indexdeltalength": "3", "config": format.configuration.hex(),
        }  # fmt: skip
        return Encoding(payload_type, "MPEG4-GENERIC", clock, channels, said)
    if format.codec == "mjpeg":
        return Encoding(26, "JPEG", _VIDEO_CLOCK, 1)
    names = {"g711u": "PCMU", "g711a": "PCMA"}
    return Encoding({"g711u": 0, "g711a": 8}[format.codec], names[format.codec], 8000, 1)


def _base64(unit: bytes) -> str:
    return base64.b64encode(unit).decode()


class Sender:
    """One track's packets. ``first``: the time stamp of time 0; ``sequence``: the first packet's number."""

    def __init__(
        self, format: Format, encoding: Encoding, style: Style, *, ssrc: int, first: int, sequence: int
    ) -> None:
        self.encoding, self._style = encoding, style
        self._format = format
        self.ssrc, self.first, self.sequence = ssrc, first, sequence
        self.packets = self.octets = 0
        self._sets: list[bytes] = []
        if format.codec == "h264":
            config = h264_syntax.parse_avc_config(format.configuration)
            self._sets = [*config.sps, *config.pps]
        elif format.codec == "h265":
            self._sets = list(h265_syntax.parse_hevc_config(format.configuration).units)

    def stamp(self, seconds: float) -> int:
        """The time stamp of a moment of the stream."""
        return self.first + round(seconds * self.encoding.clock)

    def send(self, data: bytes, stamp: int, *, key: bool = False) -> list[bytes]:
        """The packets of one sample; pictures hold NAL units behind four-byte lengths."""
        payloads = list(self._payloads(data, key))
        out = []
        for n, payload in enumerate(payloads):
            marker = n == len(payloads) - 1 and not self.encoding.name.startswith("PCM")
            made = Packet(
                self.encoding.payload_type, self.sequence & 0xFFFF, stamp & 0xFFFFFFFF, self.ssrc, marker, payload
            )
            out.append(packet.build(made))
            self.sequence += 1
            self.packets += 1
            self.octets += len(payload)
        return out

    def report(self, wall: float, seconds: float, cname: str) -> bytes:
        """A sender report: at ``wall`` (s since 1970) the stream stood at ``seconds``."""
        ntp = round((wall + 2208988800) * (1 << 32))
        made = rtcp.SenderReport(self.ssrc, ntp, self.stamp(seconds), self.packets, self.octets)
        return rtcp.sender_report(made, cname)

    def _payloads(self, data: bytes, key: bool) -> Iterator[bytes]:
        if self._format.codec in ("h264", "h265"):
            units = list(_units(data))
            if key and self._style.sets_in_stream:
                units = [*self._sets, *units]
            yield from self._pictures(units)
        elif self.encoding.name == "MPEG4-GENERIC":
            yield from self._sections(data)
        elif self.encoding.name == "JPEG":
            yield from self._photograph(data)
        elif self.encoding.name == "MP4A-LATM":
            yield from self._cut(b"\xff" * (len(data) // 255) + bytes([len(data) % 255]) + data)
        else:
            yield data

    def _photograph(self, data: bytes) -> Iterator[bytes]:
        """RFC 2435: the scan in pieces, behind the frame's size and, in front of the first, its quantisation tables."""
        tables, size, at = b"", b"", 2
        while data[at + 1] != 0xDA:  # up to the start of the scan
            length = int.from_bytes(data[at + 2 : at + 4], "big")
            if data[at + 1] == 0xDB:
                body = data[at + 4 : at + 2 + length]
                tables += b"".join(body[n + 1 : n + 65] for n in range(0, len(body), 65))
            elif data[at + 1] == 0xC0:
                height, width = (int.from_bytes(data[n : n + 2], "big") for n in (at + 5, at + 7))
                size = bytes([-(-width // 8), -(-height // 8)])
            at += 2 + length
        scan = data[at + 2 + int.from_bytes(data[at + 2 : at + 4], "big") : -2]
        room = self._style.largest - 8
        front = b"\0\0" + len(tables).to_bytes(2, "big") + tables
        begin = 0
        while begin < len(scan):
            part = scan[begin : begin + room - (0 if begin else len(front))]
            # type 1: 4:2:0; Q 255: the tables are sent
            yield bytes([0]) + begin.to_bytes(3, "big") + b"\x01\xff" + size + (b"" if begin else front) + part
            begin += len(part)

    def _cut(self, data: bytes) -> Iterator[bytes]:
        for at in range(0, len(data), self._style.largest):
            yield data[at : at + self._style.largest]

    def _sections(self, frame: bytes) -> Iterator[bytes]:
        """RFC 3640, 3.2: one frame, or parts of it, behind its header."""
        for part in self._cut(frame):
            yield (16).to_bytes(2, "big") + (len(frame) << 3).to_bytes(2, "big") + part

    def _pictures(self, units: list[bytes]) -> Iterator[bytes]:
        header = 1 if self._format.codec == "h264" else 2
        small: list[bytes] = []
        for n, unit in enumerate(units):
            if self._style.together and len(unit) < 200 and n + 1 < len(units):
                small.append(unit)
                continue
            yield from self._together(small, header)
            small = []
            if len(unit) <= self._style.largest:
                yield unit
                continue
            yield from self._fragments(unit, header)
        yield from self._together(small, header)

    def _together(self, units: list[bytes], header: int) -> Iterator[bytes]:
        if len(units) == 1:
            yield units[0]
        elif units:
            body = b"".join(len(unit).to_bytes(2, "big") + unit for unit in units)
            yield (_stap(units) if header == 1 else _aggregate(units)) + body

    def _fragments(self, unit: bytes, header: int) -> Iterator[bytes]:
        room = self._style.largest - header - 1
        kind = unit[0] & 31 if header == 1 else unit[0] >> 1 & 63
        front = bytes([unit[0] & 0xE0 | 28]) if header == 1 else bytes([unit[0] & 0x81 | 49 << 1, unit[1]])
        for at in range(header, len(unit), room):
            flags = kind | (0x80 if at == header else 0) | (0x40 if at + room >= len(unit) else 0)
            yield front + bytes([flags]) + unit[at : at + room]


def _stap(units: list[bytes]) -> bytes:
    """The header of several units of H.264: worth as much as the best of them (RFC 6184, 5.7.1)."""
    return bytes([max(unit[0] & 0x60 for unit in units) | 24])


def _aggregate(units: list[bytes]) -> bytes:
    """The header of several units of H.265: of the lowest layer and sub-layer among them (RFC 7798, 4.4.2)."""
    layer = min((unit[0] & 1) << 5 | unit[1] >> 3 for unit in units)
    return bytes([48 << 1 | layer >> 5, (layer & 31) << 3 | min(unit[1] & 7 for unit in units)])


def _units(data: bytes) -> Iterator[bytes]:
    at = 0
    while at + 4 <= len(data):
        size = int.from_bytes(data[at : at + 4], "big")
        yield data[at + 4 : at + 4 + size]
        at += 4 + size
