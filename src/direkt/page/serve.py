"""Runs the page in a thread of its own, beside the watch."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import socket
import ssl
import threading
from collections.abc import Iterator

import h11
import uvicorn
from uvicorn.protocols.http.h11_impl import H11Protocol

from direkt.errors import NoAnswer, os_words
from direkt.page.app import Act, Doors, Page
from direkt.page.hub import Hub

_MOST_CONNECTIONS = 400
_MOST_OF_ONE = 60  # connections of one address that have not asked for anything yet
_HALF = 10.0  # s for the head of a request

_open: dict[str, int] = {}  # connections that have not asked for anything yet, by address


class _Patient(H11Protocol):
    """The base, with a limit for the head of each request, and a bound for each address: half-sent requests shut nobody else out."""

    _counted = ""
    _made = False
    _timer: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """A connection of an address that has too many is closed at once."""
        peer = transport.get_extra_info("peername")
        address = str(peer[0]) if isinstance(peer, tuple) else ""
        if _open.get(address, 0) >= _MOST_OF_ONE:
            transport.abort()
            return
        self._counted = address
        self._made = True
        _open[address] = _open.get(address, 0) + 1
        super().connection_made(transport)
        self._wait_for_head()

    def data_received(self, data: bytes) -> None:
        """A head that is not whole in time ends the connection."""
        if not self._made:
            return
        super().data_received(data)
        if self.conn.their_state is h11.IDLE and self._timer is None:
            self._wait_for_head()
        elif self.conn.their_state is not h11.IDLE:
            self._head_is_there()

    def on_response_complete(self) -> None:
        """The next request on this connection has its time, too."""
        super().on_response_complete()
        self._wait_for_head()

    def connection_lost(self, exc: Exception | None) -> None:
        """Whatever it was, it is over."""
        self._head_is_there()
        if self._made:
            super().connection_lost(exc)

    def _asked(self) -> None:
        """It counts no longer."""
        left = _open.get(self._counted, 1) - 1
        if left > 0:
            _open[self._counted] = left
        else:
            _open.pop(self._counted, None)
        self._counted = ""

    def _wait_for_head(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
        self._timer = asyncio.get_running_loop().call_later(_HALF, self._late)

    def _head_is_there(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        if self._counted:
            self._asked()

    def _late(self) -> None:
        self._timer = None
        if self.transport is not None and not self.transport.is_closing() and self.conn.their_state is h11.IDLE:
            self.transport.abort()


class _Server(uvicorn.Server):
    def __init__(self, config: uvicorn.Config, hub: Hub) -> None:
        super().__init__(config)
        self._hub = hub

    async def serve(self, sockets: list[socket.socket] | None = None) -> None:
        """As the base, and boards find the loop."""
        self._hub.attach(asyncio.get_running_loop())
        await super().serve(sockets)


@contextlib.contextmanager
def serve(hub: Hub, doors: Doors, act: Act, host: str, port: int, tls: ssl.SSLContext | None) -> Iterator[int]:
    """The page at a port (0: any that is free), which it gives. Raises NoAnswer."""
    try:
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        listening = socket.create_server((host, port), family=family, backlog=128)
    except (OSError, OverflowError) as error:
        words = os_words(error) if isinstance(error, OSError) else str(error)
        raise NoAnswer(
            f"the page's port {port} at {host} cannot be opened: {words}; choose another with --page"
        ) from None
    config = uvicorn.Config(
        Page(hub, doors, act).app(), log_config=None, access_log=False, limit_concurrency=_MOST_CONNECTIONS, timeout_keep_alive=10,
        server_header=False, date_header=True, lifespan="off", ws="none", timeout_graceful_shutdown=1, h11_max_incomplete_event_size=16384,
        http=_Patient, loop="asyncio",
    )  # fmt: skip
    for name in (
        "uvicorn.error",
        "asyncio",
    ):  # whoever sends nonsense, or breaks off, is no news to the person at the terminal
        logging.getLogger(name).setLevel(logging.CRITICAL)
    config.load()
    config.ssl = tls
    server = _Server(config, hub)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listening]}, daemon=True)
    thread.start()
    try:
        yield int(listening.getsockname()[1])
    finally:
        server.should_exit = server.force_exit = True
        thread.join(4.0)
        listening.close()
