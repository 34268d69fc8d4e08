"""Puts the packets of one source in order, and counts what is lost, doubled, late and reordered (RFC 3550, appendix A).

Strategy. Packets that come in turn pass at once. What comes too early waits, by sequence number, until what is missing comes
or has had its time; then what is missing is lost. Numbers given up are remembered for a while, so that one that comes after
all is known as late rather than doubled. O(1) for a packet in turn; memory is bounded.
"""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass

from direkt.protocol.rtp.packet import Packet

_MOST_WAITING = 512  # packets
_MOST_GIVEN_UP = 4096  # sequence numbers that are remembered
_DROPOUT = 3000  # RFC 3550, A.1: MAX_DROPOUT
_MISORDER = 100  # RFC 3550, A.1: MAX_MISORDER


@dataclass(slots=True)
class Counts:
    """Packets of a track so far."""

    received: int = 0  # each one once
    lost: int = 0  # that never came
    late: int = 0  # that came when they had been given up
    doubled: int = 0
    reordered: int = 0  # that came behind one sent later, and still in time
    restarts: int = 0  # times at which the numbers began anew
    sources: int = 0  # times at which another source (SSRC) took over
    jitter: float = 0.0  # ticks; A.8: the running estimate
    most_jitter: float = 0.0  # its highest value


@dataclass(frozen=True, slots=True)
class Ordered:
    """A packet in its turn."""

    packet: Packet
    time: int  # its time stamp, which runs on past 2^32 and over a change of source
    arrival: float  # s
    lost: int  # packets that are missing in front of it
    anew: bool  # another source, or numbers that began anew: nothing is known of what lies in front of it


class Order:
    """One track. ``clock``: ticks a second; ``wait``: s that a missing packet is waited for."""

    def __init__(self, clock: int, wait: float) -> None:
        self._clock, self._wait = clock, wait
        self.counts = Counts()
        self.ssrc: int | None = None
        self._next = 0  # extended sequence number that comes next
        self._first = 0  # of this source
        self._waiting: dict[int, tuple[Packet, float]] = {}
        self._given_up: OrderedDict[int, None] = OrderedDict()
        self._high = 0  # highest extended number that came
        self._odd: tuple[Packet, float] | None = None  # of another source, or far from the rest: the next one decides
        self._stamp = 0  # latest time stamp, 32 bits
        self._time = 0  # the same, extended
        self._arrived = 0.0  # when the latest one came
        self._transit: float | None = None
        self._anew = True

    def add(self, packet: Packet, now: float) -> list[Ordered]:
        """The packets that can be handed on now."""
        if self.ssrc is None:
            self._begin(packet, packet.timestamp, now)
        elif packet.ssrc != self.ssrc:
            return self._other(packet, now)
        distance = (packet.sequence - self._high + 0x8000 & 0xFFFF) - 0x8000
        number = self._high + distance
        if number not in self._given_up and not -_MISORDER <= distance < _DROPOUT:
            return self._other(packet, now)
        self._odd = None
        if number < self._next or number in self._waiting:
            self._again(number)
            return self.due(now)
        self._jitter(packet, now)
        self.counts.received += 1
        self.counts.reordered += number < self._high
        self._high = max(self._high, number)
        self._waiting[number] = (packet, now)
        return self._take(now)

    def _again(self, number: int) -> None:
        """A number whose turn has passed, or that already exists."""
        if number in self._given_up:
            del self._given_up[number]
            self.counts.lost -= 1
            self.counts.late += 1
            self.counts.received += 1
        elif self._first - _MISORDER <= number < self._first:  # sent before the first that came
            self._first = number
            self.counts.late += 1
            self.counts.received += 1
        else:
            self.counts.doubled += 1

    def _begin(self, packet: Packet, time: int, now: float) -> None:
        self.ssrc = packet.ssrc
        self._next = self._first = self._high = packet.sequence + 0x10000
        self._given_up.clear()
        self._stamp, self._time, self._arrived = packet.timestamp, time, now
        self._transit = None
        self._anew = True

    def _other(self, packet: Packet, now: float) -> list[Ordered]:
        """A packet that does not belong to the rest; when the next one runs on from it, a new run begins (RFC 3550, A.1)."""
        before, self._odd = self._odd, (packet, now)
        if before is None:
            return []
        odd, came = before
        if odd.ssrc != packet.ssrc or (odd.sequence + 1) & 0xFFFF != packet.sequence:
            return []
        out = self.flush()
        self.counts.sources += packet.ssrc != self.ssrc
        self.counts.restarts += packet.ssrc == self.ssrc
        passed = round(max(0.0, came - self._arrived) * self._clock)
        # a new source has time stamps of its own; where only the numbers began anew, they run on
        time = self.extended(odd.timestamp) if packet.ssrc == self.ssrc else self._time + passed
        self._odd = None
        self._begin(odd, time, came)
        return out + self.add(odd, came) + self.add(packet, now)

    def extended(self, timestamp: int) -> int:
        """A 32-bit time stamp near the latest one, as it runs on."""
        return self._time + (timestamp - self._stamp + 0x80000000 & 0xFFFFFFFF) - 0x80000000

    @property
    def highest(self) -> int:
        """Extended highest sequence number received (RFC 3550, 6.4.1), 32 bits."""
        return self._high - 0x10000 & 0xFFFFFFFF

    def _jitter(self, packet: Packet, now: float) -> None:
        """A.8; a step of the time stamps is none."""
        transit = now * self._clock - self.extended(packet.timestamp)
        if self._transit is not None:
            step = abs(transit - self._transit)
            if step < self._clock:
                c = self.counts
                c.jitter += (step - c.jitter) / 16
                c.most_jitter = max(c.most_jitter, c.jitter)
        self._transit = transit

    def _take(self, now: float) -> list[Ordered]:
        out: list[Ordered] = []
        waiting = self._waiting
        while True:
            while self._next in waiting:
                out.append(self._hand_on(0))
            if not waiting:
                return out
            oldest = next(iter(waiting.values()))[1]
            if now - oldest < self._wait and len(waiting) <= _MOST_WAITING:
                return out
            out.append(self._skip())

    def _skip(self) -> Ordered:
        """Gives up what is missing in front of the lowest that waits."""
        lowest = min(self._waiting)
        missing = lowest - self._next
        self.counts.lost += missing
        for number in range(self._next, lowest):
            self._given_up[number] = None
        while len(self._given_up) > _MOST_GIVEN_UP:
            self._given_up.popitem(last=False)
        self._next = lowest
        return self._hand_on(missing)

    def _hand_on(self, missing: int) -> Ordered:
        packet, arrival = self._waiting.pop(self._next)
        self._next += 1
        self._time = self.extended(packet.timestamp)
        self._stamp, self._arrived = packet.timestamp, arrival
        anew, self._anew = self._anew, False
        return Ordered(packet, self._time, arrival, missing, anew)

    def due(self, now: float) -> list[Ordered]:
        """What has waited long enough."""
        return self._take(now) if self._waiting else []

    def flush(self) -> list[Ordered]:
        """All that waits: nothing comes any more."""
        out = []
        while self._waiting:
            out.append(self._hand_on(0) if self._next in self._waiting else self._skip())
        return out
