"""How a write goes: which key, what may restart and when, and whether a person agrees."""

from __future__ import annotations

import datetime
import sys
from typing import TYPE_CHECKING

import click

from direkt.errors import UnusableInput
from direkt.parameters import Value

if TYPE_CHECKING:

    from direkt.destination.references import Sources
    from direkt.rig.file import Rig
    from direkt.secret import Secret
    from direkt.work.device.write import WriteTerms
    from direkt.work.feeds import FeedParts

_QUIET = 30 * 60.0  # s before a feed's start in which nothing restarts


def key_for(rig: Rig, parts: FeedParts, sources: Sources) -> Secret:
    """The destination's key; none is asked for where the device has no place for it. Raises SecretError."""
    from direkt.device.state import Capability
    from direkt.secret import Secret

    return rig.key(parts.destination, sources) if Capability.SLOTS in parts.driver.capabilities else Secret("")


def terms_for(
    rig: Rig, feed: str | None, wait: float, near: str | None, restart_anyway: bool, *, live: bool = False
) -> WriteTerms:  # fmt: skip
    """What a write may do. Raises UnusableInput for a time that is none."""
    from direkt.work.device.write import WriteTerms

    entry = rig.file.feeds.get(feed or "") or (
        next(iter(rig.file.feeds.values())) if len(rig.file.feeds) == 1 else None
    )
    said = near if near is not None else entry.start if entry is not None else None
    if near is None and (event := event_soon(rig, feed)) is not None and not restart_anyway:
        return WriteTerms(wait, f"{event}; to restart it all the same: --restart-anyway", live)
    if said is None:
        return WriteTerms(wait, live=live)
    begin, now = _moment(said), datetime.datetime.now()
    left = (begin - now).total_seconds()
    if restart_anyway or not 0 <= left <= _QUIET:
        return WriteTerms(wait, live=live)
    return WriteTerms(
        wait, f"it goes on air at {begin:%H:%M}, in {left / 60:.0f} min; to restart it all the same: --restart-anyway", live
    )


def event_soon(rig: Rig, feed: str | None) -> str | None:
    """What event of the feed is on, or begins within the quiet time, in words."""
    from direkt.platform import planned

    now = datetime.datetime.now(datetime.UTC)
    one = planned.soon(rig, feed or (next(iter(rig.file.feeds)) if len(rig.file.feeds) == 1 else ""), now, _QUIET)
    if one is None:
        return None
    left = (one.start - now).total_seconds()
    when = f"begins at {one.start:%H:%M}, in {left / 60:.0f} min" if left > 0 else f"is on until {one.end:%H:%M}"
    return f"its event {one.name} {when}"


def _moment(text: str) -> datetime.datetime:
    """A time of today, or date and time; the local one. Raises UnusableInput."""
    for form in ("%H:%M", "%H:%M:%S"):
        try:
            clock = datetime.datetime.strptime(text.strip(), form).time()
        except ValueError:
            continue
        found = datetime.datetime.combine(datetime.date.today(), clock)
        behind = (datetime.datetime.now() - found).total_seconds() > 12 * 3600
        return found + datetime.timedelta(days=1) if behind else found
    try:
        found = datetime.datetime.fromisoformat(text.strip())
    except ValueError:
        raise UnusableInput(f"{text!r} is no time; expected 18:30 or 2026-07-03 18:30") from None
    return found.astimezone().replace(tzinfo=None) if found.tzinfo is not None else found


Differing = dict[str, list[Value | None]]  # a parameter: what it was, and what it is


def agreed(question: str) -> bool:
    if not sys.stdin.isatty():
        raise UnusableInput("there is no terminal to confirm on: add --yes to write without asking")
    return click.confirm(question, default=False, err=True)
