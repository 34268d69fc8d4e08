"""direkt compare: two recordings, reports or log entries beside each other."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt import files
from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import Malformed, UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.documents.measured import CompareJson
    from direkt.measure.meter import Measurement
    from direkt.report.comparison import Difference

_MOST = 16 << 20  # bytes of a JSON document


@click.command()
@click.argument("a", metavar="A")
@click.argument("b", metavar="B")
@options.rig_option
@options.json_option
def compare(a: str, b: str, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Show only what differs between A and B: before and after, main and backup, pushed and seen by viewers.

    Each is a recording, a JSON report (of check, catch or rehearse), or the number of a log entry that holds measures (direkt log list).
    Exits with 1 where they differ, or have no measure in common.
    """
    from direkt.report import comparison

    one, two = (_load(text, rig_path) for text in (a, b))
    found = comparison.compare(one, two)
    code = ExitCode.GOOD if found.same and not found.differs else ExitCode.FAILS
    if as_json:
        document: CompareJson = {
            "schema": "direkt.compare/1", "a": a, "b": b,
            "differs": [{"parameter": d.parameter, "label": d.label, "a": d.a, "b": d.b} for d in found.differs],
            "one_sided": [{"parameter": d.parameter, "label": d.label, "a": d.a, "b": d.b} for d in found.one_sided],
            "same": list(found.same),
        }  # fmt: skip
        output.print_json(document)
        return code
    _print(a, b, one, two, found.differs, found.one_sided, len(found.same))
    return code


def _load(text: str, rig_path: Path | None) -> Measurement:
    """What A or B names."""
    path = Path(text)
    if text.isascii() and text.isdigit() and not path.exists():
        return _of_log(int(text), rig_path)
    if path.suffix.lower() == ".json":
        return _of_document(path)
    from direkt.cli.check import measure

    return measure(path, None)


def _of_log(number: int, rig_path: Path | None) -> Measurement:
    from direkt.cli import recording
    from direkt.measure import kept

    rig = options.load_rig(rig_path)
    one = recording.limited(rig, lambda found: found.get(number))
    if one is None:
        raise UnusableInput(f"nothing was logged under {number}: direkt log list")
    measures = one.entry.detail.get("measures")
    if not isinstance(measures, dict):
        raise UnusableInput(f"log entry {number} ({one.entry.what}) holds no measures: name one of a check, catch or rehearsal")
    return kept.read(measures)


def _of_document(path: Path) -> Measurement:
    from direkt.measure import kept

    try:
        data = json.loads(files.read(path, _MOST))
        if not isinstance(data, dict):
            raise Malformed("it is no document of check, catch or rehearse")
        return kept.of_document(data)
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be read: {os_words(error)}") from None
    except json.JSONDecodeError as error:
        raise UnusableInput(f"{path}: line {error.lineno}, column {error.colno}: this is no JSON") from None
    except RecursionError:
        raise UnusableInput(f"{path}: nested too deeply to be a document of ours") from None
    except (ValueError, Malformed) as error:
        raise UnusableInput(f"{path}: {error}") from None


def _print(
    a: str, b: str, one: Measurement, two: Measurement, differs: tuple[Difference, ...], one_sided: tuple[Difference, ...], same: int
) -> None:
    from direkt.cli.judgement import print_track
    from direkt.cli.measurement import print_side_notes

    out = output.console()
    if differs:
        verdict = f"[bold red]✗ {len(differs)} differ{'s' if len(differs) == 1 else ''}[/]"
    elif same:
        verdict = "[green]✓ nothing differs[/]" + (" in what both say" if one_sided else "")
    else:
        verdict = "[cyan]? nothing can be compared[/]"
    out.print(f"{verdict}  [bold]{escape(a)}[/] beside [bold]{escape(b)}[/]: {same} measures are the same")
    if differs:
        made = output.table("", "A", "B")
        for d in differs:
            made.add_row(escape(d.label), f"[bold]{escape(d.a_text)}[/]", f"[bold]{escape(d.b_text)}[/]")
        output.print_table(out, made, all_columns=True)
    if one_sided:
        told = ", ".join(f"{d.label} ({'A' if d.a is not None else 'B'}: {d.a_text if d.a is not None else d.b_text})" for d in one_sided)
        output.print_rows(out, [("[cyan]?[/]", "only one says", f"[dim]{escape(told)}[/]")])
    for name, measurement in (("A", one), ("B", two)):
        if measurement.broken is not None or measurement.differences or measurement.remarks:
            out.print(f"[bold]{name}[/]")
            print_side_notes(out, measurement)
    if out.is_terminal:
        for name, measurement in (("A", one), ("B", two)):
            if measurement.video_series is not None:
                print_track(out, name, measurement.video_series)
