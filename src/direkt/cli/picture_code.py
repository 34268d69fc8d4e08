"""A picture code (QR) on a terminal, from half blocks."""

from __future__ import annotations

import contextlib
import sys
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rich.console import Console


def print_code(out: Console, text: str) -> None:
    """Prints it, where the terminal is wide enough and can show it."""
    from direkt.report.card import code_matrix

    with contextlib.suppress(ValueError):
        rows = code_matrix(text, "l")
        width = len(rows[0])
        if width > out.width or not (sys.stdout.encoding or "").lower().startswith("utf"):
            return
        if len(rows) % 2:
            rows.append([False] * width)
        for upper, lower in zip(rows[::2], rows[1::2], strict=True):
            cells = "".join(" ▄▀█"[(not a) * 2 + (not b)] for a, b in zip(upper, lower, strict=True))
            out.print(f"[white on black]{cells}[/]", highlight=False)
