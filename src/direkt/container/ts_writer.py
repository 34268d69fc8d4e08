"""Writes MPEG transport streams (ISO/IEC 13818-1): H.264 and AAC in PES packets, as HTTP Live Streaming wants its segments.

One programme, picture and sound on PIDs of their own, the clock reference with the picture. Cost: one pass over the bytes.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from fractions import Fraction

from direkt.codec import aac, h264_syntax
from direkt.container import ContainerError
from direkt.media import Format, Samples

PACKET = 188  # bytes (ISO/IEC 13818-1, 2.4.3.2)
CLOCK = 90_000  # Hz of time stamps (ISO/IEC 13818-1, 2.4.3.7)
_PMT_PID, _PIDS = 0x1000, {"video": 0x100, "audio": 0x101}
_STREAM_TYPES = {"h264": 0x1B, "aac": 0x0F}  # table 2-34
_STREAM_IDS = {"video": 0xE0, "audio": 0xC0}  # table 2-22
_LEAD = 10 * CLOCK  # by which all times are later, so that none is below zero
_AHEAD = CLOCK // 5  # by which the clock reference is in front of the decoding time
_DELIMITER = b"\0\0\0\1\x09\xf0"  # an access unit delimiter that says nothing (ISO/IEC 14496-10, 7.4.2.4)


def crc(data: bytes) -> int:
    """The checksum of tables (annex A)."""
    value = 0xFFFFFFFF
    for byte in data:
        value ^= byte << 24
        for _ in range(8):
            value = (value << 1 ^ 0x04C11DB7) & 0xFFFFFFFF if value & 0x80000000 else value << 1
    return value


class TsWriter:
    """One stream. Give it the formats first; each segment begins with tables()."""

    def __init__(self) -> None:
        self._formats: dict[str, Format] = {}
        self._sets = b""  # parameter sets, behind start codes
        self._length_size = 4
        self._sound: tuple[int, int, int] | None = None  # profile, rate index and channels of ADTS
        self._counters: dict[int, int] = {}

    def format(self, event: Format) -> None:
        """How a track is coded. Raises ContainerError for a codec that this writer does not know."""
        if event.codec not in _STREAM_TYPES:
            raise ContainerError(f"this writer has no place for {event.codec}")
        self._formats[event.track] = event
        if event.codec == "h264":
            config = h264_syntax.parse_avc_config(event.configuration)
            self._length_size = config.length_size
            self._sets = b"".join(b"\0\0\0\1" + bytes(nal) for nal in (*config.sps, *config.pps))
        else:
            self._sound = adts_fields(event.configuration)

    def tables(self) -> bytes:
        """Which programme there is, and of what it is made (ISO/IEC 13818-1, 2.4.4.3, 2.4.4.8)."""
        pat = struct.pack(">HBBBHH", 1, 0xC1, 0, 0, 1, 0xE000 | _PMT_PID)
        clock = _PIDS["video" if "video" in self._formats else "audio"]
        pmt = struct.pack(">HBBBHH", 1, 0xC1, 0, 0, 0xE000 | clock, 0xF000)
        for track, format in self._formats.items():
            pmt += struct.pack(">BHH", _STREAM_TYPES[format.codec], 0xE000 | _PIDS[track], 0xF000)
        return self._table(0, 0, pat) + self._table(_PMT_PID, 2, pmt)

    def _table(self, pid: int, kind: int, body: bytes) -> bytes:
        head = struct.pack(">BH", kind, 0xB000 | len(body) + 4)
        section = head + body
        section += crc(section).to_bytes(4, "big")
        return self._packet(pid, b"\0" + section.ljust(PACKET - 5, b"\xff"), begins=True)

    def samples(self, event: Samples) -> Iterator[tuple[int, bool, bytes]]:
        """Of each sample its presentation time (90 kHz), whether it is a keyframe, and its packets.

        Raises ContainerError for samples in front of their format.
        """
        format = self._formats.get(event.track)
        if format is None:
            raise ContainerError(f"{event.track} samples before their format")
        for n in range(len(event)):
            pts, dts = (round(Fraction(int(c[n])) * format.tick * CLOCK) + _LEAD for c in (event.pts, event.dts))
            key = bool(event.marked[n]) or event.track == "audio"
            data = self._unit(format, event.sample(n), key)
            yield pts, key, self._packets(event.track, data, pts, dts, key)

    def _unit(self, format: Format, sample: memoryview, key: bool) -> bytes:
        """A sample as transport streams have it: NAL units behind start codes, AAC behind ADTS headers."""
        if format.track == "audio":
            assert self._sound is not None
            return adts_header(*self._sound, len(sample)) + bytes(sample)
        out, at = [_DELIMITER, self._sets if key else b""], 0
        while at + self._length_size <= len(sample):
            size = int.from_bytes(sample[at : at + self._length_size], "big")
            at += self._length_size
            nal = bytes(sample[at : at + size])
            at += size
            if nal and nal[0] & 31 not in (7, 8, 9):
                out.append(b"\0\0\0\1" + nal)
        return b"".join(out)

    def _packets(self, track: str, data: bytes, pts: int, dts: int, key: bool) -> bytes:
        stamps = _stamp(2 if pts == dts else 3, pts) + (_stamp(1, dts) if pts != dts else b"")
        size = len(data) + 3 + len(stamps)
        pes = struct.pack(">IHBBB", 0x100 | _STREAM_IDS[track], size if track == "audio" and size < 65536 else 0, 0x84,
                          0xC0 if pts != dts else 0x80, len(stamps)) + stamps + data  # fmt: skip
        clock = track == "video" or "video" not in self._formats
        pid, at, out = _PIDS[track], 0, []
        first = _clock_field(dts - _AHEAD, key=key) if clock else b""
        while at < len(pes):
            room = PACKET - 4 - len(first)
            part = pes[at : at + room]
            out.append(self._packet(pid, part, begins=at == 0, field=first))
            at += len(part)
            first = b""
        return b"".join(out)

    def _packet(self, pid: int, payload: bytes, *, begins: bool, field: bytes = b"") -> bytes:
        """One packet (ISO/IEC 13818-1, 2.4.3.2); stuffing goes into the adaptation field (ISO/IEC 13818-1, 2.4.3.4)."""
        short = PACKET - 4 - len(field) - len(payload)
        if short:
            if not field:
                field = b"\0" if short == 1 else bytes([short - 1, 0]) + b"\xff" * (short - 2)
            else:
                field = bytes([field[0] + short]) + field[1:] + b"\xff" * short
        count = self._counters.get(pid, 0)
        self._counters[pid] = (count + 1) & 15
        control = 0x30 if field else 0x10
        return struct.pack(">BHB", 0x47, (0x4000 if begins else 0) | pid, control | count) + field + payload


def _stamp(kind: int, time: int) -> bytes:
    """A time stamp of 33 bits between marker bits (ISO/IEC 13818-1, 2.4.3.6)."""
    time &= (1 << 33) - 1
    return struct.pack(
        ">BHH", kind << 4 | time >> 30 << 1 | 1, (time >> 15 & 0x7FFF) << 1 | 1, (time & 0x7FFF) << 1 | 1
    )  # fmt: skip


def _clock_field(base: int, *, key: bool) -> bytes:
    """An adaptation field with the clock reference (ISO/IEC 13818-1, 2.4.3.5)."""
    base &= (1 << 33) - 1
    return bytes([7, 0x10 | (0x40 if key else 0)]) + (base << 15 | 0x3F << 9).to_bytes(6, "big")


def adts_fields(configuration: bytes) -> tuple[int, int, int]:
    """Profile, index of the rate, and channels of an AudioSpecificConfig, as ADTS writes them (ISO/IEC 14496-3, 1.A.2)."""
    found = aac.parse_config(configuration)
    rates = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)
    if found.sample_rate not in rates or not 1 <= found.channels <= 7:
        raise ContainerError("ADTS has no code for this sound")
    return 1, rates.index(found.sample_rate), found.channels


def adts_header(profile: int, rate: int, channels: int, size: int) -> bytes:
    """The seven bytes in front of a frame."""
    whole = size + 7
    head = 0xFFF1 << 40 | profile << 38 | rate << 34 | channels << 30 | whole << 13 | 0x7FF << 2
    return head.to_bytes(7, "big")
