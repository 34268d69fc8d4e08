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
# BrNalFactor of Table A.10, in thousands; 1.1 for main and main10
_FACTORS = {
    "monochrome": 0.733, "monochrome-12": 1.1, "monochrome-16": 1.467, "main12": 1.65, "main422-10": 1.833, "main422-12": 2.2,
    "main444": 2.2, "main444-10": 2.75, "main444-12": 3.3, "main444-16": 4.4,
}  # fmt: skip
_HELD = 6  # maxDpbPicBuf (ITU-T H.265, A.4.2)


def _pictures(size: int, largest: int) -> int:
    """MaxDpbSize (ITU-T H.265, A.4.2): pictures that the decoder keeps, the one being decoded among them."""
    for share, times in ((4, 4), (2, 2), (4 / 3, 4 / 3)):
        if size * share <= largest:
            return min(int(times * _HELD), 16)
    return _HELD


def _factor(profile: str) -> float:
    return _FACTORS.get(profile.removesuffix("-intra"), 1.1)


def lowest_level(
    width: int, height: int, frame_rate: float, bitrate: float, profile: str, references: int = 1, tier: str = ""
) -> str:
    """The lowest level (ITU-T H.265, A.4) that allows a picture (px), its rate (fps) and its bitrate (kbit/s, NAL).

    ``tier``: "main" or "high"; empty: in either. Raises BitstreamError when none does.
    """
    size, factor = width * height, _factor(profile)
    for level, largest, per_second, main, high in LEVELS:
        side = math.sqrt(8 * largest)
        if (
            size <= largest and width <= side and height <= side and size * frame_rate <= per_second + 1e-3
            and references < _pictures(size, largest) and bitrate <= (main if tier == "main" else max(main, high)) * factor
        ):  # fmt: skip
            return level
    raise BitstreamError(f"no H.265 level allows {width}x{height} at {frame_rate:g} fps and {bitrate:g} kbit/s")


def bitrate_steps(profile: str) -> tuple[float, ...]:
    """The highest bitrate (kbit/s, NAL) of each level, in its higher tier: where a level changes for the bitrate."""
    factor = _factor(profile)
    return tuple(sorted({max(main, high) * factor for *_, main, high in LEVELS}))


def level_names() -> tuple[str, ...]:
    """The levels that there are, the lowest first."""
    return tuple(level for level, *_ in LEVELS)
