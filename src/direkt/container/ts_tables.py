"""The tables of a transport stream (ISO/IEC 13818-1, 2.4.4): which programmes there are, and of what each is made.

Sections are joined over packets, checked by their sums, and looked at again only where their bytes differ from those before.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from direkt.media import Buffer, Track

PAT_PID = 0
_PAT, _PMT = 0, 2  # table_id
_LONGEST = 4096  # bytes of a section
_MOST = 256  # programmes


@dataclass(frozen=True, slots=True)
class StreamKind:
    """What a track is."""

    track: Track
    codec: str  # of codec/registry.py
    framing: str = ""  # of sound, in codec/framing.py; empty for video that is read
    reason: str = ""  # why it is not read

    @property
    def is_read(self) -> bool:
        """Whether something here reads it."""
        return not self.reason


_NOTHING = "nothing here reads it in a transport stream"
# ISO/IEC 13818-1, Table 2-34, and values that ATSC A/53 and others registered
_KINDS = {
    0x01: StreamKind("video", "other", reason="MPEG-1 video: " + _NOTHING), 0x02: StreamKind("video", "mpeg2", reason=_NOTHING),
    0x03: StreamKind("audio", "mp2", "mpeg"), 0x04: StreamKind("audio", "mp2", "mpeg"), 0x0F: StreamKind("audio", "aac", "adts"),
    0x10: StreamKind("video", "mpeg4", reason=_NOTHING), 0x11: StreamKind("audio", "aac", "loas"), 0x1B: StreamKind("video", "h264"),
    0x1C: StreamKind("audio", "aac", reason="AAC without headers: " + _NOTHING), 0x24: StreamKind("video", "h265"),
    0x33: StreamKind("video", "other", reason="H.266: " + _NOTHING), 0x81: StreamKind("audio", "ac3", "ac3"),
    0x87: StreamKind("audio", "eac3", "ac3"), 0xC1: StreamKind("audio", "ac3", reason="it is scrambled"),
    0xCF: StreamKind("audio", "aac", reason="it is scrambled"), 0xDB: StreamKind("video", "h264", reason="it is scrambled"),
}  # fmt: skip
_OTHERS = {0x05: "private sections", 0x06: "private data", 0x15: "metadata", 0x86: "splice points"}
# Registration descriptors (ISO/IEC 13818-1, 2.6.8) and those of ETSI EN 300 468, of private data
_REGISTERED = {
    b"AC-3": _KINDS[0x81], b"EAC3": _KINDS[0x87], b"HEVC": _KINDS[0x24], b"Opus": StreamKind("audio", "opus", reason=_NOTHING),
    b"AV01": StreamKind("video", "av1", reason=_NOTHING), b"DTS1": StreamKind("audio", "other", reason="DTS: " + _NOTHING),
    b"DTS2": StreamKind("audio", "other", reason="DTS: " + _NOTHING), b"BSSD": StreamKind("audio", "pcm", reason=_NOTHING),
}  # fmt: skip
_DESCRIBED = {
    0x6A: _KINDS[0x81],
    0x7A: _KINDS[0x87],
    0x7B: _REGISTERED[b"DTS1"],
    0x7C: StreamKind("audio", "aac", reason=_NOTHING),
}


@dataclass(frozen=True, slots=True)
class TrackOf:
    """A track of a programme."""

    pid: int
    stream_type: int
    kind: StreamKind | None  # None: neither picture nor sound

    @property
    def title(self) -> str:
        """To name it by where it is not read."""
        return _OTHERS.get(self.stream_type, "unknown")


Map = tuple[TrackOf, ...]


def _kind(stream_type: int, descriptors: bytes) -> StreamKind | None:
    at = 0
    found = _KINDS.get(stream_type)
    while found is None and stream_type >= 0x06 and at + 2 <= len(descriptors):
        tag, size = descriptors[at], descriptors[at + 1]
        if tag == 5:
            found = _REGISTERED.get(descriptors[at + 2 : at + 6])
        elif stream_type == 0x06:
            found = _DESCRIBED.get(tag)
        at += 2 + size
    return found


class _Sections:
    """Joins the sections of one PID (ISO/IEC 13818-1, 2.4.4.1)."""

    def __init__(self) -> None:
        self._open: bytearray | None = None

    def add(self, payload: bytes, *, begins: bool) -> list[bytes]:
        """The sections that are whole with this packet."""
        out: list[bytes] = []
        if begins and payload:
            pointer = payload[0]
            if self._open is not None:
                self._open += payload[1 : 1 + pointer]
                self._take(out)
            self._open = bytearray(payload[1 + pointer :])
        elif self._open is not None:
            self._open += payload
        self._take(out)
        return out

    def _take(self, out: list[bytes]) -> None:
        while self._open is not None and len(self._open) >= 3:
            size = 3 + ((self._open[1] & 15) << 8 | self._open[2])
            if self._open[0] == 0xFF or size > _LONGEST:  # stuffing
                self._open = None
            elif len(self._open) < size:
                return
            else:
                out.append(bytes(self._open[:size]))
                del self._open[:size]


class Tables:
    """What the tables say by now."""

    def __init__(self, *, strict: bool = True) -> None:
        """``strict``: a table whose check sum is wrong says nothing."""
        self.programmes: dict[int, int] = {}  # by number, the PID of its map; in the order of the table
        self.maps: dict[int, Map] = {}
        self.damaged = 0  # sections whose sum is wrong
        self._strict = strict
        self._sections: dict[int, _Sections] = {}
        self._seen: dict[tuple[int, int, int, int], bytes] = {}
        self._parts: dict[int, dict[int, int]] = {}  # of the association table, by section
        self._version = -1

    @property
    def pids(self) -> frozenset[int]:
        """Where tables stand."""
        return frozenset({PAT_PID, *self.programmes.values()})

    def add(self, pid: int, payload: bytes, *, begins: bool) -> bool:
        """A packet of a PID with tables; True where what they say has changed."""
        changed = False
        for section in self._sections.setdefault(pid, _Sections()).add(payload, begins=begins):
            if len(section) < 12 or not section[1] & 0x80 or not section[5] & 1:  # current_next_indicator
                continue
            number = int.from_bytes(section[3:5], "big")
            key = (pid, section[0], number if section[0] == _PMT else 0, section[6])
            if self._seen.get(key) == section:
                continue
            if _sum(section):
                self.damaged += 1
                if self._strict:
                    continue
            if section[0] == _PAT and pid == PAT_PID:
                changed = self._associate(section) or changed
            elif section[0] == _PMT and self.programmes.get(number) == pid and len(section) >= 16:
                found = _map(section)
                changed = changed or self.maps.get(number) != found
                self.maps[number] = found
            self._seen[key] = section
        return changed

    def _associate(self, section: bytes) -> bool:
        version, part = section[5] >> 1 & 31, section[6]
        if version != self._version:
            self._version, self._parts = version, {}
        self._parts[part] = {
            int.from_bytes(section[at : at + 2], "big"): int.from_bytes(section[at + 2 : at + 4], "big") & 0x1FFF
            for at in range(8, len(section) - 7, 4)
        }
        if len(self._parts) <= section[7]:
            return False  # the rest is still to come
        found: dict[int, int] = {}
        for _, programmes in sorted(self._parts.items()):
            found |= {number: pid for number, pid in programmes.items() if number and len(found) < _MOST}
        changed = found != self.programmes
        for number in [number for number, pid in self.programmes.items() if found.get(number) != pid]:
            self.maps.pop(number, None)
        if changed:
            self._seen = {key: one for key, one in self._seen.items() if key[1] == _PAT}
        self.programmes = found
        return changed


@lru_cache(maxsize=256)
def _sum(section: bytes) -> int:
    """0 where the check sum is right (annex A)."""
    from direkt.container.ts_writer import crc

    return crc(section)


def _map(section: Buffer) -> Map:
    data = bytes(section)
    at, out = 12 + (int.from_bytes(data[10:12], "big") & 0xFFF), []
    while at + 5 <= len(data) - 4:
        size = int.from_bytes(data[at + 3 : at + 5], "big") & 0xFFF
        descriptors = data[at + 5 : min(at + 5 + size, len(data) - 4)]
        pid = int.from_bytes(data[at + 1 : at + 3], "big") & 0x1FFF
        out.append(TrackOf(pid, data[at], _kind(data[at], descriptors)))
        at += 5 + size
    return tuple(out)
