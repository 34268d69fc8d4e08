"""Playlists of HTTP Live Streaming (RFC 8216): which variants there are, and which segments a player would fetch now."""

from __future__ import annotations

import datetime
import math
import re
from dataclasses import dataclass
from urllib.parse import urljoin, urlsplit

from direkt.errors import Malformed

_MOST_LINES = 20_000
_ATTRIBUTE = re.compile(r'([A-Z0-9-]+)=("[^"\r\n]*"|[^,"\s]*)')


class PlaylistError(Malformed):
    """A text that is no playlist; says what is wrong with it."""


@dataclass(frozen=True, slots=True)
class Variant:
    """One quality."""

    address: str
    bandwidth: int  # bit/s
    size: str  # WxH; empty: not told
    codecs: str = ""


@dataclass(frozen=True, slots=True)
class HlsSegment:
    """A stretch of the stream."""

    address: str
    seconds: float
    begins: datetime.datetime | None  # when it was taken, where that is told (RFC 8216, 4.3.2.6)
    number: int


@dataclass(frozen=True, slots=True)
class Playlist:
    """Either kind: one of them is empty."""

    variants: tuple[Variant, ...]
    segments: tuple[HlsSegment, ...]
    target: float = 0.0  # s, the longest segment (RFC 8216, 4.3.3.1)
    ended: bool = False
    encrypted: bool = False


def parse(text: str, base: str) -> Playlist:
    """A playlist from the address ``base``. Raises PlaylistError."""
    lines = text.lstrip("\ufeff").splitlines()
    if not lines or lines[0].strip() != "#EXTM3U":
        raise PlaylistError("it does not begin with #EXTM3U")
    if len(lines) > _MOST_LINES:
        raise PlaylistError(f"more than {_MOST_LINES} lines")
    variants: list[Variant] = []
    segments: list[HlsSegment] = []
    waiting: dict[str, str] | None = None
    seconds, begins, number, target = None, None, 0, 0.0
    ended = encrypted = False
    clock: datetime.datetime | None = None
    for n, raw in enumerate(lines[1:], 2):
        line = raw.strip()
        name, _, value = line.partition(":")
        if name == "#EXT-X-STREAM-INF":
            waiting = {m[1]: m[2].strip('"') for m in _ATTRIBUTE.finditer(value)}
        elif name == "#EXTINF":
            seconds = _number(value.partition(",")[0], n)
        elif name == "#EXT-X-TARGETDURATION":
            target = _number(value, n)
        elif name == "#EXT-X-MEDIA-SEQUENCE":
            number = int(_number(value, n))
        elif name == "#EXT-X-PROGRAM-DATE-TIME":
            begins = _moment(value)
        elif name == "#EXT-X-DISCONTINUITY":
            clock = None
        elif name == "#EXT-X-KEY":
            encrypted = "METHOD=NONE" not in value
        elif line == "#EXT-X-ENDLIST":
            ended = True
        elif line and not line.startswith("#"):
            address = _address(base, line, n)
            if waiting is not None:
                variants.append(
                    Variant(
                        address,
                        _whole(waiting.get("BANDWIDTH", "")),
                        waiting.get("RESOLUTION", "")[:11],
                        waiting.get("CODECS", "")[:80],
                    )
                )
                waiting = None
            elif seconds is not None:
                start = begins or clock
                segments.append(HlsSegment(address, seconds, start, number + len(segments)))
                clock = start + datetime.timedelta(seconds=seconds) if start is not None else None
                seconds, begins = None, None
    return Playlist(tuple(variants), tuple(segments), target, ended, encrypted)


def _number(text: str, line: int) -> float:
    try:
        number = float(text)
    except ValueError:
        number = math.nan
    if not 0 <= number < 1e9:
        raise PlaylistError(f"line {line}: {text[:40]!r} is not a number")
    return number


def _whole(text: str) -> int:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 12 else 0


def _moment(text: str) -> datetime.datetime | None:
    try:
        moment = datetime.datetime.fromisoformat(text.strip())
    except ValueError:
        return None
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=datetime.UTC)


def _address(base: str, text: str, line: int) -> str:
    try:
        whole = urljoin(base, text)
        parts = urlsplit(whole)
        good = parts.scheme in ("http", "https") and bool(parts.hostname) and whole.isprintable()
    except ValueError:
        good = False
    if not good:
        raise PlaylistError(f"line {line}: {text[:60]!r} is not an address")
    return whole
