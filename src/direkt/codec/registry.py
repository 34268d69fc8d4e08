"""The table of codecs: one row for each, with the codes by which containers and protocols name it.

To add a codec is to write its reader, one file in this folder, and to name it here. A row without a reader is known by
name: of such a stream only times and bytes are measured.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from direkt.media import Track


@dataclass(frozen=True, slots=True)
class Codec:
    """One row of the table."""

    name: str  # the word of video.codec or audio.codec
    track: Track
    title: str  # as people write it
    module: str = ""  # its reader, in this folder
    four_cc: tuple[bytes, ...] = ()  # ISO/IEC 14496-12 sample entries; extended FLV and RTMP headers use them too
    flv: tuple[int, ...] = ()  # FLV 10.1, E.4.2.1 SoundFormat or E.4.3.1 CodecID
    object_types: tuple[int, ...] = ()  # ISO/IEC 14496-1, Table 5: objectTypeIndication
    record: bytes = b""  # the MP4 box that holds its configuration
    in_units: bool = False  # samples hold units behind lengths, and in FLV a composition time
    rate: int = 0  # Hz, where the codec has only one
    loose: bool = False  # every audio sample stands by itself: how many make a frame is the source's choice


# H.265's profiles for more chroma and bits (ITU-T H.265, A.3.5, Table A.2)
H265_EXTENDED = (
    "monochrome", "monochrome-10", "monochrome-12", "monochrome-16", "main12", "main422-10", "main422-12", "main444", "main444-10",
    "main444-12", "main-intra", "main10-intra", "main12-intra", "main422-10-intra", "main422-12-intra", "main444-intra",
    "main444-10-intra", "main444-12-intra", "main444-16-intra",
)  # fmt: skip

_ROWS = (
    Codec("h264", "video", "H.264", "h264", (b"avc1", b"avc3"), (7,), (0x21,), b"avcC", in_units=True),
    Codec("h265", "video", "H.265", "h265", (b"hvc1", b"hev1"), (12,), (0x23,), b"hvcC", in_units=True),
    Codec("av1", "video", "AV1", "", (b"av01",), record=b"av1C"),
    Codec("vp9", "video", "VP9", "", (b"vp09",), record=b"vpcC"),
    Codec("vp8", "video", "VP8", "", (b"vp08",), record=b"vpcC"),
    Codec("mjpeg", "video", "Motion JPEG", "mjpeg", (b"jpeg", b"mjpa", b"mjpb"), (), (0x6C,)),
    Codec("mpeg4", "video", "MPEG-4 part 2", "", (b"mp4v",), (), (0x20,)),
    Codec("mpeg2", "video", "MPEG-2", "", (), (), (0x60, 0x61, 0x62, 0x63, 0x64, 0x65)),
    Codec("other", "video", "another codec"),
    Codec("aac", "audio", "AAC", "aac", (b"mp4a",), (10,), (0x40, 0x66, 0x67, 0x68), b"esds"),
    Codec("opus", "audio", "Opus", "opus", (b"Opus",), (), (), b"dOps", rate=48000),
    Codec("mp2", "audio", "MPEG audio layer II", "mpeg_audio"),
    Codec("mp3", "audio", "MP3", "mpeg_audio", (b".mp3",), (2, 14), (0x69, 0x6B)),
    Codec("g711a", "audio", "G.711 A-law", "g711", (b"alaw",), (7,), rate=8000, loose=True),
    Codec("g711u", "audio", "G.711 µ-law", "g711", (b"ulaw",), (8,), rate=8000, loose=True),
    Codec("pcm", "audio", "PCM", "", (b"sowt", b"twos", b"lpcm", b"ipcm"), (0, 3), loose=True),
    Codec("ac3", "audio", "AC-3", "", (b"ac-3",), (), (0xA5,)),
    Codec("eac3", "audio", "E-AC-3", "", (b"ec-3",), (), (0xA6,)),
    Codec("speex", "audio", "Speex", "", (), (11,), rate=16000),
    Codec("other", "audio", "another codec"),
)  # fmt: skip


def _by_track(track: Track) -> Mapping[str, Codec]:
    return {row.name: row for row in _ROWS if row.track == track}


VIDEO, AUDIO = _by_track("video"), _by_track("audio")
FOUR_CC: Mapping[bytes, Codec] = {code: row for row in _ROWS for code in row.four_cc}
OBJECT_TYPES: Mapping[int, Codec] = {code: row for row in _ROWS for code in row.object_types}
FLV: Mapping[Track, Mapping[int, Codec]] = {
    "video": {code: row for row in VIDEO.values() for code in row.flv},
    "audio": {code: row for row in AUDIO.values() for code in row.flv},
}


def find(track: Track, name: str) -> Codec:
    """The row called ``name``; the row "other" for a name that is not there."""
    rows = VIDEO if track == "video" else AUDIO
    return rows.get(name, rows["other"])
