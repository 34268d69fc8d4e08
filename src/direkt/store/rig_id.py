"""An id for each rig, by which its entries in a shared log are told from those of another rig of the same name: a file beside the rig."""

from __future__ import annotations

import contextlib
import os
import re
import secrets
from pathlib import Path

from direkt import files
from direkt.store.small_file import open_folder, place

FILE_NAME = "rig-id"
_FORM = re.compile(r"[0-9a-f]{16}")


def read(folder: Path) -> str:
    """The rig's id; empty: it has none yet."""
    with contextlib.suppress(OSError, UnicodeDecodeError):
        text = files.read(place(folder, FILE_NAME), 100).decode("ascii").strip()
        return text if _FORM.fullmatch(text) else ""
    return ""


def ensure(folder: Path) -> str:
    """The rig's id, made where there is none; empty where none can be kept."""
    found = read(folder)
    if found:
        return found
    made = secrets.token_hex(8)
    with contextlib.suppress(OSError):
        path = place(folder, FILE_NAME)
        open_folder(path.parent)
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644)  # the first one counts
        with os.fdopen(descriptor, "w") as file:
            file.write(f"{made}\n")
    return read(folder)
