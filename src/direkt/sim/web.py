"""The HTTP server of simulated gear: real sockets, logins by digest, basic or a token, and what goes wrong with devices."""

from __future__ import annotations

import contextlib
import os
import random
import socket
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from direkt.protocol import httpauth
from direkt.protocol.httpauth import Challenge

_LARGEST = 64 << 20  # bytes of a request's body
_LOCK_AFTER = 3  # wrong logins, where the device locks


@dataclass(slots=True)
class Faults:
    """What is broken on purpose."""

    never_returns: bool = False  # stays away after a restart
    not_json: bool = False  # answers with a page
    sticky: set[str] = field(default_factory=set)  # fields such as "video.size" that say yes and change nothing
    mute: bool = False  # carries silence
    slow: float = 0.0  # s before each answer
    flaky: float = 0.0  # share of requests whose connection is cut
    malformed: bool = False  # answers are cut in the middle
    clamps: dict[str, float] = field(default_factory=dict)  # fields whose numbers are silently kept at most this high
    forgets: bool = False  # a restart brings back what was there at delivery
    locks: bool = False  # after three wrong logins nobody gets in


@dataclass(frozen=True, slots=True)
class WebRequest:
    """What somebody asks."""

    method: str
    path: str
    query: str
    headers: Mapping[str, str]
    body: bytes
    peer: str = ""


@dataclass(frozen=True, slots=True)
class WebResponse:
    """What the device answers."""

    status: int
    content: bytes = b""
    kind: str = "text/plain; charset=utf-8"
    headers: tuple[tuple[str, str], ...] = ()


class Login:
    """Who gets in: HTTP digest and basic as a device offers them, with nonces that grow old, and a lock."""

    def __init__(self, realm: str, user: str, password: str, schemes: tuple[str, ...], faults: Faults) -> None:
        self.realm, self.user, self.password = realm, user, password
        self.schemes_all = schemes  # such as "digest MD5", "digest SHA-256", "basic", and "token" of WS-Security
        self.schemes = tuple(scheme for scheme in schemes if scheme != "token")  # those of HTTP
        self.page_schemes = self.schemes or ("digest MD5",)  # a token is for SOAP; pages want something else
        self.qop = "auth"
        self.nonce_life = 300.0  # s
        self.wrong = 0  # logins that were refused
        self._faults = faults
        self._nonces: dict[str, float] = {}
        self._lock = threading.Lock()

    @property
    def locked(self) -> bool:
        """Whether nobody gets in any more."""
        return self._faults.locks and self.wrong >= _LOCK_AFTER

    def _challenge(self, scheme: str, nonce: str) -> Challenge:
        if scheme == "basic":
            return Challenge("basic", {"realm": self.realm})
        given = {"realm": self.realm, "nonce": nonce, "algorithm": scheme.partition(" ")[2]}
        return Challenge("digest", {**given, "qop": self.qop} if self.qop else given)

    def challenges(self, *, stale: bool = False) -> tuple[tuple[str, str], ...]:
        """The headers that ask for a login, with a fresh nonce."""
        now, nonce = time.monotonic(), os.urandom(16).hex()
        with self._lock:
            self._nonces = {n: born for n, born in self._nonces.items() if now - born < self.nonce_life}
            self._nonces[nonce] = now
        made = []
        for scheme in self.page_schemes:
            one = self._challenge(scheme, nonce)
            words = ", ".join(f"{k}={v}" if k == "algorithm" else f'{k}="{v}"' for k, v in one.parameters.items())
            made.append(
                (
                    "WWW-Authenticate",
                    f"{one.scheme.title()} {words}" + (", stale=true" if stale and one.scheme == "digest" else ""),
                )
            )
        return tuple(made)

    def check(self, request: WebRequest) -> tuple[bool, bool]:
        """Whether a request's login is right, and whether only its nonce is old."""
        given = httpauth.login_of(request.headers.get("authorization", ""))
        if given is None or not self.password:
            return False, False
        nonce = given.parameters.get("nonce", "")
        offered = [self._challenge(scheme, nonce) for scheme in self.page_schemes]
        right = any(
            httpauth.is_right(one, given, self.user, self.password, request.method, request.body) for one in offered
            if one.scheme == "basic" or one.algorithm == given.algorithm
        )  # fmt: skip
        with self._lock:
            known = given.scheme == "basic" or time.monotonic() - self._nonces.get(nonce, -1e9) < self.nonce_life
            if not right:
                self.wrong += 1
        return right and known and not self.locked, right and not known


class Web:
    """A port on the loopback interface, and who answers there."""

    def __init__(
        self, answer: Callable[[WebRequest], WebResponse], faults: Faults, host: str = "127.0.0.1", port: int = 0
    ) -> None:
        self._answer, self._faults, self.host, self.port = answer, faults, host, port
        self._server: _Server | None = None
        self.requests = 0
        self._chance = random.Random(1)

    @property
    def is_open(self) -> bool:
        """Whether it answers."""
        return self._server is not None

    def open(self) -> None:
        """Raises OSError when the port is taken."""
        web = self

        class Handler(_Handler):
            owner = web

        self._server = _Server((self.host, self.port), Handler)
        self.port = self._server.server_address[1]
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()

    def close(self) -> None:
        """The port closes, and all connections with it."""
        server, self._server = self._server, None
        if server is not None:
            server.shutdown()
            server.server_close()
            server.hang_up()

    def serve(self, request: WebRequest) -> WebResponse | None:
        """The answer; None: the connection is cut."""
        self.requests += 1
        if self._faults.slow:
            time.sleep(self._faults.slow)
        if self._faults.flaky and self._chance.random() < self._faults.flaky:
            return None
        answer = self._answer(request)
        if self._faults.malformed and answer.status == 200:
            return WebResponse(200, answer.content[: len(answer.content) // 2], answer.kind, answer.headers)
        return answer


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    allow_reuse_address = True
    request_queue_size = 64

    def __init__(self, *args: Any) -> None:
        self._connections: set[socket.socket] = set()
        super().__init__(*args)

    def process_request(self, request: Any, client_address: Any) -> None:
        request.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._connections.add(request)
        super().process_request(request, client_address)

    def shutdown_request(self, request: Any) -> None:
        self._connections.discard(request)
        super().shutdown_request(request)

    def hang_up(self) -> None:
        """Ends the connections that are still open."""
        for connection in list(self._connections):
            with contextlib.suppress(OSError):
                connection.shutdown(socket.SHUT_RDWR)

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A client that goes away in the middle is no news."""


class _Handler(BaseHTTPRequestHandler):
    owner: Web
    protocol_version = "HTTP/1.1"
    timeout = 10

    def log_message(self, format: str, *args: Any) -> None:
        """The device keeps no log."""

    def version_string(self) -> str:
        """A device says nothing of its server."""
        return "unit"

    def _handle(self) -> None:
        body = self._body()
        if body is None:
            self.close_connection = True
            return
        path, _, query = self.path.partition("?")
        headers = {name.lower(): value for name, value in self.headers.items()}
        answer = self.owner.serve(WebRequest(self.command, path, query, headers, body, self.client_address[0]))
        if answer is None:
            self.close_connection = True
            return
        self.send_response(answer.status)
        for name, value in answer.headers:
            self.send_header(name, value)
        if answer.content:
            self.send_header("Content-Type", answer.kind)
        self.send_header("Content-Length", str(len(answer.content)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(answer.content)

    def _body(self) -> bytes | None:
        """What came with the request; None: too much, or nonsense."""
        if "chunked" in (self.headers.get("Transfer-Encoding") or "").lower():  # RFC 9112, 7.1
            parts, left = list[bytes](), _LARGEST
            while True:
                try:
                    size = int(self.rfile.readline(100).partition(b";")[0].strip(), 16)
                except ValueError:
                    return None
                left -= size
                if size < 0 or left < 0:
                    return None
                if not size:
                    while self.rfile.readline(1000).strip():
                        pass
                    return b"".join(parts)
                parts.append(self.rfile.read(size))
                self.rfile.readline(10)
        said = self.headers.get("Content-Length") or "0"
        size = int(said) if said.isdigit() else 0
        return self.rfile.read(size) if size <= _LARGEST else None

    def __getattr__(self, name: str) -> Callable[[], None]:
        """Every method is the owner's to answer."""
        if name.startswith("do_"):
            return self._handle
        raise AttributeError(name)
