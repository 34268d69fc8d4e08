"""The measured time in a line of block characters each: the bitrate with its limits, and where keyframes begin.

Every character has one width, and none carries its meaning by colour: what lies beyond a limit is marked below it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from direkt.finding import Finding
from direkt.measure.series import OverTime

_BLOCKS = " ▁▂▃▄▅▆▇█"
LEAST = 3  # columns of time that are worth a strip


@dataclass(frozen=True, slots=True)
class StripLine:
    """One line of characters, with what it shows in front and behind."""

    label: str
    cells: str
    beyond: tuple[bool, ...]  # of each cell: it lies outside what is required
    said: str


def lines(track: OverTime, findings: Sequence[Finding], width: int, breaks: Sequence[float] = ()) -> list[StripLine]:
    """The strip of a video track on at most ``width`` cells. ``breaks``: s at which the push was gone."""
    if len(track.kbit_s) < LEAST or width < LEAST:
        return []
    cells = min(width, len(track.kbit_s))
    low, high = limits(findings, "video.bitrate.mean", "video.bitrate.peak")
    rates = _columns(track.kbit_s, cells)
    top = max([*(most for _, most in rates), high or 0.0]) or 1.0
    bars = "".join(_BLOCKS[max(1, min(8, round(mean / top * 8)))] if mean > 0 else _BLOCKS[0] for mean, _ in rates)
    off = tuple((high is not None and mean > high) or (low is not None and mean < low) for mean, _ in rates)
    required = _span(low, high)
    said = f"{min(mean for mean, _ in rates):.0f} to {max(mean for mean, _ in rates):.0f} kbit/s" + (f"; required {required}" if required else "")
    return [StripLine("bitrate", bars, off, said), _keyframes(track, findings, cells, breaks)]


def _keyframes(track: OverTime, findings: Sequence[Finding], cells: int, breaks: Sequence[float]) -> StripLine:
    _, most = limits(findings, "video.keyframe_interval.max")
    length = max(track.seconds, track.width) / cells
    marks = ["·"] * cells
    late = [False] * cells
    before = 0.0
    for at in [*track.times, track.seconds]:
        if most is not None and at - before > most + 0.05:
            for n in range(min(cells - 1, int((before + most) / length)), min(cells, int(at / length) + 1)):
                late[n] = True
        before = at
    for at in track.times:
        marks[min(cells - 1, int(at / length))] = "|"
    for at in breaks:
        marks[min(cells - 1, int(at / length))] = "✗"
    said = f"{len(track.times)} in {track.seconds:.0f} s" + (f"; required at most {most:g} s apart" if most is not None else "")
    return StripLine("keyframes", "".join(marks), tuple(late), said)


def _columns(values: Sequence[float], cells: int) -> list[tuple[float, float]]:
    """Mean and most of as many groups of neighbours."""
    out = []
    for n in range(cells):
        part = values[n * len(values) // cells : max((n + 1) * len(values) // cells, n * len(values) // cells + 1)]
        out.append((sum(part) / len(part), max(part)))
    return out


def limits(findings: Sequence[Finding], *names: str) -> tuple[float | None, float | None]:
    """Least and most of what is required of the first of these that is, as a range."""
    for finding in findings:
        rule = finding.asked
        if finding.parameter in names and rule is not None and rule.must is not None and rule.must.bounded:
            ends = (rule.must.minimum, rule.must.maximum)
            low, high = (float(end) if isinstance(end, int | float) else None for end in ends)
            return low, high
    return None, None


def _span(low: float | None, high: float | None) -> str:
    if low is not None and high is not None:
        return f"{low:.0f} to {high:.0f}"
    return f"at most {high:.0f}" if high is not None else f"at least {low:.0f}" if low is not None else ""


