"""How judgements are printed and written as JSON."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from direkt import parameters
from direkt.cli import output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape, show, show_measured
from direkt.finding import Verdict
from direkt.judge import Judgement

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.measured import FindingJson
    from direkt.destination.sheet import Sheet
    from direkt.finding import Finding
    from direkt.measure.meter import Measurement
    from direkt.measure.series import OverTime
    from direkt.report.reading import Item, Line, Reading

_BEHIND, _STRIP = 46, 24  # columns of the words behind a strip, and the least that are left for it
_MARKS = {"pass": "✓ pass", "advise": "! advise", "fail": "✗ fail", "unseen": "? unseen"}
_STYLES = {"pass": "green", "advise": "yellow", "fail": "bold red", "unseen": "cyan"}


def verdict_text(verdict: Verdict) -> str:
    """A verdict with its mark and colour."""
    return f"[{_STYLES[verdict]}]{_MARKS[verdict]}[/]"


def verdict_words(reading: Reading) -> str:
    """The verdict as one reads it first."""
    if reading.verdict is Verdict.FAIL:
        return "[bold red]✗ FAILS[/]"
    if reading.better:
        return "[bold yellow]! PASSES, could be better[/]"
    return "[bold cyan]? PASSES as far as known[/]" if reading.unknown else "[bold green]✓ PASSES[/]"


def print_judged(
    out: Console, subject: str, detail: str, measurement: Measurement, judgement: Judgement, sheet: Sheet | None, *,
    with_set: bool, breaks: Sequence[float] = (), menu: Callable[[str], str] | None = None,
) -> None:  # fmt: skip
    """The reading; with --all also every measure and every finding, under the names that sheets and JSON have for them."""
    from direkt.cli import measurement as measuring
    from direkt.report import reading

    made = reading.read(judgement, menu)
    print_head(out, subject, detail, made, sheet)
    if out.is_terminal and measurement.video_series is not None:
        print_strip(out, measurement.video_series, judgement, breaks)
    if sheet is None or output.shows_all():
        measuring.print_measured(out, measurement.found)
    if output.shows_all():
        print_findings(out, judgement, with_set=with_set)
    print_reading(out, made)


def print_strip(out: Console, track: OverTime, judgement: Judgement, breaks: Sequence[float] = ()) -> None:
    """The measured time: bitrate and keyframes in a line each, and a mark below what lies beyond its limit."""
    from direkt.report import strip

    width = out.width - 12 - _BEHIND
    narrow = width < _STRIP
    for line in strip.lines(track, judgement.findings, out.width - 12 if narrow else width, breaks):
        out.print(f"[dim]{line.label:<10}[/]{line.cells}" + ("" if narrow else f"  [dim]{escape(line.said)}[/]"), no_wrap=True)
        if any(line.beyond):
            out.print(" " * 10 + "[bold red]" + "".join("▲" if off else " " for off in line.beyond) + "[/]", no_wrap=True)


def print_track(out: Console, name: str, track: OverTime) -> None:
    """The bitrate and the keyframes of one of several streams."""
    from direkt.report import strip

    for line in strip.lines(track, (), max(strip.LEAST, out.width - 14 - _BEHIND)):
        out.print(f"[dim]{name} {line.label:<10}[/]{line.cells}  [dim]{escape(line.said)}[/]", no_wrap=True)


def print_head(out: Console, subject: str, detail: str, reading: Reading, sheet: Sheet | None) -> None:
    """What was measured, against what, and the verdict."""
    against = f" against [bold]{escape(sheet.name)}[/]" if sheet is not None else ""
    more = f", {escape(detail)}" if detail and subject else escape(detail)
    if sheet is None and not reading.fix and not reading.better:
        out.print(f"[bold]{escape(subject)}[/]{more}")
        return
    verdict = f"{verdict_words(reading)}  " if sheet is not None or reading.verdict is not Verdict.PASS else ""
    out.print(f"{verdict}[bold]{escape(subject)}[/]{against}{more}: {reading.summary}")


def print_reading(out: Console, reading: Reading) -> None:
    """What to fix in its order, what could be better, what is not known, and in one line what holds."""
    rows: list[tuple[str, str, str]] = []
    for number, item in enumerate(reading.fix, 1):
        rows.append((f"[bold red]✗ {number}[/]", f"[bold]{escape(item.head.label)}[/]", _text(item, "required")))
    for item in reading.better:
        rows.append(("[yellow]![/]", escape(item.head.label), _text(item, "better")))
    for item in reading.unknown:
        rows.append(("[cyan]?[/]", escape(item.head.label), _text(item, "wanted")))
    if reading.holds:
        held = ", ".join(_held(line) for line in reading.holds)
        rows.append(("[green]✓[/]", "holds", f"[dim]{escape(held)}[/]"))
    output.print_rows(out, rows)


def _text(item: Item, word: str) -> str:
    """What it is and should be; then what to turn; then what follows from it."""
    head = item.head
    told = f"[bold]{escape(head.now)}[/]" if word == "required" else escape(head.now)
    wish = word if head.wanted == "yes" else f"{word}: {escape(head.wanted)}" if head.wanted else ""
    parts = [told, wish, escape(head.note), escape(item.when)]
    lines = ["; ".join(part for part in parts if part)]
    lines += [escape(item.cause)] if item.cause else []
    where = f"  [dim]({escape(item.where)})[/]" if item.where else ""
    lines += [f"→ {escape(item.turn)}{where}"] if item.turn else []
    if item.follows:
        followed = ", ".join(_followed(line) for line in item.follows)
        lines.append(f"[dim]follows from it: {escape(followed)}[/]")
    return "\n".join(lines)


def _followed(line: Line) -> str:
    wanted = f" (required: {line.wanted})" if line.wanted and line.verdict is Verdict.FAIL else ""
    return f"{line.label} {line.now}{wanted}"


def _held(line: Line) -> str:
    return f"{line.label} {line.now}" if line.now not in ("yes", "no") else line.label if line.now == "yes" else f"no {line.label}"


def print_findings(out: Console, judgement: Judgement, *, with_set: bool) -> None:
    """All findings under the names that sheets and JSON have for them."""
    findings = judgement.findings
    if not findings:
        return
    made = output.table("parameter", "required", *(["set"] if with_set else []), "sent", "verdict")
    for f in findings:
        cells = [f.parameter, escape(f.asked.text()) if f.asked else "–"]
        cells += [show(f.parameter, f.set)] if with_set else []
        made.add_row(*cells, show_measured(f.parameter, f.sent), verdict_text(f.verdict))
    out.print(made)


def finding_json(finding: Finding) -> FindingJson:
    """A finding as reports give it."""
    sent = finding.sent
    return {
        "parameter": finding.parameter, "label": parameters.find(finding.parameter).label, "verdict": finding.verdict.value,
        "asked": finding.asked.json() if finding.asked else None, "set": finding.set,
        "sent": sent.value if sent else None, "bound": sent.bound.value if sent and sent.bound else None,
        "advice": finding.words, "note": finding.note, "rule": finding.asked.source if finding.asked else None,
        "cause": finding.cause or None, "why": finding.why or None, "follows": finding.follows or None, "order": finding.order, "since": finding.since,
    }  # fmt: skip


def findings_json(judgement: Judgement, sheet: Sheet | None) -> tuple[list[FindingJson], str | None]:
    """Findings and verdict; where nothing was asked, there is no verdict."""
    return [finding_json(f) for f in judgement.findings], judgement.verdict.value if sheet is not None else None


def exit_code(judgement: Judgement) -> ExitCode:
    """What a judgement ends a command with."""
    return ExitCode.FAILS if judgement.verdict is Verdict.FAIL else ExitCode.GOOD
