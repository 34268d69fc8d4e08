"""Which event is meant, and at which platforms it takes place."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING

import click

from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from collections.abc import Callable

    from direkt.platform.event import PlatformEvent
    from direkt.platform.planned import PlannedEvent
    from direkt.rig.file import Rig
    from direkt.work.live.event_at_platforms import AirEvent, Airing
    from direkt.work.steps import Job

    Work = Callable[[Airing, str], Job[AirEvent, PlatformEvent | None]]

at_option = click.option(
    "--at", "at", metavar="DATE", help="Of an event that repeats: the time on or after this date (2026-07-05)."
)
yes_option = click.option("--yes", is_flag=True, help="Answer every question with yes.")


def chosen(rig: Rig, name: str | None, at: str | None) -> PlannedEvent:
    """The time of an event that is meant: on now, next, or on or after a date. Raises UnusableInput."""
    from direkt.platform import planned

    found = rig.event_name(name)
    if at is None:
        return planned.next_one(rig, found, datetime.datetime.now(datetime.UTC))
    try:
        day = datetime.date.fromisoformat(at.strip()[:10])
    except ValueError:
        raise UnusableInput(f"--at: expected a date like 2026-07-05, got {at!r}") from None
    for one in planned.occurrences(rig, found):
        if one.start.date() >= day:
            return one
    raise UnusableInput(f"the event {found!r} does not take place on or after {day}")


def gathered(rig: Rig, one: PlannedEvent) -> list[Airing]:
    from direkt.cli import crew
    from direkt.work.live import event_at_platforms

    return event_at_platforms.gather(rig, one, crew.means(rig))
