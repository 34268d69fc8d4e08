"""direkt drift: what differs now from what was last written."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode, code_of
from direkt.cli.output import escape, show
from direkt.errors import DirektError

if TYPE_CHECKING:
    from direkt.cli.documents.device_settings import DriftJson
    from direkt.work.device.drift import Drifted


@click.command()
@click.argument("devices", nargs=-1, metavar="[DEVICE]...")
@options.rig_option
@options.json_option
def drift(devices: tuple[str, ...], rig_path: Path | None, as_json: bool) -> ExitCode:
    """Say what differs on each DEVICE (all of them, if none is named) from what was last written to it.

    Somebody turned a knob, or a device forgot. Prints nothing but differences, for use by cron; exits with 1 when there
    are some.
    """
    from direkt.work.device import drift as work
    from direkt.work.device import manage

    rig = options.load_rig(rig_path)
    names = [rig.device_name(name) for name in devices] or rig.every("device")
    sources = options.sources(rig)

    def look(name: str) -> list[Drifted] | DirektError | None:
        try:
            return work.look(rig, name, sources)
        except DirektError as error:
            return error

    found = dict(zip(names, manage.for_all(names, look), strict=True))
    document: DriftJson = {"schema": "direkt.drift/1", "drift": [], "unknown": [], "failed": []}
    code = ExitCode.GOOD
    out = output.console()
    for name, result in found.items():
        if isinstance(result, DirektError):
            document["failed"].append({"feed": name, "reason": str(result)})
            code = max(code, code_of(result))
            output.note(f"! {result}")
        elif result is None:
            document["unknown"].append(name)
        else:
            for one in result:
                code = max(code, ExitCode.FAILS)
                document["drift"].append({
                    "device": name, "channel": one.channel, "parameter": one.what, "written": one.written, "now": one.now, "since": one.when,
                })  # fmt: skip
                if not as_json:
                    when = f"{one.when[:4]}-{one.when[4:6]}-{one.when[6:8]} {one.when[9:11]}:{one.when[11:13]}"
                    out.print(f"[bold red]✗[/] {escape(name)}, {escape(one.channel)}: {escape(one.what)} was written as {show(one.what, one.written)} "
                              f"on {when}, and is {show(one.what, one.now)}")  # fmt: skip
    if as_json:
        output.print_json(document)
    elif document["unknown"]:
        output.note(f"never written from here: {', '.join(document['unknown'])}")
    return code
