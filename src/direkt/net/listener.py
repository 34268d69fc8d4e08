"""A TCP or TLS port that serves each connection in a task of its own, and no more of them than is sane."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import Awaitable, Callable

from direkt.net.connect import Connection

_MOST = 32  # connections at once
_READ = 1 << 16  # bytes


class Listener:
    """Calls ``serve`` for each connection; ``refuse`` is told of those that are one too many."""

    def __init__(self, serve: Callable[[Connection, str], Awaitable[None]], refuse: Callable[[str, str], None]) -> None:
        self._serve = serve
        self._refuse = refuse
        self._tasks: set[asyncio.Task[None]] = set()
        self._server: asyncio.Server | None = None

    async def start(self, host: str | None, port: int, tls: ssl.SSLContext | None, handshake_limit: float) -> int:
        """Opens the port (0: any free one) and returns it; ``handshake_limit``: s for TLS. Raises OSError."""
        self._server = await asyncio.start_server(
            self._connected, host, port, limit=_READ, reuse_address=True, ssl=tls,
            ssl_handshake_timeout=handshake_limit if tls else None,
        )  # fmt: skip
        number: int = self._server.sockets[0].getsockname()[1]
        return number

    async def stop(self) -> None:
        """Closes the port and all connections."""
        if self._server is not None:
            self._server.close()
        for task in list(self._tasks):
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    def _connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.create_task(self._one(Connection(reader, writer)))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _one(self, connection: Connection) -> None:
        name = connection.writer.get_extra_info("peername") or ("?", 0)
        peer = f"[{name[0]}]:{name[1]}" if ":" in name[0] else f"{name[0]}:{name[1]}"
        try:
            if len(self._tasks) > _MOST:
                self._refuse(peer, f"more than {_MOST} connections at once")
                return
            await self._serve(connection, peer)
        finally:
            await connection.close()
