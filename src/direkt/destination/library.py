"""Finds sheets: those that ship with Direkt, by name, and files, by path; each also in one of its latency modes.

``tarnlight`` is the sheet, ``tarnlight:low`` the sheet in its low-latency mode.
"""

from __future__ import annotations

import difflib
import functools
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING

from direkt import documents
from direkt.documents import Document, DocumentError, Problem

if TYPE_CHECKING:
    from direkt.destination.sheet import Sheet

ENDING = ".yaml"
_DEEPEST = 8  # sheets that extend each other


@functools.cache
def shipped() -> list[str]:
    """The names of the sheets that ship with Direkt."""
    folder = resources.files("direkt.destination") / "shipped"
    return sorted(entry.name.removesuffix(ENDING) for entry in folder.iterdir() if entry.name.endswith(ENDING))


@functools.cache
def _shipped(name: str) -> Document:
    text = (resources.files("direkt.destination") / "shipped" / (name + ENDING)).read_text("utf-8")
    return documents.parse(text, name + ENDING)


def load(name: str, folder: Path | None = None) -> Sheet:
    """The sheet called ``name``: a shipped one, or a file (relative to ``folder``). Raises DocumentError."""
    return _load(name, folder, ())


def _load(name: str, folder: Path | None, above: tuple[str, ...]) -> Sheet:
    from direkt.destination.file import build  # takes long to load, and most commands have no use for a sheet
    from direkt.destination.sheet import NoSuchMode

    if name in above or len(above) > _DEEPEST:
        raise DocumentError(name, [Problem(0, f"extends itself: {' -> '.join([*above, name])}")])
    plain, colon, mode = name.partition(":")
    if colon and mode and (plain in shipped() or plain.endswith((ENDING, ".yml"))):
        try:
            return _load(plain, folder, above).in_mode(mode)
        except NoSuchMode as error:
            raise DocumentError(plain, [Problem(0, error.why)]) from None
    if name in shipped():
        return build(_shipped(name), name, lambda other: _load(other, folder, (*above, name)))
    path = Path(name)
    if folder is not None and not path.is_absolute():
        path = folder / path
    if not path.suffix and not path.exists():
        near = difflib.get_close_matches(name.lower(), shipped(), n=1)
        hint = (
            f"did you mean {near[0]}?" if near else f"shipped are {', '.join(shipped())}; a file is named by its path"
        )
        raise DocumentError(name, [Problem(0, f"no sheet of this name; {hint}")])
    inside = path.parent
    return build(documents.read(path, name), path.stem, lambda other: _load(other, inside, (*above, name)))
