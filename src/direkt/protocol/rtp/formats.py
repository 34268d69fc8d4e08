"""The table of payload formats: which of them reads what a session description names.

To add one is to write its class (see payload.py) and to name it in ``payload``.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterable
from fractions import Fraction

from direkt.media import Format, Track
from direkt.protocol.rtp.jpeg import Jpeg
from direkt.protocol.rtp.payload import Payload, Remark, Whole
from direkt.protocol.rtp.pictures import H264, H265, PictureTrack
from direkt.protocol.rtp.sound import Latm, Sections
from direkt.protocol.rtsp.sdp import Encoding, Medium

# names (RFC 3551, 4.5; others registered since) of formats of which only samples, times and bytes are taken
_VIDEO = {"JPEG": "mjpeg", "MP4V-ES": "mpeg4", "MPV": "mpeg2", "VP8": "vp8", "VP9": "vp9", "AV1": "av1"}
_TELEPHONE = {"PCMU": "g711u", "PCMA": "g711a"}


def choose(medium: Medium) -> Encoding | None:
    """The encoding of a medium that is taken: the first that can be read, or else the first."""
    known = [e for e in medium.encodings if e.clock and _is_read(medium.kind, e.name)]
    named = [e for e in medium.encodings if e.clock and e.name]
    return next(iter([*known, *named]), None)


def _is_read(kind: str, name: str) -> bool:
    if kind == "video":
        return name in ("H264", "H265", *_VIDEO)
    return kind == "audio" and name in ("MPEG4-GENERIC", "MP4A-LATM", "OPUS", "L16", "MPA", *_TELEPHONE)


def payload(track: Track, encoding: Encoding, remark: Remark) -> Payload:
    """What reads an encoding."""
    name, clock, said = encoding.name, encoding.clock, encoding.parameters
    tick = Fraction(1, clock)
    if track == "video":
        if name == "H264":
            return PictureTrack(H264, clock, _sets(said.get("sprop-parameter-sets", "")), remark)
        if name == "H265":
            lists = (said.get(f"sprop-{kind}", "") for kind in ("vps", "sps", "pps"))
            if said.get("sprop-max-don-diff", "0") != "0":
                remark("the stream is sent in interleaved order, which cannot be read")
            return PictureTrack(H265, clock, [unit for text in lists for unit in _sets(text)], remark)
        if name == "JPEG":
            return Jpeg(tick)
        return Whole(Format("video", _VIDEO.get(name, "other"), tick), frames=True)
    if name == "MPEG4-GENERIC":
        return Sections(clock, said, remark, encoding.channels)
    if name == "MP4A-LATM":
        return Latm(clock, said, remark)
    if name in _TELEPHONE:
        format = Format("audio", _TELEPHONE[name], tick, sample_rate=clock, channels=encoding.channels)
        return Whole(format, frame=encoding.channels)
    if name == "L16":
        return Whole(
            Format("audio", "pcm", tick, sample_rate=clock, channels=encoding.channels), frame=2 * encoding.channels
        )
    if name == "MPA":
        return Whole(Format("audio", "mp2", tick), header=4)  # RFC 2250, 3.5
    codec = "opus" if name == "OPUS" else "other"
    return Whole(Format("audio", codec, tick, sample_rate=clock, channels=encoding.channels))


def _sets(text: str) -> Iterable[bytes]:
    """Parameter sets in base64, with commas between them (RFC 6184, 8.1); what is none is left out."""
    for part in text.split(","):
        part = part.strip()
        try:
            unit = base64.b64decode(part + "=" * (-len(part) % 4))
        except (binascii.Error, ValueError):
            continue
        # some cameras leave the start code in front
        unit = unit.removeprefix(b"\0\0\0\x01").removeprefix(b"\0\0\x01")
        if len(unit) > 3:
            yield unit
