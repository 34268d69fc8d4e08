"""Whether an ingest can be reached, by the steps of its transport; nothing is published."""

from __future__ import annotations

import asyncio
import ssl
import statistics
from collections.abc import Iterable
from dataclasses import dataclass, field

from direkt.net.connect import ConnectError, Obstacle
from direkt.net.transport import Obstructed, transport
from direkt.protocol.address import ServerAddress
from direkt.protocol.schemes import PORTS, SCHEMES, SPOKEN

LIMIT = 5.0  # s for each step
_OTHER_PORT_LIMIT = 3.0  # s


@dataclass(slots=True)
class Try:
    """One attempt: seconds for each step that was gone through, and where it ended."""

    seconds: dict[str, float] = field(default_factory=dict)
    verdict: str = ""  # what stood in the way; empty: nothing
    detail: str = ""


@dataclass(frozen=True, slots=True)
class Reach:
    """All attempts at one server address."""

    address: ServerAddress
    tries: tuple[Try, ...]
    hint: str = ""

    @property
    def steps(self) -> tuple[str, ...]:
        """The steps on the way."""
        return steps(self.address.scheme)

    @property
    def worst(self) -> Try:
        """The attempt that failed, if one did; else the last."""
        return next((t for t in self.tries if t.verdict), self.tries[-1])

    @property
    def reachable(self) -> bool:
        """Whether every attempt went through."""
        return not any(t.verdict for t in self.tries)

    def median(self, step: str) -> float | None:
        """Median seconds of a step; None when it was never gone through."""
        seen = [t.seconds[step] for t in self.tries if step in t.seconds]
        return statistics.median(seen) if seen else None


def steps(scheme: str) -> tuple[str, ...]:
    """The steps on the way to a server of this scheme."""
    return transport(scheme).STEPS


async def reach(
    address: ServerAddress, tries: int = 3, tls: ssl.SSLContext | None = None, limit: float = LIMIT,
    other_ports: Iterable[tuple[str, int]] = (),
) -> Reach:  # fmt: skip
    """Tries ``address``; where its port is blocked, looks whether one of ``other_ports`` is open."""
    found: list[Try] = []
    obstacle: Obstacle | None = None
    for _ in range(tries):
        attempt, obstacle = await _once(address, tls, limit)
        found.append(attempt)
        if obstacle in (Obstacle.NAME, Obstacle.FILTERED):
            break  # another try would tell nothing new
    hint = ""
    if obstacle in (Obstacle.CLOSED, Obstacle.FILTERED):
        hint = await _another_port(address, limit, list(other_ports))
    return Reach(address, tuple(found), hint)


async def _once(address: ServerAddress, tls: ssl.SSLContext | None, limit: float) -> tuple[Try, Obstacle | None]:
    result = Try()
    try:
        await transport(address.scheme).probe(address, limit, tls, result.seconds.__setitem__)
    except ConnectError as error:
        result.verdict, result.detail = error.obstacle.value, error.detail
        return result, error.obstacle
    except Obstructed as error:
        result.verdict, result.detail = error.verdict, error.detail
    return result, None


async def _another_port(address: ServerAddress, limit: float, others: list[tuple[str, int]]) -> str:
    """Whether a usual port beside the blocked one is open."""
    on_tcp = [name for name in SPOKEN if not SCHEMES[name].datagrams]  # only there a port shows that it is open
    usual = [(name, PORTS[name]) for name in on_tcp]
    for scheme, port in dict.fromkeys([*others, *usual]):
        if port == address.port or scheme not in on_tcp:
            continue
        try:
            async with asyncio.timeout(min(limit, _OTHER_PORT_LIMIT)):
                _, writer = await asyncio.open_connection(address.host, port)
        except (OSError, TimeoutError):
            continue
        writer.close()
        return f"port {port} is open: try {scheme}://, if the destination takes it"
    ports = " or ".join(str(port) for _, port in usual)
    return f"no usual port of this host is open from here: ask for the network's firewall to let port {ports} out"
