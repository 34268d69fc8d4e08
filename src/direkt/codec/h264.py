"""Reads H.264: finds the pictures in batches of samples.

Strategy. Of each slice the first eight bytes are gathered and its three first Exp-Golomb numbers taken with array
operations. Python looks only at what is rare: parameter sets, SEI that hold more than one message, I pictures that are no
IDR pictures, and slice headers of streams that may be interlaced. O(NAL units).
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np

from direkt.codec import colour, nal
from direkt.codec import h264_syntax as syntax
from direkt.codec.bits import BitReader, BitstreamError
from direkt.codec.h264_levels import LEVELS, bitrate_steps, lowest_level
from direkt.codec.h264_syntax import B, I
from direkt.codec.nal import Units
from direkt.codec.reader import (
    Declared,
    Join,
    Motion,
    Parity,
    Pictures,
    Promise,
    Remark,
    Scan,
    opaque_pictures,
)
from direkt.media import Bytes, Codes, Column, Format, Framing, Marks, Samples, Scalar, Words, words

__all__ = ["LEVELS", "Reader", "bitrate_steps", "lowest_level"]

_WINDOW = 8  # bytes of a slice that are looked at
_SEI_WORDS = 4  # of eight bytes, of an SEI unit that is looked at as a whole
_LONGEST_SET = 4096  # bytes of a parameter set that are looked at
_REMEMBERED = 64  # parameter sets

_CHROMA = ("4:0:0", "4:2:0", "4:2:2", "4:4:4")  # Table 6-1
_FILLER_MESSAGE, _RECOVERY_POINT = 3, 6  # Table D: payloadType
_PROJECTIONS = {150: "equirectangular", 151: "cubemap"}

# A slice of which every macroblock is skipped: its header, and what arithmetic coding needs once its contexts have
# learned: a skip flag at the lowest probability, 2^-5.7, and an end_of_slice_flag take 0.035 bits (9.3.1.2)
_STILL_HEADER, _STILL_LEARNING = 16, 8  # bytes
_STILL_MACROBLOCK = 0.0375 / 8  # bytes


class Reader:
    """Reads one track."""

    knows_keyframes = True

    def __init__(self, remark: Remark) -> None:
        self._remark = remark
        self._framing = Framing.LENGTHS
        self._length_size = 4
        self._guess = False  # no configuration told how units are framed
        self._sets: dict[tuple[int, int], bytes] = {}  # in force, by unit type and number
        self._parsed: dict[bytes, syntax.Sps | syntax.Pps | None] = {}  # None: cannot be read
        self._declarations: dict[tuple[bytes, bytes, str], Declared] = {}
        self._sps: syntax.Sps | None = None  # of the latest picture
        self._pps: syntax.Pps | None = None
        self._projection = "none"
        self._any_picture = False
        self._waiting_point = False  # a recovery point whose picture has not come
        self._half: tuple[int, bool] | None = None  # frame_num and parity of a field whose other field has not come
        self.declared: Declared | None = None

    # Parameter sets

    def configure(self, format: Format) -> None:
        """An AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1); without one, the stream itself must tell."""
        self._framing = format.framing
        self._guess = not format.configuration
        if not format.configuration:
            return
        record = syntax.parse_avc_config(format.configuration)
        self._length_size = record.length_size
        for unit in (*record.sps, *record.pps):
            self._take(unit)
        sps = self._parse(record.sps[0]) if record.sps else None
        if isinstance(sps, syntax.Sps) and (record.profile_idc, record.level_idc) != (sps.profile_idc, sps.level_idc):
            self._remark(
                f"the decoder configuration says profile {record.profile_idc} level {record.level_idc / 10:.1f}, "
                f"the stream's own header says profile {sps.profile_idc} level {sps.level_idc / 10:.1f}"
            )
        if not self._any_picture:
            self._activate(next((number for kind, number in self._sets if kind == syntax.PPS), -1))

    def _parse(self, unit: bytes) -> syntax.Sps | syntax.Pps | None:
        """A parameter set; None for one that cannot be read. The latest are remembered."""
        unit = unit.rstrip(b"\0")  # trailing_zero_8bits and cabac_zero_words mean nothing
        if unit not in self._parsed:
            if len(self._parsed) >= _REMEMBERED:
                self._parsed.clear()
            try:
                is_sps = unit[:1] and unit[0] & 31 == syntax.SPS
                self._parsed[unit] = syntax.parse_sps(unit) if is_sps else syntax.parse_pps(unit)
            except BitstreamError as error:
                self._parsed[unit] = None
                self._remark(f"a parameter set cannot be read: {error}")
        return self._parsed[unit]

    def _is_new(self, unit: bytes) -> bool:
        """Whether a parameter set says something that is not in force already."""
        found = self._parse(unit)
        return found is not None and self._sets.get(_key(found)) != unit.rstrip(b"\0")

    def _take(self, unit: bytes) -> None:
        """Puts a parameter set in force."""
        found = self._parse(unit)
        if found is not None:
            self._sets[_key(found)] = unit.rstrip(b"\0")

    def _activate(self, pps_id: int) -> bool:
        """Makes the sets that a picture names the ones in force; True when what they declare has changed."""
        pps_unit = self._sets.get((syntax.PPS, pps_id), b"")
        pps = self._parse(pps_unit) if pps_unit else None
        if isinstance(pps, syntax.Pps):
            sps_unit = self._sets.get((syntax.SPS, pps.sps_id))
        else:
            pps = None
            sps_unit = next((unit for (kind, _), unit in self._sets.items() if kind == syntax.SPS), None)
        sps = self._parse(sps_unit) if sps_unit else None
        if sps_unit is None or not isinstance(sps, syntax.Sps):
            return False
        self._sps, self._pps = sps, pps
        key = (sps_unit, pps_unit, self._projection)
        if key not in self._declarations:
            if len(self._declarations) >= _REMEMBERED:
                self._declarations.clear()
            self._declarations[key] = _declare(sps, pps, self._projection)
        old, self.declared = self.declared, self._declarations[key]
        return self.declared is not old and self.declared != old

    # Pictures

    def read(self, samples: Samples) -> Pictures:
        """The pictures of a batch, with the parameter sets that stand between them."""
        if self._guess and len(samples):
            self._guess_framing(samples)
        units = self._units(samples)
        kinds = samples.view[units.at] & np.uint8(31)
        filler = int(units.size[kinds == syntax.FILLER].sum())
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

    def _eras(self, samples: Samples, units: Units, kinds: Bytes) -> Iterator[tuple[int, int]]:
        """Stretches of samples between new parameter sets: first sample and end; the sets are in force meanwhile."""
        begin = 0
        data = memoryview(samples.data)
        for n in np.flatnonzero((kinds == syntax.SPS) | (kinds == syntax.PPS)).tolist():
            at, size, sample = int(units.at[n]), int(units.size[n]), int(units.sample[n])
            unit = bytes(data[at : at + min(size, _LONGEST_SET)])
            if not self._is_new(unit):
                continue
            if sample != begin:
                yield begin, sample
                begin = sample
            self._take(unit)
        yield begin, len(samples)

    def _pictures(self, samples: Samples, units: Units, kinds: Bytes, before: int) -> Pictures:
        """The pictures of one stretch; ``before``: pictures of this batch in front of it."""
        coded = np.flatnonzero((kinds == syntax.SLICE) | (kinds == syntax.IDR) | (kinds == syntax.PARTITION_A))
        points, filler = self._messages(samples, units, kinds)
        if not len(coded):
            self._waiting_point = self._waiting_point or bool(len(points))
            return replace(opaque_pictures(coded), filler=filler)
        at, size, sample = units.at[coded], units.size[coded], units.sample[coded]
        first_mb, kind, pps_id = _slice_starts(samples, at, size)
        leads = first_mb == 0
        leads[0] |= not self._any_picture
        lead = np.flatnonzero(leads)
        found = _Leads(len(lead))
        changes: list[int] = []
        declared: list[Declared] = []
        ids = pps_id[lead]
        runs = [] if not len(lead) else [0, *(np.flatnonzero(np.diff(ids)) + 1).tolist(), len(lead)]
        for begin, end in itertools.pairwise(runs):
            if self._activate(int(ids[begin])) and self.declared is not None:
                changes.append(begin)
                declared.append(self.declared)
            self._look(samples, units, kinds, coded[lead], range(begin, end), found)
        if not self._any_picture:
            self._any_picture = found.kept[0] = True
        # further leading slices in one sample are the other field, or redundant slices, of the same picture
        kept = np.flatnonzero(found.kept)
        kept = kept[np.diff(sample[lead[kept]], prepend=-1) > 0]
        heads = lead[kept]
        first, count = sample[heads], len(kept)
        picture = np.searchsorted(heads, np.arange(len(coded)), side="right") - 1
        inside = picture >= 0
        two_way = picture[kind == B]
        bipredicted = np.zeros(count, np.bool_)
        bipredicted[two_way[two_way >= 0]] = True
        refers = np.zeros(count, np.bool_)
        refers[picture[inside & (kind != I) & (kind != syntax.SI)]] = True
        join = np.zeros(count, np.int8)
        join[kinds[coded][heads] == syntax.IDR] = Join.KEYFRAME
        self._mark_points(points, coded[heads], join)
        anchor = ~refers & (join != Join.KEYFRAME) & found.holds[kept]
        for n in np.flatnonzero(anchor).tolist():
            anchor[n] = not self._forgets(samples, int(at[heads[n]]), int(size[heads[n]]))
        slices = np.bincount(picture[inside], minlength=count)
        coded_bytes = np.bincount(picture[inside], size[inside], minlength=count)
        still = coded_bytes <= found.still[kept] + _STILL_HEADER * slices
        motion = np.where(refers, np.where(still, Motion.STILL, Motion.SOME), Motion.UNKNOWN).astype(np.int8)
        # of a picture in two fields, the field with more slices counts
        each = np.bincount(np.searchsorted(lead, np.arange(len(coded)), side="right"), minlength=len(lead) + 1)[1:]
        most = np.maximum.reduceat(each, kept) if count else each[:0]
        numbers = (np.searchsorted(kept, changes, side="left") + before).tolist()
        return Pictures(
            first, join, bipredicted, found.scan[kept], found.parity[kept], motion, anchor, most,
            tuple((n, d) for n, d in zip(numbers, declared, strict=True) if n < before + count), 0, filler,
            int(lead[0]) if len(lead) else len(coded), bool((two_way < 0).any()),
        )  # fmt: skip

    def _messages(self, samples: Samples, units: Units, kinds: Bytes) -> tuple[Column, int]:
        """The SEI units that hold a recovery point, and the bytes of filler in SEI. A projection is remembered."""
        sei = np.flatnonzero(kinds == syntax.SEI)
        if not len(sei):
            return sei, 0
        at, size = units.at[sei], units.size[sei]
        start = words(samples.data, at)
        message = (start >> np.uint64(48) & np.uint64(255)).astype(np.int64)
        length = (start >> np.uint64(40) & np.uint64(255)).astype(np.int64)
        # one message and its trailing bits, and emulation prevention as far as it was looked for
        alone = size == length + 4
        more = np.flatnonzero(~alone & (size > length + 4) & (size <= 8 * _SEI_WORDS))
        if len(more):
            alone[more] = size[more] == length[more] + 4 + _escapes(samples, at[more], size[more])
        alone &= (message != 255) & (length != 255)
        points = (alone & (message == _RECOVERY_POINT)).tolist()
        filler = int(size[alone & (message == _FILLER_MESSAGE)].sum())
        data = memoryview(samples.data)
        rare = ~alone | (message == 150) | (message == 151)
        for n in np.flatnonzero(rare).tolist():
            unit = data[int(at[n]) : int(at[n] + size[n])]
            for kind, payload in syntax.parse_sei(unit):
                points[n] = points[n] or kind == _RECOVERY_POINT
                filler += len(payload) if kind == _FILLER_MESSAGE else 0
                if kind in _PROJECTIONS and payload:
                    self._projection = "none" if payload[0] & 0x80 else _PROJECTIONS[kind]
        return sei[np.asarray(points, np.bool_)], filler

    def _mark_points(self, points: Column, heads: Column, join: Codes) -> None:
        """Marks the pictures behind recovery point SEI messages (D.2.8): the next that begins."""
        following = np.searchsorted(heads, points)
        waiting, self._waiting_point = self._waiting_point, bool((following == len(heads)).any())
        marked = following[following < len(heads)].tolist()
        if waiting and len(heads):
            marked.append(0)
        elif waiting:
            self._waiting_point = True
        for n in marked:
            join[n] = max(int(join[n]), Join.RECOVERY)

    def _look(self, samples: Samples, units: Units, kinds: Bytes, heads: Column, which: range, found: _Leads) -> None:
        """What the parameter sets in force say of leading slices, and their headers where those leave it open."""
        sps, pps = self._sps, self._pps
        if sps is None:
            return
        part = slice(which.start, which.stop)
        found.holds[part] = sps.reference_frames > 1
        blocks = sps.coded_width * sps.coded_height // 256
        cabac = pps is not None and pps.cabac
        found.still[part] = blocks * _STILL_MACROBLOCK + _STILL_LEARNING if cabac else 0
        if sps.frame_mbs_only:
            found.scan[part] = Scan.WHOLE
            if pps is None or not pps.redundant_present:
                return
        data = memoryview(samples.data)
        for n in which:
            unit = int(heads[n])
            at = int(units.at[unit])
            try:
                head = syntax.parse_slice(data[at : at + min(40, int(units.size[unit]))], sps, pps)
            except BitstreamError:
                continue
            found.kept[n] = not head.redundant
            if sps.frame_mbs_only or head.redundant:
                continue
            if head.field:
                found.scan[n] = Scan.FIELDS
                other = (head.frame_number, not head.bottom)
                if self._half == other:  # the second field of a picture (7.4.1.2.4)
                    self._half, found.kept[n] = None, False
                else:
                    self._half = (head.frame_number, head.bottom)
                    found.parity[n] = Parity.BOTTOM if head.bottom else Parity.TOP
                continue
            self._half = None
            begin = int(heads[n - 1]) if n else 0
            found.scan[n], found.parity[n] = self._structure(data, units, kinds, range(begin, unit), head, sps)

    def _structure(
        self, data: memoryview, units: Units, kinds: Bytes, ahead: range, head: syntax.SliceHeader, sps: syntax.Sps
    ) -> tuple[Scan, Parity]:
        """How a picture coded as a whole was taken (Table D-1), by the units in front of it."""
        structure = None
        if sps.pic_struct_present:
            for n in ahead:
                if kinds[n] != syntax.SEI:
                    continue
                for message, payload in syntax.parse_sei(data[int(units.at[n]) : int(units.at[n] + units.size[n])]):
                    if message == 1:
                        structure = syntax.pic_struct(payload, sps)
        if structure is not None:
            scan = Scan.FIELDS if 1 <= structure <= 6 else Scan.WHOLE
            return scan, {3: Parity.TOP, 5: Parity.TOP, 4: Parity.BOTTOM, 6: Parity.BOTTOM}.get(
                structure, Parity.UNKNOWN
            )
        parity = Parity.BOTTOM if head.bottom_later < 0 else Parity.TOP if head.bottom_later > 0 else Parity.UNKNOWN
        return Scan.FIELDS if sps.mb_adaptive or parity else Scan.WHOLE, parity

    def _forgets(self, samples: Samples, at: int, size: int) -> bool:
        """Whether an I picture ends the use of all that was before it."""
        if self._sps is None or self._pps is None:
            return False
        try:
            unit = memoryview(samples.data)[at : at + min(40, size)]
            return syntax.parse_slice(unit, self._sps, self._pps).forgets
        except BitstreamError:
            return False

    # Walking

    def _units(self, samples: Samples) -> Units:
        if self._framing is Framing.START_CODES:
            return nal.between_start_codes(samples)
        return nal.behind_lengths(samples, self._length_size)


class _Leads:
    """What is known of slices that may begin a picture, a row for each."""

    def __init__(self, count: int) -> None:
        self.kept: Marks = np.ones(count, np.bool_)  # it does
        self.holds: Marks = np.ones(count, np.bool_)  # more than one picture is kept to refer to
        self.still = np.full(count, -1.0 - _STILL_HEADER)  # bytes in which all can be skipped, but for slice headers
        self.scan: Codes = np.zeros(count, np.int8)
        self.parity: Codes = np.zeros(count, np.int8)


def _key(parsed: syntax.Sps | syntax.Pps) -> tuple[int, int]:
    return (syntax.SPS if isinstance(parsed, syntax.Sps) else syntax.PPS), parsed.id


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


def _escapes(samples: Samples, at: Column, size: Column) -> Column:
    """How many emulation prevention bytes there are in short units."""
    starts = at[:, None] + 8 * np.arange(_SEI_WORDS)
    data = words(samples.data, starts.ravel()).astype(">u8").view(np.uint8).reshape(len(at), -1)
    found = (data[:, :-2] == 0) & (data[:, 1:-1] == 0) & (data[:, 2:] == 3)
    found &= np.arange(2, 8 * _SEI_WORDS) < size[:, None]
    count: Column = found.sum(axis=1)
    return count


def _slice_starts(samples: Samples, at: Column, size: Column) -> tuple[Column, Column, Column]:
    """first_mb_in_slice, slice_type (0 to 4; -1: none such) and pic_parameter_set_id of slices (7.3.3)."""
    start = words(samples.data, at + 1)
    if (short := size < 1 + _WINDOW).any():
        start[short] &= ~np.uint64(0) << (8 * (1 + _WINDOW - size[short])).astype(np.uint64)
    first, used = _golomb(start, np.zeros(len(start), np.uint64))
    kind, used = _golomb(start, used)
    pps, _ = _golomb(start, used)
    window = start.astype(">u8").view(np.uint8).reshape(-1, _WINDOW)
    escaped = (window[:, :-2] == 0) & (window[:, 1:-1] == 0) & (window[:, 2:] == 3)
    for n in np.flatnonzero(escaped.any(axis=1)).tolist():
        first[n], kind[n], pps[n] = _slice_start(
            bytes(memoryview(samples.data)[int(at[n]) : int(at[n]) + min(int(size[n]), 24)])
        )
    kind[kind > 9] = -1
    return first, np.where(kind >= 0, kind % 5, -1), pps


def _golomb(start: Words, used: Words) -> tuple[Column, Words]:
    """ue(v) (9.1) behind ``used`` bits of 64-bit words; and the bits used then. Longer than 41 bits: nonsense, no error."""
    shifted = start << np.minimum(used, np.uint64(63))
    # 53 bits fit a float exactly, so its exponent counts the leading zeros
    zeros = np.minimum(53 - np.frexp((shifted >> np.uint64(11)).astype(np.float64))[1], 20).astype(np.uint64)
    value = (shifted >> (np.uint64(63) - np.uint64(2) * zeros)).astype(np.int64) - 1
    return value, used + np.uint64(2) * zeros + np.uint64(1)


def _slice_start(nal: bytes) -> tuple[int, int, int]:
    """The same for one slice with emulation prevention bytes at its start."""
    bits = BitReader(syntax.unescape(nal[1:]))
    try:
        return bits.ue(), bits.ue(), bits.ue()
    except BitstreamError:
        return 0, -1, 0


# What is declared


def _declare(sps: syntax.Sps, pps: syntax.Pps | None, projection: str) -> Declared:
    size = f"{sps.width}x{sps.height}"
    values: dict[str, Scalar] = {
        "video.profile": sps.profile, "video.level": sps.level, "video.size": size, "video.width": sps.width,
        "video.height": sps.height, "video.chroma": _CHROMA[sps.chroma_format], "video.bit_depth": sps.bit_depth,
        "video.reference_frames": sps.reference_frames, "video.coded_size": f"{sps.coded_width}x{sps.coded_height}",
        "video.projection": projection,
    }  # fmt: skip
    if sps.sample_aspect:
        values["video.sample_aspect"] = _ratio(*sps.sample_aspect)
    across, down = sps.sample_aspect or (1, 1)
    values["video.display_aspect"] = _ratio(sps.width * across, sps.height * down)
    if pps is not None:
        values["video.entropy"] = "cabac" if pps.cabac else "cavlc"
    values |= colour.describe(sps.primaries, sps.transfer, sps.matrix, sps.full_range)
    hrd = sps.nal_hrd or sps.vcl_hrd
    promise = Promise(hrd.bitrate, hrd.cbr, hrd.cpb_size) if hrd else None
    return Declared(values, sps.frame_rate, promise, f"{size} {sps.profile}")


def _ratio(across: int, down: int) -> str:
    shared = math.gcd(across, down) or 1
    return f"{across // shared}:{down // shared}"
