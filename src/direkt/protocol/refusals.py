"""Logins that were refused: none is sent a second time by this process or, where a memory is given, by the next ones, since accounts lock.

What is remembered are marks: a salted hash of the place, and a salted scrypt (RFC 7914) of place, user and password, which takes tens of
milliseconds and is made only where a mark of that place is there. A mark goes when the login is taken after all, when a person
says so, or after half a year.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
import threading
from typing import Protocol

from direkt.secret import Secret


class Memory(Protocol):
    """What is kept beyond this process. Its methods raise nothing."""

    def load(self) -> tuple[bytes, dict[str, str]]:
        """The salt, and marks with the times at which they were refused; an empty salt: there is none yet."""

    def keep(self, salt: bytes, marks: dict[str, str]) -> None:
        """Writes them down."""

    def now(self) -> str:
        """The time, as people read it."""


class LoginRefusals:
    """Refused logins. Safe to use from many threads."""

    def __init__(self, memory: Memory | None = None) -> None:
        self.memory = self._memory = memory
        self._lock = threading.Lock()
        self._salt = b""
        self._marks: dict[str, str] | None = None
        self._known: dict[tuple[str, str, str], str] = {}  # marks that were made before: making one takes a while

    def refused(self, place: str, user: str, password: Secret) -> str | None:
        """When this login was refused there; None: it was not. An empty text: it is not known when."""
        with self._lock:
            marks = self._loaded()
            return marks.get(self._mark(place, user, password)) if self._may_know(place) else None

    def note(self, place: str, user: str, password: Secret) -> None:
        """It was refused."""
        with self._lock:
            marks = self._loaded()
            self._salt = self._salt or secrets.token_bytes(16)
            marks[self._mark(place, user, password)] = self._memory.now() if self._memory is not None else ""
            self._keep()

    def forget(self, place: str, user: str, password: Secret) -> bool:
        """It may be sent again; False: it was not refused."""
        with self._lock:
            marks = self._loaded()
            if not self._may_know(place) or marks.pop(self._mark(place, user, password), None) is None:
                return False
            self._keep()
            return True

    def _may_know(self, place: str) -> bool:
        """Whether any login was refused there."""
        begin = self._place(place)
        return any(mark.startswith(begin) for mark in self._loaded())

    def _place(self, place: str) -> str:
        return hmac.digest(self._salt or b"none", place.encode(), "sha256").hex()[:16] + "."

    def _loaded(self) -> dict[str, str]:
        if self._marks is None:
            self._salt, self._marks = self._memory.load() if self._memory is not None else (b"", {})
        return self._marks

    def _keep(self) -> None:
        if self._memory is not None and self._marks is not None:
            self._memory.keep(self._salt, self._marks)

    def _mark(self, place: str, user: str, password: Secret) -> str:
        # the password itself is no key of a dictionary: a digest under a key of this process is
        key = (place, user, hmac.digest(_PROCESS, password.reveal().encode(), "sha256").hex())
        if key not in self._known:
            words = "\0".join((place, user, password.reveal())).encode()
            made = hashlib.scrypt(words, salt=self._salt or b"none", n=1 << 13, r=8, p=1, dklen=16)
            self._known[key] = self._place(place) + made.hex()
        return self._known[key]


_PROCESS = secrets.token_bytes(16)
_current = LoginRefusals()


def current() -> LoginRefusals:
    """Those of this process."""
    return _current


def remember_in(memory: Memory | None) -> None:
    """From here on refusals are kept there, too; None: for this process alone."""
    global _current
    if memory is None or _current.memory != memory:
        _current = LoginRefusals(memory)
