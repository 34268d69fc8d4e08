"""Goes to a server over TCP: name, TCP, TLS, then what its transport says."""

from __future__ import annotations

import asyncio
import ssl
import time
from collections.abc import Awaitable, Callable

from direkt.net.connect import STEPS, Connection, connect
from direkt.net.transport import Obstructed
from direkt.protocol.address import ServerAddress

__all__ = ["STEPS", "Conversation", "probe"]

Conversation = Callable[[ServerAddress, Connection, Callable[[str], None]], Awaitable[None]]


async def probe(
    address: ServerAddress, limit: float, tls: ssl.SSLContext | None, step: Callable[[str, float], None],
    steps: tuple[str, ...], converse: Conversation,
) -> None:  # fmt: skip
    """The whole way. ``steps``: those of ``converse``, which tells each as it is done. Raises ConnectError and Obstructed."""
    connection = await connect(address, limit, tls, step)
    begin = time.perf_counter()
    left = list(steps)

    def done(name: str) -> None:
        nonlocal begin
        now = time.perf_counter()
        left.remove(name)
        step(name, now - begin)
        begin = now

    try:
        async with asyncio.timeout(limit):
            await converse(address, connection, done)
    except TimeoutError:
        missing = left[0] if left else "end"
        raise Obstructed(f"no {missing}", f"no answer within {limit:g} s") from None
    finally:
        await connection.close()
