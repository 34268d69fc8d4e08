"""AAC (ISO/IEC 14496-3): the AudioSpecificConfig, whether a frame carries sound, and a writer of silence or a tone.

A frame's sound is judged without decoding it: section data says which bands carry anything, scale factors say
how loud they can be at most. The spectrum behind them is never read, so a frame costs O(its bands).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

from direkt.bitstream.aac_tables import (
    CHANNELS,
    LARGEST,
    LONG_BANDS,
    PAIR_CODES,
    PAIR_LENGTHS,
    SAMPLE_RATES,
    SCALE_CODES,
    SCALE_LENGTHS,
)
from direkt.bitstream.bits import BitReader, BitstreamError, pack, u

Buffer = bytes | bytearray | memoryview

FRAME_SAMPLES = 1024  # of the core; SBR doubles them
QUIET = 33.0  # 16-bit code values: -60 dB of full scale, below which a frame counts as silent


@dataclass(frozen=True, slots=True)
class AudioConfig:
    """AudioSpecificConfig (1.6.2.1)."""

    object_type: int  # of the core: 1 main, 2 LC, 4 LTP ...
    core_rate: int  # Hz
    sample_rate: int  # Hz, as heard
    channels: int  # as heard; 0: described elsewhere
    frame_samples: int  # core samples in a frame: 1024 or 960
    sbr: bool = False
    ps: bool = False

    @property
    def profile(self) -> str:
        """The profile in the parameters' words."""
        if self.ps:
            return "he-v2"
        if self.sbr:
            return "he"
        return {1: "main", 2: "lc"}.get(self.object_type, "other")

    @property
    def frame_seconds(self) -> float:
        """Length of one frame."""
        return self.frame_samples / self.core_rate


def _object_type(bits: BitReader) -> int:
    kind = bits.u(5)
    return 32 + bits.u(6) if kind == 31 else kind


def _rate(bits: BitReader) -> int:
    index = bits.u(4)
    if index == 15:
        rate = bits.u(24)
        if not rate:
            raise BitstreamError("an audio sample rate of 0 Hz")
        return rate
    if index >= len(SAMPLE_RATES):
        raise BitstreamError(f"audio sample rate index {index} is reserved")
    return SAMPLE_RATES[index]


def _program_channels(bits: BitReader) -> int:
    """Channels that a program_config_element (4.4.1.1) describes."""
    bits.u(4 + 2 + 4)
    front, side, back, lfe = bits.u(4), bits.u(4), bits.u(4), bits.u(2)
    bits.u(3 + 4)
    for length in (4, 4, 3):
        if bits.flag():
            bits.u(length)
    count = 0
    for _ in range(front + side + back):
        count += 2 if bits.flag() else 1
        bits.u(4)
    return count + lfe


def parse_config(data: Buffer) -> AudioConfig:
    """The AudioSpecificConfig of FLV, RTMP and MP4. Raises BitstreamError."""
    bits = BitReader(data[:64])
    kind = _object_type(bits)
    core_rate = rate = _rate(bits)
    channel_code = bits.u(4)
    sbr = kind in (5, 29)
    ps = kind == 29
    if sbr:
        rate = _rate(bits)
        kind = _object_type(bits)
    if kind not in (1, 2, 3, 4, 6, 7, 17, 19, 20, 21, 22, 23):
        return AudioConfig(kind, core_rate, rate, CHANNELS.get(channel_code, 0), FRAME_SAMPLES, sbr, ps)
    short = bits.flag()
    if bits.flag():
        bits.u(14)
    bits.u(1)
    channels = CHANNELS.get(channel_code, 0) if channel_code else _program_channels(bits)
    if not sbr and bits.left >= 16 and bits.u(11) == 0x2B7 and _object_type(bits) == 5 and bits.flag():
        sbr, rate = True, _rate(bits)
        if bits.left >= 12 and bits.u(11) == 0x548:
            ps = bits.flag()
    if ps and channels == 1:
        channels = 2
    return AudioConfig(kind, core_rate, rate, channels, 960 if short else FRAME_SAMPLES, sbr, ps)


def build_config(sample_rate: int, channels: int) -> bytes:
    """An AudioSpecificConfig of AAC-LC. Raises BitstreamError for what is not in the standard's tables."""
    if sample_rate not in SAMPLE_RATES:
        raise BitstreamError(f"audio sample rate {sample_rate} Hz: expected one of {', '.join(map(str, SAMPLE_RATES))}")
    if channels not in (1, 2):
        raise BitstreamError(f"{channels} audio channels: expected 1 or 2")
    return pack(u(2, 5) + u(SAMPLE_RATES.index(sample_rate), 4) + u(channels, 4) + "000")


class Sound(StrEnum):
    """What a frame carries."""

    SILENCE = "silence"
    SOUND = "sound"
    UNKNOWN = "unknown"


_SCALE_BOOK = {(length, code): n - 60 for n, (length, code) in enumerate(zip(SCALE_LENGTHS, SCALE_CODES, strict=True))}
_NOISE, _INTENSITY_2, _INTENSITY = 13, 14, 15  # 4.6.2: codebooks that are not spectra


def _scale_step(bits: BitReader) -> int:
    code = 0
    for length in range(1, 20):
        code = code << 1 | bits.u(1)
        step = _SCALE_BOOK.get((length, code))
        if step is not None:
            return step
    raise BitstreamError("not a scale factor code")


@dataclass(slots=True)
class _Window:
    short: bool
    bands: int  # max_sfb
    groups: int


def _ics_info(bits: BitReader) -> _Window:
    """ics_info(), Table 4.6."""
    bits.u(1)
    sequence = bits.u(2)
    bits.u(1)
    if sequence == 2:
        bands, grouping = bits.u(4), bits.u(7)
        return _Window(True, bands, 8 - grouping.bit_count())
    bands = bits.u(6)
    if bits.flag():  # predictor data: main and LTP profiles only
        raise BitstreamError("prediction data")
    return _Window(False, bands, 1)


def _channel(bits: BitReader, window: _Window | None) -> float | None:
    """individual_channel_stream(), Table 4.50, up to its scale factors.

    Returns how loud the channel can be at most, in 16-bit code values: 0.0 where every band is empty, and then
    the reader stands behind the whole channel; any other value leaves it in the middle.
    """
    gain = bits.u(8)
    window = window or _ics_info(bits)
    step = 3 if window.short else 5
    books: list[int] = []
    for _ in range(window.groups):
        band = 0
        while band < window.bands:
            book, length = bits.u(4), 0
            while (more := bits.u(step)) == (1 << step) - 1:
                length += more
            length += more
            if book == 12 or not length or band + length > window.bands:
                raise BitstreamError("section data out of range")
            books += [book] * length
            band += length
    if not any(books):
        if bits.flag():  # pulse data makes no sense in an empty channel
            raise BitstreamError("pulse data in an empty channel")
        if bits.flag():  # tns_data_present, Table 4.52
            _skip_tns(bits, window)
        if bits.flag():
            raise BitstreamError("gain control data")
        return 0.0
    noise = gain - 90
    first_noise = True
    loudest = 0.0
    for book in books:
        if book in (0, _INTENSITY, _INTENSITY_2):
            if book:
                _scale_step(bits)
            continue
        if book == _NOISE:
            noise += bits.u(9) - 256 if first_noise else _scale_step(bits)
            first_noise = False
            loudest += 2.0 ** (0.25 * min(noise, 200)) / FRAME_SAMPLES
            continue
        gain += _scale_step(bits)
        if not 0 <= gain <= 255:
            raise BitstreamError("scale factor out of range")
        # 4.6.2.3.3 and 4.6.11: a value is q^(4/3) * 2^((sf - 100) / 4); an inverse transform divides by 1024
        loudest += 32 * LARGEST[book] ** (4 / 3) * 2.0 ** (0.25 * (gain - 100)) / FRAME_SAMPLES
    return loudest


def _skip_tns(bits: BitReader, window: _Window) -> None:
    """tns_data(), Table 4.52."""
    for _ in range(8 if window.short else 1):
        filters = bits.u(1 if window.short else 2)
        if not filters:
            continue
        resolution = bits.u(1)
        for _ in range(filters):
            bits.u(4 if window.short else 6)
            order = bits.u(3 if window.short else 5)
            if order:
                bits.u(1)
                compress = bits.u(1)
                bits.u(order * (3 + resolution - compress))


def sound_of(frame: Buffer) -> Sound:
    """Whether a raw_data_block (4.4.2.1) of AAC-LC carries sound above -60 dB of full scale."""
    try:
        return _sound_of(BitReader(frame[:768]))
    except BitstreamError:
        return Sound.UNKNOWN


def _sound_of(bits: BitReader) -> Sound:
    while True:
        element = bits.u(3)
        if element == 7:  # END
            return Sound.SILENCE
        if element in (0, 1, 3):  # SCE, CPE, LFE
            bits.u(4)
            window = None
            if element == 1 and bits.flag():
                window = _ics_info(bits)
                if bits.u(2) == 1:
                    bits.u(window.groups * window.bands)
            for _ in range(2 if element == 1 else 1):
                loudest = _channel(bits, window)
                if loudest is None or loudest > QUIET:
                    return Sound.SOUND
                if loudest:
                    return Sound.UNKNOWN  # too quiet to hear, and what follows cannot be reached
        elif element == 4:  # DSE
            bits.u(4)
            align = bits.flag()
            count = bits.u(8)
            if count == 255:
                count += bits.u(8)
            if align:
                bits.u(-bits.position % 8)
            bits.u(8 * count)
        elif element == 6:  # FIL
            count = bits.u(4)
            if count == 15:
                count += bits.u(8) - 1
            if bits.left < 8 * count:
                return Sound.SILENCE  # only filling is cut off
            bits.u(8 * count)
        else:
            return Sound.UNKNOWN


class ToneWriter:
    """Makes AAC-LC frames of silence or of one steady tone, at an even bitrate.

    The tone's frequency is the multiple of (sample rate / 1024) nearest to 1 kHz: then every frame of 1024
    samples is the same, is made once, and only the fill elements (4.4.2.7) that hold the bitrate differ.
    Raises BitstreamError for rates, channels or bitrates (kbit/s) that AAC-LC cannot carry.
    """

    def __init__(self, sample_rate: int, channels: int, bitrate: int, *, tone: bool = True) -> None:
        self.config = build_config(sample_rate, channels)
        self.frame_seconds = FRAME_SAMPLES / sample_rate
        self.frequency = round(1000 * FRAME_SAMPLES / sample_rate) * sample_rate / FRAME_SAMPLES if tone else 0.0  # Hz
        self._bits_per_frame = bitrate * 1000 * FRAME_SAMPLES / sample_rate
        highest = 6144 * channels  # 4.5.3.1: bits of the decoder's input buffer
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
        digits = self._content
        room = (8 * size - len(digits) - 3) // 8
        while room >= 1:
            # a fill element of n bytes takes 7 bits, or 15 from n = 15 on
            count = min(room - 1, 14) if room <= 16 else min(room - 2, 269)
            digits += "110" + (u(count, 4) if count < 15 else "1111" + u(count - 14, 8)) + "0" * (8 * count)
            room = (8 * size - len(digits) - 3) // 8
        frame = pack(digits + "111")
        frame += bytes(max(0, size - len(frame)))
        self._sent += len(frame)
        return frame


_LONG_WINDOW = "0" + "00" + "0"  # ics_reserved_bit, ONLY_LONG_SEQUENCE, sine window (Table 4.6)
_BOOK = 7


@lru_cache(maxsize=16)
def _tone_channel(sample_rate: int) -> str:
    """individual_channel_stream() (Table 4.50) of a tone at -20 dB of full scale, with its own ics_info."""
    import numpy as np

    bands = LONG_BANDS[SAMPLE_RATES.index(sample_rate)]
    cycles = round(1000 * FRAME_SAMPLES / sample_rate)
    n = np.arange(2 * FRAME_SAMPLES)
    window = np.sin(np.pi * (n + 0.5) / (2 * FRAME_SAMPLES))
    wave = 3277.0 * np.sin(2 * np.pi * cycles * n / FRAME_SAMPLES) * window
    last = 2 * cycles + 8
    k = np.arange(last)
    spectrum = 2 * np.cos(np.pi / FRAME_SAMPLES * np.outer(k + 0.5, n + 512.5)) @ wave  # 4.6.11.3
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
            digits += u(PAIR_CODES[index], PAIR_LENGTHS[index])
            digits += "".join("1" if x < 0 else "0" for x in (a, b) if x)
    return digits
