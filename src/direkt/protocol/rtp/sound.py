"""AAC payloads: in AU sections (RFC 3640) and as LATM (RFC 6416; ISO/IEC 14496-3, 1.7)."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from direkt.codec import aac
from direkt.codec.bits import BitReader, BitstreamError
from direkt.codec.latm import Multiplex
from direkt.media import Format, Framing
from direkt.protocol.rtp.order import Ordered
from direkt.protocol.rtp.packet import RtpError
from direkt.protocol.rtp.payload import MOST_MADE_UP, PayloadUnit, Remark

_LONGEST = 1 << 16  # bytes of a frame
_MOST_FRAMES = 256  # of a packet


class FrameTrack:
    """What both have in common: frames of one length, in time."""

    def __init__(self, clock: int, configuration: bytes, remark: Remark) -> None:
        self._clock, self._remark = clock, remark
        self._ticks = 0  # of a frame; 0: not known
        self.format = Format("audio", "aac", Fraction(1, clock))
        self._configure(configuration)
        self._last: PayloadUnit | None = None
        self._parts = bytearray()  # of what goes on in the next packet
        self._parts_time: int | None = None

    def _configure(self, configuration: bytes) -> None:
        if not configuration or configuration == self.format.configuration:
            return
        try:
            config = aac.parse_config(configuration)
        except BitstreamError as error:
            self._remark(f"the audio configuration cannot be read: {error}")
            return
        if config.core_rate:
            self._ticks = round(Fraction(config.frame_samples * self._clock, config.core_rate))
        self.format = Format("audio", "aac", Fraction(1, self._clock), Framing.RAW, configuration)

    def add(self, packet: Ordered) -> list[PayloadUnit]:
        """The frames that are whole now."""
        if packet.anew:
            self._last = None
        if packet.lost or packet.anew or packet.time != self._parts_time:
            self._parts.clear()
        try:
            frames = self._frames(packet)
        except (RtpError, BitstreamError) as error:
            self._remark(str(error))
            self._parts.clear()
            return []
        self._parts_time = packet.time
        if not frames:
            return []
        out = self._missing(packet.time, packet) if packet.lost else []
        for n, data in enumerate(frames):
            out.append(PayloadUnit(data, packet.time + n * self._ticks, packet.arrival))
        self._last = out[-1]
        return out

    def _missing(self, time: int, packet: Ordered) -> list[PayloadUnit]:
        last = self._last
        if last is None or not self._ticks:
            return []
        count = min(round((time - last.time) / self._ticks) - 1, MOST_MADE_UP)
        return [PayloadUnit(last.data, last.time + n * self._ticks, packet.arrival, True, True) for n in range(1, count + 1)]

    def _frames(self, packet: Ordered) -> list[bytes]:
        raise NotImplementedError

    def end(self) -> list[PayloadUnit]:
        """Nothing is held back."""
        return []


def _number(parameters: Mapping[str, str], name: str) -> int:
    text = parameters.get(name, "0")
    return min(int(text), 32) if text.isascii() and text.isdigit() else 0


def _hex(text: str) -> bytes:
    try:
        return bytes.fromhex(text.strip().strip('"'))
    except ValueError:
        return b""


class Sections(FrameTrack):
    """mpeg4-generic (RFC 3640)."""

    def __init__(self, clock: int, parameters: Mapping[str, str], remark: Remark, channels: int = 1) -> None:
        config = _hex(parameters.get("config", ""))
        super().__init__(clock, config, remark)
        if not config:  # how the frames are coded is not known; as long as they are usual, they lie 1024 samples apart
            self._ticks = aac.FRAME_SAMPLES
            self.format = Format("audio", "aac", Fraction(1, clock), sample_rate=clock, channels=channels)
            remark("the description says nothing of the audio's configuration: its form is not known")
        self._size, self._index, self._delta = (
            _number(parameters, name) for name in ("sizelength", "indexlength", "indexdeltalength")
        )
        # 4.1: the modes fix these lengths, also where a sender leaves them out
        mode = parameters.get("mode", "").lower()
        if not self._size and mode in ("aac-hbr", "aac-lbr"):
            self._size, self._index, self._delta = (13, 3, 3) if mode == "aac-hbr" else (6, 2, 2)
        self._cts, self._dts = _number(parameters, "ctsdeltalength"), _number(parameters, "dtsdeltalength")
        self._random = _number(parameters, "randomaccessindication")
        self._state = _number(parameters, "streamstateindication")
        self._auxiliary = _number(parameters, "auxiliarydatasizelength")
        self._constant = _number(parameters, "constantsize") if not self._size else 0

    def _frames(self, packet: Ordered) -> list[bytes]:
        payload = packet.packet.payload
        sizes, at = self._headers(payload)
        rest = payload[at:]
        if not sizes:
            return [rest] if rest and not self._size else []
        if len(sizes) == 1 and sizes[0] > len(rest):  # a fragment (3.2.3)
            self._parts += rest
            if len(self._parts) >= min(sizes[0], _LONGEST):
                whole = bytes(self._parts[: sizes[0]])
                self._parts.clear()
                return [whole]
            return []
        if len(sizes) == 1 and self._parts:  # the last one of a frame
            whole = bytes(self._parts + rest)[: sizes[0]]
            self._parts.clear()
            return [whole]
        out, at = [], 0
        for size in sizes:
            if at + size > len(rest):
                self._remark("an audio packet says that its frames are longer than it is")
                break
            if size:
                out.append(rest[at : at + size])
            at += size
        return out

    def _headers(self, payload: bytes) -> tuple[list[int], int]:
        """The frames' sizes, and where they begin (3.2.1)."""
        if not self._size:
            constant = self._constant
            return ([constant] * (len(payload) // constant) if constant else []), 0
        if len(payload) < 2:
            raise RtpError("an audio packet without its header section")
        length = int.from_bytes(payload[:2], "big")
        at = 2 + (length + 7) // 8
        if at > len(payload):
            raise RtpError(f"an audio packet's header section claims {length} bits, {8 * len(payload) - 16} are there")
        bits = BitReader(payload[2:at])
        sizes: list[int] = []
        while bits.position + self._size <= length and len(sizes) < _MOST_FRAMES:
            sizes.append(bits.u(self._size))
            if bits.u(self._delta if len(sizes) > 1 else self._index):
                self._remark("the audio is sent in interleaved order, which cannot be read")
            for width in (self._cts, self._dts):
                if width and bits.flag():
                    bits.u(width)
            bits.u(self._random + self._state)
        if self._auxiliary:
            data = BitReader(payload[at : at + 8])
            at += (self._auxiliary + data.u(self._auxiliary) + 7) // 8
        return sizes, at


class Latm(FrameTrack):
    """MP4A-LATM (RFC 6416)."""

    def __init__(self, clock: int, parameters: Mapping[str, str], remark: Remark) -> None:
        self._multiplex = Multiplex(in_band=parameters.get("cpresent", "1") != "0")
        super().__init__(clock, b"", remark)
        described = _hex(parameters.get("config", ""))
        if described:
            try:
                self._multiplex.configure(BitReader(described[:256]))
            except BitstreamError as error:
                self._remark(f"the audio configuration cannot be read: {error}")
            self._configure(self._multiplex.configuration)

    def _frames(self, packet: Ordered) -> list[bytes]:
        self._parts += packet.packet.payload
        if not packet.packet.marker and len(self._parts) < _LONGEST:
            return []
        data = bytes(self._parts)
        self._parts.clear()
        out = self._multiplex.frames(data)
        self._configure(self._multiplex.configuration)
        return out
