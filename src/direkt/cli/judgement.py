"""How judgements are printed and written as JSON."""

from __future__ import annotations

from typing import TYPE_CHECKING

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

_MARKS = {"pass": "✓ pass", "advise": "! advise", "fail": "✗ fail", "unseen": "? unseen"}
_STYLES = {"pass": "green", "advise": "yellow", "fail": "bold red", "unseen": "cyan"}


def verdict_text(verdict: Verdict) -> str:
    """A verdict with its mark and colour."""
    return f"[{_STYLES[verdict]}]{_MARKS[verdict]}[/]"


def print_findings(out: Console, judgement: Judgement, *, with_set: bool) -> None:
    """Asked, set and sent side by side, then what to do about what is off."""
    findings = judgement.findings
    if not findings:
        return
    if output.is_narrow(out):
        _print_lines(out, findings, with_set=with_set)
    else:
        made = output.table("parameter", "asked", *(["set"] if with_set else []), "sent", "verdict")
        for f in findings:
            cells = [f.parameter, escape(f.asked.text()) if f.asked else "–"]
            cells += [show(f.parameter, f.set)] if with_set else []
            made.add_row(*cells, show_measured(f.parameter, f.sent), verdict_text(f.verdict))
        out.print(made)
    to_do = [f for f in findings if (f.advice or f.note) and f.verdict is not Verdict.PASS]
    if to_do:
        out.print("[bold]What to do[/]")
    told: dict[tuple[Verdict, str, str], list[str]] = {}  # what is said of several at once
    for f in sorted(to_do, key=lambda f: f.order):
        words = " ".join(part for part in (f.advice, f"({f.note})" if f.note else "") if part)
        told.setdefault((f.verdict, f.follows, "" if f.follows else words), []).append(f.parameter)
    lines = []
    for (verdict, cause, words), names in told.items():
        says = f"{'follow' if len(names) > 1 else 'follows'} from {cause}: fix that first." if cause else words
        lines.append((verdict_text(verdict), f"[bold]{', '.join(names)}[/]: {escape(says)}"))
    output.print_lines(out, lines, indent=2)


def _print_lines(out: Console, findings: tuple[Finding, ...], *, with_set: bool) -> None:
    """What is off first, a line or two each; what passes in one line in all."""
    for f in sorted(findings, key=lambda f: f.order):
        if f.verdict is Verdict.PASS:
            continue
        out.print(f"{verdict_text(f.verdict)}  {f.parameter}")
        parts = [f"asked {escape(f.asked.text())}" if f.asked else "not asked"]
        parts += [f"set {show(f.parameter, f.set)}"] if with_set else []
        out.print(f"    {'; '.join([*parts, f'sent {show_measured(f.parameter, f.sent)}'])}")
    passed = [f"{f.parameter} {show_measured(f.parameter, f.sent)}" for f in findings if f.verdict is Verdict.PASS]
    if passed:
        out.print(f"{verdict_text(Verdict.PASS)}  {', '.join(passed)}")


def print_verdict(out: Console, judgement: Judgement, sheet: Sheet) -> None:
    """The verdict in one line."""
    words = (
        (Verdict.FAIL, "fail"),
        (Verdict.ADVISE, "to improve"),
        (Verdict.UNSEEN, "not seen"),
        (Verdict.PASS, "pass"),
    )
    said = ", ".join(f"{judgement.count(v)} {word}" for v, word in words if judgement.count(v))
    out.print(f"\n[bold]Verdict against {escape(sheet.name)}:[/] {verdict_text(judgement.verdict)}  ({said})")


def finding_json(finding: Finding) -> FindingJson:
    """A finding as reports give it."""
    sent = finding.sent
    return {
        "parameter": finding.parameter, "verdict": finding.verdict.value,
        "asked": finding.asked.json() if finding.asked else None, "set": finding.set,
        "sent": sent.value if sent else None, "bound": sent.bound.value if sent and sent.bound else None,
        "advice": finding.advice, "note": finding.note, "rule": finding.asked.source if finding.asked else None,
        "cause": finding.cause or None, "follows": finding.follows or None, "order": finding.order, "since": finding.since,
    }  # fmt: skip


def findings_json(judgement: Judgement, sheet: Sheet | None) -> tuple[list[FindingJson], str | None]:
    """Findings and verdict; where nothing was asked, there is no verdict."""
    return [finding_json(f) for f in judgement.findings], judgement.verdict.value if sheet is not None else None


def exit_code(judgement: Judgement) -> ExitCode:
    """What a judgement ends a command with."""
    return ExitCode.FAILS if judgement.verdict is Verdict.FAIL else ExitCode.GOOD
