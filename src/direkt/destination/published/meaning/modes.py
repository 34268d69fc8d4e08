"""A cell that lists latency modes: "normal (20 s), low (8 s)"."""

from __future__ import annotations

import re

from direkt.destination.published.meaning.reading import Claim, LeftWords, ParsedCell
from direkt.destination.published.words import context as contexts

_PIECE = re.compile(r"[^,;\n/]+")
_MARKS = " \t()[]:-–—."


def parse(text: str) -> ParsedCell:
    """One claim for each mode, with the words behind it as what it means for viewers."""
    out = ParsedCell()
    found: list[tuple[str, str, int, int]] = []
    for match in _PIECE.finditer(text):
        piece = match[0]
        mode, rest = _mode(piece)
        start, end = match.start() + len(piece) - len(piece.lstrip()), match.start() + len(piece.rstrip())
        if mode:
            found.append((mode, rest, start, end))
        elif found and not re.search(r"[^\W\d_]{3}", piece):  # more of the mode before
            name, words, begin, _ = found[-1]
            found[-1] = (name, f"{words}, {piece.strip(_MARKS)}".strip(", "), begin, end)
        elif piece.strip():
            out.left.append(LeftWords(start, end, "no latency mode goes by this name"))
    for mode, rest, start, end in found:
        out.claims.append(Claim("latency", "must", "is", (mode, rest), start, end))
    return out


def _mode(piece: str) -> tuple[str, str]:
    """The mode that a piece begins with, and the rest of it."""
    words = re.split(r"(?<=\w)(?=[\s(:–—-])", piece.strip(), maxsplit=3)
    for count in range(min(3, len(words)), 0, -1):
        head = "".join(words[:count])
        mode = contexts.bare_mode(head) or contexts.read(head).mode
        if mode and re.fullmatch(r"[^\W\d_]+(?:[ -][^\W\d_]+)*", head):
            return mode, re.sub(r"(?i)^\W*(?:latency|mode|delay)\b", "", "".join(words[count:])).strip(_MARKS)
    return "", ""
