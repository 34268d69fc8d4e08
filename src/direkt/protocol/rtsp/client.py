"""The client's end of RTSP (RFC 2326): describe, set up, play, keep alive, tear down; login and redirects.

Where a session stands is in TRANSITIONS, what an answer leads to in _GRANTED and _EXCUSED. One request is out at a time, except while a stream plays. What the server sends is told as events: what it describes, that a
medium is set up, that it plays, packets, and why it does not. A login is answered as often as the server has a new reason to ask.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from urllib.parse import urljoin, urlsplit

from direkt.protocol import httpauth
from direkt.protocol.errors import LocalError
from direkt.protocol.httpauth import Challenge
from direkt.protocol.rtsp import sdp
from direkt.protocol.rtsp.messages import (
    Interleaved,
    Parser,
    RtspError,
    RtspRequest,
    RtspResponse,
    pair_of,
    transport_of,
    write_request,
    write_response,
)
from direkt.protocol.rtsp.sdp import Medium, SdpError, SessionDescription
from direkt.secret import Secret

_MOST_LOGINS = 3  # tries of one request
_TIMEOUT = 60.0  # s without a word after which a server drops a session (RFC 2326, 12.37)
_AGENT = "Direkt"


class ClientState(StrEnum):
    """Where a session stands (RFC 2326, A.1; "described" and "leaving" are ours)."""

    INIT = "init"
    DESCRIBED = "described"
    READY = "ready"  # at least one medium is set up
    PLAYING = "playing"
    LEAVING = "leaving"  # the server was asked to end it
    OVER = "over"


class ClientAdvance(StrEnum):
    """What moves a session on."""

    DESCRIBE = "a description comes"
    SET_UP = "a medium is set up"
    PLAY = "all media play"
    LEAVE = "we end it"
    END = "the server knows that it is over, or sends us elsewhere"


_S, _A = ClientState, ClientAdvance
# All that moves a session; a request that no state is left by is a mistake of whoever drives it.
TRANSITIONS: Mapping[tuple[ClientState, ClientAdvance], ClientState] = {
    (_S.INIT, _A.DESCRIBE): _S.DESCRIBED,
    (_S.DESCRIBED, _A.DESCRIBE): _S.DESCRIBED,
    (_S.DESCRIBED, _A.SET_UP): _S.READY,
    (_S.READY, _A.SET_UP): _S.READY,
    (_S.READY, _A.PLAY): _S.PLAYING,
    (_S.PLAYING, _A.PLAY): _S.PLAYING,
    (_S.INIT, _A.LEAVE): _S.OVER,  # nothing is there to be ended
    (_S.DESCRIBED, _A.LEAVE): _S.OVER,
    (_S.READY, _A.LEAVE): _S.LEAVING,
    (_S.PLAYING, _A.LEAVE): _S.LEAVING,
    **{(state, _A.LEAVE): state for state in (_S.LEAVING, _S.OVER)},
    **{(_S.LEAVING, late): _S.LEAVING for late in (_A.DESCRIBE, _A.SET_UP, _A.PLAY)},  # answers that were on their way
    **{(_S.OVER, late): _S.OVER for late in (_A.DESCRIBE, _A.SET_UP, _A.PLAY)},
    **{(state, _A.END): _S.OVER for state in _S},
}


@dataclass(frozen=True, slots=True)
class Described:
    """What the server offers."""

    description: SessionDescription


@dataclass(frozen=True, slots=True)
class SetUp:
    """A medium is set up. Of the pairs, the first is RTP's, the second RTCP's."""

    medium: Medium
    channels: tuple[int, int] | None  # between the messages
    ports: tuple[int, int] | None  # UDP ports that the server sends from; None: it does not say
    source: str  # host that it sends from; empty: the one that is connected


@dataclass(frozen=True, slots=True)
class Playing:
    """The stream begins; where each medium stands then, by its address (RFC 2326, 12.33): sequence number and time stamp."""

    begins: Mapping[str, tuple[int | None, int | None]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class RequestRefused:
    """The server does not do what it was asked."""

    method: str
    status: int
    reason: str

    @property
    def text(self) -> str:
        """The same for a person."""
        known = {
            401: "it does not take the login", 403: "it does not allow this login to see the stream",
            404: "it has no stream at this address", 453: "its line is full: too many watch already",
            454: "it has forgotten the session", 461: "it does not send by this transport",
            503: "it is busy: too many watch already, or it is still starting",
        }  # fmt: skip
        said = f"{self.status} {self.reason}".strip()
        return f"{known[self.status]} ({said})" if self.status in known else f"it answers {said} to {self.method}"


@dataclass(frozen=True, slots=True)
class LoginWanted:
    """It wants a login, and there is none; or the one there is was refused."""

    refused: bool
    schemes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Redirected:
    """The stream is elsewhere."""

    url: str


@dataclass(frozen=True, slots=True)
class TornDown:
    """The server knows that it is over."""


Event = Described | SetUp | Playing | RequestRefused | LoginWanted | Redirected | TornDown | Interleaved


@dataclass(slots=True)
class _Pending:
    """A request that waits for its answer."""

    method: str
    url: str
    headers: dict[str, str]
    medium: Medium | None = None
    logins: int = 0
    other_way: str = ""  # the medium's address as others build it


class RtspClientSession:
    """One conversation. ``url``: ``rtsp://host[:port]/path`` without a login; ``login``: user and password."""

    def __init__(
        self, url: str, login: tuple[str, Secret] | None = None, schemes: tuple[str, ...] = ("digest", "basic")
    ) -> None:
        self.url = url
        self._login, self._schemes = login, schemes
        self._base = url if urlsplit(url).path else url + "/"
        self._parser = Parser()
        self._out = bytearray()
        self._sequence = 0
        self._pending: dict[int, _Pending] = {}
        self._challenge: Challenge | None = None
        self._used = 0  # times that its nonce was used
        self._session = ""
        self._aggregate = ""
        self._methods: set[str] = set()
        self.timeout = _TIMEOUT  # s
        self.state = ClientState.INIT
        self.description: SessionDescription | None = None
        self._urls: list[str] = []  # of the media that are set up
        self._begins: dict[str, tuple[int | None, int | None]] = {}
        self._apart = False  # the server starts and stops each medium by itself

    # Requests

    def start(self) -> None:
        """Asks what the server can do, and then what it offers."""
        self._send(_Pending("OPTIONS", self.url, {}))

    def _move(self, advance: ClientAdvance) -> None:
        following = TRANSITIONS.get((self.state, advance))
        if following is None:
            raise LocalError(f"{advance.value} while the session is {self.state.value}")
        self.state = following

    def _need(self, *states: ClientState) -> None:
        if self.state not in states:
            raise LocalError(f"asked for too early or too late: the session is {self.state.value}")

    def set_up(self, medium: Medium, transport: str) -> None:
        """Asks for a medium by the transport that a Transport header names. Raises LocalError before there is a description."""
        self._need(ClientState.DESCRIBED, ClientState.READY)
        url, other = self._control(medium.control)
        self._send(_Pending("SETUP", url, {"Transport": transport}, medium, other_way=other))

    def play(self) -> None:
        """Asks for all that was set up. Raises LocalError before anything is."""
        self._need(ClientState.READY)
        self._to_all("PLAY", {"Range": "npt=0.000-"})

    def _to_all(self, method: str, headers: Mapping[str, str]) -> None:
        """A request for all media together, or for each where the server wants that (459)."""
        for url in self._urls if self._apart else [self._aggregate or self._base]:
            self._send(_Pending(method, url, dict(headers)))

    def _waits_for(self, method: str) -> bool:
        return any(pending.method == method for pending in self._pending.values())

    @property
    def awaits_end(self) -> bool:
        """Whether the server was asked to end the session and has not answered."""
        return self._waits_for("TEARDOWN")

    def keep_alive(self) -> None:
        """Tells the server that somebody still watches."""
        method = "GET_PARAMETER" if "GET_PARAMETER" in self._methods or not self._methods else "OPTIONS"
        self._send(_Pending(method, self._aggregate or self._base, {}))

    def tear_down(self) -> None:
        """Ends the stream."""
        self._move(ClientAdvance.LEAVE)
        if self._session:
            self._to_all("TEARDOWN", {})

    def _control(self, control: str) -> tuple[str, str]:
        """A medium's address (RFC 2326, C.1.1), and how those build it who mean it otherwise: beside the base rather than below it."""
        base = self._base
        if not control or control == "*":
            return base, ""
        if "://" in control:
            return control, ""
        below = f"{base.rstrip('/')}/{control.lstrip('/')}"
        beside = _joined(base, control)
        return below, beside if beside != below else ""

    def _send(self, pending: _Pending) -> None:
        self._sequence += 1
        self._pending[self._sequence] = pending
        headers = {"CSeq": str(self._sequence), "User-Agent": _AGENT, **pending.headers}
        if pending.method == "DESCRIBE":
            headers["Accept"] = "application/sdp"
        if self._session and pending.method not in ("OPTIONS", "DESCRIBE"):
            headers["Session"] = self._session
        if self._challenge is not None and self._login is not None:
            headers["Authorization"] = self._authorization(self._challenge, self._login, pending)
        self._out += write_request(pending.method, pending.url, headers)

    def _authorization(self, challenge: Challenge, login: tuple[str, Secret], pending: _Pending) -> str:
        user, password = login
        if challenge.scheme == "basic":
            return httpauth.basic(user, password.reveal())
        self._used += 1
        return httpauth.digest(
            challenge,
            user,
            password.reveal(),
            pending.method,
            pending.url,
            count=self._used,
            client_nonce=secrets.token_hex(8),
        )

    # Bytes

    def data_to_send(self) -> bytes:
        """What is to go out."""
        data = bytes(self._out)
        self._out.clear()
        return data

    def send_packet(self, packet: bytes) -> None:
        """A packet between the messages, as interleave() makes it."""
        self._out += packet

    def receive_data(self, data: bytes) -> None:
        """What came in."""
        self._parser.receive_data(data)

    @property
    def passed_over(self) -> int:
        """Bytes that belonged to nothing."""
        return self._parser.passed_over

    def next_event(self) -> Event | None:
        """The next thing that happened; None when more bytes are needed. Raises RtspError."""
        while (message := self._parser.next_message()) is not None:
            if isinstance(message, Interleaved):
                return message
            event = self._asked(message) if isinstance(message, RtspRequest) else self._answered(message)
            if event is not None:
                return event
        return None

    def _asked(self, request: RtspRequest) -> Event | None:
        """Servers ask too: whether we are there, or that we go elsewhere (RFC 2326, 10.10)."""
        number = {"CSeq": request.headers.get("cseq", "0")}
        if request.method == "REDIRECT" and "location" in request.headers:
            self._out += write_response(200, "OK", number)
            self._move(ClientAdvance.END)
            return Redirected(request.headers["location"])
        if request.method in ("OPTIONS", "GET_PARAMETER", "SET_PARAMETER"):
            self._out += write_response(200, "OK", number)
        elif request.method == "TEARDOWN":
            self._out += write_response(200, "OK", number)
            return self._is_over()
        else:
            self._out += write_response(501, "Not Implemented", number)
        return None

    def _answered(self, response: RtspResponse) -> Event | None:
        number = response.headers.get("cseq", "").strip()
        key = int(number) if number.isascii() and number.isdigit() and len(number) < 10 else -1
        if key not in self._pending:
            # some servers leave the number out or send another: then the oldest request is meant
            key = min(self._pending, default=-1)
        pending = self._pending.pop(key, None)
        if pending is None:
            return None
        status = response.status
        if status == 100:
            self._pending[key] = pending
            return None
        if status == 401:
            return self._log_in(response, pending)
        if 300 <= status < 400 and "location" in response.headers:
            self._move(ClientAdvance.END)
            return Redirected(_joined(self.url, response.headers["location"]))
        if 200 <= status < 300:
            take = _GRANTED.get(pending.method)
            return take(self, response, pending) if take is not None else None
        for methods, statuses, excuse in _EXCUSED:
            if pending.method in methods and (not statuses or status in statuses) and excuse(self, pending):
                return None
        if pending.method == "TEARDOWN":  # whatever it says, it has heard
            return self._torn_down(response, pending)
        return RequestRefused(pending.method, status, response.reason)

    def _is_over(self) -> TornDown:
        self._move(ClientAdvance.END)
        return TornDown()

    # What a refusal is no obstacle to; each says whether it is one that it knows

    def _not_every_camera_knows_options(self, pending: _Pending) -> bool:
        if self._session:
            return False
        self._send(_Pending("DESCRIBE", self.url, {}))
        return True

    def _the_other_address(self, pending: _Pending) -> bool:
        if pending.other_way:
            self._send(_Pending("SETUP", pending.other_way, pending.headers, pending.medium))
        return bool(pending.other_way)

    def _heard_all_the_same(self, pending: _Pending) -> bool:
        self._methods = (self._methods or {"OPTIONS"}) - {"GET_PARAMETER"}
        return True

    def _each_by_itself(self, pending: _Pending) -> bool:
        if self._apart or not self._urls:
            return False
        self._apart = True
        self._to_all(pending.method, pending.headers)
        return True

    def _log_in(self, response: RtspResponse, pending: _Pending) -> Event | None:
        offered = httpauth.parse_challenges(response.challenges)
        chosen = httpauth.choose(offered, self._schemes)
        names = tuple(dict.fromkeys(challenge.text for challenge in offered))
        if self._login is None or chosen is None:
            return LoginWanted(False, names)
        old, self._challenge = self._challenge, chosen
        again = old is not None and pending.logins > 0 and not chosen.stale
        if again or pending.logins >= _MOST_LOGINS:
            return LoginWanted(True, names)
        self._used = 0
        pending.logins += 1
        self._send(pending)
        return None

    def _offered(self, response: RtspResponse, pending: _Pending) -> None:
        self._methods |= {word.strip().upper() for word in response.headers.get("public", "").split(",") if word.strip()}
        if self.description is None and not self._waits_for("DESCRIBE"):
            self._send(_Pending("DESCRIBE", self.url, {}))

    def _plays(self, response: RtspResponse, pending: _Pending) -> Event | None:
        self._begins |= _begins(response.headers.get("rtp-info", ""))
        if self._waits_for("PLAY"):
            return None
        self._move(ClientAdvance.PLAY)
        return Playing(self._begins)

    def _torn_down(self, response: RtspResponse, pending: _Pending) -> Event | None:
        return None if self.awaits_end else self._is_over()

    def _described(self, response: RtspResponse, pending: _Pending) -> Event:
        base = response.headers.get("content-base") or response.headers.get("content-location") or self._base
        try:
            description = sdp.parse(response.body.decode("utf-8", "replace"))
        except SdpError as error:
            raise RtspError(str(error)) from None
        # what a camera behind a router calls itself may be an address that leads nowhere
        self._base = _moved(_joined(self.url, base), self.url)
        if description.control not in ("", "*"):
            self._aggregate = _moved(self._control(description.control)[0], self.url)
        self.description = description
        self._move(ClientAdvance.DESCRIBE)
        return Described(description)

    def _is_set_up(self, response: RtspResponse, pending: _Pending) -> Event:
        session, _, more = response.headers.get("session", "").partition(";")
        if session.strip():
            self._session = session.strip()
        name, _, seconds = more.partition("=")
        if name.strip().lower() == "timeout":
            number = seconds.split(";")[0].strip()
            if number.isascii() and number.isdigit() and 0 < int(number[:6]) < 86400:
                self.timeout = float(number[:6])
        parts = transport_of(response.headers.get("transport", "") or pending.headers["Transport"])
        channels = pair_of(parts.get("interleaved", "")) if "interleaved" in parts else None
        if channels is None and parts.get("", "").endswith("/TCP"):
            channels = pair_of(transport_of(pending.headers["Transport"]).get("interleaved", ""))
        ports = pair_of(parts.get("server_port", "")) if channels is None else None
        assert pending.medium is not None
        self._urls.append(pending.url)
        self._move(ClientAdvance.SET_UP)
        return SetUp(pending.medium, channels, ports, parts.get("source", ""))


# What a method's answer leads to where the server does what it was asked
_GRANTED: Mapping[str, Callable[[RtspClientSession, RtspResponse, _Pending], Event | None]] = {
    "OPTIONS": RtspClientSession._offered,
    "DESCRIBE": RtspClientSession._described,
    "SETUP": RtspClientSession._is_set_up,
    "PLAY": RtspClientSession._plays,
    "TEARDOWN": RtspClientSession._torn_down,
}
# Refusals that end nothing: methods, status codes (none: any), and what is done instead; the first that knows it is taken
_EXCUSED: tuple[tuple[tuple[str, ...], tuple[int, ...], Callable[[RtspClientSession, _Pending], bool]], ...] = (
    (("OPTIONS",), (), RtspClientSession._not_every_camera_knows_options),
    (("SETUP",), (400, 404, 454, 459), RtspClientSession._the_other_address),
    (("GET_PARAMETER", "OPTIONS"), (400, 405, 451, 501, 551), RtspClientSession._heard_all_the_same),
    (("PLAY", "TEARDOWN"), (459,), RtspClientSession._each_by_itself),  # RFC 2326, 11.3.11
)


def _joined(base: str, url: str) -> str:
    """An address beside another (RFC 3986, 5). Raises RtspError."""
    try:
        return urljoin(base, url)
    except ValueError:
        raise RtspError(f"an address that cannot be read: {url[:60]!r}") from None


def _moved(url: str, reached: str) -> str:
    """``url`` at the host and port at which the server was reached."""
    if "://" not in url:
        return url
    try:
        there, here = urlsplit(url), urlsplit(reached)
    except ValueError:
        raise RtspError(f"an address that cannot be read: {url[:60]!r}") from None
    return there._replace(scheme=here.scheme, netloc=here.netloc).geturl()


def _begins(header: str) -> dict[str, tuple[int | None, int | None]]:
    """An RTP-Info header (RFC 2326, 12.33)."""
    out: dict[str, tuple[int | None, int | None]] = {}
    for part in header.split(",url=") if header else []:
        url, *rest = part.removeprefix("url=").split(";")
        told: dict[str, int] = {}
        for word in rest:
            name, _, value = word.strip().partition("=")
            if value.isascii() and value.isdigit():
                told[name.lower()] = int(value[:12]) & 0xFFFFFFFF
        out[url.strip().strip('"')] = (told.get("seq"), told.get("rtptime"))
    return out
