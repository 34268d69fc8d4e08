"""Texts of others, made safe to show: a terminal obeys control characters, and some turn a line's direction."""

from __future__ import annotations

import re

# C0 but for tab, line feed and return; DEL and C1; the controls of direction (UAX 9); halves of surrogate pairs
UNSEEN = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069\ud800-\udfff]")


def printable(text: str) -> str:
    """The text with a question mark for each of those."""
    return text if text.isprintable() else UNSEEN.sub("?", text)
