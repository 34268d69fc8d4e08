"""What stands after the host of an RTMP address: the application."""

from __future__ import annotations

from direkt.protocol.address_error import AddressError


def application(scheme: str, host: str, path: str) -> str:
    """The application of an address; it may hold slashes. Raises AddressError."""
    if not path.strip("/"):
        raise AddressError(f"no application after the host; expected {scheme}://{host}/application")
    if path.startswith("/") or "//" in path:
        raise AddressError("the server address has a doubled slash after the host; keep one")
    if path.endswith("/"):
        raise AddressError("the server address ends with a slash; remove it")
    return path
