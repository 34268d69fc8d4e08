"""The kernel's own figures of a TCP connection (Linux, TCP_INFO): what was acknowledged, sent again, waits, and how long a round trip takes.

The layout is that of struct tcp_info in linux/tcp.h, which only ever grows at its end; an older kernel gives less of it.
"""

from __future__ import annotations

import socket
import struct
import sys

from direkt.net.line import LineFigures

_TCP_INFO = 11  # of IPPROTO_TCP, on Linux
_U32 = {"rtt": 68, "total_retrans": 100, "segs_out": 136, "notsent_bytes": 144, "min_rtt": 148}
_U64 = {"bytes_acked": 120, "bytes_sent": 200, "bytes_retrans": 208}
_LEAST = 216  # bytes of it that we need
_HEADERS = {socket.AF_INET: 20 + 20 + 12, socket.AF_INET6: 40 + 20 + 12}  # bytes a segment: IP, TCP with time stamps


def read(connection: socket.socket) -> LineFigures | None:
    """The figures now; None where this system does not tell them."""
    if not sys.platform.startswith("linux"):
        return None
    try:
        raw = connection.getsockopt(socket.IPPROTO_TCP, _TCP_INFO, 256)
    except OSError:
        return None
    if len(raw) < _LEAST:
        return None
    small = {name: struct.unpack_from("=I", raw, at)[0] for name, at in _U32.items()}
    large = {name: struct.unpack_from("=Q", raw, at)[0] for name, at in _U64.items()}
    headers = _HEADERS.get(connection.family, 52)
    return LineFigures(
        large["bytes_acked"], small["notsent_bytes"], max(0, large["bytes_sent"] - large["bytes_retrans"] - large["bytes_acked"]), small["rtt"] / 1e6, small["min_rtt"] / 1e6,
        small["total_retrans"], small["segs_out"], large["bytes_sent"] + small["segs_out"] * headers, large["bytes_sent"],
    )  # fmt: skip
