"""A picture code (QR) on a terminal, from half blocks."""

from __future__ import annotations

import contextlib
import sys
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.console import Console


def print_code(out: Console, text: str) -> None:
    """Prints it, where the terminal is wide enough and can show it."""
    import segno

    with contextlib.suppress(ValueError):
        made = segno.make(text, error="l", micro=False)
        width = int(made.symbol_size(border=2)[0])
        if width > out.width or not (sys.stdout.encoding or "").lower().startswith("utf"):
            return
        rows = [[bool(cell) for cell in row] for row in made.matrix_iter(border=2)]
        if len(rows) % 2:
            rows.append([False] * width)
        for upper, lower in zip(rows[::2], rows[1::2], strict=True):
            cells = "".join(" ▄▀█"[(not a) * 2 + (not b)] for a, b in zip(upper, lower, strict=True))
            out.print(f"[white on black]{cells}[/]", highlight=False)
