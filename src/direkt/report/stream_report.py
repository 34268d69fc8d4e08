"""What a report of a judged stream holds, and the page of it: one self-contained file that prints on A4 and is read without colour."""

from __future__ import annotations

import datetime
import html
from collections.abc import Sequence
from dataclasses import dataclass

import direkt
from direkt import parameters
from direkt.finding import Finding, Verdict
from direkt.measure.meter import Measurement
from direkt.report import plots
from direkt.report.reading import Item, Reading, side_notes

STYLE = """
:root { color-scheme: light; } * { box-sizing: border-box; }
body { margin: 0 auto; padding: 1.2rem; max-width: 52rem; font: 14px/1.4 system-ui, sans-serif; color: #181c20; background: #fff; }
h1 { font-size: 1.35rem; margin: 0; } h2 { font-size: 1rem; margin: 1.1rem 0 .3rem; } p { margin: .15rem 0; } .sub { color: #444; }
.verdict { display: inline-block; font-size: 1.2rem; font-weight: 700; padding: .15rem .6rem; border: 2px solid; border-radius: .3rem; margin: .5rem 0; }
.fail { color: #9a1212; } .advise { color: #6b4c00; } .unseen { color: #0b4f66; } .pass { color: #1e5a34; }
ol, ul { margin: .2rem 0; padding-left: 1.4rem; } li { margin: .35rem 0; } li b { font-weight: 650; } .turn { font-weight: 550; } .follows { color: #444; }
table { border-collapse: collapse; width: 100%; font-size: .86rem; } th { text-align: left; color: #444; font-weight: 600; white-space: nowrap; }
th, td { padding: .16rem .6rem .16rem 0; border-top: 1px solid #ddd; vertical-align: top; overflow-wrap: anywhere; } td.m { white-space: nowrap; }
figure { margin: .5rem 0; break-inside: avoid; } figure svg { width: 100%; height: auto; display: block; } figcaption { position: absolute; left: -10000px; }
.how { columns: 2; column-gap: 1.6rem; font-size: .76rem; color: #333; } .how p { break-inside: avoid; margin: 0 0 .2rem; }
@media (max-width: 40rem) { td.m { white-space: normal; } .how { columns: 1; } }
@media print { @page { size: A4; margin: 11mm; } body { padding: 0; max-width: none; font-size: 8.6pt; line-height: 1.28; } h1 { font-size: 13pt; } h2 { margin: .6rem 0 .2rem; font-size: 9.5pt; }
  figure { margin: .2rem 0; } figure svg { max-height: 31mm; } .how { font-size: 6.6pt; columns: 3; } table { font-size: 7.6pt; } li { margin: .12rem 0; } th, td { padding: .06rem .5rem .06rem 0; }
  .verdict { print-color-adjust: exact; margin: .2rem 0; font-size: 11pt; } }
"""
_WORDS = {Verdict.PASS: "✓ passes", Verdict.ADVISE: "! passes, could be better", Verdict.FAIL: "✗ fails", Verdict.UNSEEN: "? not known"}
_SHORT = {Verdict.PASS: "✓ holds", Verdict.ADVISE: "! could be better", Verdict.FAIL: "✗ fails", Verdict.UNSEEN: "? not known"}


@dataclass(frozen=True, slots=True)
class StreamReport:
    """A judged stream, with all that convinces somebody who was not there."""

    subject: str  # a feed, a file, an address
    against: str  # the sheet's name; empty: nothing was asked
    made: datetime.datetime  # with its zone
    reading: Reading
    findings: Sequence[Finding]
    measurement: Measurement
    device: str = ""  # what it came from
    failure: str = ""  # why nothing came
    happened: Sequence[str] = ()  # drops and other events of the session, in their order

    @property
    def noted(self) -> list[str]:
        """What else is to be known of what was measured: where it breaks, what it contradicts itself in, what could not be read."""
        words = {"differs": "! ", "note": "! ", "breaks": "✗ it breaks "}
        odd = self.measurement.odd_codec
        told = [f"! the video is {odd}: of it only times and bytes were measured"] if odd is not None else []
        return told + [words[one.kind] + one.text for one in side_notes(self.measurement)]

    @property
    def verdict(self) -> str:
        """In words; without a sheet there is none."""
        if self.failure:
            return "✗ nothing was received"
        if not self.against:
            return "measured, not judged"
        if self.reading.verdict is Verdict.ADVISE and not self.reading.better:
            return "? passes as far as known"
        return _WORDS[self.reading.verdict]


def page(report: StreamReport) -> str:
    """The page. Raises UnusableInput where plots cannot be drawn."""
    r, reading = report, report.reading
    title = f"{r.subject} against {r.against}" if r.against else r.subject
    kind = "fail" if r.failure else "unseen" if r.reading.verdict is Verdict.ADVISE and not reading.better else str(reading.verdict)
    parts = [
        f"<h1>{_e(title)}</h1>",
        f'<p class="verdict {kind if r.against else "unseen"}">{_e(r.verdict)}</p>',
        f"<p>{_e(r.failure or reading.summary)}</p>" if r.against or r.failure else "",
        f'<p class="sub">{_e("; ".join(facts(r)))}</p>',
    ]
    for head, items, word, tag in groups(reading):
        if items:
            parts.append(f"<h2>{head}</h2><{tag}>{''.join(_item(item, word) for item in items)}</{tag}>")
    if r.noted:
        parts.append(f"<h2>Noted</h2><ul>{''.join(f'<li>{_e(one)}</li>' for one in r.noted)}</ul>")
    if r.happened:
        parts.append(f"<h2>What happened</h2><ul>{''.join(f'<li>{_e(one)}</li>' for one in r.happened)}</ul>")
    drawn = plots.drawn(r.measurement, r.findings)
    parts += [f'<figure aria-label="{_e(name)}">{svg}<figcaption>{_e(name)}</figcaption></figure>' for name, svg in drawn]
    if not r.failure:
        parts += [_table(r.findings) if r.findings else _measured(r.measurement), _how(r)]
    parts.append(f'<p class="sub">Direkt {_e(direkt.__version__)}. Every value is measured on the coded stream, unless it says otherwise.</p>')
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">'
        f'<title>{_e(title)}</title><style>{STYLE}</style></head><body>{"".join(parts)}</body></html>\n'
    )


def groups(reading: Reading) -> tuple[tuple[str, tuple[Item, ...], str, str], ...]:
    """What is said of a stream: a title, what is under it, how its wishes are called, and whether their order counts (ol)."""
    return (
        ("To fix, in this order", reading.fix, "required", "ol"), ("Could be better", reading.better, "better", "ul"), ("Not known", reading.unknown, "wanted", "ul"),
    )  # fmt: skip


def wish(item: Item, word: str) -> str:
    """What is required, or would be better."""
    wanted = item.head.wanted
    return "" if not wanted else word if wanted == "yes" else f"{word}: {wanted}"


def facts(report: StreamReport) -> list[str]:
    """How long, from what and when it was measured."""
    found = report.measurement.found
    length = parameters.show_measured("stream.duration", found["stream.duration"]) if "stream.duration" in found else ""
    told = [f"measured {length}" if length else "", f"from {report.device}" if report.device else ""]
    zone = report.made.strftime("%Z") or report.made.strftime("%z")
    return [*(fact for fact in told if fact), f"on {report.made:%Y-%m-%d at %H:%M:%S} {zone} (UTC{report.made:%z})"]


def short_verdict(verdict: Verdict) -> str:
    """A verdict with its mark."""
    return _SHORT[verdict]


def _item(item: Item, word: str) -> str:
    head = item.head
    lines = [f"<b>{_e(head.label)}</b>: {_e(head.now)}", *(_e(text) for text in (wish(item, word), head.note, item.when) if text)]
    out = "; ".join(lines)
    out += f"<br>{_e(item.cause)}" if item.cause else ""
    out += f'<br><span class="turn">→ {_e(item.turn)}</span>{f" ({_e(item.where)})" if item.where else ""}' if item.turn else ""
    if item.follows:
        out += f'<br><span class="follows">follows from it: {_e(", ".join(f"{line.label} {line.now}" for line in item.follows))}</span>'
    return f"<li>{out}</li>"


def _table(findings: Sequence[Finding]) -> str:
    with_set = any(f.set is not None for f in findings)
    heads = ["", "required", *(["set"] if with_set else []), "sent", "verdict"]
    rows = []
    for f in findings:
        cells = [_e(parameters.find(f.parameter).label), _e(f.asked.text()) if f.asked else "–"]
        cells += [_e(parameters.show(f.parameter, f.set)) if f.set is not None else "–"] if with_set else []
        cells += [_e(parameters.show_measured(f.parameter, f.sent)), f'<span class="{f.verdict}">{short_verdict(f.verdict)}</span>']
        rows.append(_row(cells, short=slice(2, None)))
    return f"<h2>Every requirement</h2><table><thead><tr>{''.join(f'<th>{head}</th>' for head in heads)}</tr></thead><tbody>{''.join(rows)}</tbody></table>"


def _measured(measurement: Measurement) -> str:
    rows = [
        _row([_e(parameters.find(name).label), _e(parameters.show_measured(name, found)), _e(found.note)]) for name, found in measurement.found.items()
    ]  # fmt: skip
    return f"<h2>Every measure</h2><table><thead><tr><th></th><th>value</th><th></th></tr></thead><tbody>{''.join(rows)}</tbody></table>"


def _row(cells: Sequence[str], short: slice = slice(0)) -> str:
    """A row of a table; ``short``: the cells that stay on one line."""
    kept = range(len(cells))[short]
    return "<tr>" + "".join(f'<td{" class=m" if n in kept else ""}>{cell}</td>' for n, cell in enumerate(cells)) + "</tr>"


def _how(report: StreamReport) -> str:
    names = [f.parameter for f in report.findings if f.sent is not None] or list(report.measurement.found)
    told = [f"<p><b>{_e(row.label)}</b>: {_e(row.measured)}</p>" for row in map(parameters.find, names) if row.measured]
    return f'<h2>How each value is measured</h2><div class="how">{"".join(told)}</div>' if told else ""


def _e(text: object) -> str:
    return html.escape(str(text))
