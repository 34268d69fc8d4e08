"""Writes a valid H.264 stream of a moving test card: bars, a moving marker and a frame count in blocks.

Strategy. Every macroblock of the card is flat, and coded as Intra_16x16 predicted from its left or upper
neighbour, which is flat too. At QP 28 for luma and 22 for chroma one DC level is exactly one code value, so
the decoded picture is exactly the card and the writer needs no decoder of its own. Between keyframes, only the
macroblocks that change are coded; the rest are skipped. Macroblock codes are cached, as is the unchanging part
of a keyframe, so a picture costs O(changed macroblocks), and 1080p50 runs many times faster than real time.

CBR is held by filler data NAL units and signalled in the HRD (Annex C); VBR is real picture data: a band of
grain below the card, sent as I_PCM macroblocks, grows and shrinks with time.
"""

from __future__ import annotations

import math
import random
from dataclasses import dataclass, field
from fractions import Fraction

from direkt.codec import h264
from direkt.codec.bits import BitstreamError, escape, pack, se, stop, u, ue

_QP = 28  # luma: LevelScale 256, so one DC level is one code value (ITU-T H.264, 8.5.10)
_CHROMA_QP_OFFSET = -6  # chroma at QP 22: the same for chroma DC (ITU-T H.264, 8.5.11)
_PCM_BYTES = 384
_HRD_BITS = 24  # length of each delay field
_PROFILES = {"baseline": (66, 0x80), "constrained-baseline": (66, 0xC0), "main": (77, 0x40), "high": (100, 0)}

Colour = tuple[int, int, int]  # Y, Cb, Cr


@dataclass(frozen=True, slots=True)
class CardSettings:
    """What the stream shall be."""

    width: int  # px, even, 16 to 8192
    height: int  # px, even, 16 to 8192
    frame_rate: Fraction  # pictures a second, up to 300
    keyframe_interval: int  # pictures, 1 or more
    profile: str = "high"  # baseline, constrained-baseline, main or high
    bitrate: int | None = None  # kbit/s; None: as small as the card is
    rate_control: str = "cbr"  # cbr or vbr
    sample_aspect: tuple[int, int] = (1, 1)


@dataclass(slots=True)
class CodedPicture:
    """One access unit: its NAL units without start codes or lengths."""

    index: int  # counts from 0
    keyframe: bool
    nals: list[bytes] = field(default_factory=list)

    @property
    def size(self) -> int:
        """Bytes, with a start code or length of four bytes for each NAL unit."""
        return sum(map(len, self.nals)) + 4 * len(self.nals)

    def length_prefixed(self) -> bytes:
        """The access unit as FLV, MP4 and RTMP carry it (ISO/IEC 14496-15)."""
        return b"".join(part for nal in self.nals for part in (len(nal).to_bytes(4, "big"), nal))


def _ycc(red: float, green: float, blue: float, kr: float, kb: float) -> Colour:
    """R'G'B' (0 to 1) as limited-range Y'CbCr of 8 bits (ITU-T H.264, E.2.1, equations for matrix_coefficients)."""
    luma = kr * red + (1 - kr - kb) * green + kb * blue
    cb, cr = (blue - luma) / (2 * (1 - kb)), (red - luma) / (2 * (1 - kr))
    return round(16 + 219 * luma), round(128 + 224 * cb), round(128 + 224 * cr)


def _level_code(level: int) -> str:
    """One coefficient in CAVLC behind coeff_token with nothing else in the block (ITU-T H.264, 9.2.2, suffixLength 0)."""
    if abs(level) == 1:
        return "0" if level > 0 else "1"
    code = (2 * level - 2 if level > 0 else -2 * level - 1) - 2
    if code < 14:
        return "0" * code + "1"
    if code < 30:
        return "0" * 14 + "1" + u(code - 14, 4)
    return "0" * 15 + "1" + u(code - 30, 12)


def _luma_dc(level: int) -> str:
    """Intra16x16DCLevel with one coefficient or none, nC = 0 (ITU-T H.264, Table 9-5); total_zeros is 0."""
    if not level:
        return "1"
    return ("01" if abs(level) == 1 else "000101") + _level_code(level) + "1"


def _chroma_dc(level: int) -> str:
    """ChromaDCLevel with one coefficient or none, nC = -1 (ITU-T H.264, Table 9-5); total_zeros is 0."""
    if not level:
        return "01"
    return ("1" if abs(level) == 1 else "000111") + _level_code(level) + "1"


_VERTICAL, _HORIZONTAL, _DC = 0, 1, 2  # ITU-T H.264, Table 8-4
_CHROMA_MODE = {_DC: 0, _HORIZONTAL: 1, _VERTICAL: 2}  # ITU-T H.264, Table 8-5
_BLANK: Colour = (128, 128, 128)  # what DC prediction gives with no neighbours (ITU-T H.264, 8.3.3.3)


class TestCard:
    """Makes one coded picture after the other. Raises BitstreamError for settings that cannot be made."""

    def __init__(self, settings: CardSettings) -> None:
        s = self.settings = settings
        if s.profile not in _PROFILES:
            raise BitstreamError(f"profile {s.profile!r}: the test card knows {', '.join(_PROFILES)}")
        for name, side in (("width", s.width), ("height", s.height)):
            if side % 2 or not 16 <= side <= 8192:
                raise BitstreamError(f"{name} {side} px: expected an even number from 16 to 8192")
        if not 0 < s.frame_rate <= 300:
            raise BitstreamError(f"frame rate {float(s.frame_rate):g} fps: expected more than 0, at most 300")
        if s.keyframe_interval < 1:
            raise BitstreamError(f"keyframe interval {s.keyframe_interval} pictures: expected 1 or more")
        if s.rate_control not in ("cbr", "vbr"):
            raise BitstreamError(f"rate control {s.rate_control!r}: expected cbr or vbr")
        self._columns, self._rows = -(-s.width // 16), -(-s.height // 16)
        self._rate = round(s.bitrate * 1000 / 64) * 64 if s.bitrate else 0  # bit/s; the HRD counts in 64 bit/s
        self._hrd = bool(s.bitrate) and s.rate_control == "cbr"
        self._grain_rows = self._grain_height()
        self._lay_out()
        self._sent = 0  # bits so far
        self._index = 0
        self._since_keyframe = 0
        self._idr_id = 0
        self._codes: dict[tuple[int, int, int, int, bool], str] = {}
        self._still = self._code_rows(0, self._still_rows, 0)
        self.sps, self.pps = self._write_sps(), self._write_pps()
        smallest = len(self._still) * float(s.frame_rate) / s.keyframe_interval
        if self._hrd and smallest > 0.9 * self._rate:
            raise BitstreamError(
                f"{s.bitrate} kbit/s cannot hold keyframes of {len(self._still) // 8} bytes every "
                f"{s.keyframe_interval} pictures: at least {math.ceil(smallest / 900)} kbit/s is needed"
            )

    # The card

    def _grain_height(self) -> int:
        """Rows of grain that a VBR of this bitrate needs at its highest."""
        s = self.settings
        if not self._rate or s.rate_control == "cbr" or self._rows < 4:
            return 0
        most = 1.6 * self._rate / 8 / float(s.frame_rate) / (_PCM_BYTES + 2)
        return min(self._rows - 3, max(1, math.ceil(most / self._columns)))

    def _lay_out(self) -> None:
        card = self._rows - self._grain_rows
        thick = max(1, card // 16) if card >= 3 else 1
        self._count_rows = thick if card >= 2 else 0
        self._marker_rows = thick
        self._still_rows = card - self._count_rows - self._marker_rows
        self._card_rows = card
        kr, kb = (0.2126, 0.0722) if self.settings.height > 576 else (0.299, 0.114)
        level = 0.75
        self._bars = [
            _ycc(level * (n >> 1 & 1), level * (n >> 2 & 1), level * (n & 1), kr, kb) for n in (7, 6, 5, 4, 3, 2, 1, 0)
        ]
        self._ramp = [_ycc(n / 10, n / 10, n / 10, kr, kb) for n in range(11)]
        self._track, self._marker = _ycc(0.12, 0.12, 0.12, kr, kb), _ycc(0.95, 0.55, 0.1, kr, kb)
        self._white, self._black = _ycc(0.95, 0.95, 0.95, kr, kb), _ycc(0.02, 0.02, 0.02, kr, kb)
        self._count_field = _ycc(0.1, 0.2, 0.45, kr, kb)
        self._marker_width = max(1, self._columns // 40)
        # 24 bits with a gap of one macroblock at each side, in blocks as wide as fit; fewer bits on tiny pictures
        self._bit_count = min(24, max(1, self._columns - 2))
        self._bit_width = max(1, (self._columns - 2) // self._bit_count)
        self._bit_left = (self._columns - self._bit_width * self._bit_count) // 2

    def colour_at(self, x: int, y: int, index: int) -> Colour:
        """Y, Cb, Cr of the macroblock in column ``x`` and row ``y`` of picture ``index`` (not of the grain)."""
        if y < self._still_rows:
            if self._still_rows >= 8 and y >= self._still_rows * 7 // 8:
                return self._ramp[x * 11 // self._columns]
            return self._bars[x * 8 // self._columns]
        if y < self._still_rows + self._marker_rows:
            start = index % self._columns
            return self._marker if (x - start) % self._columns < self._marker_width else self._track
        place = (x - self._bit_left) // self._bit_width if x >= self._bit_left else self._bit_count
        if place >= self._bit_count:
            return self._count_field
        return self._white if index >> (self._bit_count - 1 - place) & 1 else self._black

    def _changed(self, index: int) -> list[tuple[int, int]]:
        """Column and row of each macroblock that differs from the picture before, in coding order."""
        columns = self._columns
        marker = [
            x for x in {(index - 1) % columns, (index - 1 + self._marker_width) % columns}
            if self.colour_at(x, self._still_rows, index) != self.colour_at(x, self._still_rows, index - 1)
        ]  # fmt: skip
        out = [(x, y) for y in range(self._still_rows, self._still_rows + self._marker_rows) for x in sorted(marker)]
        flips = index ^ (index - 1)
        count = [
            x for x in range(self._bit_left, self._bit_left + self._bit_width * self._bit_count)
            if flips >> (self._bit_count - 1 - (x - self._bit_left) // self._bit_width) & 1
        ]  # fmt: skip
        first = self._still_rows + self._marker_rows
        return out + [(x, y) for y in range(first, first + self._count_rows) for x in count]

    # Macroblocks (ITU-T H.264, 7.3.5)

    def _macroblock(self, x: int, y: int, index: int, inter: bool) -> str:
        want = self.colour_at(x, y, index)
        mode, from_ = _DC, _BLANK
        if y and (above := self.colour_at(x, y - 1, index)):
            mode, from_ = _VERTICAL, above
        if x and (from_ != want or mode == _DC):
            left = self.colour_at(x - 1, y, index)
            if left == want or mode == _DC:
                mode, from_ = _HORIZONTAL, left
        luma, cb, cr = (a - b for a, b in zip(want, from_, strict=True))
        key = (luma, cb, cr, mode, inter)
        code = self._codes.get(key)
        if code is None:
            chroma = 1 if cb or cr else 0
            code = ue(1 + mode + 4 * chroma + (5 if inter else 0)) + ue(_CHROMA_MODE[mode]) + se(0) + _luma_dc(luma)
            if chroma:
                code += _chroma_dc(cb) + _chroma_dc(cr)
            self._codes[key] = code
        return code

    def _code_rows(self, first: int, end: int, index: int) -> str:
        return "".join(self._macroblock(x, y, index, False) for y in range(first, end) for x in range(self._columns))

    # Parameter sets (ITU-T H.264, 7.3.2)

    def _write_sps(self) -> bytes:
        s = self.settings
        idc, constraints = _PROFILES[s.profile]
        level = h264.lowest_level(s.width, s.height, float(s.frame_rate), float(s.bitrate or 0), s.profile)
        level = "1.1" if level == "1.0b" else level  # the next one, which every profile writes in the same way
        digits = u(idc, 8) + u(constraints, 8) + u(round(10 * float(level)), 8) + ue(0)
        if idc == 100:
            digits += ue(1) + ue(0) + ue(0) + "0" + "0"
        digits += ue(4) + ue(2) + ue(1) + "0"  # frame_num of 8 bits; output order is coding order; one reference
        digits += ue(self._columns - 1) + ue(self._rows - 1) + "1" + "1"
        right, bottom = (self._columns * 16 - s.width) // 2, (self._rows * 16 - s.height) // 2
        digits += "1" + ue(0) + ue(right) + ue(0) + ue(bottom) if right or bottom else "0"
        return b"\x67" + escape(stop(digits + "1" + self._vui()))

    def _vui(self) -> str:
        """vui_parameters(), E.1.1."""
        s = self.settings
        if s.sample_aspect == (1, 1):
            digits = "1" + u(1, 8)
        else:
            digits = "1" + u(255, 8) + u(s.sample_aspect[0], 16) + u(s.sample_aspect[1], 16)
        digits += "0"  # overscan
        primaries, transfer, matrix = (1, 1, 1) if s.height > 576 else (5, 6, 5) if s.height > 480 else (6, 6, 6)
        digits += "1" + u(5, 3) + "0" + "1" + u(primaries, 8) + u(transfer, 8) + u(matrix, 8)
        digits += "0"  # chroma location
        digits += "1" + u(s.frame_rate.denominator, 32) + u(2 * s.frame_rate.numerator, 32) + "1"
        if self._hrd:
            delay = u(_HRD_BITS - 1, 5)
            digits += "1" + ue(0) + u(0, 4) + u(2, 4) + ue(self._rate // 64 - 1) + ue(-(-self._rate // 64) - 1) + "1"
            digits += delay * 3 + u(0, 5)
        else:
            digits += "0"
        digits += "0"  # VCL HRD
        if self._hrd:
            digits += "0"  # low_delay_hrd_flag
        digits += "0"  # pic_struct
        return digits + "1" + "1" + ue(0) + ue(0) + ue(16) + ue(16) + ue(0) + ue(1)

    def _write_pps(self) -> bytes:
        digits = ue(0) + ue(0) + "0" + "0" + ue(0) + ue(0) + ue(0) + "0" + "00" + se(_QP - 26) + se(0)
        digits += se(_CHROMA_QP_OFFSET) + "1" + "0" + "0"
        return b"\x68" + escape(stop(digits))

    # Pictures

    def _slice_header(self, first_mb: int, keyframe: bool) -> str:
        digits = ue(first_mb) + ue(7 if keyframe else 5) + ue(0) + u(self._since_keyframe % 256, 8)
        if keyframe:
            digits += ue(self._idr_id) + "00"
        else:
            digits += "0" + "0" + "0"  # reference count and list as they stand; sliding window
        return digits + se(0) + ue(1)  # slice_qp_delta, deblocking off

    def _slice(self, keyframe: bool, digits: str, tail: bytes | None = None) -> bytes:
        body = stop(digits) if tail is None else tail
        return (b"\x65" if keyframe else b"\x41") + escape(body)

    def _card_slice(self, keyframe: bool) -> bytes:
        index = self._index
        digits = [self._slice_header(0, keyframe)]
        if keyframe:
            digits += [self._still, self._code_rows(self._still_rows, self._card_rows, index)]
        else:
            last = -1
            for x, y in self._changed(index):
                at = y * self._columns + x
                digits += [ue(at - last - 1), self._macroblock(x, y, index, True)]
                last = at
            rest = self._card_rows * self._columns - last - 1
            if rest:
                digits.append(ue(rest))
        return self._slice(keyframe, "".join(digits))

    def _grain_slice(self, keyframe: bool, blocks: int) -> bytes:
        """The band below the card, its first ``blocks`` macroblocks as I_PCM (ITU-T H.264, 7.3.5: mb_type 25, or 30 in P)."""
        total = self._grain_rows * self._columns
        blocks = total if keyframe else min(blocks, total)
        head = self._slice_header(self._card_rows * self._columns, keyframe)
        if not blocks:
            return self._slice(False, head + ue(total))
        mark = ue(25) if keyframe else ue(0) + ue(30)
        rest = "" if blocks == total else ue(total - blocks)
        source = random.Random(self._index)
        parts = [pack(head + mark)]
        grain = _grain()
        between = pack(mark)
        for n in range(blocks):
            if n:
                parts.append(between)
            parts.append(grain[source.randrange(len(grain))])
        parts.append(stop(rest))
        return self._slice(keyframe, "", b"".join(parts))

    def _sei(self, keyframe: bool) -> bytes:
        """buffering_period and pic_timing (ITU-T H.264, D.1.2, D.1.3): what the HRD needs."""
        s = self.settings
        seconds = self._index / float(s.frame_rate)
        messages = b""
        if keyframe:
            delay = min(90000, max(1, int(90000 * (0.5 + seconds - self._sent / self._rate))))
            payload = stop(ue(0) + u(delay, _HRD_BITS) + u(max(0, 90000 - delay), _HRD_BITS))
            messages += bytes([0, len(payload)]) + payload
        ticks = 2 * (self._since_keyframe if not keyframe else min(self._index, s.keyframe_interval))
        payload = pack(u(ticks, _HRD_BITS) + u(0, _HRD_BITS))
        messages += bytes([1, len(payload)]) + payload
        return b"\x06" + escape(messages + b"\x80")

    def next(self) -> CodedPicture:
        """The next picture. Keyframes carry their parameter sets."""
        s = self.settings
        keyframe = self._index % s.keyframe_interval == 0
        if keyframe:
            self._since_keyframe = 0
            self._idr_id ^= 1
        picture = CodedPicture(self._index, keyframe, [b"\x09\x10" if keyframe else b"\x09\x30"])
        if keyframe:
            picture.nals += [self.sps, self.pps]
        if self._hrd:
            picture.nals.append(self._sei(keyframe))
        picture.nals.append(self._card_slice(keyframe))
        if self._grain_rows:
            picture.nals.append(self._grain_slice(keyframe, self._grain_blocks(picture.size)))
        due = (self._index + 1) * self._rate / float(s.frame_rate)
        if self._hrd:
            missing = int((due - self._sent) / 8) - picture.size
            if missing >= 6:
                picture.nals.append(b"\x0c" + b"\xff" * (missing - 6) + b"\x80")
        self._sent += picture.size * 8
        self._index += 1
        self._since_keyframe += 1
        return picture

    def _grain_blocks(self, so_far: int) -> int:
        """How many macroblocks of grain bring this picture to what a VBR of busy and quiet scenes would send."""
        s = self.settings
        seconds = self._index / float(s.frame_rate)
        period = 5.0  # s
        busy = seconds - 0.35 * period / (2 * math.pi) * (math.cos(2 * math.pi * seconds / period) - 1)
        due = self._rate * (busy + 1 / float(s.frame_rate)) - self._sent
        return max(0, int((due / 8 - so_far) / (_PCM_BYTES + 2)))


_GRAIN: list[bytes] = []


def _grain() -> list[bytes]:
    """Sixty-four macroblocks of grey noise: samples of I_PCM (ITU-T H.264, 7.3.5), none of them 0 (ITU-T H.264, 7.4.5)."""
    if not _GRAIN:
        source = random.Random(64)
        for _ in range(64):
            base = source.randrange(60, 180)
            _GRAIN.append(
                bytes(base + source.randrange(-40, 41) for _ in range(256))
                + bytes(128 + source.randrange(-6, 7) for _ in range(128))
            )
    return _GRAIN
