"""direkt go --rehearse: the same order against Direkt's own receiver and a simulated event; then everything is put back."""

from __future__ import annotations

import secrets
import time
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import crew as crews
from direkt.cli import options, output, reports
from direkt.cli.exits import ExitCode
from direkt.cli.go_front import Front, time_sheet
from direkt.cli.output import escape
from direkt.errors import NoAnswer, os_words

if TYPE_CHECKING:
    from direkt.platform.planned import PlannedEvent
    from direkt.rig.file import Rig
    from direkt.work.feeds import FeedParts
    from direkt.work.live import practice
    from direkt.work.live.go_types import Crew, Options
    from direkt.work.stream.rehearse import Former

_DELAYS = {"usual": 6.0, "short": 3.0, "shortest": 2.0}  # s that viewers of a practice are behind


def practise(rig: Rig, planned: PlannedEvent, how: Options, *, yes: bool, report: Path | None, as_json: bool) -> ExitCode:
    """The whole practice; the exit code."""
    from direkt.platform import planned as planning
    from direkt.sim.tarnlight import Tarnlight
    from direkt.work.live import practice

    real = crews.crew(rig)
    token = f"practice-{secrets.token_hex(12)}"
    named = replace(planned, name=f"{planned.name} (practice)")
    platform = Tarnlight(token, host=practice.host_of(rig, planned), delays=_DELAYS, strict=False)
    try:
        platform.start()
    except OSError as error:
        raise NoAnswer(f"the practice's receiver cannot be opened: {os_words(error)}") from None
    sheets = {planning.event_id(rig, named, a.destination): a.sheet for a in practice.real_destinations(rig, named, real)}
    platform.sheet_of = sheets.get
    own = real.means.sources.store
    assert own is not None
    store = practice.PracticeStore(own, {f"{practice.MARK}token": token})
    means = replace(real.means, sources=replace(real.means.sources, store=store), tokens=store)
    copy = practice.copy_of(rig, planned, platform)
    carrier = practice.Carrier(copy, means, options.SystemClock())
    crew = replace(real, means=means, launch=carrier.launch, last_words=lambda feed: carrier.failed.get(feed, ""))
    front = Front(copy, named, yes=yes, as_json=as_json, practice=True)
    formers = practice.formers_of(rig, planned, real)
    try:
        gone = front.drive(crew, replace(how, practice=True, rehearsal=False))
        code = _after(front, copy, named, crew, carrier)
    finally:
        left = _put_back(formers, front)
        platform.stop()
        practice.forget(copy, named)
    if not as_json:
        time_sheet(front.out, gone)
    document = front.document
    document["on_air"], document["failed"], document["failure"] = (
        gone.on_air,
        int(gone.failed) if gone.failed else None,
        gone.failure or None,
    )
    document["interrupted"], document["left_on"] = gone.interrupted, left
    if as_json:
        output.print_json(document)
    reports.save_page(report, document, lambda: reports.go_page(front.document, front.title))
    if left:
        output.error("; ".join(left))
        return ExitCode.NO_ANSWER
    if gone.interrupted:
        output.interrupted("the practice is over; everything is back to how it was")
        return ExitCode.INTERRUPTED
    if gone.failed is not None:
        output.error(f"the practice stopped at step {gone.failed:d}: {gone.failure}")
        return ExitCode.FAILS
    return code


def _after(front: Front, rig: Rig, planned: PlannedEvent, crew: Crew, carrier: practice.Carrier) -> ExitCode:
    """The end is practised too."""
    from direkt.cli.stop import marked
    from direkt.work.live import end, end_findings
    from direkt.work.steps import drive

    front.out.print("\n[bold]The end[/]")
    carrier.stop()
    aim = end.Aim(tuple(planned.entry.feeds), (planned,))

    def on_event(event: end_findings.EndEvent) -> bool | None:
        if isinstance(event, end_findings.Off):
            output.print_lines(front.out, [(f"   {marked(event)}", f"[bold]{escape(event.name)}[/]  {escape(event.text)}")])
        return True

    begin = time.monotonic()
    stopped = drive(end.stop(rig, aim, crew), on_event)
    front.document["steps"].append(
        {"step": 8, "title": "the end", "seconds": round(time.monotonic() - begin, 1), "good": stopped.proven}
    )
    return ExitCode.GOOD if stopped.proven else ExitCode.NO_ANSWER


def _put_back(formers: dict[str, tuple[FeedParts, Former]], front: Front) -> list[str]:
    """Every slot as it was; what is not, in words."""
    from direkt.work.live import practice

    left = practice.put_back(formers)
    if formers and not left:
        front.out.print(
            f"   [green]✓[/] {escape(', '.join(p.device for p, _ in formers.values()))}: the push slots are as they were"
        )
    return list(left.values())
