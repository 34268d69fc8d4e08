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
from types import ModuleType
from typing import TYPE_CHECKING, cast

from direkt import documents
from direkt.device.state import Driver
from direkt.documents import Document, DocumentError, Problem, Strict
from direkt.errors import UnusableInput
from direkt.secret import Secret

if TYPE_CHECKING:
    from direkt.device.driver_file import DriverFile

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
    module, file = _described(driver, folder)
    if getattr(module, "NEEDS_ADDRESS", False):
        _needs_address(name, driver, address)
    return cast(Driver, module.Driver(name, file, address, login, **more))


def _needs_address(name: str, driver: str, address: str) -> None:
    if not address:
        raise UnusableInput(
            f"{name}: driver {driver} needs the device's address: write it under devices.{name}.address"
        )


def load(driver: str, folder: Path | None = None) -> Strict:
    """A driver file, checked: a DriverFile of its kind. Raises DocumentError."""
    return _described(driver, folder)[1]


def load_described(driver: str, folder: Path | None = None) -> DriverFile | None:
    """The same; None for one of a kind that is not described as ``device/driver_file.py`` has it."""
    from direkt.device.driver_file import DriverFile

    file = load(driver, folder)
    return file if isinstance(file, DriverFile) else None


def _described(driver: str, folder: Path | None) -> tuple[ModuleType, Strict]:
    """The module of a driver file's kind, and the file, checked."""
    document = _document(driver, folder)
    kind = document.data.get("kind") if isinstance(document.data, dict) else None
    if not isinstance(kind, str) or kind not in KINDS:
        line = document.line(["kind"])
        got = f", got {kind!r}" if kind is not None else ""
        raise DocumentError(document.source, [Problem(line, f"kind: expected {' or '.join(KINDS)}{got}")])
    module = _module(kind)
    file = documents.check(document, module.DriverFile)
    module.check(document, file)
    return module, file


def _module(kind: str) -> ModuleType:
    return importlib.import_module(f"direkt.device.{KINDS[kind]}")


def models() -> list[type[Strict]]:
    """What driver files are checked against, each once."""
    return list(dict.fromkeys(_module(kind).DriverFile for kind in KINDS))


def known_files() -> dict[str, DriverFile]:
    """The driver files that ship, by name."""
    return {name: file for name in shipped() if (file := load_described(name)) is not None}


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
