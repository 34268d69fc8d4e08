"""FLV (the published file format, version 10.1, annex E), read and written.

A tag's body is also the body of an RTMP audio, video or data message, so both go through parse_tag. Reading a
file steps from tag to tag with one unpack each and hands out views, not copies: O(tags), whatever their size.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

from direkt.container.media import Break, Buffer, Claims, CodecConfig, MediaError, MediaEvent, Sample, Scalar
from direkt.protocol import amf

AUDIO, VIDEO, SCRIPT = 8, 9, 18  # E.4.1
HEADER_SIZE, TAG_HEADER_SIZE = 9, 11

_VIDEO_CODECS = {2: "other", 3: "other", 4: "other", 5: "other", 6: "other", 7: "h264", 12: "h265"}  # E.4.3.1
_AUDIO_CODECS = {0: "pcm", 1: "other", 2: "mp3", 3: "pcm", 4: "other", 5: "other", 6: "other", 7: "g711a", 8: "g711u",
                 10: "aac", 11: "speex", 14: "mp3", 15: "other"}  # E.4.2.1  # fmt: skip
_FOUR_CC = {b"avc1": "h264", b"hvc1": "h265", b"av01": "av1", b"vp09": "vp9", b"vp08": "vp8",
            b"mp4a": "aac", b"Opus": "opus", b".mp3": "mp3", b"ac-3": "ac3"}  # fmt: skip
# Previous tag's size; type; upper and lower part of the data size; time stamp; behind the stream id, the first
# bytes of the body: codec, packet type, composition time in two parts
_TAG = struct.Struct(">IBHBI3xBBhB")
_new = tuple.__new__


class TagParser:
    """Turns tag bodies into media events. Remembers the codecs, so that each is announced once."""

    def __init__(self) -> None:
        self._codecs: dict[str, str] = {}

    def parse(self, kind: int, milliseconds: int, body: Buffer) -> MediaEvent | None:
        """One tag; None: nothing to measure in it. Raises MediaError for a body too short for its own header."""
        if kind == VIDEO:
            return self._video(milliseconds / 1000, body)
        if kind == AUDIO:
            return self._audio(milliseconds / 1000, body)
        return _script(body) if kind == SCRIPT else None

    def _video(self, time: float, body: Buffer) -> MediaEvent | None:
        size = len(body)
        if not size:
            return None
        first = body[0]
        if first & 0x80:
            return self._extended_video(time, body)
        codec = _VIDEO_CODECS.get(first & 15, "other")
        if codec not in ("h264", "h265"):
            return self._plain("video", codec, Sample("video", time, time, body[1:], first >> 4 == 1))
        if first >> 4 == 5:  # info or command frame
            return None
        if size < 5:
            raise MediaError(f"a video tag of {size} bytes, where its header alone has 5")
        kind = body[1]
        if kind == 1:
            offset = int.from_bytes(body[2:5], "big")
            if offset & 0x800000:
                offset -= 0x1000000
            sample = Sample("video", time, time + offset / 1000, body[5:], first >> 4 == 1)
            return sample if codec == "h264" else self._plain("video", codec, sample)
        if kind == 0:
            self._codecs["video"] = codec
            return CodecConfig("video", codec, bytes(body[5:]))
        return None

    def _extended_video(self, time: float, body: Buffer) -> MediaEvent | None:
        if len(body) < 5:
            raise MediaError(f"a video tag of {len(body)} bytes, where its header alone has 5")
        kind, codec = body[0] & 15, _FOUR_CC.get(bytes(body[1:5]), "other")
        if kind == 0:
            self._codecs["video"] = codec
            return CodecConfig("video", codec, bytes(body[5:]))
        key = body[0] >> 4 & 7 == 1
        if kind == 1 and codec in ("h264", "h265"):
            offset = int.from_bytes(body[5:8], "big")
            if offset & 0x800000:
                offset -= 0x1000000
            return Sample("video", time, time + offset / 1000, body[8:], key)
        return Sample("video", time, time, body[5:], key) if kind in (1, 3) else None

    def _audio(self, time: float, body: Buffer) -> MediaEvent | None:
        if not len(body):
            return None
        first = body[0]
        code = first >> 4
        if code == 10:
            if len(body) < 2:
                raise MediaError("an AAC tag of 1 byte, where its header alone has 2")
            if body[1] == 1:
                return Sample("audio", time, time, body[2:], True)
            self._codecs["audio"] = "aac"
            return CodecConfig("audio", "aac", bytes(body[2:]))
        if code == 9:
            if len(body) < 5:
                raise MediaError(f"an audio tag of {len(body)} bytes, where its header alone has 5")
            codec = _FOUR_CC.get(bytes(body[1:5]), "other")
            if first & 15 == 0:
                self._codecs["audio"] = codec
                return CodecConfig("audio", codec, bytes(body[5:]))
            return Sample("audio", time, time, body[5:], True) if first & 15 == 1 else None
        codec = _AUDIO_CODECS.get(code, "other")
        rate = {7: 8000, 8: 8000, 14: 8000, 11: 16000}.get(code, (5512, 11025, 22050, 44100)[first >> 2 & 3])
        channels = 1 if code in (7, 8, 11) else 1 + (first & 1)
        return self._plain("audio", codec, Sample("audio", time, time, body[1:], True), rate, channels)

    def _plain(self, track: str, codec: str, sample: Sample, rate: int = 0, channels: int = 0) -> MediaEvent:
        """For codecs without a configuration: announce the codec in place of its first sample."""
        if self._codecs.get(track) == codec:
            return sample
        self._codecs[track] = codec
        return CodecConfig(sample.track, codec, b"", rate, channels, sample)


def _script(body: Buffer) -> Claims | None:
    """onMetaData (E.5), also behind RTMP's @setDataFrame, as claims."""
    try:
        values = amf.decode(bytes(body[:65536]))
    except amf.AmfError:
        return None
    names = [value for value in values if isinstance(value, str)]
    facts = next((value for value in values if isinstance(value, dict)), None)
    if "onMetaData" not in names or facts is None:
        return None
    claims: dict[str, Scalar] = {}
    for key, name in (
        ("width", "video.width"), ("height", "video.height"), ("framerate", "video.frame_rate"),
        ("videodatarate", "video.bitrate.mean"), ("audiodatarate", "audio.bitrate.mean"),
        ("audiosamplerate", "audio.sample_rate"),
    ):  # fmt: skip
        value = facts.get(key)
        if isinstance(value, float) and 0 < value < 1e9:
            claims[name] = int(value) if value == int(value) else value
    for key, name, codes in (
        ("videocodecid", "video.codec", {7.0: "h264", 12.0: "h265", "avc1": "h264", "hvc1": "h265", "av01": "av1"}),
        ("audiocodecid", "audio.codec", {10.0: "aac", 2.0: "mp3", "mp4a": "aac"}),
    ):
        value = facts.get(key)
        if isinstance(value, float | str) and value in codes:
            claims[name] = codes[value]
    if isinstance(facts.get("stereo"), bool):
        claims["audio.channels"] = 2 if facts["stereo"] else 1
    return Claims("onMetaData", claims)


def read(data: memoryview, passed: Callable[[int], None] | None = None) -> Iterator[MediaEvent]:
    """The media events of an FLV file. ``passed(offset)`` is called about every 16 MiB that lie behind.

    Raises MediaError when it is no FLV at all; a file that breaks further on ends with a Break.
    """
    if len(data) < HEADER_SIZE or bytes(data[:3]) != b"FLV":
        raise MediaError("not an FLV file: it does not begin with 'FLV'")
    at = int.from_bytes(data[5:9], "big")
    if not HEADER_SIZE <= at <= 64:
        raise MediaError(f"the FLV header claims to be {at} bytes long (byte 5); expected 9")
    end = len(data)
    parser = TagParser()
    parse, unpack, mark = parser.parse, _TAG.unpack_from, at + (16 << 20)
    expected = 0
    while at + 4 + TAG_HEADER_SIZE <= end:
        if at + _TAG.size <= end:
            previous, kind, high, low, stamp, codec, packet, offset_high, offset_low = unpack(data, at)
        else:  # the last tag, with a body of less than 5 bytes
            previous, kind, high, low, stamp, codec, packet, *_ = _TAG.unpack(bytes(data[at:]).ljust(_TAG.size, b"\0"))
            offset_high = offset_low = 0
        size = high << 8 | low
        kind &= 31
        if kind not in (AUDIO, VIDEO, SCRIPT):
            yield Break(at + 4, f"no FLV tag where one should begin (found type {kind})")
            return
        if previous not in (expected, expected - TAG_HEADER_SIZE, 0):  # the latter two by writers that err
            yield Break(at, f"the length behind a tag is {previous}, but the tag says {expected}: one of them is wrong")
            return
        body = at + 4 + TAG_HEADER_SIZE
        if size > end - body:
            yield Break(at + 4, f"the recording ends in the middle of a tag: {size} bytes claimed, {end - body} there")
            return
        # the time stamp's fourth byte comes last and is the highest (E.4.1)
        milliseconds = (stamp >> 8) & 0xFFFFFF | (stamp & 0xFF) << 24
        if milliseconds & 0x80000000:
            milliseconds -= 1 << 32
        # what nearly every tag is comes first, and without a detour
        time = milliseconds / 1000
        if kind == AUDIO and codec >> 4 == 10 and packet == 1 and size > 2:
            yield _new(Sample, ("audio", time, time, data[body + 2 : body + size], True))
        elif kind == VIDEO and codec & 0x8F == 7 and packet == 1 and size > 5:
            shown = time if not (offset_high or offset_low) else time + (offset_high << 8 | offset_low) / 1000
            yield _new(Sample, ("video", time, shown, data[body + 5 : body + size], codec >> 4 == 1))
        else:
            try:
                event = parse(kind, milliseconds, data[body : body + size])
            except MediaError as error:
                yield Break(at + 4, str(error))
                return
            if event is not None:
                yield event
        at = body + size
        expected = TAG_HEADER_SIZE + size
        if passed is not None and at > mark:
            passed(at)
            mark = at + (16 << 20)
    if at + 4 < end:
        yield Break(at + 4, f"the recording ends in the middle of a tag header: {end - at - 4} of 11 bytes there")
    elif at < end < at + 4:
        yield Break(at, "the recording ends right behind its last tag, without the tag's length")


def header(*, audio: bool = True, video: bool = True) -> bytes:
    """The file header and the first, empty previous tag size (E.2, E.3)."""
    return struct.pack(">3sBBI", b"FLV", 1, (4 if audio else 0) | (1 if video else 0), HEADER_SIZE) + bytes(4)


def tag(kind: int, milliseconds: int, body: Buffer) -> bytes:
    """One tag with its trailing size (E.4.1)."""
    size = len(body)
    if size > 0xFFFFFF:
        raise MediaError(f"a tag of {size} bytes; FLV allows 16777215")
    stamp = milliseconds & 0xFFFFFFFF
    head = struct.pack(">IIBBB", kind << 24 | size, (stamp & 0xFFFFFF) << 8 | stamp >> 24, 0, 0, 0)
    return b"".join((head, body, (TAG_HEADER_SIZE + size).to_bytes(4, "big")))


def video_config(record: bytes) -> bytes:
    """The body of a tag with an AVCDecoderConfigurationRecord (E.4.3.2)."""
    return b"\x17\x00\x00\x00\x00" + record


def video_frame(data: bytes, *, key: bool, offset: int = 0) -> bytes:
    """The body of a tag with an H.264 access unit; ``offset``: composition time in ms."""
    return (b"\x17\x01" if key else b"\x27\x01") + (offset & 0xFFFFFF).to_bytes(3, "big") + data


def audio_config(config: bytes) -> bytes:
    """The body of a tag with an AudioSpecificConfig (E.4.2.1: AAC is always marked 44 kHz, 16 bit, stereo)."""
    return b"\xaf\x00" + config


def audio_frame(data: bytes) -> bytes:
    """The body of a tag with an AAC raw_data_block."""
    return b"\xaf\x01" + data


def metadata(facts: dict[str, amf.Amf]) -> bytes:
    """The body of a script tag with onMetaData (E.5)."""
    return amf.encode(["onMetaData", amf.EcmaArray(facts)])
