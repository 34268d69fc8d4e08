"""The setup card: everything that a person needs to set a device by hand, as text, and what all its forms share."""

from __future__ import annotations

import itertools
import re
import textwrap
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Literal

from direkt import parameters

# characters that people take for each other, and what each is called
LOOK_ALIKES = {
    "0": "zero", "O": "capital O", "o": "small o", "1": "one", "l": "small L", "I": "capital i", "|": "upright bar",
    "5": "five", "S": "capital S", "s": "small s", "2": "two", "Z": "capital Z", "z": "small z", "8": "eight", "B": "capital B",
    "6": "six", "G": "capital G", "9": "nine", "g": "small g", "q": "small q", "c": "small c", "C": "capital C", "v": "small v",
    "V": "capital V", "w": "small w", "W": "capital W", "x": "small x", "X": "capital X", "m": "small m", "rn": "small r, small n",
    "-": "hyphen", "_": "underscore", "~": "tilde", ".": "full stop", ",": "comma", ";": "semicolon", "'": "apostrophe",
    "`": "grave accent", " ": "space",
}  # fmt: skip
_GROUP = 4  # characters
_WIDTH = 76  # characters of a line of text


@dataclass(frozen=True, slots=True)
class CardStep:
    """One thing to enter, in the order of the device's menus."""

    path: tuple[str, ...]  # where, in the device's own words
    value: str  # what, in the device's own words; empty: see ``hidden``
    meaning: str = ""  # the same in ours
    kind: Literal["choose", "type", "do"] = "choose"
    hidden: str = ""  # what is said instead of a value that is not shown
    length: int = 0  # characters of what is typed, shown or not
    longest: int = 0  # characters that fit; 0: not known

    @property
    def too_long(self) -> bool:
        """Whether the device has no room for it."""
        return 0 < self.longest < self.length

    @property
    def complaint(self) -> str:
        """What is said of a value that the device has no room for."""
        return f"{self.length} characters; the device takes {self.longest}"


@dataclass(frozen=True, slots=True)
class Fact:
    """Something that cannot be set, and is as it is."""

    name: str
    value: str

    @property
    def text(self) -> str:
        """It in words: ``keyframe interval 1 s``."""
        return f"{parameters.find(self.name).label} {self.value}"


@dataclass(frozen=True, slots=True)
class Card:
    """A whole card."""

    rig: str
    feed: str
    device: str  # its name in the rig
    model: str
    destination: str
    made: str  # date and time
    before: tuple[str, ...] = ()
    steps: tuple[CardStep, ...] = ()
    facts: tuple[Fact, ...] = ()
    after: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    code: str = field(default="", repr=False)  # what the picture code holds
    code_note: str = ""  # where it is scanned, or why there is none
    secret: bool = False  # the key stands on it

    @property
    def look_alikes(self) -> tuple[tuple[str, str], ...]:
        """The characters on it that are easily mistaken, with their names."""
        typed = "\0".join(step.value for step in self.steps if step.kind == "type")
        return tuple((c, name) for c, name in LOOK_ALIKES.items() if c in typed)


def groups(text: str) -> list[str]:
    """A text in pieces that can be typed one by one: cut behind marks, and in pieces of some four characters. Joined they are the text."""
    out: list[str] = []
    for part in re.findall(r"[^\W_]+|[\W_]+", text):
        if out and not part[0].isalnum():
            out[-1] += part
        else:
            count = max(1, round(len(part) / _GROUP)) if len(part) > 2 * _GROUP else 1
            edges = [len(part) * n // count for n in range(count + 1)]
            out += [part[a:b] for a, b in itertools.pairwise(edges)]
    return out


def marked(text: str) -> Iterator[tuple[str, str]]:
    """Each character with its name where it is easily mistaken; the two of "rn" each with their own."""
    pair = {at for start in range(len(text)) if text.startswith("rn", start) for at in (start, start + 1)}
    for at, character in enumerate(text):
        yield character, f"small {character}" if at in pair else LOOK_ALIKES.get(character, "")


def text(card: Card) -> str:
    """The card as plain text: for a printer without a driver, a mail, or a screen."""
    lines = [
        f"SETUP CARD  {card.feed}: {card.device}, {card.model}",
        f"{card.rig} -> {card.destination}; made {card.made}",
        "",
    ]
    for warning in card.warnings:
        lines += _wrapped("!!! ", warning)
    if card.warnings:
        lines.append("")
    if card.before:
        lines += ["BEFORE", *(line for word in card.before for line in _wrapped("[ ] ", word)), ""]
    lines.append("ENTER, in this order")
    for step in card.steps:
        lines += _step(step)
    lines.append("")
    if card.look_alikes:
        lines += _wrapped(
            "",
            "Easily mistaken: "
            + ", ".join(f"{c!r} {name}" if c == " " else f"{c} {name}" for c, name in card.look_alikes),
        )
        lines.append("")
    if card.facts:
        lines += _wrapped("", "It always sends: " + ", ".join(fact.text for fact in card.facts))
        lines.append("")
    if card.after:
        lines += ["AFTER", *(line for word in card.after for line in _wrapped("[ ] ", word)), ""]
    if card.code_note:
        lines += _wrapped("", card.code_note)
    if card.code:
        lines += ["", *code_lines(card.code)]
    return "\n".join(lines).rstrip() + "\n"


def _step(step: CardStep) -> list[str]:
    lines = [f"[ ] {' > '.join(step.path)}"]
    too_long = _wrapped("        !!! ", step.complaint) if step.too_long else []
    if step.hidden:
        return [*lines, *_wrapped("        (", step.hidden + ")", keep=True), *too_long]
    lines.append(f"        {step.value}")
    pieces = groups(step.value)
    if step.kind == "type" and len(pieces) > 1:
        lines += _wrapped("        letter by letter:  ", "  ".join(pieces), keep=True)
    if step.meaning:
        lines += _wrapped("        (", step.meaning + ")")
    return lines + too_long


def _wrapped(first: str, words: str, *, keep: bool = False) -> list[str]:
    """Lines of at most 76 characters; a piece longer than that stays whole where it is to be typed."""
    return textwrap.wrap(
        words,
        _WIDTH,
        initial_indent=first,
        subsequent_indent=" " * len(first),
        break_long_words=not keep,
        break_on_hyphens=not keep,
    )


def code_matrix(content: str, error: str = "m") -> list[list[bool]]:
    """The picture code (QR, ISO/IEC 18004) with its quiet zone of four squares (clause 6.3.8), dark squares as True.

    ``error``: its level of error correction (l, m, q, h); a higher one than required is not taken, since it makes smaller squares
    where the code grows. Raises ValueError when it does not fit.
    """
    import segno

    made = segno.make(content, error=error, boost_error=False, micro=False)
    return [[bool(square) for square in row] for row in made.matrix_iter(border=4)]


def code_lines(content: str) -> list[str]:
    """The code in half blocks, for a light screen or paper."""
    rows = code_matrix(content)
    rows += [[False] * len(rows[0])] if len(rows) % 2 else []
    blocks = {(False, False): " ", (True, False): "▀", (False, True): "▄", (True, True): "█"}
    return [
        "".join(blocks[pair] for pair in zip(upper, lower, strict=True))
        for upper, lower in zip(rows[::2], rows[1::2], strict=True)
    ]
