"""Streams assembled by hand, bit by bit, from the standards' tables; shares no code with what reads them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence


class Bits:
    """Bits, most significant first."""

    def __init__(self) -> None:
        self.text = ""

    def u(self, count: int, value: int) -> Bits:
        """An unsigned number of so many bits."""
        self.text += format(value, f"0{count}b") if count else ""
        return self

    def ue(self, value: int) -> Bits:
        """Exp-Golomb (H.264, 9.1)."""
        body = format(value + 1, "b")
        self.text += "0" * (len(body) - 1) + body
        return self

    def se(self, value: int) -> Bits:
        """Signed Exp-Golomb (H.264, 9.1.1)."""
        return self.ue(2 * value - 1 if value > 0 else -2 * value)

    def stop(self) -> bytes:
        """With a stop bit and alignment (rbsp_trailing_bits)."""
        text = self.text + "1"
        text += "0" * (-len(text) % 8)
        return int(text, 2).to_bytes(len(text) // 8, "big")

    def aligned(self) -> bytes:
        """Filled up with zeros."""
        text = self.text + "0" * (-len(self.text) % 8)
        return int(text, 2).to_bytes(len(text) // 8, "big") if text else b""


def escaped(rbsp: bytes) -> bytes:
    """With emulation prevention bytes (H.264, 7.4.1.1)."""
    out, zeros = bytearray(), 0
    for byte in rbsp:
        if zeros >= 2 and byte <= 3:
            out.append(3)
            zeros = 0
        out.append(byte)
        zeros = zeros + 1 if byte == 0 else 0
    return bytes(out)


# H.264


def sps(width: int = 640, height: int = 368, *, interlaced: bool = False, profile: int = 77, level: int = 30, refs: int = 2) -> bytes:  # fmt: skip
    """A sequence parameter set (7.3.2.1.1) of whole macroblocks, without VUI."""
    bits = Bits().u(8, profile).u(8, 0).u(8, level).ue(0)
    if profile in (100, 110, 122, 244):
        bits.ue(1).ue(0).ue(0).u(1, 0).u(1, 0)
    bits.ue(0).ue(2).ue(refs).u(1, 0)  # frame_num of 4 bits, order as output
    bits.ue(width // 16 - 1).ue(height // (32 if interlaced else 16) - 1).u(1, 0 if interlaced else 1)
    if interlaced:
        bits.u(1, 0)
    bits.u(1, 1).u(1, 0).u(1, 0)
    return escaped(b"\x67" + bits.stop())


def pps(cabac: bool = False) -> bytes:
    """A picture parameter set (7.3.2.2)."""
    bits = Bits().ue(0).ue(0).u(1, int(cabac)).u(1, 0).ue(0).ue(0).ue(0).u(1, 0).u(2, 0).se(0).se(0).se(0).u(3, 0)
    return escaped(b"\x68" + bits.stop())


P, B, I = 0, 1, 2  # noqa: E741
AUD = b"\x09\xf0"


def slice_(kind: int, *, idr: bool = False, number: int = 0, first: int = 0, size: int = 400, field: int | None = None, seed: int = 1) -> bytes:  # fmt: skip
    """A slice (7.3.3) whose data is noise; ``field``: 0 top, 1 bottom, of an interlaced stream."""
    bits = Bits().ue(first).ue(kind + 5 if first == 0 else kind).ue(0).u(4, number % 16)
    if field is not None:
        bits.u(1, 1).u(1, field)
    if idr:
        bits.ue(0)
    head = bits.stop()
    state, noise = seed * 2654435761 % 2**32 or 1, bytearray()
    while len(head) + len(noise) < size:
        state = (1103515245 * state + 12345) % 2**31
        noise.append((state >> 16) & 0xFF | 0x10)
    reference = 3 if idr else 2 if kind != B else 0
    return escaped(bytes([reference << 5 | (5 if idr else 1)]) + head + bytes(noise))


def annex_b(*units: bytes) -> bytes:
    """With start codes."""
    return b"".join(b"\0\0\0\1" + unit for unit in units)


def lengths(*units: bytes) -> bytes:
    """Behind lengths of four bytes."""
    return b"".join(len(unit).to_bytes(4, "big") + unit for unit in units)


def pictures(count: int, *, group: int = 12, order: Sequence[int] = (1,), size: int = 400, **more: int | bool) -> list[tuple[int, int, list[bytes]]]:  # fmt: skip
    """Decoding place, place of presentation and units of each picture; ``order``: a small group in decoding order.

    An IDR picture begins each ``group`` pictures (a whole number of small groups, and one).
    """
    out: list[tuple[int, int, list[bytes]]] = []
    delay = max(n - shown for n, shown in enumerate(order, 1))
    base = 0
    sets = [sps(**more), pps()]  # type: ignore[arg-type]
    while len(out) < count:
        out.append((len(out), base + delay, [AUD, *sets, slice_(I, idr=True, size=4 * size, seed=len(out) + 1)]))
        for _ in range((group - 1) // len(order)):
            for shown in order:
                kind = P if shown == len(order) else B
                out.append((len(out), base + shown + delay, [AUD, slice_(kind, number=len(out), size=size, seed=len(out) + 1)]))  # fmt: skip
            base += len(order)
        base += 1
    return out[:count]


# Sound


def adts(body: bytes, *, rate: int = 3, channels: int = 2, blocks: int = 1, crc: bool = False) -> bytes:
    """An ADTS frame of AAC-LC (ISO/IEC 14496-3, 1.A.2.2); rate 3 is 48 kHz."""
    size = 7 + 2 * crc + len(body)
    bits = Bits().u(12, 0xFFF).u(1, 0).u(2, 0).u(1, 0 if crc else 1).u(2, 1).u(4, rate).u(1, 0).u(3, channels)
    bits.u(4, 0).u(13, size).u(11, 0x7FF).u(2, blocks - 1)
    return bits.aligned() + (b"\0\0" if crc else b"") + body


def silence() -> bytes:
    """A raw_data_block (4.4.2.1) of two channels with nothing in it."""
    bits = Bits().u(3, 1).u(4, 0).u(1, 1)  # channel_pair_element with a common window
    bits.u(1, 0).u(2, 0).u(1, 0).u(6, 0).u(1, 0).u(2, 0)  # ics_info without a band, no mid/side
    for _ in range(2):
        bits.u(8, 100).u(1, 0).u(1, 0).u(1, 0)  # gain; no pulse, noise shaping or gain control
    return bits.u(3, 7).aligned()


def padded_silence(size: int) -> bytes:
    """The same, filled up (fill_element, 4.4.2.7) to so many bytes."""
    bits = Bits().u(3, 1).u(4, 0).u(1, 1).u(1, 0).u(2, 0).u(1, 0).u(6, 0).u(1, 0).u(2, 0)
    for _ in range(2):
        bits.u(8, 100).u(1, 0).u(1, 0).u(1, 0)
    while size * 8 - len(bits.text) - 3 >= 7 + 8:
        room = (size * 8 - len(bits.text) - 3 - 7) // 8
        count = min(room, 14)
        if room >= 15:
            extra = min(room - 1, 269)
            count = 15 + extra - 15
            bits.u(3, 6).u(4, 15).u(8, count - 14)
        else:
            bits.u(3, 6).u(4, count)
        for _ in range(count):
            bits.u(8, 0)
    return bits.u(3, 7).aligned().ljust(size, b"\0")


def sounds(count: int = 188, size: int = 160) -> list[tuple[bytes, int]]:
    """ADTS frames of AAC, 48 kHz, of so many bytes each, and their times on a clock of 90 kHz."""
    frame = adts(padded_silence(size - 7))
    return [(frame, 90000 + n * 1920) for n in range(count)]


def latm(body: bytes, *, first: bool = True) -> bytes:
    """An AudioMuxElement behind a LOAS header (1.7.2, 1.7.3): AAC-LC, 48 kHz, stereo, one layer."""
    bits = Bits()
    if first:
        bits.u(1, 0).u(1, 0).u(1, 1).u(6, 0).u(4, 0).u(3, 0)  # its configuration follows: version 0, one frame, programme, layer
        bits.u(5, 2).u(4, 3).u(4, 2).u(1, 0).u(1, 0).u(1, 0)  # AudioSpecificConfig
        bits.u(3, 0).u(8, 0xFF).u(1, 0).u(1, 0)  # frame length type 0, buffer fullness; no other data, no check sum
    else:
        bits.u(1, 1)
    size = len(body)
    while size >= 255:
        bits.u(8, 255)
        size -= 255
    bits.u(8, size)
    for byte in body:
        bits.u(8, byte)
    element = bits.aligned()
    return Bits().u(11, 0x2B7).u(13, len(element)).aligned() + element


def mp2(bitrate_index: int = 10) -> bytes:
    """A frame of MPEG-1 layer II, 48 kHz, stereo (ISO/IEC 11172-3, 2.4.1.3); index 10 is 192 kbit/s."""
    rate = (32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384)[bitrate_index - 1]
    return bytes([0xFF, 0xFD, bitrate_index << 4 | 1 << 2, 0]) + bytes(144 * rate * 1000 // 48000 - 4)


def ac3() -> bytes:
    """A syncframe of AC-3, 48 kHz, 192 kbit/s, stereo (ETSI TS 102 366, 4.3): 768 bytes."""
    bits = Bits().u(16, 0x0B77).u(16, 0).u(2, 0).u(6, 20).u(5, 8).u(3, 0).u(3, 2).u(2, 0).u(1, 0).u(5, 27)
    return bits.aligned().ljust(768, b"\0")


# Transport streams (ISO/IEC 13818-1)


def crc32(data: bytes) -> int:
    """Annex A: the check sum behind a section."""
    crc = 0xFFFFFFFF
    for byte in data:
        for bit in range(7, -1, -1):
            high = crc >> 31 ^ (byte >> bit & 1)
            crc = (crc << 1 & 0xFFFFFFFF) ^ (0x04C11DB7 if high else 0)
    return crc


def section(table: int, number: int, body: bytes, *, version: int = 0, current: int = 1, part: int = 0, last: int = 0) -> bytes:  # fmt: skip
    """A section of a table (2.4.4.11)."""
    head = bytes([table]) + (0xB000 | len(body) + 9).to_bytes(2, "big") + number.to_bytes(2, "big")
    head += bytes([0xC0 | version << 1 | current, part, last]) + body
    return head + crc32(head).to_bytes(4, "big")


def pat(programmes: Sequence[tuple[int, int]], **more: int) -> bytes:
    """The programme association table (2.4.4.3)."""
    return section(0, 1, b"".join(n.to_bytes(2, "big") + (0xE000 | pid).to_bytes(2, "big") for n, pid in programmes), **more)


def pmt(number: int, pcr: int, tracks: Sequence[tuple[int, int, bytes]], *, info: bytes = b"", **more: int) -> bytes:
    """A programme map (2.4.4.8): type, PID and descriptors of each track."""
    body = (0xE000 | pcr).to_bytes(2, "big") + (0xF000 | len(info)).to_bytes(2, "big") + info
    for kind, pid, descriptors in tracks:
        body += bytes([kind]) + (0xE000 | pid).to_bytes(2, "big") + (0xF000 | len(descriptors)).to_bytes(2, "big") + descriptors
    return section(2, number, body, **more)


def stamp(prefix: int, ticks: int) -> bytes:
    """A time stamp of 33 bits (2.4.3.6)."""
    ticks %= 1 << 33
    return bytes(
        [prefix << 4 | (ticks >> 30) << 1 | 1, ticks >> 22 & 255, (ticks >> 15 & 127) << 1 | 1, ticks >> 7 & 255, (ticks & 127) << 1 | 1]
    )


def pes(stream_id: int, data: bytes, pts: int | None, dts: int | None = None, *, length: bool = False) -> bytes:
    """A PES packet (2.4.3.6); ``length``: it says how long it is."""
    flags, stamps = 0, b""
    if pts is not None:
        flags, stamps = (3, stamp(3, pts) + stamp(1, dts)) if dts is not None and dts != pts else (2, stamp(2, pts))
    body = bytes([0x80, flags << 6, len(stamps)]) + stamps + data
    size = len(body) if length or (len(body) < 65536 and stream_id < 0xE0) else 0
    return b"\0\0\1" + bytes([stream_id]) + size.to_bytes(2, "big") + body


class Mux:
    """Packets of 188 bytes."""

    def __init__(self) -> None:
        self.out: list[bytes] = []
        self._counters: dict[int, int] = {}

    def packet(self, pid: int, payload: bytes, *, begins: bool, scrambled: int = 0) -> None:
        """One packet with at most 184 bytes of payload; the rest is stuffing in an adaptation field."""
        counter = self._counters.get(pid, 0)
        self._counters[pid] = (counter + 1) % 16
        room = 184 - len(payload)
        field = b"" if not room else bytes([room - 1]) + (b"\0" + b"\xff" * (room - 2) if room > 1 else b"")
        control = 3 if field else 1
        head = bytes([0x47, begins << 6 | pid >> 8, pid & 255, scrambled << 6 | control << 4 | counter])
        self.out.append(head + field + payload)

    def data(self, pid: int, data: bytes, *, scrambled: int = 0) -> None:
        """A PES packet."""
        for at in range(0, len(data), 184):
            self.packet(pid, data[at : at + 184], begins=at == 0, scrambled=scrambled)

    def table(self, pid: int, *sections: bytes) -> None:
        """Sections, one behind the other, over as many packets as they need."""
        whole = b"\0" + b"".join(sections)
        for at in range(0, len(whole), 184):
            self.packet(pid, whole[at : at + 184].ljust(184, b"\xff"), begins=at == 0)

    def twice(self) -> None:
        """The last packet once more (2.4.3.3)."""
        self.out.append(self.out[-1])

    def bytes(self) -> bytes:
        """All packets."""
        return b"".join(self.out)


def split(data: bytes, sizes: Iterable[int]) -> list[bytes]:
    """Pieces of these sizes, the last one with what is left."""
    out, at = [], 0
    for size in sizes:
        if at >= len(data):
            break
        out.append(data[at : at + size])
        at += size
    return [*out, data[at:]] if at < len(data) else out
