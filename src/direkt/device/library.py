"""Finds drivers: the cameras' open standard, those that ship with Direkt, by name, and driver files, by path.

To add a kind of driver is to write one file here with ``DriverFile``, ``check`` and ``Driver``, and to name it in
KINDS; what a driver file says under ``kind`` chooses.
"""

from __future__ import annotations

import difflib
import importlib
from functools import cache
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING, cast

from direkt import documents
from direkt.device.state import Driver
from direkt.documents import Document, DocumentError, Problem
from direkt.errors import UnusableInput
from direkt.secret import Secret

if TYPE_CHECKING:
    from direkt.device.driverfile import DriverFile

KINDS = {"http": "by_file", "onvif": "standard_and_file", "hand": "by_hand"}  # kind: file in this folder
STANDARD = "onvif"  # the driver that needs no file
_ENDING = ".yaml"


@cache
def shipped() -> tuple[str, ...]:
    """The names of the driver files that ship with Direkt."""
    folder = resources.files("direkt.device") / "drivers"
    return tuple(sorted(entry.name.removesuffix(_ENDING) for entry in folder.iterdir() if entry.name.endswith(_ENDING)))


def open_driver(
    driver: str, name: str, address: str, login: tuple[str, Secret] | None, folder: Path | None = None, *,
    any_certificate: bool = False,
) -> Driver:  # fmt: skip
    """A driver for the device called ``name``: the standard, a shipped one, or one of a file (relative to ``folder``).

    Raises DocumentError. Nothing is sent yet.
    """
    more = {"any_certificate": True} if any_certificate else {}
    if driver == STANDARD:
        _needs_address(name, driver, address)
        from direkt.device.onvif.driver import Driver as Standard

        return Standard(name, address, login, any_certificate=any_certificate)
    document = _document(driver, folder)
    kind = document.data.get("kind") if isinstance(document.data, dict) else None
    if not isinstance(kind, str) or kind not in KINDS:
        line = document.line(["kind"])
        got = f", got {kind!r}" if kind is not None else ""
        raise DocumentError(document.source, [Problem(line, f"kind: expected {' or '.join(KINDS)}{got}")])
    if kind != "hand":
        _needs_address(name, driver, address)
    module = importlib.import_module(f"direkt.device.{KINDS[kind]}")
    file = documents.check(document, module.DriverFile)
    module.check(document, file)
    return cast(Driver, module.Driver(name, file, address, login, **more))


def _needs_address(name: str, driver: str, address: str) -> None:
    if not address:
        raise UnusableInput(
            f"{name}: driver {driver} needs the device's address: write it under devices.{name}.address"
        )


def load(driver: str, folder: Path | None = None) -> DriverFile:
    """A driver file, checked. Raises DocumentError."""
    from direkt.device import driverfile

    document = _document(driver, folder)
    file = documents.check(document, driverfile.DriverFile)
    driverfile.check(document, file)
    return file


def known_files() -> dict[str, DriverFile]:
    """The driver files that ship, by name."""
    return {name: load(name) for name in shipped()}


@cache
def _shipped(name: str) -> Document:
    text = (resources.files("direkt.device") / "drivers" / f"{name}{_ENDING}").read_text("utf-8")
    return documents.parse(text, f"{name}{_ENDING}")


def _document(name: str, folder: Path | None) -> Document:
    if name in shipped():
        return _shipped(name)
    if name.endswith((_ENDING, ".yml")):
        return documents.read(folder / name if folder is not None else Path(name), name)
    known = [STANDARD, *shipped()]
    near = difflib.get_close_matches(name, known, n=1)
    hint = f"did you mean {near[0]}?" if near else f"there is {', '.join(known)}; a file is named by its path"
    raise DocumentError(name, [Problem(0, f"no driver of this name; {hint}")])
