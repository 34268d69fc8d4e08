"""Who is signed in at the watch's page, beyond a restart of the watch: digests only, in a file beside the rig that others cannot read."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt.documents import Strict
from direkt.store.small_file import SmallFile, place

FILE_NAME = "page-sessions.json"

Role = Literal["look", "act"]


class _File(Strict):
    schema_: Literal["direkt.sessions/1"] = Field(default="direkt.sessions/1", alias="schema")
    sessions: dict[str, tuple[Role, float]] = {}


class Sessions:
    """Kept in a folder. What cannot be read or written is as though there were none: people open their link again."""

    def __init__(self, folder: Path) -> None:
        self._file = SmallFile(place(folder, FILE_NAME), _File)

    def read(self, wall: float) -> dict[str, tuple[Role, float]]:
        """Digest, role and end (s since 1970) of each that is not over."""
        kept = self._file.read()
        found = kept.sessions if kept is not None else {}
        return {digest: one for digest, one in found.items() if one[1] > wall}

    def write(self, sessions: Mapping[str, tuple[Role, float]]) -> None:
        """Writes them down."""
        with contextlib.suppress(OSError):
            self._file.write(_File(sessions=dict(sessions)))

    def forget(self) -> None:
        """Ends them all."""
        with contextlib.suppress(OSError):
            self._file.remove()
