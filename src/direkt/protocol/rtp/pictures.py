"""H.264 (RFC 6184) and H.265 (RFC 7798) payloads: single units, aggregation and fragments, into access units.

An access unit ends where the time stamp changes; at once behind a marker, until a sender turns out to set markers in mid-picture.
Its NAL units stand behind four-byte lengths. Parameter sets come from the session description or from between the pictures.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from fractions import Fraction

from direkt.codec import h264_syntax, h265_syntax
from direkt.media import Format, Framing
from direkt.protocol.rtp.order import Ordered
from direkt.protocol.rtp.payload import MOST_MADE_UP, MOST_ROOM, MOST_SAMPLE, PayloadUnit, Remark

_MOST_UNITS = 4096  # of a picture
_START = 24  # bytes of a slice that are kept to begin one whose beginning was lost
_START_CODE = re.compile(rb"\0{2,}\x01")
_STEPS = 64  # steps from picture to picture of which the usual one is taken


@dataclass(frozen=True, slots=True)
class Rules:
    """In what the two codecs' payloads differ."""

    codec: str
    header: int  # bytes of a NAL unit's header
    aggregation: int
    fragment: int
    refused: tuple[int, ...]  # types of interleaved modes
    kind: Callable[[int], int]  # type, of a unit's first byte
    coded: range  # types that hold slices
    keys: range  # types of pictures at which everything begins anew
    sets: tuple[int, ...]
    key_of_set: Callable[[bytes], tuple[int, int] | None]
    configuration: Callable[[Iterable[bytes]], bytes]  # of all sets; empty: some are missing
    reorder: Callable[[bytes], int | None]  # of a set: pictures sent before one that is shown earlier; None: not said


H264 = Rules(
    "h264", 1, 24, 28, (25, 26, 27, 29), lambda first: first & 31, range(1, 6), range(5, 6), (7, 8),
    h264_syntax.key_of_set, h264_syntax.configuration_of, h264_syntax.reorder_of,
)  # fmt: skip
H265 = Rules(
    "h265", 2, 48, 49, (50,), lambda first: first >> 1 & 63, range(32), range(16, 21), (32, 33, 34),
    h265_syntax.key_of_set, h265_syntax.configuration_of, h265_syntax.reorder_of,
)  # fmt: skip


class PictureTrack:
    """One track."""

    def __init__(self, rules: Rules, clock: int, sets: Iterable[bytes], remark: Remark) -> None:
        self._rules, self._remark = rules, remark
        self._tick = Fraction(1, clock)
        self._sets: dict[tuple[int, int], bytes] = {}
        self.format = Format("video", rules.codec, self._tick, Framing.LENGTHS)
        self.reorder = 0  # pictures that may be sent before one that is shown earlier
        for unit in sets:
            self._take_set(unit)
        self._units: list[bytes] = []  # of the picture that is not over
        self._size = 0
        self._time: int | None = None
        self._arrival = 0.0
        self._coded = False  # a slice is among them
        self._first_came = False  # and it is the first slice
        self._made_up = False  # some of it is
        self._suspect = False  # packets in it, or in front of it, are missing
        self._passed = False  # the marker came
        self._marker_ends = True  # markers stand at the ends of pictures, as they should
        self._given: int | None = None  # time of the last picture that was handed on
        self._fragment: bytearray | None = None
        self._full = 0  # bytes of the payload of the largest fragment so far
        self._starts: dict[int, bytes] = {}  # how first slices begin, by type
        self._lengths: dict[int, int] = {}  # bytes of those that came in one packet
        self._room = MOST_ROOM
        self._plain: PayloadUnit | None = None  # the latest picture that is no keyframe
        self._steps: Counter[int] = Counter()  # ticks from picture to picture
        self._backwards = False  # pictures are not sent in the order in which they are shown

    # Parameter sets

    def _take_set(self, unit: bytes) -> None:
        if unit in self._sets.values():
            return
        key = self._rules.key_of_set(unit)
        if key is None:
            self._remark("a parameter set cannot be read")
            return
        if len(self._sets) < 64 or key in self._sets:
            self._sets[key] = unit
        reorder = self._rules.reorder(unit)
        self.reorder = self.reorder if reorder is None else min(reorder, 16)
        configuration = self._rules.configuration(self._sets.values())
        if configuration and configuration != self.format.configuration:
            self.format = Format("video", self._rules.codec, self._tick, Framing.LENGTHS, configuration)

    # Packets

    def add(self, packet: Ordered) -> list[PayloadUnit]:
        """The pictures that are whole now."""
        out: list[PayloadUnit] = []
        if packet.anew:
            out += self.end()
            self._plain, self._given = None, None
            self._steps.clear()
        elif packet.time != self._time and (self._units or self._fragment is not None):
            out += self._close(packet.lost if not self._passed else 0)
        if packet.lost and not packet.anew:
            out += self._hole(packet)
        if self._given == packet.time and not self._units and not packet.anew:  # it goes on behind its marker
            self._marker_ends = False
        self._suspect = self._suspect or (packet.lost > 0 and not packet.anew)
        self._time, self._arrival = packet.time, packet.arrival
        payload = packet.packet.payload
        if payload:
            self._open(payload, packet.lost)
        self._passed = self._passed or packet.packet.marker
        if packet.packet.marker and self._marker_ends and (self._coded or self._suspect):
            out += self._close(0)
        return out

    def end(self) -> list[PayloadUnit]:
        """What is left."""
        out = self._close(0) if self._units else []
        self._time = None
        return out

    def _open(self, payload: bytes, lost: int) -> None:
        """One packet's payload."""
        rules = self._rules
        if payload[0] == 0 and _START_CODE.match(payload):
            self._remark("units are sent with start codes in front, which do not belong there")
            for unit in _START_CODE.split(payload):
                if unit:
                    self._whole(unit)
            return
        kind = rules.kind(payload[0])
        if kind == rules.aggregation:
            self._drop_fragment()
            at = rules.header
            while at + 2 <= len(payload):
                size = int.from_bytes(payload[at : at + 2], "big")
                at += 2
                if not size or at + size > len(payload):
                    self._remark("an aggregation packet does not add up")
                    break
                self._whole(payload[at : at + size])
                at += size
        elif kind == rules.fragment:
            self._part(payload, lost)
        elif kind in rules.refused:
            self._remark("the stream is sent in interleaved order, which cannot be read: set packetization mode 0 or 1")
        else:
            self._drop_fragment()
            self._whole(payload)

    def _whole(self, unit: bytes) -> None:
        """A unit that came in one piece."""
        self._note_start(self._rules.kind(unit[0]), unit[self._rules.header :], len(unit))
        self._unit(unit)

    def _note_start(self, kind: int, body: bytes, length: int) -> None:
        """Remembers how a picture's first slice begins, and its length where it came in one packet (0: it did not)."""
        if (
            kind in self._rules.coded and body and body[0] & 0x80
        ):  # first_mb_in_slice 0; first_slice_segment_in_pic_flag
            self._starts[kind], self._lengths[kind] = body[:_START], length

    def _part(self, payload: bytes, lost: int) -> None:
        """A fragment (RFC 6184, 5.8; RFC 7798, 4.4.3)."""
        size = self._rules.header
        if len(payload) <= size:
            return
        flags, body = payload[size], payload[size + 1 :]
        if size == 1:
            header = bytes([payload[0] & 0xE0 | flags & 31])
        else:
            header = bytes([payload[0] & 0x81 | (flags & 63) << 1, payload[1]])
        self._full = max(self._full, len(body))
        if flags & 0x80:
            self._drop_fragment()
            self._note_start(self._rules.kind(header[0]), body, 0)
            self._fragment = bytearray(header)
        elif self._fragment is None or self._fragment[:size] != header:
            # its beginning was lost: it begins as others of its kind do
            self._drop_fragment()
            self._made_up = True
            self._fragment = bytearray(header + self._start(header))
        elif lost:
            self._made_up = True
            self._fragment += bytes(min(lost * self._full, MOST_SAMPLE))
        if len(self._fragment) + len(body) <= MOST_SAMPLE:
            self._fragment += body
        if flags & 0x40:
            unit, self._fragment = bytes(self._fragment), None
            self._unit(unit)

    def _start(self, header: bytes) -> bytes:
        kind = self._rules.kind(header[0])
        return self._starts.get(kind, b"\x80").ljust(max(_START, self._full), b"\1")

    def _drop_fragment(self) -> None:
        """A fragmented unit whose end was lost: it ends here."""
        if self._fragment is not None:
            unit, self._fragment = bytes(self._fragment), None
            self._made_up = True
            self._unit(unit)

    def _unit(self, unit: bytes) -> None:
        rules = self._rules
        if len(unit) <= rules.header:
            return
        if self._size + len(unit) > MOST_SAMPLE or len(self._units) >= _MOST_UNITS:
            self._remark(f"a picture of more than {MOST_SAMPLE >> 20} MiB or {_MOST_UNITS} units: its end is cut off")
            return
        kind = rules.kind(unit[0])
        if kind in rules.coded:
            self._first_came = self._first_came or unit[rules.header] & 0x80 != 0
            self._coded = True
        elif kind in rules.sets:
            self._take_set(unit)
        self._units.append(unit)
        self._size += len(unit)

    # Pictures

    def _close(self, lost: int) -> list[PayloadUnit]:
        """The picture is over; ``lost``: packets of its end that are missing."""
        if lost and self._fragment is not None:  # the last fragment is half as long as the others, as likely as not
            self._fragment += bytes(min(lost * self._full - self._full // 2, MOST_SAMPLE))
        self._drop_fragment()
        self._suspect = self._suspect or lost > 0
        self._made_up = self._made_up or lost > 0
        if not self._coded and not (self._suspect and self._starts):
            return []  # parameter sets and messages: they belong to what follows
        if self._suspect and not self._first_came:
            self._made_up = True
            self._lead()
        key = any(self._rules.kind(unit[0]) in self._rules.keys for unit in self._units)
        data = b"".join(len(unit).to_bytes(4, "big") + unit for unit in self._units)
        unit = PayloadUnit(data, self._time or 0, self._arrival, key, self._made_up)
        self._room = min(self._room + 1, MOST_ROOM)
        self._units, self._size = [], 0
        self._coded = self._first_came = self._made_up = self._suspect = self._passed = False
        if not key:
            self._plain = unit
        self._step(unit.time)
        return [unit]

    def _lead(self) -> None:
        """A picture without its first slice is given one."""
        kinds = [self._rules.kind(unit[0]) for unit in self._units]
        at = next((n for n, kind in enumerate(kinds) if kind in self._rules.coded), len(kinds))
        kind = kinds[at] if at < len(kinds) else min(self._starts, default=1)
        if kind not in self._starts:
            return
        header = self._units[at][: self._rules.header] if at < len(kinds) else self._header_of(kind)
        self._units.insert(at, header + self._starts[kind].ljust(self._lengths[kind] or max(_START, self._full), b"\1"))

    def _header_of(self, kind: int) -> bytes:
        return bytes([0x40 | kind]) if self._rules.header == 1 else bytes([kind << 1, 1])

    def _step(self, time: int) -> None:
        if self._given is not None:
            step = time - self._given
            self._backwards = self._backwards or step < 0
            if step > 0:
                self._steps[step] += 1
                if self._steps.total() > _STEPS:
                    self._steps = Counter(dict(self._steps.most_common(4)))
                    self._steps.update({k: -v // 2 for k, v in self._steps.items()})
        self._given = time

    def _hole(self, packet: Ordered) -> list[PayloadUnit]:
        """Pictures of which nothing came at all: the time stamps and the lost packets leave room for them."""
        if self._given is None or self._plain is None or self._backwards or not self._steps or self._units:
            return []
        usual = self._steps.most_common(1)[0][0]
        count = min(round((packet.time - self._given) / usual) - 1, packet.lost, MOST_MADE_UP, self._room)
        self._room -= max(0, count)
        begin, out = self._given, []
        for n in range(1, count + 1):
            time = begin + round((packet.time - begin) * n / (count + 1))
            out.append(PayloadUnit(self._plain.data, time, packet.arrival, False, True))
            self._given = time
        return out
