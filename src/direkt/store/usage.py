"""How much of a data plan is used: what each feed's counter said last, and the sum. One file beside the rig."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError

from direkt import files
from direkt.documents import Strict

FILE_NAME = "line.json"
_MOST = 1 << 20  # bytes


class _File(Strict):
    schema_: Literal["direkt.line/1"] = Field(default="direkt.line/1", alias="schema")
    sent: int = Field(default=0, ge=0)  # bytes
    counters: dict[str, int] = {}


class Usage:
    """Counts what goes out. A counter that begins anew is one of a new push."""

    def __init__(self, folder: Path | None) -> None:
        self._path = folder / FILE_NAME if folder is not None else None
        self._file = self._read()
        self._kept = self._file

    @property
    def sent(self) -> int:
        """Bytes since the file was begun."""
        return self._file.sent

    def count(self, feed: str, sent: int) -> int:
        """What a feed's counter says now; the bytes since it was looked at last."""
        before = self._file.counters.get(feed, 0)
        more = sent - before if sent >= before else sent
        if sent != before:
            counters = {**self._file.counters, feed: sent}
            self._file = self._file.model_copy(update={"sent": self._file.sent + more, "counters": counters})
        return more

    def keep(self) -> None:
        """Writes it down, where it changed and can be."""
        if self._path is not None and self._file is not self._kept:
            self._kept = self._file
            with contextlib.suppress(OSError):
                files.replace(self._path, self._file.model_dump_json(by_alias=True) + "\n", 0o600)

    def _read(self) -> _File:
        if self._path is None:
            return _File()
        try:
            with files.opened(self._path) as file:
                return _File.model_validate_json(file.read(_MOST))
        except (OSError, ValidationError):
            return _File()
