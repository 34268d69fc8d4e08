"""Reads AAC (ISO/IEC 14496-3): the AudioSpecificConfig, and through it the frames."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from direkt.codec.aac_frame import AacHeard, read_frame
from direkt.codec.aac_tables import CHANNELS, SAMPLE_RATES, rate_index
from direkt.codec.bits import BitReader, BitstreamError
from direkt.codec.reader import Declared, Remark
from direkt.media import Buffer, Column, Format, Samples, Scalar

FRAME_SAMPLES = 1024  # of the core; SBR doubles them


@dataclass(frozen=True, slots=True)
class AudioConfig:
    """AudioSpecificConfig (ISO/IEC 14496-3, 1.6.2.1)."""

    object_type: int  # of the core: 1 main, 2 LC, 4 LTP ...
    core_rate: int  # Hz
    sample_rate: int  # Hz, as heard
    channels: int  # as heard; 0: described elsewhere
    frame_samples: int  # core samples in a frame: 1024 or 960
    sbr: bool = False
    ps: bool = False
    sbr_said: bool = False  # the configuration says whether there is SBR

    @property
    def profile(self) -> str:
        """The profile in the parameters' words."""
        if self.ps:
            return "he-v2"
        if self.sbr:
            return "he"
        return {1: "main", 2: "lc"}.get(self.object_type, "other")


_REMEMBERED = 256  # frames that are remembered: silence repeats
_LC = 2


class Reader:
    """Reads one track of raw_data_blocks."""

    def __init__(self, remark: Remark) -> None:
        self._remark = remark
        self._config: AudioConfig | None = None
        self._known: dict[bytes, AacHeard | None] = {}
        self._said = Declared()

    def configure(self, format: Format) -> None:
        """An AudioSpecificConfig; without one, what the source says is all there is."""
        if format.configuration:
            self._config = parse_config(format.configuration)
            self._say(self._config)
            return
        self._config = None
        values: dict[str, Scalar] = {"audio.sample_rate": format.sample_rate, "audio.channels": format.channels}
        self._said = Declared({name: value for name, value in values.items() if value})

    def _say(self, config: AudioConfig) -> None:
        values: dict[str, Scalar] = {"audio.profile": config.profile, "audio.sample_rate": config.sample_rate}
        if config.channels:
            values["audio.channels"] = config.channels
        self._said = Declared(values)

    @property
    def declared(self) -> Declared:
        """Profile, sample rate and channels."""
        return self._said

    @property
    def configured(self) -> bool | None:
        """Whether an AudioSpecificConfig came."""
        return self._config is not None

    @property
    def rate(self) -> int:
        """Hz of the core, in which frames are counted."""
        return self._config.core_rate if self._config else 0

    def lengths(self, samples: Samples) -> Column | None:
        """Every frame is of one length."""
        return np.full(len(samples), self._config.frame_samples, np.int64) if self._config else None

    def power(self, samples: Samples, n: int) -> float | None:
        """The mean square of frame ``n``'s sound, 1 being full scale. SBR that only frames carry is declared from here on."""
        config = self._config
        if config is None or config.object_type != _LC:
            return None
        frame = bytes(samples.sample(n))
        if frame not in self._known:
            if len(self._known) >= _REMEMBERED:
                self._known.clear()
            self._known[frame] = _hear(frame, config)
        heard = self._known[frame]
        if heard is None:
            return None
        if heard.sbr and not config.sbr_said:
            # ISO/IEC 14496-3, 1.6.5.3: implicit signalling; the rate doubles
            self._config = replace(config, sbr=True, sbr_said=True, sample_rate=2 * config.core_rate)
            self._say(self._config)
        return heard.power


def _hear(frame: bytes, config: AudioConfig) -> AacHeard | None:
    try:
        heard = read_frame(frame, rate_index(config.core_rate), config.frame_samples)
    except BitstreamError:
        return None
    return heard if heard.channels else None


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
    """Channels that a program_config_element (ISO/IEC 14496-3, 4.4.1.1) describes."""
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
    return read_config(BitReader(data[:64]), extended=True)


def read_config(bits: BitReader, *, extended: bool) -> AudioConfig:
    """An AudioSpecificConfig; ``extended``: what stands behind it may say that there is SBR. Raises BitstreamError."""
    kind = _object_type(bits)
    core_rate = rate = _rate(bits)
    channel_code = bits.u(4)
    sbr = kind in (5, 29)
    ps = kind == 29
    if sbr:
        rate = _rate(bits)
        kind = _object_type(bits)
    if kind not in (1, 2, 3, 4, 6, 7, 17, 19, 20, 21, 22, 23):
        return AudioConfig(kind, core_rate, rate, CHANNELS.get(channel_code, 0), FRAME_SAMPLES, sbr, ps, sbr)
    short = bits.flag()
    if bits.flag():
        bits.u(14)
    bits.u(1)
    channels = CHANNELS.get(channel_code, 0) if channel_code else _program_channels(bits)
    said = sbr
    if extended and not sbr and bits.left >= 16 and bits.u(11) == 0x2B7 and _object_type(bits) == 5:
        said = True
        if bits.flag():
            sbr, rate = True, _rate(bits)
            if bits.left >= 12 and bits.u(11) == 0x548:
                ps = bits.flag()
    if ps and channels == 1:
        channels = 2
    return AudioConfig(kind, core_rate, rate, channels, 960 if short else FRAME_SAMPLES, sbr, ps, said)
