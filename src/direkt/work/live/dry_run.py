"""What going live would do, where nothing is done."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping

from direkt.destination.sheet import Span
from direkt.errors import DirektError
from direkt.platform.event import PlatformError
from direkt.rig.events import EventState
from direkt.work.feeds import FeedParts
from direkt.work.live import checks
from direkt.work.live.event_at_platforms import Airing, steps
from direkt.work.live.go_types import GoStep, Would


def would(one: Airing, feeds: Mapping[str, FeedParts], usual_span: Span | None, limit: float) -> Iterator[Would]:
    """What steps 2 to 5 would do at one destination."""
    try:
        wanted = one.wanted()
    except DirektError:
        return  # the first step says why
    found = None
    with contextlib.suppress(PlatformError):
        found = one.find()
    name = one.sheet.name
    if one.by_hand:
        for step in steps(one, "before", (None, "make", "key", "open")):
            yield Would(GoStep.EVENT, f"{name}: ask you to: {step.step} ({step.when})")
    elif found is None:
        yield Would(
            GoStep.EVENT,
            f"{name}: make {wanted.title!r} for {wanted.start:%Y-%m-%d %H:%M}, {wanted.audience}, and open it",
        )
    elif found.state is EventState.MADE:
        yield Would(GoStep.EVENT, f"{name}: open the event, which is made")
    else:
        yield Would(GoStep.EVENT, f"{name}: leave the event as it is, {found.state}")
    for feed in (feeds[n] for n in one.feeds):
        how = (
            "ask you to start the push on"
            if checks.by_hand(feed)
            else "carry the stream of"
            if feed.entry.carry
            else "start the push of"
        )
        yield Would(GoStep.PUSH, f"{feed.name}: {how} {feed.device} to {feed.destination.server}")
    usual = f"usual {usual_span.min:g} to {usual_span.max:g} s, " if usual_span is not None else ""
    if one.platform.facts.tells_ingest:
        yield Would(GoStep.INGEST, f"{name}: wait for it ({usual}at most {limit:g} s)")
    else:
        yield Would(
            GoStep.INGEST, f"{name}: ask you whether it is shown ({usual.rstrip(', ') or 'no usual time is known'})"
        )
    yield Would(GoStep.JUDGE, f"{name}: judge what is sent and seen")
