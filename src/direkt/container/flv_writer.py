"""Writes FLV (the published file format, version 10.1, annex E): the file header, tags, and media events as tags.

What TagWriter makes is also what RTMP sends: a tag's body is the body of an audio, video or data message.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping

from direkt.codec import registry
from direkt.codec.registry import Codec
from direkt.container import ContainerError
from direkt.container.flv import AUDIO, FACTS, HEADER_SIZE, SCRIPT, TAG_HEADER_SIZE, VIDEO
from direkt.media import Buffer, Claims, Format, MediaEvent, Samples, Scalar, Track
from direkt.protocol import amf

Tag = tuple[int, int, bytes]  # type, time stamp (ms), body

_KEY, _INTER = 1, 2  # FrameType (FLV 10.1, E.4.3.1)
_CONFIGURATION, _CODED, _CODED_WITHOUT_TIME = 0, 1, 3  # packet types
_AAC, _EXTENDED = 10, 9  # SoundFormat (FLV 10.1, E.4.2.1)
_RATES = {5512: 0, 11025: 1, 22050: 2, 44100: 3}  # SoundRate


def header(*, audio: bool = True, video: bool = True) -> bytes:
    """The file header and the first, empty previous tag size (FLV 10.1, E.2, E.3)."""
    return struct.pack(">3sBBI", b"FLV", 1, (4 if audio else 0) | (1 if video else 0), HEADER_SIZE) + bytes(4)


def tag(kind: int, milliseconds: int, body: Buffer) -> bytes:
    """One tag with its trailing size (FLV 10.1, E.4.1). Raises ContainerError for a body too large for FLV."""
    size = len(body)
    if size > 0xFFFFFF:
        raise ContainerError(f"a tag of {size} bytes; FLV allows 16777215")
    stamp = milliseconds & 0xFFFFFFFF
    head = struct.pack(">IIBBB", kind << 24 | size, (stamp & 0xFFFFFF) << 8 | stamp >> 24, 0, 0, 0)
    return b"".join((head, body, (TAG_HEADER_SIZE + size).to_bytes(4, "big")))


def metadata(claims: Mapping[str, Scalar]) -> bytes:
    """The body of a script tag with onMetaData (FLV 10.1, E.5): those of the claims that it has a name for."""
    facts: dict[str, amf.Amf] = {}
    for key, name in FACTS:
        value = claims.get(name)
        if isinstance(value, int | float):
            facts[key] = float(value)
    tracks: tuple[Track, ...] = ("video", "audio")
    for track in tracks:
        codes = registry.find(track, str(claims.get(f"{track}.codec", "other"))).flv
        if codes:
            facts[f"{track}codecid"] = float(codes[0])
    if "audio.channels" in claims:
        facts["stereo"] = claims["audio.channels"] == 2
    return amf.encode(["onMetaData", amf.EcmaArray(facts)])


class TagWriter:
    """Turns media events into tags. Remembers how tracks are coded: one for each stream."""

    def __init__(self) -> None:
        self._formats: dict[Track, tuple[Format, Codec]] = {}
        self._stamp = 0  # ms, of the last sample: what has no time of its own comes then

    def tags(self, event: MediaEvent) -> Iterator[Tag]:
        """The tags of an event; none for what FLV has no tag for.

        Raises ContainerError for a codec that FLV has no code for, and for samples without a format.
        """
        if isinstance(event, Claims):
            yield SCRIPT, self._stamp, metadata(event.values)
        elif isinstance(event, Format):
            codec = registry.find(event.track, event.codec)
            if not (codec.flv or codec.four_cc):
                raise ContainerError(f"FLV has no code for {codec.title}")
            self._formats[event.track] = (event, codec)
            if event.configuration:
                kind = VIDEO if event.track == "video" else AUDIO
                yield kind, self._stamp, _head(event, codec, _CONFIGURATION, True, 0) + event.configuration
        elif isinstance(event, Samples):
            known = self._formats.get(event.track)
            if known is None:
                raise ContainerError(f"{event.track} samples before their format")
            format, codec = known
            kind = VIDEO if event.track == "video" else AUDIO
            for n in range(len(event)):
                shown, decoded = (round(int(column[n]) * format.tick * 1000) for column in (event.pts, event.dts))
                self._stamp = decoded
                head = _head(format, codec, _CODED, bool(event.marked[n]), shown - decoded)
                yield kind, decoded, head + bytes(event.sample(n))


def _head(format: Format, codec: Codec, packet: int, marked: bool, shift: int) -> bytes:
    """What stands in front of a configuration or sample; ``shift``: composition time in ms."""
    if format.track == "video":
        frame = _KEY if marked else _INTER
        time = (shift & 0xFFFFFF).to_bytes(3, "big") if codec.in_units else b""
        if codec.flv:
            return bytes([frame << 4 | codec.flv[0], *([packet] if codec.in_units else [])]) + time
        if not time or packet == _CONFIGURATION:
            time = b""
        return bytes([0x80 | frame << 4 | packet]) + codec.four_cc[0] + time
    if not codec.flv:
        return bytes([_EXTENDED << 4 | packet]) + codec.four_cc[0]
    if codec.flv[0] == _AAC:
        return bytes([_AAC << 4 | 0xF, packet])  # always marked 44 kHz, 16 bit, stereo (FLV 10.1, E.4.2.1)
    stereo = 1 if format.channels == 2 else 0
    return bytes([codec.flv[0] << 4 | _RATES.get(format.sample_rate, 3) << 2 | 2 | stereo])
