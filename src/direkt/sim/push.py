"""The push of a simulated device: the test card and a tone, paced in real time, over RTMP."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction

from direkt.codec import h264_syntax as h264
from direkt.codec.aac_writer import ToneWriter
from direkt.codec.testcard import CardSettings, TestCard
from direkt.container import flv
from direkt.net.transport import Publisher


@dataclass(frozen=True, slots=True)
class AudioSettings:
    """What the sound shall be."""

    sample_rate: int  # Hz
    channels: int
    bitrate: int  # kbit/s
    tone: bool = True  # False: silence


def exact_rate(frame_rate: float) -> Fraction:
    """29.97, 59.94 and their like as the fractions that they stand for; others as they are."""
    for whole in (24, 30, 48, 60, 120):
        exact = Fraction(whole * 1000, 1001)
        if abs(frame_rate - float(exact)) < 0.005:
            return exact
    return Fraction(frame_rate).limit_denominator(1000)


class Programme:
    """The tags of a stream in the order of their times, as RTMP and FLV carry them."""

    def __init__(self, video: CardSettings, audio: AudioSettings | None) -> None:
        self.video, self.audio = video, audio
        self._card = TestCard(video)
        self._tone = ToneWriter(audio.sample_rate, audio.channels, audio.bitrate, tone=audio.tone) if audio else None
        self._pictures = self._frames = 0

    def metadata(self) -> dict[str, float | str | bool]:
        """The facts of onMetaData."""
        facts: dict[str, float | str | bool] = {
            "width": float(self.video.width), "height": float(self.video.height),
            "framerate": float(self.video.frame_rate), "videocodecid": 7.0, "encoder": "Brindle B2",
        }  # fmt: skip
        if self.video.bitrate:
            facts["videodatarate"] = float(self.video.bitrate)
        if self.audio:
            facts |= {"audiocodecid": 10.0, "audiosamplerate": float(self.audio.sample_rate),
                      "audiodatarate": float(self.audio.bitrate), "stereo": self.audio.channels == 2}  # fmt: skip
        return facts

    def configs(self) -> list[tuple[int, bytes]]:
        """Kind and body of the configuration tags."""
        tags = [(flv.VIDEO, flv.video_config(h264.build_avc_config(self._card.sps, self._card.pps)))]
        if self._tone is not None:
            tags.append((flv.AUDIO, flv.audio_config(self._tone.config)))
        return tags

    def next(self) -> tuple[float, int, bytes]:
        """Time (s), kind and body of the next tag."""
        video_time = self._pictures / float(self.video.frame_rate)
        if self._tone is not None:
            audio_time = self._frames * self._tone.frame_seconds
            if audio_time < video_time:
                self._frames += 1
                return audio_time, flv.AUDIO, flv.audio_frame(self._tone.next())
        self._pictures += 1
        picture = self._card.next()
        # parameter sets travel in the configuration, as ISO/IEC 14496-15 wants it for 'avc1'
        picture.nals = [nal for nal in picture.nals if nal[0] & 31 not in (h264.SPS, h264.PPS, h264.AUD)]
        return video_time, flv.VIDEO, flv.video_frame(picture.length_prefixed(), key=picture.keyframe)


async def push(publisher: Publisher, programme: Programme, progress: Callable[[int], None]) -> None:
    """Pushes until cancelled. Raises PublishError; ``progress`` is told the bytes sent."""
    await publisher.start()
    try:
        await publisher.metadata(programme.metadata())
        for kind, body in programme.configs():
            await publisher.send(kind, 0, body)
        loop = asyncio.get_running_loop()
        begin = loop.time()
        while True:
            time, kind, body = programme.next()
            ahead = begin + time - loop.time()
            if ahead > 0:
                await asyncio.sleep(ahead)
            await publisher.send(kind, round(time * 1000), body)
            progress(publisher.sent)
    finally:
        await publisher.close()
