"""What a number's digits mean: 4.500 is four and a half, or four thousand five hundred.

The table's own habit decides where it shows one (4,5 elsewhere: the comma is the decimal mark), and what the number
counts has to be possible: nobody sends video at 4.5 kbit/s. Where both remain, or habit and sense disagree, the number
stays open.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from direkt.destination.published.words.tokens import NumberToken

# From, to: what a parameter can sensibly be, in its own unit
PLAUSIBLE: dict[str, tuple[float, float]] = {
    "video.bitrate.mean": (60, 400_000),
    "video.bitrate.peak": (60, 800_000),
    "stream.bitrate.mean": (60, 800_000),
    "audio.bitrate.mean": (6, 6_000),
    "audio.bitrate.peak": (6, 12_000),
    "audio.sample_rate": (7_000, 400_000),
    "video.frame_rate": (5, 300),
    "video.keyframe_interval": (0.05, 60),
    "video.buffer": (0.01, 60),
    "video.width": (64, 16_384),
    "video.height": (64, 16_384),
    "audio.channels": (1, 24),
    "video.b_frames": (0, 16),
    "video.reference_frames": (0, 16),
    "video.slices": (1, 600),
    "video.bit_depth": (8, 16),
    "video.level": (1, 6.2),
    "session.longest_hours": (0.01, 10_000),
    "session.shows_after_s": (0, 7200),
    "session.lead_time_hours": (0, 10_000),
    "key.lives": (0.01, 100_000),
    "peak_percent": (0, 1000),
}
# Written with a point everywhere, whatever the habit
_NAMES = frozenset(
    [23.976, 23.98, 29.97, 47.95, 59.94, 119.88, 5.1, 7.1, 2.0, 2.1, 1.0, 4.0, 4.1, 4.2, 5.0, 5.2, 3.0, 3.1, 3.2]
)


@dataclass(frozen=True, slots=True)
class Habit:
    """The decimal mark that the table shows elsewhere: "." or ","; empty where it shows none or both."""

    mark: str = ""


def habit_of(numbers: Iterable[NumberToken]) -> Habit:
    """The habit that all ``numbers`` of a table show."""
    seen = set()
    for number in numbers:
        if number.plain is not None and number.mark and not (number.mark == "." and number.plain in _NAMES):
            seen.add(number.mark)
    return Habit(seen.pop() if len(seen) == 1 else "")


def resolve(number: NumberToken, what: str, factor: float, habit: Habit) -> float | None:
    """The one value in ``what``'s own unit that ``number`` can have; None where it stays open."""
    low, high = PLAUSIBLE.get(what, (0.0, float("inf")))
    if number.plain is not None:
        return _tidy(number.plain * factor)
    if number.thousands is None or number.decimal is None:
        return None if number.decimal is None else _tidy(number.decimal * factor)
    possible = [v for v in (number.thousands, number.decimal) if low <= v * factor <= high]
    if habit.mark:
        meant = number.decimal if number.mark == habit.mark else number.thousands
        return _tidy(meant * factor) if meant in possible else None
    return _tidy(possible[0] * factor) if len(possible) == 1 else None


def _tidy(value: float) -> float:
    rounded = round(value, 6)
    return int(rounded) if rounded == int(rounded) else rounded
