"""Server addresses of RTMP ingests: scheme, host, port and application, checked."""

from __future__ import annotations

import ipaddress
import re
from dataclasses import dataclass
from urllib.parse import SplitResult, urlsplit

from direkt.errors import UnusableInput

PORTS = {"rtmp": 1935, "rtmps": 443}
_HOST = re.compile(r"(?!-)[A-Za-z0-9_-]{1,63}(?<!-)(\.(?!-)[A-Za-z0-9_-]{1,63}(?<!-))*\.?")


class AddressError(UnusableInput, ValueError):
    """A server address that cannot be meant; the text says what is wrong with it."""


@dataclass(frozen=True, slots=True)
class ServerAddress:
    """``scheme://host:port/application``; the application may hold slashes."""

    scheme: str
    host: str
    port: int
    app: str

    def __str__(self) -> str:
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = "" if self.port == PORTS.get(self.scheme) else f":{self.port}"
        return f"{self.scheme}://{host}{port}/{self.app}"


def parse(text: str) -> ServerAddress:
    """A server address as sheets and rigs write it. Raises AddressError."""
    if text != text.strip() or re.search(r"\s", text):
        raise AddressError("the server address holds a space or a line end; take it out")
    if text.lower().count("://") > 1:
        raise AddressError("the server address has its scheme twice (rtmp://rtmp://); keep one")
    scheme, separator, rest = text.partition("://")
    if not separator:
        raise AddressError("the server address has no scheme; it begins with rtmp://")
    if scheme not in PORTS:
        raise AddressError(f"scheme {scheme!r}: expected {' or '.join(PORTS)}")
    try:
        parts: SplitResult = urlsplit(text)
        port = parts.port or PORTS[scheme]
        host = parts.hostname or ""
    except ValueError:
        raise AddressError("the port is not a number from 1 to 65535") from None
    if parts.username is not None or parts.password is not None:
        raise AddressError("the server address holds a login; logins have an entry of their own")
    if not host or not _is_host(host):
        raise AddressError(f"host {host!r} is neither a name nor an IP address")
    app = rest.partition("/")[2]
    if not app.strip("/"):
        raise AddressError(f"no application behind the host; expected {scheme}://{host}/application")
    if app.startswith("/") or "//" in app:
        raise AddressError("the server address has a doubled slash behind the host; keep one")
    if app.endswith("/"):
        raise AddressError("the server address ends with a slash; take it off")
    return ServerAddress(scheme, host, port, app)


def _is_host(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return bool(_HOST.fullmatch(host))
    return True
