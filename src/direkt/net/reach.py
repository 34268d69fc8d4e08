"""Whether an ingest can be reached: name, TCP, TLS, RTMP handshake, connect; nothing is published."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import ssl
import statistics
import time
from collections.abc import Iterable
from dataclasses import dataclass, field

from direkt.net.publisher import tls_words
from direkt.protocol.rtmp.client import ClientSession, Connected, Refused, Target
from direkt.protocol.rtmp.errors import RtmpError
from direkt.sheet.address import PORTS, ServerAddress

LIMIT = 5.0  # s for each step
STEPS = ("name", "tcp", "tls", "rtmp", "application")


@dataclass(slots=True)
class Try:
    """One attempt: seconds for each step that was gone through, and where it ended."""

    seconds: dict[str, float] = field(default_factory=dict)
    verdict: str = "reachable"
    detail: str = ""


@dataclass(frozen=True, slots=True)
class Reach:
    """All attempts at one server address."""

    address: ServerAddress
    tries: tuple[Try, ...]
    hint: str = ""

    @property
    def worst(self) -> Try:
        """The attempt that failed, if one did; else the last."""
        return next((t for t in self.tries if t.verdict != "reachable"), self.tries[-1])

    @property
    def reachable(self) -> bool:
        """Whether every attempt went through."""
        return all(t.verdict == "reachable" for t in self.tries)

    def median(self, step: str) -> float | None:
        """Median seconds of a step; None when it was never gone through."""
        seen = [t.seconds[step] for t in self.tries if step in t.seconds]
        return statistics.median(seen) if seen else None


async def reach(
    address: ServerAddress, tries: int = 3, tls: ssl.SSLContext | None = None, limit: float = LIMIT,
    other_ports: Iterable[tuple[str, int]] = (),
) -> Reach:  # fmt: skip
    """Tries ``address``; where its port is blocked, looks whether one of ``other_ports`` is open."""
    found = []
    for _ in range(tries):
        found.append(await _once(address, tls, limit))
        if found[-1].verdict in ("name unknown", "port filtered"):
            break  # another try would tell nothing new
    hint = ""
    if found[-1].verdict in ("port closed", "port filtered"):
        hint = await _another_port(address, limit, list(other_ports))
    return Reach(address, tuple(found), hint)


async def _once(address: ServerAddress, tls: ssl.SSLContext | None, limit: float) -> Try:
    result = Try()
    loop = asyncio.get_running_loop()
    begin = time.perf_counter()
    try:
        async with asyncio.timeout(limit):
            found = await loop.getaddrinfo(address.host, address.port, type=socket.SOCK_STREAM)
    except TimeoutError:
        return _end(result, "name unknown", f"no name server answers within {limit:g} s: check the network's DNS")
    except OSError:
        return _end(
            result,
            "name unknown",
            f"{address.host} is known to no name server: check its spelling, and the network's DNS",
        )
    result.seconds["name"] = time.perf_counter() - begin
    writer = None
    try:
        begin = time.perf_counter()
        family, _, _, _, place = found[0]
        connection = socket.socket(family, socket.SOCK_STREAM)
        connection.setblocking(False)
        try:
            async with asyncio.timeout(limit):
                await loop.sock_connect(connection, place)
        except TimeoutError:
            connection.close()
            return _end(
                result,
                "port filtered",
                f"nothing answers on port {address.port} within {limit:g} s: a firewall swallows it",
            )
        except ConnectionRefusedError:
            connection.close()
            return _end(result, "port closed", f"the host answers, but nothing listens on port {address.port}")
        except OSError as error:
            connection.close()
            return _end(result, "port filtered", f"the network says: {os.strerror(error.errno or 0).lower()}")
        result.seconds["tcp"] = time.perf_counter() - begin
        begin = time.perf_counter()
        secure = (tls or ssl.create_default_context()) if address.scheme == "rtmps" else None
        try:
            async with asyncio.timeout(limit):
                reader, writer = await asyncio.open_connection(
                    sock=connection, ssl=secure, server_hostname=address.host if secure else None
                )
        except TimeoutError:
            connection.close()
            return _end(result, "TLS refused", f"no TLS handshake within {limit:g} s")
        except ssl.SSLError as error:
            connection.close()
            return _end(result, "TLS refused", tls_words(error))
        except OSError as error:
            connection.close()
            return _end(result, "TLS refused", f"the connection broke: {os.strerror(error.errno or 0).lower()}")
        if secure is not None:
            result.seconds["tls"] = time.perf_counter() - begin
        return await _rtmp(address, reader, writer, result, limit)
    finally:
        if writer is not None:
            writer.close()
            with contextlib.suppress(OSError, TimeoutError):
                async with asyncio.timeout(1):
                    await writer.wait_closed()


async def _rtmp(
    address: ServerAddress, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, result: Try, limit: float
) -> Try:
    session = ClientSession(Target(str(address), address.app, ""), os.urandom(1528), probe=True)
    session.start()
    begin = time.perf_counter()
    step = "rtmp"
    try:
        async with asyncio.timeout(limit):
            while True:
                writer.write(session.data_to_send())
                await writer.drain()
                data = await reader.read(1 << 16)
                if not data:
                    if step == "rtmp":
                        return _end(result, "not RTMP", "the server closes the connection in the handshake")
                    return _end(
                        result,
                        "application refused",
                        f"the server closes the connection when asked for {address.app!r}",
                    )
                events = session.receive(data)
                if session.ready and step == "rtmp":
                    result.seconds["rtmp"] = time.perf_counter() - begin
                    begin, step = time.perf_counter(), "application"
                for event in events:
                    if isinstance(event, Connected):
                        result.seconds["application"] = time.perf_counter() - begin
                        return result
                    if isinstance(event, Refused):
                        words = f"{event.text} ({event.code})" if event.text else event.code
                        return _end(result, "application refused", f"{address.app!r}: {words}")
    except TimeoutError:
        if step == "rtmp":
            return _end(result, "not RTMP", f"no RTMP handshake within {limit:g} s")
        return _end(result, "application refused", f"no answer to the application {address.app!r} within {limit:g} s")
    except RtmpError as error:
        return _end(result, "not RTMP", str(error))
    except OSError:
        if step == "rtmp":
            return _end(result, "not RTMP", "the server closes the connection in the handshake")
        return _end(result, "application refused", f"the server closes the connection when asked for {address.app!r}")


def _end(result: Try, verdict: str, detail: str) -> Try:
    result.verdict, result.detail = verdict, detail
    return result


async def _another_port(address: ServerAddress, limit: float, others: list[tuple[str, int]]) -> str:
    """Whether a usual port beside the blocked one is open."""
    for scheme, port in dict.fromkeys([*others, *PORTS.items()]):
        if port == address.port or scheme not in PORTS:
            continue
        try:
            async with asyncio.timeout(min(limit, 3.0)):
                _, writer = await asyncio.open_connection(address.host, port)
        except (OSError, TimeoutError):
            continue
        writer.close()
        return f"port {port} is open: try {scheme}://, if the destination takes it"
    return "no usual port of this host is open from here: ask for the network's firewall to let port 1935 or 443 out"
