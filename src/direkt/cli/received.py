"""What catch and rehearse print and write of a push that was received."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from direkt.cli import judgement as judging
from direkt.cli import live
from direkt.cli import measurement as measuring
from direkt.cli.output import clock, escape, show_measured

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.measured import ReceivedJson
    from direkt.destination.sheet import Sheet
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement
    from direkt.parameters import Values
    from direkt.work.stream.reception import Rehearsal

_ALL = 1000


def print_received(
    out: Console, rehearsal: Rehearsal, measurement: Measurement, judgement: Judgement, sheet: Sheet | None, *,
    with_set: bool, word: str = "received", subject: str = "", menu: Callable[[str], str] | None = None,
) -> None:  # fmt: skip
    """Everything that was seen, what to do about it, and the verdict."""
    for line in live.refusal_lines(rehearsal.refusals, _ALL):
        out.print(line)
    if rehearsal.more_refusals:
        out.print(f"[yellow]! turned away[/]  {rehearsal.more_refusals} more connections")
    length = show_measured("stream.duration", measurement.found.get("stream.duration"))
    judging.print_judged(out, subject, f"{length} {word}", measurement, judgement, sheet, with_set=with_set, breaks=[gap.at for gap in rehearsal.gaps], menu=menu)
    measuring.print_side_notes(out, measurement)
    for gap in rehearsal.gaps:
        if gap.seconds is not None:
            out.print(f"[yellow]! gap[/]  at {clock(gap.at)}: {gap.seconds:.1f} s ({escape(gap.reason)})")
        else:
            out.print(f"[yellow]! gap[/]  at {clock(gap.at)}: the push did not come back ({escape(gap.reason)})")
    kept, ended = rehearsal.recording, rehearsal.recording_ended
    if ended is not None:
        when = clock(ended[0]) if ended[0] >= 60 else f"{ended[0]:.1f} s"
        what = f"ended after {when}: {kept}" if kept is not None else "nothing was recorded"
        out.print(f"[yellow]! recording[/]  {escape(what)}; the disk said: {escape(ended[1])}", soft_wrap=True)
    elif kept is not None:
        out.print(f"recorded: {escape(kept)}", soft_wrap=True)


def happened(rehearsal: Rehearsal) -> list[str]:
    """What went otherwise than it should while it was received, in words."""
    told = []
    for gap in rehearsal.gaps:
        lasted = f"nobody pushed for {gap.seconds:.1f} s" if gap.seconds is not None else "the push ended and did not come back"
        told.append(f"{clock(gap.at)}: {lasted} ({gap.reason})")
    told += [f"turned away: {r.peer}{f', {r.count} times' if r.count > 1 else ''}: {r.reason}" for r in rehearsal.refusals.values()]
    if rehearsal.recording_ended is not None:
        told.append(f"{clock(rehearsal.recording_ended[0])}: the recording ended: {rehearsal.recording_ended[1]}")
    return told


def received_json(
    rehearsal: Rehearsal, measurement: Measurement, judgement: Judgement, sheet: Sheet | None, *,
    source: str, feed: str | None, set_: Values | None,
) -> ReceivedJson:  # fmt: skip
    """The parts of a JSON document that catch and rehearse share."""
    findings, verdict = judging.findings_json(judgement, sheet)
    ended = rehearsal.recording_ended
    return {
        "source": source, "feed": feed, "sheet": sheet.id if sheet else None, **measuring.measurement_json(measurement),
        "set": set_,
        "gaps": [
            {"at": round(g.at, 2), "seconds": None if g.seconds is None else round(g.seconds, 2), "reason": g.reason}
            for g in rehearsal.gaps
        ],
        "turned_away": list(rehearsal.refusals.values()),
        "recording": str(rehearsal.recording) if rehearsal.recording else None,
        "recording_ended": {"at": round(ended[0], 2), "reason": ended[1]} if ended else None,
        "findings": findings, "verdict": verdict,
    }  # fmt: skip
