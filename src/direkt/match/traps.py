"""What often goes wrong though no rule of a sheet says it: said beside a plan, never instead of one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from direkt import parameters
from direkt.destination.sheet import Sheet
from direkt.device.state import Channel
from direkt.match.terms import BITRATE, RATE, SIZE, SOUND, Circumstances, fits_mains
from direkt.parameters import Values

_FACTORS = ((8.0, "kB/s is 8 kbit/s"), (1000.0, "Mbit/s is 1000 kbit/s, bit/s a thousandth"))
_NEAR = 0.03  # as a share: how far off a factor may be and still be one


@dataclass(frozen=True, slots=True)
class PlannedChannel:
    """A channel as it is and as it is to be, for a sheet."""

    channel: Channel
    old: Values
    new: Values
    sheet: Sheet
    around: Circumstances


def _bitrate_unit(at: PlannedChannel) -> list[str]:
    """A bitrate that is off by the factor of another unit."""
    before, after = at.old.get(BITRATE), at.new.get(BITRATE)
    if not isinstance(before, int | float) or not isinstance(after, int | float) or min(before, after) <= 0:
        return []
    times = max(before / after, after / before)
    for factor, words in _FACTORS:
        if abs(times / factor - 1) < _NEAR:
            way = "above" if before > after else "below"
            return [
                f"the bitrate was set {times:.0f} times {way} what is required, as if in another unit ({words}): look at the unit on the "
                "device's page"
            ]
    return []


def _sensor(at: PlannedChannel) -> list[str]:
    """A sensor of another shape than the picture: cropped it is right, stretched it is not."""
    source = at.channel.source or at.around.signal
    size = at.new.get(SIZE)
    if source is None or not source.width or not source.height or size is None:
        return []
    width, height = parameters.size_of(size)
    shape, sensor = width / height, source.width / source.height
    if abs(shape / sensor - 1) < 0.02:
        return []
    return [
        f"the source is {source.width}x{source.height} ({parameters.reduce_ratio(source.width, source.height)}), the picture "
        f"{size} ({parameters.reduce_ratio(width, height)}): look at a round thing in it; a circle must stay one (cropped, not stretched)"
    ]


def _rate(at: PlannedChannel) -> list[str]:
    """More pictures than the source has."""
    rate, signal = at.new.get(RATE), at.around.signal
    if signal is None or not signal.frame_rate or not isinstance(rate, int | float) or rate <= signal.frame_rate + 0.01:
        return []
    return [f"{rate:g} fps is more than the source gives ({signal.frame_rate:g} fps): pictures would be repeated"]


def _sound(at: PlannedChannel) -> list[str]:
    """Sound that is turned on for the destination's sake alone."""
    rule = at.sheet.rules.get(SOUND)
    wanted = rule is not None and rule.must is not None and rule.must.allows("yes") and not rule.must.allows("no")
    if wanted and at.old.get(SOUND) == "no" and at.new.get(SOUND) == "yes":
        return [
            "sound is required even where none is wanted: then turn the microphone's level to zero, not the sound off"
        ]
    return []


def _mains(at: PlannedChannel) -> list[str]:
    """Lamps that flicker."""
    rate, mains = at.new.get(RATE), at.around.mains
    if mains is None or not isinstance(rate, int | float) or fits_mains(rate, mains):
        return []
    return [f"{rate:g} fps under lights on {mains} Hz flickers: set the shutter to 1/{2 * mains} s or a multiple of it"]


def _channel(at: PlannedChannel) -> list[str]:
    """Another channel than the main one."""
    name = at.channel.name
    if name == "main" or name.endswith("-main"):
        return []
    return [f"this is the {name} channel of the device: push the main one unless it is meant"]


TRAPS: tuple[Callable[[PlannedChannel], list[str]], ...] = (_bitrate_unit, _sensor, _rate, _sound, _mains, _channel)


def notes(channel: Channel, old: Values, new: Values, sheet: Sheet, around: Circumstances) -> list[str]:
    """What each trap says, in their order."""
    planned = PlannedChannel(channel, old, new, sheet, around)
    return [line for trap in TRAPS for line in trap(planned)]
