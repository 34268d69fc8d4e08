"""Writes a valid H.265 stream of a test card: eight bars and a block that moves.

Strategy. Coding tree blocks of 32 px, each of one colour: sent as they are (PCM) with one bit for each sample in keyframes and where
the block moves; all else is skipped. So the writer needs no transform, and the pictures between keyframes repeat after a
while and are made only once. CBR is held by filler data NAL units.
"""

from __future__ import annotations

from direkt.codec import h265_levels
from direkt.codec import h265_syntax as syntax
from direkt.codec.bits import BitstreamError, escape, pack, se, stop, u, ue
from direkt.codec.cabac_writer import CabacContext, CabacEncoder
from direkt.codec.testcard import CardSettings, CodedPicture

_BLOCK = 32  # px
_QP = 26
_ORDER_BITS = 8
# initValue (ITU-T H.265, Tables 9-5 to 9-37) for P slices, and of part_mode for I slices
_SKIP, _INTRA, _PART_I, _PART_P = (197, 185, 201), 149, 184, 154
_TRAIL, _IDR = 1, 19


def _header(kind: int) -> bytes:
    return bytes([kind << 1, 1])


class H265Card:
    """Makes one picture after the other. Raises BitstreamError for settings that no level allows."""

    def __init__(self, settings: CardSettings) -> None:
        s = self.settings = settings
        if s.width % 2 or s.height % 2 or not 32 <= s.width <= 8192 or not 32 <= s.height <= 8192:
            raise BitstreamError(f"a picture of {s.width}x{s.height} px: expected even numbers from 32 to 8192")
        self._columns, self._rows = -(-s.width // _BLOCK), -(-s.height // _BLOCK)
        self._rate = (s.bitrate or 0) * 1000
        self._index = self._since_keyframe = self._sent = 0
        self._made: dict[int, str] = {}  # coded blocks, by the moving block's place; -1: the keyframe's
        level = h265_levels.lowest_level(s.width, s.height, float(s.frame_rate), float(s.bitrate or 0), "main")
        self._tier_and_level = (
            "00" + "0" + u(1, 5) + u(0x60000000, 32) + u(0b1001 << 44, 48) + u(round(30 * float(level)), 8)
        )
        self.vps, self.sps, self.pps = self._vps(), self._sps(), self._pps()

    @property
    def configuration(self) -> bytes:
        """The decoder configuration record."""
        return syntax.build_hevc_config([self.vps], [self.sps], [self.pps])

    def _vps(self) -> bytes:
        digits = u(0, 4) + "11" + u(0, 6) + u(0, 3) + "1" + u(0xFFFF, 16) + self._tier_and_level
        digits += "1" + ue(1) + ue(0) + ue(0) + u(0, 6) + ue(0) + "0" + "0"
        return _header(syntax.VPS) + escape(stop(digits))

    def _sps(self) -> bytes:
        s = self.settings
        digits = u(0, 4) + u(0, 3) + "1" + self._tier_and_level + ue(0) + ue(1)
        digits += ue(self._columns * _BLOCK) + ue(self._rows * _BLOCK)
        right, bottom = (self._columns * _BLOCK - s.width) // 2, (self._rows * _BLOCK - s.height) // 2
        digits += "1" + ue(0) + ue(right) + ue(0) + ue(bottom) if right or bottom else "0"
        digits += ue(0) + ue(0) + ue(_ORDER_BITS - 4) + "1" + ue(1) + ue(0) + ue(0)
        digits += ue(2) + ue(0) + ue(2) + ue(1) + ue(0) + ue(0)  # blocks of 32 px, transforms of 16 and 32
        digits += "0" + "0" + "0"  # no scaling lists, asymmetric parts or adaptive offset
        digits += "1" + u(0, 4) + u(0, 4) + ue(2) + ue(0) + "1"  # samples as they are: one bit, 32 px
        digits += ue(1) + ue(1) + ue(0) + ue(0) + "1"  # one set: the picture before
        digits += "0" + "0" + "0"
        primaries, transfer, matrix = (1, 1, 1) if s.height > 576 else (5, 6, 5)
        vui = (
            "1" + u(255, 8) + u(s.sample_aspect[0], 16) + u(s.sample_aspect[1], 16)
            if s.sample_aspect != (1, 1)
            else "1" + u(1, 8)
        )
        vui += "0" + "1" + u(5, 3) + "0" + "1" + u(primaries, 8) + u(transfer, 8) + u(matrix, 8) + "0"
        vui += "000" + "0" + "1" + u(s.frame_rate.denominator, 32) + u(s.frame_rate.numerator, 32) + "0" + "0" + "0"
        return _header(syntax.SPS) + escape(stop(digits + "1" + vui + "0"))

    def _pps(self) -> bytes:
        digits = ue(0) + ue(0) + "0" + "0" + u(0, 3) + "0" + "0" + ue(0) + ue(0) + se(_QP - 26) + "0" + "0" + "0"
        digits += se(0) + se(0) + "0" + "0" + "0" + "0" + "0" + "0" + "0"
        digits += "1" + "0" + "1"  # deblocking: not overridden, off
        digits += "0" + "0" + ue(0) + "0" + "0"
        return _header(syntax.PPS) + escape(stop(digits))

    # Blocks

    def _colour(self, column: int, marked: bool) -> str:
        """The samples of a block: a bar, or the block that moves."""
        bar = 7 - 8 * column // self._columns
        if marked:
            bar ^= 7
        luma, blue, red = str(bar >> 2 & 1), str(bar >> 1 & 1), str(bar & 1)
        return luma * (_BLOCK * _BLOCK) + (blue + red).replace(blue + red, blue * 256 + red * 256)

    def _place(self, step: int) -> int:
        """Where the moving block is: on the middle row, from left to right."""
        return (self._rows // 2) * self._columns + step % self._columns

    def _keyframe(self) -> str:
        if -1 not in self._made:
            encoder, part = CabacEncoder(), CabacContext(_PART_I, _QP)
            count = self._columns * self._rows
            marked = self._place(0)
            for n in range(count):
                encoder.decide(part, 1)
                encoder.end(1)
                encoder.raw(self._colour(n % self._columns, n == marked))
                encoder.end(int(n == count - 1))
            self._made[-1] = encoder.digits()
        return self._made[-1]

    def _between(self, step: int) -> str:
        """A picture in which the block moves by one place; the rest is skipped."""
        place = step % self._columns
        if place not in self._made:
            encoder = CabacEncoder()
            skip = [CabacContext(value, _QP) for value in _SKIP]
            intra, part = CabacContext(_INTRA, _QP), CabacContext(_PART_P, _QP)
            new, old = self._place(step), self._place(step - 1)
            count = self._columns * self._rows
            skipped: list[int] = []
            for n in range(count):
                left = skipped[n - 1] if n % self._columns else 0
                above = skipped[n - self._columns] if n >= self._columns else 0
                whole = n not in (new, old)
                encoder.decide(skip[left + above], int(whole))
                skipped.append(int(whole))
                if not whole:
                    encoder.decide(intra, 1)
                    encoder.decide(part, 1)
                    encoder.end(1)
                    encoder.raw(self._colour(n % self._columns, n == new))
                encoder.end(int(n == count - 1))
            self._made[place] = encoder.digits()
        return self._made[place]

    def next(self) -> CodedPicture:
        """The next picture. Keyframes carry their parameter sets."""
        s = self.settings
        keyframe = self._index % s.keyframe_interval == 0
        if keyframe:
            self._since_keyframe = 0
        picture = CodedPicture(self._index, keyframe)
        if keyframe:
            picture.nals += [self.vps, self.sps, self.pps]
            digits = "1" + "0" + ue(0) + ue(syntax.I) + se(0)
            blocks = self._keyframe()
        else:
            order = self._since_keyframe & (1 << _ORDER_BITS) - 1
            # one set of references, no override of their number, one candidate to merge with
            digits = "1" + ue(0) + ue(syntax.P) + u(order, _ORDER_BITS) + "1" + "0" + ue(4) + se(0)
            blocks = self._between(self._since_keyframe)
        digits += "1"
        digits += "0" * (-len(digits) % 8)
        picture.nals.append(_header(_IDR if keyframe else _TRAIL) + escape(pack(digits) + pack(blocks)))
        if self._rate and s.rate_control == "cbr":
            due = (self._index + 1) * self._rate / float(s.frame_rate)
            missing = int((due - self._sent) / 8) - picture.size
            if missing >= 7:
                picture.nals.append(_header(syntax.FILLER) + b"\xff" * (missing - 7) + b"\x80")
        self._sent += picture.size * 8
        self._index += 1
        self._since_keyframe += 1
        return picture
