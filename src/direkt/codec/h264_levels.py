"""The levels of H.264 (ITU-T H.264, A.3): which picture size, rate, bitrate and memory each of them allows."""

from __future__ import annotations

import math

from direkt.codec.bits import BitstreamError

# Table A-1: level, MaxMBPS, MaxFS, MaxDpbMbs, MaxBR (1000 bit/s, times the profile's factor of Table A-2 for a NAL HRD)
LEVELS = (
    ("1.0", 1485, 99, 396, 64), ("1.0b", 1485, 99, 396, 128), ("1.1", 3000, 396, 900, 192), ("1.2", 6000, 396, 2376, 384),
    ("1.3", 11880, 396, 2376, 768), ("2.0", 11880, 396, 2376, 2000), ("2.1", 19800, 792, 4752, 4000),
    ("2.2", 20250, 1620, 8100, 4000), ("3.0", 40500, 1620, 8100, 10000), ("3.1", 108000, 3600, 18000, 14000),
    ("3.2", 216000, 5120, 20480, 20000), ("4.0", 245760, 8192, 32768, 20000), ("4.1", 245760, 8192, 32768, 50000),
    ("4.2", 522240, 8704, 34816, 50000), ("5.0", 589824, 22080, 110400, 135000), ("5.1", 983040, 36864, 184320, 240000),
    ("5.2", 2073600, 36864, 184320, 240000), ("6.0", 4177920, 139264, 696320, 240000),
    ("6.1", 8355840, 139264, 696320, 480000), ("6.2", 16711680, 139264, 696320, 800000),
)  # fmt: skip
# cpbBrNalFactor of Table A-2, in thousands; 1.2 for baseline, main and extended
_FACTOR = {"high": 1.5, "high10": 3.6, "high422": 4.8, "high444": 4.8, "cavlc444": 4.8}


def lowest_level(width: int, height: int, frame_rate: float, bitrate: float, profile: str, references: int = 1, tier: str = "") -> str:
    """The lowest level (ITU-T H.264, A.3) that allows a picture (px), its rate (fps) and its bitrate (kbit/s, NAL). There are no tiers.

    Raises BitstreamError when none does.
    """
    columns, rows = -(-width // 16), -(-height // 16)
    size = columns * rows
    factor = _FACTOR.get(profile.removesuffix("-intra"), 1.2)
    for level, per_second, largest, held, most in LEVELS:
        side = math.sqrt(8 * largest)
        if (
            size <= largest and columns <= side and rows <= side and size * frame_rate <= per_second + 1e-6
            and size * references <= held and bitrate <= most * factor
        ):  # fmt: skip
            return level
    raise BitstreamError(f"no H.264 level allows {width}x{height} at {frame_rate:g} fps and {bitrate:g} kbit/s")


def bitrate_steps(profile: str) -> tuple[float, ...]:
    """The highest bitrate (kbit/s, NAL) of each level: the only ones at which a level changes for the bitrate."""
    factor = _FACTOR.get(profile.removesuffix("-intra"), 1.2)
    return tuple(sorted({most * factor for *_, most in LEVELS}))


def level_names() -> tuple[str, ...]:
    """The levels that there are, the lowest first."""
    return tuple(level for level, *_ in LEVELS)
