"""Finds the frames of sound in a stream of bytes: AAC behind ADTS or in LATM, MPEG audio, AC-3 and E-AC-3.

Each frame is stepped to by the length in its header; where none begins, the next place is looked for at which two in a row do.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from direkt.codec import latm, mpeg_audio
from direkt.codec.aac_frame import raw_blocks
from direkt.codec.aac_tables import SAMPLE_RATES
from direkt.codec.bits import BitReader, BitstreamError
from direkt.media import Buffer

_AC3_RATES = (48000, 44100, 32000)  # ETSI TS 102 366, 4.4.1.3
_AC3_KBIT = (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 512, 576, 640)
_AC3_CHANNELS = (2, 1, 2, 3, 3, 4, 4, 5)  # by acmod
_EAC3_BLOCKS = (1, 2, 3, 6)
_FURTHEST = 1 << 15  # bytes in which a frame is looked for again


@dataclass(frozen=True, slots=True)
class FrameSound:
    """What a codec calls a frame."""

    data: bytes
    samples: int  # it lasts so many
    rate: int  # Hz of those
    channels: int = 0
    configuration: bytes = b""


@dataclass(frozen=True, slots=True)
class FoundFrame:
    """A frame's place, and what it holds."""

    at: int  # byte at which its header begins
    size: int  # with its header
    sounds: tuple[FrameSound, ...]


class Framer:
    """Finds frames of one kind; subclasses say how long one is, and what it holds."""

    HEAD = 7  # bytes that tell the length

    def __init__(self) -> None:
        self.lost = 0  # places at which no frame began

    def length(self, head: Buffer) -> int:
        """Bytes of the frame that begins so; 0: none does."""
        raise NotImplementedError

    def open(self, frame: bytes) -> tuple[FrameSound, ...]:
        """What a whole frame holds. Raises BitstreamError."""
        raise NotImplementedError

    def frames(self, data: bytes, *, final: bool) -> Iterator[FoundFrame]:
        """The whole frames in ``data``, from its begin on. ``final``: nothing comes behind it."""
        at, good = 0, True
        while at + self.HEAD <= len(data):
            size = self.length(data[at : at + self.HEAD])
            if not size:
                if good:
                    self.lost += 1
                good = False
                again = self._again(data, at + 1, final=final)
                if again is None:
                    return
                at = again
                continue
            if at + size > len(data):
                return
            good = True
            try:
                yield FoundFrame(at, size, self.open(data[at : at + size]))
            except BitstreamError:
                self.lost += 1
            at += size

    def _again(self, data: bytes, at: int, *, final: bool) -> int | None:
        """Where the next frame begins: another must stand behind it, where that far is to be seen."""
        for place in range(at, min(len(data) - self.HEAD + 1, at + _FURTHEST)):
            size = self.length(data[place : place + self.HEAD])
            if not size:
                continue
            behind = place + size
            if behind + self.HEAD > len(data):
                return place if not final or behind == len(data) else None
            if self.length(data[behind : behind + self.HEAD]):
                return place
        return None


class Adts(Framer):
    """AAC behind ADTS headers (ISO/IEC 14496-3, 1.A.2.2)."""

    def length(self, head: Buffer) -> int:
        """aac_frame_length."""
        if head[0] != 0xFF or head[1] & 0xF6 != 0xF0 or head[2] >> 2 & 15 >= len(SAMPLE_RATES):
            return 0
        size = (head[3] & 3) << 11 | head[4] << 3 | head[5] >> 5
        return size if size > (7 if head[1] & 1 else 9) else 0

    def open(self, frame: bytes) -> tuple[FrameSound, ...]:
        """One to four raw data blocks."""
        bare = frame[1] & 1
        count = (frame[6] & 3) + 1
        profile, index = frame[2] >> 6, frame[2] >> 2 & 15
        channels = (frame[2] & 1) << 2 | frame[3] >> 6
        configuration = (profile + 1 << 11 | index << 7 | channels << 3).to_bytes(2, "big")
        if count == 1:
            blocks = [frame[7 if bare else 9 :]]
        elif bare:
            blocks = raw_blocks(frame[7:], index, count)
        else:  # adts_header_error_check says where each begins; behind each stands a check sum
            head = 7 + 2 * (count - 1) + 2
            starts = [0, *(int.from_bytes(frame[7 + 2 * n : 9 + 2 * n], "big") for n in range(count - 1))]
            edges = [head + start for start in starts] + [len(frame)]
            if sorted(set(edges)) != edges or edges[-2] >= len(frame):
                raise BitstreamError("blocks of an ADTS frame that do not add up")
            blocks = [frame[a : b - 2] for a, b in itertools.pairwise(edges)]
        return tuple(FrameSound(block, 1024, SAMPLE_RATES[index], 0, configuration) for block in blocks)


class Loas(Framer):
    """AAC in LATM, behind the headers of an AudioSyncStream (1.7.2)."""

    HEAD = latm.HEADER

    def __init__(self) -> None:
        super().__init__()
        self._multiplex = latm.Multiplex()

    def length(self, head: Buffer) -> int:
        """audioMuxLengthBytes."""
        if int.from_bytes(head[:2], "big") >> 5 != latm.SYNC:
            return 0
        return latm.HEADER + (int.from_bytes(head[1:3], "big") & 0x1FFF)

    def open(self, frame: bytes) -> tuple[FrameSound, ...]:
        """The frames of an element; none before a configuration came."""
        found = self._multiplex.frames(frame[latm.HEADER :])
        if not found:
            return ()
        from direkt.codec import aac

        config = aac.parse_config(self._multiplex.configuration)
        return tuple(
            FrameSound(one, config.frame_samples, config.core_rate, 0, self._multiplex.configuration) for one in found
        )


class Mpeg(Framer):
    """MPEG audio (ISO/IEC 11172-3)."""

    HEAD = 4

    def length(self, head: Buffer) -> int:
        """By its bitrate and rate."""
        try:
            return mpeg_audio.parse_header(head).size
        except BitstreamError:
            return 0

    def open(self, frame: bytes) -> tuple[FrameSound, ...]:
        """The frame itself."""
        head = mpeg_audio.parse_header(frame)
        return (FrameSound(frame, head.samples, head.sample_rate, head.channels),)


class Ac3(Framer):
    """AC-3 (ETSI TS 102 366, clause 4) and E-AC-3 (annex E), which begin with the same word."""

    HEAD = 7

    def length(self, head: Buffer) -> int:
        """By the bitrate, or as it says."""
        return self._head(head)[0]

    @staticmethod
    def _head(head: Buffer) -> tuple[int, int, int, int]:
        """Bytes, samples, rate and channels; 0 bytes: no frame."""
        none = (0, 0, 0, 0)
        if int.from_bytes(head[:2], "big") != 0x0B77:
            return none
        version = head[5] >> 3
        if version <= 10:
            rate, code = head[4] >> 6, head[4] & 63
            if rate == 3 or code >= 2 * len(_AC3_KBIT):
                return none
            bits = BitReader(head[6:7])
            mode = bits.u(3)
            words = _AC3_KBIT[code // 2] * 96000 // _AC3_RATES[rate] if rate != 1 else _AC3_KBIT[code // 2] * 320 // 147
            words += (code & 1) if rate == 1 else 0
            return 2 * words, 1536, _AC3_RATES[rate], _AC3_CHANNELS[mode]
        if version > 16:
            return none
        if head[2] >> 6 == 3:  # strmtyp
            return none
        size = 2 * ((int.from_bytes(head[2:4], "big") & 0x7FF) + 1)
        rate, half = head[4] >> 6, head[4] >> 4 & 3
        if rate == 3:
            return (size, 1536, _AC3_RATES[half] // 2, 0) if half != 3 else none
        dependent = head[2] >> 6 == 1 or bool(head[2] >> 3 & 7)  # more channels, or another programme, of the same time
        mode = _AC3_CHANNELS[head[4] >> 1 & 7] + (head[4] & 1)
        return size, 0 if dependent else 256 * _EAC3_BLOCKS[half], _AC3_RATES[rate], mode

    def open(self, frame: bytes) -> tuple[FrameSound, ...]:
        """The frame itself; what only adds to the one before lasts no time."""
        _, samples, rate, channels = self._head(frame)
        return (FrameSound(frame, samples, rate, channels),) if samples else ()


FRAMERS: dict[str, Callable[[], Framer]] = {
    "adts": Adts, "loas": Loas, "mpeg": Mpeg, "ac3": Ac3,
}  # fmt: skip
