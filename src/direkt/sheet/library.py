"""Finds sheets: those that ship with Direkt, by name, and files, by path."""

from __future__ import annotations

import difflib
from importlib import resources
from pathlib import Path

from direkt import documents
from direkt.documents import DocumentError, Problem
from direkt.sheet.model import Sheet, build

ENDING = ".yaml"


def shipped() -> list[str]:
    """The names of the sheets that ship with Direkt."""
    folder = resources.files("direkt.sheet") / "shipped"
    return sorted(entry.name.removesuffix(ENDING) for entry in folder.iterdir() if entry.name.endswith(ENDING))


def load(name: str, folder: Path | None = None) -> Sheet:
    """The sheet called ``name``: a shipped one, or a file (relative to ``folder``). Raises DocumentError."""
    if name in shipped():
        text = (resources.files("direkt.sheet") / "shipped" / (name + ENDING)).read_text("utf-8")
        return build(documents.parse(text, name + ENDING), name)
    path = Path(name)
    if folder is not None and not path.is_absolute():
        path = folder / path
    if not path.suffix and not path.exists():
        near = difflib.get_close_matches(name.lower(), shipped(), n=1)
        hint = (
            f"did you mean {near[0]}?" if near else f"shipped are {', '.join(shipped())}; a file is named by its path"
        )
        raise DocumentError(name, [Problem(0, f"no sheet of this name; {hint}")])
    return build(documents.read(path, name), path.stem)
