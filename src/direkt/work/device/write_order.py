"""In which order several requests set a device so that what it is set to in between is valid as well."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

from direkt import parameters
from direkt.device.state import Channel
from direkt.parameters import Values

_MOST = 6  # requests of which every order is tried


def valid_order(channel: Channel, portions: Sequence[Values]) -> list[Values]:
    """The portions in an order whose steps all keep the device's own limits; as they came where there is none."""
    listed = [dict(portion) for portion in portions if portion]
    if len(listed) < 2 or len(listed) > _MOST:
        return listed
    for order in itertools.permutations(listed):
        now = dict(channel.values)
        if all(_fits(channel, now := {**now, **portion}) for portion in order):
            return list(order)
    return listed


def _fits(channel: Channel, values: Values) -> bool:
    full = parameters.expand_set(values)
    for law in channel.together:
        if law.holds(full) and not all(d.name not in full or d.allows(full[d.name]) for d in law.then):
            return False
        interval, rate = values.get("video.keyframe_interval.median"), values.get("video.frame_rate")
        if (
            law.pictures is not None
            and law.holds(full)
            and isinstance(interval, int | float)
            and isinstance(rate, int | float)
        ):
            low, high = law.pictures
            if not low <= parameters.keyframe_frames(interval, rate) <= high:
                return False
    return True
