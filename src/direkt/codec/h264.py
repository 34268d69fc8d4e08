"""Reads H.264: finds the pictures in batches of samples.

Strategy. Of each slice the first eight bytes are gathered and its three first Exp-Golomb numbers taken with array
operations. Python looks only at what is rare: parameter sets, SEI that hold more than one message, I pictures that are no
IDR pictures, and slice headers of streams that may be interlaced. O(NAL units).
"""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

from direkt.codec import colour, shape
from direkt.codec import h264_syntax as syntax
from direkt.codec.bits import BitReader, BitstreamError, unescape
from direkt.codec.h264_levels import LEVELS, bitrate_steps, level_names, lowest_level
from direkt.codec.h264_syntax import B, I
from direkt.codec.nal import Units
from direkt.codec.nal_reader import NalReader, golomb, windows
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
from direkt.media import Bytes, Codes, Column, Format, Marks, Samples, words

__all__ = ["LEVELS", "Reader", "bitrate_steps", "level_names", "lowest_level"]

_SEI_WORDS = 4  # of eight bytes, of an SEI unit that is looked at as a whole

_FILLER_MESSAGE, _RECOVERY_POINT = 3, 6  # Table D: payloadType
_PROJECTIONS = {150: "equirectangular", 151: "cubemap"}

# A slice of which every macroblock is skipped: its header, and what arithmetic coding needs once its contexts have
# learned: a skip flag at the lowest probability, 2^-5.7, and an end_of_slice_flag take 0.035 bits (ITU-T H.264, 9.3.1.2)
_STILL_HEADER, _STILL_LEARNING = 16, 8  # bytes
_STILL_MACROBLOCK = 0.0375 / 8  # bytes


class Reader(NalReader):
    """Reads one track."""

    SETS, FILLER = (syntax.SPS, syntax.PPS), syntax.FILLER

    def __init__(self, remark: Remark) -> None:
        super().__init__(remark)
        self._sps: syntax.AvcSps | None = None  # of the latest picture
        self._pps: syntax.AvcPps | None = None
        self._projection = "none"
        self._half: tuple[int, bool] | None = None  # frame_num and parity of a field whose other field has not come
        self._pairing = False  # it is known which fields are the first of a pair
        self._field: int | None = None  # frame_num of the latest field

    def kind_of(self, first: int) -> int:
        """nal_unit_type (ITU-T H.264, 7.3.1)."""
        return first & 31

    def kinds_of(self, first: Bytes) -> Bytes:
        """The same of many."""
        return first & np.uint8(31)

    def parse_set(self, unit: bytes) -> syntax.AvcSps | syntax.AvcPps:
        """A sequence or picture parameter set. Raises BitstreamError."""
        return syntax.parse_sps(unit) if unit[:1] and unit[0] & 31 == syntax.SPS else syntax.parse_pps(unit)

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
        if isinstance(sps, syntax.AvcSps) and (record.profile_idc, record.level_idc) != (sps.profile_idc, sps.level_idc):
            self._remark(
                f"the decoder configuration says profile {record.profile_idc} level {record.level_idc / 10:.1f}, "
                f"the stream's own header says profile {sps.profile_idc} level {sps.level_idc / 10:.1f}"
            )
        if not self._any_picture:
            self._activate(next((number for kind, number in self._sets if kind == syntax.PPS), -1))

    def _activate(self, pps_id: int) -> bool:
        """Makes the sets that a picture names the ones in force; True when what they declare has changed."""
        pps_unit = self._sets.get((syntax.PPS, pps_id), b"")
        pps = self._parse(pps_unit) if pps_unit else None
        if isinstance(pps, syntax.AvcPps):
            sps_unit = self._sets.get((syntax.SPS, pps.sps_id))
        else:
            pps = None
            sps_unit = next((unit for (kind, _), unit in self._sets.items() if kind == syntax.SPS), None)
        sps = self._parse(sps_unit) if sps_unit else None
        if sps_unit is None or not isinstance(sps, syntax.AvcSps):
            return False
        self._sps, self._pps = sps, pps
        key = (sps_unit, pps_unit, self._projection.encode())
        made = None if key in self._declarations else _declare(sps, pps, self._projection)
        return self._declare(key, made)

    # Pictures

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
                # a stream that is cut between two fields begins with the second one
                new = self._field is not None and self._field != head.frame_number
                self._pairing = self._pairing or new or kinds[unit] == syntax.IDR
                self._field = head.frame_number
                other = (head.frame_number, not head.bottom)
                if self._half == other:  # the second field of a picture (ITU-T H.264, 7.4.1.2.4)
                    self._half, found.kept[n] = None, False
                else:
                    self._half = (head.frame_number, head.bottom)
                    if self._pairing:
                        found.parity[n] = Parity.BOTTOM if head.bottom else Parity.TOP
                continue
            self._half, self._pairing = None, True
            begin = int(heads[n - 1]) if n else 0
            found.scan[n], found.parity[n] = self._structure(data, units, kinds, range(begin, unit), head, sps)

    def _structure(
        self, data: memoryview, units: Units, kinds: Bytes, ahead: range, head: syntax.SliceHeader, sps: syntax.AvcSps
    ) -> tuple[Scan, Parity]:
        """How a picture coded as a whole was taken (ITU-T H.264, Table D-1), by the units in front of it."""
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


class _Leads:
    """What is known of slices that may begin a picture, a row for each."""

    def __init__(self, count: int) -> None:
        self.kept: Marks = np.ones(count, np.bool_)  # it does
        self.holds: Marks = np.ones(count, np.bool_)  # more than one picture is kept to refer to
        self.still = np.full(count, -1.0 - _STILL_HEADER)  # bytes in which all can be skipped, but for slice headers
        self.scan: Codes = np.zeros(count, np.int8)
        self.parity: Codes = np.zeros(count, np.int8)


def _escapes(samples: Samples, at: Column, size: Column) -> Column:
    """How many emulation prevention bytes there are in short units."""
    starts = at[:, None] + 8 * np.arange(_SEI_WORDS)
    data = words(samples.data, starts.ravel()).astype(">u8").view(np.uint8).reshape(len(at), -1)
    found = (data[:, :-2] == 0) & (data[:, 1:-1] == 0) & (data[:, 2:] == 3)
    found &= np.arange(2, 8 * _SEI_WORDS) < size[:, None]
    count: Column = found.sum(axis=1)
    return count


def _slice_starts(samples: Samples, at: Column, size: Column) -> tuple[Column, Column, Column]:
    """first_mb_in_slice, slice_type (0 to 4; -1: none such) and pic_parameter_set_id of slices (ITU-T H.264, 7.3.3)."""
    start, escaped = windows(samples, at + 1, size - 1)
    first, used = golomb(start, np.zeros(len(start), np.uint64))
    kind, used = golomb(start, used)
    pps, _ = golomb(start, used)
    for n in escaped.tolist():
        first[n], kind[n], pps[n] = _slice_start(
            bytes(memoryview(samples.data)[int(at[n]) : int(at[n]) + min(int(size[n]), 24)])
        )
    kind[kind > 9] = -1
    return first, np.where(kind >= 0, kind % 5, -1), pps


def _slice_start(nal: bytes) -> tuple[int, int, int]:
    """The same for one slice with emulation prevention bytes at its start."""
    bits = BitReader(unescape(nal[1:]))
    try:
        return bits.ue(), bits.ue(), bits.ue()
    except BitstreamError:
        return 0, -1, 0


# What is declared


def _declare(sps: syntax.AvcSps, pps: syntax.AvcPps | None, projection: str) -> Declared:
    values = shape.describe(
        (sps.width, sps.height),
        (sps.coded_width, sps.coded_height),
        sps.sample_aspect,
        sps.chroma_format,
        sps.bit_depth,
    )
    values |= {
        "video.profile": sps.profile, "video.level": sps.level, "video.reference_frames": sps.reference_frames,
        "video.projection": projection,
    }  # fmt: skip
    if pps is not None:
        values["video.entropy"] = "cabac" if pps.cabac else "cavlc"
    values |= colour.describe(sps.primaries, sps.transfer, sps.matrix, sps.full_range)
    hrd = sps.nal_hrd or sps.vcl_hrd
    promise = Promise(hrd.bitrate, hrd.cbr, hrd.cpb_size) if hrd else None
    return Declared(values, sps.frame_rate, promise, f"{values['video.size']} {sps.profile}")
