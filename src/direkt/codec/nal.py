"""NAL units inside samples, behind lengths or between start codes: what H.264 and H.265 have in common.

Strategy. The units of all samples of a batch are walked together, one step of the walk for all samples at once; the few
samples that have many more units than the rest are finished one by one. O(units).
"""

from __future__ import annotations

from array import array
from dataclasses import dataclass
from typing import TypeAlias

import numpy as np

from direkt.media import Column, Samples, words

_FEW = 12  # samples that are walked one by one rather than together
_STEPS = 64  # units of a sample after which it is walked by itself
_MOST = 1 << 16  # units in a sample
_ZEROS = 4096  # bytes that are looked at for where zeros end


@dataclass(frozen=True, slots=True)
class Units:
    """NAL units in order: the sample each lies in, where its header byte is, and its size in bytes."""

    sample: Column
    at: Column
    size: Column
    damaged: int


def behind_lengths(samples: Samples, length_size: int) -> Units:
    """NAL units behind lengths of 1, 2 or 4 bytes (ISO/IEC 14496-15, 5.3.2); zeros behind the last one are padding."""
    if len(samples) <= _FEW:
        return _collect([], [_walk_one(samples, n, int(samples.offset[n]), length_size) for n in range(len(samples))])
    shift = np.uint64(64 - 8 * length_size)
    alive = np.flatnonzero(samples.size > 0)
    at, end = samples.offset[alive], (samples.offset + samples.size)[alive]
    found: list[tuple[Column, Column, Column]] = []
    damaged = 0
    data = memoryview(samples.data)
    steps = 0
    while len(alive) > _FEW and steps < _STEPS:
        steps += 1
        whole = end - at >= length_size
        if not whole.all():
            left = zip(at[~whole].tolist(), end[~whole].tolist(), strict=True)
            damaged += sum(any(data[begin:stop]) for begin, stop in left)
            alive, at, end = alive[whole], at[whole], end[whole]
            if not len(alive):
                break
        size = (words(samples.data, at) >> shift).astype(np.int64)
        body = at + length_size
        fits = size <= end - body
        if not fits.all():
            damaged += int(len(fits) - fits.sum())
            alive, body, size, end = alive[fits], body[fits], size[fits], end[fits]
        found.append((alive, body, size))
        at = body + size
        more = at < end
        if not more.all():
            alive, at, end = alive[more], at[more], end[more]
    rest = [_walk_one(samples, int(n), int(a), length_size) for n, a in zip(alive, at, strict=True)]
    units = _collect(found, rest)
    return Units(units.sample, units.at, units.size, units.damaged + damaged)


_Walked: TypeAlias = "tuple[int, array[int], array[int], bool]"  # array takes no index before Python 3.12


def _walk_one(samples: Samples, n: int, at: int, length_size: int) -> _Walked:
    """The units of sample ``n`` from byte ``at`` on; whether something in it does not add up."""
    data, end = memoryview(samples.data), int(samples.offset[n] + samples.size[n])
    places, sizes = array("q"), array("q")
    while at < end:
        if end - at < length_size:
            return n, places, sizes, any(data[at:end])
        size = int.from_bytes(data[at : at + length_size], "big")
        if not size:  # an empty unit, or the first of many zeros
            ahead = bytes(data[at : min(end, at + _ZEROS)])
            zeros = len(ahead) - len(ahead.lstrip(b"\0"))
            at += max(1, zeros // length_size) * length_size
            continue
        at += length_size
        if size > end - at or len(places) >= _MOST:
            return n, places, sizes, True
        places.append(at)
        sizes.append(size)
        at += size
    return n, places, sizes, False


def _collect(found: list[tuple[Column, Column, Column]], rest: list[_Walked]) -> Units:
    """What both ways of walking found, in the order of the stream, without empty units."""
    samples = [f[0] for f in found] + [np.full(len(w[1]), w[0], np.int64) for w in rest]
    places = [f[1] for f in found] + [np.asarray(w[1], np.int64) for w in rest]
    sizes = [f[2] for f in found] + [np.asarray(w[2], np.int64) for w in rest]
    damaged = sum(w[3] for w in rest)
    if not samples:
        none = np.zeros(0, np.int64)
        return Units(none, none, none, damaged)
    sample, at, size = (np.concatenate(c) for c in (samples, places, sizes))
    order = np.argsort(sample, kind="stable")
    order = order[size[order] > 0]
    return Units(sample[order], at[order], size[order], damaged)


def between_start_codes(samples: Samples) -> Units:
    """NAL units in byte stream format (Annex B)."""
    walked: list[_Walked] = []
    for n in range(len(samples)):
        begin = int(samples.offset[n])
        data = bytes(samples.sample(n))
        places, sizes = array("q"), array("q")
        at = data.find(b"\0\0\x01")
        while at >= 0:
            following = data.find(b"\0\0\x01", at + 3)
            end = len(data) if following < 0 else following
            size = len(data[at + 3 : end].rstrip(b"\0")) if end < len(data) else end - at - 3
            places.append(begin + at + 3)
            sizes.append(size)
            at = following
        walked.append((n, places, sizes, not places and bool(data)))
    return _collect([], walked)
