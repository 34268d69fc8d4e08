"""The levels of H.265 (ITU-T H.265, A.4): which picture size, rate, bitrate and memory each of them allows."""

from __future__ import annotations

import math

from direkt.codec.bits import BitstreamError

# Tables A.8 and A.9: level, MaxLumaPs, MaxLumaSr, MaxBR of the main tier and of the high tier (1000 bit/s; 0: no such tier)
LEVELS = (
    ("1.0", 36864, 552960, 128, 0), ("2.0", 122880, 3686400, 1500, 0), ("2.1", 245760, 7372800, 3000, 0),
    ("3.0", 552960, 16588800, 6000, 0), ("3.1", 983040, 33177600, 10000, 0), ("4.0", 2228224, 66846720, 12000, 30000),
    ("4.1", 2228224, 133693440, 20000, 50000), ("5.0", 8912896, 267386880, 25000, 100000),
    ("5.1", 8912896, 534773760, 40000, 160000), ("5.2", 8912896, 1069547520, 60000, 240000),
    ("6.0", 35651584, 1069547520, 60000, 240000), ("6.1", 35651584, 2139095040, 120000, 480000),
    ("6.2", 35651584, 4278190080, 240000, 800000),
)  # fmt: skip
_FACTOR = 1.1  # CpbNalFactor of Table A.10 for main and main10, in thousands
_HELD = 6  # maxDpbPicBuf (A.4.2)


def _pictures(size: int, largest: int) -> int:
    """MaxDpbSize (A.4.2): pictures that the decoder keeps, the one being decoded among them."""
    for share, times in ((4, 4), (2, 2), (4 / 3, 4 / 3)):
        if size * share <= largest:
            return min(int(times * _HELD), 16)
    return _HELD


def lowest_level(width: int, height: int, frame_rate: float, bitrate: float, profile: str, references: int = 1) -> str:
    """The lowest level (A.4) that allows a picture (px), its rate (fps) and its bitrate (kbit/s, NAL, in either tier).

    Raises BitstreamError when none does.
    """
    size = width * height
    for level, largest, per_second, main, high in LEVELS:
        side = math.sqrt(8 * largest)
        if (
            size <= largest and width <= side and height <= side and size * frame_rate <= per_second + 1e-3
            and references < _pictures(size, largest) and bitrate <= max(main, high) * _FACTOR
        ):  # fmt: skip
            return level
    raise BitstreamError(f"no H.265 level allows {width}x{height} at {frame_rate:g} fps and {bitrate:g} kbit/s")


def bitrate_steps(profile: str) -> tuple[float, ...]:
    """The highest bitrate (kbit/s, NAL) of each level, in its higher tier: where a level changes for the bitrate."""
    return tuple(sorted({max(main, high) * _FACTOR for *_, main, high in LEVELS}))
