"""Connecting to a server in steps, each with its time and its limit: name, TCP, TLS."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import ssl
import time
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from direkt.errors import NoAnswer, os_words, tls_words

STEPS = ("name", "tcp", "tls")
_MOST_PLACES = 4  # addresses of a host that are tried


class Obstacle(StrEnum):
    """Where the way to a server ends."""

    NAME = "name unknown"
    CLOSED = "port closed"
    FILTERED = "port filtered"
    TLS = "TLS refused"


class ConnectError(NoAnswer):
    """The way to the server ends here."""

    def __init__(self, obstacle: Obstacle, detail: str) -> None:
        super().__init__(detail)
        self.obstacle, self.detail = obstacle, detail


@dataclass(slots=True)
class Connection:
    """Both directions of a connection."""

    reader: asyncio.StreamReader
    writer: asyncio.StreamWriter
    admitted: bool = False  # who connected has shown that it may; a server sets it

    async def close(self, limit: float = 1.0) -> None:
        """Ends it, and waits at most ``limit`` s for that."""
        self.writer.close()
        with contextlib.suppress(OSError, TimeoutError):
            async with asyncio.timeout(limit):
                await self.writer.wait_closed()


class ConnectTarget(Protocol):
    """Where a connection leads."""

    @property
    def host(self) -> str:
        """Name or IP address."""

    @property
    def port(self) -> int:
        """Of TCP."""

    @property
    def tls(self) -> bool:
        """Whether TLS is wanted."""


async def connect(
    address: ConnectTarget, limit: float, tls: ssl.SSLContext | None, step: Callable[[str, float], None]
) -> Connection:  # fmt: skip
    """A connection; each step may take ``limit`` s, and ``step`` is told its name and seconds.

    ``tls``: how certificates are checked where the scheme wants TLS; None: against the system's authorities.
    Raises ConnectError.
    """
    begin = time.perf_counter()
    places = await _resolve(address, limit)
    step("name", time.perf_counter() - begin)
    begin = time.perf_counter()
    connected = await _tcp(address, places, limit)
    step("tcp", time.perf_counter() - begin)
    begin = time.perf_counter()
    secure = (tls or ssl.create_default_context()) if address.tls else None
    try:
        async with asyncio.timeout(limit):
            reader, writer = await asyncio.open_connection(
                sock=connected, ssl=secure, server_hostname=address.host if secure else None
            )
    except TimeoutError:
        connected.close()
        raise ConnectError(Obstacle.TLS, f"no TLS handshake within {limit:g} s") from None
    except ssl.SSLError as error:
        connected.close()
        raise ConnectError(Obstacle.TLS, tls_words(error)) from None
    except OSError as error:
        connected.close()
        raise ConnectError(Obstacle.TLS, f"the connection broke: {os_words(error)}") from None
    if secure is not None:
        step("tls", time.perf_counter() - begin)
    return Connection(reader, writer)


_Place = tuple[socket.AddressFamily, tuple[str, int] | tuple[str, int, int, int] | tuple[int, bytes]]


async def _resolve(address: ConnectTarget, limit: float) -> list[_Place]:
    loop = asyncio.get_running_loop()
    try:
        async with asyncio.timeout(limit):
            found = await loop.getaddrinfo(address.host, address.port, type=socket.SOCK_STREAM)
            return [(entry[0], entry[4]) for entry in found]
    except TimeoutError:
        detail = f"no name server answers within {limit:g} s: check the network's DNS"
        raise ConnectError(Obstacle.NAME, detail) from None
    except OSError:
        detail = f"{address.host} is known to no name server: check its spelling, and the network's DNS"
        raise ConnectError(Obstacle.NAME, detail) from None


async def _tcp(address: ConnectTarget, places: list[_Place], limit: float) -> socket.socket:
    """The first of the host's addresses that takes a connection."""
    loop = asyncio.get_running_loop()
    worst: ConnectError | None = None
    for family, place in places[:_MOST_PLACES]:
        made = socket.socket(family, socket.SOCK_STREAM)
        made.setblocking(False)
        try:
            async with asyncio.timeout(limit):
                await loop.sock_connect(made, place)
            return made
        except TimeoutError:
            detail = f"nothing answers on port {address.port} within {limit:g} s: a firewall swallows it"
            worst = worst or ConnectError(Obstacle.FILTERED, detail)
        except ConnectionRefusedError:
            detail = f"the host answers, but nothing listens on port {address.port}"
            worst = worst or ConnectError(Obstacle.CLOSED, detail)
        except OSError as error:
            detail = f"the network says: {os.strerror(error.errno or 0).lower()}"
            worst = worst or ConnectError(Obstacle.FILTERED, detail)
        except BaseException:
            made.close()
            raise
        made.close()
    assert worst is not None
    raise worst
