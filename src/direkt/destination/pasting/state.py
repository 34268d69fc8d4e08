"""What is known of the destination while a paste is read, and what was found so far."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from direkt.destination.no_key import why_no_key
from direkt.destination.pattern import Pattern
from direkt.errors import UnusableInput
from direkt.protocol.address import ServerAddress


class PasteError(UnusableInput):
    """A paste that has no certain meaning; the text explains, without the key."""


@dataclass(slots=True)
class Work:
    """What is known of the destination, and what was found so far."""

    pattern: Pattern | None
    known: Sequence[ServerAddress]
    ports: Sequence[tuple[str, int]]
    repairs: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)
    questions: list[str] = field(default_factory=list)
    aside: bool = False  # an address was not taken
    chatty: bool = False  # words of a sentence stand on the address's line

    def set_aside(self, why: str) -> None:
        """An address that is not taken, for this reason."""
        self.left.append(why)
        self.aside = True

    @property
    def hosts(self) -> set[str]:
        return {k.host for k in self.known}


def keyish(text: str) -> bool:
    """Whether a word may be a part of a key, and not one of a sentence."""
    if len(text) < 3:
        return text.isupper() or text.isdigit()
    if why_no_key(text.strip("[]()")).startswith(("a date", "a mail", "a tele")):
        return False
    return re.search(r"\d|\w[-_~]|[-_~]\w", text) is not None or (text.isupper() and len(text) > 1)


def strong(text: str) -> bool:
    """Whether a word looks like a key and not like one of a sentence."""
    if len(text) < 8:
        return False
    digits, letters = any(c.isdigit() for c in text), any(c.isalpha() for c in text)
    signs = re.search(r"[^\W_][-_~.:+/=][^\W_]", text) is not None
    mixed = re.search(r"[a-z][A-Z]|[A-Z]{2}[a-z]", text) is not None
    return (
        (digits and letters)
        or (signs and (digits or "~" in text or "_" in text))
        or (mixed and len(text) >= 12)
        or len(text) >= 24
    )
