"""SRT in the forms that devices take: an address and a stream ID (draft-sharabayko-srt-01, 3.2.1.3), or parts."""

from __future__ import annotations

from collections.abc import Mapping

from direkt.protocol.address import AddressError, ServerAddress, parse
from direkt.protocol.endpoint import Endpoint, Form

LABELS: Mapping[Form, Mapping[str, str]] = {
    "url+key": {"server": "Address", "key": "Stream ID"},
    "parts": {"scheme": "Protocol", "host": "Host", "port": "Port", "stream": "Stream ID"},
}


def join(e: Endpoint, form: Form) -> dict[str, str]:
    """The fields of ``form``. Raises AddressError for a form that SRT does not have."""
    if form == "parts":
        return {"scheme": e.server.scheme, "host": e.server.host, "port": str(e.server.port), "stream": e.stream}
    if form == "url+key":
        return {"server": str(e.server), "key": e.stream}
    raise AddressError("an srt:// address and its stream ID are two fields: no one URL holds both")


def split(fields: Mapping[str, str], form: Form, app: str | None = None) -> Endpoint:
    """The endpoint that ``fields`` of ``form`` stand for. Raises ValueError (AddressError), KeyError for a field that is missing."""
    if form == "parts":
        return Endpoint(ServerAddress(fields["scheme"], fields["host"], int(fields["port"]), ""), fields["stream"])
    return Endpoint(parse(fields["server"]), fields["key"])
