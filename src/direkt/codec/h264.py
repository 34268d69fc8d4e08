"""Reads H.264: finds the pictures in batches of samples, and knows the level table.

Strategy. The NAL units of all samples of a batch are walked together, one step of the walk for all samples at once;
the few samples that have many more units than the rest are finished one by one. Of each slice the first eight bytes
are gathered and its three first Exp-Golomb numbers taken with array operations. Python looks only at what is rare:
parameter sets, SEI beside I pictures, and slice headers of streams that may be interlaced. O(NAL units).
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from direkt.codec import colour
from direkt.codec import h264_syntax as syntax
from direkt.codec.bits import BitReader, BitstreamError
from direkt.codec.h264_syntax import B, I
from direkt.codec.reader import Declared, Join, Pictures, Promise, Remark, Scan
from direkt.media import Bytes, Codes, Column, Format, Framing, Samples, Scalar, Words, words

_FEW = 12  # samples that are walked one by one rather than together
_WINDOW = 8  # bytes of a slice that are looked at

_CHROMA = ("4:0:0", "4:2:0", "4:2:2", "4:4:4")  # Table 6-1


@dataclass(frozen=True, slots=True)
class _Units:
    """NAL units in order: the sample each lies in, where its header byte is, and its size in bytes."""

    sample: Column
    at: Column
    size: Column
    damaged: int


class Reader:
    """Reads one track."""

    knows_keyframes = True

    def __init__(self, remark: Remark) -> None:
        self._remark = remark
        self._framing = Framing.LENGTHS
        self._length_size = 4
        self._guess = False  # no configuration told how units are framed
        self._sps: dict[int, bytes] = {}
        self._pps: dict[int, bytes] = {}
        self._parsed: dict[bytes, syntax.Sps] = {}
        self._active: tuple[bytes, bytes] | None = None
        self._sps_now: syntax.Sps | None = None
        self._pps_id = -1
        self._any_picture = False
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
        new = [self._take_set(nal) for nal in (*record.sps, *record.pps)]
        if any(new):
            self._active = None
        if record.sps:
            sps = syntax.parse_sps(record.sps[0])
            if (record.profile_idc, record.level_idc) != (sps.profile_idc, sps.level_idc):
                self._remark(
                    f"the decoder configuration says profile {record.profile_idc} level {record.level_idc / 10:.1f}, "
                    f"the stream's own header says profile {sps.profile_idc} level {sps.level_idc / 10:.1f}"
                )
        if not self._any_picture:
            self._activate(next(iter(self._pps), -1))

    def _take_set(self, nal: bytes) -> bool:
        """Keeps a parameter set; True when it says something new. Raises BitstreamError."""
        nal = nal.rstrip(b"\0")  # trailing_zero_8bits and cabac_zero_words mean nothing
        if nal and nal[0] & 31 == syntax.SPS:
            sps = self._parsed.get(nal)
            if sps is None:
                sps = syntax.parse_sps(nal)
                if len(self._parsed) > 64:
                    self._parsed.clear()
                self._parsed[nal] = sps
            known, number = self._sps, sps.id
        else:
            known, number = self._pps, syntax.parse_pps(nal).id
        if known.get(number) == nal:
            return False
        known[number] = nal
        return True

    def _activate(self, pps_id: int) -> bool:
        """Makes the sets that a picture names the ones in force; True when what they declare has changed."""
        pps_nal = self._pps.get(pps_id)
        pps = syntax.parse_pps(pps_nal) if pps_nal is not None else None
        sps_nal = self._sps.get(pps.sps_id) if pps is not None else next(iter(self._sps.values()), None)
        self._pps_id = pps_id
        if sps_nal is None or (sps_nal, pps_nal or b"") == self._active:
            return False
        self._active = (sps_nal, pps_nal or b"")
        self._sps_now = self._parsed.get(sps_nal) or syntax.parse_sps(sps_nal)
        old = self.declared
        self.declared = _declare(self._sps_now, pps)
        return self.declared != old

    # Pictures

    def read(self, samples: Samples) -> Pictures:
        """The pictures of a batch, with the parameter sets that stand between them."""
        if self._guess and len(samples):
            self._guess_framing(samples)
        units = self._units(samples)
        kinds = samples.view[units.at] & np.uint8(31)
        parts: list[Pictures] = []
        done = 0
        damaged = units.damaged
        edges = self._eras(samples, units, kinds)
        for begin, end, sets in edges:
            for nal in sets:
                try:
                    self._take_set(nal)
                except BitstreamError as error:
                    damaged += 1
                    self._remark(f"a parameter set cannot be read: {error}")
            if sets:
                self._active = None
            low, high = np.searchsorted(units.sample, [begin, end])
            part = _Units(units.sample[low:high], units.at[low:high], units.size[low:high], 0)
            parts.append(self._pictures(samples, part, kinds[low:high], done))
            done += len(parts[-1].first)
        return _joined(parts, damaged)

    def _guess_framing(self, samples: Samples) -> None:
        """Where no configuration came: start codes when the first sample begins with one and its lengths do not add up."""
        self._guess = False
        start = bytes(samples.sample(0)[:4])
        if self._framing is Framing.LENGTHS and (start[:3] == b"\0\0\x01" or start == b"\0\0\0\x01"):
            if self._units(samples[:1]).damaged:
                self._framing = Framing.START_CODES
                self._remark("pictures are framed by start codes where lengths are the rule")

    def _eras(self, samples: Samples, units: _Units, kinds: Bytes) -> Iterator[tuple[int, int, list[bytes]]]:
        """Stretches of samples between new parameter sets: first sample, end, and the sets in front of the first."""
        sets = np.flatnonzero((kinds == syntax.SPS) | (kinds == syntax.PPS))
        begin, waiting = 0, list[bytes]()
        seen: dict[bytes, None] = {}
        data = memoryview(samples.data)
        for n in sets.tolist():
            at, size, sample = int(units.at[n]), int(units.size[n]), int(units.sample[n])
            nal = bytes(data[at : at + min(size, 4096)])
            if nal in seen or nal.rstrip(b"\0") in self._known():
                continue
            seen[nal] = None
            if sample != begin:
                yield begin, sample, waiting
                begin, waiting = sample, []
            waiting.append(nal)
        yield begin, len(samples), waiting

    def _known(self) -> set[bytes]:
        return {*self._sps.values(), *self._pps.values()}

    def _pictures(self, samples: Samples, units: _Units, kinds: Bytes, before: int) -> Pictures:
        """The pictures of one stretch; ``before``: pictures of this batch in front of it."""
        coded = np.flatnonzero((kinds == syntax.SLICE) | (kinds == syntax.IDR) | (kinds == syntax.PARTITION_A))
        at, size, sample = units.at[coded], units.size[coded], units.sample[coded]
        first_mb, kind, pps_id = _slice_starts(samples, at, size)
        if not len(coded):
            return _empty()
        leads = first_mb == 0
        if not self._any_picture:
            leads[0] = True
            self._any_picture = True
        # several leading slices in one sample are the fields or redundant slices of one picture
        lead = np.flatnonzero(leads)
        lead = lead[np.diff(sample[lead], prepend=-1) > 0]
        first = sample[lead]
        picture = np.searchsorted(first, sample, side="right") - 1
        two_way = picture[kind == B]
        late = bool((two_way < 0).any())
        bipredicted = np.zeros(len(lead), np.bool_)
        bipredicted[two_way[two_way >= 0]] = True
        join = np.zeros(len(lead), np.int8)
        join[kinds[coded][lead] == syntax.IDR] = Join.KEYFRAME
        self._find_recovery(samples, units, kinds, first, np.flatnonzero((kind[lead] == I) & (join == 0)), join)
        changes: list[tuple[int, Declared]] = []
        scan = np.zeros(len(lead), np.int8)
        ids = pps_id[lead]
        runs = [] if not len(lead) else [0, *(np.flatnonzero(np.diff(ids)) + 1).tolist(), len(lead)]
        for begin, end in itertools.pairwise(runs):
            if (self._active is None or ids[begin] != self._pps_id) and self._activate(int(ids[begin])):
                assert self.declared is not None
                changes.append((before + begin, self.declared))
            self._find_scan(samples, units, kinds, first, range(begin, end), scan)
        return Pictures(first, join, bipredicted, scan, tuple(changes), 0, late)

    def _find_recovery(
        self, samples: Samples, units: _Units, kinds: Bytes, first: Column, which: Column, join: Codes
    ) -> None:
        """Marks I pictures that stand behind a recovery point SEI message (D.1.8)."""
        for n in which.tolist():
            for nal in _of(samples, units, kinds, int(first[n]), syntax.SEI):
                if any(message == 6 for message, _ in syntax.parse_sei(nal)):
                    join[n] = Join.RECOVERY

    def _find_scan(
        self, samples: Samples, units: _Units, kinds: Bytes, first: Column, which: range, scan: Codes
    ) -> None:
        """Tells whole pictures from fields (7.4.3, Table D-1), where the parameter sets leave it open."""
        sps = self._sps_now
        if sps is None:
            return
        if sps.frame_mbs_only:
            scan[which.start : which.stop] = Scan.WHOLE
            return
        for n in which:
            sample = int(first[n])
            structure = None
            if sps.pic_struct_present:
                for nal in _of(samples, units, kinds, sample, syntax.SEI):
                    for message, payload in syntax.parse_sei(nal):
                        if message == 1:
                            structure = syntax.pic_struct(payload, sps)
            field = False
            for kind in (syntax.IDR, syntax.SLICE):
                for nal in _of(samples, units, kinds, sample, kind):
                    try:
                        field = syntax.parse_slice(nal[:40], sps).field
                    except BitstreamError:
                        continue
                    break
            fields = field or (1 <= structure <= 6 if structure is not None else sps.mb_adaptive)
            scan[n] = Scan.FIELDS if fields else Scan.WHOLE

    # Walking

    def _units(self, samples: Samples) -> _Units:
        if self._framing is Framing.START_CODES:
            return _between_start_codes(samples)
        return _behind_lengths(samples, self._length_size)


def _of(samples: Samples, units: _Units, kinds: Bytes, sample: int, kind: int) -> Iterator[memoryview]:
    """The units of one kind in a sample."""
    low, high = np.searchsorted(units.sample, [sample, sample + 1])
    data = memoryview(samples.data)
    for n in range(int(low), int(high)):
        if kinds[n] == kind:
            at = int(units.at[n])
            yield data[at : at + int(units.size[n])]


def _empty() -> Pictures:
    none = np.zeros(0, np.int8)
    return Pictures(np.zeros(0, np.int64), none, np.zeros(0, np.bool_), none)


def _joined(parts: list[Pictures], damaged: int) -> Pictures:
    if len(parts) == 1:
        p = parts[0]
        return Pictures(p.first, p.join, p.bipredicted, p.scan, p.changes, damaged, p.late_bipredicted)
    first = np.concatenate([p.first for p in parts])
    join, scan = np.concatenate([p.join for p in parts]), np.concatenate([p.scan for p in parts])
    bipredicted = np.concatenate([p.bipredicted for p in parts])
    late = parts[0].late_bipredicted
    for n, p in enumerate(parts[1:], 1):
        before = sum(len(q.first) for q in parts[:n])
        if p.late_bipredicted and before:
            bipredicted[before - 1] = True
        elif p.late_bipredicted:
            late = True
    changes = tuple(change for p in parts for change in p.changes)
    return Pictures(first, join, bipredicted, scan, changes, damaged, late)


def _behind_lengths(samples: Samples, length_size: int) -> _Units:
    """NAL units behind lengths of 1, 2 or 4 bytes (ISO/IEC 14496-15, 5.3.2)."""
    if len(samples) <= _FEW:
        return _collect([], [_walk_one(samples, n, int(samples.offset[n]), length_size) for n in range(len(samples))])
    shift = np.uint64(64 - 8 * length_size)
    alive = np.flatnonzero(samples.size > 0)
    at, end = samples.offset[alive], (samples.offset + samples.size)[alive]
    found: list[tuple[Column, Column, Column]] = []
    damaged = 0
    while len(alive) > _FEW:
        whole = end - at > length_size
        if not whole.all():
            damaged += int(len(whole) - whole.sum())
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
    return _Units(units.sample, units.at, units.size, units.damaged + damaged)


_Walked = tuple[int, list[int], list[int], bool]


def _walk_one(samples: Samples, n: int, at: int, length_size: int) -> _Walked:
    """The units of sample ``n`` from byte ``at`` on; whether something in it does not add up."""
    data, end = memoryview(samples.data), int(samples.offset[n] + samples.size[n])
    places, sizes = list[int](), list[int]()
    while at < end:
        if end - at <= length_size:
            return n, places, sizes, True
        size = int.from_bytes(data[at : at + length_size], "big")
        at += length_size
        if size > end - at:
            return n, places, sizes, True
        places.append(at)
        sizes.append(size)
        at += size
    return n, places, sizes, False


def _collect(found: list[tuple[Column, Column, Column]], rest: list[_Walked]) -> _Units:
    """What both ways of walking found, in the order of the stream, without empty units."""
    samples = [f[0] for f in found] + [np.full(len(w[1]), w[0], np.int64) for w in rest]
    places = [f[1] for f in found] + [np.asarray(w[1], np.int64) for w in rest]
    sizes = [f[2] for f in found] + [np.asarray(w[2], np.int64) for w in rest]
    damaged = sum(w[3] for w in rest)
    if not samples:
        none = np.zeros(0, np.int64)
        return _Units(none, none, none, damaged)
    sample, at, size = (np.concatenate(c) for c in (samples, places, sizes))
    order = np.argsort(sample, kind="stable")
    order = order[size[order] > 0]
    return _Units(sample[order], at[order], size[order], damaged)


def _between_start_codes(samples: Samples) -> _Units:
    """NAL units in byte stream format (Annex B)."""
    walked: list[_Walked] = []
    for n in range(len(samples)):
        begin = int(samples.offset[n])
        data = bytes(samples.sample(n))
        places, sizes = list[int](), list[int]()
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


def _declare(sps: syntax.Sps, pps: syntax.Pps | None) -> Declared:
    size = f"{sps.width}x{sps.height}"
    values: dict[str, Scalar] = {
        "video.profile": sps.profile, "video.level": sps.level, "video.size": size, "video.width": sps.width,
        "video.height": sps.height, "video.chroma": _CHROMA[sps.chroma_format], "video.bit_depth": sps.bit_depth,
        "video.reference_frames": sps.reference_frames,
    }  # fmt: skip
    if sps.sample_aspect:
        values["video.sample_aspect"] = _ratio(*sps.sample_aspect)
    across, down = sps.sample_aspect or (1, 1)
    values["video.display_aspect"] = _ratio(sps.width * across, sps.height * down)
    if pps is not None:
        values["video.entropy"] = "cabac" if pps.cabac else "cavlc"
    values |= colour.describe(sps.primaries, sps.transfer, sps.matrix, sps.full_range)
    hrd = sps.nal_hrd or sps.vcl_hrd
    promise = Promise(hrd.bitrate, hrd.cbr) if hrd else None
    return Declared(values, sps.frame_rate, promise, f"{size} {sps.profile}")


def _ratio(across: int, down: int) -> str:
    shared = math.gcd(across, down) or 1
    return f"{across // shared}:{down // shared}"


# Levels


# Table A-1: level, MaxMBPS, MaxFS, MaxDpbMbs, MaxBR (1000 bit/s, times the profile's factor of Table A-2 for a NAL HRD)
LEVELS = (
    ("1.0", 1485, 99, 396, 64), ("1.1", 3000, 396, 900, 192), ("1.2", 6000, 396, 2376, 384),
    ("1.3", 11880, 396, 2376, 768), ("2.0", 11880, 396, 2376, 2000), ("2.1", 19800, 792, 4752, 4000),
    ("2.2", 20250, 1620, 8100, 4000), ("3.0", 40500, 1620, 8100, 10000), ("3.1", 108000, 3600, 18000, 14000),
    ("3.2", 216000, 5120, 20480, 20000), ("4.0", 245760, 8192, 32768, 20000), ("4.1", 245760, 8192, 32768, 50000),
    ("4.2", 522240, 8704, 34816, 50000), ("5.0", 589824, 22080, 110400, 135000), ("5.1", 983040, 36864, 184320, 240000),
    ("5.2", 2073600, 36864, 184320, 240000), ("6.0", 4177920, 139264, 696320, 240000),
    ("6.1", 8355840, 139264, 696320, 480000), ("6.2", 16711680, 139264, 696320, 800000),
)  # fmt: skip
# cpbBrNalFactor of Table A-2, in thousands; 1.2 for baseline, main and extended
_FACTOR = {"high": 1.5, "high10": 3.6, "high422": 4.8, "high444": 4.8}


def lowest_level(width: int, height: int, frame_rate: float, bitrate: float, profile: str, references: int = 1) -> str:
    """The lowest level (A.3) that allows a picture (px), its rate (fps) and its bitrate (kbit/s, NAL).

    Raises BitstreamError when none does.
    """
    columns, rows = -(-width // 16), -(-height // 16)
    size = columns * rows
    factor = _FACTOR.get(profile, 1.2)
    for level, per_second, largest, held, most in LEVELS:
        side = math.sqrt(8 * largest)
        if (
            size <= largest and columns <= side and rows <= side and size * frame_rate <= per_second + 1e-6
            and size * references <= held and bitrate <= most * factor
        ):  # fmt: skip
            return level
    raise BitstreamError(f"no H.264 level allows {width}x{height} at {frame_rate:g} fps and {bitrate:g} kbit/s")
