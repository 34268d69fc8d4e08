"""Edit lists (ISO/IEC 14496-12, 8.6.6): which samples of a track are shown, and when."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from direkt.media import Column, Samples


@dataclass(frozen=True, slots=True)
class Edit:
    """An entry of an edit list."""

    length: Fraction  # s; 0: to the end
    start: int | None  # ticks of the track; None: nothing is shown


@dataclass(frozen=True, slots=True)
class Played:
    """What an edit list leaves of a track, at the times at which it puts it."""

    samples: Samples
    numbers: Column  # of those samples in the track
    starts: int | None  # ticks in front of which nothing is shown; None: there is no edit list, which alone cuts
    cut: Fraction = Fraction(0)  # s of the track that are not shown


def play(
    samples: Samples, lengths: Column, edits: list[Edit], tick: Fraction, grain: Fraction, most: int
) -> Played:  # fmt: skip
    """Applies an edit list. A sample is shown where any part of it lies inside an edit.

    ``lengths``: how long each sample lasts, in ticks; ``grain``: s to which lengths of edits are rounded. Raises
    OverflowError when more than ``most`` samples are played.
    """
    if not any(edit.start is not None for edit in edits) or not len(samples):
        empty = round(sum((edit.length for edit in edits), Fraction(0)) / tick)
        return Played(replace(samples, dts=samples.dts + empty, pts=samples.pts + empty), np.arange(len(samples)), None)
    order = np.argsort(samples.pts, kind="stable")
    shown = samples.pts[order]
    longest, slack = int(lengths.max(initial=0)), round(grain / tick)
    kept, shifts, total = list[Column](), list[Column](), 0
    at, starts = Fraction(0), None
    for edit in edits:
        if edit.start is not None:
            place = round(at / tick)
            starts = place if starts is None else starts
            length = round(edit.length / tick)
            end = edit.start + (length + slack if length > slack else length) if length else int(shown[-1]) + 1
            low, high = np.searchsorted(shown, [edit.start - longest, end])
            part = np.sort(order[low:high])
            part = part[samples.pts[part] + lengths[part] > edit.start]
            total += len(part)
            if total > most:
                raise OverflowError
            kept.append(part)
            shifts.append(np.full(len(part), place - edit.start))
        at += edit.length
    numbers, shift = np.concatenate(kept), np.concatenate(shifts)
    cut = int(lengths.sum() - lengths[np.unique(numbers)].sum()) * tick
    played = Samples(
        samples.track, samples.data, samples.offset[numbers], samples.size[numbers], samples.dts[numbers] + shift,
        samples.pts[numbers] + shift, samples.marked[numbers],
    )  # fmt: skip
    return Played(played, numbers, starts, cut)
