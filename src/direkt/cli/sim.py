"""direkt sim: lay out the demo rig and run its simulated gear."""

from __future__ import annotations

import contextlib
import threading
from pathlib import Path
from urllib.parse import urlsplit

import click

from direkt.cli import output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import NoAnswer, UnusableInput, os_words


@click.command()
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path, file_okay=False))
@click.option(
    "--port",
    type=click.IntRange(0, 65535),
    default=None,
    help="Port of the encoder's page in a new rig [default: 8480].",
)
def sim(folder: Path, port: int | None) -> ExitCode:
    """Lay out the demo rig in DIR and run its gear until Ctrl-C.

    A rig that is already there is kept; then only the gear runs. Use every command from a second terminal.
    """
    from direkt import rig
    from direkt.sim import rig as demo

    path = folder / rig.FILE_NAME
    if path.exists():
        entry = rig.load(path).file.devices.get("finish-tower")
        if entry is None:
            raise UnusableInput(f"{path}: not the demo rig: it has no device finish-tower; choose another folder")
        port = urlsplit(entry.address).port or 80
    else:
        if port == 0:
            port = free_port()
        port = port if port is not None else 8480
        try:
            demo.lay_out(folder, port)
        except OSError as error:
            raise UnusableInput(f"{folder}: the rig cannot be laid out: {os_words(error)}") from None
    device = demo.gear(folder, port)
    try:
        device.start()
    except OSError as error:
        raise NoAnswer(f"port {port} cannot be opened: {os_words(error)}; is a sim running already?") from None
    out = output.console()
    out.print(f"[bold]Lake Varn Regatta[/]  rig: {escape(str(path))}")
    out.print(f"finish-tower: Brindle B2 at http://127.0.0.1:{port}, input 1080p50, push off")
    out.print(
        f"In a second terminal: cd {escape(str(folder))}; direkt read; direkt match; direkt write; direkt rehearse"
    )
    out.print("Ctrl-C switches the gear off.")
    out.file.flush()
    with contextlib.suppress(KeyboardInterrupt):
        threading.Event().wait()
    device.stop()
    output.note("The gear is off; the push has ended. The rig stays.")
    return ExitCode.INTERRUPTED


def free_port() -> int:
    """A port of the loopback interface that nobody uses now."""
    import socket

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        number: int = probe.getsockname()[1]
        return number
