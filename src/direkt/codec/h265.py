"""Reads H.265 (ITU-T H.265): finds the pictures in batches of samples.

Strategy. As for H.264: of each slice the first eight bytes are gathered, and what its header begins with is taken with array
operations; Python looks only at parameter sets, messages, and slices with emulation prevention in those bytes. O(NAL units).
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from direkt.codec import colour, shape
from direkt.codec import h265_syntax as syntax
from direkt.codec.bits import unescape
from direkt.codec.h264_syntax import parse_sei
from direkt.codec.h265_levels import LEVELS, bitrate_steps, level_names, lowest_level
from direkt.codec.nal import Units
from direkt.codec.nal_reader import NalReader, golomb, windows
from direkt.codec.reader import Declared, Join, Motion, Parity, Pictures, Promise, Remark, Scan, opaque_pictures
from direkt.media import Bytes, Codes, Column, Format, Marks, Samples, Times, Words

__all__ = ["LEVELS", "Reader", "bitrate_steps", "level_names", "lowest_level"]

# Table D.1: payloadType, the same numbers as in H.264
_PIC_TIMING, _FILLER_MESSAGE, _RECOVERY_POINT = 1, 3, 6
_PROJECTIONS = {150: "equirectangular", 151: "cubemap"}
# A slice of which every block is skipped: its header, what arithmetic coding needs until its contexts have learned, and
# then, for each coding tree block, a split flag, a skip flag, a merge index and the end flag at their lowest probabilities
_STILL_HEADER, _STILL_LEARNING, _STILL_BLOCK = 20, 10, 0.12 / 8  # bytes


class Reader(NalReader):
    """Reads one track."""

    SETS, FILLER = (syntax.VPS, syntax.SPS, syntax.PPS), syntax.FILLER

    def __init__(self, remark: Remark) -> None:
        super().__init__(remark)
        self._sps: syntax.HevcSps | None = None  # of the latest picture
        self._pps: syntax.HevcPps | None = None
        self._projection = "none"
        self._half: int | None = None  # which field waits for its other one: 1 top, 2 bottom, 0 not said
        self._any_field = False
        self._pairing = False  # it is known which fields are the first of a pair

    def kind_of(self, first: int) -> int:
        """nal_unit_type (ITU-T H.265, 7.3.1.2)."""
        return first >> 1 & 63

    def kinds_of(self, first: Bytes) -> Bytes:
        """The same of many."""
        return first >> np.uint8(1) & np.uint8(63)

    def parse_set(self, unit: bytes) -> syntax.Vps | syntax.HevcSps | syntax.HevcPps:
        """A parameter set. Raises BitstreamError."""
        return syntax.parse_set(unit)

    def base_layer(self, samples: Samples, units: Units) -> Units:
        """Those whose nuh_layer_id is 0 (ITU-T H.265, 7.4.2.2): others add depth, a second eye or more detail."""
        view = samples.view
        long = units.size >= syntax.HEADER_SIZE
        behind = np.where(long, view[np.where(long, units.at + 1, units.at)], 0)
        base = ((view[units.at] & 1) == 0) & (behind < 8)
        if base.all():
            return units
        return Units(units.sample[base], units.at[base], units.size[base], units.damaged)

    def configure(self, format: Format) -> None:
        """An HEVCDecoderConfigurationRecord (ISO/IEC 14496-15, 8.3.3.1); without one, the stream itself must tell."""
        self._framing = format.framing
        self._guess = not format.configuration
        if not format.configuration:
            return
        record = syntax.parse_hevc_config(format.configuration)
        self._length_size = record.length_size
        for unit in record.units:
            if self.kind_of(unit[0] if unit else 0) in self.SETS:
                self._take(unit)
        if not self._any_picture:
            self._activate(next((number for kind, number in self._sets if kind == syntax.PPS), -1))
            sps = self._sps
            if sps is not None and (record.profile_idc, record.level_idc) != (sps.profile_idc, sps.level_idc):
                self._remark(
                    f"the decoder configuration says profile {record.profile_idc} level {record.level_idc / 30:.1f}, "
                    f"the stream's own header says profile {sps.profile_idc} level {sps.level_idc / 30:.1f}"
                )

    def _activate(self, pps_id: int) -> bool:
        """Makes the sets that a picture names the ones in force; True when what they declare has changed."""
        pps_unit = self._sets.get((syntax.PPS, pps_id), b"")
        pps = self._parse(pps_unit) if pps_unit else None
        if not isinstance(pps, syntax.HevcPps):
            return False
        sps_unit = self._sets.get((syntax.SPS, pps.sps_id), b"")
        sps = self._parse(sps_unit) if sps_unit else None
        if not isinstance(sps, syntax.HevcSps):
            return False
        self._sps, self._pps = sps, pps
        key = (sps_unit, self._projection.encode())
        return self._declare(key, None if key in self._declarations else _declare(sps, self._projection))

    def _pictures(self, samples: Samples, units: Units, kinds: Bytes, before: int) -> Pictures:
        """The pictures of one stretch; ``before``: pictures of this batch in front of it."""
        coded = np.flatnonzero(kinds < 32)
        points, fields, filler = self._messages(samples, units, kinds)
        if not len(coded):
            self._waiting_point = self._waiting_point or bool(len(points))
            return replace(opaque_pictures(coded), filler=filler)
        at, size, sample = units.at[coded], units.size[coded], units.sample[coded]
        types = kinds[coded].astype(np.int64)
        start, escaped = windows(samples, at + syntax.HEADER_SIZE, size - syntax.HEADER_SIZE)
        for n in escaped.tolist():
            start[n] = _unescaped(samples, int(at[n]), int(size[n]))
        leads = start >> np.uint64(63) == 1
        leads[0] |= not self._any_picture
        self._any_picture = True
        irap = (types >= syntax.BLA) & (types <= syntax.LAST_IRAP)
        pps_id, used = golomb(start, np.where(irap, 2, 1).astype(np.uint64))
        lead = np.flatnonzero(leads)
        if len(lead) and self._sps is None:
            self._activate(int(pps_id[lead[0]]))
        if self._sps is None or not self._sps.pic_struct_present:
            fields = []
        structures = {int(np.searchsorted(coded[lead], unit)): structure for unit, structure in fields}
        kept = self._first_fields(types[lead], structures)
        heads = lead[kept]
        kind, independent, changes, still = self._slices(start, used, pps_id, leads, heads)
        picture = np.searchsorted(heads, np.arange(len(coded)), side="right") - 1
        inside, count = picture >= 0, len(heads)
        bipredicted, refers = np.zeros(count, np.bool_), np.zeros(count, np.bool_)
        two_way = picture[kind == syntax.B]
        bipredicted[two_way[two_way >= 0]] = True
        refers[picture[inside & ((kind == syntax.B) | (kind == syntax.P))]] = True
        head_types = types[heads]
        join: Codes = np.zeros(count, np.int8)
        join[(head_types >= syntax.BLA) & (head_types <= syntax.IDR_N_LP)] = Join.KEYFRAME
        join[head_types == syntax.CRA] = Join.RECOVERY
        self._mark_points(points, coded[heads], join)
        anchor = ~refers & (join != Join.KEYFRAME)
        # of a picture in two fields, the field with more slices counts
        each = np.bincount((np.searchsorted(lead, np.arange(len(coded)), side="right"))[independent], minlength=len(lead) + 1)[1:]
        slices = np.maximum.reduceat(each, kept) if count else each[:0]
        coded_bytes = np.bincount(picture[inside], size[inside], minlength=count)
        motion = np.where(
            refers, np.where(coded_bytes <= still + _STILL_HEADER * slices, Motion.STILL, Motion.SOME), Motion.UNKNOWN
        ).astype(np.int8)
        scan, parity = self._scans({n: structures[old] for n, old in enumerate(kept.tolist()) if old in structures}, count)
        numbers = [(n + before, declared) for n, declared in changes]
        late = int((~inside & independent).sum())
        return Pictures(
            sample[heads], join, bipredicted, scan, parity, motion, anchor, slices, tuple(numbers), 0, filler, late,
            bool((two_way < 0).any()),
        )  # fmt: skip

    def _slices(
        self, start: Words, used: Words, pps_id: Column, leads: Column, heads: Column
    ) -> tuple[Column, Marks, list[tuple[int, Declared]], Times]:
        """Of each slice: its type (-1: not known) and whether it stands by itself; what is declared anew; bytes of a still picture."""
        kind = np.full(len(start), -1, np.int64)
        independent = np.ones(len(start), np.bool_)
        still = np.full(len(heads), -1.0 - _STILL_HEADER)
        changes: list[tuple[int, Declared]] = []
        runs = [0, *(np.flatnonzero(np.diff(pps_id)) + 1).tolist(), len(start)]
        for begin, end in itertools.pairwise(runs):
            low, high = np.searchsorted(heads, [begin, end])
            if self._activate(int(pps_id[begin])) and self.declared is not None and low < len(heads):
                changes.append((int(low), self.declared))
            sps, pps = self._sps, self._pps
            if sps is None or pps is None or pps.id != pps_id[begin]:
                continue
            part = slice(begin, end)
            bits = used[part].copy()
            more = ~leads[part]
            if pps.dependent_slices:
                dependent = more & ((start[part] << bits) >> np.uint64(63) == 1)
                independent[part] = ~dependent
                bits[more] += np.uint64(1)
            bits[more] += np.uint64((sps.blocks - 1).bit_length())
            bits += np.uint64(pps.extra_bits)
            found, _ = golomb(start[part], bits)
            kind[part] = np.where(independent[part] & (found <= 2), found, -1)
            still[low:high] = (sps.blocks * _STILL_BLOCK + _STILL_LEARNING) * (2 if sps.field_seq else 1)
        return kind, independent, changes, still

    def _messages(self, samples: Samples, units: Units, kinds: Bytes) -> tuple[Column, list[tuple[int, int]], int]:
        """Units with a recovery point; units with how a picture was taken; bytes of filler in messages."""
        points: list[int] = []
        fields: list[tuple[int, int]] = []
        filler = 0
        data = memoryview(samples.data)
        asked = self._sps is None or self._sps.pic_struct_present
        sei = (kinds == syntax.PREFIX_SEI) | (kinds == syntax.SUFFIX_SEI)
        for n in np.flatnonzero(sei).tolist():
            at = int(units.at[n])
            for kind, payload in parse_sei(data[at : at + int(units.size[n])], syntax.HEADER_SIZE):
                if kind == _RECOVERY_POINT:
                    points.append(n)
                elif kind == _FILLER_MESSAGE:
                    filler += len(payload)
                elif kind == _PIC_TIMING and asked and (structure := syntax.pic_struct(payload)) is not None:
                    fields.append((n, structure))
                elif kind in _PROJECTIONS and payload:
                    self._projection = "none" if payload[0] & 0x80 else _PROJECTIONS[kind]
        return np.asarray(points, np.int64), fields, filler

    def _first_fields(self, types: Column, structures: Mapping[int, int]) -> Column:
        """Which coded pictures begin a picture as it is shown: all, or where each is a field, the first ones of pairs.

        A message says which field it is, and with which it makes a pair (ITU-T H.265, Table D.2); without one, fields alternate.
        """
        sps = self._sps
        if sps is None or not sps.field_seq:
            self._half = None
            return np.arange(len(types))
        first = []
        for n, kind in enumerate(types.tolist()):
            structure = structures.get(n, 0)
            parity = 1 if structure in (1, 9, 11) else 2 if structure in (2, 10, 12) else 0
            half = self._half
            second = half is not None and (not parity or parity != half) and structure not in (11, 12)
            if structure in (9, 10):
                second = self._any_field
            if kind >= syntax.BLA:  # a picture that needs nothing is never the second field of another
                second = False
            self._pairing = self._pairing or kind >= syntax.BLA or structure in (9, 10, 11, 12)
            self._any_field = True
            self._half = None if second else parity
            if not second:
                first.append(n)
        return np.asarray(first, np.int64)

    def _scans(self, structures: Mapping[int, int], count: int) -> tuple[Codes, Codes]:
        """How pictures were taken (ITU-T H.265, Table D.2), by the messages in front of them or what is declared of all."""
        sps = self._sps
        scan: Codes = np.zeros(count, np.int8)
        parity: Codes = np.zeros(count, np.int8)
        if sps is not None:
            scan[:] = Scan.FIELDS if sps.field_seq or sps.interlaced_source else Scan.WHOLE
        for n, structure in structures.items():
            if n < count:
                half = structure in (1, 2, 3, 4, 5, 6, 9, 10, 11, 12)
                scan[n] = Scan.FIELDS if half or (sps is not None and sps.field_seq) else Scan.WHOLE
                # 9 and 11: with the other field of the picture before or behind it
                top, bottom = (1, 3, 5, 11, 10), (2, 4, 6, 12, 9)
                if structure > 2 or self._pairing:  # a stream that is cut between two fields begins with the second one
                    parity[n] = Parity.TOP if structure in top else Parity.BOTTOM if structure in bottom else Parity.UNKNOWN
        return scan, parity


def _unescaped(samples: Samples, at: int, size: int) -> int:
    """The first eight bytes of a slice's header with emulation prevention bytes among them."""
    unit = memoryview(samples.data)[at + syntax.HEADER_SIZE : at + min(size, 24)]
    return int.from_bytes(unescape(unit)[:8].ljust(8, b"\0"), "big")


# What is declared


def _declare(sps: syntax.HevcSps, projection: str) -> Declared:
    fields = 2 if sps.field_seq else 1  # coded pictures in one that is shown
    values = shape.describe(
        (sps.width, fields * sps.height),
        (sps.coded_width, fields * sps.coded_height),
        sps.sample_aspect,
        sps.chroma_format,
        sps.bit_depth,
    )
    values |= {
        "video.profile": sps.profile, "video.level": sps.level, "video.reference_frames": sps.references,
        "video.projection": projection, "video.entropy": "cabac", "video.tier": "high" if sps.tier else "main",
    }  # fmt: skip
    values |= colour.describe(sps.primaries, sps.transfer, sps.matrix, sps.full_range)
    promise = Promise(sps.hrd.bitrate, sps.hrd.cbr, sps.hrd.cpb_size) if sps.hrd else None
    return Declared(values, sps.frame_rate / fields if sps.frame_rate else None, promise, f"{values['video.size']} {sps.profile}")
