"""A TCP or TLS port that serves each connection in a task of its own, and no more of them than is sane.

Whoever connects may be anybody. Until its server says that it is admitted, a connection is waiting: only so many may wait,
and so many of one address; when one more comes, the oldest of the address that has most goes. So those that only wait
never keep out the one that is in earnest. TLS handshakes count as waiting.
"""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import ssl
from collections import Counter
from collections.abc import Awaitable, Callable
from dataclasses import dataclass

from direkt.net.connect import Connection

_MOST_WAITING = 32  # connections at once
_MOST_OF_ONE = 8  # of one address
_READ = 1 << 16  # bytes


@dataclass(slots=True)
class _Open:
    """A connection from its first moment."""

    peer: str
    group: str  # who may be behind it
    connection: Connection | None = None  # once TLS stands

    @property
    def waits(self) -> bool:
        return self.connection is None or not self.connection.admitted


class Listener:
    """Calls ``serve`` for each connection; ``refuse`` is told of those that had to go."""

    def __init__(self, serve: Callable[[Connection, str], Awaitable[None]], refuse: Callable[[str, str], None]) -> None:
        self._serve = serve
        self._refuse = refuse
        self._open: dict[asyncio.Task[None], _Open] = {}  # the oldest first
        self._server: asyncio.Server | None = None
        self._tls: ssl.SSLContext | None = None
        self._handshake_limit = 0.0
        self._stopped = False

    async def start(self, host: str | None, port: int, tls: ssl.SSLContext | None, handshake_limit: float) -> int:
        """Opens the port (0: any free one) and returns it; ``handshake_limit``: s for TLS. Raises OSError."""
        self._tls, self._handshake_limit, self._stopped = tls, handshake_limit, False
        loop = asyncio.get_running_loop()
        self._server = await loop.create_server(lambda: _Gate(self._connected), host, port, reuse_address=True)
        number: int = self._server.sockets[0].getsockname()[1]
        return number

    async def stop(self) -> None:
        """Closes the port and all connections."""
        self._stopped = True
        if self._server is not None:
            self._server.close()
        for task in list(self._open):
            task.cancel()
        await asyncio.gather(*self._open, return_exceptions=True)

    def _connected(self, transport: asyncio.Transport) -> None:
        if self._stopped:  # it was accepted at the last moment
            transport.abort()
            return
        name = transport.get_extra_info("peername") or ("?", 0)
        peer = f"[{name[0]}]:{name[1]}" if ":" in name[0] else f"{name[0]}:{name[1]}"
        opened = _Open(peer, _group(name[0]))
        task = asyncio.create_task(self._one(transport, opened))
        self._open[task] = opened
        task.add_done_callback(lambda done: self._open.pop(done, None) and None)
        self._make_room(opened.group)

    def _make_room(self, newest: str) -> None:
        waiting = [(task, o) for task, o in self._open.items() if o.waits]
        counts = Counter(o.group for _, o in waiting)
        if counts[newest] > _MOST_OF_ONE:
            group, reason = newest, f"more than {_MOST_OF_ONE} connections of its address wait; the oldest had to go"
        elif len(waiting) > _MOST_WAITING:
            group, reason = (
                counts.most_common(1)[0][0],
                f"more than {_MOST_WAITING} connections wait; the oldest had to go",
            )
        else:
            return
        task, oldest = next((t, o) for t, o in waiting if o.group == group)
        task.cancel()
        self._refuse(oldest.peer, reason)

    async def _one(self, transport: asyncio.Transport, opened: _Open) -> None:
        try:
            opened.connection = await self._secure(transport)
        except (OSError, TimeoutError):  # a failed handshake is no news to a person
            transport.abort()
            return
        except asyncio.CancelledError:
            transport.abort()
            raise
        try:
            await self._serve(opened.connection, opened.peer)
        finally:
            await opened.connection.close()

    async def _secure(self, transport: asyncio.Transport) -> Connection:
        """Both directions, behind TLS where it is wanted."""
        loop = asyncio.get_running_loop()
        reader = asyncio.StreamReader(limit=_READ, loop=loop)
        protocol = asyncio.StreamReaderProtocol(reader, loop=loop)
        if self._tls is None:
            transport.set_protocol(protocol)
            protocol.connection_made(transport)
            transport.resume_reading()
            return Connection(reader, asyncio.StreamWriter(transport, protocol, reader, loop))
        secured = await loop.start_tls(
            transport, protocol, self._tls, server_side=True, ssl_handshake_timeout=self._handshake_limit
        )
        if secured is None:
            raise ConnectionResetError
        protocol.connection_made(secured)
        return Connection(reader, asyncio.StreamWriter(secured, protocol, reader, loop))


class _Gate(asyncio.Protocol):
    """Hands a new connection on before anything is read from it."""

    def __init__(self, connected: Callable[[asyncio.Transport], None]) -> None:
        self._connected = connected

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        transport.pause_reading()
        self._connected(transport)


def _group(host: str) -> str:
    """Who may be behind an address: of IPv6, one has all that share its first 64 bits (RFC 6177)."""
    with contextlib.suppress(ValueError):
        address = ipaddress.ip_address(host.partition("%")[0])
        if address.version == 6 and address.ipv4_mapped is None:
            return str(ipaddress.ip_network((address, 64), strict=False))
    return host
