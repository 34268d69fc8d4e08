"""What the parts of matching share: names of settings, who asks, and how far a value is from a wish."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache, lru_cache

from direkt import parameters
from direkt.demand import Demand
from direkt.destination.sheet import Rule, Sheet, audio_rule, rung_rule
from direkt.device.input import InputSignal
from direkt.parameters import Value, Values

CODEC = "video.codec"
SIZE, RATE, BITRATE, INTERVAL = "video.size", "video.frame_rate", "video.bitrate.mean", "video.keyframe_interval.median"
SOUND, SOUND_BITRATE, CHANNELS, ADAPTIVE = "audio.present", "audio.bitrate.mean", "audio.channels", "video.adaptive"
SOURCE, UPLINK, PROTOCOL, PUSH = "what the source gives", "the uplink", "stream.protocol", "the push"

ROUND_TO = 100  # kbit/s: what people write


@dataclass(frozen=True, slots=True)
class SheetDemand:
    """A sheet that the channel has to meet, and for which feed; empty: the feed in question."""

    sheet: Sheet
    feed: str = ""


@dataclass(frozen=True, slots=True)
class Circumstances:
    """What settings meet beside the sheet."""

    signal: InputSignal | None  # None: no signal
    uplink: float | None = None  # kbit/s of video and audio
    protocol: str | None = None  # by which the push goes
    mains: int | None = None  # Hz of the light's flicker


def rules_on(sheet: Sheet, setting: str, values: Values) -> list[Rule]:
    """The rules on parameters that a setting governs, beside these values; the one on its own name first."""
    rules = sheet.rules_for(parameters.expand_set(values))
    found = [rule for name, rule in rules.items() if parameters.setting_of(name) == setting]
    return sorted(found, key=lambda rule: rule.name != setting)


def takes(demand: Demand | None, setting: str, value: Value) -> bool:
    """Whether a demand takes what follows from setting ``setting`` to ``value``."""
    if demand is None:
        return True
    follows = following(setting, value, demand.name)
    return follows is None or demand.allows(follows)


@lru_cache(4096)
def following(setting: str, value: Value, name: str) -> Value | None:
    """What a parameter is where a setting has this value; None where nothing follows."""
    return parameters.expand_set({setting: value}).get(name)


def distance(a: Value | None, b: Value | None) -> float:
    """How far apart two values are, as a share of the second; 1 for words that differ."""
    if isinstance(a, int | float) and isinstance(b, int | float):
        return abs(a - b) / max(abs(b), 1e-9) if b else abs(a)
    return 0.0 if a == b else 1.0


def area_distance(a: Value | None, b: Value | None) -> float:
    """How many pixels two sizes differ by."""
    if a is None or b is None:
        return 0.0
    (aw, ah), (bw, bh) = parameters.size_of(a), parameters.size_of(b)
    return float(abs(aw * ah - bw * bh))


def in_family(signal: InputSignal | None, rate: Value) -> bool:
    """Whether the input's rate is a whole multiple: 50 gives 50 and 25, 59.94 gives 29.97 but not 30."""
    if signal is None or not signal.frame_rate or isinstance(rate, str) or rate <= 0:
        return True
    times = signal.frame_rate / rate
    return round(times) >= 1 and abs(signal.frame_rate - round(times) * rate) < 0.006 * round(times)


def off_by(demand: Demand, setting: str, value: Value | None, *, coarse: bool = False) -> float:
    """How far a value is from what a demand takes, as a share of that; ``coarse``: in steps of 100 kbit/s."""
    if value is None:
        return 1.0
    shown = following(setting, value, demand.name)
    if shown is None or demand.allows(shown):
        return 0.0
    near = demand.nearest(shown)
    if coarse and isinstance(near, int | float) and isinstance(value, int | float):
        return float(math.ceil(abs(near - value) / ROUND_TO - 1e-9))
    return distance(shown, near)


def fits_mains(rate: Value, mains: int) -> bool:
    """Whether light at this mains frequency does not flicker at a rate: 50 Hz wants 25, 50; 60 Hz wants 29.97 to 60."""
    if isinstance(rate, str) or rate <= 0:
        return True
    flicker = 2.0 * mains  # lamps blink twice a period
    times = flicker / rate
    return abs(times - round(times)) < 0.01 * times


def rungs(sheet: Sheet) -> Callable[[Values], Rule | None]:
    """What a sheet says of the video bitrate beside a size, a rate and a codec."""

    @cache
    def rule(size: Value | None, rate: Value | None, codec: Value | None) -> Rule | None:
        if size is not None and isinstance(rate, int | float):
            rung = sheet.rung_for(*parameters.size_of(size), rate, None if codec is None else str(codec))
            if rung is not None:
                return rung_rule(rung)
        return sheet.rules.get(BITRATE)

    return lambda values: rule(values.get(SIZE), values.get(RATE), values.get(CODEC))


def audio_step_rule(sheet: Sheet, channels: Value | None) -> Rule | None:
    step = next((s for s in sheet.audio_ladder if s.channels == channels), None)
    return audio_rule(step) if step is not None else sheet.rules.get(SOUND_BITRATE)
