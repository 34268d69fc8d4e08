"""The setup card drawn: on one sheet of A4 (PDF), and as a picture for a phone (PNG). Both by one layout of boxes and texts."""

from __future__ import annotations

import bisect
import io
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cache
from typing import TYPE_CHECKING, Protocol

from direkt.errors import UnusableInput
from direkt.report.card import Card, Step, code_matrix, groups, marked

if TYPE_CHECKING:
    from PIL import ImageFont

_PAGE, _HEIGHT, _MARGIN = 210.0, 297.0, 12.0  # mm: A4
_MOST_IN_LINE = 120  # letters
_SMALLEST = 0.5  # of the usual size of letters
_INK, _GREY, _ALARM, _MARK = (24, 28, 32), (90, 94, 98), (176, 24, 24), (255, 239, 194)
Colour = tuple[int, int, int]


class Canvas(Protocol):
    """Something to draw on; lengths in mm."""

    def width(self, words: str, size: float, *, bold: bool, even: bool) -> float:
        """How wide a text is; ``size``: mm of a line; ``even``: letters of one width."""

    def text(self, x: float, y: float, words: str, size: float, *, bold: bool, even: bool, colour: Colour) -> None:
        """A text whose upper left corner is at x, y."""

    def box(self, x: float, y: float, width: float, height: float, *, line: Colour | None, fill: Colour | None) -> None:
        """A rectangle."""


@dataclass(frozen=True, slots=True)
class _Look:
    """How a text looks."""

    size: float = 4.6  # mm of a line
    bold: bool = False
    even: bool = False
    colour: Colour = _INK


_PLAIN, _BOLD, _SMALL = _Look(), _Look(bold=True), _Look(4.0, colour=_GREY)
_TITLE, _HEAD = _Look(8.0, bold=True), _Look(3.8, bold=True, colour=_GREY)


class _Layout:
    """Places a card from top to bottom; ``canvas`` None: only measures."""

    def __init__(self, card: Card, canvas: Canvas, scale: float, width: float, *, draws: bool) -> None:
        self._card, self._canvas, self._scale, self._width, self._draws = card, canvas, scale, width, draws
        self.y = _MARGIN

    def run(self) -> float:
        """Draws all of it; where it ends, in mm."""
        card = self._card
        self._words(f"{card.feed}: {card.device}", _TITLE)
        self._words(f"{card.model} > {card.destination}", _PLAIN)
        self._words(f"{card.rig}; made {card.made}", _SMALL)
        for warning in card.warnings:
            self._words(f"Cannot be met: {warning}", replace(_BOLD, colour=_ALARM))
        self._list("BEFORE", card.before)
        self._head("ENTER, IN THIS ORDER")
        for step in card.steps:
            self._step(step)
        if card.look_alikes:
            self._words("Easily mistaken: " + ", ".join(f"{c} {name}" for c, name in card.look_alikes), _SMALL)
        if card.facts:
            self._words("It always sends: " + ", ".join(f"{fact.name} {fact.value}" for fact in card.facts), _SMALL)
        self._code()
        self._list("AFTER", card.after)
        return self.y + _MARGIN

    def _head(self, words: str) -> None:
        self.y += 2.5 * self._scale
        self._words(words, _HEAD)

    def _list(self, title: str, entries: tuple[str, ...]) -> None:
        if entries:
            self._head(title)
        for entry in entries:
            self._tick()
            self._words(entry, _PLAIN, indent=7.0)

    def _tick(self) -> None:
        side = 3.2 * self._scale
        if self._draws:
            self._canvas.box(_MARGIN, self.y + 0.6 * self._scale, side, side, line=_INK, fill=None)

    def _words(self, words: str, look: _Look, indent: float = 0.0) -> None:
        """A paragraph, wrapped."""
        x = _MARGIN + indent * self._scale
        size = look.size * self._scale
        for line in self._wrapped(words, look, self._width - _MARGIN - x):
            if self._draws:
                self._canvas.text(x, self.y, line, size, bold=look.bold, even=look.even, colour=look.colour)
            self.y += size * 1.12

    def _wrapped(self, words: str, look: _Look, room: float) -> Iterator[str]:
        line = ""
        for word in words.split(" "):
            tried = f"{line} {word}" if line else word
            if self._wide(tried, look) <= room:
                line = tried
                continue
            if line:
                yield line
            while self._wide(word, look) > room and len(word) > 1:  # a word that no line holds
                cut = self._fitting(word, look, room)
                yield word[:cut]
                word = word[cut:]
            line = word
        yield line

    def _fitting(self, word: str, look: _Look, room: float) -> int:
        """How many of a word's letters fit, at least one."""
        return max(1, bisect.bisect_right(range(1, len(word)), room, key=lambda n: self._wide(word[:n], look)))

    def _wide(self, words: str, look: _Look) -> float:
        return self._canvas.width(words, look.size * self._scale, bold=look.bold, even=look.even)

    def _step(self, step: Step) -> None:
        self._tick()
        self._words(" > ".join(step.path), _SMALL, indent=7.0)
        if step.hidden:
            self._words(f"({step.hidden})", _PLAIN, indent=7.0)
        elif step.kind == "type":
            self._cells(step.value)
            if step.too_long:
                self._words(
                    f"{len(step.value)} characters; the device takes {step.longest}",
                    replace(_BOLD, colour=_ALARM),
                    indent=7.0,
                )
        else:
            mean = f"  ({step.meaning})" if step.meaning else ""
            self._words(step.value + mean, _BOLD, indent=7.0)
        self.y += 0.8 * self._scale

    def _cells(self, value: str) -> None:
        """Each character in a box of its own, with the names of those that are easily mistaken."""
        s = self._scale
        x, wide, high = _MARGIN + 7.0 * s, 6.4 * s, 9.6 * s
        for group in groups(value):
            if x > _MARGIN + 7.0 * s and x + len(group) * wide > self._width - _MARGIN:
                x, self.y = _MARGIN + 7.0 * s, self.y + high + 1.2 * s
            for character, name in marked(group):
                if x + wide > self._width - _MARGIN:
                    x, self.y = _MARGIN + 7.0 * s, self.y + high + 1.2 * s
                if self._draws:
                    self._cell(x, character, name, wide, high)
                x += wide
            x += 2.2 * s
        self.y += high + 0.8 * s

    def _cell(self, x: float, character: str, name: str, wide: float, high: float) -> None:
        s, canvas = self._scale, self._canvas
        canvas.box(x, self.y, wide, high, line=_GREY, fill=_MARK if name else None)
        left = (wide - canvas.width(character, 5.4 * s, bold=True, even=True)) / 2
        canvas.text(x + left, self.y + 0.3 * s, character, 5.4 * s, bold=True, even=True, colour=_INK)
        lines = name.split(" ") if name else []
        for n, word in enumerate(lines[:2]):
            size = 1.9 * s
            room = canvas.width(word, size, bold=False, even=False)
            size *= min(1.0, (wide - 0.4 * s) / room)
            left = (wide - canvas.width(word, size, bold=False, even=False)) / 2
            canvas.text(x + left, self.y + (5.5 + 1.9 * n) * s, word, size, bold=False, even=False, colour=_INK)

    def _code(self) -> None:
        card = self._card
        if card.code:
            rows = code_matrix(card.code)
            side = max(38.0 * self._scale, 0.5 * len(rows)) / len(
                rows
            )  # mm of a square: smaller ones cannot be scanned
            if self._draws:
                self._canvas.box(_MARGIN, self.y, side * len(rows), side * len(rows), line=None, fill=(255, 255, 255))
                for y, row in enumerate(rows):
                    for x, dark in enumerate(row):
                        if dark:
                            self._canvas.box(
                                _MARGIN + x * side, self.y + y * side, side, side, line=None, fill=(0, 0, 0)
                            )
            self.y += side * len(rows) + 1.0
        if card.code_note:
            self._words(card.code_note, _SMALL)


# PDF


class _Paper:
    """A page of a PDF."""

    def __init__(self) -> None:
        from fpdf import FPDF

        self.pdf = FPDF(unit="mm", format="A4")
        self.pdf.set_auto_page_break(False)
        self.pdf.add_page()

    def _font(self, size: float, *, bold: bool, even: bool) -> None:
        self.pdf.set_font("Courier" if even else "Helvetica", "B" if bold else "", size * 2.35)

    def width(self, words: str, size: float, *, bold: bool, even: bool) -> float:
        self._font(size, bold=bold, even=even)
        return float(self.pdf.get_string_width(_latin(words)))

    def text(self, x: float, y: float, words: str, size: float, *, bold: bool, even: bool, colour: Colour) -> None:
        self._font(size, bold=bold, even=even)
        self.pdf.set_text_color(*colour)
        self.pdf.text(x, y + size * 0.8, _latin(words))

    def box(self, x: float, y: float, width: float, height: float, *, line: Colour | None, fill: Colour | None) -> None:
        self.pdf.set_line_width(0.2)
        if line is not None:
            self.pdf.set_draw_color(*line)
        if fill is not None:
            self.pdf.set_fill_color(*fill)
        self.pdf.rect(x, y, width, height, style=("D" if line is not None else "") + ("F" if fill is not None else ""))


_INSTEAD = str.maketrans({"–": "-", "—": "-", "’": "'", "“": '"', "”": '"', "…": "...", "→": ">", "≤": "<=", "≥": ">="})


def _latin(words: str) -> str:
    """A text with the letters that a PDF has without a font of its own (Latin-1); others are shown as question marks."""
    return words.translate(_INSTEAD).encode("latin-1", "replace").decode("latin-1")


def pdf(card: Card) -> bytes:
    """One sheet of A4: the letters are as small as that needs. Raises UnusableInput where that cannot be read any more."""
    for step in card.steps:
        if step.kind == "type" and _latin(step.value) != step.value:
            raise UnusableInput("what is to be typed has letters that a PDF cannot show: take .html")
    paper, scale = _Paper(), 1.0
    while _Layout(card, paper, scale, _PAGE, draws=False).run() > _HEIGHT:
        scale -= 0.04
        if scale < _SMALLEST:
            raise UnusableInput("the card does not fit one sheet of paper: take .html or .txt")
    _Layout(card, paper, scale, _PAGE, draws=True).run()
    paper.pdf.set_title(f"{card.feed}: {card.device}")
    return bytes(paper.pdf.output())


# PNG

_DOTS = 10.0  # px in a mm
_PHONE = 108.0  # mm: a picture of 1080 px


@cache
def _font(size: float) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    from PIL import ImageFont

    return ImageFont.load_default(max(4.0, size * 0.82 * _DOTS))


class _Picture:
    """A picture that is as high as the card."""

    def __init__(self, height: float) -> None:
        from PIL import Image, ImageDraw

        self.image = Image.new("RGB", (round(_PHONE * _DOTS), max(1, round(height * _DOTS))), (255, 255, 255))
        self._draw = ImageDraw.Draw(self.image)

    def width(self, words: str, size: float, *, bold: bool, even: bool) -> float:
        return float(self._draw.textlength(_latin(words), font=_font(round(size, 2)))) / _DOTS

    def text(self, x: float, y: float, words: str, size: float, *, bold: bool, even: bool, colour: Colour) -> None:
        at = (x * _DOTS, y * _DOTS)
        self._draw.text(
            at,
            _latin(words),
            fill=colour,
            font=_font(round(size, 2)),
            stroke_width=round(size / 8) if bold else 0,
            stroke_fill=colour,
        )

    def box(self, x: float, y: float, width: float, height: float, *, line: Colour | None, fill: Colour | None) -> None:
        corner = (x * _DOTS, y * _DOTS, (x + width) * _DOTS - 1, (y + height) * _DOTS - 1)
        self._draw.rectangle(corner, outline=line, fill=fill, width=2)


def png(card: Card) -> bytes:
    """A picture 1080 px wide, for a phone."""
    scale = 0.92
    height = _Layout(card, _Picture(1), scale, _PHONE, draws=False).run()
    picture = _Picture(height)
    _Layout(card, picture, scale, _PHONE, draws=True).run()
    out = io.BytesIO()
    picture.image.save(out, "PNG", optimize=True)
    return out.getvalue()
