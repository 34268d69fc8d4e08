"""Looks for devices on the networks of this machine: probes by multicast, and a polite knock at each address of a subnet.

Probes go out of every interface, by IPv4 and IPv6, several times, since datagrams get lost. Knocks are bounded: so many
connections at once, each for a short time, and only a request that every server answers.
"""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import socket
import struct
import uuid
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import ifaddr

from direkt.errors import Malformed, NoAnswer, UnusableInput, os_words
from direkt.protocol import discovery
from direkt.protocol.discovery import Match

AT_ONCE = 64  # connections of a scan
KNOCK_LIMIT = 0.8  # s until a port counts as closed
_REPEATS = (0.0, 0.4, 1.2)  # s after the start
_MOST_ANSWERS = 5000
LARGEST_SUBNET = 4096  # addresses


@dataclass(frozen=True, slots=True)
class Interface:
    """An address of this machine, by which probes go out."""

    name: str
    address: str
    prefix: int
    index: int  # of the interface, as IPv6 wants it

    @property
    def is_ipv6(self) -> bool:
        """Whether it is an address of IPv6."""
        return ":" in self.address

    @property
    def network(self) -> ipaddress.IPv4Network | ipaddress.IPv6Network:
        """The network that it is in."""
        return ipaddress.ip_network(f"{self.address}/{self.prefix}", strict=False)


def interfaces(only: str | None = None) -> list[Interface]:
    """The addresses of this machine; ``only``: those of one interface, by its name or address. Raises UnusableInput."""
    found: list[Interface] = []
    for adapter in ifaddr.get_adapters():
        for ip in adapter.ips:
            text = ip.ip if isinstance(ip.ip, str) else ip.ip[0]
            if only is None or only in (adapter.name, adapter.nice_name, text):
                found.append(Interface(adapter.name, text, ip.network_prefix, adapter.index or 0))
    if not found and only is not None:
        known = dict.fromkeys(adapter.name for adapter in ifaddr.get_adapters() if adapter.ips)
        raise UnusableInput(f"no interface {only!r} with an address; there is {', '.join(known) or 'none'}")
    return found


@dataclass(frozen=True, slots=True)
class ProbeAnswers:
    """What probes brought."""

    matches: tuple[Match, ...]
    asked: tuple[str, ...]  # interfaces on which a probe went out
    silent: tuple[str, ...]  # those that did not take one, and why
    strangers: int  # answers to somebody else's probe, or none at all


class _Ear(asyncio.DatagramProtocol):
    def __init__(self, take: Callable[[bytes, str], None]) -> None:
        self._take = take

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        self._take(data, addr[0])

    def error_received(self, exc: Exception) -> None:
        """A host that answers 'no such port' is no news."""


async def probe(listed: Iterable[Interface], wait: float, unicast: Iterable[str] = ()) -> ProbeAnswers:
    """Asks all devices to tell of themselves, and listens for ``wait`` s. ``unicast``: addresses that are asked by name too."""
    ids: set[str] = set()
    matches: list[Match] = []
    strangers = 0

    def take(data: bytes, _: str) -> None:
        nonlocal strangers
        if len(matches) >= _MOST_ANSWERS:
            return
        try:
            found = discovery.read(data)
        except Malformed:
            strangers += 1
            return
        for match in found:
            if match.relates_to in ids:
                matches.append(match)
            else:
                strangers += 1

    loop = asyncio.get_running_loop()
    ears: list[tuple[asyncio.DatagramTransport, tuple[str, int] | tuple[str, int, int, int]]] = []
    asked, silent = [], []
    for one in listed:
        try:
            sender, target = _sender(one)
        except OSError as error:
            silent.append(f"{one.name} ({os_words(error)})")
            continue
        transport, _ = await loop.create_datagram_endpoint(lambda: _Ear(take), sock=sender)
        ears.append((transport, target))
        asked.append(one.name)
    named = list(unicast)[:LARGEST_SUBNET]
    direct = None
    if named:
        direct, _ = await loop.create_datagram_endpoint(lambda: _Ear(take), local_addr=("0.0.0.0", 0))
    try:
        begin = loop.time()
        for after in [*(t for t in _REPEATS if t < wait)]:
            await asyncio.sleep(max(0.0, begin + after - loop.time()))
            for types in ([(discovery.NETWORK, "NetworkVideoTransmitter")], []):
                message = f"urn:uuid:{uuid.uuid4()}"
                ids.add(message)
                data = discovery.probe(message, types)
                for transport, target in ears:
                    with contextlib.suppress(OSError):
                        transport.sendto(data, target)
                if direct is not None and after == 0.0 and types:
                    await _ask_each(direct, named, data)
        await asyncio.sleep(max(0.0, begin + wait - loop.time()))
    finally:
        for transport, _ in ears:
            transport.close()
        if direct is not None:
            direct.close()
    return ProbeAnswers(
        tuple(discovery.together(matches)), tuple(dict.fromkeys(asked)), tuple(dict.fromkeys(silent)), strangers
    )


async def _ask_each(transport: asyncio.DatagramTransport, hosts: list[str], data: bytes) -> None:
    for n, host in enumerate(hosts):
        if ":" not in host:
            with contextlib.suppress(OSError):
                transport.sendto(data, (host, discovery.PORT))
        if n % AT_ONCE == AT_ONCE - 1:
            await asyncio.sleep(0.01)


def _sender(one: Interface) -> tuple[socket.socket, tuple[str, int] | tuple[str, int, int, int]]:
    """A socket that sends multicast out of an interface, and where to. Raises OSError."""
    if one.is_ipv6:
        made = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
        try:
            made.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_IF, one.index)
            made.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_HOPS, 1)
            made.bind((one.address, 0, 0, one.index if one.address.startswith("fe80") else 0))
        except OSError:
            made.close()
            raise
        made.setblocking(False)
        return made, (discovery.GROUP6, discovery.PORT, 0, one.index)
    made = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    try:
        made.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(one.address))
        made.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, struct.pack("b", 1))
        made.bind((one.address, 0))
    except OSError:
        made.close()
        raise
    made.setblocking(False)
    return made, (discovery.GROUP4, discovery.PORT)


# Scan


@dataclass(frozen=True, slots=True)
class Door:
    """A port that is open."""

    host: str
    port: int
    rtsp: bool = False  # it answers as RTSP


def hosts_of(subnet: str) -> list[str]:
    """The addresses of a subnet such as ``192.0.2.0/24``. Raises UnusableInput."""
    try:
        network = ipaddress.ip_network(subnet.strip(), strict=False)
    except ValueError:
        raise UnusableInput(f"{subnet!r} is not a subnet; expected one like 192.0.2.0/24") from None
    if network.num_addresses > LARGEST_SUBNET:
        raise UnusableInput(
            f"{subnet} has {network.num_addresses} addresses; at most {LARGEST_SUBNET} (a /20) are looked at: name a smaller part"
        )
    return [str(host) for host in network.hosts()]


async def doors(
    hosts: Iterable[str], ports: Iterable[int], found: Callable[[int], None] = lambda _: None
) -> list[Door]:
    """Which ports are open, and which of them speak RTSP; ``found`` is told how many addresses are done."""
    gate = asyncio.Semaphore(AT_ONCE)
    out: list[Door] = []
    listed = list(ports)
    done = 0

    async def knock(host: str, port: int) -> None:
        async with gate:
            door = await _knock(host, port)
        if door is not None:
            out.append(door)

    async def visit(host: str) -> None:
        nonlocal done
        await asyncio.gather(*(knock(host, port) for port in listed))
        done += 1
        found(done)

    await asyncio.gather(*(visit(host) for host in hosts))
    return sorted(out, key=lambda door: (ipaddress.ip_address(door.host).packed, door.port))


async def _knock(host: str, port: int) -> Door | None:
    try:
        async with asyncio.timeout(KNOCK_LIMIT):
            reader, writer = await asyncio.open_connection(host, port)
    except (OSError, TimeoutError):
        return None
    try:
        if not _like_rtsp(port):
            return Door(host, port)
        place = f"[{host}]" if ":" in host else host
        async with asyncio.timeout(KNOCK_LIMIT):
            writer.write(f"OPTIONS rtsp://{place}:{port}/ RTSP/1.0\r\nCSeq: 1\r\n\r\n".encode())  # RFC 2326, 10.1
            start = await reader.read(9)
        return Door(host, port, start.startswith(b"RTSP/1."))
    except (OSError, TimeoutError):
        return Door(host, port)
    finally:
        writer.close()


def _like_rtsp(port: int) -> bool:
    """Whether a port is one of RTSP's: the others are asked by HTTP later, and some servers close after a wrong word."""
    return port in (554, 8554, 322) or port % 1000 == 554


def outside(host: str) -> bool:
    """Whether an address is in none of this machine's networks. Raises NoAnswer for what is no address."""
    try:
        found = ipaddress.ip_address(host.partition("%")[0])
    except ValueError:
        raise NoAnswer(f"{host!r} is not an address") from None
    return not any(found in one.network for one in interfaces() if one.is_ipv6 == (found.version == 6))
