"""Reads MPEG audio, layers I to III (ISO/IEC 11172-3, 2.4.2.3; ISO/IEC 13818-3): each frame's own header."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from direkt.codec.bits import BitstreamError
from direkt.codec.reader import OpaqueAudio
from direkt.media import Buffer, Column, Format, Samples

_NAMES = {1: "other", 2: "mp2", 3: "mp3"}  # by layer
_RATES = (44100, 48000, 32000)
# kbit/s by bitrate_index 1 to 14
_MPEG1 = {
    1: (32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448),
    2: (32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384),
    3: (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320),
}
_MPEG2 = {
    1: (32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256),
    2: (8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
}


@dataclass(frozen=True, slots=True)
class Header:
    """A frame header."""

    layer: int  # 1 to 3
    sample_rate: int  # Hz
    channels: int
    bitrate: int  # kbit/s; 0: free format
    samples: int  # audio samples in the frame
    size: int  # bytes; 0: not known


def parse_header(data: Buffer) -> Header:
    """The four bytes at the start of a frame. Raises BitstreamError."""
    if len(data) < 4 or data[0] != 0xFF or data[1] & 0xE0 != 0xE0:
        raise BitstreamError("no MPEG audio frame where one should begin")
    version, layer = data[1] >> 3 & 3, 4 - (data[1] >> 1 & 3)
    index, rate_index = data[2] >> 4, data[2] >> 2 & 3
    if version == 1 or layer == 4 or index == 15 or rate_index == 3:
        raise BitstreamError("an MPEG audio header with reserved values")
    first = version == 3
    rate = _RATES[rate_index] >> (0 if first else 1 if version == 2 else 2)
    table = _MPEG1[layer] if first else _MPEG2[min(layer, 2)]
    bitrate = table[index - 1] if index else 0
    count = 384 if layer == 1 else 1152 if layer == 2 or first else 576
    padding = data[2] >> 1 & 1
    size = count // 8 * bitrate * 1000 // rate + padding * (4 if layer == 1 else 1) if bitrate else 0
    if layer == 1 and bitrate:
        size = (12 * bitrate * 1000 // rate + padding) * 4
    return Header(layer, rate, 1 if data[3] >> 6 == 3 else 2, bitrate, count, size)


class Reader(OpaqueAudio):
    """Reads one track; what the frames say is believed over what the container says."""

    _seen: Header | None = None

    def configure(self, format: Format) -> None:
        """Until the first frame, what the source says."""
        self._seen = None
        self.declare(format.sample_rate, format.channels)

    def lengths(self, samples: Samples) -> Column | None:
        """By the header of each frame; a sample that begins with none lasts no time."""
        found = np.zeros(len(samples), np.int64)
        for n in range(len(samples)):
            try:
                found[n] = self._length(samples.sample(n))
            except BitstreamError as error:
                if self.remark is not None:
                    self.remark(str(error))
        return found

    def _length(self, data: memoryview) -> int:
        total, at = 0, 0
        while at < len(data):  # a sample may hold several frames
            head = parse_header(data[at : at + 4])
            if self._seen is None or (head.layer, head.sample_rate, head.channels) != (
                self._seen.layer, self._seen.sample_rate, self._seen.channels,
            ):  # fmt: skip
                self._seen = head
                self.rate = head.sample_rate
                self.declare(head.sample_rate, head.channels, codec=_NAMES[head.layer])
            total += head.samples
            if not head.size:
                break
            at += head.size
        return total
