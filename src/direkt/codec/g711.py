"""Reads G.711 (ITU-T G.711), A-law and µ-law: one byte for each audio sample, so even loudness is exact."""

from __future__ import annotations

import numpy as np

from direkt.codec.reader import OpaqueAudio
from direkt.media import Column, Format, Samples, Times


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
