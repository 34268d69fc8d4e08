"""Finds drivers: those that ship with Direkt, by name, and driver files, by path.

To add a kind of driver is to write one file here with ``DriverFile``, ``check`` and ``Driver``, and to name it in
KINDS; what a driver file says under ``kind`` chooses.
"""

from __future__ import annotations

import difflib
import importlib
from importlib import resources
from pathlib import Path
from typing import cast

from direkt import documents
from direkt.device.model import Driver
from direkt.documents import Document, DocumentError, Problem
from direkt.secret import Secret

KINDS = {"http-json": "described"}  # kind: file in this folder
_ENDING = ".yaml"


def shipped() -> list[str]:
    """The names of the drivers that ship with Direkt."""
    folder = resources.files("direkt.device") / "drivers"
    return sorted(entry.name.removesuffix(_ENDING) for entry in folder.iterdir() if entry.name.endswith(_ENDING))


def open_driver(
    driver: str, name: str, address: str, login: tuple[str, Secret] | None, folder: Path | None = None
) -> Driver:
    """A driver for the device called ``name``: a shipped one, or one of a file (relative to ``folder``).

    Raises DocumentError. Nothing is sent yet.
    """
    document = _document(driver, folder)
    kind = document.data.get("kind") if isinstance(document.data, dict) else None
    if kind not in KINDS:
        line = document.line(["kind"])
        got = f", got {kind!r}" if kind is not None else ""
        raise DocumentError(document.source, [Problem(line, f"kind: expected {' or '.join(KINDS)}{got}")])
    module = importlib.import_module(f"direkt.device.{KINDS[kind]}")
    file = documents.check(document, module.DriverFile)
    module.check(document, file)
    return cast(Driver, module.Driver(name, file, address, login))


def _document(name: str, folder: Path | None) -> Document:
    if name in shipped():
        text = (resources.files("direkt.device") / "drivers" / f"{name}{_ENDING}").read_text("utf-8")
        return documents.parse(text, f"{name}{_ENDING}")
    if name.endswith((_ENDING, ".yml")):
        return documents.read(folder / name if folder is not None else Path(name), name)
    near = difflib.get_close_matches(name, shipped(), n=1)
    hint = f"did you mean {near[0]}?" if near else f"there is {', '.join(shipped())}; a file is named by its path"
    raise DocumentError(name, [Problem(0, f"no driver of this name; {hint}")])
