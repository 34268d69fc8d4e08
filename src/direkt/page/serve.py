"""Runs the page in a thread of its own, beside the watch."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import socket
import ssl
import threading
from collections.abc import Iterator

import uvicorn

from direkt.errors import NoAnswer, os_words
from direkt.page.app import Act, Doors, Page
from direkt.page.hub import Hub

_MOST_CONNECTIONS = 400


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
        http="h11", loop="asyncio",
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
