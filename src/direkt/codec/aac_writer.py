"""Writes AAC-LC frames (ISO/IEC 14496-3) of silence or of one steady tone, at an even bitrate."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from direkt.codec.aac import FRAME_SAMPLES
from direkt.codec.aac_books import BOOKS
from direkt.codec.aac_tables import LONG_BANDS, SAMPLE_RATES, SCALE_CODES, SCALE_LENGTHS
from direkt.codec.bits import BitstreamError, pack, u


def build_config(sample_rate: int, channels: int) -> bytes:
    """An AudioSpecificConfig of AAC-LC. Raises BitstreamError for what is not in the standard's tables."""
    if sample_rate not in SAMPLE_RATES:
        raise BitstreamError(f"audio sample rate {sample_rate} Hz: expected one of {', '.join(map(str, SAMPLE_RATES))}")
    if channels not in (1, 2):
        raise BitstreamError(f"{channels} audio channels: expected 1 or 2")
    return pack(u(2, 5) + u(SAMPLE_RATES.index(sample_rate), 4) + u(channels, 4) + "000")


class ToneWriter:
    """Makes one frame after the other.

    The tone's frequency is the multiple of (sample rate / 1024) nearest to 1 kHz: then every frame of 1024
    samples is the same, is made once, and only the fill elements (ISO/IEC 14496-3, 4.4.2.7) that hold the bitrate differ.
    Raises BitstreamError for rates, channels or bitrates (kbit/s) that AAC-LC cannot carry.
    """

    def __init__(self, sample_rate: int, channels: int, bitrate: int, *, tone: bool = True) -> None:
        self.config = build_config(sample_rate, channels)
        self._bits_per_frame = bitrate * 1000 * FRAME_SAMPLES / sample_rate
        highest = 6144 * channels  # ISO/IEC 14496-3, 4.5.3.1: bits of the decoder's input buffer
        channel = _tone_channel(sample_rate) if tone else u(100, 8) + _LONG_WINDOW + u(0, 6) + "0" + "000"
        if channels == 1:
            self._content = "000" + "0000" + channel
        elif tone:
            self._content = "001" + "0000" + "0" + channel + channel
        else:
            self._content = "001" + "0000" + "0" + channel * 2
        lowest = len(self._content) + 3
        if not lowest <= self._bits_per_frame <= highest:
            raise BitstreamError(
                f"audio bitrate {bitrate} kbit/s: at {sample_rate} Hz expected "
                f"{math.ceil(lowest * sample_rate / FRAME_SAMPLES / 1000)} to "
                f"{highest * sample_rate // FRAME_SAMPLES // 1000} kbit/s"
            )
        self._count = 0
        self._sent = 0  # bytes

    def next(self) -> bytes:
        """The next raw_data_block."""
        self._count += 1
        size = int(self._count * self._bits_per_frame / 8) - self._sent
        frame = filled(self._content, size)
        self._sent += len(frame)
        return frame


def filled(digits: str, size: int) -> bytes:
    """The elements of a raw_data_block (ISO/IEC 14496-3, 4.4.2.1), filled up to ``size`` bytes, and its end."""
    room = (8 * size - len(digits) - 3) // 8
    while room >= 1:
        # a fill element of n bytes takes 7 bits, or 15 from n = 15 on
        count = min(room - 1, 14) if room <= 16 else min(room - 2, 269)
        digits += "110" + (u(count, 4) if count < 15 else "1111" + u(count - 14, 8)) + "0" * (8 * count)
        room = (8 * size - len(digits) - 3) // 8
    frame = pack(digits + "111")
    return frame + bytes(max(0, size - len(frame)))


_LONG_WINDOW = "0" + "00" + "0"  # ics_reserved_bit, ONLY_LONG_SEQUENCE, sine window (ISO/IEC 14496-3, Table 4.6)
_BOOK = 7


@lru_cache(maxsize=16)
def _tone_channel(sample_rate: int) -> str:
    """individual_channel_stream() (ISO/IEC 14496-3, Table 4.50) of a tone at -20 dB of full scale, with its own ics_info."""
    bands = LONG_BANDS[SAMPLE_RATES.index(sample_rate)]
    cycles = round(1000 * FRAME_SAMPLES / sample_rate)
    n = np.arange(2 * FRAME_SAMPLES)
    window = np.sin(np.pi * (n + 0.5) / (2 * FRAME_SAMPLES))
    wave = 3277.0 * np.sin(2 * np.pi * cycles * n / FRAME_SAMPLES) * window
    last = 2 * cycles + 8
    k = np.arange(last)
    spectrum = 2 * np.cos(np.pi / FRAME_SAMPLES * np.outer(k + 0.5, n + 512.5)) @ wave  # ISO/IEC 14496-3, 4.6.11.3
    count = next(i for i, offset in enumerate(bands) if offset >= last)
    spectrum = np.concatenate([spectrum, np.zeros(bands[count] - last)])
    floor = float(np.abs(spectrum).max()) / 500
    scales: list[int | None] = []
    values: list[list[int]] = []
    for band in range(count):
        part = spectrum[bands[band] : bands[band + 1]]
        peak = float(np.abs(part).max())
        if peak < floor:
            scales.append(None)
            values.append([])
            continue
        wanted = 100 + math.ceil(4 * math.log2(peak / 7 ** (4 / 3)))
        step = 2.0 ** ((wanted - 100) / 4)
        scales.append(wanted)
        values.append([int(math.copysign(min(7, int((abs(x) / step) ** 0.75 + 0.4054)), x)) for x in part])
    gain = next(scale for scale in scales if scale is not None)
    digits = u(gain, 8) + _LONG_WINDOW + u(count, 6) + "0"  # no predictor
    for scale in scales:
        digits += u(0 if scale is None else _BOOK, 4) + u(1, 5)
    for coded in (scale for scale in scales if scale is not None):
        index = coded - gain + 60
        digits += u(SCALE_CODES[index], SCALE_LENGTHS[index])
        gain = coded
    digits += "000"  # no pulse data, no TNS, no gain control
    for quantised in values:
        for a, b in zip(quantised[::2], quantised[1::2], strict=True):
            index = 8 * abs(a) + abs(b)
            digits += u(BOOKS[_BOOK].codes[index], BOOKS[_BOOK].lengths[index])
            digits += "".join("1" if x < 0 else "0" for x in (a, b) if x)
    return digits
