"""Tables of ISO/IEC 14496-3, subpart 4, that reading and writing AAC-LC frames needs."""

from __future__ import annotations

# ISO/IEC 14496-3, Table 1.18: samplingFrequencyIndex
SAMPLE_RATES = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)

# ISO/IEC 14496-3, Table 1.19: channelConfiguration to channels
CHANNELS = {1: 1, 2: 2, 3: 3, 4: 4, 5: 5, 6: 6, 7: 8, 11: 7, 12: 8, 14: 8}


def _steps(*runs: tuple[int, int]) -> tuple[int, ...]:
    """Offsets from 0: (width, count) runs."""
    out = [0]
    for width, count in runs:
        out += [out[-1] + width * (n + 1) for n in range(count)]
    return tuple(out)


_A = _steps((4, 14), (8, 5), (12, 4))
_B48 = _steps((4, 10), (8, 7), (12, 4), (16, 2), (20, 2), (24, 2), (28, 2), (32, 19))

# ISO/IEC 14496-3, Tables 4.129 to 4.147: offsets of the scale factor bands of long windows, by samplingFrequencyIndex
_LONG_96 = (*_A, 156, 172, 188, 212, 240, 276, *range(320, 1025, 64))
_LONG_64 = (*_steps((4, 14), (8, 4)), 100, 112, 124, 140, 156, 172, 192, 216, 240, 268, *range(304, 1025, 40))
_LONG_48 = (*_B48, 1024)
_LONG_32 = (*_B48, 960, 992, 1024)
_LONG_24 = (
    *_steps((4, 11), (8, 10), (12, 4), (16, 3), (20, 2), (24, 2), (28, 2)), 396, 432, 468, 508, 552, 600, 652, 704,
    *range(768, 1025, 64),
)  # fmt: skip
_LONG_16 = (
    *_steps((8, 11), (12, 9), (16, 4), (20, 3), (24, 2), (28, 2)), 456, 492, 532, 572, 616, 664, 716, 772, 832, 896,
    960, 1024,
)  # fmt: skip
_LONG_8 = (
    *_steps((12, 13), (16, 7), (20, 4), (24, 3), (28, 2)),
    508,
    544,
    580,
    620,
    664,
    712,
    764,
    820,
    880,
    944,
    1024,
)
LONG_BANDS = (
    _LONG_96, _LONG_96, _LONG_64, _LONG_48, _LONG_48, _LONG_32, _LONG_24, _LONG_24, _LONG_16, _LONG_16, _LONG_16,
    _LONG_8, _LONG_8,
)  # fmt: skip

# ISO/IEC 14496-3, Tables 4.130 to 4.146: the same of short windows
_SHORT_96 = (0, 4, 8, 12, 16, 20, 24, 32, 40, 48, 64, 92, 128)
_SHORT_48 = (0, 4, 8, 12, 16, 20, 28, 36, 44, 56, 68, 80, 96, 112, 128)
_SHORT_24 = (0, 4, 8, 12, 16, 20, 24, 28, 36, 44, 52, 64, 76, 92, 108, 128)
_SHORT_16 = (0, 4, 8, 12, 16, 20, 24, 28, 32, 40, 48, 60, 72, 88, 108, 128)
_SHORT_8 = (0, 4, 8, 12, 16, 20, 24, 28, 36, 44, 52, 60, 72, 88, 108, 128)
SHORT_BANDS = (
    _SHORT_96, _SHORT_96, _SHORT_96, _SHORT_48, _SHORT_48, _SHORT_48, _SHORT_24, _SHORT_24, _SHORT_16, _SHORT_16,
    _SHORT_16, _SHORT_8, _SHORT_8,
)  # fmt: skip

# ISO/IEC 14496-3, Table 4.82: rates that are not in the table, by the lowest Hz that still count as one
_NEAREST = (92017, 75132, 55426, 46009, 37566, 27713, 23004, 18783, 13856, 11502, 9391, 0)


def rate_index(sample_rate: int) -> int:
    """The samplingFrequencyIndex whose tables a rate (Hz) uses (ISO/IEC 14496-3, 4.5.1.1, Table 4.82)."""
    return next(n for n, lowest in enumerate(_NEAREST) if sample_rate >= lowest)


# ISO/IEC 14496-3, Table 4.A.1: the scale factor codebook; the index is the difference plus 60
SCALE_LENGTHS = (
    18, 18, 18, 18, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 18, 19, 18, 17, 17, 16, 17, 16, 16, 16,
    16, 15, 15, 14, 14, 14, 14, 14, 14, 13, 13, 12, 12, 12, 11, 12, 11, 10, 10, 10, 9, 9, 8, 8, 8, 7, 6, 6, 5, 4, 3, 1,
    4, 4, 5, 6, 6, 7, 7, 8, 8, 9, 9, 10, 10, 10, 11, 11, 11, 11, 12, 12, 13, 13, 13, 14, 14, 16, 15, 16, 15, 18, 19,
    19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19, 19,
)  # fmt: skip
SCALE_CODES = (
    0x3FFE8, 0x3FFE6, 0x3FFE7, 0x3FFE5, 0x7FFF5, 0x7FFF1, 0x7FFED, 0x7FFF6, 0x7FFEE, 0x7FFEF, 0x7FFF0, 0x7FFFC, 0x7FFFD,
    0x7FFFF, 0x7FFFE, 0x7FFF7, 0x7FFF8, 0x7FFFB, 0x7FFF9, 0x3FFE4, 0x7FFFA, 0x3FFE3, 0x1FFEF, 0x1FFF0, 0x0FFF5, 0x1FFEE,
    0x0FFF2, 0x0FFF3, 0x0FFF4, 0x0FFF1, 0x07FF6, 0x07FF7, 0x03FF9, 0x03FF5, 0x03FF7, 0x03FF3, 0x03FF6, 0x03FF2, 0x01FF7,
    0x01FF5, 0x00FF9, 0x00FF7, 0x00FF6, 0x007F9, 0x00FF4, 0x007F8, 0x003F9, 0x003F7, 0x003F5, 0x001F8, 0x001F7, 0x000FA,
    0x000F8, 0x000F6, 0x00079, 0x0003A, 0x00038, 0x0001A, 0x0000B, 0x00004, 0x00000, 0x0000A, 0x0000C, 0x0001B, 0x00039,
    0x0003B, 0x00078, 0x0007A, 0x000F7, 0x000F9, 0x001F6, 0x001F9, 0x003F4, 0x003F6, 0x003F8, 0x007F5, 0x007F4, 0x007F6,
    0x007F7, 0x00FF5, 0x00FF8, 0x01FF4, 0x01FF6, 0x01FF8, 0x03FF8, 0x03FF4, 0x0FFF0, 0x07FF4, 0x0FFF6, 0x07FF5, 0x3FFE2,
    0x7FFD9, 0x7FFDA, 0x7FFDB, 0x7FFDC, 0x7FFDD, 0x7FFDE, 0x7FFD8, 0x7FFD2, 0x7FFD3, 0x7FFD4, 0x7FFD5, 0x7FFD6, 0x7FFF2,
    0x7FFDF, 0x7FFE7, 0x7FFE8, 0x7FFE9, 0x7FFEA, 0x7FFEB, 0x7FFE6, 0x7FFE0, 0x7FFE1, 0x7FFE2, 0x7FFE3, 0x7FFE4, 0x7FFE5,
    0x7FFD7, 0x7FFEC, 0x7FFF4, 0x7FFF3,
)  # fmt: skip
