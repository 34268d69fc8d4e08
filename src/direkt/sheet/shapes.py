"""The shapes in which devices take one destination: as one URL, as URL and key, as parts; with a login or without.

``join`` writes an endpoint in a shape, ``split`` reads it back; nothing is lost on the way (join, then split, gives
the same endpoint).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal
from urllib.parse import quote, unquote

from direkt.sheet.address import PORTS, AddressError, ServerAddress

Shape = Literal["url", "url+key", "parts"]
SHAPES: tuple[Shape, ...] = ("url", "url+key", "parts")

# The fields of each shape, with the labels that devices' pages give them
LABELS: dict[Shape, dict[str, str]] = {
    "url": {"url": "URL"},
    "url+key": {"server": "Server URL", "key": "Stream key"},
    "parts": {"scheme": "Protocol", "host": "Host", "port": "Port", "app": "Application", "stream": "Stream name"},
}


@dataclass(frozen=True, slots=True)
class Endpoint:
    """A destination with everything that a push needs."""

    scheme: str
    host: str
    port: int
    app: str  # may hold slashes
    stream: str = field(repr=False)  # the key, with its query arguments
    user: str = ""
    password: str = field(default="", repr=False)


def endpoint(server: ServerAddress, key: str, user: str = "", password: str = "") -> Endpoint:
    """The endpoint of a server address and a key."""
    return Endpoint(server.scheme, server.host, server.port, server.app, key, user, password)


def join(e: Endpoint, shape: Shape) -> dict[str, str]:
    """The fields of ``shape``; a login stands inside URLs, and in fields of its own among parts."""
    if shape == "parts":
        fields = {"scheme": e.scheme, "host": e.host, "port": str(e.port), "app": e.app, "stream": e.stream}
        return {**fields, "user": e.user, "password": e.password} if e.user else fields
    server = _server(e)
    return {"url": f"{server}/{e.stream}"} if shape == "url" else {"server": server, "key": e.stream}


def _server(e: Endpoint) -> str:
    host = f"[{e.host}]" if ":" in e.host else e.host
    port = "" if PORTS.get(e.scheme) == e.port else f":{e.port}"
    login = f"{quote(e.user, safe='')}:{quote(e.password, safe='')}@" if e.user else ""
    return f"{e.scheme}://{login}{host}{port}/{e.app}"


def split(fields: Mapping[str, str], shape: Shape, app: str | None = None) -> Endpoint:
    """The endpoint that ``fields`` of ``shape`` stand for. Raises AddressError.

    In one URL nothing marks where the application ends: ``app`` tells; without it, the stream name begins behind
    the last slash in front of any question mark.
    """
    try:
        if shape == "parts":
            return Endpoint(
                fields["scheme"], fields["host"], int(fields["port"]), fields["app"], fields["stream"],
                fields.get("user", ""), fields.get("password", ""),
            )  # fmt: skip
        if shape == "url+key":
            scheme, host, port, path, user, password = _parts(fields["server"])
            return Endpoint(scheme, host, port, path, fields["key"], user, password)
        scheme, host, port, path, user, password = _parts(fields["url"])
    except KeyError as error:
        raise AddressError(f"the shape {shape} has a field {error.args[0]!r}, which is missing") from None
    except ValueError as error:
        raise AddressError(f"not a server address: {error}") from None
    if app is not None:
        if not path.startswith(f"{app}/"):
            raise AddressError(f"the application in the URL is not {app!r}")
        return Endpoint(scheme, host, port, app, path[len(app) + 1 :], user, password)
    plain, question, query = path.partition("?")
    found, slash, stream = plain.rpartition("/")
    if not slash:
        raise AddressError("the URL has no stream name behind its application")
    return Endpoint(scheme, host, port, found, stream + question + query, user, password)


def _parts(url: str) -> tuple[str, str, int, str, str, str]:
    scheme, separator, rest = url.partition("://")
    if not separator:
        raise AddressError("the server address has no scheme; it begins with rtmp://")
    place, _, path = rest.partition("/")
    login, at, place = place.rpartition("@")
    user, _, password = login.partition(":") if at else ("", "", "")
    if place.startswith("["):
        host, _, port = place[1:].partition("]")
        port = port.removeprefix(":")
    else:
        host, _, port = place.partition(":")
    number = int(port) if port else PORTS.get(scheme, 0)
    if not number:
        raise AddressError(f"scheme {scheme!r} has no usual port: name one")
    return scheme, host, number, path, unquote(user), unquote(password)
