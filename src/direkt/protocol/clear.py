"""What may go unencrypted: logins and tokens only within the local network, or where the person says so for a place."""

from __future__ import annotations

import ipaddress
from urllib.parse import urlsplit

_LOCAL = (".local", ".localhost", ".lan", ".home.arpa", ".internal")  # RFC 6762, 6761, 8375, and what is reserved for private use
_allowed: set[str] = set()


def allow(address: str) -> None:
    """From here on logins and tokens may go unencrypted to this address."""
    _allowed.add(_place(address))


def allowed(address: str) -> bool:
    """Whether a login or token may be sent to this address as it is: by TLS, to the local network, or where the person said so."""
    parts = urlsplit(address)
    return parts.scheme.lower() != "http" or is_local(parts.hostname or "") or _place(address) in _allowed


def is_local(host: str) -> bool:
    """Whether a host is of the local network: a private address, or a name that only such a network has."""
    try:
        found = ipaddress.ip_address(host.strip("[]").partition("%")[0])
    except ValueError:
        name = host.lower().rstrip(".")
        return "." not in name or name.endswith(_LOCAL)
    mapped = getattr(found, "ipv4_mapped", None) or found
    return bool(mapped.is_private or mapped.is_link_local or mapped.is_loopback)


def words(what: str, address: str, entry: str) -> str:
    """Why something is not sent, and what to do; ``entry``: what of the rig says so."""
    return (
        f"{what} would go unencrypted to {_place(address)}, which is not on the local network, and was not sent: use https://, "
        f"or, if it must be, write 'insecure: yes' under {entry}"
    )


def _place(address: str) -> str:
    parts = urlsplit(address)
    return f"{(parts.hostname or '').lower()}:{parts.port or (443 if parts.scheme == 'https' else 80)}"
