"""The incident report of an event, for the customer: when it was on air, what dropped and for how long, what was done."""

from __future__ import annotations

import datetime
import html
from collections.abc import Sequence
from dataclasses import dataclass

from direkt.platform.planned import PlannedEvent, WantedEvent
from direkt.store.event_memory import EventStanding
from direkt.store.log import LogRow

_STYLE = """
:root { color-scheme: light; } * { box-sizing: border-box; }
body { margin: 0 auto; padding: 1.2rem; max-width: 56rem; font: 15px/1.45 system-ui, sans-serif; color: #181c20; background: #fff; }
h1 { font-size: 1.5rem; margin: 0; } h2 { font-size: 1.05rem; margin: 1.6rem 0 .4rem; } p { margin: .2rem 0; } .sub { color: #444; }
table { border-collapse: collapse; width: 100%; } th { text-align: left; color: #444; font-weight: 600; }
th, td { padding: .3rem .6rem .3rem 0; border-top: 1px solid #ddd; vertical-align: top; } td.t { white-space: nowrap; font-variant-numeric: tabular-nums; }
.facts { display: flex; flex-wrap: wrap; gap: .6rem 2.2rem; margin: .9rem 0; } .facts div b { display: block; font-size: 1.25rem; }
.bar { position: relative; height: 1.4rem; background: #e3e6ea; margin: .6rem 0 .2rem; } .bar i { position: absolute; top: 0; bottom: 0; background: #2c6e49; }
.bar i.drop { background: #b01818; } .bar i.open { background: repeating-linear-gradient(45deg, #b01818, #b01818 4px, #8a9099 4px, #8a9099 8px); } .ends { display: flex; justify-content: space-between; color: #444; font-size: .85rem; }
@media print { @page { size: A4; margin: 14mm; } body { padding: 0; max-width: none; font-size: 10pt; } .bar, .bar i { print-color-adjust: exact; } }
"""
_OUTCOMES = {"good": "done", "advise": "done, to improve", "failed": "failed", "interrupted": "interrupted"}


def begin_of(known: EventStanding) -> datetime.datetime:
    """From when on the log is of interest: a day before it was begun, for what was prepared."""
    return _moment(known.begun) - datetime.timedelta(days=1)


_SAME = 30.0  # s by which two may differ that tell of one drop
_AFTER = datetime.timedelta(hours=12)  # behind its end in which what was done belongs to it


def end_of(known: EventStanding, planned: PlannedEvent) -> datetime.datetime:
    """Until when the log is of interest."""
    last = max(filter(None, (_moment(t) if t else None for t in (known.ended, known.paused, known.on_air, known.begun))), default=planned.end)
    return max(last, planned.end) + _AFTER


def _moment(text: str) -> datetime.datetime:
    return datetime.datetime.fromisoformat(text)


def belongs(one: LogRow, planned: PlannedEvent) -> bool:
    """Whether an entry is about the event at this time, or about one of its feeds."""
    e = one.entry
    if e.event:
        return (e.event, e.mark) == (planned.name, planned.mark)
    return e.feed in planned.entry.feeds


@dataclass(frozen=True, slots=True)
class Drop:
    """A time without its push."""

    began: datetime.datetime
    seconds: float | None  # None: nobody saw it come back
    where: str
    text: str


def drops(entries: Sequence[LogRow], on_air: datetime.datetime, ended: datetime.datetime) -> list[Drop]:
    """What dropped while it was on air, in the order of time: what is over, and what nobody saw come back."""
    out, open_ = [], dict[str, LogRow]()  # by feed
    for one in sorted(entries, key=lambda one: one.at):
        e, kind = one.entry, one.entry.detail.get("kind")
        if e.what == "drop":  # is made when what it tells of is over
            at = e.detail.get("began")
            began = _moment(at) if isinstance(at, str) else one.at - datetime.timedelta(seconds=e.seconds or 0)
            out.append(Drop(began, e.seconds, e.feed or e.destination, e.text))
            before = open_.get(e.feed)
            if before is not None and abs((before.at - began).total_seconds()) < _SAME:
                del open_[e.feed]
            for feed, before in list(open_.items()):  # as the ingest counted it
                end = began + datetime.timedelta(seconds=(e.seconds or 0) + _SAME)
                if before.entry.destination == e.destination and began - datetime.timedelta(seconds=_SAME) <= before.at <= end:
                    del open_[feed]
        elif e.what == "watch" and kind == "drop":
            open_.setdefault(e.feed, one)
        elif e.what == "watch" and kind == "well":
            open_.pop(e.feed, None)
    out += [Drop(one.at, None, one.entry.feed, one.entry.text) for one in open_.values()]
    return sorted((one for one in out if on_air <= one.began <= ended), key=lambda one: one.began)


def _missing(found: Sequence[Drop], until: datetime.datetime) -> float:
    """s in which something was missing; what dropped in two places at a time counts once."""
    total, reached = 0.0, None
    for one in found:
        end = min(until, one.began + datetime.timedelta(seconds=one.seconds or 0.0))
        begin = max(one.began, reached) if reached is not None else one.began
        if end > begin:
            total += (end - begin).total_seconds()
            reached = end
    return total


def _told(found: Sequence[Drop], until: datetime.datetime) -> str:
    """How many, and how long."""
    unknown = sum(one.seconds is None for one in found)
    text = f"{len(found)}"
    if unknown == len(found):
        return text + (", of unknown length" if unknown else "")
    return f"{text}, {_missing(found, until):.0f} s in all" + (f"; {unknown} of unknown length" if unknown else "")


def page(rig: str, wanted: WantedEvent, planned: PlannedEvent, known: EventStanding, log: Sequence[LogRow]) -> str:
    """One HTML document; it loads nothing from anywhere."""
    zone = planned.start.tzinfo
    own = [one for one in log if belongs(one, planned)]
    on_air = _moment(known.on_air) if known.on_air else None
    ended = _moment(known.ended) if known.ended else None
    until = ended or max((one.at for one in own), default=on_air or planned.start)

    changes = planned.start.utcoffset() != until.astimezone(zone).utcoffset()

    def local(moment: datetime.datetime, how: str = "%H:%M:%S") -> str:
        """A time; with its zone where the clocks change meanwhile."""
        return moment.astimezone(zone).strftime(how + (" %Z" if changes else ""))

    body = [
        f"<h1>{_e(wanted.title)}</h1>",
        f"<p class=sub>{_e(rig)}: {planned.start:%A, %d %B %Y}, planned {planned.start:%H:%M} to {planned.end:%H:%M} {_e(planned.start.tzname() or '')}{'' if changes else ', as are all times here'}</p>",
    ]
    found = drops(own, on_air, until) if on_air is not None else []
    if on_air is None:
        body.append("<p><b>It did not go on air.</b></p>")
    else:
        span = (until - on_air).total_seconds()
        facts = [
            ("on air", local(on_air)), ("ended", local(ended) if ended is not None else "not ended yet"), ("for", _span(span)),
            ("drops", _told(found, until)),
        ]  # fmt: skip
        body.append(
            "<div class=facts>"
            + "".join(f"<div>{_e(name)}<b>{_e(value)}</b></div>" for name, value in facts)
            + "</div>"
        )
        body.append(_bar(on_air, until, found))
        body.append(f"<div class=ends><span>{local(on_air)}</span><span>{local(until)}</span></div>")
    body.append("<h2>Drops</h2>")
    if found:
        rows = "".join(
            f"<tr><td class=t>{local(one.began)}<td class=t>{'not known' if one.seconds is None else _seconds(one.seconds)}<td>{_e(one.where)}<td>{_e(one.text)}"
            for one in found
        )
        body.append(f"<table><tr><th>when<th>how long<th>where<th>what{rows}</table>")
    else:
        body.append("<p>None is known.</p>")
    body.append("<h2>What was done</h2>")
    rows = "".join(
        f"<tr><td class=t>{local(one.at, '%d %b %H:%M:%S')}<td>{_e(one.entry.what)}<td>{_e(one.entry.feed or one.entry.destination)}"
        f"<td>{'its end is not known' if one.open else _OUTCOMES[one.entry.outcome]}<td>{_e(one.entry.text)}"
        for one in own if one.entry.what != "drop"
    )  # fmt: skip
    body.append(
        f"<table><tr><th>when<th>what<th>of<th>outcome<th>{rows}</table>" if rows else "<p>Nothing was logged.</p>"
    )
    head = '<meta charset=utf-8><meta name=viewport content="width=device-width, initial-scale=1">'
    return f"<!doctype html><html lang=en><head>{head}<title>{_e(wanted.title)}</title><style>{_STYLE}</style></head><body>{''.join(body)}</body></html>\n"


def season(rig: str, events: Sequence[tuple[WantedEvent, PlannedEvent, EventStanding, Sequence[LogRow]]], zone: datetime.tzinfo) -> str:
    """All events of a range on one page, in the order in which they were begun."""
    rows, on_air_all, lost_all, count_all, unknown = [], 0.0, 0.0, 0, 0
    for wanted, planned, known, log in events:
        own = [one for one in log if belongs(one, planned)]
        on_air = _moment(known.on_air) if known.on_air else None
        ended = _moment(known.ended) if known.ended else None
        until = ended or max((one.at for one in own), default=on_air or planned.start)
        found = drops(own, on_air, until) if on_air is not None else []
        lost, span = _missing(found, until), (until - on_air).total_seconds() if on_air is not None else 0.0
        unknown += sum(one.seconds is None for one in found)
        on_air_all, lost_all, count_all = on_air_all + span, lost_all + lost, count_all + len(found)
        how = "not on air" if on_air is None else _span(span) + ("" if ended is not None else ", not ended yet")
        lengths = [one.seconds for one in found if one.seconds is not None]
        told = _told(found, until) + (f", the longest {max(lengths):.0f} s" if len(lengths) > 1 else "")
        bar = _bar(on_air, until, found) if on_air is not None else ""
        rows.append(
            f"<tr><td class=t>{planned.start.astimezone(zone):%Y-%m-%d %H:%M %Z}<td>{_e(wanted.title)}<td class=t>{how}<td>{told if on_air is not None else ''}<td>{bar}"
        )
    facts = [("events", str(len(events))), ("on air", _span(on_air_all)), ("drops", f"{count_all}" + (f"; {unknown} of unknown length" if unknown else "")), ("missing", f"{lost_all:.0f} s")]
    if on_air_all:
        most = "at most " if unknown else ""
        facts.append(("without a drop", f"{most}{100 * (1 - lost_all / on_air_all):.2f} % of the time"))
    body = [
        f"<h1>{_e(rig)}</h1>", f"<p class=sub>{events[0][1].start.astimezone(zone):%d %B %Y} to {events[-1][1].start.astimezone(zone):%d %B %Y}</p>",
        "<div class=facts>" + "".join(f"<div>{_e(name)}<b>{_e(value)}</b></div>" for name, value in facts) + "</div>",
        f"<table><tr><th>begins<th>event<th>on air for<th>drops<th style='width:25%'>{''.join(rows)}</table>",
    ]  # fmt: skip
    head = '<meta charset=utf-8><meta name=viewport content="width=device-width, initial-scale=1">'
    return f"<!doctype html><html lang=en><head>{head}<title>{_e(rig)}: the season</title><style>{_STYLE}</style></head><body>{''.join(body)}</body></html>\n"


def _bar(begin: datetime.datetime, end: datetime.datetime, found: Sequence[Drop]) -> str:
    """The time on air, with what is missing in it."""
    whole = max(1.0, (end - begin).total_seconds())
    parts = ["<i style='left:0;width:100%'></i>"]
    for one in sorted(found, key=lambda one: one.seconds is not None):  # what is known lies on top
        left = (one.began - begin).total_seconds() / whole * 100
        width = 100.0 if one.seconds is None else max(0.4, one.seconds / whole * 100)
        parts.append(f"<i class={'open' if one.seconds is None else 'drop'} style='left:{left:.2f}%;width:{min(width, 100 - left):.2f}%'></i>")
    return f"<div class=bar role=img aria-label='{len(found)} drops'>{''.join(parts)}</div>"


def _span(seconds: float) -> str:
    hours, rest = divmod(round(seconds), 3600)
    return f"{hours} h {rest // 60} min" if hours else f"{rest // 60} min {rest % 60} s"


def _seconds(seconds: float | None) -> str:
    return f"{seconds:.1f} s" if seconds is not None else "until the end"


def _e(words: str) -> str:
    return html.escape(words)
