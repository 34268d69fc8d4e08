"""direkt sim: lay out the demo rig and run its simulated gear."""

from __future__ import annotations

import signal
import threading
from pathlib import Path
from urllib.parse import urlsplit

import click
from rich.markup import escape

from direkt.cli import common


@click.command()
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path, file_okay=False))
@click.option(
    "--port",
    type=click.IntRange(0, 65535),
    default=None,
    help="Port of the encoder's page in a new rig [default: 8480].",
)
@common.handled
def sim(folder: Path, port: int | None) -> int:
    """Lay out the demo rig in DIR and run its gear until Ctrl-C.

    A rig that is already there is kept; then only the gear runs. Use every command from a second terminal.
    """
    from direkt import rig
    from direkt.sim import rig as demo

    path = folder / rig.FILE_NAME
    if path.exists():
        entry = rig.load(path).file.devices.get("finish-tower")
        if entry is None:
            raise common.Failure(
                f"{path}: not the demo rig: it has no device finish-tower; choose another folder", common.USE
            )
        port = urlsplit(entry.address).port or 80
    else:
        if port == 0:
            port = _free_port()
        port = port if port is not None else 8480
        try:
            demo.lay_out(folder, port)
        except OSError as error:
            raise common.Failure(
                f"{folder}: the rig cannot be laid out: {(error.strerror or str(error)).lower()}", common.USE
            ) from None
    device = demo.gear(folder, port)
    try:
        device.start()
    except OSError as error:
        raise common.Failure(
            f"port {port} cannot be opened: {(error.strerror or str(error)).lower()}; is a sim running already?",
            common.DEVICE,
        ) from None
    out = common.console()
    out.print(f"[bold]Lake Varn Regatta[/]  rig: {escape(str(path))}")
    out.print(f"finish-tower: Brindle B2 at http://127.0.0.1:{port}, input 1080p50, push off")
    out.print(
        f"In a second terminal: cd {escape(str(folder))}; direkt read; direkt match; direkt write; direkt catch --feed finish"
    )
    out.print("Ctrl-C switches the gear off.")
    out.file.flush()
    over = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: over.set())
    over.wait()
    device.stop()
    common.note("The gear is off; the push has ended. The rig stays.")
    return common.INTERRUPTED


def _free_port() -> int:
    import socket

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        number: int = probe.getsockname()[1]
        return number
