"""What stands between this machine, a device, and the platforms: in plain words, with the value that would fit."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from direkt.device.onvif.client import offset_text
from direkt.device.state import DeviceClock, Network

IPv4Network = ipaddress.IPv4Network
_CLOCK_SLACK = 5.0  # s


@dataclass(frozen=True, slots=True)
class Here:
    """How this machine stands in its networks."""

    addresses: tuple[tuple[str, int], ...]  # IPv4 address and bits of the mask
    gateway: str = ""
    name_servers: tuple[str, ...] = ()

    def networks(self) -> list[IPv4Network]:
        """Those that devices can be in."""
        return [IPv4Network(f"{address}/{prefix}", strict=False) for address, prefix in self.addresses]


def _ip(text: str) -> ipaddress.IPv4Address | None:
    try:
        return ipaddress.IPv4Address(text)
    except ValueError:
        return None


def free_address(network: IPv4Network, taken: Iterable[str]) -> str:
    """A high address of a network that nobody is known to have; empty where there is none."""
    known = set(taken)
    first, last = int(network.network_address), int(network.broadcast_address)
    candidates = (str(ipaddress.IPv4Address(n)) for n in range(last - 1, max(first, last - 60), -1))
    return next((text for text in candidates if text not in known), "")


def of_address(address: str, here: Here, taken: Sequence[str] = ()) -> str:
    """Why an address cannot be reached from here; empty: nothing is in the way that could be told."""
    found = _ip(address)
    if found is None or found.is_loopback:
        return ""
    networks = here.networks()
    if any(found in network for network in networks):
        return ""
    theirs = IPv4Network(f"{address}/24", strict=False)
    ours = free_address(theirs, [address, *taken])
    home = next((network for network in networks if not network.is_loopback), None)
    move = ""
    if home is not None:
        fitting = free_address(home, [*(a for a, _ in here.addresses), here.gateway, *taken])
        move = f", or set the device to one such as {fitting}/{home.prefixlen}" if fitting else ""
    mine = ", ".join(f"{a}/{p}" for a, p in here.addresses if not a.startswith("127.")) or "no address"
    if found.is_link_local:
        return (
            f"it has given itself {address}, since nobody gave it an address: give this machine {ours}/16 as well{move}"
        )
    return f"it is in another network ({theirs}) than this machine ({mine}): give this machine {ours}/24 as well{move}"


def of_network(told: Network, here: Here, clock: DeviceClock | None) -> list[str]:
    """What is wrong with how a device is set up in its network."""
    out = []
    address = _ip(told.address)
    if address is not None and 0 < told.prefix <= 32 and not address.is_loopback:
        network = IPv4Network(f"{told.address}/{told.prefix}", strict=False)
        own = next(
            (
                p
                for a, p in here.addresses
                if (mine := _ip(a)) is not None
                and (mine in network or address in IPv4Network(f"{a}/{p}", strict=False))
            ),
            None,
        )
        if own is not None and own != told.prefix:
            out.append(f"its mask is /{told.prefix}, this machine's is /{own}: set /{own}")
        out += _gateway(told, network, here)
    if not told.dns:
        ours = f", such as {here.name_servers[0]}" if here.name_servers else ""
        out.append(f"it has no name server: it cannot look up an ingest by name; give it one{ours}")
    if clock is not None:
        out += of_clock(clock)
        if clock.by_ntp and not clock.servers:
            out.append("its clock follows NTP, but no server is set: direkt device time NAME --ntp SERVER")
        elif not clock.servers:
            out.append("its clock follows no NTP server: direkt device time NAME --ntp SERVER")
    return out


def _gateway(told: Network, network: IPv4Network, here: Here) -> list[str]:
    ours = _ip(here.gateway)
    fit = f": set {here.gateway}" if ours is not None and ours in network else ""
    if not told.gateways:
        return [f"it has no gateway: it reaches nothing outside its network{fit}"]
    wrong = [
        text for text in told.gateways if (found := _ip(text)) is None or found not in network or text == told.address
    ]
    if wrong:
        return [f"its gateway {wrong[0]} is not in its network {network}{fit}"]
    if fit and here.gateway not in told.gateways:
        return [f"its gateway is {told.gateways[0]}, this machine's is {here.gateway}: check which one leads out"]
    return []


def of_clock(clock: DeviceClock) -> list[str]:
    """What is wrong with a clock itself."""
    if clock.offset is None:
        return ["its clock cannot be read"]
    if abs(clock.offset) > _CLOCK_SLACK:
        return [f"its clock is {offset_text(clock.offset)}: set it with: direkt device time NAME"]
    return []
