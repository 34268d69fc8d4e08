"""The uplink's budget: what each feed may use, with the protocols' overhead computed and a reserve kept.

Where feeds compete, one step of each feed's ladder is chosen so that the weighted sum of log2(bitrate) is largest
under the limit: an integer programme with one yes/no for each feed and step. Doubling the bitrate of a feed is worth
its weight, whatever it had before, so nobody starves for somebody else's last megabit.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from direkt.rig import Rig
from direkt.sheet.model import Sheet

RTMP_CHUNK = 4096  # bytes; what most publishers set
_MTU = 1500  # bytes
_IPV4, _TCP = 20, 32  # bytes of headers; TCP with time stamps
_MESSAGE, _VIDEO_TAG, _AUDIO_TAG = 8, 5, 2  # RTMP header of type 1; FLV tag headers in the body
_TLS_RECORD, _TLS_OVERHEAD = 16384, 22  # bytes: header 5, content type 1, tag 16 (TLS 1.3 with AEAD)


def on_the_wire(video: float, audio: float, frame_rate: float, *, tls: bool, audio_frames: float = 46.875) -> float:
    """kbit/s at the IP layer for a push of ``video`` and ``audio`` kbit/s.

    Each picture and audio frame is a message: tag header, RTMP header, one byte for each further chunk; then TLS
    records, then TCP segments of at most 1448 bytes with 52 bytes of IPv4 and TCP headers each. Acknowledgements
    go the other way. ``audio_frames``: audio frames a second (48 kHz / 1024).
    """
    total = 0.0
    for kbit, rate, tag in ((video, frame_rate, _VIDEO_TAG), (audio, audio_frames, _AUDIO_TAG)):
        if kbit <= 0 or rate <= 0:
            continue
        body = kbit * 1000 / 8 / rate + tag
        size = body + _MESSAGE + math.ceil(body / RTMP_CHUNK) - 1
        if tls:
            size += math.ceil(size / _TLS_RECORD) * _TLS_OVERHEAD
        segments = math.ceil(size / (_MTU - _IPV4 - _TCP))
        total += (size + segments * (_IPV4 + _TCP)) * rate
    return total * 8 / 1000


@dataclass(frozen=True, slots=True)
class Option:
    """One thing that a feed could send."""

    label: str
    video: float  # kbit/s
    audio: float  # kbit/s
    wire: float  # kbit/s with overhead

    @property
    def value(self) -> float:
        """What it is worth before its feed's weight: log2 of its kbit/s; nothing for off."""
        return math.log2(self.video + self.audio) if self.video > 0 else 0.0


OFF = Option("off", 0, 0, 0)


@dataclass(frozen=True, slots=True)
class Feed:
    """A feed that wants its share."""

    name: str
    weight: float
    options: tuple[Option, ...]  # without off


@dataclass(frozen=True, slots=True)
class Share:
    """What one feed gets."""

    feed: Feed
    option: Option


def options_of(sheet: Sheet, *, tls: bool) -> tuple[Option, ...]:
    """The steps of a sheet's ladder, each at its lowest and at its recommended (or highest) bitrate."""
    rule = sheet.rules.get("audio.bitrate.mean")
    wish = (rule.should or rule.must) if rule else None
    found = wish.nearest(None) if wish else None
    audio = float(found) if isinstance(found, int | float) else 128.0
    out = []
    for rung in sheet.ladder:
        for bitrate in dict.fromkeys((rung.minimum, rung.best if rung.best is not None else rung.maximum)):
            if bitrate > 0:
                label = f"{rung.width}x{rung.height} to {rung.fastest:g} fps, {bitrate:g} kbit/s"
                out.append(Option(label, bitrate, audio, on_the_wire(bitrate, audio, min(rung.fastest, 60), tls=tls)))
    return tuple(sorted(out, key=lambda o: o.wire))


def even_split(feeds: Sequence[Feed], limit: float) -> list[Share]:
    """Each feed takes the best step that fits an equal part of ``limit`` (kbit/s on the wire)."""
    part = limit / max(1, len(feeds))
    return [
        Share(f, max((o for o in f.options if o.wire <= part), key=lambda o: (o.value, -o.wire), default=OFF))
        for f in feeds
    ]


def best_split(feeds: Sequence[Feed], limit: float) -> list[Share]:
    """The steps with the largest weighted value under ``limit`` (kbit/s on the wire); SciPy's milp solves it."""
    if not feeds:
        return []
    if len(feeds) == 1:
        return even_split(feeds, limit)
    import numpy as np
    from scipy.optimize import Bounds, LinearConstraint, milp

    columns = [(n, option) for n, feed in enumerate(feeds) for option in (OFF, *feed.options)]
    values = np.array([feeds[n].weight * option.value for n, option in columns])
    costs = np.array([option.wire for _, option in columns])
    owners = np.array([[1.0 if n == feed else 0.0 for n, _ in columns] for feed in range(len(feeds))])
    solved = milp(
        # a trifle for each kbit/s, so that of two equal choices the cheaper one wins
        c=-values + 1e-9 * costs, integrality=np.ones(len(columns), dtype=np.int64), bounds=Bounds(0, 1),
        constraints=[LinearConstraint(owners, 1, 1), LinearConstraint(costs[np.newaxis, :], 0, limit)],
    )  # fmt: skip
    chosen = {columns[k][0]: columns[k][1] for k in range(len(columns)) if solved.x is not None and solved.x[k] > 0.5}
    return [Share(feed, chosen.get(n, OFF)) for n, feed in enumerate(feeds)]


def worth(shares: Sequence[Share]) -> float:
    """The weighted value of a choice."""
    return sum(share.feed.weight * share.option.value for share in shares)


def feeds_of(rig: Rig) -> list[Feed]:
    """The rig's feeds with the steps of their sheets. Raises DocumentError for a sheet that cannot be used."""
    out = []
    for name in rig.file.feeds:
        feed, _, destination = rig.feed(name)
        tls = destination.server.startswith("rtmps")
        out.append(Feed(name, feed.weight, options_of(rig.sheet(destination), tls=tls)))
    return out


def share_of(rig: Rig, name: str) -> float | None:
    """kbit/s of video and audio that a feed may send by the budget; None where the rig states no uplink."""
    uplink = rig.file.uplink
    if uplink is None:
        return None
    limit = uplink.mbit_s * 1000 * (1 - uplink.reserve_percent / 100)
    feeds = feeds_of(rig)
    if len(feeds) > 1:
        shares = best_split(feeds, limit)
        own = next(share for share in shares if share.feed.name == name)
        # what the choice leaves over may be used by this feed too
        limit -= sum(share.option.wire for share in shares) - own.option.wire
    _, _, destination = rig.feed(name)
    return payload_under(limit, tls=destination.server.startswith("rtmps"))


def payload_under(limit: float, *, tls: bool) -> float:
    """The most kbit/s of video and audio at 50 fps whose wire rate stays within ``limit`` (kbit/s)."""
    low, high = 0.0, max(0.0, limit)
    for _ in range(40):  # the overhead makes steps, so the answer is searched, not solved for
        middle = (low + high) / 2
        fits = on_the_wire(middle * 0.97, middle * 0.03, 50, tls=tls) <= limit
        low, high = (middle, high) if fits else (low, middle)
    return low
