"""The setup card drawn: on one sheet of A4 (PDF), and as a picture for a phone (PNG). Both by one layout of boxes and texts.

The letters are DejaVu's, as the plotting package brings them: Latin, Greek, Cyrillic, Armenian and Georgian, with zero, one and the
letters like them told apart in its even widths. What it lacks, and what is written from right to left, is shown as a box and said.
"""

from __future__ import annotations

import bisect
import io
import itertools
import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from direkt.errors import UnusableInput
from direkt.report.card import Card, CardStep, code_matrix, groups, marked

if TYPE_CHECKING:
    from PIL import ImageFont

_SEAM = 0.02  # mm by which a row of squares reaches into the next, so that no light line shows between them
_PAGE, _HEIGHT, _MARGIN = 210.0, 297.0, 12.0  # mm: A4
_MOST_IN_LINE = 120  # letters
_SMALLEST = 0.5  # of the usual size of letters
_POINTS = 2.35  # of a letter, for each mm of its line
_LEAST = 7.0 / _POINTS  # mm of a line: no letter is smaller than 7 pt
_LACKS = "\N{WHITE SQUARE}"  # stands for a letter that cannot be drawn
_IN_CELLS = {"underscore": ("under-", "score"), "apostrophe": ("apos-", "trophe"), "semicolon": ("semi-", "colon")}
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
            self._words("It always sends: " + ", ".join(fact.text for fact in card.facts), _SMALL)
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
        size = self._size(look)
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
        return self._canvas.width(words, self._size(look), bold=look.bold, even=look.even)

    def _size(self, look: _Look) -> float:
        """mm of a line."""
        return max(_LEAST, look.size * self._scale)

    def _step(self, step: CardStep) -> None:
        self._tick()
        self._words(" > ".join(step.path), _SMALL, indent=7.0)
        if step.hidden:
            self._words(f"({step.hidden})", _PLAIN, indent=7.0)
        elif step.kind == "type":
            self._line(step.value)
            self._cells(step.value)
        else:
            mean = f"  ({step.meaning})" if step.meaning else ""
            self._words(step.value + mean, _BOLD, indent=7.0)
        if step.too_long:
            self._words(step.complaint, replace(_BOLD, colour=_ALARM), indent=7.0)
        self.y += 0.8 * self._scale

    def _line(self, value: str) -> None:
        """The whole value in one line, however small that must be: what is copied out of the document."""
        x = _MARGIN + 7.0 * self._scale
        look = _Look(4.2, even=True)
        size = self._size(look)
        size *= min(1.0, (self._width - _MARGIN - x) / max(1e-9, self._wide(value, look)))
        if self._draws:
            self._canvas.text(x, self.y, value, size, bold=False, even=True, colour=_INK)
        self.y += size * 1.2

    def _cells(self, value: str) -> None:
        """Each character in a box of its own, with the names of those that are easily mistaken."""
        s = self._scale
        first, last, high = _MARGIN + 7.0 * s, self._width - _MARGIN, 5.8 * s + 2 * _LEAST
        x = first
        named = marked(value)
        for group in groups(value):
            cells = [(character, name, self._cell_width(name)) for character, name in itertools.islice(named, len(group))]
            if x > first and x + sum(wide for _, _, wide in cells) > last:
                x, self.y = first, self.y + high + 1.2 * s
            for character, name, wide in cells:
                if x + wide > last:
                    x, self.y = first, self.y + high + 1.2 * s
                if self._draws:
                    self._cell(x, character, name, wide, high)
                x += wide
            x += 2.2 * s
        self.y += high + 0.8 * s

    def _cell_width(self, name: str) -> float:
        words = _in_cell(name)
        return max(6.4 * self._scale, *(self._canvas.width(w, _LEAST, bold=False, even=False) + 0.9 for w in words), 0.0)

    def _cell(self, x: float, character: str, name: str, wide: float, high: float) -> None:
        s, canvas = self._scale, self._canvas
        canvas.box(x, self.y, wide, high, line=_GREY, fill=_MARK if name else None)
        left = (wide - canvas.width(character, 5.4 * s, bold=True, even=True)) / 2
        canvas.text(x + left, self.y + 0.3 * s, character, 5.4 * s, bold=True, even=True, colour=_INK)
        for n, word in enumerate(_in_cell(name)):
            left = (wide - canvas.width(word, _LEAST, bold=False, even=False)) / 2
            at = self.y + 5.5 * s + _LEAST * n
            canvas.text(x + left, at, word, _LEAST, bold=False, even=False, colour=_INK)

    def _code(self) -> None:
        card = self._card
        if card.code:
            rows = code_matrix(card.code)
            # mm of a square: smaller ones cannot be scanned; whole tenths, so that a picture's squares are of one size
            side = max(0.5, round(38.0 * self._scale / len(rows), 1))
            self.y = round(self.y, 1)
            if self._draws:
                self._canvas.box(_MARGIN, self.y, side * len(rows), side * len(rows), line=None, fill=(255, 255, 255))
                for y, row in enumerate(rows):
                    x = 0
                    for dark, run in itertools.groupby(row):
                        count = sum(1 for _ in run)
                        if dark:
                            at = _MARGIN + x * side, self.y + y * side, count * side, side + _SEAM
                            self._canvas.box(*at, line=None, fill=(0, 0, 0))
                        x += count
            self.y += side * len(rows) + 1.0
        if card.code_note:
            self._words(card.code_note, _SMALL)


def _in_cell(name: str) -> tuple[str, ...]:
    """A character's name in lines of its cell."""
    return _IN_CELLS.get(name) or tuple(name.split(" ")[:2]) if name else ()


# Letters


_TYPEFACES = Path(__file__).with_name("faces")


@cache
def _letters(name: str) -> frozenset[int]:
    """The code points that a typeface draws."""
    from fontTools.ttLib import TTFont  # type: ignore[import-untyped]

    with TTFont(_TYPEFACES / f"{name}.ttf", lazy=True) as font:
        return frozenset(font.getBestCmap())


def _draws(letter: str) -> bool:
    """Whether a letter can be drawn as it should be."""
    backwards = unicodedata.bidirectional(letter) in ("R", "AL", "AN")  # needs its line turned, and its letters joined
    return not backwards and unicodedata.category(letter) != "Cc" and ord(letter) in _letters("DejaVuSans")


def _shown(words: str) -> str:
    """A text with a box for each letter that cannot be drawn."""
    if words.isascii() and words.isprintable():
        return words
    return "".join(letter if _draws(letter) else _LACKS for letter in unicodedata.normalize("NFC", words))


def _face(words: str, *, bold: bool, even: bool) -> str:
    """The file of the typeface that draws a text."""
    style = "-Bold" if bold else ""
    if even and (words.isascii() or all(ord(letter) in _letters(f"DejaVuSansMono{style}") for letter in words)):
        return f"DejaVuSansMono{style}"
    return f"DejaVuSans{style}"


def lacking(card: Card) -> str:
    """The letters of a card that cannot be drawn, each once: on paper and on the picture a box stands for them."""
    told = [card.rig, card.feed, card.device, card.model, card.destination, *card.before, *card.after, *card.warnings, card.code_note]
    told += [word for step in card.steps for word in (*step.path, step.value, step.meaning, step.hidden)]
    told += [fact.text for fact in card.facts]
    return "".join(dict.fromkeys(c for c in unicodedata.normalize("NFC", "".join(told)) if not _draws(c)))


# PDF


class _Paper:
    """A page of a PDF."""

    def __init__(self) -> None:
        from fpdf import FPDF

        self.pdf = FPDF(unit="mm", format="A4")
        self.pdf.set_auto_page_break(False)
        self.pdf.add_page()
        self._widths: dict[tuple[str, bool, bool], float] = {}  # of what was measured, in letters of 1 mm

    def _font(self, words: str, size: float, *, bold: bool, even: bool) -> str:
        """Chooses it; the text as it can be drawn."""
        shown = _shown(words)
        name = _face(shown, bold=bold, even=even)
        if name.lower() not in self.pdf.fonts:
            self.pdf.add_font(name, fname=_TYPEFACES / f"{name}.ttf")
        self.pdf.set_font(name, size=size * _POINTS)
        return shown

    def width(self, words: str, size: float, *, bold: bool, even: bool) -> float:
        if (words, bold, even) not in self._widths:
            self._widths[words, bold, even] = float(self.pdf.get_string_width(self._font(words, 1.0, bold=bold, even=even)))
        return self._widths[words, bold, even] * size

    def text(self, x: float, y: float, words: str, size: float, *, bold: bool, even: bool, colour: Colour) -> None:
        shown = self._font(words, size, bold=bold, even=even)
        self.pdf.set_text_color(*colour)
        self.pdf.text(x, y + size * 0.8, shown)

    def box(self, x: float, y: float, width: float, height: float, *, line: Colour | None, fill: Colour | None) -> None:
        self.pdf.set_line_width(0.2)
        if line is not None:
            self.pdf.set_draw_color(*line)
        if fill is not None:
            self.pdf.set_fill_color(*fill)
        self.pdf.rect(x, y, width, height, style=("D" if line is not None else "") + ("F" if fill is not None else ""))


def pdf(card: Card) -> bytes:
    """One sheet of A4: the letters are as small as that needs. Raises UnusableInput where that cannot be read any more."""
    _typed(card)
    paper, scale = _Paper(), 1.0
    while _Layout(card, paper, scale, _PAGE, draws=False).run() > _HEIGHT:
        scale -= 0.04
        if scale < _SMALLEST:
            raise UnusableInput("the card does not fit one sheet of paper: take .html or .txt")
    _Layout(card, paper, scale, _PAGE, draws=True).run()
    paper.pdf.set_title(f"{card.feed}: {card.device}")
    return bytes(paper.pdf.output())


def _typed(card: Card) -> None:
    """Raises UnusableInput where what is to be typed has letters that cannot be drawn."""
    for step in card.steps:
        if step.kind == "type" and _shown(step.value) != step.value:
            raise UnusableInput("what is to be typed has letters that cannot be drawn here: take .html")


# PNG

_DOTS = 10.0  # px in a mm
_PHONE = 108.0  # mm: a picture of 1080 px


@cache
def _font(name: str, size: float) -> ImageFont.FreeTypeFont:
    from PIL import ImageFont

    return ImageFont.truetype(str(_TYPEFACES / f"{name}.ttf"), max(4.0, size * 0.82 * _DOTS))


class _Picture:
    """A picture that is as high as the card."""

    def __init__(self, height: float) -> None:
        from PIL import Image, ImageDraw

        self.image = Image.new("RGB", (round(_PHONE * _DOTS), max(1, round(height * _DOTS))), (255, 255, 255))
        self._draw = ImageDraw.Draw(self.image)

    def width(self, words: str, size: float, *, bold: bool, even: bool) -> float:
        shown = _shown(words)
        font = _font(_face(shown, bold=bold, even=even), round(size, 2))
        return float(self._draw.textlength(shown, font=font)) / _DOTS

    def text(self, x: float, y: float, words: str, size: float, *, bold: bool, even: bool, colour: Colour) -> None:
        shown = _shown(words)
        font = _font(_face(shown, bold=bold, even=even), round(size, 2))
        self._draw.text((x * _DOTS, y * _DOTS), shown, fill=colour, font=font)

    def box(self, x: float, y: float, width: float, height: float, *, line: Colour | None, fill: Colour | None) -> None:
        corner = (x * _DOTS, y * _DOTS, (x + width) * _DOTS - 1, (y + height) * _DOTS - 1)
        self._draw.rectangle(corner, outline=line, fill=fill, width=2)


def png(card: Card) -> bytes:
    """A picture 1080 px wide, for a phone. Raises UnusableInput where what is to be typed cannot be drawn."""
    _typed(card)
    scale = 0.92
    height = _Layout(card, _Picture(1), scale, _PHONE, draws=False).run()
    picture = _Picture(height)
    _Layout(card, picture, scale, _PHONE, draws=True).run()
    out = io.BytesIO()
    picture.image.save(out, "PNG", optimize=True)
    return out.getvalue()
