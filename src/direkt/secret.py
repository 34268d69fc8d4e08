"""A login or stream key that prints masked; and texts of others, cleared of what could be one."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable

from direkt.mask import HIDDEN, IN_USE, SHORTEST

_URL = re.compile(r"([A-Za-z][A-Za-z0-9+.-]{1,15}://)([^\s/?#'\"<>]*@)?([^\s/?#'\"<>]*)([^\s'\"<>]*)")
_TOKEN = re.compile(r"[^\s'\"<>()\[\]{},;=]+")


class Secret:
    """A login, key or token. Its text is its first two characters and its length; only reveal() gives it out.

    From here on it is hidden in all that leaves; not ``everywhere``: in words of others only, since it is shown on purpose, or somebody
    else says that it is a key and may have chosen any word.
    """

    __slots__ = ("_value",)

    def __init__(self, value: str, *, everywhere: bool = True) -> None:
        self._value = value
        IN_USE.add(value, everywhere=everywhere)

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


def without(text: str, known: Iterable[Secret] = ()) -> str:
    """A text of somebody else's in which all secrets in use and the ``known`` ones are hidden, however they are written."""
    return IN_USE.foreign(text, [secret.reveal() for secret in known])


def without_keys(text: str, known: Iterable[Secret] = (), length: int = 0) -> str:
    """A text of somebody else's without what could be a key in it.

    Taken out are those in use, the ``known`` ones, the login, path and arguments of URLs, and each word of ``length`` characters
    that is not made of letters alone.
    """
    text = without(text, known)
    text = _URL.sub(lambda m: f"{m[1]}{m[3]}{'/...' if m[4].strip('/.:,;!') else m[4]}", text)

    def hide(match: re.Match[str]) -> str:
        word = match[0].rstrip(".:!?")
        hidden = len(word) == length >= SHORTEST and not word.isalpha()
        return HIDDEN + match[0][len(word) :] if hidden else match[0]

    return _TOKEN.sub(hide, text)


# characters that people take for each other, each class under one of them
_ALIKE = str.maketrans(
    {
        "O": "0",
        "o": "0",
        "l": "1",
        "I": "1",
        "i": "1",
        "|": "1",
        "S": "5",
        "s": "5",
        "Z": "2",
        "z": "2",
        "B": "8",
        "-": "~",
        "_": "~",
        ",": ".",
        "`": "'",
    }
)


def mistyped(given: str, secret: Secret) -> str:
    """How ``given`` was mistyped; empty where it is something else altogether. It tells no character of the key."""
    right = secret.reveal()
    if given.strip() == right:
        return "its key is right but has a space before or after it: take it out"
    if given.lower() == right.lower():
        return "its key differs from the right one in capital and small letters"
    if given.translate(_ALIKE) == right.translate(_ALIKE):
        return "its key has characters taken for others that look like them (0 and O, 1 and l, ~ and -): compare it letter by letter"
    if len(given) == len(right):
        differ = [n for n in range(len(right)) if given[n] != right[n]]
        if (
            len(differ) == 2
            and differ[1] == differ[0] + 1
            and given[differ[0]] == right[differ[1]]
            and given[differ[1]] == right[differ[0]]
        ):
            return "its key has two neighbouring characters swapped"
        if len(differ) == 1:
            return f"one character of its key is wrong, the {differ[0] + 1}. of {len(right)}"
    if len(given) == len(right) - 1 and any(right[:n] + right[n + 1 :] == given for n in range(len(right))):
        return f"one character of its key is missing: it has {len(given)}, the right one {len(right)}"
    if len(given) == len(right) + 1 and any(given[:n] + given[n + 1 :] == right for n in range(len(given))):
        return f"its key has one character too many: {len(given)}, the right one {len(right)}"
    if given and right.startswith(given):
        return f"the end of its key is missing: it has {len(given)} of {len(right)} characters"
    return ""


def is_like(text: str, secret: Secret) -> bool:
    """Whether a text could be a mistyped ``secret``, or hold one."""
    text, value = text.lower(), secret.reveal().lower()
    if not value:
        return False
    match = difflib.SequenceMatcher(None, text, value, autojunk=False)
    longest = match.find_longest_match().size
    return match.ratio() > 0.5 or longest * 2 > len(value) or longest >= 8
