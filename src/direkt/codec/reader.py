"""What a codec reader is, and how one is found for a format.

``video_reader`` and ``audio_reader`` give the reader of a format; measuring knows nothing else of codecs.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import IntEnum
from fractions import Fraction
from typing import Protocol, cast

import numpy as np

from direkt.codec import registry
from direkt.media import Codes, Column, Format, Marks, Samples, Scalar

Remark = Callable[[str], None]  # is told, in words, of what breaks a rule


class Join(IntEnum):
    """Whether decoding can begin with a picture."""

    NO = 0
    RECOVERY = 1  # after some pictures, or with some that cannot be shown
    KEYFRAME = 2  # at once, and nothing behind it needs what lay before


class Scan(IntEnum):
    """How a picture was taken."""

    UNKNOWN = 0
    WHOLE = 1
    FIELDS = 2


class Parity(IntEnum):
    """Which field of a picture comes first."""

    UNKNOWN = 0
    TOP = 1
    BOTTOM = 2


class Motion(IntEnum):
    """Whether a picture adds anything to those that it refers to."""

    UNKNOWN = 0  # it refers to none
    STILL = 1
    SOME = 2


@dataclass(frozen=True, slots=True)
class Promise:
    """What the stream's header promises of its bitrate."""

    bitrate: int  # bit/s
    constant: bool
    buffer: int = 0  # bits through which it fits at that rate; 0: not said


@dataclass(frozen=True, slots=True)
class Declared:
    """What a stream's own headers say of its pictures or sound, by parameter name."""

    values: Mapping[str, Scalar] = field(default_factory=dict)
    frame_rate: Fraction | None = None  # pictures a second
    promise: Promise | None = None
    summary: str = ""  # in a few words, to name it by


@dataclass(frozen=True, slots=True)
class Pictures:
    """What a batch of samples holds, a row for each picture in decoding order.

    A picture may lie in several samples, and go on in the next batch.
    """

    first: Column  # the sample in which each picture begins
    join: Codes  # Join
    bipredicted: Marks  # some of it refers to two others
    scan: Codes  # Scan
    parity: Codes  # Parity
    motion: Codes  # Motion
    anchor: Marks  # it refers to nothing, but pictures behind it may still refer to what lay before it
    slices: Column  # in each picture
    changes: tuple[tuple[int, Declared], ...] = ()  # (number of the picture, what is declared from it on)
    damaged: int = 0  # samples whose units do not add up
    filler: int = 0  # bytes that carry nothing
    late_slices: int = 0  # of the picture before this batch, which goes on in it
    late_bipredicted: bool = False  # that picture refers to two others there


def opaque_pictures(first: Column) -> Pictures:
    """Pictures of which only their beginning is known."""
    none, no = np.zeros(len(first), np.int8), np.zeros(len(first), np.bool_)
    return Pictures(first, none, no, none, none, none, no, np.zeros(len(first), np.int64))


class VideoReader(Protocol):
    """Reads the headers of one video track."""

    knows_keyframes: bool  # False: join says nothing

    def configure(self, format: Format) -> None:
        """The track's format, at its begin or later. Raises BitstreamError for a record that cannot be read."""

    @property
    def declared(self) -> Declared | None:
        """What was declared last; None before anything was."""

    def read(self, samples: Samples) -> Pictures:
        """The pictures in the next batch. Never raises for bad bytes: they are counted."""


class AudioReader(Protocol):
    """Reads the headers of one audio track."""

    def configure(self, format: Format) -> None:
        """The track's format, at its begin or later. Raises BitstreamError for a record that cannot be read."""

    @property
    def declared(self) -> Declared:
        """What is declared of the sound."""

    @property
    def configured(self) -> bool | None:
        """Whether the configuration came without which nothing decodes the sound; None: the codec needs none."""

    @property
    def rate(self) -> int:
        """Audio samples a second in which lengths are counted; 0: not known."""

    def lengths(self, samples: Samples) -> Column | None:
        """How long each frame is, in audio samples; None where the codec does not tell."""

    def power(self, samples: Samples, n: int) -> float | None:
        """The mean square of the sound in sample ``n``, 1 being full scale; None where it cannot be told."""


def video_reader(format: Format, remark: Remark) -> VideoReader:
    """The reader of a video format; for a codec without one, a reader that finds a picture in each sample."""
    row = registry.find("video", format.codec)
    if not row.module:
        return OpaqueVideo()
    return cast(VideoReader, importlib.import_module(f"direkt.codec.{row.module}").Reader(remark))


def audio_reader(format: Format, remark: Remark) -> AudioReader:
    """The reader of an audio format; for a codec without one, a reader that knows what the source says."""
    row = registry.find("audio", format.codec)
    if not row.module:
        return OpaqueAudio()
    return cast(AudioReader, importlib.import_module(f"direkt.codec.{row.module}").Reader(remark))


class OpaqueVideo:
    """For codecs that nothing here reads: each sample is a picture."""

    knows_keyframes = False
    declared: Declared | None = None

    def configure(self, format: Format) -> None:
        """Nothing in it can be read."""

    def read(self, samples: Samples) -> Pictures:
        """A picture for each sample."""
        return opaque_pictures(np.arange(len(samples)))


class OpaqueAudio:
    """For codecs that nothing here reads, and the base of readers of simple ones."""

    def __init__(self, remark: Remark | None = None) -> None:
        self.remark = remark
        self.declared = Declared()
        self.configured: bool | None = None
        self.rate = 0

    def configure(self, format: Format) -> None:
        """Takes what the source says."""
        self.declare(format.sample_rate, format.channels)

    def declare(self, sample_rate: int, channels: int, **more: Scalar) -> None:
        """Sets what is declared; 0 is left out."""
        said: dict[str, Scalar] = {"audio.sample_rate": sample_rate, "audio.channels": channels}
        self.declared = Declared({**{f"audio.{k}": v for k, v in more.items()}, **{k: v for k, v in said.items() if v}})

    def lengths(self, samples: Samples) -> Column | None:
        """Not known."""
        return None

    def power(self, samples: Samples, n: int) -> float | None:
        """Not known."""
        return None
