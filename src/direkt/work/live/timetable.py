"""When things begin and end by the clock: events by their own times, feeds by daily windows or always; and what overlaps.

Pure: the time is passed in. Local times follow RFC 5545 (3.3.5): a time that a clock change leaves out is read with the offset
before it, and of one that comes twice the first is meant. So a window's length changes with the clocks, its times of day do not.
"""

from __future__ import annotations

import datetime
import heapq
from collections.abc import Iterator
from dataclasses import dataclass

from direkt.errors import UnusableInput
from direkt.platform import planned as planning
from direkt.platform.planned import PlannedEvent
from direkt.rig.file import Rig
from direkt.rig.values import length_of, zone_of
from direkt.rig.watch import DAYS, ScheduleEntry

_DAY = datetime.timedelta(days=1)
_AHEAD = 370  # days in which overlaps are looked for: a year with its clock changes and leap day
ALWAYS = "always"
_FOREVER = datetime.datetime.max.replace(tzinfo=datetime.UTC) - 2 * _DAY


@dataclass(frozen=True, slots=True)
class Turn:
    """One time of one entry."""

    entry: str
    feeds: tuple[str, ...]
    begin: datetime.datetime  # when something is done first
    start: datetime.datetime  # when it is on
    end: datetime.datetime | None  # None: never
    mark: str  # tells this time from the others
    planned: PlannedEvent | None = None  # of an event

    @property
    def until(self) -> datetime.datetime:
        """The end, for comparing."""
        return self.end if self.end is not None else _FOREVER


class Overlap(UnusableInput):
    """Two entries want one device or one key at the same time."""


def turns(rig: Rig, name: str, now: datetime.datetime, *, past: datetime.timedelta = _DAY) -> Iterator[Turn]:
    """The times of an entry that are not over for longer than ``past``, in order. Raises UnusableInput."""
    entry = rig.file.schedule[name]
    if entry.event is not None:
        yield from _of_event(rig, name, entry, now - past)
    elif entry.always:
        assert entry.feed is not None
        begin = datetime.datetime(2000, 1, 1, tzinfo=datetime.UTC)
        yield Turn(name, (entry.feed,), begin, begin, None, ALWAYS)
    else:
        yield from _of_window(rig, name, entry, now - past)


def _of_event(rig: Rig, name: str, entry: ScheduleEntry, since: datetime.datetime) -> Iterator[Turn]:
    assert entry.event is not None
    before = datetime.timedelta(seconds=length_of(entry.before))
    for one in planning.occurrences(rig, entry.event):
        if one.end > since:
            begin = (one.start.astimezone(datetime.UTC) - before).astimezone(one.start.tzinfo)
            yield Turn(name, tuple(one.entry.feeds), begin, one.start, one.end, one.mark, one)


def _of_window(rig: Rig, name: str, entry: ScheduleEntry, since: datetime.datetime) -> Iterator[Turn]:
    assert entry.feed is not None and entry.window is not None
    where = zone(rig)
    first, last = (datetime.time.fromisoformat(part) for part in entry.window.split("-"))
    day = (since.astimezone(where) - 2 * _DAY).date()
    while day < datetime.date.max - 3 * _DAY:
        if DAYS[day.weekday()] in entry.days:
            start = _moment(day, first, where)
            end = _moment(day + _DAY if last <= first else day, last, where)
            if start < end and end > since:
                mark = start.astimezone(datetime.UTC).strftime("%Y%m%dT%H%M%SZ")
                yield Turn(name, (entry.feed,), start, start, end, mark)
        day += _DAY


def _moment(day: datetime.date, time: datetime.time, where: datetime.tzinfo) -> datetime.datetime:
    """A local time as a real moment."""
    return datetime.datetime.combine(day, time, where).astimezone(datetime.UTC).astimezone(where)


def zone(rig: Rig) -> datetime.tzinfo:
    """The rig's zone, or this machine's."""
    if rig.file.zone is not None:
        return zone_of(rig.file.zone)
    from dateutil import tz

    return tz.tzlocal()


def upcoming(rig: Rig, now: datetime.datetime, most: int, days: float | None = None) -> list[Turn]:
    """What is on now and comes next, of all entries, in order. Raises UnusableInput."""
    limit = now + datetime.timedelta(days=days) if days is not None else _FOREVER
    each = (iter_while(turns(rig, name, now, past=datetime.timedelta(0)), limit) for name in rig.file.schedule)
    merged = heapq.merge(*each, key=lambda turn: turn.begin)
    return [turn for turn, _ in zip(merged, range(most), strict=False)]


def iter_while(some: Iterator[Turn], limit: datetime.datetime) -> Iterator[Turn]:
    """Those that begin before a moment."""
    for turn in some:
        if turn.begin >= limit:
            return
        yield turn


def check(rig: Rig, now: datetime.datetime) -> None:
    """Raises Overlap where two entries want one device or one key at the same time within the next year."""
    limit = now + _AHEAD * _DAY
    wants: dict[tuple[str, str], list[tuple[datetime.datetime, datetime.datetime, Turn]]] = {}
    for name in rig.file.schedule:
        for turn in iter_while(turns(rig, name, now, past=datetime.timedelta(0)), limit):
            for what in _wanted(rig, turn):
                wants.setdefault(what, []).append((turn.begin, turn.until, turn))
    for (kind, which), some in sorted(wants.items(), key=lambda one: one[0]):
        some.sort(key=lambda one: one[0])
        latest = some[0] if some else None
        for one in some[1:]:
            assert latest is not None
            if one[0] < latest[1]:
                raise Overlap(_words(kind, which, latest[2], one[2]))
            if one[1] > latest[1]:
                latest = one


def _wanted(rig: Rig, turn: Turn) -> list[tuple[str, str]]:
    """The devices, then the keys."""
    feeds = [rig.file.feeds[name] for name in turn.feeds]
    devices = [("device", feed.device) for feed in feeds]
    keys = [("key", rig.file.destinations[feed.destination].key) for feed in feeds]
    return list(dict.fromkeys([*devices, *keys]))


def _words(kind: str, which: str, first: Turn, second: Turn) -> str:
    whom = f"the device {which}" if kind == "device" else f"the same key ({which})"
    names = f"schedule.{first.entry} and schedule.{second.entry}"
    if first.entry == second.entry:
        names = f"schedule.{first.entry}, which follows itself too soon,"
    one = "one always" if first.end is None else f"one from {first.begin:%Y-%m-%d %H:%M} until {first.end:%H:%M}"
    return (
        f"{names} both want {whom} on {second.begin:%Y-%m-%d}: {one}, the other from {second.begin:%H:%M}; change the times, "
        "or give one another device or destination"
    )
