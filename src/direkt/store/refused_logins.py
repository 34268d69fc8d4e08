"""The memory of refused logins: marks of which nobody makes a password, in a file that only its owner may read."""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt.documents import Strict
from direkt.store.small_file import SmallFile

FILE_NAME = "refused-logins.json"
_MOST_MARKS = 500
_LIFE = datetime.timedelta(days=180)


class _File(Strict):
    schema_: Literal["direkt.refused/1"] = Field(default="direkt.refused/1", alias="schema")
    salt: str = ""  # hexadecimal
    marks: dict[str, str] = {}  # and when each was refused


@dataclass(frozen=True, slots=True)
class RefusedLogins:
    """Kept in a folder. ``wall``: s since 1970. A file that cannot be read or written is as though there were none."""

    _folder: Path
    _wall: Callable[[], float]

    def now(self) -> str:
        """RFC 3339, to the minute."""
        return datetime.datetime.fromtimestamp(self._wall(), datetime.UTC).strftime("%Y-%m-%d %H:%M UTC")

    def load(self) -> tuple[bytes, dict[str, str]]:
        """Salt and marks; those that are too old are left out."""
        found = self._file.read()
        if found is None:
            return b"", {}
        try:
            return bytes.fromhex(found.salt), {m: at for m, at in found.marks.items() if self._is_young(at)}
        except ValueError:
            return b"", {}

    @property
    def _file(self) -> SmallFile[_File]:
        return SmallFile(self._folder / FILE_NAME, _File)

    def _is_young(self, at: str) -> bool:
        try:
            moment = datetime.datetime.strptime(at, "%Y-%m-%d %H:%M UTC").replace(tzinfo=datetime.UTC)
        except ValueError:
            return False
        return datetime.datetime.fromtimestamp(self._wall(), datetime.UTC) - moment < _LIFE

    def keep(self, salt: bytes, marks: dict[str, str]) -> None:
        """Writes them, the newest ones."""
        some = dict(sorted(marks.items(), key=lambda one: one[1])[-_MOST_MARKS:])
        with contextlib.suppress(OSError):
            self._file.write(_File(salt=salt.hex(), marks=some))
