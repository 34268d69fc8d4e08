"""One cause for many drops: the line, this machine's network, or one destination; told once, and waited for.

Pure. Feeds that drop together are not fourteen faults: mending them one by one would change nothing and use up each one's tries. While a
cause holds, one feed alone is tried now and then, to find out when it is over where nobody tells.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from direkt.watch.tracker import FeedState, Tracker

LEAST = 3  # feeds that have to fail together
TOGETHER = 30.0  # s within which they have to begin to
_SILENT = 3.0  # s without an answer


@dataclass(frozen=True, slots=True)
class CommonCause:
    """Why several feeds have dropped."""

    kind: str  # line, network, destination
    name: str  # the line, this machine, or the destination
    feeds: frozenset[str]
    text: str
    advice: str


def find(
    trackers: Sequence[Tracker], silent_devices: Mapping[str, float], silent_platforms: Mapping[str, float], asked_platforms: int, now: float
) -> CommonCause | None:  # fmt: skip
    """What many of the feeds that are meant to be on have in common; None: nothing.

    ``silent_devices``, ``silent_platforms``: since when one does not answer; ``asked_platforms``: how many are asked.
    """
    wanted = [one for one in trackers if one.wanted or one.state is FeedState.DROPPED]
    bad = [one for one in wanted if _fails(one, silent_devices, now)]
    if len(bad) < LEAST or len({one.facts.device for one in bad}) < LEAST:
        return None
    began = sorted(one.dropped if one.dropped is not None else one.since for one in bad)
    if began[-1] - began[0] > TOGETHER:
        return None
    feeds = frozenset(one.facts.name for one in bad)
    devices = {one.facts.device for one in bad if not one.facts.by_hand}
    platforms_gone = asked_platforms > 0 and len([s for s in silent_platforms.values() if now - s >= _SILENT]) >= asked_platforms
    if len(bad) == len(wanted) and devices and all(d in silent_devices for d in devices):
        where = " and no platform" if platforms_gone else ""
        text = f"no device{where} answers, of {len(bad)} feeds at once: this machine's network, or the power"
        return CommonCause("network", "this machine", feeds, text, "look at the cable, the switch and the power")
    if platforms_gone:
        text = f"{len(bad)} feeds have dropped at once, and no platform answers: the line is down"
        return CommonCause("line", "the line", feeds, text, "look at the router; pushes go on by themselves, or are started again, once it is back")
    to = {one.facts.destination for one in bad}
    if len(to) == 1:
        (destination,) = to
        others = [one for one in wanted if one.facts.destination != destination]
        if others and all(one.state is FeedState.ON for one in others):
            text = f"{len(bad)} feeds to {destination} have dropped at once, the others are on: its ingest, or the way there"
            return CommonCause("destination", destination, feeds, text, f"direkt reach {destination}; look at its page")
    if len(bad) == len(wanted):
        text = f"all {len(bad)} feeds have dropped at once: the line, or what they have in common"
        return CommonCause("line", "the line", feeds, text, "look at the router; direkt reach")
    return None


def _fails(one: Tracker, silent_devices: Mapping[str, float], now: float) -> bool:
    if one.state is FeedState.DROPPED:
        return True
    since = silent_devices.get(one.facts.device)
    return one.state is FeedState.UNKNOWN and since is not None and now - since >= _SILENT
