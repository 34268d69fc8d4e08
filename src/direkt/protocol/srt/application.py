"""An SRT address ends after its port."""

from __future__ import annotations

from direkt.protocol.address_error import AddressError


def application(scheme: str, host: str, path: str) -> str:
    """Nothing may stand after the port. Raises AddressError."""
    if path.strip("/"):
        raise AddressError(f"a {scheme}:// address ends after its port; expected {scheme}://host:port")
    return ""
