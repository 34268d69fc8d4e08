"""Streams to measure with: the test card, and sound, silence or noise."""

from __future__ import annotations

import random
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

from direkt.codec.bits import pack, u
from direkt.codec.programme import AudioSettings, Programme
from direkt.codec.testcard import CardSettings
from direkt.container import flv_writer, ts_writer
from direkt.media import Format, Samples, batch

SECONDS = 32  # 1500 audio frames of 1024 samples at 48 kHz: video and audio repeat together


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


def block(sound: str) -> tuple[list[Format], list[Samples]]:
    """Formats, and the samples of 32 s of 720p30 at 6 Mbit/s CBR with AAC at 160 kbit/s, one by one."""
    video = CardSettings(1280, 720, Fraction(30), 60, "high", 5840, "cbr")
    programme = Programme(video, AudioSettings(48000, 2, 160, tone=sound != "silence"))
    noise = noise_frames()
    out: list[Samples] = []
    while (following := programme.next())[0] < SECONDS:
        samples = following[1]
        if samples.track == "audio" and sound == "noise":
            n = int(samples.dts[0])
            samples = batch("audio", [next(noise)], [n], [n], [True])
        out.append(samples)
    return programme.formats(), out


def tags(formats: list[Format], samples: list[Samples]) -> list[flv_writer.Tag]:
    """The same as tags."""
    writer = flv_writer.TagWriter()
    return [tag for event in (*formats, *samples) for tag in writer.tags(event)]


def write_hour(path: Path, sound: str, hours: float = 1) -> None:
    """An hour of it as FLV: the block, repeated with running times."""
    formats, samples = block(sound)
    made = tags(formats, samples)
    configs, rest = made[: len(formats)], made[len(formats) :]
    with path.open("wb") as file:
        file.write(flv_writer.header() + b"".join(flv_writer.tag(*tag) for tag in configs))
        for start in range(0, int(3600 * hours) * 1000, SECONDS * 1000):
            file.write(b"".join(flv_writer.tag(kind, start + stamp, body) for kind, stamp, body in rest))


def write_ts(path: Path, minutes: float) -> None:
    """The same picture and tone as a transport stream: the block again and again, whose times go back at each seam."""
    formats, samples = block("tone")
    writer = ts_writer.TsWriter()
    for event in formats:
        writer.format(event)
    once = writer.tables() + b"".join(packets for event in samples for _, _, packets in writer.samples(event))
    with path.open("wb") as file:
        for _ in range(round(minutes * 60 / SECONDS)):
            file.write(once)
