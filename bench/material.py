"""Streams to measure with: the test card, and sound, silence or noise."""

from __future__ import annotations

import random
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

from direkt.codec.bits import pack, u
from direkt.codec.testcard import CardSettings
from direkt.container import flv
from direkt.sim.push import AudioSettings, Programme

SECONDS = 32  # 1500 audio frames of 1024 samples at 48 kHz: video and audio repeat together
Tag = tuple[int, int, bytes]  # ms, kind, body


def noise_frames() -> Iterator[bytes]:
    """AAC-LC stereo frames of faint noise whose loudness is hard to tell without decoding: no two are alike.

    Every band carries values of codebook 1 (four to a code, each -1, 0 or 1) at a scale factor near -70 dB.
    """
    source = random.Random(7)
    size = round(160_000 * 1024 / 48000 / 8)
    while True:
        channel = u(64, 8) + "0000" + u(40, 6) + "0" + (u(1, 4) + u(1, 5)) * 40 + "0" * 40 + "000"
        channel += "".join(source.choice("01") for _ in range(size * 4 - len(channel)))
        yield pack("001" + "0000" + "0" + channel + channel)[:size]


def block(sound: str) -> tuple[list[Tag], list[Tag]]:
    """Configurations, and the tags of 32 s of 720p30 at 6 Mbit/s CBR with AAC at 160 kbit/s."""
    video = CardSettings(1280, 720, Fraction(30), 60, "high", 5840, "cbr")
    programme = Programme(video, AudioSettings(48000, 2, 160, tone=sound != "silence"))
    noise = noise_frames()
    tags: list[Tag] = []
    while (tag := programme.next())[0] < SECONDS:
        when, kind, body = tag
        if kind == flv.AUDIO and sound == "noise":
            body = flv.audio_frame(next(noise))
        tags.append((round(when * 1000), kind, body))
    return [(0, kind, body) for kind, body in programme.configs()], tags


def write_hour(path: Path, sound: str, hours: float = 1) -> None:
    """An hour of it as FLV: the block, repeated with running times."""
    configs, tags = block(sound)
    with path.open("wb") as file:
        file.write(flv.header())
        for stamp, kind, body in configs:
            file.write(flv.tag(kind, stamp, body))
        for start in range(0, int(3600 * hours), SECONDS):
            file.write(b"".join(flv.tag(kind, start * 1000 + stamp, body) for stamp, kind, body in tags))
