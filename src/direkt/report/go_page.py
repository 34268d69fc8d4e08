"""An event's way to air as a page: where it ended, what stood in the way, each feed by four witnesses, and how long each step took."""

from __future__ import annotations

import datetime
import html
from collections.abc import Sequence
from dataclasses import dataclass

import direkt
from direkt import parameters
from direkt.finding import Verdict
from direkt.parameters import Value
from direkt.report.stream_report import STYLE, short_verdict


@dataclass(frozen=True, slots=True)
class Looked:
    """One thing that was looked at or done."""

    step: int
    what: str
    verdict: Verdict
    text: str
    advice: str = ""


@dataclass(frozen=True, slots=True)
class Side:
    """One parameter of a feed, by the sheet, the device, our own measuring and the platform."""

    parameter: str
    asked: str
    set: Value | None
    sent: Value | None
    seen: Value | None
    verdict: Verdict


@dataclass(frozen=True, slots=True)
class GoReport:
    """What came of it."""

    title: str
    event: str
    start: str
    made: datetime.datetime  # with its zone
    outcome: str  # on air, stopped at step 3, ...
    good: bool
    failure: str
    steps: Sequence[tuple[int, str, float, bool]]  # number, title, s, whether it went well
    checks: Sequence[Looked]
    feeds: Sequence[tuple[str, str, Sequence[Side]]]  # feed, destination, rows
    links: Sequence[tuple[str, str, str]]  # destination, address, audience


def page(report: GoReport) -> str:
    """The page: one self-contained file."""
    r = report
    parts = [
        f"<h1>{_e(r.title)}</h1>", f'<p class="verdict {"pass" if r.good else "fail"}">{"✓" if r.good else "✗"} {_e(r.outcome)}</p>',
        f"<p>{_e(r.failure)}</p>" if r.failure else "",
        f'<p class="sub">{_e(r.event)}, planned for {_e(r.start)}; made on {r.made:%Y-%m-%d at %H:%M:%S} {_e(r.made.strftime("%Z"))} (UTC{r.made:%z})</p>',
    ]  # fmt: skip
    off = [one for one in r.checks if one.verdict is not Verdict.PASS]
    if off:
        parts.append("<h2>What stood in the way, or is worth a word</h2><ul>" + "".join(map(_check, off)) + "</ul>")
    for feed, destination, rows in r.feeds:
        if rows:
            parts.append(_feed(feed, destination, rows))
    if r.links:
        told = "".join(f"<li>{_e(destination)} ({_e(audience)}): {_e(address)}</li>" for destination, address, audience in r.links)
        parts.append(f"<h2>Where viewers go</h2><ul>{told}</ul>")
    steps = "".join(f'<tr><td>{n}</td><td>{_e(title)}</td><td class="m">{seconds:.1f} s</td><td>{"✓" if good else "✗"}</td></tr>' for n, title, seconds, good in r.steps)
    parts.append(f"<h2>The steps</h2><table><thead><tr><th></th><th></th><th>took</th><th></th></tr></thead><tbody>{steps}</tbody></table>")
    held = "".join(f"<li>{one.step}: {_e(one.what)}: {_e(one.text)}</li>" for one in r.checks if one.verdict is Verdict.PASS)
    parts.append(f'<h2>Looked at and done</h2><ul class="how">{held}</ul><p class="sub">Direkt {_e(direkt.__version__)}</p>')
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{_e(r.title)}</title><style>{STYLE}</style></head><body>{''.join(parts)}</body></html>\n"
    )


def _check(one: Looked) -> str:
    mark = {Verdict.FAIL: "✗", Verdict.ADVISE: "!", Verdict.UNSEEN: "?"}.get(one.verdict, "✓")
    advice = f'<br><span class="turn">→ {_e(one.advice)}</span>' if one.advice else ""
    return f'<li><span class="{one.verdict}">{mark}</span> step {one.step}, <b>{_e(one.what)}</b>: {_e(one.text)}{advice}</li>'


def _feed(feed: str, destination: str, rows: Sequence[Side]) -> str:
    made = []
    for row in rows:
        cells = [_e(parameters.show(row.parameter, value)) if value is not None else "–" for value in (row.set, row.sent, row.seen)]
        sides = "".join(f'<td class="m">{cell}</td>' for cell in cells)
        verdict = f'<td class="m"><span class="{row.verdict}">{short_verdict(row.verdict)}</span></td>'
        made.append(f"<tr><td>{_e(parameters.find(row.parameter).label)}</td><td>{_e(row.asked) or '–'}</td>{sides}{verdict}</tr>")
    head = "".join(f"<th>{one}</th>" for one in ("", "required", "set", "sent", "seen", "verdict"))
    return f"<h2>{_e(feed)} to {_e(destination)}</h2><table><thead><tr>{head}</tr></thead><tbody>{''.join(made)}</tbody></table>"


def _e(text: object) -> str:
    return html.escape(str(text))
