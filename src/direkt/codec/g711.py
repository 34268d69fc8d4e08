"""Reads G.711 (ITU-T G.711), A-law and µ-law: one byte for each audio sample, so even loudness is exact; and writes a tone."""

from __future__ import annotations

import math

import numpy as np

from direkt.codec.reader import OpaqueAudio
from direkt.media import Buffer, Column, Format, Samples, Times


def _a_law() -> Times:
    code = np.arange(256) ^ 0x55
    exponent, mantissa = code >> 4 & 7, code & 15
    size = np.where(exponent == 0, (mantissa << 4) + 8, ((mantissa << 4) + 0x108) << np.maximum(exponent - 1, 0))
    return np.where(code & 0x80, size, -size) / 32768


def _mu_law() -> Times:
    code = np.arange(256) ^ 0xFF
    size = (((code & 15) << 3) + 0x84 << (code >> 4 & 7)) - 0x84
    return np.where(code & 0x80, -size, size) / 32768


class Reader(OpaqueAudio):
    """Reads one track."""

    def configure(self, format: Format) -> None:
        """The law, the rate (8000 Hz unless the source says otherwise) and the channels."""
        self.rate = format.sample_rate or 8000
        self._channels = format.channels or 1
        self._table = _a_law() if format.codec == "g711a" else _mu_law()
        self.declare(self.rate, self._channels)

    def lengths(self, samples: Samples) -> Column | None:
        """A byte is a sample."""
        return samples.size // self._channels

    def power(self, samples: Samples, n: int) -> float | None:
        """By the decoded samples' mean square; a constant offset is no sound."""
        values = self._table[np.frombuffer(samples.sample(n), np.uint8)]
        return float(values.var()) if len(values) else None


def decode(law: str, data: Buffer) -> Times:
    """The samples, between -1 and 1, of "g711a" or "g711u"."""
    table = _a_law() if law == "g711a" else _mu_law()
    out: Times = table[np.frombuffer(bytes(data), np.uint8)]
    return out


PACKET = 160  # audio samples: 20 ms
_TONE = 1000.0  # Hz: a whole number of periods fits a packet
_LEVEL = 0.1414  # of the largest sine: -20 dBFS


def tone_packet(law: str, *, tone: bool = True) -> bytes:
    """20 ms of a tone of -20 dBFS, or of silence, in "g711a" or "g711u"."""
    table = _a_law() if law == "g711a" else _mu_law()
    wanted = [_LEVEL * math.sin(2 * math.pi * _TONE * n / 8000) if tone else 0.0 for n in range(PACKET)]
    return bytes(int(np.abs(table - value).argmin()) for value in wanted)
