"""A programme of our own making: the test card and a tone, as media events in the order of their times."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from direkt.codec import g711
from direkt.codec import h264_syntax as h264
from direkt.codec.aac import FRAME_SAMPLES
from direkt.codec.aac_writer import ToneWriter
from direkt.codec.h265_card import H265Card
from direkt.codec.testcard import CardSettings, TestCard
from direkt.media import Claims, Format, Framing, Samples, Scalar, batch


@dataclass(frozen=True, slots=True)
class AudioSettings:
    """What the sound shall be."""

    sample_rate: int  # Hz
    channels: int
    bitrate: int  # kbit/s
    tone: bool = True  # False: silence
    codec: str = "aac"  # or g711a, g711u


def exact_rate(frame_rate: float) -> Fraction:
    """29.97, 59.94 and their like as the fractions that they stand for; others as they are."""
    for whole in (24, 30, 48, 60, 120):
        exact = Fraction(whole * 1000, 1001)
        if abs(frame_rate - float(exact)) < 0.005:
            return exact
    return Fraction(frame_rate).limit_denominator(1000)


class Programme:
    """The media events of a stream in the order of their times."""

    def __init__(
        self, video: CardSettings, audio: AudioSettings | None, codec: str = "h264", *, first: tuple[int, int] = (0, 0)
    ) -> None:  # fmt: skip
        """``first``: numbers of the first picture and audio frame, where it goes on from another programme."""
        self.video, self.audio, self.codec = video, audio, codec
        self._card = H265Card(video) if codec == "h265" else TestCard(video)
        self._tone: ToneWriter | None = None
        self._telephone = b""
        self._pictures, self._frames = first
        self._picture = 1 / video.frame_rate  # s
        self._frame = Fraction(0)  # s
        if audio is not None and audio.codec == "aac":
            self._tone = ToneWriter(audio.sample_rate, audio.channels, audio.bitrate, tone=audio.tone)
            self._frame = Fraction(FRAME_SAMPLES, audio.sample_rate)
        elif audio is not None:
            self._telephone = g711.tone_packet(audio.codec, tone=audio.tone)
            self._frame = Fraction(g711.PACKET, 8000)

    @property
    def next_numbers(self) -> tuple[int, int]:
        """Numbers of the next picture and audio frame."""
        return self._pictures, self._frames

    def claims(self) -> Claims:
        """What the device says of its stream."""
        values: dict[str, Scalar] = {
            "video.width": self.video.width, "video.height": self.video.height,
            "video.frame_rate": float(self.video.frame_rate), "video.codec": self.codec,
        }  # fmt: skip
        if self.video.bitrate:
            values["video.bitrate.mean"] = self.video.bitrate
        if self.audio:
            values |= {"audio.codec": self.audio.codec, "audio.sample_rate": self.audio.sample_rate,
                       "audio.bitrate.mean": self.audio.bitrate, "audio.channels": self.audio.channels}  # fmt: skip
        return Claims("the device", values)

    def formats(self) -> list[Format]:
        """How the tracks are coded. A tick is the length of a picture, or of an audio frame."""
        card = self._card
        record = card.configuration if isinstance(card, H265Card) else h264.build_avc_config(card.sps, card.pps)
        formats = [Format("video", self.codec, self._picture, Framing.LENGTHS, record)]
        if self._tone is not None:
            formats.append(Format("audio", "aac", self._frame, Framing.RAW, self._tone.config))
        elif self.audio is not None:
            formats.append(Format("audio", self.audio.codec, self._frame, sample_rate=8000, channels=1))
        return formats

    def next(self) -> tuple[Fraction, Samples]:
        """The next picture or audio frame, and its time in s."""
        picture_time, frame_time = self._pictures * self._picture, self._frames * self._frame
        if self.audio is not None and frame_time < picture_time:
            n, self._frames = self._frames, self._frames + 1
            data = self._tone.next() if self._tone is not None else self._telephone
            return frame_time, batch("audio", [data], [n], [n], [True])
        n, self._pictures = self._pictures, self._pictures + 1
        picture = self._card.next()
        # parameter sets travel in the configuration, as ISO/IEC 14496-15 wants it for 'avc1' and 'hvc1'
        left_out = (self._card.vps, self._card.sps, self._card.pps) if isinstance(self._card, H265Card) else ()
        picture.nals = [
            nal for nal in picture.nals
            if nal not in left_out and (left_out or nal[0] & 31 not in (h264.SPS, h264.PPS, h264.AUD))
        ]  # fmt: skip
        return picture_time, batch("video", [picture.length_prefixed()], [n], [n], [picture.keyframe])
