"""The headers of H.265 (ITU-T H.265): parameter sets, the beginning of slices, the decoder configuration record."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from fractions import Fraction

from direkt.codec.bits import BitReader, BitstreamError, unescape
from direkt.codec.h264_syntax import SAMPLE_ASPECTS  # Table E.1 is the same
from direkt.codec.registry import H265_EXTENDED
from direkt.media import Buffer

# ITU-T H.265, Table 7-1: nal_unit_type
BLA, IDR_N_LP, CRA, LAST_IRAP = 16, 20, 21, 23
VPS, SPS, PPS, FILLER, PREFIX_SEI, SUFFIX_SEI = 32, 33, 34, 38, 39, 40
B, P, I = range(3)  # noqa: E741
HEADER_SIZE = 2
_LONGEST = 4096  # bytes of a set that are looked at
_MOST_SETS = 64  # num_short_term_ref_pic_sets
_MOST_PICTURES = 16


@dataclass(frozen=True, slots=True)
class HevcHrd:
    """What a hypothetical decoder's buffer is promised (ITU-T H.265, E.2.2), from the first schedule."""

    bitrate: int  # bit/s
    cpb_size: int  # bit
    cbr: bool


@dataclass(frozen=True, slots=True)
class HevcSps:
    """A sequence parameter set (ITU-T H.265, 7.3.2.2) with its VUI (ITU-T H.265, E.2.1); None: the stream does not say."""

    id: int
    profile_idc: int
    tier: int
    compatibility: int  # 32 flags
    constraints: int  # 48 bits from general_progressive_source_flag on
    level_idc: int
    sub_layers: int
    nested: bool
    chroma_format: int
    bit_depth: int  # luma
    chroma_depth: int
    width: int  # px, after cropping
    height: int
    coded_width: int
    coded_height: int
    block_size: int  # px, of a coding tree block
    references: int  # pictures kept, besides the one being decoded
    reorder: int  # pictures that may come before one that is shown earlier
    sample_aspect: tuple[int, int] | None = None
    full_range: bool | None = None
    primaries: int | None = None
    transfer: int | None = None
    matrix: int | None = None
    field_seq: bool = False
    pic_struct_present: bool = False
    frame_rate: Fraction | None = None  # coded pictures a second, as the VUI claims
    hrd: HevcHrd | None = None

    @property
    def profile(self) -> str:
        """The profile's name in the parameters' words (ITU-T H.265, A.3)."""
        number = self.profile_idc or next((n for n in (1, 2, 3, 4) if self.compatibility >> (31 - n) & 1), 0)
        if number == 4:
            return self._extended
        return {1: "main", 2: "main10", 3: "main-still"}.get(number, "other")

    @property
    def _extended(self) -> str:
        """The name of a format range extensions profile, by what it forbids itself (ITU-T H.265, A.3.5, Table A.2)."""

        def flag(place: int) -> int:
            return self.constraints >> (47 - place) & 1

        deepest = next((depth for place, depth in ((6, 8), (5, 10), (4, 12)) if flag(place)), 16)
        chroma = next((name for place, name in ((9, "monochrome"), (8, "main"), (7, "main422")) if flag(place)), "main444")
        depth = "" if deepest == 8 else f"{'' if chroma == 'main' else '-'}{deepest}"
        name = f"{chroma}{depth}{'-intra' if flag(10) else ''}"
        return name if name in H265_EXTENDED else "other"

    @property
    def level(self) -> str:
        """The level, such as "4.1" (ITU-T H.265, A.4: general_level_idc is 30 times that)."""
        return f"{self.level_idc // 30}.{self.level_idc % 30 // 3}"

    @property
    def interlaced_source(self) -> bool:
        """general_interlaced_source_flag without general_progressive_source_flag (ITU-T H.265, 7.4.4)."""
        return self.constraints >> 46 & 3 == 1

    @property
    def blocks(self) -> int:
        """Coding tree blocks in a picture."""
        return -(-self.coded_width // self.block_size) * -(-self.coded_height // self.block_size)


@dataclass(frozen=True, slots=True)
class HevcPps:
    """The fields of a picture parameter set (ITU-T H.265, 7.3.2.3) that slices need."""

    id: int
    sps_id: int
    dependent_slices: bool
    extra_bits: int


@dataclass(frozen=True, slots=True)
class Vps:
    """A video parameter set (ITU-T H.265, 7.3.2.1), of which nobody here needs more than its number."""

    id: int


def parse_vps(nal: Buffer) -> Vps:
    """A video parameter set NAL unit. Raises BitstreamError."""
    if len(nal) < 4 or nal[0] >> 1 & 63 != VPS:
        raise BitstreamError("not a video parameter set")
    return Vps(nal[2] >> 4)


def parse_sps(nal: Buffer) -> HevcSps:
    """A sequence parameter set NAL unit, header included. Raises BitstreamError."""
    if len(nal) < 16 or nal[0] >> 1 & 63 != SPS:
        raise BitstreamError("not a sequence parameter set")
    bits = BitReader(unescape(nal[HEADER_SIZE:_LONGEST]))
    bits.u(4)
    sub_layers, nested = bits.u(3) + 1, bits.flag()
    bits.u(2)  # general_profile_space
    tier, profile, compatibility, constraints, level = bits.u(1), bits.u(5), bits.u(32), bits.u(48), bits.u(8)
    _sub_layer_levels(bits, sub_layers - 1)
    number, chroma = bits.ue(), bits.ue()
    if number > 15 or chroma > 3:
        raise BitstreamError(f"sequence parameter set {number} with chroma format {chroma}: out of range")
    separate = chroma == 3 and bits.flag()
    coded_width, coded_height = bits.ue(), bits.ue()
    left = right = top = bottom = 0
    if bits.flag():
        left, right, top, bottom = bits.ue(), bits.ue(), bits.ue(), bits.ue()
    unit_x, unit_y = (2 if chroma in (1, 2) else 1), (2 if chroma == 1 else 1)
    width, height = coded_width - unit_x * (left + right), coded_height - unit_y * (top + bottom)
    if width <= 0 or height <= 0 or coded_width > 16888 or coded_height > 16888:
        raise BitstreamError(f"a picture of {width}x{height} px cut from {coded_width}x{coded_height}")
    depth, chroma_depth = 8 + bits.ue(), 8 + bits.ue()
    order_bits = bits.ue() + 4
    references = reorder = 0
    for _ in range(sub_layers if bits.flag() else 1):
        references, reorder = bits.ue(), bits.ue()
        bits.ue()
    smallest = bits.ue() + 3
    block = smallest + bits.ue()
    if block > 6:
        raise BitstreamError(f"coding tree blocks of 2^{block} px")
    bits.ue(), bits.ue(), bits.ue(), bits.ue()
    if bits.flag() and bits.flag():
        _scaling_lists(bits)
    bits.u(2)
    if bits.flag():  # pcm_enabled_flag
        bits.u(8)
        bits.ue(), bits.ue()
        bits.u(1)
    _reference_sets(bits)
    if bits.flag():
        for _ in range(min(bits.ue(), 32)):
            bits.u(order_bits + 1)
    bits.u(2)
    sps = HevcSps(
        number, profile, tier, compatibility, constraints, level, sub_layers, nested, 0 if separate else chroma, depth, chroma_depth,
        width, height, coded_width, coded_height, 1 << block, references, reorder,
    )  # fmt: skip
    return _with_vui(bits, sps) if bits.flag() else sps


def _sub_layer_levels(bits: BitReader, count: int) -> None:
    """The rest of profile_tier_level() (ITU-T H.265, 7.3.3)."""
    told = [(bits.flag(), bits.flag()) for _ in range(count)]
    if count:
        bits.u(2 * (8 - count))
    for profile, level in told:
        bits.u(88 if profile else 0)
        bits.u(8 if level else 0)


def _scaling_lists(bits: BitReader) -> None:
    """scaling_list_data() (ITU-T H.265, 7.3.4)."""
    for size in range(4):
        for _ in range(2 if size == 3 else 6):
            if not bits.flag():
                bits.ue()
                continue
            if size > 1:
                bits.se()
            for _ in range(min(64, 1 << (4 + 2 * size))):
                bits.se()


def _reference_sets(bits: BitReader) -> None:
    """The short-term reference picture sets (ITU-T H.265, 7.3.7, 7.4.8)."""
    count = bits.ue()
    if count > _MOST_SETS:
        raise BitstreamError(f"{count} sets of reference pictures where 64 are the most")
    before: list[int] = []  # what the previous set refers to, as distances in order
    for n in range(count):
        if n and bits.flag():
            sign, size = bits.u(1), bits.ue() + 1
            step = -size if sign else size
            found = []
            for distance in [*before, 0]:
                used = bits.flag()
                kept = used or bits.flag()
                if kept and distance + step:
                    found.append(distance + step)
        else:
            negative, positive = bits.ue(), bits.ue()
            if negative > _MOST_PICTURES or positive > _MOST_PICTURES:
                raise BitstreamError("a set of more than 16 reference pictures")
            found = []
            for many, sign in ((negative, -1), (positive, 1)):
                distance = 0
                for _ in range(many):
                    distance += sign * (bits.ue() + 1)
                    bits.u(1)
                    found.append(distance)
        # negative ones from the nearest on, then positive ones from the nearest on
        before = sorted((d for d in found if d < 0), reverse=True) + sorted(d for d in found if d > 0)
        if len(before) > _MOST_PICTURES:
            raise BitstreamError("a set of more than 16 reference pictures")


def _with_vui(bits: BitReader, sps: HevcSps) -> HevcSps:
    """The same with what its VUI says (ITU-T H.265, E.2.1), as far as that can be read."""
    found: dict[str, object] = {}
    try:
        if bits.flag():
            code = bits.u(8)
            pair = (
                (bits.u(16), bits.u(16))
                if code == 255
                else SAMPLE_ASPECTS[code]
                if code < len(SAMPLE_ASPECTS)
                else None
            )
            if pair is not None and all(pair):
                found["sample_aspect"] = pair
        if bits.flag():
            bits.u(1)
        if bits.flag():
            bits.u(3)
            found["full_range"] = bits.flag()
            if bits.flag():
                found |= {"primaries": bits.u(8), "transfer": bits.u(8), "matrix": bits.u(8)}
        if bits.flag():
            bits.ue(), bits.ue()
        bits.u(1)
        found["field_seq"], found["pic_struct_present"] = bits.flag(), bits.flag()
        if bits.flag():
            bits.ue(), bits.ue(), bits.ue(), bits.ue()
        if bits.flag():
            unit, scale = bits.u(32), bits.u(32)
            if unit and scale:
                found["frame_rate"] = Fraction(scale, unit)
            if bits.flag():
                bits.ue()
            if bits.flag():
                found["hrd"] = _hrd(bits, sps.sub_layers)
    except BitstreamError:  # what was read before stands
        pass
    return replace(sps, **found)  # type: ignore[arg-type]


def _hrd(bits: BitReader, sub_layers: int) -> HevcHrd | None:
    """hrd_parameters(1, ...) (ITU-T H.265, E.2.2): the first schedule of the highest sub-layer."""
    kinds = bits.u(1) + bits.u(1)
    rate_scale = size_scale = 0
    parts = False
    if kinds:
        parts = bits.flag()
        if parts:
            bits.u(8 + 5 + 1 + 5)
        rate_scale, size_scale = bits.u(4), bits.u(4)
        if parts:
            bits.u(4)
        bits.u(5 + 5 + 5)
    found = None
    for _ in range(sub_layers):
        fixed = bits.flag() or bits.flag()
        low_delay = False
        if fixed:
            bits.ue()
        else:
            low_delay = bits.flag()
        schedules = 1 if low_delay else bits.ue() + 1
        if schedules > 32:
            raise BitstreamError(f"{schedules} schedules where 32 are the most")
        for _ in range(kinds):
            for n in range(schedules):
                rate, size = bits.ue() + 1, bits.ue() + 1
                if parts:
                    bits.ue(), bits.ue()
                constant = bits.flag()
                if n == 0:
                    found = HevcHrd(rate << (6 + rate_scale), size << (4 + size_scale), constant)
    return found


def parse_pps(nal: Buffer) -> HevcPps:
    """A picture parameter set NAL unit, header included. Raises BitstreamError."""
    if len(nal) < 3 or nal[0] >> 1 & 63 != PPS:
        raise BitstreamError("not a picture parameter set")
    bits = BitReader(unescape(nal[HEADER_SIZE:64]))
    number, sps = bits.ue(), bits.ue()
    if number > 63 or sps > 15:
        raise BitstreamError(f"picture parameter set {number} for sequence parameter set {sps}: out of range")
    dependent = bits.flag()
    bits.u(1)
    return HevcPps(number, sps, dependent, bits.u(3))


def pic_struct(payload: bytes) -> int | None:
    """pic_struct of a picture timing message (ITU-T H.265, D.2.3) where frame_field_info_present_flag is set."""
    return payload[0] >> 4 if payload else None


# The decoder configuration record (ISO/IEC 14496-15, 8.3.3.1)


@dataclass(frozen=True, slots=True)
class HevcConfig:
    """HEVCDecoderConfigurationRecord."""

    length_size: int
    units: tuple[bytes, ...]  # parameter sets and messages
    profile_idc: int
    level_idc: int


def parse_hevc_config(data: Buffer) -> HevcConfig:
    """The record of MP4, and of FLV and RTMP with extended headers. Raises BitstreamError."""
    if len(data) < 23 or data[0] != 1:
        raise BitstreamError("not an H.265 decoder configuration record")
    units: list[bytes] = []
    at = 23
    for _ in range(data[22]):
        if at + 3 > len(data):
            raise BitstreamError("the H.265 decoder configuration record is cut")
        count = int.from_bytes(data[at + 1 : at + 3], "big")
        at += 3
        for _ in range(count):
            size = int.from_bytes(data[at : at + 2], "big")
            at += 2
            if at + size > len(data):
                raise BitstreamError("a parameter set runs past the end of the decoder configuration record")
            units.append(bytes(data[at : at + size]))
            at += size
    return HevcConfig((data[21] & 3) + 1, tuple(units), data[1] & 31, data[12])


def build_hevc_config(vps: Iterable[bytes], sps: Iterable[bytes], pps: Iterable[bytes]) -> bytes:
    """A record with four-byte lengths. Raises BitstreamError where the first sequence set cannot be read."""
    arrays = [(kind, list(units)) for kind, units in ((VPS, vps), (SPS, sps), (PPS, pps))]
    parsed = parse_sps(arrays[1][1][0])
    head = bytes([1, parsed.tier << 5 | parsed.profile_idc]) + parsed.compatibility.to_bytes(4, "big")
    head += parsed.constraints.to_bytes(6, "big") + bytes([parsed.level_idc, 0xF0, 0, 0xFC])
    head += bytes([0xFC | parsed.chroma_format, 0xF8 | parsed.bit_depth - 8, 0xF8 | parsed.chroma_depth - 8, 0, 0])
    head += bytes([parsed.sub_layers << 3 | parsed.nested << 2 | 3, len(arrays)])
    for kind, units in arrays:
        head += bytes([0x80 | kind]) + len(units).to_bytes(2, "big")
        head += b"".join(len(unit).to_bytes(2, "big") + unit for unit in units)
    return head


def key_of_set(unit: bytes) -> tuple[int, int] | None:
    """Type and number of a parameter set; None for one that cannot be read."""
    try:
        return unit[0] >> 1 & 63, parse_set(unit).id
    except (BitstreamError, IndexError):
        return None


def parse_set(unit: bytes) -> Vps | HevcSps | HevcPps:
    """Any parameter set. Raises BitstreamError."""
    kind = unit[0] >> 1 & 63 if unit else 0
    return parse_sps(unit) if kind == SPS else parse_pps(unit) if kind == PPS else parse_vps(unit)


def configuration_of(sets: Iterable[bytes]) -> bytes:
    """The record of these parameter sets; empty where some are missing."""
    found: dict[int, list[bytes]] = {VPS: [], SPS: [], PPS: []}
    for unit in sets:
        found.setdefault(unit[0] >> 1 & 63, []).append(unit.rstrip(b"\0"))
    if not all(found[kind] for kind in (VPS, SPS, PPS)):
        return b""
    return build_hevc_config(found[VPS], found[SPS], found[PPS])


def reorder_of(unit: bytes) -> int | None:
    """Of a sequence set, how many pictures may come before one that is shown earlier."""
    if not unit or unit[0] >> 1 & 63 != SPS:
        return None
    try:
        return parse_sps(unit).reorder
    except BitstreamError:
        return None
