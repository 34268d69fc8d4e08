"""A judged stream as a PDF: the same content as the page, with the plots in it."""

from __future__ import annotations

import io
from importlib import resources
from typing import TYPE_CHECKING

from direkt import parameters
from direkt.report import plots
from direkt.report.reading import Item
from direkt.report.stream_report import StreamReport, facts, groups, short_verdict, wish

if TYPE_CHECKING:
    from fpdf import FPDF

_MARGIN, _SIZE, _SMALL = 12.0, 8.5, 7.0  # mm, pt, pt
_PLOT = 33.0  # mm high


def pdf(report: StreamReport) -> bytes:
    """The document. Raises UnusableInput where plots cannot be drawn."""
    from fpdf import FPDF

    made = FPDF(format="A4")
    made.set_auto_page_break(auto=True, margin=_MARGIN)
    made.set_margins(_MARGIN, _MARGIN, _MARGIN)
    faces = resources.files("direkt.report") / "faces"
    for style, name in (("", "DejaVuSans.ttf"), ("B", "DejaVuSans-Bold.ttf")):
        with resources.as_file(faces / name) as path:
            made.add_font("DejaVu", style, path)
    made.set_title(report.subject)
    made.set_creation_date(report.made)
    made.add_page()
    _write(made, f"{report.subject} against {report.against}" if report.against else report.subject, 13, bold=True)
    _write(made, report.verdict, 12, bold=True)
    if report.against or report.failure:
        _write(made, report.failure or report.reading.summary, _SIZE)
    _write(made, "; ".join(facts(report)), _SMALL)
    for head, items, word, tag in groups(report.reading):
        if items:
            _write(made, head, 9.5, bold=True)
        for number, item in enumerate(items, 1):
            _item(made, f"{number}." if tag == "ol" else "-", item, word)
    for title, told in (("Noted", report.noted), ("What happened", report.happened)):
        if told:
            _write(made, title, 9.5, bold=True)
        for one in told:
            _write(made, f"- {one}", _SIZE)
    for _, picture in plots.pictures(report.measurement, report.findings):
        if made.get_y() + _PLOT > made.h - _MARGIN:
            made.add_page()
        made.image(io.BytesIO(picture), w=made.epw, h=_PLOT, keep_aspect_ratio=True)
    if not report.failure:
        _table(made, report)
    return bytes(made.output())


def _write(made: FPDF, text: str, size: float, *, bold: bool = False) -> None:
    made.set_font("DejaVu", "B" if bold else "", size)
    made.multi_cell(0, size * 0.48, _shown(text), new_x="LMARGIN", new_y="NEXT")


def _item(made: FPDF, mark: str, item: Item, word: str) -> None:
    head = item.head
    told = "; ".join(text for text in (head.now, wish(item, word), head.note, item.when) if text)
    _write(made, f"{mark} {head.label}: {told}", _SIZE, bold=True)
    for text in (item.cause, f"→ {item.turn}" if item.turn else ""):
        if text:
            _write(made, f"    {text}", _SIZE)
    if item.follows:
        _write(made, f"    follows from it: {', '.join(f'{line.label} {line.now}' for line in item.follows)}", _SMALL)


def _table(made: FPDF, report: StreamReport) -> None:
    """Every requirement, or, where nothing was asked, every measure."""
    rows: list[tuple[str, ...]] = [
        (parameters.find(f.parameter).label, f.asked.text() if f.asked else "–", parameters.show(f.parameter, f.set) if f.set is not None else "–",
         parameters.show_measured(f.parameter, f.sent), short_verdict(f.verdict)) for f in report.findings
    ]  # fmt: skip
    heads: tuple[str, ...] = ("", "required", "set", "sent", "verdict")
    if not rows:
        heads = ("", "value", "")
        rows = [(parameters.find(name).label, parameters.show_measured(name, found), found.note) for name, found in report.measurement.found.items()]
    if report.findings and not any(f.set is not None for f in report.findings):
        heads, rows = heads[:2] + heads[3:], [row[:2] + row[3:] for row in rows]
    made.ln(2)
    made.set_font("DejaVu", "", _SMALL)
    with made.table(line_height=3.4, borders_layout="HORIZONTAL_LINES", text_align="LEFT", first_row_as_headings=True) as table:
        for row in (heads, *rows):
            table.row([_shown(cell) for cell in row])


def _shown(text: str) -> str:
    return "".join(c if c.isprintable() else " " for c in text)
