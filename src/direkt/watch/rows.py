"""A row of the board, from what is known of a feed or an event."""

from __future__ import annotations

import datetime
from collections.abc import Mapping

from direkt.parameters import Value
from direkt.rig.events import EventState
from direkt.watch.board import EventRow, FeedRow
from direkt.watch.looks import DeviceLook, EventLook
from direkt.watch.tracker import CELL, STRIP, FeedState, Tracker
from direkt.watch.watch_events import Followed


def feed_row(
    one: Tracker, event: Followed | None, device: DeviceLook | None, now: float, *, restarts: int, doing: str, mending: bool,
    undo: bool = False,
) -> FeedRow:  # fmt: skip
    """``doing``: what is being done to the feed, in words; ``mending``: something is done to it or to its device."""
    facts, seen = one.facts, one.input
    values: Mapping[str, Value] = one.values
    measured = "nobody" if not values else "here" if one.measured_here else "ingest"
    rate = one.kbit_s if one.state in (FeedState.ON, FeedState.STARTING) else None
    return FeedRow(
        facts.name, facts.device, facts.destination, facts.role, facts.carried, event.name if event is not None else "", one.state,
        now - one.since, doing or one.text, _push_words(one), _ingest_words(one), seen.arriving if seen is not None else None, rate, values,
        measured, len(seen.gaps) if seen is not None else 0, one.drops,
        one.missing + (now - one.dropped if one.dropped is not None else 0.0), restarts, mending,
        device.temperature if device is not None and not device.error else None, one.strip(int(STRIP / CELL)),
        one.wanted, undo, facts.carried or facts.by_hand or one.device is None or not one.device.error, one.known,
    )  # fmt: skip


def _push_words(one: Tracker) -> str:
    if one.facts.carried:
        running = one.carrying.running if one.carrying is not None else None
        return "off" if running is None else "carried" if running.pushing else "held"
    if one.facts.by_hand:
        return "by hand"
    if one.device is None:
        return "not asked yet"
    if one.device.error:
        return "no answer"
    slot = one.device.slots.get(one.facts.slot)
    return slot.state.value if slot is not None else "no slot"


def _ingest_words(one: Tracker) -> str:
    look, seen = one.event, one.input
    if look is None:
        return "–"
    if look.error:
        return "no answer"
    if not look.told or seen is None:
        return "does not report"
    if seen.arriving is None:
        return "does not report"
    if not seen.arriving:
        return "nothing"
    return "shown" if seen.shown else "arriving"


def event_row(one: Followed, look: EventLook | None, left: float | None) -> EventRow:
    """``left``: s until the platform ends the push."""
    state = look.state.value if look is not None and look.state is not None else "not reported"
    on_air = one.on_air and (look is None or look.state in (None, EventState.LIVE))
    watch = (look.watch if look is not None else "") or one.watch
    return EventRow(
        one.name, one.mark, one.title, one.destination, one.platform, state, on_air, one.public, watch,
        look.viewers if look is not None else None, one.start, one.end, left, look.error if look is not None else "",
    )  # fmt: skip


def limit(one: Followed, look: EventLook | None, wall: float) -> float | None:
    """s until the platform ends the push; None: never."""
    if one.longest is None:
        return None
    inputs = look.inputs if look is not None else ()
    since = next((_wall_of(i.since) for i in inputs if i.arriving and i.since), None)
    return (since if since is not None else one.begun) + one.longest - wall


def _wall_of(text: str) -> float | None:
    try:
        moment = datetime.datetime.fromisoformat(text)
    except ValueError:
        return None
    return moment.timestamp() if moment.tzinfo is not None else None
