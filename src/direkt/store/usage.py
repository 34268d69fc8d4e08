"""How much of a data plan is used: what each feed's counter said last, and the sum. One file beside the rig."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt.documents import Strict
from direkt.store.small_file import SmallFile, place

FILE_NAME = "line.json"


class _File(Strict):
    schema_: Literal["direkt.line/1"] = Field(default="direkt.line/1", alias="schema")
    sent: int = Field(default=0, ge=0)  # bytes
    counters: dict[str, int] = {}


class Usage:
    """Counts what goes out. A counter that begins anew is one of a new push."""

    def __init__(self, folder: Path | None) -> None:
        self._kept_in = SmallFile(place(folder, FILE_NAME), _File) if folder is not None else None
        self._file = (self._kept_in.read() if self._kept_in is not None else None) or _File()
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
        if self._kept_in is not None and self._file is not self._kept:
            self._kept = self._file
            with contextlib.suppress(OSError):
                self._kept_in.write(self._file)
