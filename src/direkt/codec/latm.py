"""AAC in LATM (ISO/IEC 14496-3, 1.7): the multiplex of RTP and of transport streams, of one programme with one layer."""

from __future__ import annotations

from direkt.codec import aac
from direkt.codec.bits import BitReader, BitstreamError
from direkt.media import Buffer

SYNC, HEADER = 0x2B7, 3  # of an AudioSyncStream (ISO/IEC 14496-3, 1.7.2): 11 bits, then 13 bits of length
_MOST_FRAMES = 256  # of an element


class Multiplex:
    """Reads AudioMuxElements (ISO/IEC 14496-3, 1.7.3)."""

    def __init__(self, *, in_band: bool = True) -> None:
        """``in_band``: each element says whether its configuration follows (muxConfigPresent)."""
        self._in_band = in_band
        self._subframes = 0  # in an element; 0: no configuration came
        self.configuration = b""  # AudioSpecificConfig

    def configure(self, bits: BitReader) -> None:
        """StreamMuxConfig (ISO/IEC 14496-3, 1.7.3.1). Raises BitstreamError."""
        version = bits.u(1)
        if version and bits.u(1):
            raise BitstreamError("an audio multiplex of an unknown version")
        if version:
            self._value(bits)
        same_time, more, programmes, layers = bits.u(1), bits.u(6), bits.u(4), bits.u(3)
        if not same_time or programmes or layers:
            raise BitstreamError("an audio multiplex with several programmes or layers")
        if version:
            length = self._value(bits)
            configuration = bits.u(length) << (-length % 8)
            size = (length + 7) // 8
        else:
            begin = bits.position
            aac.read_config(bits, extended=False)
            length = bits.position - begin
            size = (length + 7) // 8
            bits.position = begin
            configuration = bits.u(length) << (-length % 8)
        kind = bits.u(3)
        if kind:
            raise BitstreamError(f"audio frames of a fixed length (type {kind})")
        bits.u(8)
        if bits.flag():  # otherDataPresent
            if version:
                self._value(bits)
            else:
                while bits.flag():
                    bits.u(8)
                bits.u(8)
        if bits.flag():  # crcCheckPresent
            bits.u(8)
        self._subframes = more + 1
        self.configuration = configuration.to_bytes(size, "big")

    @staticmethod
    def _value(bits: BitReader) -> int:
        return bits.u(8 * (bits.u(2) + 1))

    def frames(self, data: Buffer) -> list[bytes]:
        """The frames of some elements, one behind the other; none before a configuration came. Raises BitstreamError."""
        bits = BitReader(bytes(data))
        out: list[bytes] = []
        while bits.left >= 8 and len(out) < _MOST_FRAMES:
            if self._in_band and not bits.u(1):
                self.configure(bits)
            if not self._subframes:
                return []
            for _ in range(self._subframes):
                size = 0
                while (more := bits.u(8)) == 255:
                    size += 255
                size += more
                if 8 * size > bits.left:
                    raise BitstreamError(f"an audio frame of {size} bytes, {bits.left // 8} are there")
                if size:
                    out.append(bits.u(8 * size).to_bytes(size, "big"))
            if self._in_band:
                bits.position += -bits.position % 8
        return out
