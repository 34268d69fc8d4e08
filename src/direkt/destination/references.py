"""References to logins and stream keys, and how they are followed.

A reference is ``store:NAME`` (Direkt's own key store), ``env:NAME`` (an environment variable), ``file:PATH#NAME``
(an entry ``NAME: value`` of a YAML file that only its owner may read) or ``command:WORDS`` (what a program prints).
"""

from __future__ import annotations

import re
import shlex
import stat
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from direkt import documents
from direkt.documents import DocumentError
from direkt.errors import UnusableInput, os_words
from direkt.secret import Secret


class SecretError(UnusableInput, ValueError):
    """A secret that is not there or not safe; the text never holds the secret."""


@dataclass(frozen=True, slots=True)
class SecretRef:
    """Where a secret is kept."""

    kind: str  # store, env, file or command
    name: str
    path: str = ""

    def __str__(self) -> str:
        if self.kind == "command":  # its words may hold anything
            return f"command:{self.name.split()[0]} …"
        return f"file:{self.path}#{self.name}" if self.kind == "file" else f"{self.kind}:{self.name}"


class Store(Protocol):
    """Something that keeps secrets by name."""

    def get(self, name: str) -> str | None:
        """The secret called ``name``; None when there is none."""


@dataclass(frozen=True, slots=True)
class Sources:
    """Where references lead to: an environment, and a store if there is one."""

    environment: Mapping[str, str]
    store: Store | None = None


def parse_ref(text: str) -> SecretRef:
    """A reference as rigs write it. Raises SecretError; it never repeats what was written in its place."""
    kind, _, rest = text.partition(":")
    if kind == "store" and re.fullmatch(r"[\w./-]{1,120}", rest):
        return SecretRef("store", rest)
    if kind == "command" and rest.strip():
        return SecretRef("command", rest.strip())
    if kind == "env" and rest.replace("_", "").isalnum():
        return SecretRef("env", rest)
    if kind == "file" and "#" in rest:
        path, _, name = rest.rpartition("#")
        if path and name:
            return SecretRef("file", name, path)
    raise SecretError(
        "expected a reference, store:NAME, env:NAME, file:PATH#NAME or command:WORDS; logins and keys never stand in this file"
    )


def resolve(ref: SecretRef, sources: Sources, folder: Path) -> Secret:
    """The secret behind ``ref``; relative paths start at ``folder``. Raises SecretError."""
    if ref.kind == "store":
        kept = sources.store.get(ref.name) if sources.store is not None else None
        if kept is None:
            raise SecretError(
                f"no key {ref.name!r} in the store; put it there with: direkt key set {ref.name.rpartition('/')[2]}"
            )
        return _sound(kept, f"the key {ref.name!r} in the store")
    if ref.kind == "command":
        return _sound(_run(ref.name, folder), f"what the command {ref.name.split()[0]!r} prints")
    if ref.kind == "env":
        value = sources.environment.get(ref.name)
        if value is None:
            raise SecretError(f"the environment variable {ref.name} is not set")
        return _sound(value, f"the environment variable {ref.name}")
    path = folder / ref.path
    try:
        mode = path.stat().st_mode
    except OSError as error:
        raise SecretError(f"{path}: cannot be read: {os_words(error)}") from None
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


_COMMAND_LIMIT = 15.0  # s


def _run(words: str, folder: Path) -> str:
    """The first line that a command prints; it gets no shell."""
    try:
        parts = shlex.split(words)
        done = subprocess.run(
            parts, cwd=folder, capture_output=True, text=True, timeout=_COMMAND_LIMIT, stdin=subprocess.DEVNULL
        )
    except (ValueError, OSError, IndexError):
        raise SecretError(f"the command {words.split()[0]!r} cannot be run: check its name and its quotes") from None
    except subprocess.TimeoutExpired:
        raise SecretError(f"the command {words.split()[0]!r} printed no key within {_COMMAND_LIMIT:g} s") from None
    if done.returncode:
        raise SecretError(f"the command {parts[0]!r} failed with exit code {done.returncode}")
    return done.stdout.split("\n")[0].rstrip("\r")


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
