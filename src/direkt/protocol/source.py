"""Addresses of streams that a device gives out: taken apart, and shown without what could be a login."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from urllib.parse import unquote, urlsplit

from direkt.protocol.address import AddressError, bracketed, is_host, split_place
from direkt.secret import Secret

# parts of paths and arguments that cameras use as a login
_LOGIN_WORDS = re.compile(
    r"(?i)((?:user(?:name)?|usr|login|pass(?:word|wd)?|pwd|psw|auth|token|key|ticket|session)\w*=)[^&/;?\s]*?(?=_\w+=|[&/;?\s]|$)"
)
_PLAIN_NAME = re.compile(r"[A-Za-z]{0,10}\d{0,2}")


@dataclass(frozen=True, slots=True)
class SourceScheme:
    """How streams are fetched."""

    name: str
    port: int  # the usual one
    tls: bool
    puller: str  # the file in net/ that speaks it


SOURCES: Mapping[str, SourceScheme] = {
    row.name: row
    for row in (
        SourceScheme("rtsp", 554, False, "rtsp"), SourceScheme("rtsps", 322, True, "rtsp"),
        SourceScheme("rtmp", 1935, False, "rtmp_player"), SourceScheme("rtmps", 443, True, "rtmp_player"),
    )
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class SourceAddress:
    """``scheme://host:port/path``, without a login."""

    scheme: str
    host: str
    port: int
    path: str  # with its leading slash, and arguments; it may hold a login: never show it

    @property
    def tls(self) -> bool:
        """Whether the scheme wants TLS."""
        return SOURCES[self.scheme].tls

    @property
    def place(self) -> str:
        """Host and port; the usual port is left out."""
        usual = self.port == SOURCES[self.scheme].port
        return f"{bracketed(self.host)}{'' if usual else f':{self.port}'}"

    @property
    def url(self) -> str:
        """For the wire."""
        return f"{self.scheme}://{self.place}{self.path}"

    def __str__(self) -> str:
        """For people: what may be a login is hidden."""
        path = _LOGIN_WORDS.sub(r"\1…", self.path)
        if self.scheme.startswith("rtmp"):  # what stands last may be a stream key
            front, slash, name = path.rpartition("/")
            path = path if _PLAIN_NAME.fullmatch(name) else f"{front}{slash}{name[:2]}…"
        return f"{self.scheme}://{self.place}{path}"

    def towards(self, location: str) -> SourceAddress:
        """Where a server sends us: an address, or a path at the same place. Raises AddressError."""
        if "://" in location:
            return parse(location)[0]
        return replace(self, path="/" + location.lstrip("/"))


def is_source(text: str) -> bool:
    """Whether a text is meant as the address of a stream, rather than a file."""
    scheme, separator, _ = text.strip().partition("://")
    return bool(separator) and re.fullmatch(r"[A-Za-z][A-Za-z0-9+.-]*", scheme) is not None


def parse(text: str) -> tuple[SourceAddress, tuple[str, Secret] | None]:
    """An address and the login in it. Raises AddressError, whose text does not hold the login."""
    text = text.strip()
    if not text.isprintable() or " " in text:
        raise AddressError("the address holds a space or a character that cannot be seen; type it anew")
    scheme, separator, rest = text.partition("://")
    scheme = scheme.lower()
    if not separator or scheme not in SOURCES:
        raise AddressError(f"scheme {scheme[:20]!r}: expected {', '.join(SOURCES)}")
    # a password may hold a slash only in its encoded form; an @ it often holds as it is
    front, slash, behind = rest.partition("/")
    login_text, at, place = front.rpartition("@")
    place, question, arguments = place.partition("?")
    path = (f"/?{arguments}" if question else "") + slash + behind
    try:
        host, port = split_place(place)
    except AddressError as error:
        raise AddressError(f"{error}; expected {scheme}://host:port/path") from None
    if not host or not is_host(host):
        raise AddressError(f"the host is neither a name nor an IP address; expected {scheme}://host/path")
    login = None
    if at:
        user, _, password = login_text.partition(":")
        login = (unquote(user), Secret(unquote(password)))
    return SourceAddress(scheme, host, port or SOURCES[scheme].port, path), login


def at_host(address: SourceAddress, host: str) -> SourceAddress:
    """The same at another host: devices behind a router tell an address that leads nowhere."""
    return replace(address, host=host)


def offered(told: str, host: str) -> str:
    """A stream's address as a device tells it, at the host by which we reach it, and without a login in it; empty: it is none.

    Devices behind a router tell an address that leads nowhere, and some put their login into it.
    """
    try:
        parts = urlsplit(told.strip())
        port = f":{parts.port}" if parts.port else ""
    except ValueError:
        return ""
    if parts.scheme not in (*SOURCES, "http", "https"):
        return ""
    query = f"?{parts.query}" if parts.query else ""
    return f"{parts.scheme}://{bracketed(host)}{port}{parts.path}{query}"


def shown(told: str) -> str:
    """A stream's address as it may be shown: what may be a login in it is hidden."""
    try:
        return str(parse(told)[0])
    except AddressError:
        return told.partition("?")[0]
