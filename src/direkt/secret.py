"""A login or stream key that prints masked; and texts of others, cleared of what could be one."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable

_URL = re.compile(r"([A-Za-z][A-Za-z0-9+.-]{1,15}://)([^\s/?#'\"<>]*@)?([^\s/?#'\"<>]*)([^\s'\"<>]*)")
_TOKEN = re.compile(r"[^\s'\"<>()\[\]{},;=]+")
_HIDDEN = "(key)"
_SHORTEST = 4  # characters of a key that is looked for


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


def _in_any_form(character: str) -> str:
    """A pattern for a character as it is, or percent-encoded (RFC 3986, 2.1)."""
    encoded = "".join(f"%{byte:02x}" for byte in character.encode("utf-8", "replace"))
    return f"(?:{re.escape(character)}|{encoded})"


def without(text: str, known: Iterable[Secret]) -> str:
    """A text in which ``known`` secrets are hidden, however their letters are written."""
    for secret in known:
        value = secret.reveal()
        if len(value) >= _SHORTEST:
            text = re.sub("".join(map(_in_any_form, value)), _HIDDEN, text, flags=re.IGNORECASE)
    return text


def without_keys(text: str, known: Iterable[Secret] = (), length: int = 0) -> str:
    """A text of somebody else's without what could be a key in it.

    Taken out are the ``known`` ones, the login, path and arguments of URLs, and each word of ``length`` characters
    that is not made of letters alone.
    """
    text = without(text, known)
    text = _URL.sub(lambda m: f"{m[1]}{m[3]}{'/...' if m[4].strip('/.:,;!') else m[4]}", text)

    def hide(match: re.Match[str]) -> str:
        word = match[0].rstrip(".:!?")
        hidden = len(word) == length >= _SHORTEST and not word.isalpha()
        return _HIDDEN + match[0][len(word) :] if hidden else match[0]

    return _TOKEN.sub(hide, text)


def is_like(text: str, secret: Secret) -> bool:
    """Whether a text could be a mistyped ``secret``, or hold one."""
    text, value = text.lower(), secret.reveal().lower()
    if not value:
        return False
    match = difflib.SequenceMatcher(None, text, value, autojunk=False)
    longest = match.find_longest_match().size
    return match.ratio() > 0.5 or longest * 2 > len(value) or longest >= 8
