"""What every container and protocol turns into: codec configurations, samples, claims and breaks."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal, NamedTuple

Buffer = bytes | bytearray | memoryview
Track = Literal["video", "audio"]

Scalar = int | float | str


class MediaError(ValueError):
    """A file or a message that is not what it says it is; the text says where."""


class Sample(NamedTuple):
    """One coded picture or audio frame."""

    track: Track
    dts: float  # s: decoding time
    pts: float  # s: presentation time
    data: Buffer  # as the container holds it: for H.264, NAL units with lengths
    key: bool  # what the container claims of it


@dataclass(frozen=True, slots=True)
class CodecConfig:
    """How the following samples of a track are coded."""

    track: Track
    codec: str  # in the words of video.codec and audio.codec
    data: bytes = b""  # AVCDecoderConfigurationRecord or AudioSpecificConfig; empty: the codec has none
    sample_rate: int = 0  # Hz, where the container alone tells
    channels: int = 0
    first: Sample | None = None  # the sample that announced a codec without a configuration


@dataclass(frozen=True, slots=True)
class Claims:
    """What a container says of its own content, by parameter name."""

    source: str  # "onMetaData", "MP4 header"
    values: dict[str, Scalar] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Break:
    """The place where a recording stops making sense. Nothing comes behind it."""

    offset: int  # byte of the file
    reason: str


MediaEvent = Sample | CodecConfig | Claims | Break
