"""H.264 syntax (ITU-T H.264): NAL units, parameter sets, slice headers and the SEI that timing needs.

Only headers are read; of a slice at most its first 40 bytes. Clause and table numbers are those of ITU-T H.264.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction

from direkt.codec.bits import BitReader, BitstreamError, unescape
from direkt.media import Buffer

# ITU-T H.264, Table 7-1
SLICE, PARTITION_A, IDR, SEI, SPS, PPS, AUD, FILLER = 1, 2, 5, 6, 7, 8, 9, 12

# ITU-T H.264, Table 7-6, modulo 5
P, B, I, SP, SI = range(5)  # noqa: E741

_HIGH_SYNTAX = {100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135}  # ITU-T H.264, 7.3.2.1.1


@dataclass(frozen=True, slots=True)
class AvcHrd:
    """What a hypothetical decoder's buffer is promised (ITU-T H.264, E.1.2), from the first schedule."""

    bitrate: int  # bit/s
    cpb_size: int  # bit
    cbr: bool
    initial_delay_length: int  # bits
    removal_delay_length: int  # bits
    output_delay_length: int  # bits
    schedules: int = 1


@dataclass(frozen=True, slots=True)
class AvcSps:
    """A sequence parameter set (ITU-T H.264, 7.3.2.1.1) with its VUI (ITU-T H.264, E.1.1); None: the stream does not say."""

    id: int
    profile_idc: int
    constraints: int  # constraint_set0_flag is the bit of value 128
    level_idc: int
    chroma_format: int  # 0 to 3
    bit_depth: int  # luma
    reference_frames: int
    width: int  # px, after cropping
    height: int  # px, after cropping
    coded_width: int
    coded_height: int
    frame_mbs_only: bool
    mb_adaptive: bool
    frame_number_bits: int
    separate_planes: bool
    order_type: int
    order_bits: int
    order_always_zero: bool = False  # delta_pic_order_always_zero_flag
    sample_aspect: tuple[int, int] | None = None
    full_range: bool | None = None
    primaries: int | None = None
    transfer: int | None = None
    matrix: int | None = None
    time_scale: int | None = None  # ticks a second
    ticks_per_field: int | None = None  # num_units_in_tick
    fixed_rate: bool = False
    nal_hrd: AvcHrd | None = None
    vcl_hrd: AvcHrd | None = None
    pic_struct_present: bool = False
    max_reorder: int | None = None

    @property
    def profile(self) -> str:
        """The profile's name in the parameters' words (ITU-T H.264, A.2)."""
        if self.profile_idc == 66:
            return "constrained-baseline" if self.constraints & 0x40 else "baseline"
        name = _PROFILES.get(self.profile_idc, "other")
        intra = self.profile_idc in (110, 122, 244) and self.constraints & 0x10  # constraint_set3_flag (ITU-T H.264, A.3.2)
        return f"{name}-intra" if intra else name

    @property
    def level(self) -> str:
        """The level, such as "3.1" or "1b" as "1.0b" (ITU-T H.264, A.3, Table A-1)."""
        if self.level_idc == 9 or (
            self.level_idc == 11 and self.constraints & 0x10 and self.profile_idc in (66, 77, 88)
        ):
            return "1.0b"
        return f"{self.level_idc // 10}.{self.level_idc % 10}"

    @property
    def frame_rate(self) -> Fraction | None:
        """Pictures a second as the VUI claims (ITU-T H.264, E.2.1); None where it does not."""
        if not self.time_scale or not self.ticks_per_field:
            return None
        return Fraction(self.time_scale, 2 * self.ticks_per_field)


_PROFILES = {
    77: "main", 88: "extended", 100: "high", 110: "high10", 122: "high422", 244: "high444", 44: "cavlc444-intra",
    118: "multiview-high", 128: "stereo-high",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class AvcPps:
    """The fields of a picture parameter set (ITU-T H.264, 7.3.2.2) that are measured."""

    id: int
    sps_id: int
    cabac: bool
    order_present: bool = False  # bottom_field_pic_order_in_frame_present_flag
    redundant_present: bool = False  # redundant_pic_cnt_present_flag


@dataclass(frozen=True, slots=True)
class SliceHeader:
    """A slice header (ITU-T H.264, 7.3.3); what stands behind the redundant picture count is read for I slices only."""

    first_mb: int
    type: int  # P, B, I, SP or SI
    pps_id: int
    frame_number: int
    field: bool
    bottom: bool
    idr_id: int | None
    bottom_later: int = 0  # delta_pic_order_cnt_bottom: negative where the bottom field comes first
    redundant: bool = False  # another coding of a picture that already exists
    forgets: bool = False  # all pictures before it become unused for reference (memory_management_control_operation 5)


def _scaling_list(bits: BitReader, size: int) -> None:
    last = following = 8
    for _ in range(size):
        if following:
            following = (last + bits.se()) % 256
        last = following or last


def _hrd(bits: BitReader) -> AvcHrd:
    """hrd_parameters(), E.1.2."""
    schedules = bits.ue() + 1
    if schedules > 32:
        raise BitstreamError(f"{schedules} buffer schedules where 32 are allowed")
    rate_scale, size_scale = bits.u(4), bits.u(4)
    first: tuple[int, int, bool] | None = None
    for _ in range(schedules):
        rate = (bits.ue() + 1) << (6 + rate_scale)
        size = (bits.ue() + 1) << (4 + size_scale)
        schedule = (rate, size, bits.flag())
        first = first or schedule
    assert first is not None
    lengths = bits.u(5) + 1, bits.u(5) + 1, bits.u(5) + 1
    bits.u(5)  # time_offset_length
    return AvcHrd(*first, *lengths, schedules=schedules)


# Table E-1
SAMPLE_ASPECTS = (
    None, (1, 1), (12, 11), (10, 11), (16, 11), (40, 33), (24, 11), (20, 11), (32, 11), (80, 33), (18, 11), (15, 11),
    (64, 33), (160, 99), (4, 3), (3, 2), (2, 1),
)  # fmt: skip


def _vui(bits: BitReader) -> dict[str, object]:
    """vui_parameters(), E.1.1."""
    out: dict[str, object] = {}
    if bits.flag():  # aspect_ratio_info_present_flag
        idc = bits.u(8)
        if idc == 255:
            width, height = bits.u(16), bits.u(16)
            out["sample_aspect"] = (width, height) if width and height else None
        elif idc < len(SAMPLE_ASPECTS):
            out["sample_aspect"] = SAMPLE_ASPECTS[idc]
    if bits.flag():  # overscan_info_present_flag
        bits.u(1)
    if bits.flag():  # video_signal_type_present_flag
        bits.u(3)
        out["full_range"] = bits.flag()
        if bits.flag():  # colour_description_present_flag
            out["primaries"], out["transfer"], out["matrix"] = bits.u(8), bits.u(8), bits.u(8)
    if bits.flag():  # chroma_loc_info_present_flag
        bits.ue(), bits.ue()
    if bits.flag():  # timing_info_present_flag
        out["ticks_per_field"], out["time_scale"] = bits.u(32), bits.u(32)
        out["fixed_rate"] = bits.flag()
    nal = bits.flag()
    if nal:
        out["nal_hrd"] = _hrd(bits)
    vcl = bits.flag()
    if vcl:
        out["vcl_hrd"] = _hrd(bits)
    if nal or vcl:
        bits.u(1)  # low_delay_hrd_flag
    out["pic_struct_present"] = bits.flag()
    if bits.flag():  # bitstream_restriction_flag
        bits.u(1)
        for _ in range(4):
            bits.ue()
        out["max_reorder"] = bits.ue()
        bits.ue()
    return out


def parse_sps(nal: Buffer) -> AvcSps:
    """A sequence parameter set NAL unit, header byte included. Raises BitstreamError."""
    if len(nal) < 4 or nal[0] & 31 != SPS:
        raise BitstreamError("not a sequence parameter set")
    bits = BitReader(unescape(nal[1:4096]))
    profile, constraints, level = bits.u(8), bits.u(8), bits.u(8)
    sps_id = bits.ue()
    if sps_id > 31:
        raise BitstreamError(f"sequence parameter set number {sps_id} where 31 is the highest")
    chroma, depth, separate = 1, 8, False
    if profile in _HIGH_SYNTAX:
        chroma = bits.ue()
        if chroma > 3:
            raise BitstreamError(f"chroma format {chroma} where 3 is the highest")
        if chroma == 3:
            separate = bits.flag()
        depth = 8 + bits.ue()
        bits.ue()
        bits.u(1)
        if bits.flag():
            for n in range(12 if chroma == 3 else 8):
                if bits.flag():
                    _scaling_list(bits, 16 if n < 6 else 64)
    frame_number_bits = bits.ue() + 4
    order_type = bits.ue()
    order_bits, order_zero = 0, False
    if order_type == 0:
        order_bits = bits.ue() + 4
    elif order_type == 1:
        order_zero = bits.flag()
        bits.se(), bits.se()
        for _ in range(min(bits.ue(), 256)):
            bits.se()
    references = bits.ue()
    bits.u(1)
    columns, rows = bits.ue() + 1, bits.ue() + 1
    frame_only = bits.flag()
    adaptive = False if frame_only else bits.flag()
    bits.u(1)
    left = right = top = bottom = 0
    if bits.flag():
        left, right, top, bottom = bits.ue(), bits.ue(), bits.ue(), bits.ue()
    width, height = columns * 16, rows * 16 * (1 if frame_only else 2)
    unit_x = 1 if chroma in (0, 3) else 2
    unit_y = (2 if chroma == 1 else 1) * (1 if frame_only else 2)
    shown_width, shown_height = width - unit_x * (left + right), height - unit_y * (top + bottom)
    if shown_width <= 0 or shown_height <= 0 or width > 16384 or height > 16384:
        raise BitstreamError(f"a picture of {shown_width}x{shown_height} px cut from {width}x{height}")
    vui = _vui(bits) if bits.flag() else {}
    return AvcSps(
        id=sps_id, profile_idc=profile, constraints=constraints, level_idc=level, chroma_format=chroma, bit_depth=depth,
        reference_frames=references, width=shown_width, height=shown_height, coded_width=width, coded_height=height,
        frame_mbs_only=frame_only, mb_adaptive=adaptive, frame_number_bits=frame_number_bits, separate_planes=separate,
        order_type=order_type, order_bits=order_bits, order_always_zero=order_zero, **vui,  # type: ignore[arg-type]
    )  # fmt: skip


def parse_pps(nal: Buffer) -> AvcPps:
    """A picture parameter set NAL unit, header byte included. Raises BitstreamError."""
    if len(nal) < 2 or nal[0] & 31 != PPS:
        raise BitstreamError("not a picture parameter set")
    bits = BitReader(unescape(nal[1:64]))
    pps_id, sps_id = bits.ue(), bits.ue()
    if pps_id > 255 or sps_id > 31:
        raise BitstreamError(f"picture parameter set {pps_id} for sequence parameter set {sps_id}: out of range")
    cabac, order = bits.flag(), False
    try:
        order = bits.flag()
        _slice_groups(bits)
        bits.ue(), bits.ue()  # num_ref_idx_l0_default_active_minus1, l1
        bits.u(3)  # weighted_pred_flag, weighted_bipred_idc
        bits.se(), bits.se(), bits.se()  # pic_init_qp_minus26, pic_init_qs_minus26, chroma_qp_index_offset
        bits.u(2)  # deblocking_filter_control_present_flag, constrained_intra_pred_flag
        return AvcPps(pps_id, sps_id, cabac, order, bits.flag())
    except BitstreamError:  # cut, or with a map of slice groups longer than what was looked at
        return AvcPps(pps_id, sps_id, cabac, order)


def _slice_groups(bits: BitReader) -> None:
    """The slice groups of a picture parameter set, stepped over."""
    groups = bits.ue() + 1
    if groups == 1:
        return
    if groups > 8:
        raise BitstreamError(f"{groups} slice groups where 8 are allowed")
    kind = bits.ue()
    if kind == 0:
        for _ in range(groups):
            bits.ue()
    elif kind == 2:
        for _ in range(2 * (groups - 1)):
            bits.ue()
    elif kind in (3, 4, 5):
        bits.u(1), bits.ue()
    elif kind == 6:
        count = bits.ue() + 1
        bits.u(count * (groups - 1).bit_length())


def parse_slice(nal: Buffer, sps: AvcSps, pps: AvcPps | None = None) -> SliceHeader:
    """A slice's header; ``nal`` may be cut after 40 bytes. Without ``pps`` it is read up to idr_pic_id.

    Raises BitstreamError.
    """
    bits = BitReader(unescape(nal[1:40]))
    first_mb, kind, pps_id = bits.ue(), bits.ue(), bits.ue()
    if kind > 9:
        raise BitstreamError(f"slice type {kind} where 9 is the highest")
    kind %= 5
    if sps.separate_planes:
        bits.u(2)
    number = bits.u(sps.frame_number_bits)
    field = bottom = False
    if not sps.frame_mbs_only:
        field = bits.flag()
        bottom = field and bits.flag()
    idr = nal[0] & 31 == IDR
    idr_id = bits.ue() if idr else None
    if pps is None:
        return SliceHeader(first_mb, kind, pps_id, number, field, bottom, idr_id)
    later = 0
    if sps.order_type == 0:
        bits.u(sps.order_bits)
        later = bits.se() if pps.order_present and not field else 0
    elif sps.order_type == 1 and not sps.order_always_zero:
        bits.se()
        later = bits.se() if pps.order_present and not field else 0
    redundant = pps.redundant_present and bits.ue() > 0
    forgets = kind == I and not idr and nal[0] >> 5 != 0 and _forgets(bits)
    return SliceHeader(first_mb, kind, pps_id, number, field, bottom, idr_id, later, redundant, forgets)


def _forgets(bits: BitReader) -> bool:
    """Whether dec_ref_pic_marking() (ITU-T H.264, 7.3.3.3) of a picture that is no IDR picture marks all before it as unused."""
    if not bits.flag():
        return False
    while operation := bits.ue():
        if operation == 5:
            return True
        bits.ue()
        if operation == 3:
            bits.ue()
    return False


def parse_sei(nal: Buffer, header: int = 1) -> Iterator[tuple[int, bytes]]:
    """Type and payload of each SEI message (ITU-T H.264, 7.3.2.3) in a NAL unit, whose header has ``header`` bytes (H.265: 2).

    Stops quietly at one that is cut.
    """
    data = unescape(nal[header:4096])
    at = 0
    while at + 2 <= len(data) and data[at:] != b"\x80":
        numbers = []
        for _ in range(2):
            number = 0
            while at < len(data) and data[at] == 255:
                number += 255
                at += 1
            if at >= len(data):
                return
            numbers.append(number + data[at])
            at += 1
        kind, size = numbers
        if at + size > len(data):
            return
        yield kind, data[at : at + size]
        at += size


def pic_struct(payload: bytes, sps: AvcSps) -> int | None:
    """pic_struct of a pic_timing SEI message (ITU-T H.264, D.1.3, Table D-1); None where it has none."""
    if not sps.pic_struct_present:
        return None
    bits = BitReader(payload)
    hrd = sps.nal_hrd or sps.vcl_hrd
    try:
        if hrd:
            bits.u(hrd.removal_delay_length + hrd.output_delay_length)
        return bits.u(4)
    except BitstreamError:
        return None


@dataclass(frozen=True, slots=True)
class AvcConfig:
    """AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1)."""

    profile_idc: int
    constraints: int
    level_idc: int
    length_size: int  # bytes: 1, 2 or 4
    sps: tuple[bytes, ...]
    pps: tuple[bytes, ...]


def parse_avc_config(data: Buffer) -> AvcConfig:
    """The decoder configuration record of FLV and MP4. Raises BitstreamError."""
    if len(data) < 7 or data[0] != 1:
        raise BitstreamError("not an H.264 decoder configuration record")
    sets: list[tuple[bytes, ...]] = []
    at = 5
    for mask in (31, 255):
        found = []
        if at >= len(data):
            raise BitstreamError("the H.264 decoder configuration record is cut")
        count = data[at] & mask
        at += 1
        for _ in range(count):
            size = int.from_bytes(data[at : at + 2], "big")
            at += 2
            if at + size > len(data):
                raise BitstreamError("a parameter set runs past the end of the decoder configuration record")
            found.append(bytes(data[at : at + size]))
            at += size
        sets.append(tuple(found))
    return AvcConfig(data[1], data[2], data[3], (data[4] & 3) + 1, sets[0], sets[1])


def build_avc_config(sps: bytes, *pps: bytes) -> bytes:
    """An AVCDecoderConfigurationRecord with four-byte lengths (ISO/IEC 14496-15, 5.3.3.1)."""
    record = bytes([1, sps[1], sps[2], sps[3], 0xFF, 0xE1]) + len(sps).to_bytes(2, "big") + sps
    record += bytes([len(pps)]) + b"".join(len(unit).to_bytes(2, "big") + unit for unit in pps)
    if sps[1] in (100, 110, 122, 144):
        parsed = parse_sps(sps)
        record += bytes([0xFC | parsed.chroma_format, 0xF8 | (parsed.bit_depth - 8), 0xF8 | (parsed.bit_depth - 8), 0])
    return record


def key_of_set(unit: bytes) -> tuple[int, int] | None:
    """Type and number of a parameter set; None for one that cannot be read."""
    try:
        parsed = parse_sps(unit) if unit[0] & 31 == SPS else parse_pps(unit)
    except (BitstreamError, IndexError):
        return None
    return unit[0] & 31, parsed.id


def configuration_of(sets: Iterable[bytes]) -> bytes:
    """The record of these parameter sets; empty where some are missing. Of several sequence sets, the latest counts."""
    units = [unit.rstrip(b"\0") for unit in sets]
    sps = [unit for unit in units if unit[0] & 31 == SPS]
    pps = [unit for unit in units if unit[0] & 31 == PPS]
    return build_avc_config(sps[-1], *pps) if sps and pps else b""


def reorder_of(unit: bytes) -> int | None:
    """Of a sequence set, how many pictures may come before one that is shown earlier; None where it does not say."""
    if not unit or unit[0] & 31 != SPS:
        return None
    try:
        sps = parse_sps(unit)
    except BitstreamError:
        return None
    if sps.order_type == 2 or sps.profile_idc == 66:  # ITU-T H.264, 8.2.1.3, A.2.1
        return 0
    return sps.max_reorder
