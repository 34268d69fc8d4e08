"""What readers of codecs with NAL units share: parameter sets in force, stretches between new ones, and slice starts as columns."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import replace
from typing import Any, Protocol

import numpy as np

from direkt.codec import nal
from direkt.codec.bits import BitstreamError
from direkt.codec.nal import Units
from direkt.codec.reader import Declared, Join, Pictures, Remark
from direkt.media import Bytes, Codes, Column, Framing, Samples, Words, words

_LONGEST_SET = 4096  # bytes of a parameter set that are looked at
_REMEMBERED = 64  # parameter sets
WINDOW = 8  # bytes of a slice that are looked at


class ParsedSet(Protocol):
    """A parameter set that was read."""

    @property
    def id(self) -> int:
        """Its number."""


class NalReader(ABC):
    """Reads one track. Says of a codec which unit types are parameter sets, how they are read, and finds its pictures."""

    knows_keyframes = True
    SETS: tuple[int, ...]  # types of parameter sets that are looked at
    FILLER: int

    def __init__(self, remark: Remark) -> None:
        self._remark = remark
        self._framing = Framing.LENGTHS
        self._length_size = 4
        self._guess = False  # no configuration told how units are framed
        self._sets: dict[tuple[int, int], bytes] = {}  # in force, by unit type and number
        self._parsed: dict[bytes, ParsedSet | None] = {}  # None: cannot be read
        self._declarations: dict[tuple[bytes, ...], Declared] = {}
        self._any_picture = False
        self._waiting_point = False  # a recovery point whose picture has not come
        self.declared: Declared | None = None

    @abstractmethod
    def kind_of(self, first: int) -> int:
        """A unit's type, of its first byte."""

    @abstractmethod
    def kinds_of(self, first: Bytes) -> Bytes:
        """The same of many."""

    @abstractmethod
    def parse_set(self, unit: bytes) -> ParsedSet:
        """A parameter set. Raises BitstreamError."""

    @abstractmethod
    def _pictures(self, samples: Samples, units: Units, kinds: Bytes, before: int) -> Pictures:
        """The pictures of one stretch; ``before``: pictures of this batch in front of it."""

    def base_layer(self, samples: Samples, units: Units) -> Units:
        """The units of the layer that every decoder shows."""
        return units

    # Parameter sets

    def _parse(self, unit: bytes) -> ParsedSet | None:
        """A parameter set; None for one that cannot be read. The latest are remembered."""
        unit = unit.rstrip(b"\0")  # trailing_zero_8bits and cabac_zero_words mean nothing
        if unit not in self._parsed:
            if len(self._parsed) >= _REMEMBERED:
                self._parsed.clear()
            try:
                self._parsed[unit] = self.parse_set(unit)
            except BitstreamError as error:
                self._parsed[unit] = None
                self._remark(f"a parameter set cannot be read: {error}")
        return self._parsed[unit]

    def _key(self, unit: bytes, found: ParsedSet) -> tuple[int, int]:
        return self.kind_of(unit[0]), found.id

    def _is_new(self, unit: bytes) -> bool:
        """Whether a parameter set says something that is not in force already."""
        found = self._parse(unit)
        return found is not None and self._sets.get(self._key(unit, found)) != unit.rstrip(b"\0")

    def _take(self, unit: bytes) -> None:
        """Puts a parameter set in force."""
        found = self._parse(unit)
        if found is not None:
            self._sets[self._key(unit, found)] = unit.rstrip(b"\0")

    def _declare(self, key: tuple[bytes, ...], made: Declared | None) -> bool:
        """Declares what sets with this ``key`` say (``made``, or what is remembered); True when that is something new."""
        if made is not None:
            if len(self._declarations) >= _REMEMBERED:
                self._declarations.clear()
            self._declarations[key] = made
        old, self.declared = self.declared, self._declarations[key]
        return self.declared is not old and self.declared != old

    # Walking

    def read(self, samples: Samples) -> Pictures:
        """The pictures of a batch, with the parameter sets that stand between them."""
        if self._guess and len(samples):
            self._guess_framing(samples)
        units = self.base_layer(samples, self._units(samples))
        kinds = self.kinds_of(samples.view[units.at])
        filler = int(units.size[kinds == self.FILLER].sum())
        parts: list[Pictures] = []
        done = 0
        for begin, end in self._eras(samples, units, kinds):
            low, high = np.searchsorted(units.sample, [begin, end])
            part = Units(units.sample[low:high], units.at[low:high], units.size[low:high], 0)
            parts.append(self._pictures(samples, part, kinds[low:high], done))
            done += len(parts[-1].first)
        return _joined(parts, units.damaged, filler)

    def _guess_framing(self, samples: Samples) -> None:
        """Where no configuration came: start codes when the first sample begins with one and its lengths do not add up."""
        self._guess = False
        start = bytes(samples.sample(0)[:4])
        if self._framing is Framing.LENGTHS and (start[:3] == b"\0\0\x01" or start == b"\0\0\0\x01"):
            if self._units(samples[:1]).damaged:
                self._framing = Framing.START_CODES
                self._remark("pictures are framed by start codes where lengths are the rule")

    def _units(self, samples: Samples) -> Units:
        if self._framing is Framing.START_CODES:
            return nal.between_start_codes(samples)
        return nal.behind_lengths(samples, self._length_size)

    def _eras(self, samples: Samples, units: Units, kinds: Bytes) -> Iterator[tuple[int, int]]:
        """Stretches of samples between new parameter sets: first sample and end; the sets are in force meanwhile."""
        begin = 0
        data = memoryview(samples.data)
        is_set = np.zeros(len(kinds), np.bool_)
        for kind in self.SETS:
            is_set |= kinds == kind
        for n in np.flatnonzero(is_set).tolist():
            at, size, sample = int(units.at[n]), int(units.size[n]), int(units.sample[n])
            unit = bytes(data[at : at + min(size, _LONGEST_SET)])
            if not self._is_new(unit):
                continue
            if sample != begin:
                yield begin, sample
                begin = sample
            self._take(unit)
        yield begin, len(samples)

    def _mark_points(self, points: Column, heads: Column, join: Codes) -> None:
        """Marks the pictures behind recovery point SEI messages: the next that begins."""
        following = np.searchsorted(heads, points)
        waiting, self._waiting_point = self._waiting_point, bool((following == len(heads)).any())
        marked = following[following < len(heads)].tolist()
        if waiting and len(heads):
            marked.append(0)
        elif waiting:
            self._waiting_point = True
        for n in marked:
            join[n] = max(int(join[n]), Join.RECOVERY)


def _joined(parts: list[Pictures], damaged: int, filler: int) -> Pictures:
    """The stretches of a batch, one behind the other."""
    if len(parts) == 1:
        return replace(parts[0], damaged=damaged, filler=filler + parts[0].filler)

    def column(name: str) -> Any:
        return np.concatenate([getattr(p, name) for p in parts])

    bipredicted, slices = column("bipredicted"), column("slices")
    late_slices, late = 0, False
    before = 0
    for p in parts:
        if before:
            slices[before - 1] += p.late_slices
            bipredicted[before - 1] |= p.late_bipredicted
        else:
            late_slices += p.late_slices
            late = late or p.late_bipredicted
        before += len(p.first)
    changes = tuple(change for p in parts for change in p.changes)
    return Pictures(
        column("first"), column("join"), bipredicted, column("scan"), column("parity"), column("motion"),
        column("anchor"), slices, changes, damaged, filler + sum(p.filler for p in parts), late_slices, late,
    )  # fmt: skip


def windows(samples: Samples, at: Column, left: Column) -> tuple[Words, Column]:
    """The first eight bytes at each place, of which ``left`` belong to the unit; and which of them hold an escape."""
    start = words(samples.data, at)
    if (short := left < WINDOW).any():
        start[short] &= ~np.uint64(0) << (8 * (WINDOW - left[short])).astype(np.uint64)
    window = start.astype(">u8").view(np.uint8).reshape(-1, WINDOW)
    escaped = (window[:, :-2] == 0) & (window[:, 1:-1] == 0) & (window[:, 2:] == 3)
    return start, np.flatnonzero(escaped.any(axis=1))


def golomb(start: Words, used: Words) -> tuple[Column, Words]:
    """ue(v) (9.1 of H.264, 9.2 of H.265) behind ``used`` bits of 64-bit words; and the bits used then.

    Longer than 41 bits: nonsense, no error.
    """
    shifted = start << np.minimum(used, np.uint64(63))
    # 53 bits fit a float exactly, so its exponent counts the leading zeros
    zeros = np.minimum(53 - np.frexp((shifted >> np.uint64(11)).astype(np.float64))[1], 20).astype(np.uint64)
    value = (shifted >> (np.uint64(63) - np.uint64(2) * zeros)).astype(np.int64) - 1
    return value, used + np.uint64(2) * zeros + np.uint64(1)
