"""How a connection stands at one moment, by whatever transport: what has arrived, what waits, and how long a round trip takes.

Each transport fills in the figures from what it knows: one on TCP from the kernel, one with its own repair from its own counts.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class LineFigures:
    """What a transport knows of its connection."""

    acked: int  # bytes that the other side has
    unsent: int  # bytes that are handed over and have not gone out
    in_flight: int  # bytes that were sent and not acknowledged
    rtt: float  # s, smoothed
    least_rtt: float  # s
    sent_again: int  # packets, in all
    packets: int  # that went out, in all
    on_the_wire: int  # bytes at the IP layer that went out, in all
    sent: int = 0  # bytes of content that went out, those that were sent again too


@dataclass(frozen=True, slots=True)
class Line:
    """A connection at one moment: its figures, and what waits in front of it."""

    waiting: int  # bytes that the transport has not taken yet
    figures: LineFigures

    @property
    def backlog(self) -> int:
        """Bytes that were handed over and have not arrived, about."""
        return self.waiting + self.figures.unsent + self.figures.in_flight
