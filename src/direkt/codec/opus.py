"""Reads Opus (RFC 6716; in files as RFC 7845 and the Opus mapping of ISO base media say): channels, and frame lengths."""

from __future__ import annotations

import numpy as np

from direkt.codec.bits import BitstreamError
from direkt.codec.reader import OpaqueAudio
from direkt.media import Buffer, Column, Format, Samples

RATE = 48000  # Hz; Opus counts in it whatever went in
_TENTHS_OF_MS = (
    (100, 200, 400, 600) * 3 + (100, 200) * 2 + (25, 50, 100, 200) * 4
)  # RFC 6716, Table 2: length of a frame by configuration number


def parse_head(data: Buffer) -> int:
    """Channels of an identification header: OpusHead (RFC 7845, 5.1), or the body of a 'dOps' box. Raises BitstreamError."""
    head = bytes(data[:32])
    body = head[8:] if head[:8] == b"OpusHead" else head
    if len(body) < 2 or not body[1]:
        raise BitstreamError("an Opus header without a number of channels")
    return body[1]


def packet_length(packet: Buffer) -> int:
    """How long a packet lasts, in samples of 48 kHz (RFC 6716, 3.1 and 3.2). Raises BitstreamError."""
    if not len(packet):
        raise BitstreamError("an empty Opus packet")
    first = packet[0]
    code = first & 3
    if code == 3 and len(packet) < 2:
        raise BitstreamError("an Opus packet that ends before its number of frames")
    frames = (1, 2, 2, packet[1] & 63 if code == 3 else 0)[code]
    length = frames * _TENTHS_OF_MS[first >> 3] * RATE // 10000
    if not 0 < length <= 5760:  # 120 ms, RFC 6716, 3.2.5
        raise BitstreamError(f"an Opus packet of {length * 1000 / RATE:g} ms where 2.5 to 120 are allowed")
    return length


class Reader(OpaqueAudio):
    """Reads one track of packets."""

    def configure(self, format: Format) -> None:
        """The identification header, where there is one."""
        self.rate = RATE
        self.declare(RATE, parse_head(format.configuration) if format.configuration else format.channels)

    def lengths(self, samples: Samples) -> Column | None:
        """By each packet's own first bytes; a packet that makes no sense lasts no time."""
        found = np.zeros(len(samples), np.int64)
        odd = 0
        for n in range(len(samples)):
            try:
                found[n] = packet_length(samples.sample(n)[:2])
            except BitstreamError:
                odd += 1
        if odd and self.remark is not None:
            self.remark("some Opus packets say nothing sensible of their length")
        return found
