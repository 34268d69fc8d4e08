"""What arrives at a device's input."""

from __future__ import annotations

import re
from dataclasses import dataclass

_INPUT = re.compile(r"(?:(\d{3,5})\s*x\s*)?(\d{3,5})\s*([pi])\s*(\d{1,3}(?:\.\d+)?)", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class InputSignal:
    """What arrives at the device's input, or what its sensor gives."""

    text: str  # as the device says it
    width: int = 0  # px
    height: int = 0  # px
    frame_rate: float = 0.0  # fps
    scan: str = "progressive"


def input_signal(text: str) -> InputSignal:
    """An input format such as ``1080p50``, ``1080i59.94`` or ``3840x1920p30``; of a 16:9 picture where no width is told."""
    match = _INPUT.search(text)
    if match is None:
        return InputSignal(text)
    height, rate = int(match[2]), float(match[4])
    scan = "interlaced" if match[3].lower() == "i" else "progressive"
    return InputSignal(text, int(match[1]) if match[1] else round(height * 16 / 9), height, rate, scan)
