"""The uplink's budget: what each feed may use, with the protocols' overhead computed and a reserve kept.

Where feeds compete, one step of each feed's ladder is chosen so that the weighted sum of log2(bitrate) is largest
under the limit. Doubling the bitrate of a feed is worth
its weight, whatever it had before, so nobody starves for somebody else's last megabit.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from direkt.destination.sheet import Sheet
from direkt.errors import UnusableInput
from direkt.protocol import address
from direkt.protocol.load import Load
from direkt.protocol.schemes import SCHEMES
from direkt.rig.file import Rig


def on_the_wire(scheme: str, load: Load) -> float:
    """kbit/s at the IP layer of a push by ``scheme``. Raises UnusableInput for one without an overhead model."""
    row = SCHEMES[scheme]
    if row.overhead is None:
        raise UnusableInput(f"what {scheme} adds to a bitrate is not known here")
    return row.overhead(load, row.tls)


@dataclass(frozen=True, slots=True)
class FeedOption:
    """One thing that a feed could send."""

    label: str
    video: float  # kbit/s
    audio: float  # kbit/s
    wire: float  # kbit/s with overhead

    @property
    def value(self) -> float:
        """What it is worth before its feed's weight: log2 of its kbit/s; nothing for off."""
        return math.log2(self.video + self.audio) if self.video > 0 else 0.0


OFF = FeedOption("off", 0, 0, 0)


@dataclass(frozen=True, slots=True)
class Feed:
    """A feed that wants its share."""

    name: str
    weight: float
    options: tuple[FeedOption, ...]  # without off


@dataclass(frozen=True, slots=True)
class Share:
    """What one feed gets."""

    feed: Feed
    option: FeedOption


def options_of(sheet: Sheet, scheme: str) -> tuple[FeedOption, ...]:
    """The steps of a sheet's ladder, each at its lowest and at its recommended (or highest) bitrate."""
    rule = sheet.rules.get("audio.bitrate.mean")
    wish = (rule.should or rule.must) if rule else None
    found = wish.nearest(None) if wish else None
    audio = float(found) if isinstance(found, int | float) else 128.0
    out = []
    for rung in sheet.ladder:
        for bitrate in dict.fromkeys((rung.minimum, rung.best if rung.best is not None else rung.maximum)):
            if bitrate is not None and bitrate > 0:
                codecs = f" in {' or '.join(rung.codecs)}" if rung.codecs else ""
                label = f"{rung.width}x{rung.height} to {rung.fastest:g} fps{codecs}, {bitrate:g} kbit/s"
                out.append(
                    FeedOption(label, bitrate, audio, on_the_wire(scheme, Load(bitrate, audio, min(rung.fastest, 60))))
                )
    return tuple(sorted(out, key=lambda o: o.wire))


def even_split(feeds: Sequence[Feed], limit: float) -> list[Share]:
    """Each feed takes the best step that fits an equal part of ``limit`` (kbit/s on the wire)."""
    part = limit / max(1, len(feeds))
    return [
        Share(f, max((o for o in f.options if o.wire <= part), key=lambda o: (o.value, -o.wire), default=OFF))
        for f in feeds
    ]


_TRIFLE = 1e-9  # that each kbit/s costs, so that of two equal choices the cheaper one wins
_NEAR = 1e-12  # values that count as equal


@dataclass(frozen=True, slots=True)
class _Partial:
    """What the first feeds take."""

    wire: float  # kbit/s
    value: float
    option: FeedOption = OFF  # of the last of them
    before: _Partial | None = None


def best_split(feeds: Sequence[Feed], limit: float) -> list[Share]:
    """The steps with the largest weighted value under ``limit`` (kbit/s on the wire), exactly.

    Partial choices are extended feed by feed. One is dropped where another is as cheap and worth as much, or where even the most that
    the other feeds could add, at a price for each kbit/s, does not reach a choice that is known already.
    """
    if len(feeds) < 2:
        return even_split(feeds, limit)
    worth = [[(f.weight * o.value - _TRIFLE * o.wire, o) for o in (OFF, *f.options) if o.wire <= limit] for f in feeds]
    price = _price(worth, limit)
    known = _filled(worth, _taken(worth, price), limit)
    rest = [0.0]  # the most that the feeds from here on add, at that price
    for options in reversed(worth):
        rest.append(rest[-1] + max(value - price * option.wire for value, option in options))
    front = [_Partial(0.0, 0.0)]
    for options, more in zip(worth, rest[-2::-1], strict=True):
        found = sorted(
            (
                _Partial(wire, gained, option, partial)
                for partial in front
                for value, option in options
                if (wire := partial.wire + option.wire) <= limit
                and (gained := partial.value + value) + more + price * (limit - wire) >= known - _NEAR
            ),
            key=lambda one: (one.wire, -one.value),
        )
        front, best = [], -math.inf
        for one in found:
            if one.value > best + _NEAR:
                front.append(one)
                best = one.value
    last: _Partial | None = front[-1] if front else None
    out = []
    for feed in reversed(feeds):
        assert last is not None  # taking nothing fits always
        out.append(Share(feed, last.option))
        last = last.before
    return out[::-1]


_Worth = list[list[tuple[float, FeedOption]]]


def _taken(worth: _Worth, price: float) -> list[tuple[float, FeedOption]]:
    """What each feed takes where a kbit/s costs this much."""
    return [max(options, key=lambda one: (one[0] - price * one[1].wire, -one[1].wire)) for options in worth]


def _filled(worth: _Worth, taken: list[tuple[float, FeedOption]], limit: float) -> float:
    """What a choice is worth once feeds take, one after the other, what there is still room for."""
    room, value = limit - sum(option.wire for _, option in taken), 0.0
    for options, (_, own) in zip(worth, taken, strict=True):
        better, option = max((one for one in options if one[1].wire <= own.wire + room), key=lambda one: one[0])
        room -= option.wire - own.wire
        value += better
    return value


def _price(worth: _Worth, limit: float) -> float:
    """The lowest price of a kbit/s, as near as halving comes, at which what all take fits."""
    if sum(option.wire for _, option in _taken(worth, 0.0)) <= limit:
        return 0.0
    low, high = 0.0, 1.0
    while sum(option.wire for _, option in _taken(worth, high)) > limit:
        high *= 2
    for _ in range(60):
        middle = (low + high) / 2
        fits = sum(option.wire for _, option in _taken(worth, middle)) <= limit
        low, high = (low, middle) if fits else (middle, high)
    return high


def feeds_of(rig: Rig) -> list[Feed]:
    """The rig's feeds with the steps of their sheets. Raises DocumentError for a sheet that cannot be used."""
    out = []
    for name in rig.file.feeds:
        feed, _, destination = rig.feed(name)
        scheme = address.parse(destination.server).scheme
        out.append(Feed(name, feed.weight, options_of(rig.sheet(destination), scheme)))
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
    return payload_under(limit, address.parse(destination.server).scheme)


def payload_under(limit: float, scheme: str) -> float:
    """The most kbit/s of video and audio at 50 fps whose wire rate stays within ``limit`` (kbit/s)."""
    low, high = 0.0, max(0.0, limit)
    for _ in range(40):  # the overhead makes steps, so the answer is searched, not solved for
        middle = (low + high) / 2
        fits = on_the_wire(scheme, Load(middle * 0.97, middle * 0.03, 50)) <= limit
        low, high = (middle, high) if fits else (low, middle)
    return low
