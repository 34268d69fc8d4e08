"""What a payload format is: packets in their turn in, whole samples out.

A sample of which a part was lost is made up: what is missing counts as long as its neighbours, and where nothing of it came, it
is its predecessor again. So what the sender sent can be measured although the line lost some of it. Such samples are marked; who
hands the stream on leaves them out.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from direkt.media import Format
from direkt.protocol.rtp.order import Ordered

Remark = Callable[[str], None]

MOST_SAMPLE = 16 << 20  # bytes of one sample
MOST_MADE_UP = 50  # samples in one hole
MOST_ROOM = 500  # samples that may be made up before as many have come: a sender with wild numbers makes no flood


@dataclass(frozen=True, slots=True)
class PayloadUnit:
    """One sample."""

    data: bytes
    time: int  # ticks of the payload's clock
    arrival: float  # s, of its last packet
    key: bool = True
    made_up: bool = False  # some of it was lost on the way


class Payload(Protocol):
    """Takes one track's packets."""

    @property
    def format(self) -> Format:
        """How the samples are coded, as far as it is known."""

    def add(self, packet: Ordered) -> list[PayloadUnit]:
        """The samples that are whole now. Never raises for bad bytes: the remark is told."""

    def end(self) -> list[PayloadUnit]:
        """What is left: no packet comes any more."""


class Whole:
    """A sample in each packet, or in all packets of one time: formats whose payload nobody here looks into.

    ``header``: bytes in front of the payload that are no part of it; ``frames``: packets of one time are one sample;
    ``frame``: ticks for each byte of a sample, where that is fixed, to make up what is lost.
    """

    def __init__(self, format: Format, *, header: int = 0, frames: bool = False, frame: int = 0) -> None:
        self.format = format
        self._header, self._frames, self._tick_bytes = header, frames, frame
        self._parts: list[bytes] = []
        self._size = 0
        self._time: int | None = None
        self._arrival = 0.0
        self._damaged = False
        self._last: PayloadUnit | None = None
        self._room = MOST_ROOM

    def add(self, packet: Ordered) -> list[PayloadUnit]:
        """The samples that are whole now."""
        if packet.anew:
            self._last = None
        data = self._body(packet.packet.payload)
        if not self._frames:
            made = self._missing(packet) if packet.lost else []
            unit = self._last = PayloadUnit(data, packet.time, packet.arrival)
            self._room = min(self._room + 1, MOST_ROOM)
            return [*made, unit] if data else made
        out = self.end() if packet.time != self._time else []
        if self._size + len(data) <= MOST_SAMPLE:
            self._parts.append(data)
            self._size += len(data)
        self._time, self._arrival = packet.time, packet.arrival
        self._damaged = self._damaged or packet.lost > 0
        return out + (self.end() if packet.packet.marker else [])

    def _body(self, payload: bytes) -> bytes:
        """What a packet carries of the sample."""
        return payload[self._header :]

    def end(self) -> list[PayloadUnit]:
        """What is left."""
        if self._time is None or not self._parts:
            return []
        unit = PayloadUnit(b"".join(self._parts), self._time, self._arrival, True, self._damaged)
        self._parts, self._size, self._damaged = [], 0, False
        return [unit]

    def _missing(self, packet: Ordered) -> list[PayloadUnit]:
        """What the lost packets held, where every one is as long as the last."""
        last = self._last
        if last is None or not self._tick_bytes:
            return []
        length = len(last.data) // self._tick_bytes
        count = min(packet.lost, MOST_MADE_UP, (packet.time - last.time) // max(1, length) - 1, self._room)
        self._room -= max(0, count)
        return [PayloadUnit(last.data, last.time + length * n, packet.arrival, True, True) for n in range(1, count + 1)]
