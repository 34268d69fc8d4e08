"""The arithmetic encoder that H.264 and H.265 share (H.265, 9.3.4.3 and 9.3.2.2, written the other way round)."""

from __future__ import annotations

# ITU-T H.265, Table 9-48: rangeTabLps, by pStateIdx and qRangeIdx
_RANGE = (
    (128, 176, 208, 240), (128, 167, 197, 227), (128, 158, 187, 216), (123, 150, 178, 205), (116, 142, 169, 195),
    (111, 135, 160, 185), (105, 128, 152, 175), (100, 122, 144, 166), (95, 116, 137, 158), (90, 110, 130, 150),
    (85, 104, 123, 142), (81, 99, 117, 135), (77, 94, 111, 128), (73, 89, 105, 122), (69, 85, 100, 116), (66, 80, 95, 110),
    (62, 76, 90, 104), (59, 72, 86, 99), (56, 69, 81, 94), (53, 65, 77, 89), (51, 62, 73, 85), (48, 59, 69, 80),
    (46, 56, 66, 76), (43, 53, 63, 72), (41, 50, 59, 69), (39, 48, 56, 65), (37, 45, 54, 62), (35, 43, 51, 59),
    (33, 41, 48, 56), (32, 39, 46, 53), (30, 37, 43, 50), (29, 35, 41, 48), (27, 33, 39, 45), (26, 31, 37, 43),
    (24, 30, 35, 41), (23, 28, 33, 39), (22, 27, 32, 37), (21, 26, 30, 35), (20, 24, 29, 33), (19, 23, 27, 31),
    (18, 22, 26, 30), (17, 21, 25, 28), (16, 20, 23, 27), (15, 19, 22, 25), (14, 18, 21, 24), (14, 17, 20, 23),
    (13, 16, 19, 22), (12, 15, 18, 21), (12, 14, 17, 20), (11, 14, 16, 19), (11, 13, 15, 18), (10, 12, 15, 17),
    (10, 12, 14, 16), (9, 11, 13, 15), (9, 11, 12, 14), (8, 10, 12, 14), (8, 9, 11, 13), (7, 9, 11, 12), (7, 9, 10, 12),
    (7, 8, 10, 11), (6, 8, 9, 11), (6, 7, 9, 10), (6, 7, 8, 9), (2, 2, 2, 2),
)  # fmt: skip
# ITU-T H.265, Table 9-49: transIdxLps
_AFTER_RARE = (
    0, 0, 1, 2, 2, 4, 4, 5, 6, 7, 8, 9, 9, 11, 11, 12, 13, 13, 15, 15, 16, 16, 18, 18, 19, 19, 21, 21, 22, 22, 23, 24, 24,
    25, 26, 26, 27, 27, 28, 29, 29, 30, 30, 30, 31, 32, 32, 33, 33, 33, 34, 34, 35, 35, 35, 36, 36, 36, 37, 37, 37, 38, 38, 63,
)  # fmt: skip


class CabacContext:
    """What was learned of one kind of decision (ITU-T H.265, 9.3.2.2)."""

    __slots__ = ("state", "usual")

    def __init__(self, value: int, qp: int) -> None:
        slope, offset = (value >> 4) * 5 - 45, ((value & 15) << 3) - 16
        begin = max(1, min(126, (slope * max(0, min(51, qp)) >> 4) + offset))
        self.usual = int(begin > 63)
        self.state = begin - 64 if self.usual else 63 - begin


class CabacEncoder:
    """Encodes decisions into binary digits."""

    def __init__(self) -> None:
        self._done: list[str] = []  # whole bytes
        self._digits: list[str] = []
        self._restart()

    def _restart(self) -> None:
        self._low, self._range = 0, 510
        self._outstanding = 0
        self._first = True

    def decide(self, context: CabacContext, value: int) -> None:
        """A decision of a kind that is learned."""
        rare = _RANGE[context.state][self._range >> 6 & 3]
        self._range -= rare
        if value != context.usual:
            self._low += self._range
            self._range = rare
            if context.state == 0:
                context.usual ^= 1
            context.state = _AFTER_RARE[context.state]
        elif context.state < 62:
            context.state += 1
        self._renormalise()

    def end(self, value: int) -> None:
        """A decision that is nearly always 0: whether the slice ends, or samples follow as they are."""
        self._range -= 2
        if value:
            self._low += self._range
            self._flush()
        else:
            self._renormalise()

    def _flush(self) -> None:
        self._range = 2
        self._renormalise()
        self._put(self._low >> 9 & 1)
        self._digits.append(format(self._low >> 7 & 3 | 1, "02b"))

    def raw(self, digits: str) -> None:
        """Samples as they are behind end(1), whole bytes of them, from the next byte on; then it begins anew."""
        coded = "".join(self._digits)
        self._done += [coded, "0" * (-len(coded) % 8), digits]
        self._digits.clear()
        self._restart()

    def digits(self) -> str:
        """All so far. Behind end(1), its last digit is the stop bit."""
        return "".join([*self._done, *self._digits])

    def _renormalise(self) -> None:
        while self._range < 256:
            if self._low < 256:
                self._put(0)
            elif self._low >= 512:
                self._low -= 512
                self._put(1)
            else:
                self._low -= 256
                self._outstanding += 1
            self._range <<= 1
            self._low <<= 1

    def _put(self, bit: int) -> None:
        if self._first:
            self._first = False
        else:
            self._digits.append(str(bit))
        if self._outstanding:
            self._digits.append(str(1 - bit) * self._outstanding)
            self._outstanding = 0
