"""How codecs' levels limit a stream: the table of each codec that has one."""

from __future__ import annotations

import importlib
from typing import Protocol, cast

_TABLES = {"h264": "h264_levels", "h265": "h265_levels"}


class LevelTable(Protocol):
    """How a codec's levels limit a stream."""

    def lowest_level(
        self, width: int, height: int, frame_rate: float, bitrate: float, profile: str, references: int = 1, tier: str = ""
    ) -> str:
        """The lowest level, in the words of video.level, for a picture (px), rate (fps) and bitrate (kbit/s).

        Raises BitstreamError when none allows it.
        """

    def bitrate_steps(self, profile: str) -> tuple[float, ...]:
        """The highest bitrate (kbit/s) of each level."""

    def level_names(self) -> tuple[str, ...]:
        """The levels that there are, the lowest first."""


def levels(codec: str) -> LevelTable | None:
    """The level table of a codec; None where nothing here knows one."""
    module = _TABLES.get(codec)
    return cast(LevelTable, importlib.import_module(f"direkt.codec.{module}")) if module is not None else None
