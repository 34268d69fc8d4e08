"""RTSP's messages and its interleaved packets (RFC 2326, sections 4, 6, 7 and 10.12), out of and into bytes.

Strategy. One buffer; a packet is taken by its length, a message by the blank line and its Content-Length. Where neither begins,
bytes are passed over until one does: cameras that miscount do not end the stream. O(bytes).
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from direkt.errors import Malformed

_MOST_HEAD = 1 << 16  # bytes of a message's lines
_MOST_BODY = 1 << 20
_MOST_PASSED = 1 << 20  # bytes that are passed over in a row
_DOLLAR = 0x24
_CHANNELS = 32  # that are thought possible
_LONGEST_BEGIN = 1024  # bytes after which a request's first line is over
_BLANK = re.compile(rb"\r?\n\r?\n")
_BEGIN = re.compile(rb"\$[\0-\x1f]|RTSP/|[A-Z_]{3,15} \S+ RTSP/")


class RtspError(Malformed):
    """The peer broke the protocol; the text says what it did."""


@dataclass(frozen=True, slots=True)
class RtspRequest:
    """A request; names of headers are in small letters."""

    method: str
    url: str
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""
    version: str = "RTSP/1.0"


@dataclass(frozen=True, slots=True)
class RtspResponse:
    """A response; ``challenges``: every WWW-Authenticate header."""

    status: int
    reason: str
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""
    challenges: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Interleaved:
    """A packet between the messages (RFC 2326, 10.12)."""

    channel: int
    data: bytes


Message = RtspRequest | RtspResponse | Interleaved


class Parser:
    """Takes bytes, gives messages."""

    def __init__(self) -> None:
        self._buffer = bytearray()
        self._at = 0
        self._any = False  # message came
        self.passed_over = 0  # bytes that belong to nothing

    def receive_data(self, data: bytes) -> None:
        """More bytes."""
        if self._at > 1 << 16:
            del self._buffer[: self._at]
            self._at = 0
        self._buffer += data

    def next_message(self) -> Message | None:
        """The next one; None when more bytes are needed. Raises RtspError."""
        buffer = self._buffer
        while self._at < len(buffer):
            first = buffer[self._at]
            if first == _DOLLAR and (self._at + 1 == len(buffer) or buffer[self._at + 1] < _CHANNELS):
                return self._packet()
            if first in b"\r\n":
                self._at += 1
                continue
            if _BEGIN.match(buffer, self._at) or self._may_begin():
                return self._message()
            self._pass_over()
        buffer.clear()
        self._at = 0
        return None

    def _may_begin(self) -> bool:
        """Whether what is there could still become a message."""
        start = self._buffer[self._at : self._at + _LONGEST_BEGIN]
        return len(start) < _LONGEST_BEGIN and start[:1].isupper() and b"\n" not in start and start[:5] != b"HTTP/"

    def _pass_over(self) -> None:
        if not self._any:
            what = "HTTP" if self._buffer.startswith(b"HTTP/") else "something else"
            raise RtspError(f"what answers there speaks {what}, not RTSP")
        found = _BEGIN.search(self._buffer, self._at + 1)
        to = found.start() if found else len(self._buffer)
        self.passed_over += to - self._at
        if self.passed_over > _MOST_PASSED:
            raise RtspError("what comes is not RTSP")
        self._at = to

    def _packet(self) -> Interleaved | None:
        at, buffer = self._at, self._buffer
        if len(buffer) - at < 4:
            return None
        end = at + 4 + (buffer[at + 2] << 8 | buffer[at + 3])
        if end > len(buffer):
            return None
        self._at = end
        return Interleaved(buffer[at + 1], bytes(buffer[at + 4 : end]))

    def _message(self) -> RtspRequest | RtspResponse | None:
        at, buffer = self._at, self._buffer
        found = _BLANK.search(buffer, at, at + _MOST_HEAD)
        if found is None:
            if len(buffer) - at >= _MOST_HEAD:
                raise RtspError(f"a message whose lines are longer than {_MOST_HEAD >> 10} KiB")
            return None
        lines = bytes(buffer[at : found.start()]).decode("utf-8", "replace").splitlines()
        headers: dict[str, str] = {}
        challenges: list[str] = []
        name = ""
        for line in lines[1:]:
            if line[:1] in (" ", "\t") and name:  # a folded line
                headers[name] += " " + line.strip()
                continue
            name, _, value = line.partition(":")
            name, value = name.strip().lower(), value.strip()
            if name == "www-authenticate":
                challenges.append(value)
            headers[name] = value if name not in headers or name == "cseq" else f"{headers[name]}, {value}"
        size = headers.get("content-length", "0")
        if not (size.isascii() and size.isdigit()) or int(size[:12]) > _MOST_BODY:
            raise RtspError(f"a message whose body is {size[:20]!r} bytes long")
        end = found.end() + int(size)
        if end > len(buffer):
            return None
        self._at, self._any = end, True
        return _read(lines[0], headers, bytes(buffer[found.end() : end]), tuple(challenges))


def _read(line: str, headers: dict[str, str], body: bytes, challenges: tuple[str, ...]) -> RtspRequest | RtspResponse:
    if line.startswith("RTSP/"):
        words = line.split(None, 2)
        if len(words) < 2 or not (words[1].isascii() and words[1].isdigit()) or len(words[1]) != 3:
            raise RtspError(f"a response without a status: {line[:40]!r}")
        return RtspResponse(int(words[1]), words[2].strip() if len(words) > 2 else "", headers, body, challenges)
    words = line.split()
    if len(words) != 3:
        raise RtspError(f"a request of {len(words)} words where three belong")
    return RtspRequest(words[0].upper(), words[1], headers, body, words[2].upper())


def _lines(first: str, headers: Mapping[str, str], body: bytes) -> bytes:
    lines = [first, *(f"{name}: {value}" for name, value in headers.items())]
    if body:
        lines.append(f"Content-Length: {len(body)}")
    return "".join(f"{line}\r\n" for line in lines).encode() + b"\r\n" + body


def write_request(method: str, url: str, headers: Mapping[str, str], body: bytes = b"") -> bytes:
    """The bytes of a request."""
    return _lines(f"{method} {url} RTSP/1.0", headers, body)


def write_response(status: int, reason: str, headers: Mapping[str, str], body: bytes = b"") -> bytes:
    """The bytes of a response."""
    return _lines(f"RTSP/1.0 {status} {reason}", headers, body)


def interleave(channel: int, packet: bytes) -> bytes:
    """A packet between messages."""
    return b"$" + bytes([channel]) + len(packet).to_bytes(2, "big") + packet


def transport_of(header: str) -> dict[str, str]:
    """The parts of a Transport header's first offer (RFC 2326, 12.39), names in small letters; the protocol is ``""``."""
    out: dict[str, str] = {}
    for n, part in enumerate(header.split(",")[0].split(";")):
        name, _, value = part.strip().partition("=")
        if n == 0:
            out[""] = name.upper()
        elif name:
            out[name.lower()] = value.strip().strip('"')
    return out


def pair_of(text: str) -> tuple[int, int] | None:
    """Two channels or ports, "0-1"; of one alone, the next is the other."""
    found = re.fullmatch(r"\s*(\d{1,5})\s*(?:-\s*(\d{1,5})\s*)?", text)
    if found is None:
        return None
    first = int(found[1])
    second = int(found[2]) if found[2] else first + 1
    return (first, second) if max(first, second) <= 65535 else None
