"""Telephone and plain sound of cameras, coded to AAC for platforms that take nothing else."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from direkt.codec import g711
from direkt.codec.aac_encoder import DELAY, FRAME, AacEncoder, Resampler
from direkt.media import Buffer, Format, Times

TAKEN = ("g711a", "g711u", "pcm")
_PATIENCE = Fraction(3, 50)  # s that sound may come off its time before that is a hole
_LONGEST = Fraction(2)  # s of a hole that is filled; a longer one begins anew


@dataclass(frozen=True, slots=True)
class Coded:
    """A frame of AAC."""

    time: Fraction  # s
    data: bytes


class SoundCoder:
    """One track: its samples in, frames out, on the same time line."""

    def __init__(self, format: Format, sample_rate: int, channels: int, bitrate: int) -> None:
        """``sample_rate`` (Hz), ``channels`` and ``bitrate`` (kbit/s): of what comes out. Raises BitstreamError."""
        self._source = format
        self._rate = format.sample_rate or 8000
        self._after = sample_rate
        self._resampler = Resampler(self._rate, sample_rate)
        self._encoder = AacEncoder(sample_rate, channels, bitrate, highest=min(self._rate, sample_rate) / 2)
        self.config = self._encoder.config
        self._begin: Fraction | None = None  # time of the first sample put in since the beginning
        self._put = 0  # samples put in since then
        self._given = 0  # samples coded since then
        self._waiting = np.zeros(0)

    def add(self, time: Fraction, data: Buffer) -> list[Coded]:
        """What came at a time (s); the frames that are whole now."""
        samples = self._decoded(data)
        if self._begin is not None:
            hole = time - (self._begin + Fraction(self._put, self._rate))
            if hole > _LONGEST or hole < -_PATIENCE:
                self._begin = None
            elif hole > _PATIENCE:
                samples = np.concatenate([np.zeros(round(hole * self._rate)), samples])
        if self._begin is None:
            self._begin, self._put, self._given = time, 0, 0
            self._waiting = np.zeros(0)
        self._put += len(samples)
        self._waiting = np.concatenate([self._waiting, self._resampler.add(samples)])
        out = []
        while len(self._waiting) >= FRAME:
            block, self._waiting = self._waiting[:FRAME], self._waiting[FRAME:]
            at = self._begin + Fraction(self._given - DELAY, self._after)
            self._given += FRAME
            out.append(Coded(at, self._encoder.frame(block)))
        return out

    def _decoded(self, data: Buffer) -> Times:
        """Samples between -1 and 1, of all channels together."""
        if self._source.codec == "pcm":  # RFC 3551, 4.5.11: L16, the most significant byte first
            wide = np.frombuffer(bytes(data[: len(data) // 2 * 2]), ">i2") / 32768.0
        else:
            wide = g711.decode(self._source.codec, data)
        channels = max(1, self._source.channels)
        out: Times = wide[: len(wide) // channels * channels].reshape(-1, channels).mean(axis=1)
        return out
