"""A small AAC-LC encoder for tests: any sound to frames of known make-up. It shares only the standard's tables."""

from __future__ import annotations

import functools
import math

import numpy as np

from direkt.codec.aac_books import BOOKS
from direkt.codec.aac_tables import LONG_BANDS, SAMPLE_RATES, SCALE_CODES, SCALE_LENGTHS, SHORT_BANDS
from direkt.codec.bits import pack, u

N = 1024


def window(size: int) -> np.ndarray:
    return np.sin(np.pi * (np.arange(2 * size) + 0.5) / (2 * size))


@functools.lru_cache(maxsize=4)
def matrix(size: int) -> np.ndarray:
    n, k = np.arange(2 * size), np.arange(size)
    return 2 * np.cos(np.pi / size * np.outer(k + 0.5, n + 0.5 + size / 2)) * window(size)


def transform(block: np.ndarray) -> np.ndarray:
    """The forward transform of 2 n samples (4.6.11, turned round), windowed."""
    return matrix(len(block) // 2) @ block


def book_for(values: np.ndarray, choice: int) -> int:
    """One of the smallest books that fit; ``choice`` takes the other of a pair of equals."""
    largest = int(np.abs(values).max(initial=0))
    for limit, books in ((0, (0, 0)), (1, (1, 2)), (2, (3, 4)), (4, (5, 6)), (7, (7, 8)), (12, (9, 10))):
        if largest <= limit:
            return books[choice % 2]
    return 11


def spell(book: int, values: list[int]) -> str:
    """Values in a codebook, with signs and escapes (4.6.3)."""
    rows, out = BOOKS[book], ""
    for at in range(0, len(values), rows.size):
        group = values[at : at + rows.size]
        base = 2 * rows.largest + 1 if rows.signed else rows.largest + 1
        index = 0
        for value in group:
            digit = value + rows.largest if rows.signed else min(abs(value), rows.largest)
            index = index * base + digit
        out += u(rows.codes[index], rows.lengths[index])
        if not rows.signed:
            out += "".join("1" if value < 0 else "0" for value in group if value)
        if book == 11:
            for value in group:
                if abs(value) >= 16:
                    size = abs(value).bit_length() - 1
                    out += "1" * (size - 4) + "0" + u(abs(value) - (1 << size), size)
    return out


def scale_step(step: int) -> str:
    return u(SCALE_CODES[step + 60], SCALE_LENGTHS[step + 60])


def channel(spectrum: np.ndarray, rate: int, fine: float, info: str | None, choice: int = 0, shaping: str = "0",
            short: bool = False) -> str:  # fmt: skip
    """individual_channel_stream(): ``fine``: quantiser steps in the loudest line of a band."""
    offsets = (SHORT_BANDS if short else LONG_BANDS)[SAMPLE_RATES.index(rate)]
    count = len(offsets) - 1
    if short:  # eight windows in one group: lines of a band window by window
        parts = [np.concatenate([w[offsets[b] : offsets[b + 1]] for w in spectrum]) for b in range(count)]
    else:
        parts = [spectrum[offsets[b] : offsets[b + 1]] for b in range(count)]
    books, scales, quantised = [], [], []
    for part in parts:
        peak = float(np.abs(part).max())
        scale = 100 + math.ceil(4 * math.log2(max(peak, 1e-9) / fine ** (4 / 3)))
        scale = max(60, min(scale, 255))
        step = 2.0 ** ((scale - 100) / 4)
        values = np.copysign(np.floor((np.abs(part) / step) ** 0.75 + 0.4054), part).astype(int)
        books.append(book_for(values, choice))
        scales.append(scale)
        quantised.append(values.tolist())
    used = [scale for scale, book in zip(scales, books, strict=True) if book]
    gain = used[0] if used else 100
    digits = u(gain, 8) + (info if info is not None else "")
    bits = 3 if short else 5
    for book in books:
        digits += u(book, 4) + u(1, bits)
    for scale, book in zip(scales, books, strict=True):
        if book:
            step = max(-60, min(60, scale - gain))
            assert step == scale - gain
            digits += scale_step(step)
            gain = scale
    digits += "0" + shaping + "0"
    for book, values in zip(books, quantised, strict=True):
        if book:
            digits += spell(book, values)
    return digits


def info(rate: int, short: bool = False) -> str:
    index = SAMPLE_RATES.index(rate)
    if short:
        return "0" + u(2, 2) + "0" + u(len(SHORT_BANDS[index]) - 1, 4) + "1111111"
    return "0" + "00" + "0" + u(len(LONG_BANDS[index]) - 1, 6) + "0"


def spectra(sound: np.ndarray, short: bool = False) -> list[np.ndarray]:
    """The spectrum of each frame of a sound in 16-bit values."""
    out = []
    for at in range(0, len(sound) - 2 * N + 1, N):
        block = sound[at : at + 2 * N]
        if short:
            out.append(np.array([transform(block[448 + 128 * n : 448 + 128 * n + 256]) for n in range(8)]))
        else:
            out.append(transform(block))
    return out


def encode(sound: np.ndarray, rate: int, *, fine: float = 6, short: bool = False, choice: int = 0) -> list[bytes]:
    """Frames of a sound: a column for each channel (1 or 2), 1.0 being full scale."""
    sound = sound * 32768
    channels = 1 if sound.ndim == 1 else sound.shape[1]
    columns = [sound] if channels == 1 else [sound[:, n] for n in range(channels)]
    frames = []
    for parts in zip(*(spectra(column, short) for column in columns), strict=True):
        made = [channel(part, rate, fine, info(rate, short), choice, short=short) for part in parts]
        head = "000" + "0000" if channels == 1 else "001" + "0000" + "0"
        frames.append(pack(head + "".join(made) + "111"))
    return frames
