"""Codes plain sound as AAC-LC (ISO/IEC 14496-3, subpart 4), at an even bitrate: telephone sound of cameras, for platforms that take AAC.

Long windows only; no tools but mid and side for a second channel that is the same as the first. The spectrum up to where the
source has any is quantised as finely as the bitrate allows, and filled up. Cost: one product with a matrix of some hundred
lines for each frame of 1024 samples, and Python for each pair of lines.
"""

from __future__ import annotations

import math
from fractions import Fraction
from functools import lru_cache

import numpy as np

from direkt.codec.aac_books import BOOKS, ESCAPE
from direkt.codec.aac_tables import LONG_BANDS, SAMPLE_RATES, SCALE_CODES, SCALE_LENGTHS
from direkt.codec.aac_writer import build_config, filled
from direkt.codec.bits import BitstreamError, u
from direkt.media import Column, Times

FRAME = 1024  # samples
DELAY = FRAME  # samples by which what a frame gives lies in front of what was put in with it
_TAPS = 16  # samples of the source on each side from which one between them is made
_FINE = (20.0, 14.0, 10.0, 7.0, 5.0, 3.5, 2.5, 1.6, 1.0)  # steps in the loudest line of a band, to try in turn
_QUIET = 2.0  # of full scale 32768: lines below it are left out
_MASKED = 10 ** (-70 / 20)  # share of the loudest line of all below which a band is left out
_HIGHEST = 8191


class AacEncoder:
    """Takes samples between -1 and 1 at the rate at which they are coded; gives frames."""

    def __init__(self, sample_rate: int, channels: int, bitrate: int, *, highest: float) -> None:
        """``bitrate``: kbit/s; ``highest``: Hz up to which there is sound. Raises BitstreamError for what AAC-LC cannot carry."""
        self.config = build_config(sample_rate, channels)
        self._channels = channels
        self._bands = LONG_BANDS[SAMPLE_RATES.index(sample_rate)]
        lines = min(FRAME, math.ceil(2 * FRAME * min(highest, sample_rate / 2) / sample_rate) + 4)
        self._count = next((n for n, offset in enumerate(self._bands) if offset >= lines), len(self._bands) - 1)
        self._matrix = _matrix(self._bands[self._count])
        self._bits = bitrate * 1000 * FRAME / sample_rate
        if self._bits > 6144 * channels or self._bits < 200:
            raise BitstreamError(f"an audio bitrate of {bitrate} kbit/s at {sample_rate} Hz")
        self._before = np.zeros(FRAME)
        self._frames = self._sent = 0
        self._fine = len(_FINE) // 2  # place in _FINE of what fitted last

    def frame(self, samples: Times) -> bytes:
        """The next 1024 samples; the frame gives back those before them, when the next one is decoded too."""
        spectrum = self._matrix @ (np.concatenate([self._before, samples]) * 32768.0)
        self._before = samples
        self._frames += 1
        size = int(self._frames * self._bits / 8) - self._sent
        for n in range(max(0, self._fine - 1), len(_FINE)):  # sound changes slowly: what fitted last fits about now
            content = self._content(spectrum, _FINE[n])
            if len(content) + 3 <= 8 * size:
                self._fine = n
                break
        else:
            content = self._content(np.zeros_like(spectrum), 1.0)
        made = filled(content, size)
        self._sent += len(made)
        return made

    def _content(self, spectrum: Times, fine: float) -> str:
        gain, rest = self._channel(spectrum, fine)
        window = _WINDOW + u(self._count, 6) + "0"
        if self._channels == 1:
            return "000" + "0000" + gain + window + rest
        # a pair with a common window: the middle, and a side of nothing
        silent = u(100, 8) + _sections([0] * self._count) + "000"
        return "001" + "0000" + "1" + window + "10" + gain + rest + silent

    def _channel(self, spectrum: Times, fine: float) -> tuple[str, str]:
        """individual_channel_stream() (ISO/IEC 14496-3, Table 4.50), its gain and what follows on its window."""
        floor = max(_QUIET, float(np.abs(spectrum).max(initial=0.0)) * _MASKED)
        books, scales, values = list[int](), list[int](), list[tuple[int, Column]]()
        for band in range(self._count):
            part = spectrum[self._bands[band] : self._bands[band + 1]]
            peak = float(np.abs(part).max(initial=0.0))
            scale = 100 + math.ceil(4 * math.log2(max(peak, 1e-9) / fine ** (4 / 3)))
            if peak < floor:
                books.append(0)
                continue
            scale = max(100, min(scale, 255))
            if scales:  # ISO/IEC 14496-3, 4.6.2.3.2: a step of at most 60
                scale = max(scales[-1] - 60, min(scales[-1] + 60, scale))
            quantised = np.minimum((np.abs(part) / 2.0 ** ((scale - 100) / 4)) ** 0.75 + 0.4054, _HIGHEST).astype(np.int64)
            book = _book(int(quantised.max()))
            books.append(book)
            if book:
                scales.append(scale)
                values.append((book, np.where(part < 0, -quantised, quantised)))
        gain = scales[0] if scales else 100
        first, digits = u(gain, 8), [_sections(books)]
        for scale in scales:
            digits.append(u(SCALE_CODES[scale - gain + 60], SCALE_LENGTHS[scale - gain + 60]))
            gain = scale
        digits.append("000")  # no pulses, no shaping, no gain control
        digits += [_spell(book, row) for book, row in values]
        return first, "".join(digits)


_WINDOW = "0" + "00" + "0"  # ics_reserved_bit, ONLY_LONG_SEQUENCE, sine window (ISO/IEC 14496-3, Table 4.6)


def _sections(books: list[int]) -> str:
    """section_data() (ISO/IEC 14496-3, Table 4.52): bands in a row with one codebook go together."""
    out, at = "", 0
    while at < len(books):
        end = at
        while end < len(books) and books[end] == books[at]:
            end += 1
        length = end - at
        out += u(books[at], 4) + "11111" * (length // 31) + u(length % 31, 5)
        at = end
    return out


def _book(largest: int) -> int:
    """The codebook of pairs that holds values up to this size (ISO/IEC 14496-3, Table 4.95)."""
    return next((book for limit, book in ((0, 0), (4, 5), (7, 7), (12, 9)) if largest <= limit), 11)


def _spell(book: int, values: Column) -> str:
    """Pairs of values in a codebook, with signs and escapes (ISO/IEC 14496-3, 4.6.3)."""
    rows = BOOKS[book]
    pairs = values.reshape(-1, 2)
    if rows.signed:
        index = (pairs[:, 0] + rows.largest) * (2 * rows.largest + 1) + pairs[:, 1] + rows.largest
        return "".join(u(rows.codes[n], rows.lengths[n]) for n in index.tolist())
    sizes = np.minimum(np.abs(pairs), rows.largest)
    index = sizes[:, 0] * (rows.largest + 1) + sizes[:, 1]
    out = []
    for n, pair in zip(index.tolist(), pairs.tolist(), strict=True):
        out.append(u(rows.codes[n], rows.lengths[n]))
        out += ["1" if value < 0 else "0" for value in pair if value]
        if book == 11:
            for value in pair:
                if abs(value) >= ESCAPE:
                    size = abs(value).bit_length() - 1
                    out.append("1" * (size - 4) + "0" + u(abs(value) - (1 << size), size))
    return "".join(out)


@lru_cache(maxsize=8)
def _matrix(lines: int) -> Times:
    """The forward transform (ISO/IEC 14496-3, 4.6.11) of 2048 samples with a sine window, as far as ``lines``."""
    n, k = np.arange(2 * FRAME), np.arange(lines)
    window = np.sin(np.pi * (n + 0.5) / (2 * FRAME))
    made: Times = 2 * np.cos(np.pi / FRAME * np.outer(k + 0.5, n + 0.5 + FRAME / 2)) * window
    return made


@lru_cache(maxsize=8)
def _weights(step: Fraction) -> Times:
    """For each part of a sample of the source, by how much each sample around it counts. ``step``: between two that are given."""
    scale = min(1.0, float(1 / step)) * (0.96 if step > 1 else 1.0)
    away = (np.arange(step.denominator) / step.denominator)[:, None] - np.arange(1 - _TAPS, _TAPS + 1)
    made: Times = np.sinc(away * scale) * scale * np.cos(np.pi * np.clip(away / (2 * _TAPS), -0.5, 0.5)) ** 2
    return made


class Resampler:
    """From one rate to another, by a windowed sinc; what comes is delayed by 16 samples of the source at most."""

    def __init__(self, before: int, after: int) -> None:
        """Rates in Hz."""
        self._step = Fraction(before, after)
        self._weights = _weights(self._step)
        self._data = np.zeros(_TAPS)  # silence in front of the first sample
        self._at = Fraction(_TAPS)  # where the next sample that is given lies in ``data``

    def add(self, samples: Times) -> Times:
        """The samples that can be given now."""
        self._data = np.concatenate([self._data, samples])
        count = max(0, math.floor((len(self._data) - _TAPS - 1 - self._at) / self._step) + 1)
        # in parts of a sample of the source, of which there are as many as the rates need
        parts = self._step.denominator
        places = int(self._at * parts) + np.arange(count) * self._step.numerator
        base, part = np.divmod(places, parts)
        out: Times = (self._data[base[:, None] + np.arange(1 - _TAPS, _TAPS + 1)] * self._weights[part]).sum(axis=1)
        self._at += count * self._step
        drop = max(0, math.floor(self._at) - _TAPS)
        self._data, self._at = self._data[drop:], self._at - drop
        return out
