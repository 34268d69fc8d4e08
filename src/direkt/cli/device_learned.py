"""direkt device learned: what devices made of values that they did not keep."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape, show
from direkt.errors import UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.cli.documents.device_settings import LearnedJson
    from direkt.store.learned import Lesson

_KINDS = {
    "step": "a step of the device: nothing is forbidden", "limit": "taken for a limit", "tie": "taken for a tie to",
}  # fmt: skip


@click.command()
@click.option("--model", default="", metavar="MODEL", help="Only of this model.")
@click.option("--parameter", default="", metavar="NAME", help="Only of this parameter.")
@click.option("--forget", is_flag=True, help="Drop what is listed: the next write tries it again.")
@options.rig_option
@options.json_option
def learned(model: str, parameter: str, forget: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """List what was learned of devices that took a value and made another of it, or forget it.

    A lesson holds for a model and firmware, at the size, frame rate and codec of that time.
    """
    from direkt import parameters
    from direkt.store import learned as store
    from direkt.store.small_file import require_folder

    rig = options.load_rig(rig_path)
    if parameter:
        parameters.find(parameter)
    require_folder(rig.folder)
    known = store.read(rig.folder, strict=True)
    found = [one for one in known if model in ("", one.model) and parameter in ("", one.parameter)]
    dropped = 0
    if forget:
        try:
            dropped = store.forget(rig.folder, model, parameter) if found else 0
        except OSError as error:
            raise UnusableInput(f"{rig.folder}: what was learned cannot be dropped: {os_words(error)}") from None
    document: LearnedJson = {
        "schema": "direkt.device-learned/1", "forgotten": dropped,
        "lessons": [
            {"model": one.model, "firmware": one.firmware, "channel": one.channel, "parameter": one.parameter, "wanted": one.wanted,
             "became": one.became, "when": one.when, "kind": store.kind_of(one, known), "beside": one.beside, "tied": one.tied}
            for one in found
        ],
    }  # fmt: skip
    if as_json:
        output.print_json(document)
        return ExitCode.GOOD
    _print(found, known)
    if forget:
        output.console().print(f"{dropped} forgotten" if dropped else "nothing to forget")
    return ExitCode.GOOD


def _print(found: list[Lesson], known: list[Lesson]) -> None:
    from direkt.store import learned as store

    out = output.console()
    if not found:
        out.print("nothing was learned")
        return
    made = output.table("model", "channel", "parameter", "wanted", "became", "on", "which is", "at")
    for one in found:
        kind = store.kind_of(one, known)
        beside = ", ".join(show(name, value) for name, value in one.beside.items())
        made.add_row(
            escape(f"{one.model} {one.firmware}".strip()), escape(one.channel), one.parameter, show(one.parameter, one.wanted),
            show(one.parameter, one.became), f"{one.when[:4]}-{one.when[4:6]}-{one.when[6:8]}",
            f"{_KINDS[kind]}{' ' + ', '.join(one.tied) if one.tied else ''}", escape(beside or "any"),
        )  # fmt: skip
    output.print_table(out, made)
