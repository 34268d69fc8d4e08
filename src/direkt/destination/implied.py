"""What a codec, a profile or another choice implies about other parameters: the standards' own limits, as a table.

A row says: where ``name`` is ``value``, ``other`` can only be what ``only`` says.
"""

from __future__ import annotations

from dataclasses import dataclass

from direkt import demand
from direkt.codec.aac_tables import SAMPLE_RATES
from direkt.demand import Demand, JsonDemand


@dataclass(frozen=True, slots=True)
class Implied:
    """One row."""

    name: str
    value: str
    other: str
    only: Demand
    because: str
    strict: bool = True  # False: it is unwise, not impossible
    alone: bool = False  # only where nothing but ``value`` is allowed: otherwise ``other`` is not about it


def _rows(name: str, value: str, because: str, **others: JsonDemand) -> list[Implied]:
    track = name.partition(".")[0]
    return [
        Implied(name, value, f"{track}.{other.replace('__', '.')}", demand.parse(f"{track}.{other.replace('__', '.')}", only), because)
        for other, only in others.items()
    ]  # fmt: skip


_H264 = ["baseline", "constrained-baseline", "main", "extended", "high", "high10", "high422", "high444", "other"]
_H265 = ["main", "main10", "other"]
_MPEG_RATES: list[int | float | str] = [16000, 22050, 24000, 32000, 44100, 48000]
_NO_COLOUR = ["4:0:0", "4:2:0"]

IMPLIED: tuple[Implied, ...] = (
    # H.264, Annex A.2
    *(
        row for profile in ("baseline", "constrained-baseline")
        for row in _rows("video.profile", profile, f"{profile} is 4:2:0 of 8 bits, without B-pictures, CABAC and fields",
                         b_frames=0, entropy="cavlc", scan="progressive", chroma="4:2:0", bit_depth=8)
    ),
    *_rows("video.profile", "extended", "extended is 4:2:0 of 8 bits, without CABAC", entropy="cavlc", chroma="4:2:0", bit_depth=8),
    *_rows("video.profile", "main", "main has 4:2:0 of 8 bits", chroma="4:2:0", bit_depth=8),
    *_rows("video.profile", "high", "high has 4:2:0 of 8 bits", chroma=[*_NO_COLOUR], bit_depth=8),
    *_rows("video.profile", "high10", "high10 has 4:2:0 of at most 10 bits", chroma=[*_NO_COLOUR], bit_depth={"max": 10}),
    *_rows("video.profile", "high422", "high422 has at most 4:2:2 of 10 bits", chroma=[*_NO_COLOUR, "4:2:2"], bit_depth={"max": 10}),
    *_rows("video.profile", "high444", "high444 has at most 14 bits", bit_depth={"max": 14}),
    # H.265, A.3
    *_rows("video.profile", "main10", "main10 has 4:2:0 of at most 10 bits", chroma="4:2:0", bit_depth={"max": 10}),
    *_rows("video.codec", "h264", "that is no profile of H.264", profile=[*_H264]),
    *_rows("video.codec", "h265", "that is no profile of H.265", profile=[*_H265]),
    *_rows("video.codec", "h265", "H.265 always uses CABAC", entropy="cabac"),
    *_rows("video.codec", "mjpeg", "Motion JPEG has whole pictures only", b_frames=0),
    # MPEG audio (ISO/IEC 11172-3, 13818-3), AAC (14496-3), Opus (RFC 6716, 7845), G.711
    *_rows("audio.codec", "aac", "AAC has other sample rates", sample_rate=[*SAMPLE_RATES]),
    *_rows("audio.codec", "mp3", "MP3 has at most two channels and 320 kbit/s", sample_rate=[*_MPEG_RATES, 8000, 11025, 12000],
           channels={"max": 2}, bitrate__mean={"max": 320}),
    *_rows("audio.codec", "mp2", "layer II has at most two channels and 384 kbit/s", sample_rate=[*_MPEG_RATES],
           channels={"max": 2}, bitrate__mean={"max": 384}),
    *_rows("audio.codec", "opus", "Opus runs at 8, 12, 16, 24 or 48 kHz", sample_rate=[8000, 12000, 16000, 24000, 48000]),
    *_rows("audio.codec", "g711a", "G.711 has 8000 Hz", sample_rate=8000),
    *_rows("audio.codec", "g711u", "G.711 has 8000 Hz", sample_rate=8000),
    *_rows("audio.codec", "ac3", "AC-3 has at most six channels and 640 kbit/s", sample_rate=[32000, 44100, 48000],
           channels={"max": 6}, bitrate__mean={"max": 640}),
    *(
        Implied("audio.codec", codec, "audio.profile", demand.parse("audio.profile", "other"), "only AAC has such profiles", alone=True)
        for codec in ("opus", "mp3", "mp2", "g711a", "g711u", "ac3")
    ),
    *_rows("audio.profile", "he-v2", "its stereo is made from one channel", channels=2),
    *(
        Implied("video.colour.transfer", curve, "video.bit_depth", demand.parse("video.bit_depth", {"min": 10}),
                "with 8 bits it shows steps", strict=False)
        for curve in ("bt.2100-pq", "bt.2100-hlg")
    ),
)  # fmt: skip
