"""Which rigs the person has looked at and trusts: remembered by the file's path and content.

A rig may come from somebody else. Until it is trusted it starts no programs, tells nobody, and sees no environment variables but those
that the person lists, no files with secrets outside its own folder, and no keys that were kept for another rig or another place.
A rig that changes is a new one.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt import documents, files
from direkt.destination.allowed import Trust
from direkt.documents import DocumentError, Strict
from direkt.errors import UnusableInput, os_words

_FILE_NAME = "trusted.yaml"
_LARGEST = 16 << 20  # bytes of a rig, or of a file that acts for it
_MOST = 500  # rigs that are remembered; the oldest are forgotten


class _Entry(Strict):
    path: str
    content: str  # SHA-256
    environment: list[str] = []


class _File(Strict):
    schema_: Literal["direkt.trusted/1"] = Field(alias="schema")
    rigs: list[_Entry] = []


def content_of(path: Path, parts: Iterable[Path] = ()) -> str:
    """A digest of a rig and the files that act for it. Raises UnusableInput."""
    whole = hashlib.sha256()
    for file in (path, *sorted(parts)):
        try:
            part = hashlib.sha256(files.read(file, _LARGEST)).hexdigest()
        except OSError as error:
            raise UnusableInput(f"{file}: cannot be read: {os_words(error)}") from None
        whole.update(f"{part} {file.name}\n".encode())
    return whole.hexdigest()


class TrustStore:
    """The list of trusted rigs in the person's configuration folder."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._path = folder / _FILE_NAME

    def _read(self) -> list[_Entry]:
        if not self._path.exists():
            return []
        try:
            return documents.check(documents.read(self._path), _File).rigs
        except DocumentError:
            return []  # nothing that cannot be read is trusted

    def look_up(self, path: Path, content: str) -> Trust:
        """What the rig at ``path`` with this content may do."""
        rig = str(path.resolve())
        entry = next((entry for entry in self._read() if entry.path == rig), None)
        if entry is None:
            return Trust(rig=rig)
        if entry.content != content:
            return Trust(changed=True, rig=rig)
        return Trust(True, frozenset(entry.environment), rig=rig)

    def add(self, path: Path, content: str, environment: Iterable[str]) -> None:
        """From here on this rig is trusted, and may see these environment variables. Raises UnusableInput."""
        self._change(path, _Entry(path=str(path.resolve()), content=content, environment=sorted(environment)))

    def remove(self, path: Path) -> None:
        """From here on this rig is not trusted. Raises UnusableInput."""
        self._change(path, None)

    def _change(self, path: Path, entry: _Entry | None) -> None:
        try:
            self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            with files.alone(self._folder):
                kept = [e for e in self._read() if e.path != str(path.resolve())]
                entries = [*kept, *([entry] if entry is not None else [])][-_MOST:]
                files.replace(self._path, _text(entries), 0o600)
        except OSError as error:
            raise UnusableInput(f"{self._path}: cannot be written: {os_words(error)}") from None


def _text(entries: list[_Entry]) -> str:
    import json

    body = {"schema": "direkt.trusted/1", "rigs": [entry.model_dump() for entry in entries]}
    return json.dumps(body, indent=1) + "\n"  # JSON is YAML too
