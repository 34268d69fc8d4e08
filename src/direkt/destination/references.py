"""References to logins and stream keys, and how they are followed.

A reference is ``store:NAME`` (Direkt's own key store), ``env:NAME`` (an environment variable), ``file:PATH#NAME``
(an entry ``NAME: value`` of a YAML file that only its owner may read) or ``command:WORDS`` (what a program prints).
"""

from __future__ import annotations

import contextlib
import os
import re
import shlex
import signal
import stat
import subprocess
import threading
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from direkt import documents
from direkt.documents import DocumentError
from direkt.errors import UnusableInput, os_words
from direkt.secret import Secret
from direkt.trust import Trust


class SecretError(UnusableInput, ValueError):
    """A secret that is not there or not safe; the text never holds the secret."""


@dataclass(frozen=True, slots=True)
class SecretRef:
    """Where a secret is kept."""

    kind: str  # store, env, file or command
    name: str
    path: str = ""

    def words(self) -> list[str]:
        """The words of a command."""
        try:
            return shlex.split(self.name)
        except ValueError:
            return self.name.split()

    def __str__(self) -> str:
        if self.kind == "command":  # its words may hold anything
            return f"command:{self.name.split()[0]} …"
        return f"file:{self.path}#{self.name}" if self.kind == "file" else f"{self.kind}:{self.name}"


class Store(Protocol):
    """Something that keeps secrets by name."""

    def get(self, name: str) -> str | None:
        """The secret called ``name``; None when there is none."""

    def owner(self, name: str) -> str:
        """The rig file that it was kept for; empty where that is not known."""


@dataclass(frozen=True, slots=True)
class Sources:
    """Where references lead to: an environment, and a store if there is one."""

    environment: Mapping[str, str]
    store: Store | None = None
    trust: Trust = field(default_factory=Trust)  # what references in a rig may do


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
        owner = sources.store.owner(ref.name) if sources.store is not None else ""
        if owner and owner != sources.trust.rig and not sources.trust.commands:
            raise SecretError(f"the key {ref.name!r} in the store was kept for {owner}: {_untrusted(sources.trust)}")
        kept = sources.store.get(ref.name) if sources.store is not None else None
        if kept is None:
            raise SecretError(
                f"no key {ref.name!r} in the store; put it there with: direkt key set {ref.name.rpartition('/')[2]}"
            )
        return _sound(kept, f"the key {ref.name!r} in the store")
    if ref.kind == "command":
        if not sources.trust.commands:
            raise SecretError(f"the command {ref.name.split()[0]!r} is not started: {_untrusted(sources.trust)}")
        return _sound(_run(ref.name, folder), f"what the command {ref.name.split()[0]!r} prints")
    if ref.kind == "env":
        if not sources.trust.sees(ref.name):
            raise SecretError(f"the environment variable {ref.name} is not read: {_untrusted(sources.trust)}")
        value = sources.environment.get(ref.name)
        if value is None:
            raise SecretError(f"the environment variable {ref.name} is not set")
        return _sound(value, f"the environment variable {ref.name}")
    path = folder / ref.path
    if not sources.trust.commands and not path.resolve().is_relative_to(folder.resolve()):
        raise SecretError(f"{path}: lies outside the rig's folder and is not read: {_untrusted(sources.trust)}")
    try:
        mode = path.stat().st_mode
    except OSError as error:
        raise SecretError(f"{path}: cannot be read: {os_words(error)}") from None
    if stat.S_IMODE(mode) & 0o077:
        raise SecretError(
            f"{path}: others on this machine can read it (mode {stat.S_IMODE(mode):04o}); run: chmod 600 {path}"
        )
    try:
        entries = documents.plain(documents.read(path))
    except DocumentError as error:
        lines = ", ".join(str(problem.line) for problem in error.problems)
        raise SecretError(f"{path}: not valid YAML (line {lines}); expected entries like 'name: value'") from None
    value = entries.get(ref.name)
    if value is None:
        raise SecretError(f"{path}: no entry {ref.name!r}; it has {', '.join(sorted(entries)) or 'none'}")
    return _sound(str(value), f"{path}: {ref.name}")


def _untrusted(trust: Trust) -> str:
    why = "this rig has changed since you trusted it" if trust.changed else "this rig is not trusted"
    return f"{why}; look at it, then: direkt rig trust"


_COMMAND_LIMIT = 15.0  # s
_COMMAND_MOST = 1 << 16  # bytes


def _run(words: str, folder: Path) -> str:
    """The first line that a command prints; it gets no shell."""
    name = words.split()[0]
    try:
        running = subprocess.Popen(
            shlex.split(words), cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
    except (ValueError, OSError, IndexError):
        raise SecretError(f"the command {name!r} cannot be run: check its name and its quotes") from None
    assert running.stdout is not None
    late = threading.Event()

    def stop() -> None:
        late.set()
        with contextlib.suppress(ProcessLookupError):
            os.killpg(running.pid, signal.SIGKILL)

    timer = threading.Timer(_COMMAND_LIMIT, stop)
    timer.start()
    with running:
        try:
            first = running.stdout.read(_COMMAND_MOST).split(b"\n")[0]
            running.stdout.close()  # a command that says more is told that nobody listens
            code = running.wait()
        finally:
            timer.cancel()
            timer.join()
            if running.returncode is None:  # interrupted
                stop()
    if late.is_set():
        raise SecretError(f"the command {name!r} printed no key within {_COMMAND_LIMIT:g} s")
    if code and not (code == -signal.SIGPIPE and first):
        raise SecretError(f"the command {name!r} failed with exit code {code}")
    try:
        return first.decode().rstrip("\r")
    except UnicodeDecodeError:
        raise SecretError(f"what the command {name!r} prints is no text") from None


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
