"""When an event takes place, and what it is to be at a platform then.

Local times follow RFC 5545: a rule repeats the time of day, whatever the offset; a time that a clock change leaves out is
read with the offset before it, and of one that comes twice the first is meant (RFC 5545, 3.3.5).
"""

from __future__ import annotations

import datetime
import hashlib
import itertools
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from direkt import files
from direkt.errors import UnusableInput
from direkt.rig import templates
from direkt.rig.events import Audience, Delay, EventEntry, FieldValue, Projection
from direkt.rig.values import length_of, local_time, rule_parts, zone_of

if TYPE_CHECKING:
    from direkt.rig.file import Rig

_YEARS = 10  # that a rule is followed
_MOST = 4000  # times


@dataclass(frozen=True, slots=True)
class PlannedEvent:
    """One time at which an event takes place."""

    name: str  # of the event in the rig
    number: int  # from 1
    start: datetime.datetime  # with its zone
    end: datetime.datetime
    entry: EventEntry

    @property
    def mark(self) -> str:
        """The time as part of a name: 20260705T120000Z."""
        return self.start.astimezone(datetime.UTC).strftime("%Y%m%dT%H%M%SZ")

    @property
    def seconds(self) -> float:
        """How long it is planned to be, s."""
        return (self.end.astimezone(datetime.UTC) - self.start.astimezone(datetime.UTC)).total_seconds()


@dataclass(frozen=True, slots=True)
class WantedEvent:
    """What an event is to be at a platform."""

    title: str
    description: str
    start: datetime.datetime  # with its zone
    seconds: float
    audience: Audience
    delay: Delay
    projection: Projection
    rewind: float | None  # s; None: as the platform has it
    keep: bool
    fields: Mapping[str, FieldValue] = field(default_factory=dict)
    picture: bytes = b""  # PNG or JPEG

    @property
    def picture_mark(self) -> str:
        """By which two pictures can be told apart; empty: there is none."""
        return hashlib.sha256(self.picture).hexdigest() if self.picture else ""


def zone(rig: Rig, entry: EventEntry) -> datetime.tzinfo:
    """The event's zone: its own, the rig's, or this machine's."""
    name = entry.zone or rig.file.zone
    if name is not None:
        return zone_of(name)
    from dateutil import tz

    return tz.tzlocal()


def occurrences(rig: Rig, name: str) -> Iterator[PlannedEvent]:
    """The times at which an event takes place, in order. Raises UnusableInput."""
    entry = rig.file.events[name]
    local, where, length = local_time(entry.start), zone(rig, entry), length_of(entry.length)
    skipped = set(entry.skip)
    times = itertools.islice(_times(entry, local, where), _MOST)
    for number, moment in enumerate(times, 1):
        if moment.date().isoformat() in skipped:
            continue
        # the offset of the moment, not of the zone's name: so lengths are real ones
        start = moment.replace(tzinfo=where).astimezone(datetime.UTC).astimezone(where)
        end = (start.astimezone(datetime.UTC) + datetime.timedelta(seconds=length)).astimezone(where)
        yield PlannedEvent(name, number, start, end, entry)


def _times(entry: EventEntry, local: datetime.datetime, where: datetime.tzinfo) -> Iterator[datetime.datetime]:
    """Local times by the rule, at most ten years of them."""
    if entry.repeat is None:
        yield local
        return
    from dateutil.rrule import rrulestr

    parts = rule_parts(entry.repeat)
    try:
        last = local.replace(year=local.year + _YEARS)
    except ValueError:  # the 29th of February
        last = local.replace(year=local.year + _YEARS, day=28)
    until, count = parts.pop("UNTIL", None), parts.pop("COUNT", None)
    if until is not None:
        last = min(last, _until(until, where))
    rule = ";".join(f"{name}={value}" for name, value in parts.items())
    try:
        most = int(count) if count is not None else None
        made = rrulestr(f"{rule};UNTIL={last:%Y%m%dT%H%M%S}", dtstart=local)
        # what the rule leaves out is the first time all the same (RFC 5545, 3.8.5.3)
        times = itertools.chain([local], (t for t in made if t != local))
        yield from itertools.islice(times, most)
    except (ValueError, TypeError) as error:
        raise UnusableInput(f"the repeat rule {entry.repeat!r} cannot be followed: {error}") from None


def _until(text: str, where: datetime.tzinfo) -> datetime.datetime:
    """The last moment of a rule, as a local time. Raises ValueError."""
    match = re.fullmatch(r"(\d{8})(?:T(\d{6})(Z?))?", text)
    if match is None:
        raise ValueError(f"UNTIL is {text!r}")
    if match[2] is None:
        return datetime.datetime.strptime(match[1] + "235959", "%Y%m%d%H%M%S")
    moment = datetime.datetime.strptime(match[1] + match[2], "%Y%m%d%H%M%S")
    return moment.replace(tzinfo=datetime.UTC).astimezone(where).replace(tzinfo=None) if match[3] else moment


def next_one(rig: Rig, name: str, now: datetime.datetime) -> PlannedEvent:
    """The time that is on now, or else the next. Raises UnusableInput where all are past."""
    last = None
    for planned in occurrences(rig, name):
        last = planned
        if planned.end > now:
            return planned
    over = f": it ended on {last.end:%Y-%m-%d at %H:%M}" if last is not None else ""
    raise UnusableInput(f"the event {name!r} does not take place any more{over}; change its start in {rig.source}")


def soon(rig: Rig, feed: str, now: datetime.datetime, within: float) -> PlannedEvent | None:
    """The first event of the rig that is on with this feed, or begins within so many s; None: there is none."""
    for name, entry in rig.file.events.items():
        if feed in entry.feeds:
            try:
                one = next_one(rig, name, now)
            except UnusableInput:
                continue
            if (one.start - now).total_seconds() <= within:
                return one
    return None


def by_mark(rig: Rig, name: str, mark: str) -> PlannedEvent | None:
    """The time with this mark; None where the rig has it no longer."""
    return next((planned for planned in occurrences(rig, name) if planned.mark == mark), None)


def as_it_was(rig: Rig, name: str, mark: str) -> PlannedEvent:
    """An event at a time that the rig has no longer."""
    entry = rig.file.events[name]
    moment = datetime.datetime.strptime(mark, "%Y%m%dT%H%M%SZ").replace(tzinfo=datetime.UTC).astimezone(zone(rig, entry))
    return PlannedEvent(name, 1, moment, moment + datetime.timedelta(seconds=length_of(entry.length)), entry)


def wanted(rig: Rig, planned: PlannedEvent, delay: Delay | None = None) -> WantedEvent:
    """What the event is to be at this time; ``delay``: the word for it, where the rig has a figure. Raises UnusableInput."""
    entry = planned.entry
    values: dict[str, object] = {
        "start": planned.start, "end": planned.end, "date": f"{planned.start:%Y-%m-%d}", "time": f"{planned.start:%H:%M}",
        "rig": rig.file.name, "event": planned.name, "number": planned.number, "feeds": ", ".join(entry.feeds),
        "zone": planned.start.tzname() or "",
    }  # fmt: skip
    try:
        title, description = (templates.fill(text, values) for text in (entry.title, entry.description))
    except ValueError as error:
        raise UnusableInput(f"events.{planned.name}: {error}") from None
    return WantedEvent(
        " ".join(title.split()), description.strip(), planned.start, planned.seconds, entry.audience, delay or entry.delay_word or "usual",
        entry.projection, length_of(entry.rewind) if entry.rewind is not None else None, entry.keep, dict(entry.fields),
        picture(rig, entry),
    )  # fmt: skip


_PICTURES = {b"\x89PNG\r\n\x1a\n": "image/png", b"\xff\xd8\xff": "image/jpeg"}
_LARGEST_PICTURE = 8 << 20  # bytes


def picture_kind(content: bytes) -> str:
    """The media type of a picture; empty for what is none that platforms take."""
    return next((kind for start, kind in _PICTURES.items() if content.startswith(start)), "")


def picture(rig: Rig, entry: EventEntry) -> bytes:
    """The event's picture; empty where it has none. Raises UnusableInput."""
    if entry.picture is None:
        return b""
    from direkt.errors import os_words

    path = rig.folder / entry.picture
    if not path.resolve().is_relative_to(rig.folder.resolve()):
        raise UnusableInput(f"{path}: lies outside the rig's folder and is not sent; put the picture beside the rig")
    try:
        content = files.read(path, _LARGEST_PICTURE)
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be read: {os_words(error)}") from None
    if not picture_kind(content):
        raise UnusableInput(f"{path}: neither PNG nor JPEG")
    return content


def event_id(rig: Rig, planned: PlannedEvent, destination: str) -> str:
    """The name under which a platform knows this event at this time: the same whoever asks, and whenever."""
    words = (rig.file.name, planned.name, destination)
    slug = "-".join(_slug(word) for word in words)
    mark = SERIES if planned.entry.series else planned.mark
    return f"{slug}-{mark.lower()}-{_exact(*words)}"


SERIES = "00000000T000000Z"  # the mark of an event that is one for all its times


def later(rig: Rig, planned: PlannedEvent) -> PlannedEvent | None:
    """The time after this one; None: it is the last. Raises UnusableInput."""
    return next((one for one in occurrences(rig, planned.name) if one.start > planned.start), None)


def _slug(word: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", word.lower()).strip("-")[:24]


def _exact(*words: str) -> str:
    return hashlib.sha256("\0".join(words).encode()).hexdigest()[:8]  # names that only look alike


_REFERENCE = re.compile(r"(?<![a-z0-9-])([a-z0-9][a-z0-9-]*-(\d{8}t\d{6}z)-([0-9a-f]{8})|test-signal-[0-9a-f]{12})(?![a-z0-9-])")


def reference_in(text: str) -> str:
    """A name of ours for an event, wherever it stands in a text; empty: there is none."""
    match = _REFERENCE.search(text)
    return match[1] if match is not None else ""


@dataclass(frozen=True, slots=True)
class NameOwner:
    """Whose event a name of ours is."""

    event: str  # of the rig; empty: it has none of this name any more
    destination: str  # empty: the rig has none of this name any more
    mark: str  # of the time


def owner_of(rig: Rig, reference: str) -> NameOwner | None:
    """To which event of the rig a name belongs, at whatever time; None: it is another rig's, or none of ours."""
    match = _REFERENCE.fullmatch(reference)
    if match is None or match[2] is None:
        return None
    mark = match[2].upper()
    for event in rig.file.events:
        for destination in rig.file.destinations:
            if _exact(rig.file.name, event, destination) == match[3]:
                return NameOwner(event, destination, mark)
    # an event that was renamed or taken out since still bears the rig's name
    return NameOwner("", "", mark) if reference.startswith(f"{_slug(rig.file.name)}-") else None
