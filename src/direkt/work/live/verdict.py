"""The fifth step of going live: asked, set, sent and seen, side by side."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, replace

from direkt import parameters
from direkt.device_side import DeviceSide
from direkt.errors import DirektError
from direkt.finding import Verdict
from direkt.judge import Judgement, judge_sent
from direkt.measure.meter import Measurement
from direkt.parameters import Measured, Value, Values
from direkt.platform.event import Input
from direkt.work.feeds import FeedParts, source_of
from direkt.work.live import checks
from direkt.work.live.go_types import Crew, GoEvent, GoStep, GoWaiting, Row
from direkt.work.steps import Job
from direkt.work.stream import carry
from direkt.work.stream.fetch import Fetch

_POLL = 0.25  # s
_OWN_SECONDS = 4.0  # s that Direkt measures the device's own stream
_OWN_LIMIT = 12.0  # s for it to come
_SHOWN = (
    "video.codec", "video.profile", "video.size", "video.frame_rate", "video.keyframe_interval.median", "video.keyframe_interval.max",
    "video.bitrate.mean", "audio.codec", "audio.bitrate.mean", "audio.silent",
)  # fmt: skip
_RANK = {verdict: n for n, verdict in enumerate(Verdict)}
# what lies between a platform's figure and ours, as a share: it counts over another time, and rounds
_COARSE = {
    "video.bitrate.mean": 0.05,
    "audio.bitrate.mean": 0.05,
    "video.frame_rate": 0.01,
    "video.keyframe_interval.max": 0.05,
}


@dataclass(frozen=True, slots=True)
class SideBySide:
    """One feed, seen four times."""

    rows: tuple[Row, ...]
    sent: str  # how what is sent was measured; empty: it was not
    seen: bool  # whether the platform tells


def judge(feed: FeedParts, crew: Crew, arriving: Input | None, *, practice: bool) -> Job[GoEvent, SideBySide]:
    """What the sheet asks, the device is set to, Direkt measures itself, and the platform tells."""
    set_, device = _set(feed)
    sent, how = yield from _measured(feed, crew)
    carried = feed.entry.carry
    given = set_
    if carried and set_ is not None:  # what the camera is set to for its sound is not what is pushed
        given = {name: value for name, value in set_.items() if not name.startswith("audio.")}
    by_seen = None
    if arriving is not None and arriving.values:
        told = {name: _told(name, value) for name, value in _with_sides(arriving.values).items()}
        by_seen = judge_sent(feed.sheet, told, given, device=device)
    by_sent = _own_judgement(feed, sent, given, device, carried=carried) if sent is not None else None
    if by_sent is None and not practice:
        by_sent, how = _by_rehearsal(feed, crew, given)
    rows = tuple(_rows(set_ or {}, by_sent, by_seen))
    now = carry.running(feed) if carried and not practice else None
    if now is not None and now.silence_added:
        rows = tuple(replace(row, advice=carry.SILENCE_ADDED) if row.parameter == "audio.silent" else row for row in rows)
    return SideBySide(rows, how, by_seen is not None)


def _by_rehearsal(feed: FeedParts, crew: Crew, set_: Values | None) -> tuple[Judgement | None, str]:
    """What the last good rehearsal measured, where the device lets nobody measure its stream now."""
    with contextlib.suppress(DirektError):
        found = crew.rehearsed(feed.name)
        if found.good and found.sent:
            sent = {name: Measured(value) for name, value in _with_sides(found.sent).items()}
            return judge_sent(feed.sheet, sent, set_), f"the rehearsal of {found.when[:16].replace('T', ' ')} UTC"
    return None, ""


def _set(feed: FeedParts) -> tuple[Values | None, DeviceSide | None]:
    """What the device says: of the channel that pushes, and beside it."""
    if not checks.by_hand(feed):
        with contextlib.suppress(DirektError):
            state = feed.driver.read()
            channel = feed.channel(state)
            return channel.full, feed.side(state, channel)
    return None, None


def _measured(feed: FeedParts, crew: Crew) -> Job[GoEvent, tuple[Measurement | None, str]]:
    """What Direkt measures itself: the stream that the device gives out, where it gives one out."""
    try:
        state = feed.driver.read() if not checks.by_hand(feed) else None
        source = source_of(feed, feed.channel(state) if state is not None else None)
        login = feed.rig.login(feed.rig.file.devices[feed.device], crew.means.sources)
    except DirektError:
        return None, ""
    begin = crew.clock.now()
    with Fetch(source, login) as fetching:
        while fetching.failure is None:
            crew.clock.sleep(_POLL)
            fetching.poll()
            now = crew.clock.now()
            if fetching.rehearsal.elapsed(now) >= _OWN_SECONDS or now - begin > _OWN_LIMIT:
                break
            yield GoWaiting(GoStep.JUDGE, f"measuring what {feed.device} offers", now - begin, None, _OWN_LIMIT)
    if fetching.rehearsal.first is None:
        return None, ""
    return fetching.rehearsal.snapshot(), "the device's own stream"


def _told(name: str, value: Value) -> Measured:
    """A value as a platform tells it."""
    share = _COARSE.get(name)
    return Measured(value, uncertainty=value * share if share is not None and isinstance(value, int | float) else None)


def _with_sides(values: Values) -> Values:
    """With the width and height that a size stands for, by which the sheet's ladder asks."""
    size = values.get("video.size")
    if not isinstance(size, str):
        return values
    width, height = parameters.size_of(size)
    return {**values, "video.width": width, "video.height": height}


def _own_judgement(feed: FeedParts, sent: Measurement, set_: Values | None, device: DeviceSide | None, *, carried: bool) -> Judgement:
    """What the device gives out, held against the sheet; the sound of a carried feed may be made on the way."""
    if not carried:
        return judge_sent(feed.sheet, sent.found, set_, device=device)
    found = {name: value for name, value in sent.found.items() if not name.startswith("audio.")}
    return judge_sent(feed.sheet.without_sound(), found, set_, device=device)


def _rows(set_: Values, sent: Judgement | None, seen: Judgement | None) -> Iterator[Row]:
    """The parameters that matter to a person now, and each one that fails."""
    by_sent = {f.parameter: f for f in sent.findings} if sent is not None else {}
    by_seen = {f.parameter: f for f in seen.findings} if seen is not None else {}
    for name in parameters.in_table_order({**by_sent, **by_seen}):
        one, two = by_sent.get(name), by_seen.get(name)
        # what the platform does not tell is no failing of the stream
        both = [
            f
            for f in (one, two)
            if f is not None and not (f.sent is None and (f is two or f.verdict is not Verdict.FAIL))
        ]
        worst = max(both, key=lambda f: _RANK[f.verdict], default=None)
        if name not in _SHOWN and (worst is None or worst.verdict is not Verdict.FAIL):
            continue
        rule = next((f.asked for f in (one, two) if f is not None and f.asked is not None), None)
        yield Row(
            name, rule.text() if rule is not None else "", set_.get(name), one.sent.value if one is not None and one.sent is not None else None,
            two.sent.value if two is not None and two.sent is not None else None,
            worst.verdict if worst is not None else Verdict.UNSEEN, worst.words if worst is not None else "",
        )  # fmt: skip
