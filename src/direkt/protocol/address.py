"""Server addresses: scheme, host, port and, where the scheme has one, application; taken apart and checked."""

from __future__ import annotations

import ipaddress
import re
from dataclasses import dataclass

from direkt.protocol.address_error import AddressError
from direkt.protocol.schemes import PORTS, SCHEMES, SPOKEN

__all__ = ["AddressError", "ServerAddress", "bracketed", "is_host", "parse", "split_place", "split_url"]

_HOST = re.compile(r"(?!-)[A-Za-z0-9_-]{1,63}(?<!-)(\.(?!-)[A-Za-z0-9_-]{1,63}(?<!-))*\.?")


@dataclass(frozen=True, slots=True)
class ServerAddress:
    """``scheme://host:port/application``; the application may hold slashes, and is empty where the scheme has none."""

    scheme: str
    host: str
    port: int
    app: str

    @property
    def place(self) -> str:
        """Host and port as they stand in an address; the usual port is left out."""
        return f"{bracketed(self.host)}{'' if self.port == PORTS.get(self.scheme) else f':{self.port}'}"

    @property
    def tls(self) -> bool:
        """Whether the scheme wants TLS."""
        return SCHEMES[self.scheme].tls

    def __str__(self) -> str:
        return f"{self.scheme}://{self.place}/{self.app}" if self.app else f"{self.scheme}://{self.place}"


def bracketed(host: str) -> str:
    """A host as it stands in an address: IPv6 in brackets."""
    return f"[{host}]" if ":" in host else host


def parse(text: str) -> ServerAddress:
    """A server address as sheets and rigs write it. Raises AddressError."""
    if text != text.strip() or re.search(r"\s", text):
        raise AddressError("the server address holds a space or a line end; take it out")
    if not text.isprintable():
        hidden = next(n for n, c in enumerate(text, 1) if not c.isprintable())
        raise AddressError(f"the server address holds a character that cannot be seen, at place {hidden}; type it anew")
    if text.lower().count("://") > 1:
        raise AddressError("the server address has its scheme twice (rtmp://rtmp://); keep one")
    if "@" in text.partition("://")[2].partition("/")[0]:
        raise AddressError("the server address holds a login; logins have an entry of their own")
    scheme, host, port, path = split_url(text)
    return ServerAddress(scheme, host, port, SCHEMES[scheme].application(scheme, host, path))


def split_url(text: str) -> tuple[str, str, int, str]:
    """Scheme, host, port and path of a URL without a login. Raises AddressError."""
    scheme, separator, rest = text.partition("://")
    if not separator:
        raise AddressError(f"the server address has no scheme; it begins with {SPOKEN[0]}://")
    if scheme not in SCHEMES:
        raise AddressError(f"scheme {scheme!r}: expected {' or '.join(SCHEMES)}")
    place, _, path = rest.partition("/")
    host, port = split_place(place)
    if not host or not is_host(host):
        raise AddressError(f"host {host!r} is neither a name nor an IP address")
    if port is None:
        port = PORTS.get(scheme)
    if port is None:
        raise AddressError(f"a {scheme}:// address has no usual port: name one, {scheme}://{host}:port")
    return scheme, host, port, path


def split_place(place: str) -> tuple[str, int | None]:
    """Host and port of ``host:port`` or ``[address]:port``. Raises AddressError."""
    if place.startswith("["):
        host, _, port = place[1:].partition("]")
        port = port.removeprefix(":")
    else:
        host, _, port = place.partition(":")
    if port and not (port.isascii() and port.isdigit() and 1 <= int(port) <= 65535):
        raise AddressError("the port is not a number from 1 to 65535")
    return host.lower(), int(port) if port else None


def is_host(host: str) -> bool:
    """Whether this can be a host's name or IP address."""
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return bool(_HOST.fullmatch(host))
    return True
