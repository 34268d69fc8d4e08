"""What RTMP, TLS and TCP/IP add to a stream's bitrate."""

from __future__ import annotations

import math

from direkt.protocol.load import Load

_CHUNK = 4096  # bytes; what most publishers set
_MTU = 1500  # bytes
_IPV4, _TCP = 20, 32  # bytes of headers; TCP with time stamps
_MESSAGE, _VIDEO_TAG, _AUDIO_TAG = 8, 5, 2  # RTMP header of type 1; FLV tag headers in the body
_TLS_RECORD, _TLS_OVERHEAD = 16384, 22  # bytes: header 5, content type 1, tag 16 (TLS 1.3 with AEAD)


def on_the_wire(load: Load, tls: bool) -> float:
    """kbit/s at the IP layer for a push.

    Each picture and audio frame is a message: tag header, RTMP header, one byte for each further chunk; then TLS
    records, then TCP segments of at most 1448 bytes with 52 bytes of IPv4 and TCP headers each. Acknowledgements
    go the other way.
    """
    total = 0.0
    for kbit, rate, tag in (
        (load.video, load.frame_rate, _VIDEO_TAG), (load.audio, load.audio_frames, _AUDIO_TAG),
    ):  # fmt: skip
        if kbit <= 0 or rate <= 0:
            continue
        body = kbit * 1000 / 8 / rate + tag
        size = body + _MESSAGE + math.ceil(body / _CHUNK) - 1
        if tls:
            size += math.ceil(size / _TLS_RECORD) * _TLS_OVERHEAD
        segments = math.ceil(size / (_MTU - _IPV4 - _TCP))
        total += (size + segments * (_IPV4 + _TCP)) * rate
    return total * 8 / 1000
