"""The server's end of RTSP (RFC 2326): one connection's requests as events, and their answers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from direkt.protocol.rtsp.messages import (
    Interleaved,
    Parser,
    RtspRequest,
    RtspResponse,
    interleave,
    pair_of,
    transport_of,
    write_response,
)

METHODS = ("OPTIONS", "DESCRIBE", "SETUP", "PLAY", "GET_PARAMETER", "SET_PARAMETER", "TEARDOWN")
_IN_SESSION = ("PLAY", "TEARDOWN")  # which a session is needed for (RFC 2326, 12.37)
_REASONS = {
    200: "OK", 301: "Moved Permanently", 302: "Moved Temporarily", 400: "Bad Request", 401: "Unauthorized",
    404: "Not Found", 405: "Method Not Allowed", 453: "Not Enough Bandwidth", 454: "Session Not Found",
    406: "Not Acceptable", 455: "Method Not Valid in This State", 459: "Aggregate Operation Not Allowed", 461: "Unsupported Transport",
    503: "Service Unavailable", 505: "RTSP Version Not Supported", 551: "Option Not Supported",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class TransportOffer:
    """A transport that a client asks for."""

    channels: tuple[int, int] | None  # between the messages
    ports: tuple[int, int] | None  # of its own, by UDP


@dataclass(frozen=True, slots=True)
class Asked:
    """A request that was admitted; answer it with ServerSession.answer()."""

    request: RtspRequest
    offer: TransportOffer | None = None  # of SETUP


def _offered(header: str) -> bool:
    """Whether a Transport header (RFC 2326, 12.39) offers what is sent here: unicast, between the messages or to a pair of ports."""
    parts = transport_of(header)
    kind = parts.get("", "")
    if kind not in ("RTP/AVP", "RTP/AVP/UDP", "RTP/AVP/TCP") or "multicast" in parts:
        return False
    if kind == "RTP/AVP/TCP":
        channels = pair_of(parts.get("interleaved", "0-1"))
        return channels is not None and channels[1] == channels[0] + 1 <= 255
    ports = pair_of(parts.get("client_port", ""))
    return ports is not None and ports[1] == ports[0] + 1 and not ports[0] % 2


class RtspServerSession:
    """One connection. ``refuse``: the WWW-Authenticate headers that a request is refused with; none: it is admitted."""

    def __init__(self, refuse: Callable[[RtspRequest], tuple[str, ...]]) -> None:
        self._refuse = refuse
        self._parser = Parser()
        self._out = bytearray()
        self.session = ""  # its number, once something is set up
        self.playing = False

    def receive_data(self, data: bytes) -> None:
        """What came in."""
        self._parser.receive_data(data)

    def data_to_send(self) -> bytes:
        """What is to go out."""
        data = bytes(self._out)
        self._out.clear()
        return data

    def next_event(self) -> Asked | Interleaved | None:
        """The next request, or packet of the client. Raises RtspError."""
        while (message := self._parser.next_message()) is not None:
            if isinstance(message, Interleaved):
                return message
            if isinstance(message, RtspResponse):
                continue
            status, told = self._wrong(message)
            if status:
                self.answer(message, status, told)
                continue
            challenges = self._refuse(message)
            if challenges:
                self.answer(message, 401, challenges=challenges)
                continue
            if message.method == "OPTIONS":
                self.answer(message, 200, {"Public": ", ".join(METHODS)})
            elif message.method == "SETUP":
                parts = transport_of(message.headers.get("transport", ""))
                ports = pair_of(parts.get("client_port", "")) if "/TCP" not in parts.get("", "") else None
                return Asked(message, TransportOffer(pair_of(parts.get("interleaved", "")), ports))
            elif message.method in METHODS:
                return Asked(message)
            else:
                self.answer(message, 405, {"Allow": ", ".join(METHODS)})
        return None

    def _wrong(self, request: RtspRequest) -> tuple[int, dict[str, str]]:
        """The status of a request that breaks the rules, and what more is said; 0: it breaks none."""
        headers = request.headers
        number = headers.get("cseq", "")
        if request.version != "RTSP/1.0":
            return 505, {}
        if not (number.isascii() and number.isdigit()):  # RFC 2326, 12.17
            return 400, {}
        if "require" in headers:  # RFC 2326, 12.32: nothing that is not in the standard
            return 551, {"Unsupported": headers["require"]}
        if request.method == "DESCRIBE" and "application/sdp" not in headers.get("accept", "application/sdp") and "*/*" not in headers["accept"]:
            return 406, {}
        named = headers.get("session", "").partition(";")[0].strip()
        if (named and named != self.session) or (request.method in _IN_SESSION and not named):
            return 454, {}
        if request.method == "SETUP" and self.playing:
            return 455, {}
        if request.method == "SETUP" and not _offered(headers.get("transport", "")):
            return 461, {}
        return 0, {}

    def answer(
        self, request: RtspRequest, status: int, headers: dict[str, str] | None = None, body: bytes = b"", *,
        challenges: tuple[str, ...] = (),
    ) -> None:  # fmt: skip
        """The answer to a request."""
        told = {"CSeq": request.headers.get("cseq", "0")}
        if self.session and request.method not in ("OPTIONS", "DESCRIBE"):
            told["Session"] = self.session
        data = write_response(status, _REASONS.get(status, "Error"), told | (headers or {}), body)
        for challenge in challenges:
            data = data.replace(b"\r\n\r\n", f"\r\nWWW-Authenticate: {challenge}\r\n\r\n".encode(), 1)
        self._out += data

    def send_packet(self, channel: int, packet: bytes) -> None:
        """A packet between the messages."""
        self._out += interleave(channel, packet)
