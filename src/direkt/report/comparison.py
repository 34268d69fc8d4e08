"""Two measurements beside each other: what differs, in words, and what is the same."""

from __future__ import annotations

from dataclasses import dataclass

from direkt import parameters
from direkt.measure.meter import Measurement
from direkt.parameters import Measured, Value

# What differs between any two streams, whatever they are
_ANY = ("stream.duration", "audio.duration", "stream.pace", "stream.packet_jitter", "video.pictures_repeated", "video.frame_jitter")


_BY_SIZE = ("video.width", "video.height", "video.coded_size")  # what the size says already


@dataclass(frozen=True, slots=True)
class Difference:
    """One parameter in which two streams differ; None: it was not measured."""

    parameter: str
    label: str
    a: Value | None
    b: Value | None
    a_text: str
    b_text: str


@dataclass(frozen=True, slots=True)
class Comparison:
    """What differs, what is the same, and what nobody can tell since one of them does not say it."""

    differs: tuple[Difference, ...]
    same: tuple[str, ...]
    one_sided: tuple[Difference, ...]


def compare(a: Measurement, b: Measurement) -> Comparison:
    """Both measured on the stream itself; a difference that measuring alone may make is none."""
    differs: list[Difference] = []
    one_sided: list[Difference] = []
    same: list[str] = []
    for name in parameters.in_table_order({**a.found, **b.found}):
        if name in _ANY or (name in _BY_SIZE and "video.size" in a.found and "video.size" in b.found):
            continue
        left, right = a.found.get(name), b.found.get(name)
        if left is not None and right is not None and _alike(name, left, right):
            same.append(name)
            continue
        one = Difference(
            name, parameters.find(name).label, left.value if left is not None else None, right.value if right is not None else None,
            parameters.show_measured(name, left), parameters.show_measured(name, right),
        )  # fmt: skip
        (one_sided if left is None or right is None else differs).append(one)
    return Comparison(tuple(differs), tuple(same), tuple(one_sided))


def _alike(name: str, a: Measured, b: Measured) -> bool:
    """Whether two measured values can be the same: exactly, as measuring goes, or because one of them is open on that side."""
    if parameters.same(name, a.value, b.value, measured=True):
        return True
    if isinstance(a.value, str) or isinstance(b.value, str):
        return False
    for one, other in ((a, b), (b, a)):
        if one.bound is not None and (float(other.value) >= float(one.value)) is (one.bound == "at least"):
            return True
    spread = (a.uncertainty or 0.0) + (b.uncertainty or 0.0)
    return abs(float(a.value) - float(b.value)) <= spread
