"""What commands share: errors as lines, the rig, output in colour, in pipes and as JSON."""

from __future__ import annotations

import contextlib
import functools
import json
import os
import re
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, TypeVar

import click
from rich.console import Console
from rich.markup import escape
from rich.table import Table

from direkt import parameters
from direkt.errors import NoAnswer, UnusableInput
from direkt.parameters import Value

USE, DEVICE, INTERRUPTED = 2, 3, 130  # exit codes
_NARROW = 96  # columns below which tables turn into lines

Function = TypeVar("Function", bound=Callable[..., Any])

MARKS = {"pass": "✓ pass", "advise": "! advise", "fail": "✗ fail", "unseen": "? unseen"}
STYLES = {"pass": "green", "advise": "yellow", "fail": "bold red", "unseen": "cyan"}


class Failure(click.ClickException):
    """One clear line (or several) and an exit code."""

    def __init__(self, message: str, code: int) -> None:
        super().__init__(message)
        self.exit_code = code  # type: ignore[misc]

    def show(self, file: Any = None) -> None:
        """Prints each line with its mark."""
        for line in self.message.splitlines():
            click.echo(f"error: {line}", err=True)


def console(*, err: bool = False) -> Console:
    """Standard output or error for people. Pipes get 110 columns and no colour."""
    stream = sys.stderr if err else sys.stdout
    width = None if stream.isatty() or os.environ.get("COLUMNS") else 110
    return Console(file=stream, highlight=False, width=width, soft_wrap=False, emoji=False)


def note(text: str) -> None:
    """A message for the person, beside the output."""
    console(err=True).print(escape(text))


def print_json(document: dict[str, Any]) -> None:
    """The one JSON document of a command."""
    click.echo(json.dumps(document, indent=2, ensure_ascii=False))


@contextlib.contextmanager
def errors(source: str = "") -> Iterator[None]:
    """Turns the core's errors into lines and exit codes."""
    from direkt.container.media import MediaError

    try:
        yield
    except MediaError as error:
        raise Failure(f"{source}: {error}" if source else str(error), USE) from None
    except UnusableInput as error:
        raise Failure(str(error), USE) from None
    except NoAnswer as error:
        raise Failure(str(error), DEVICE) from None


def handled(function: Function) -> Function:
    """A command whose core errors become lines."""

    @functools.wraps(function)
    def wrapper(*args: Any, **kwargs: Any) -> Any:
        with errors():
            return function(*args, **kwargs)

    return wrapper  # type: ignore[return-value]


json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document instead of text.")
rig_option = click.option(
    "--rig", "rig_path", type=click.Path(path_type=Path), envvar="DIREKT_RIG", metavar="FILE",
    help="The rig; otherwise DIREKT_RIG, or rig.yaml in this folder.",
)  # fmt: skip


def load_rig(path: Path | None) -> Any:
    """The rig that the person means."""
    from direkt import rig

    chosen = path if path is not None else Path(rig.FILE_NAME)
    if chosen.is_dir():
        chosen = chosen / rig.FILE_NAME
    if not chosen.exists():
        if path is None:
            raise Failure("no rig.yaml in this folder: name one with --rig FILE, or try one with: direkt sim DIR", USE)
        raise Failure(f"{chosen}: no such file; name the rig with --rig FILE", USE)
    return rig.load(chosen)


def sources() -> Any:
    """Where logins and keys come from."""
    from direkt.sheet import keystore, secret

    return secret.Sources(os.environ, keystore.KeyStore(config_folder()))


def config_folder() -> Path:
    """The user's configuration folder; DIREKT_CONFIG names another."""
    import platformdirs

    chosen = os.environ.get("DIREKT_CONFIG")
    return Path(chosen) if chosen else platformdirs.user_config_path("direkt")


def remind(rig: Any, destination: Any) -> None:
    """A word on a key that was exposed and has not changed since."""
    name = destination.key.removeprefix("store:")
    if destination.key.startswith("store:") and any(k.name == name and k.exposed for k in sources().store.kept()):
        note(f"! the key was exposed: get a new one, then: direkt key renew {name.rpartition('/')[2]}")


def open_device(rig: Any, name: str) -> Any:
    """A driver for one of the rig's devices."""
    from direkt.device import driver

    entry = rig.file.devices[name]
    return driver.HttpDriver(name, driver.load(entry.driver, rig.folder), entry.address, rig.login(entry, sources()))


class Seconds(click.ParamType[float]):
    """A length of time: 30s, 2m, 1h, or a number of seconds."""

    name = "time"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, int | float):
            return float(value)
        match = re.fullmatch(r"(\d+(?:\.\d+)?)\s*(s|m|h|min)?", str(value).strip())
        if match is None or float(match[1]) <= 0:
            self.fail(f"{value!r} is no length of time; expected 30s, 2m or 1h", param, ctx)
        return float(match[1]) * {"s": 1, None: 1, "m": 60, "min": 60, "h": 3600}[match[2]]


def clock(seconds: float) -> str:
    """Seconds as ``mm:ss`` or ``h:mm:ss``."""
    whole = int(seconds)
    hours, rest = divmod(whole, 3600)
    return f"{hours}:{rest // 60:02d}:{rest % 60:02d}" if hours else f"{rest // 60:02d}:{rest % 60:02d}"


def show(name: str, value: Value | None, *, absent: str = "–") -> str:
    """A value for a table, safe to print."""
    return absent if value is None else escape(parameters.show(name, value))


def verdict_text(verdict: str) -> str:
    """A verdict with its mark and colour."""
    return f"[{STYLES[verdict]}]{MARKS[verdict]}[/]"


def is_narrow(out: Console) -> bool:
    """Whether tables would not fit."""
    return out.width < _NARROW


def table(*columns: str, title: str | None = None) -> Table:
    """A table in our style: a rule under the heads, no frame."""
    from rich import box

    made = Table(
        box=box.SIMPLE_HEAD, title=title, title_justify="left", title_style="bold", pad_edge=False, padding=(0, 1)
    )
    for n, column in enumerate(columns):
        made.add_column(column, overflow="fold", no_wrap=n == 0)
    return made


def print_findings(out: Console, judgement: Any, *, with_set: bool, with_sent: bool = True) -> None:
    """Asked, set and sent side by side, then what to do about what is off."""
    findings = judgement.findings
    if not findings:
        return
    if is_narrow(out):
        for f in findings:
            out.print(f"{verdict_text(f.verdict.value)}  {f.parameter}")
            parts = [f"asked {escape(f.asked.text())}" if f.asked else "not asked"]
            if with_set:
                parts.append(f"set {show(f.parameter, f.set)}")
            if with_sent:
                parts.append(f"sent {show(f.parameter, f.sent, absent='not seen')}")
            out.print("    " + "; ".join(parts))
    else:
        heads = ["parameter", "asked", *(["set"] if with_set else []), *(["sent"] if with_sent else []), "verdict"]
        made = table(*heads)
        for f in findings:
            cells = [f.parameter, escape(f.asked.text()) if f.asked else "–"]
            if with_set:
                cells.append(show(f.parameter, f.set))
            if with_sent:
                sent = show(f.parameter, f.sent, absent="not seen")
                cells.append(f"at least {sent}" if f.note.startswith("at least") else sent)
            made.add_row(*cells, verdict_text(f.verdict.value))
        out.print(made)
    to_do = [f for f in findings if (f.advice or f.note) and f.verdict.value != "pass"]
    if to_do:
        out.print("[bold]What to do[/]")
        for f in sorted(to_do, key=lambda f: ["fail", "advise", "unseen"].index(f.verdict.value)):
            words = " ".join(part for part in (f.advice, f"({f.note})" if f.note else "") if part)
            out.print(f"  {verdict_text(f.verdict.value)}  [bold]{f.parameter}[/]: {escape(words)}")


def print_verdict(out: Console, judgement: Any, sheet: Any) -> None:
    """The verdict in one line."""
    from direkt.judge import Verdict

    verdict = judgement.verdict.value
    counts = [(judgement.count(v), word) for v, word in (
        (Verdict.FAIL, "fail"), (Verdict.ADVISE, "to improve"), (Verdict.UNSEEN, "not seen"), (Verdict.PASS, "pass"))]  # fmt: skip
    said = ", ".join(f"{count} {word}" for count, word in counts if count)
    against = f" against {escape(sheet.name)}" if sheet is not None else ""
    out.print(f"\n[bold]Verdict{against}:[/] {verdict_text(verdict)}  ({said})")


def print_measured(out: Console, values: dict[str, Value], notes: dict[str, str], skip: set[str]) -> None:
    """Measured values and what goes with them."""
    told = {"video.width", "video.height"} if "video.size" in values else set()
    rows = [(name, value) for name, value in values.items() if name not in skip | told]
    if not rows:
        return
    made = table("measured", "value", "")
    for name, value in rows:
        text = show(name, value)
        made.add_row(name, text, escape(notes.get(name, "")))
    out.print(made)


def measurement_json(measurement: Any) -> dict[str, Any]:
    """The parts of a JSON document that every measurement has."""
    broken = measurement.broken
    return {
        "measured": measurement.values, "notes": measurement.notes,
        "differences": [
            {"what": d.what, "source": d.source, "claimed": d.claimed, "stream": d.stream} for d in measurement.differences
        ],
        "remarks": list(measurement.remarks),
        "broken": {"offset": broken.offset, "reason": broken.reason} if broken else None,
    }  # fmt: skip


def print_side_notes(out: Console, measurement: Any) -> None:
    """Disagreements, remarks and breaks."""
    for d in measurement.differences:
        claimed, stream = (show(d.what, value) for value in (d.claimed, d.stream))
        out.print(f"[yellow]! differs[/]  {escape(d.what)}: {escape(d.source)} say{'' if d.source.endswith('s') else 's'} "
                  f"{claimed}, the stream itself has {stream}")  # fmt: skip
    for remark in measurement.remarks:
        out.print(f"[yellow]! note[/]  {escape(remark)}")
    if measurement.broken:
        out.print(
            f"[bold red]✗ breaks[/]  at byte {measurement.broken.offset}: {escape(measurement.broken.reason)}; "
            "what stands before it was judged"
        )


def save_report(path: Path | None, document: dict[str, Any]) -> None:
    """Writes the JSON document beside the output."""
    if path is None:
        return
    try:
        path.write_text(json.dumps(document, indent=2, ensure_ascii=False) + "\n", "utf-8")
    except OSError as error:
        raise Failure(f"{path}: cannot be written: {(error.strerror or str(error)).lower()}", USE) from None


def verdict_code(judgement: Any) -> int:
    """The exit code of a judgement."""
    return 1 if judgement.verdict.value == "fail" else 0
