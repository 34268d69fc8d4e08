"""Reads AAC (ISO/IEC 14496-3): the AudioSpecificConfig, and whether a frame carries sound.

A frame's sound is judged without decoding it: section data says which bands carry anything, scale factors say
how loud they can be at most. The spectrum behind them is never read, so a frame costs O(its bands).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from direkt.codec.aac_tables import CHANNELS, LARGEST, SAMPLE_RATES, SCALE_CODES, SCALE_LENGTHS
from direkt.codec.bits import BitReader, BitstreamError
from direkt.codec.reader import Declared, Remark, Sound
from direkt.media import Buffer, Column, Format, Samples, Scalar

FRAME_SAMPLES = 1024  # of the core; SBR doubles them
_LOOKED_AT = 768  # bytes of a frame, at most
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


_REMEMBERED = 256  # frames whose sound is remembered: silence repeats


class Reader:
    """Reads one track of raw_data_blocks."""

    def __init__(self, remark: Remark) -> None:
        self._remark = remark
        self._config: AudioConfig | None = None
        self._known: dict[bytes, Sound] = {}
        self._said = Declared()

    def configure(self, format: Format) -> None:
        """An AudioSpecificConfig; without one, what the source says is all there is."""
        said: dict[str, Scalar]
        if format.configuration:
            config = self._config = parse_config(format.configuration)
            said = {"audio.profile": config.profile, "audio.sample_rate": config.sample_rate}
            channels = config.channels
        else:
            self._config = None
            said = {"audio.sample_rate": format.sample_rate} if format.sample_rate else {}
            channels = format.channels
        self._said = Declared({**said, "audio.channels": channels} if channels else said)

    @property
    def declared(self) -> Declared:
        """Profile, sample rate and channels."""
        return self._said

    @property
    def rate(self) -> int:
        """Hz of the core, in which frames are counted."""
        return self._config.core_rate if self._config else 0

    def lengths(self, samples: Samples) -> Column | None:
        """Every frame is of one length."""
        return np.full(len(samples), self._config.frame_samples, np.int64) if self._config else None

    def sound(self, samples: Samples, n: int) -> Sound:
        """What frame ``n`` carries."""
        if self._config is None:
            return Sound.UNKNOWN
        frame = bytes(samples.sample(n)[:_LOOKED_AT])
        known = self._known.get(frame)
        if known is None:
            if len(self._known) >= _REMEMBERED:
                self._known.clear()
            known = self._known[frame] = sound_of(frame)
        return known


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
        return _sound_of(BitReader(frame[:_LOOKED_AT]))
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
