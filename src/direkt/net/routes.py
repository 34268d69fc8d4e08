"""The addresses of this machine: all of them, and the one by which a certain host can reach it."""

from __future__ import annotations

import ipaddress
import socket
from pathlib import Path

import ifaddr

_ANY = (None, "", "0.0.0.0", "::")


def own_addresses(bound_to: str | None = None) -> list[str]:
    """The addresses at which a port bound to ``bound_to`` (None: every one) can be reached; loopback last.

    IPv6 addresses of one link only are left out: they mean nothing without the other end's interface.
    """
    if bound_to not in _ANY:
        return [str(bound_to)]
    found: list[str] = []
    for adapter in ifaddr.get_adapters():
        for entry in adapter.ips:
            text = entry.ip if isinstance(entry.ip, str) else entry.ip[0]
            if not ipaddress.ip_address(text).is_link_local or ":" not in text:
                found.append(text)
    wanted = [text for text in dict.fromkeys(found) if not ipaddress.ip_address(text).is_loopback]
    wanted.sort(key=lambda text: ":" in text)
    return [*wanted, "127.0.0.1"]


def address_towards(host: str, port: int = 9) -> str:
    """The address of this machine on the way to ``host``: where that host can reach it. Raises OSError.

    Nothing is sent: the system is only asked which address it would use.
    """
    family, _, _, _, place = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0]
    with socket.socket(family, socket.SOCK_DGRAM) as probe:
        probe.connect(place)
        found: str = probe.getsockname()[0]
    return found


def own_gateway() -> str:
    """The IPv4 gateway by which this machine reaches other networks; empty where that is not known."""
    try:
        rows = [line.split() for line in Path("/proc/net/route").read_text("ascii").splitlines()[1:]]
    except (OSError, UnicodeDecodeError):
        return ""
    found = next((row[2] for row in rows if len(row) > 3 and row[1] == "00000000" and int(row[3], 16) & 2), "")
    return socket.inet_ntoa(bytes.fromhex(found)[::-1]) if len(found) == 8 else ""


def own_name_servers() -> list[str]:
    """The IPv4 name servers that this machine asks, without those on itself."""
    try:
        lines = Path("/etc/resolv.conf").read_text("utf-8", "replace").splitlines()
    except OSError:
        return []
    named = [words[1] for line in lines if len(words := line.split()) > 1 and words[0] == "nameserver"]
    return [text for text in named if "." in text and not text.startswith("127.")]
