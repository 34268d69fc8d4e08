"""How loud an AAC frame is (ISO/IEC 14496-3, subpart 4), without making sound of it.

The transform of AAC keeps power: over frames, the mean square of the sound is that of the spectrum, scaled. So the
quantised values are read (Huffman codes, scale factors), and their squares summed by bands; signs are stepped over. What
joint stereo, noise substitution and temporal noise shaping do to a band's power is known without its values. Code words
are found in tables by the bits ahead. O(bits of the frame), in Python: for a few frames each second.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from direkt.codec.aac_books import BOOKS, ESCAPE
from direkt.codec.aac_tables import LONG_BANDS, SCALE_CODES, SCALE_LENGTHS, SHORT_BANDS
from direkt.codec.bits import BitReader, BitstreamError
from direkt.media import Buffer

_LOOKED_AT = 768 * 8  # bytes of a frame, at most: 6144 bits for each of 8 channels (ISO/IEC 14496-3, 4.5.3.1)
_FULL_SCALE = 32768.0
_NOISE, _INTENSITY_2, _INTENSITY = 13, 14, 15  # ISO/IEC 14496-3, 4.6.2: codebooks that are not spectra
_NOISE_OFFSET = 90  # ISO/IEC 14496-3, 4.6.13.3
_SBR_PAYLOADS = (13, 14)  # ISO/IEC 14496-3, Table 4.121: EXT_SBR_DATA, EXT_SBR_DATA_CRC
_POWERS = [n ** (8 / 3) for n in range(8192)]  # squares of the values that quantised ones stand for (ISO/IEC 14496-3, 4.6.1.3)

SCE, CPE, CCE, LFE, DSE, PCE, FIL, END = range(8)  # ISO/IEC 14496-3, Table 4.85


@dataclass(frozen=True, slots=True)
class AacHeard:
    """What a frame carries."""

    power: float  # mean square of all channels, 1 being full scale
    channels: int
    sbr: bool  # it carries spectral band replication


class _Bits(BitReader):
    """Bits of one frame: 64-bit words from every byte on, so that a read costs the same wherever it is."""

    __slots__ = ("words",)

    def __init__(self, data: bytes) -> None:
        self._size = len(data) * 8
        self.position = 0
        self.words: list[int] = np.ndarray((len(data) + 1,), ">u8", data + bytes(8), 0, (1,)).tolist()

    def u(self, bits: int) -> int:
        """A number of up to 32 bits; more are only stepped over."""
        at = self.position
        self.position = at + bits
        if self.position > self._size:
            raise BitstreamError("the frame ends in the middle")
        if bits > 32:
            return 0
        return (self.words[at >> 3] >> (64 - bits - (at & 7))) & ((1 << bits) - 1)


@dataclass(slots=True)
class _Window:
    """ics_info(), Table 4.6, and the bands that follow from it."""

    short: bool
    bands: int  # max_sfb
    lengths: list[int]  # windows in each group
    offsets: tuple[int, ...]
    lines: int  # of one window


@dataclass(slots=True)
class _Channel:
    """A channel's bands, group by group: codebook, and power in units of the spectrum."""

    window: _Window
    books: list[int]
    powers: list[float]
    places: list[int]  # intensity positions


@lru_cache(maxsize=16)
def _table(book: int) -> tuple[int, list[int], list[float]]:
    """For the bits ahead: how many are needed, and by their value the bits used (with signs) and the values' power.

    Values that must be read on their own (escapes) count as nothing; their number is added, times 64, to the bits.
    """
    rows = BOOKS[book]
    longest = max(rows.lengths)
    used, power = [0] * (1 << longest), [0.0] * (1 << longest)
    for index, (length, code) in enumerate(zip(rows.lengths, rows.codes, strict=True)):
        values = [abs(value) for value in rows.values(index)]
        bits = length + (0 if rows.signed else sum(value > 0 for value in values))
        if book == 11:
            bits += 64 * values.count(ESCAPE)
        loud = sum(_POWERS[value] for value in values if book != 11 or value < ESCAPE)
        first = code << (longest - length)
        for n in range(first, first + (1 << (longest - length))):
            used[n], power[n] = bits, loud
    return longest, used, power


_SCALE_BITS = max(SCALE_LENGTHS)


@lru_cache(maxsize=1)
def _scale_table() -> dict[tuple[int, int], int]:
    return {(length, code): n - 60 for n, (length, code) in enumerate(zip(SCALE_LENGTHS, SCALE_CODES, strict=True))}


def _scale_step(bits: _Bits) -> int:
    book, code = _scale_table(), 0
    for length in range(1, _SCALE_BITS + 1):
        code = code << 1 | bits.u(1)
        step = book.get((length, code))
        if step is not None:
            return step
    raise BitstreamError("not a scale factor code")


def read_frame(data: Buffer, rate_index: int, frame_samples: int = 1024) -> AacHeard:
    """A raw_data_block (ISO/IEC 14496-3, 4.4.2.1) of AAC-LC. Raises BitstreamError for what cannot be read.

    ``rate_index``: the samplingFrequencyIndex of the core; ``frame_samples``: 1024 or 960.
    """
    return _block(_Bits(bytes(data[:_LOOKED_AT])), rate_index, frame_samples)


def raw_blocks(data: bytes, rate_index: int, count: int) -> list[bytes]:
    """So many raw_data_blocks, one behind the other (1.A.2.2.1). Raises BitstreamError where one cannot be read."""
    bits, out = _Bits(data), []
    for _ in range(count - 1):
        begin = bits.position // 8
        _block(bits, rate_index, 1024)
        bits.position += -bits.position % 8
        out.append(data[begin : bits.position // 8])
    return [*out, data[bits.position // 8 :]]


def _block(bits: _Bits, rate_index: int, frame_samples: int) -> AacHeard:
    total, count, sbr = 0.0, 0, False
    while True:
        element = bits.u(3)
        if element == END:
            break
        if element in (SCE, LFE):
            bits.u(4)
            total += sum(_channel(bits, None, rate_index, frame_samples).powers)
            count += 1
        elif element == CPE:
            total += _pair(bits, rate_index, frame_samples)
            count += 2
        elif element == DSE:
            _skip_data(bits)
        elif element == PCE:
            _skip_program(bits)
        elif element == FIL:
            size = bits.u(4)
            if size == 15:
                size += bits.u(8) - 1
            if bits.left < 8 * size:
                break  # only filling is cut off
            if size:
                sbr = sbr or bits.u(4) in _SBR_PAYLOADS
                bits.u(8 * size - 4)
        else:
            raise BitstreamError("a coupling channel")
    if not count:
        return AacHeard(0.0, 0, sbr)
    # ISO/IEC 14496-3, 4.6.11: x = 2 / N sum(X cos) over N = 2 windows of lines; the orthogonal transform would have sqrt(4 / N)
    return AacHeard(total / count / frame_samples / _FULL_SCALE**2, count, sbr)


def _skip_data(bits: _Bits) -> None:
    """data_stream_element(), Table 4.10."""
    bits.u(4)
    align = bits.flag()
    count = bits.u(8)
    if count == 255:
        count += bits.u(8)
    if align:
        bits.u(-bits.position % 8)
    bits.u(8 * count)


def _skip_program(bits: _Bits) -> None:
    """program_config_element(), Table 4.2."""
    bits.u(4 + 2 + 4)
    front, side, back, low, data, coupling = (bits.u(n) for n in (4, 4, 4, 2, 3, 4))
    for length in (4, 4, 3):
        if bits.flag():
            bits.u(length)
    bits.u(5 * (front + side + back) + 4 * (low + data) + 5 * coupling)
    bits.u(-bits.position % 8)
    bits.u(8 * bits.u(8))


def _pair(bits: _Bits, rate_index: int, frame_samples: int) -> float:
    """channel_pair_element(), Table 4.5: the power of both channels."""
    bits.u(4)
    window, mask = None, list[bool]()
    if bits.flag():
        window = _ics_info(bits, rate_index, frame_samples)
        kind, count = bits.u(2), len(window.lengths) * window.bands
        mask = [bits.flag() for _ in range(count)] if kind == 1 else [kind == 2] * count
    left = _channel(bits, window, rate_index, frame_samples)
    right = _channel(bits, window, rate_index, frame_samples)
    total = sum(left.powers) + sum(right.powers)
    if window is None:
        return total
    for n, book in enumerate(right.books):
        if book in (_INTENSITY, _INTENSITY_2):
            # ISO/IEC 14496-3, 4.6.8.2.3: the right channel is the left one, scaled
            total += left.powers[n] * 2.0 ** (-0.5 * max(-200, min(right.places[n], 200)))
        elif mask[n] and book != _NOISE and left.books[n] not in (_NOISE, _INTENSITY, _INTENSITY_2):
            total += left.powers[n] + right.powers[n]  # (m + s)^2 + (m - s)^2 = 2 m^2 + 2 s^2
    return total


def _ics_info(bits: _Bits, rate_index: int, frame_samples: int) -> _Window:
    """ics_info(), Table 4.6."""
    bits.u(1)
    sequence = bits.u(2)
    bits.u(1)
    if sequence == 2:
        bands, grouping = bits.u(4), bits.u(7)
        lengths = [1]
        for n in range(6, -1, -1):
            if grouping >> n & 1:
                lengths[-1] += 1
            else:
                lengths.append(1)
        window = _Window(True, bands, lengths, SHORT_BANDS[rate_index], frame_samples // 8)
    else:
        bands = bits.u(6)
        if bits.flag():  # predictor data: main and LTP profiles only
            raise BitstreamError("prediction data")
        window = _Window(False, bands, [1], LONG_BANDS[rate_index], frame_samples)
    if window.bands >= len(window.offsets):
        raise BitstreamError(f"{window.bands} scale factor bands where there are {len(window.offsets) - 1}")
    return window


def _channel(bits: _Bits, window: _Window | None, rate_index: int, frame_samples: int) -> _Channel:
    """individual_channel_stream(), Table 4.50."""
    gain = bits.u(8)
    window = window or _ics_info(bits, rate_index, frame_samples)
    books = _sections(bits, window)
    scales = _scale_factors(bits, books, gain)
    pulses = _pulses(bits, window) if bits.flag() else {}
    shaping = _shaping(bits, window) if bits.flag() else []
    if bits.flag():
        raise BitstreamError("gain control data")
    powers = _spectrum(bits, window, books, pulses)
    # in units of the mean square of the sound: 1 / N of Table 4.6's window length
    unit = 1 / (2 * window.lines)
    for n, book in enumerate(books):
        powers[n] = unit * (
            2.0 ** (0.5 * scales[n]) if book == _NOISE else powers[n] * 2.0 ** (0.5 * (scales[n] - 100))
        )
        if book == _NOISE:
            powers[n] *= window.lengths[n // window.bands]
        elif book in (0, _INTENSITY, _INTENSITY_2):
            powers[n] = 0.0
    for group, band, factor in shaping:
        powers[group * window.bands + band] *= factor
    return _Channel(window, books, powers, scales)


def _pulses(bits: _Bits, window: _Window) -> dict[int, int]:
    """pulse_data(), Table 4.7: what is added to the size of the values of some lines (ISO/IEC 14496-3, 4.6.3.3)."""
    if window.short:
        raise BitstreamError("pulses in short windows")
    count, band = bits.u(2) + 1, bits.u(6)
    if band >= len(window.offsets):
        raise BitstreamError("pulses above the highest band")
    line, out = window.offsets[band], dict[int, int]()
    for _ in range(count):
        line += bits.u(5)
        out[line] = out.get(line, 0) + bits.u(4)
    return out


def _sections(bits: _Bits, window: _Window) -> list[int]:
    """section_data(), Table 4.52: the codebook of each band."""
    step = 3 if window.short else 5
    books: list[int] = []
    for _ in window.lengths:
        band = 0
        while band < window.bands:
            book, length = bits.u(4), 0
            while (more := bits.u(step)) == (1 << step) - 1:
                length += more
            length += more
            if book == 12 or not length or band + length > window.bands:
                raise BitstreamError("section data out of range")
            books += [book] * length
            band += length
    return books


def _scale_factors(bits: _Bits, books: list[int], gain: int) -> list[int]:
    """scale_factor_data(), Table 4.53: of each band the scale factor, noise energy or intensity position."""
    noise, place = gain - _NOISE_OFFSET, 0
    first_noise = True
    out = []
    for book in books:
        if book == 0:
            out.append(0)
        elif book in (_INTENSITY, _INTENSITY_2):
            place += _scale_step(bits)
            out.append(place)
        elif book == _NOISE:
            noise += bits.u(9) - 256 if first_noise else _scale_step(bits)
            first_noise = False
            out.append(max(-400, min(noise, 400)))
        else:
            gain += _scale_step(bits)
            if not 0 <= gain <= 255:
                raise BitstreamError("scale factor out of range")
            out.append(gain)
    return out


def _shaping(bits: _Bits, window: _Window) -> list[tuple[int, int, float]]:
    """tns_data(), Table 4.54: of each group and band that a filter covers, the factor by which it changes the power.

    The filter is all poles, driven by what is left when an encoder has taken away all that it can foresee, which is
    white: its gain is the product of 1 / (1 - k^2) over its reflection coefficients.
    """
    out: list[tuple[int, int, float]] = []
    short = window.short
    count = len(window.offsets) - 1
    for group, length in enumerate(window.lengths):
        for _ in range(length):
            filters = bits.u(1 if short else 2)
            if not filters:
                continue
            resolution = 3 + bits.u(1)
            top = count
            for _ in range(filters):
                height, order = bits.u(4 if short else 6), bits.u(3 if short else 5)
                bottom = max(0, top - height)
                if order:
                    bits.u(1)
                    size = resolution - bits.u(1)
                    factor = 1.0
                    for _ in range(order):
                        factor /= max(0.01, 1 - _reflection(bits.u(size), size, resolution) ** 2)
                    # of a group of short windows each window has its own filter
                    part = 1 + (min(factor, 1e4) - 1) / length
                    out += [(group, band, part) for band in range(bottom, min(top, window.bands))]
                top = bottom
    return out


def _reflection(code: int, size: int, resolution: int) -> float:
    """A reflection coefficient (ISO/IEC 14496-3, 4.6.9.3): ``size`` bits of two's complement, quantised with ``resolution`` bits."""
    value = code - (1 << size) if code >> (size - 1) else code
    half = 1 << (resolution - 1)
    return math.sin(value * math.pi / (2 * half - 1 if value >= 0 else 2 * half + 1))


def _spectrum(bits: _Bits, window: _Window, books: list[int], pulses: dict[int, int]) -> list[float]:
    """spectral_data(), Table 4.56: the power of each band's quantised values, before their scale factors."""
    words, end = bits.words, bits.position + bits.left
    at = bits.position
    out: list[float] = []
    offsets = window.offsets
    for n, book in enumerate(books):
        if book == 0 or book > 11:
            out.append(0.0)
            continue
        group, band = divmod(n, window.bands)
        lines = (min(offsets[band + 1], window.lines) - min(offsets[band], window.lines)) * window.lengths[group]
        longest, used, power = _table(book)
        mask, shift = (1 << longest) - 1, 64 - longest
        total = 0.0
        begin = offsets[band]
        some = {line - begin: more for line, more in pulses.items() if begin <= line < begin + lines}
        if some:
            bits.position = at
            values = _values(bits, book, lines)
            out.append(sum(_POWERS[min(value + some.get(line, 0), 8191)] for line, value in enumerate(values)))
            at = bits.position
            continue
        for _ in range(lines // (4 if book < 5 else 2)):
            ahead = (words[at >> 3] >> (shift - (at & 7))) & mask
            taken = used[ahead]
            total += power[ahead]
            at += taken & 63
            if at > end:
                raise BitstreamError("the frame ends in the middle")
            for _ in range(taken >> 6):
                value, at = _escape(bits, at)
                total += _POWERS[value]
        out.append(total)
    bits.position = at
    return out


@lru_cache(maxsize=16)
def _words(book: int) -> dict[tuple[int, int], tuple[int, ...]]:
    """The values of each code word, by its length and itself."""
    rows = BOOKS[book]
    return {key: rows.values(n) for n, key in enumerate(zip(rows.lengths, rows.codes, strict=True))}


def _values(bits: _Bits, book: int, lines: int) -> list[int]:
    """The sizes of a band's quantised values, one by one."""
    words, rows, out = _words(book), BOOKS[book], list[int]()
    while len(out) < lines:
        length = code = 0
        while (found := words.get((length, code))) is None:
            code, length = code << 1 | bits.u(1), length + 1
            if length > 20:
                raise BitstreamError("not a code word of the spectrum")
        if not rows.signed:
            bits.u(sum(value > 0 for value in found))
        for value in found:
            if book == 11 and value == ESCAPE:
                value, bits.position = _escape(bits, bits.position)
            out.append(abs(value))
    return out


def _escape(bits: _Bits, at: int) -> tuple[int, int]:
    """An escape sequence (ISO/IEC 14496-3, 4.6.3.3) at bit ``at``: the value, and the bit behind it."""
    bits.position = at
    size = 4
    while bits.flag():
        size += 1
        if size > 12:
            raise BitstreamError("an escape sequence that is too long")
    return (1 << size) + bits.u(size), bits.position
