"""The table of schemes: how server addresses begin, and what follows from that.

Addresses, pastes, sheets, lint, budget, reach and the help texts read it. To add a transport is to write its protocol
(a folder here) and its network end (a file in net/), and to name both in a row.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from direkt.protocol.load import Load
from direkt.protocol.rtmp import application as rtmp_application
from direkt.protocol.rtmp import overhead as rtmp_overhead
from direkt.protocol.srt import application as srt_application


@dataclass(frozen=True, slots=True)
class Scheme:
    """One row of the table."""

    name: str
    port: int  # the usual one; 0: there is none
    tls: bool
    application: Callable[[str, str, str], str]  # what may stand after the host: of scheme, host and path; raises AddressError
    transport: str = ""  # the file in net/ that speaks it; empty: known by name only
    overhead: Callable[[Load, bool], float] | None = None  # kbit/s at the IP layer, of a load, with or without TLS
    mistaken: str = ""  # the scheme that people write in its place
    forms: str = "rtmp"  # the folder here whose forms.py knows in which forms devices take an address and what is secret
    datagrams: bool = False  # on UDP, where a port does not show that it is open


_ROWS = (
    Scheme("rtmp", 1935, False, rtmp_application.application, "rtmp", rtmp_overhead.on_the_wire, "http"),
    Scheme("rtmps", 443, True, rtmp_application.application, "rtmp", rtmp_overhead.on_the_wire, "https"),
    Scheme("srt", 0, False, srt_application.application, forms="srt", datagrams=True),
)

SCHEMES: Mapping[str, Scheme] = {row.name: row for row in _ROWS}
SPOKEN: tuple[str, ...] = tuple(
    row.name for row in _ROWS if row.transport
)  # by which Direkt itself can push and receive
PORTS: Mapping[str, int] = {row.name: row.port for row in _ROWS if row.port}
MISTAKEN: Mapping[str, str] = {row.mistaken: row.name for row in _ROWS if row.mistaken}


def secure(transport: str, *, tls: bool) -> Scheme:
    """The scheme of a transport with or without TLS."""
    return next(row for row in _ROWS if row.transport == transport and row.tls is tls)
