"""What a device says of itself beside the channel that pushes: the evidence for causes that a stream alone does not show."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from direkt.parameters import Values


@dataclass(frozen=True, slots=True)
class Preset:
    """One word of a field that stands for several parameters."""

    field: str  # where it is, in the device's words: LIVE > QUALITY
    word: str  # B 720/50
    values: Values


@dataclass(frozen=True, slots=True)
class DeviceSide:
    """What the device says of itself beside the settings of the channel that pushes; it may all be unknown."""

    channel: str = ""  # that should push
    settings: Values = field(default_factory=dict)  # of that channel
    others: Mapping[str, Values] = field(default_factory=dict)  # of its other channels, by name
    restart_needed: bool = False  # what it is set to is not in force
    source: tuple[int, int] | None = None  # px of the sensor or of the input
    presets: tuple[Preset, ...] = ()  # those that it has
