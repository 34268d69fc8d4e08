"""What a push carries."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Load:
    """What a push carries."""

    video: float  # kbit/s
    audio: float  # kbit/s
    frame_rate: float  # pictures a second
    audio_frames: float = 46.875  # audio frames a second: 1024 samples of 48 kHz
