"""RTMP in the forms that devices take: as one URL, as URL and key, as parts; with a login or without."""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import quote, unquote

from direkt.protocol.address import AddressError, ServerAddress, split_url
from direkt.protocol.endpoint import Endpoint, Form

# The fields of each form, with the labels that devices' pages give them
LABELS: Mapping[Form, Mapping[str, str]] = {
    "url": {"url": "URL"},
    "url+key": {"server": "Server URL", "key": "Stream key"},
    "parts": {"scheme": "Protocol", "host": "Host", "port": "Port", "app": "Application", "stream": "Stream name"},
}


def join(e: Endpoint, form: Form) -> dict[str, str]:
    """The fields of ``form``; a login stands inside URLs, and in fields of its own among parts."""
    s = e.server
    if form == "parts":
        fields = {"scheme": s.scheme, "host": s.host, "port": str(s.port), "app": s.app, "stream": e.stream}
        return {**fields, "user": e.user, "password": e.password} if e.user else fields
    login = f"{quote(e.user, safe='')}:{quote(e.password, safe='')}@" if e.user else ""
    server = f"{s.scheme}://{login}{s.place}/{s.app}"
    return {"url": f"{server}/{e.stream}"} if form == "url" else {"server": server, "key": e.stream}


def split(fields: Mapping[str, str], form: Form, app: str | None = None) -> Endpoint:
    """The endpoint that ``fields`` of ``form`` stand for. Raises ValueError (AddressError), KeyError for a field that is missing.

    In one URL nothing marks where the application ends: ``app`` tells; without it, the stream name begins behind
    the last slash in front of any question mark.
    """
    if form == "parts":
        server = ServerAddress(fields["scheme"], fields["host"], int(fields["port"]), fields["app"])
        return Endpoint(server, fields["stream"], fields.get("user", ""), fields.get("password", ""))
    if form == "url+key":
        server, user, password = _parts(fields["server"])
        return Endpoint(server, fields["key"], user, password)
    whole, user, password = _parts(fields["url"])
    if app is not None:
        if not whole.app.startswith(f"{app}/"):
            raise AddressError(f"the application in the URL is not {app!r}")
        stream = whole.app[len(app) + 1 :]
    else:
        plain, question, query = whole.app.partition("?")
        app, slash, name = plain.rpartition("/")
        if not slash:
            raise AddressError("the URL has no stream name after its application")
        stream = name + question + query
    return Endpoint(ServerAddress(whole.scheme, whole.host, whole.port, app), stream, user, password)


def _parts(url: str) -> tuple[ServerAddress, str, str]:
    """Everything behind the host as the application, and the login."""
    scheme, separator, rest = url.partition("://")
    place, slash, path = rest.partition("/")
    login, at, place = place.rpartition("@")
    user, _, password = login.partition(":") if at else ("", "", "")
    return ServerAddress(*split_url(f"{scheme}{separator}{place}{slash}{path}")), unquote(user), unquote(password)
