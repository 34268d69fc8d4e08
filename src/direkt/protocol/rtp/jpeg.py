"""Motion JPEG payloads (RFC 2435): the scans of pictures, whose size and sampling stand in front of each packet."""

from __future__ import annotations

from fractions import Fraction

from direkt.codec import mjpeg
from direkt.media import Format
from direkt.protocol.rtp.order import Ordered
from direkt.protocol.rtp.payload import PayloadUnit, Whole

_HEADER = 8  # bytes (RFC 2435, 3.1)
_RESTART = 4  # bytes of the restart marker header (RFC 2435, 3.1.7)
_SAMPLINGS = {0: 0x21, 1: 0x22}  # RFC 2435, 4.1: luma samples across and down for one of each chroma


class Jpeg(Whole):
    """One track."""

    def __init__(self, tick: Fraction) -> None:
        super().__init__(Format("video", "mjpeg", tick), frames=True)
        self._tick = tick
        self._shape: tuple[int, int, int] | None = None

    def add(self, packet: Ordered) -> list[PayloadUnit]:
        """The pictures that are whole now."""
        payload = packet.packet.payload
        if len(payload) > _HEADER:
            self._note((payload[6], payload[7], payload[4] & 0x3F))
        return super().add(packet)

    def _body(self, payload: bytes) -> bytes:
        """What a packet carries of the picture: not the headers, nor the tables in the first packet."""
        at = _HEADER
        if len(payload) > at and 64 <= payload[4] <= 127:
            at += _RESTART
        first = payload[1:4] == b"\0\0\0"
        if first and len(payload) >= at + 4 and payload[5] >= 128:  # a quantization table header (RFC 2435, 3.1.8)
            at += 4 + int.from_bytes(payload[at + 2 : at + 4], "big")
        return payload[at:]

    def _note(self, shape: tuple[int, int, int]) -> None:
        """Width and height in units of 8 px, and the type; 0: larger than the header can say."""
        if shape == self._shape:
            return
        self._shape = shape
        width, height, kind = shape
        known = width and height and kind in _SAMPLINGS
        configuration = mjpeg.build_header(8 * width, 8 * height, _SAMPLINGS[kind]) if known else b""
        self.format = Format("video", "mjpeg", self._tick, configuration=configuration)
