"""What the headers of all video codecs say of a picture's shape, as parameters."""

from __future__ import annotations

import math

from direkt.media import Scalar

CHROMA = ("4:0:0", "4:2:0", "4:2:2", "4:4:4")  # by chroma_format_idc (H.264, Table 6-1)


def describe(
    shown: tuple[int, int],
    coded: tuple[int, int],
    sample_aspect: tuple[int, int] | None,
    chroma_format: int,
    bit_depth: int,
) -> dict[str, Scalar]:
    """Sizes in px, as shown and as coded; the sample aspect where the stream says it."""
    width, height = shown
    across, down = sample_aspect or (1, 1)
    values: dict[str, Scalar] = {
        "video.size": f"{width}x{height}", "video.width": width, "video.height": height,
        "video.coded_size": f"{coded[0]}x{coded[1]}", "video.chroma": CHROMA[chroma_format], "video.bit_depth": bit_depth,
        "video.display_aspect": _ratio(width * across, height * down),
    }  # fmt: skip
    if sample_aspect:
        values["video.sample_aspect"] = _ratio(*sample_aspect)
    return values


def _ratio(across: int, down: int) -> str:
    shared = math.gcd(across, down) or 1
    return f"{across // shared}:{down // shared}"
