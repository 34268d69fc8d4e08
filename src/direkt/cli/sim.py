"""direkt sim: lay out the demo rig and run its simulated gear."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

import click

from direkt.cli import output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import NoAnswer, UnusableInput, os_words
from direkt.work.steps import unbroken

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.sim.plainsong import Plainsong
    from direkt.sim.tarnlight import Tarnlight
    from direkt.sim.unit import SimulatedUnit

_FIRST = 8480


@click.command()
@click.argument("folder", metavar="DIR", required=False, type=click.Path(path_type=Path, file_okay=False))
@click.option(
    "--port", type=click.IntRange(0, 65000), default=None, help="Port of the first device in a new rig; 0: any that are free [default: 8480]."
)  # fmt: skip
@click.option(
    "--only", "only", multiple=True, metavar="NAME", help="Run this device only (may be given several times)."
)
@click.option(
    "--fault",
    "faults",
    multiple=True,
    metavar="NAME:FAULT",
    help="Break something, such as start-pontoon:wrong-clock; 'list' shows what there is.",
)
@click.option(
    "--type",
    "typed",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="CARD.txt",
    help="Type this setup card into the camcorder's menu, in a sim that runs.",
)
@click.option(
    "--server",
    metavar="ADDRESS",
    default="",
    help="--type: type this server address instead, such as that of direkt catch.",
)
@click.option(
    "--mistake",
    "mistakes",
    multiple=True,
    metavar="NAME",
    help="--type: mistype in this way (may be given several times); 'list' shows them.",
)
@click.option(
    "--scan",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="CARD.png",
    help="Hold this picture in front of the spherical camera's lens, in a sim that runs.",
)
def sim(
    folder: Path | None, port: int | None, only: tuple[str, ...], faults: tuple[str, ...], typed: Path | None, server: str,
    mistakes: tuple[str, ...], scan: Path | None,
) -> ExitCode:  # fmt: skip
    """Lay out the demo rig in DIR and run its gear until Ctrl-C.

    A rig that is already there is kept; then only the gear runs. Use every command from a second terminal. With --type
    and --scan it does by hand what no program can do, on the gear of a sim that runs in DIR.
    """
    from direkt.rig import file as rig
    from direkt.sim import rig as demo

    out = output.console()
    if "list" in faults or "list" in mistakes:
        _list(out, faults="list" in faults)
        return ExitCode.GOOD
    if folder is None:
        raise click.UsageError("Missing argument 'DIR': the folder of the demo rig.")
    if typed is not None or scan is not None:
        from direkt.cli import sim_hands

        return (
            sim_hands.type_card(folder, typed, mistakes, server)
            if typed is not None
            else sim_hands.scan(folder, scan or Path())
        )
    wanted = _wanted(only)
    broken = _broken(faults)
    path = folder / rig.FILE_NAME
    if not path.exists():
        names = (*demo.NAMES, *demo.PORTS)
        ports = dict(zip(names, free_ports(len(names)) if port == 0 else range(port or _FIRST, 65536), strict=False))
        try:
            demo.lay_out(folder, ports)
        except OSError as error:
            raise UnusableInput(f"{folder}: the rig cannot be laid out: {os_words(error)}") from None
    entries = rig.load(path).file.devices
    if not set(demo.NAMES) & set(entries):
        raise UnusableInput(f"{path}: not the demo rig: it has no device {demo.NAMES[0]}; choose another folder")
    units: dict[str, SimulatedUnit] = {}
    platforms: list[Tarnlight | Plainsong] = []
    try:
        for name in wanted:
            if name in entries:
                _switch_on(folder, name, entries[name].address, broken.get(name, ()), units)
        if not only:
            units[demo.BY_HAND] = demo.by_hand(folder)
        platforms = _platforms(path, only, broken)
        _tell(out, folder, path, units, platforms, broken)
        out.print("Ctrl-C switches the gear off.")
        out.file.flush()
        with unbroken():
            threading.Event().wait()
    finally:
        for unit in units.values():
            unit.stop()
        for one_ in platforms:
            one_.stop()
        (folder / demo.HANDS).unlink(missing_ok=True)
    output.note("The gear is off; the pushes have ended. The rig stays.")
    return ExitCode.INTERRUPTED


def _list(out: Console, *, faults: bool) -> None:
    """The faults that gear and platforms can have, or the mistakes of whoever types a card in."""
    from direkt.sim import rig as demo
    from direkt.sim.typist import MISTAKES

    if faults:
        rows = {name: one.words for name, one in demo.FAULTS.items()}
        rows |= {f"tarnlight:{name}": one.words for name, one in demo.PLATFORM_FAULTS.items()}
    else:
        rows = {name: one.words for name, one in MISTAKES.items()}
    for name, words in rows.items():
        out.print(f"{name:<{14 if faults else 18}} {escape(words)}")


def _switch_on(folder: Path, name: str, address: str, faults: Sequence[str], units: dict[str, SimulatedUnit]) -> None:
    """One device, with its faults. Raises NoAnswer where its port is taken."""
    from direkt.sim import rig as demo

    number = urlsplit(address).port or 80
    units[name] = demo.gear(folder, name, number)
    for fault in faults:
        demo.FAULTS[fault].turn(units[name])
    try:
        units[name].start()
    except OSError as error:
        del units[name]
        raise NoAnswer(f"port {number} cannot be opened: {os_words(error)}; is a sim running already?") from None


def _tell(
    out: Console, folder: Path, path: Path, units: dict[str, SimulatedUnit], platforms: Sequence[Tarnlight | Plainsong], broken: dict[str, list[str]],
) -> None:  # fmt: skip
    """What runs, and where."""
    from direkt.sim import rig as demo

    out.print(f"[bold]Lake Varn Regatta[/]  rig: {escape(str(path))}")
    for name, unit in units.items():
        odd = f"; {', '.join(broken[name])}" if name in broken else ""
        if name == demo.BY_HAND:
            out.print(
                f"{name}: {escape(unit.login.realm)}, set by hand: direkt sim {escape(str(folder))} --type CARD.txt"
            )
            continue
        out.print(f"{name}: {escape(unit.login.realm)} at http://{unit.host}:{unit.port}{escape(odd)}")
    for one_ in platforms:
        odd = f"; {', '.join(broken['tarnlight'])}" if "tarnlight" in broken and hasattr(one_, "events") else ""
        out.print(f"{type(one_).__name__.lower()}: simulated platform at {one_.address}{escape(odd)}")
    out.print(
        f"In a second terminal: cd {escape(str(folder))}; direkt find; direkt match --all; direkt write --all; direkt rehearse finish"
    )


def _platforms(path: Path, only: tuple[str, ...], broken: dict[str, list[str]]) -> list[Tarnlight | Plainsong]:
    """The platforms that run. Raises NoAnswer where a port is taken."""
    from direkt.rig import file as rig
    from direkt.sim import rig as demo

    loaded = rig.load(path)
    out: list[Tarnlight | Plainsong] = []
    try:
        if (not only or "tarnlight" in only) and "tarnlight" in loaded.file.platforms:
            out.append(demo.tarnlight(loaded, broken.get("tarnlight", [])))
        if (not only or "plainsong" in only) and loaded.file.destinations["plainsong"].server.startswith("rtmp://127."):
            out.append(demo.plainsong(loaded))
        for number, one in enumerate(out):
            try:
                one.start()
            except OSError as error:
                for other in out[:number]:
                    other.stop()
                raise NoAnswer(
                    f"a platform's port cannot be opened: {os_words(error)}; is a sim running already?"
                ) from None
    except KeyError:
        return []
    return out


def _wanted(only: tuple[str, ...]) -> tuple[str, ...]:
    from direkt.sim import rig as demo

    known = (*demo.NAMES, *demo.PLATFORMS)
    for name in only:
        if name not in known:
            raise UnusableInput(f"no gear called {name!r} in the regatta; there is {', '.join(known)}")
    return tuple(name for name in only if name in demo.NAMES) if only else demo.NAMES


def _broken(faults: tuple[str, ...]) -> dict[str, list[str]]:
    from direkt.sim import rig as demo

    out: dict[str, list[str]] = {}
    for text in faults:
        name, _, fault = text.partition(":")
        at_platform = name == "tarnlight" and fault in demo.PLATFORM_FAULTS
        if not at_platform and (name not in demo.NAMES or fault not in demo.FAULTS):
            raise UnusableInput(
                f"{text!r}: expected NAME:FAULT of {', '.join(demo.NAMES)} and {', '.join(demo.FAULTS)}; or tarnlight and "
                f"{', '.join(demo.PLATFORM_FAULTS)}"
            )
        out.setdefault(name, []).append(fault)
    return out


def free_ports(count: int) -> list[int]:
    """Ports of the loopback interface that nobody uses now."""
    import socket

    with contextlib.ExitStack() as stack:
        probes = [stack.enter_context(socket.socket()) for _ in range(count)]
        for probe in probes:
            probe.bind(("127.0.0.1", 0))
        return [int(probe.getsockname()[1]) for probe in probes]
