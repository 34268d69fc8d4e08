"""The contact sheet: one picture for each camera with its name, size and time, and what is wrong with it."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from dataclasses import dataclass

from PIL import Image, ImageChops, ImageDraw, ImageStat, UnidentifiedImageError

from direkt.errors import UnusableInput

_WIDTH, _HEIGHT, _LABEL, _GAP = 400, 225, 58, 16  # px of a tile, its label, and between tiles
_DARK = 12.0  # mean brightness, of 255, below which a picture is black
_FLAT = 4.0  # deviation below which nothing is to be seen
_MOST_PIXELS = 60_000_000
_INK, _PAPER, _ALARM = (24, 28, 32), (244, 244, 240), (176, 24, 24)


@dataclass(frozen=True, slots=True)
class Shot:
    """What one camera gave."""

    name: str
    picture: bytes = b""  # JPEG; empty: none
    later: bytes = b""  # a second one, a moment later
    time: str = ""  # when the first was taken
    trouble: str = ""  # why there is none

    @property
    def size(self) -> str:
        """Width and height in px; empty without a picture."""
        return "x".join(map(str, opened(self.picture).size)) if self.picture else ""

    @property
    def remark(self) -> str:
        """What is wrong with the picture; empty: nothing that could be seen."""
        if self.trouble:
            return self.trouble
        first = opened(self.picture).convert("L")
        stat = ImageStat.Stat(first)
        if stat.mean[0] < _DARK and stat.stddev[0] < _DARK:
            return "black: is the lens cap on, is there light?"
        if stat.stddev[0] < _FLAT:
            return "one plain colour: is the lens covered?"
        if self.later and self.is_frozen(first):
            return "frozen: two pictures a moment apart are the same"
        return ""

    def is_frozen(self, first: Image.Image) -> bool:
        """Whether the second picture is the first one again. A still scene has noise, a frozen picture has none."""
        second = opened(self.later).convert("L")
        return second.size == first.size and ImageChops.difference(first, second).getbbox() is None


def opened(data: bytes) -> Image.Image:
    """A picture, read whole. Raises UnusableInput."""
    try:
        found = Image.open(io.BytesIO(data))
        if found.size[0] * found.size[1] > _MOST_PIXELS:
            raise UnusableInput(f"a picture of {found.size[0]}x{found.size[1]} px, which is too large")
        found.load()
        return found
    except (UnidentifiedImageError, OSError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
        raise UnusableInput(f"a picture that cannot be read: {str(error).splitlines()[0][:80]}") from None


def contact_sheet(shots: Sequence[Shot], title: str) -> Image.Image:
    """All pictures on one page, in rows."""
    columns = min(4, max(1, math.ceil(math.sqrt(len(shots)))))
    rows = math.ceil(len(shots) / columns)
    page = Image.new(
        "RGB", (columns * (_WIDTH + _GAP) + _GAP, rows * (_HEIGHT + _LABEL + _GAP) + _GAP + 40), _PAPER
    )  # fmt: skip
    draw = ImageDraw.Draw(page)
    draw.text((_GAP, 12), title, fill=_INK, font_size=22)
    for n, shot in enumerate(shots):
        x = _GAP + n % columns * (_WIDTH + _GAP)
        y = _GAP + 40 + n // columns * (_HEIGHT + _LABEL + _GAP)
        _tile(page, draw, shot, x, y)
    return page


def _tile(page: Image.Image, draw: ImageDraw.ImageDraw, shot: Shot, x: int, y: int) -> None:
    remark = shot.remark
    draw.rectangle(
        (x - 1, y - 1, x + _WIDTH, y + _HEIGHT), fill=(60, 60, 60), outline=_ALARM if remark else (120, 120, 120)
    )
    if shot.picture:
        picture = opened(shot.picture).convert("RGB")
        picture.thumbnail((_WIDTH, _HEIGHT))
        page.paste(picture, (x + (_WIDTH - picture.width) // 2, y + (_HEIGHT - picture.height) // 2))
    else:
        draw.text((x + 12, y + _HEIGHT // 2 - 10), "no picture", fill=(230, 230, 230), font_size=18)
    draw.text((x, y + _HEIGHT + 4), _fitting(draw, shot.name, 18), fill=_INK, font_size=18)
    told = "  ".join(filter(None, (shot.size, shot.time)))
    draw.text(
        (x, y + _HEIGHT + 26),
        _fitting(draw, f"! {remark}" if remark else told, 13),
        fill=_ALARM if remark else _INK,
        font_size=13,
    )
    if remark and told:
        draw.text((x, y + _HEIGHT + 42), told, fill=_INK, font_size=13)


def _fitting(draw: ImageDraw.ImageDraw, text: str, size: int) -> str:
    """As much of a text as a tile is wide."""
    if draw.textlength(text, font_size=size) <= _WIDTH:
        return text
    while text and draw.textlength(text + "...", font_size=size) > _WIDTH:
        text = text[:-1]
    return text + "..."
