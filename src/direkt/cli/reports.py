"""What --report and --junit write: by the file's ending a page, a PDF, a table of the seconds, or the JSON document."""

from __future__ import annotations

import datetime
import importlib.util
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import files, mask
from direkt.cli import output
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.documents.on_air import GoJson
    from direkt.destination.sheet import Sheet
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement
    from direkt.report.stream_report import StreamReport

_JUNIT = "direkt.junit"  # in a command's context

_NEEDS = {".html": "matplotlib", ".htm": "matplotlib", ".pdf": "matplotlib", ".csv": "pandas"}


def _can(context: click.Context, parameter: click.Parameter, path: Path | None) -> Path | None:
    """What cannot be written is said before anything is measured."""
    needed = _NEEDS.get(path.suffix.lower()) if path is not None else None
    if needed is not None and importlib.util.find_spec(needed) is None:
        raise UnusableInput(f"--report {path}: this needs the extra 'report': pip install 'direkt[report]'; .json needs nothing")
    return _folder(context, parameter, path)


def _folder(context: click.Context, parameter: click.Parameter, path: Path | None) -> Path | None:
    if path is not None and not path.parent.is_dir():
        raise UnusableInput(f"{parameter.opts[0]} {path}: there is no folder {path.parent}; make it first")
    if path is not None and path.is_dir():
        raise UnusableInput(f"{parameter.opts[0]} {path}: this is a folder; name a file in it")
    return path


report_option = click.option(
    "--report", type=click.Path(path_type=Path), metavar="FILE", callback=_can,
    help="Also write a report: .html or .pdf with plots, .csv second by second, else the JSON document.",
)  # fmt: skip
page_option = click.option(
    "--report", type=click.Path(path_type=Path), metavar="FILE", callback=_folder,
    help="Also write a report: a page (.html), else the JSON document.",
)  # fmt: skip
junit_option = click.option(
    "--junit", type=click.Path(path_type=Path), metavar="FILE", expose_value=False,
    callback=lambda context, option, given: context.meta.update({_JUNIT: _folder(context, option, given)}),
    help="Also write the findings as JUnit XML, for pipelines.",
)  # fmt: skip


def wants_junit() -> bool:
    """Whether the command was given --junit."""
    context = click.get_current_context(silent=True)
    return context is not None and context.meta.get(_JUNIT) is not None


def of_stream(
    subject: str, sheet: Sheet | None, measurement: Measurement, judgement: Judgement | None, *, device: str = "", happened: Sequence[str] = (),
    menu: Callable[[str], str] | None = None, failure: str = "",
) -> StreamReport:
    """The report of a stream that was judged now."""
    from direkt.judge import Judgement as Judged
    from direkt.report import reading
    from direkt.report.stream_report import StreamReport

    judged = Judged(()) if judgement is None or failure else judgement  # of what did not come nothing is judged
    now = datetime.datetime.now().astimezone()
    return StreamReport(subject, sheet.name if sheet is not None else "", now, reading.read(judged, menu), judged.findings, measurement, device, failure, tuple(happened))


def save(path: Path | None, document: Mapping[str, object], make: Callable[[], StreamReport]) -> None:
    """Writes what was asked for by --report and --junit. Raises UnusableInput."""
    context = click.get_current_context(silent=True)
    junit = context.meta.get(_JUNIT) if context is not None else None
    if junit is not None:
        from direkt.report import exports

        made = make()
        length = made.measurement.found.get("stream.duration")
        seconds = float(length.value) if length is not None else 0.0
        _write(junit, exports.junit(made.subject, made.against, made.findings, seconds, made.noted).decode())
    kind = path.suffix.lower() if path is not None else ""
    if path is None or kind not in (".html", ".htm", ".pdf", ".csv"):
        output.save_report(path, document)
        return
    if kind == ".csv":
        from direkt.report import exports

        _write(path, exports.series_csv(make().measurement))
    elif kind == ".pdf":
        from direkt.report import stream_pdf

        _write(path, stream_pdf.pdf(make()))
    else:
        from direkt.report import stream_report

        _write(path, stream_report.page(make()))


def save_page(path: Path | None, document: Mapping[str, object], make: Callable[[], str]) -> None:
    """A page, where the file's ending wants one; else the JSON document. Raises UnusableInput."""
    if path is not None and path.suffix.lower() in (".html", ".htm"):
        _write(path, make())
    else:
        output.save_report(path, document)


def go_page(document: GoJson, title: str) -> str:
    """The page of an event's way to air."""
    from direkt.report import go_page as pages

    d = document
    failed = d["failed"]
    what = "practised" if d["rehearsal"] else "would go on air" if d["dry_run"] else "on air"
    outcome = what if failed is None else f"stopped at step {failed}" + (" (on air)" if d["on_air"] else ", not on air")
    return pages.page(pages.GoReport(
        title, d["event"], d["start"], datetime.datetime.now().astimezone(), outcome, failed is None, d["failure"] or "",
        [(step["step"], step["title"], step["seconds"], step["good"]) for step in d["steps"]],
        [pages.Looked(int(c.step), c.what, c.verdict, c.text, c.advice) for c in d["checks"]],
        [(f["feed"], f["destination"], [pages.Side(r.parameter, r.asked, r.set, r.sent, r.seen, r.verdict) for r in f["rows"]]) for f in d["feeds"]],
        [(link["destination"], link["address"], link["audience"]) for link in d["links"]],
    ))  # fmt: skip


def _write(path: Path, content: str | bytes) -> None:
    try:
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o644
        files.replace_bytes(path, mask.own(content).encode() if isinstance(content, str) else content, mode)
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be written: {os_words(error)}") from None
