"""A first look at what viewers get (HTTP Live Streaming): it plays, how far behind it is, at which size."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from dataclasses import dataclass

from direkt.container import ContainerError, Source, ts
from direkt.errors import DirektError
from direkt.measure.meter import Meter
from direkt.platform.event import PlatformError
from direkt.protocol import hls
from direkt.protocol.hls import HlsSegment, Playlist, PlaylistError, Variant

_BOXES = (b"styp", b"moof", b"sidx", b"ftyp", b"prft", b"emsg")  # with which a segment of ISO/IEC 14496-12 begins
_ENDING = 3  # segments from the end at which players begin (RFC 8216, 6.3.3)


@dataclass(frozen=True, slots=True)
class Looked:
    """What a viewer would see."""

    plays: bool
    why: str = ""  # why not
    behind: float | None = None  # s, at the place at which a player begins; None: the stream does not tell
    size: str = ""  # of the picture, as measured
    frame_rate: float | None = None
    sound: bool = False
    variants: int = 0
    bandwidth: int = 0  # bit/s of the best variant


def look(address: str, fetch: Callable[[str], bytes], now: float, since: float = 0.0) -> Looked:
    """One look; ``now``: s since 1970. Raises nothing: what goes wrong is why it does not play.

    ``since``: s since 1970 at which the present push began: what is older is not what viewers are to get.
    """
    try:
        playlist = _playlist(address, fetch)
        variants = playlist.variants
        best = max(variants, key=lambda v: v.bandwidth, default=None)
        if best is not None:
            playlist = _playlist(best.address, fetch)
        if not playlist.segments:
            return Looked(False, "there are no segments yet", variants=len(variants))
        if playlist.encrypted:
            return Looked(False, "the segments are encrypted", variants=len(variants))
        first = playlist.segments[max(0, len(playlist.segments) - _ENDING)]
        content = fetch(first.address)
        if content[4:8] in _BOXES:  # fragments of MP4 begin with a box of their own
            return _unopened(best, first, now, len(variants))
        meter = Meter()
        meter.add_all(ts.read(Source(content)))
        values = meter.snapshot().values
    except PlaylistError as error:
        return Looked(False, f"the playlist cannot be read: {error}")
    except ContainerError as error:
        return Looked(False, f"the segment cannot be read: {error}")
    except DirektError as error:
        return Looked(False, str(error))
    size, rate = values.get("video.size"), values.get("video.frame_rate")
    if size is None:
        return Looked(False, "the segment holds no picture", variants=len(variants))
    behind = None
    if first.begins is not None:
        begins = first.begins.astimezone(datetime.UTC).timestamp()
        behind = max(0.0, now - begins)
        if begins + first.seconds < since:
            return Looked(False, f"viewers still get what was pushed before, {behind:.0f} s late", behind, str(size))
    return Looked(
        True, "", behind, str(size), float(rate) if isinstance(rate, int | float) else None, values.get("audio.present") == "yes",
        len(variants), best.bandwidth if best is not None else 0,
    )  # fmt: skip


def _unopened(best: Variant | None, first: HlsSegment, now: float, variants: int) -> Looked:
    """A segment that is there and not looked into: what the playlist says of it."""
    behind = max(0.0, now - first.begins.timestamp()) if first.begins is not None else None
    size, sound = (best.size, "mp4a" in best.codecs or not best.codecs) if best is not None else ("", True)
    return Looked(True, "", behind, size, None, sound, variants, best.bandwidth if best is not None else 0)


def _playlist(address: str, fetch: Callable[[str], bytes]) -> Playlist:
    content = fetch(address)
    if len(content) > 1 << 20:
        raise PlatformError("the playlist is longer than 1 MiB")
    return hls.parse(content.decode("utf-8", "replace"), address)
