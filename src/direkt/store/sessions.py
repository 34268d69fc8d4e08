"""Who is signed in at the watch's page, beyond a restart of the watch: digests only, in a file beside the rig that others cannot read."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError

from direkt import files
from direkt.documents import Strict

FILE_NAME = "page-sessions.json"
_MOST = 1 << 20  # bytes

Role = Literal["look", "act"]


class _File(Strict):
    schema_: Literal["direkt.sessions/1"] = Field(default="direkt.sessions/1", alias="schema")
    sessions: dict[str, tuple[Role, float]] = {}


class Sessions:
    """Kept in a folder. What cannot be read or written is as though there were none: people open their link again."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def read(self, wall: float) -> dict[str, tuple[Role, float]]:
        """Digest, role and end (s since 1970) of each that is not over."""
        try:
            with files.opened(self._folder / FILE_NAME) as file:
                found = _File.model_validate_json(file.read(_MOST)).sessions
        except (OSError, ValidationError, ValueError):
            return {}
        return {digest: one for digest, one in found.items() if one[1] > wall}

    def write(self, sessions: Mapping[str, tuple[Role, float]]) -> None:
        """Writes them down."""
        with contextlib.suppress(OSError):
            text = _File(sessions=dict(sessions)).model_dump_json(by_alias=True)
            files.replace(self._folder / FILE_NAME, text + "\n", 0o600)

    def forget(self) -> None:
        """Ends them all."""
        with contextlib.suppress(OSError):
            (self._folder / FILE_NAME).unlink()
