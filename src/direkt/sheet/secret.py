"""Logins and stream keys: references to them, and the secrets themselves, which print masked.

A reference is ``env:NAME`` (an environment variable) or ``file:PATH#NAME`` (an entry ``NAME: value`` of a YAML
file that only its owner may read).
"""

from __future__ import annotations

import stat
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from direkt import documents
from direkt.documents import DocumentError
from direkt.errors import UnusableInput


class SecretError(UnusableInput, ValueError):
    """A secret that is not there or not safe; the text never holds the secret."""


class Secret:
    """A login or key. Its text is its first two characters and its length; only reveal() gives it out."""

    __slots__ = ("_value",)

    def __init__(self, value: str) -> None:
        self._value = value

    def reveal(self) -> str:
        """The secret itself: for the wire, never for a message."""
        return self._value

    def __str__(self) -> str:
        return f"{self._value[:2]}… ({len(self._value)} characters)"

    def __repr__(self) -> str:
        return f"Secret({self})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and self._value == other._value

    def __hash__(self) -> int:
        return hash(self._value)

    def __len__(self) -> int:
        return len(self._value)


@dataclass(frozen=True, slots=True)
class SecretRef:
    """Where a secret is kept."""

    kind: str  # env or file
    name: str
    path: str = ""

    def __str__(self) -> str:
        return f"env:{self.name}" if self.kind == "env" else f"file:{self.path}#{self.name}"


def parse_ref(text: str) -> SecretRef:
    """``env:NAME`` or ``file:PATH#NAME``. Raises SecretError; it never repeats what was written in its place."""
    kind, _, rest = text.partition(":")
    if kind == "env" and rest.replace("_", "").isalnum():
        return SecretRef("env", rest)
    if kind == "file" and "#" in rest:
        path, _, name = rest.rpartition("#")
        if path and name:
            return SecretRef("file", name, path)
    raise SecretError("expected a reference, env:NAME or file:PATH#NAME; logins and keys never stand in this file")


def resolve(ref: SecretRef, environment: Mapping[str, str], folder: Path) -> Secret:
    """The secret behind ``ref``; relative paths start at ``folder``. Raises SecretError."""
    if ref.kind == "env":
        value = environment.get(ref.name)
        if value is None:
            raise SecretError(f"the environment variable {ref.name} is not set")
        return _sound(value, f"the environment variable {ref.name}")
    path = folder / ref.path
    try:
        mode = path.stat().st_mode
    except OSError as error:
        raise SecretError(f"{path}: cannot be read: {(error.strerror or str(error)).lower()}") from None
    if stat.S_IMODE(mode) & 0o077:
        raise SecretError(
            f"{path}: others on this machine can read it (mode {stat.S_IMODE(mode):04o}); run: chmod 600 {path}"
        )
    try:
        entries = documents.plain(documents.read(path).data)
    except DocumentError as error:
        lines = ", ".join(str(problem.line) for problem in error.problems)
        raise SecretError(f"{path}: not valid YAML (line {lines}); expected entries like 'name: value'") from None
    value = entries.get(ref.name)
    if value is None:
        raise SecretError(f"{path}: no entry {ref.name!r}; it has {', '.join(sorted(entries)) or 'none'}")
    return _sound(str(value), f"{path}: {ref.name}")


def _sound(value: str, where: str) -> Secret:
    if not value:
        raise SecretError(f"{where} is empty")
    if value != value.strip() or any(ord(c) < 32 for c in value):
        raise SecretError(f"{where} begins or ends with a space, or holds a line end; take it out")
    return Secret(value)


def login_of(secret: Secret, where: str) -> tuple[str, Secret]:
    """A login written ``user:password``. Raises SecretError."""
    user, colon, password = secret.reveal().partition(":")
    if not colon or not user:
        raise SecretError(f"{where}: expected user:password")
    return user, Secret(password)
