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
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from direkt import documents
from direkt.destination import keystore
from direkt.destination.allowed import Trust
from direkt.destination.keystore import Binding
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

    def bound(self, name: str) -> tuple[Binding, ...]:
        """The rigs that it was kept for; none where that is not known."""


class Keeper(Store, Protocol):
    """A store that is written as well."""

    def put(self, name: str, key: str, by: Binding) -> object:
        """Keeps a secret for a rig. Raises UnusableInput for one that is kept for others."""

    def forget(self, name: str, by: Binding) -> bool:
        """Drops it; False where there was none. Raises UnusableInput for one that is kept for others."""


@dataclass(frozen=True, slots=True)
class Sources:
    """Where references lead to: an environment, and a store if there is one."""

    environment: Mapping[str, str]
    store: Store | None = None
    trust: Trust = field(default_factory=Trust)  # what references in a rig may do
    rig_id: str = ""  # of the rig; empty: it has none yet

    def by(self, to: Iterable[str] = ()) -> Binding:
        """The rig, and the places that a secret of it may be sent to."""
        return Binding(self.trust.rig, self.rig_id, tuple(to))

    def admit(self, name: str, to: Iterable[str]) -> None:
        """Whether the rig may take what the store keeps under a name, and send it to these places. Raises SecretError."""
        bound = self.store.bound(name) if self.store is not None else ()
        if not bound or self.trust.commands:
            return
        by = self.by(to)
        own = [one for one in bound if one.fits(by)]
        if not own:
            raise SecretError(f"the key {name!r} in the store was kept for {keystore.whose(bound, by)}: {_untrusted(self.trust)}")
        allowed = {place for one in own for place in one.to}
        new = [place for place in by.to if place not in allowed]
        if allowed and new:
            raise SecretError(
                f"the key {name!r} was kept for {', '.join(sorted(allowed))}, and this rig sends it to {', '.join(new)}; if that is right: direkt rig trust"
            )


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


@dataclass(frozen=True, slots=True)
class StoreName:
    """One name in the store, as a rig may use it: for itself, and to send it to these places."""

    sources: Sources
    keeper: Keeper
    name: str
    to: tuple[str, ...]

    def get(self) -> str | None:
        """What is kept; None: nothing. Raises SecretError where it is not this rig's."""
        self.sources.admit(self.name, self.to)
        return self.keeper.get(self.name)

    def put(self, text: str) -> None:
        """Keeps it. Raises UnusableInput where the name is another rig's."""
        self.keeper.put(self.name, text, self.sources.by(self.to))

    def forget(self) -> bool:
        """Drops it; False where there was none. Raises UnusableInput where the name is another rig's."""
        return self.keeper.forget(self.name, self.sources.by(self.to))


def own_name(what: str, slug: str, sources: Sources, store: Store) -> str:
    """The name under which a rig keeps something: with the rig's id where another rig of the same name has the plain one."""
    name = f"{slug}/{what}"
    bound = store.bound(name)
    if not bound or any(one.fits(sources.by()) for one in bound):
        return name
    return f"{slug}-{sources.rig_id[:8] or 'other'}/{what}"


def resolve(ref: SecretRef, sources: Sources, folder: Path, to: Iterable[str] = ()) -> Secret:
    """The secret behind ``ref``, which is sent to these places (host:port); relative paths start at ``folder``. Raises SecretError."""
    if ref.kind == "store":
        sources.admit(ref.name, to)
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
