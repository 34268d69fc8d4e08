"""What is about the device itself: identity, clock, network, users, restart, firmware, and a camera's positions."""

from __future__ import annotations

import datetime
import ipaddress
import re
from collections.abc import Callable, Iterator
from pathlib import Path

from direkt import files
from direkt.described.errors import BadAnswer, ChangeRefused, DeviceLoginRefused, NotOffered
from direkt.described.http import Upload
from direkt.device.onvif.build import OnvifService, boolean, element
from direkt.device.onvif.client import FIRST_PASSWORD, Client, FaultAnswer
from direkt.device.state import DeviceClock, Identity, Network, Preset
from direkt.protocol import tree
from direkt.protocol.tree import Element
from direkt.secret import Secret

_PIECE = 1 << 16  # bytes of a firmware file that go at once


def _device(client: Client, name: str, *content: Element | str | None, anonymous: bool = False) -> Element:
    return client.call(OnvifService.DEVICE, element(f"tds:{name}", *content), anonymous=anonymous)


def identity(client: Client, *, anonymous: bool = False) -> Identity:
    """What the device is. Raises DeviceError."""
    answer = _device(client, "GetDeviceInformation", anonymous=anonymous)
    names = ("Manufacturer", "Model", "FirmwareVersion", "SerialNumber")
    return Identity(*(tree.text(answer, name)[:80] for name in names))


# Clock


def clock(client: Client) -> DeviceClock:
    """The clock, and the NTP servers it may follow. Raises DeviceError."""
    found = client.clock()
    servers: tuple[str, ...] = ()
    try:
        told = tree.find(_device(client, "GetNTP"), "NTPInformation")
        servers = tuple(
            filter(None, (_host(one) for name in ("NTPManual", "NTPFromDHCP") for one in tree.children(told, name)))
        )
    except (NotOffered, ChangeRefused, BadAnswer):
        pass
    return DeviceClock(found.utc, found.offset, found.by_ntp, servers, found.zone)


def _host(told: Element) -> str:
    names = ("IPv4Address", "IPv6Address", "DNSname")
    return next(filter(None, (tree.text(told, name) for name in names)), "")


def set_clock(client: Client, moment: datetime.datetime | None, servers: tuple[str, ...], zone: str) -> None:
    """By hand, or by NTP servers. Raises DeviceError."""
    if servers:
        _device(
            client, "SetNTP", element("tds:FromDHCP", boolean(False)), *(_network_host("tds:NTPManual", host) for host in servers)
        )  # fmt: skip
    parts: list[Element | None] = [
        element("tds:DateTimeType", "NTP" if servers else "Manual"), element("tds:DaylightSavings", boolean(False)),
        element("tds:TimeZone", element("tt:TZ", zone)) if zone else None,
    ]  # fmt: skip
    if moment is not None and not servers:
        utc = moment.astimezone(datetime.UTC) + datetime.timedelta(seconds=0.5)  # to the nearest whole second
        parts.append(element(
            "tds:UTCDateTime",
            element("tt:Time", *(element(f"tt:{n}", str(v)) for n, v in (("Hour", utc.hour), ("Minute", utc.minute), ("Second", utc.second)))),
            element("tt:Date", *(element(f"tt:{n}", str(v)) for n, v in (("Year", utc.year), ("Month", utc.month), ("Day", utc.day)))),
        ))  # fmt: skip
    _device(client, "SetSystemDateAndTime", *parts)


def _network_host(name: str, host: str) -> Element:
    try:
        kind = f"IPv{ipaddress.ip_address(host).version}"
    except ValueError:
        return element(name, element("tt:Type", "DNS"), element("tt:DNSname", host))
    return element(name, element("tt:Type", kind), element(f"tt:{kind}Address", host))


# Network


def network(client: Client, host: str) -> Network:
    """The interface by which ``host`` is reached, or the first one. Raises DeviceError."""
    answer = _device(client, "GetNetworkInterfaces")
    found = [_interface(one) for one in tree.children(answer, "NetworkInterfaces")]
    if not found:
        raise BadAnswer(client.name, "reports no network interface")
    one = next((n for n in found if n.address == host), found[0])
    more: dict[str, tuple[str, ...]] = {}
    for key, name, inner, parts in (
        ("gateways", "GetNetworkDefaultGateway", "NetworkGateway", ("IPv4Address",)),
        ("dns", "GetDNS", "DNSInformation", ("DNSManual", "DNSFromDHCP")),
        ("ntp", "GetNTP", "NTPInformation", ("NTPManual", "NTPFromDHCP")),
    ):
        try:
            told = tree.find(_device(client, name), inner)
        except (NotOffered, ChangeRefused, BadAnswer):
            continue
        listed = [item for part in parts for item in tree.children(told, part)]
        more[key] = tuple(filter(None, (tree.text(item) or _host(item) for item in listed)))
    return Network(
        one.interface, one.address, one.prefix, one.dhcp, more.get("gateways", ()), more.get("dns", ()), more.get("ntp", ()),
        one.hardware,
    )  # fmt: skip


def _interface(one: Element) -> Network:
    config = tree.find(one, "IPv4", "Config")
    listed = [found for name in ("Manual", "FromDHCP", "LinkLocal") for found in tree.children(config, name)]
    dhcp = bool(tree.yes(tree.text(config, "DHCP")))
    listed.sort(key=lambda found: dhcp and tree.local(found) != "FromDHCP")
    first = listed[0] if listed else None
    return Network(
        tree.attribute(one, "token"), tree.text(first, "Address"), tree.whole(tree.text(first, "PrefixLength")) or 0, dhcp,
        hardware=tree.text(one, "Info", "HwAddress"),
    )  # fmt: skip


def set_network(client: Client, wanted: Network) -> bool:
    """Sets gateway, DNS and address, the address last; whether a restart is wanted. Raises DeviceError."""
    if not wanted.dhcp:
        for gateway in wanted.gateways[:1]:
            _device(client, "SetNetworkDefaultGateway", element("tds:IPv4Address", gateway))
    if wanted.dns:
        servers = [
            element("tds:DNSManual", element("tt:Type", f"IPv{ipaddress.ip_address(host).version}"),
                    element(f"tt:IPv{ipaddress.ip_address(host).version}Address", host)) for host in wanted.dns
        ]  # fmt: skip
        _device(client, "SetDNS", element("tds:FromDHCP", boolean(False)), *servers)
    manual = None
    if not wanted.dhcp:
        manual = element(
            "tt:Manual", element("tt:Address", wanted.address), element("tt:PrefixLength", str(wanted.prefix))
        )
    ipv4 = element("tt:IPv4", element("tt:Enabled", boolean(True)), manual, element("tt:DHCP", boolean(wanted.dhcp)))
    answer = _device(
        client, "SetNetworkInterfaces", element("tds:InterfaceToken", wanted.interface),
        element("tds:NetworkInterface", element("tt:Enabled", boolean(True)), ipv4),
    )  # fmt: skip
    return bool(tree.yes(tree.text(answer, "RebootNeeded")))


# Users


def is_new(client: Client) -> bool:
    """Whether nobody has set a password yet: it names its users to everybody and has none, or says so. Raises Unreachable."""
    try:
        answer = _device(client, "GetUsers", anonymous=True)
    except FaultAnswer as error:
        return bool(FIRST_PASSWORD.search(error.fault.reason))
    except (DeviceLoginRefused, NotOffered, BadAnswer) as error:
        return isinstance(error, DeviceLoginRefused) and bool(FIRST_PASSWORD.search(error.said))
    return next(tree.children(answer, "User"), None) is None


def claim(client: Client, user: str, password: Secret) -> None:
    """Makes the first user. Raises Refused, in the device's words, where it does not take it."""
    one = (
        element("tt:Username", user),
        element("tt:Password", password.reveal()),
        element("tt:UserLevel", "Administrator"),
    )
    try:
        _device(client, "CreateUsers", element("tds:User", *one), anonymous=True)
    except FaultAnswer as error:
        if not {"UsernameClash", "UserNameClash"} & set(error.fault.subcodes):
            raise
        _device(client, "SetUser", element("tds:User", *one), anonymous=True)  # it has that user, without a password


# Restart and firmware


def restart(client: Client) -> None:
    """Tells the device to restart. Raises DeviceError."""
    _device(client, "SystemReboot")


def update(client: Client, file: Path, sent: Callable[[int], None]) -> None:
    """Sends a firmware file where the device wants it (ONVIF Core, 8.3.6). Raises Refused and OSError."""
    answer = _device(client, "StartFirmwareUpgrade")
    told = tree.text(answer, "UploadUri")
    if not told:
        raise BadAnswer(client.name, "does not say where a firmware file goes")
    upload = Upload(lambda: _pieces(file), file.stat().st_size, sent)
    taken = client.http.admitted("POST", client.path(told), upload, {"Content-Type": "application/octet-stream"})
    if taken.status >= 300:
        said = " ".join(re.sub(r"<[^>]*>", " ", taken.text[:2000]).split())[:200]
        raise ChangeRefused(client.name, {"firmware": said or f"HTTP status {taken.status}"})


def _pieces(path: Path) -> Iterator[bytes]:
    with files.opened(path) as file:
        while part := file.read(_PIECE):
            yield part


# Positions


def presets(client: Client, profile: str) -> list[Preset]:
    """The positions that are kept. Raises DeviceError."""
    answer = client.call(OnvifService.PTZ, element("tptz:GetPresets", element("tptz:ProfileToken", profile)))
    return [Preset(tree.attribute(one, "token"), tree.text(one, "Name")) for one in tree.children(answer, "Preset")]


def go_to(client: Client, profile: str, token: str) -> None:
    """Moves to a position. Raises DeviceError."""
    client.call(
        OnvifService.PTZ, element("tptz:GotoPreset", element("tptz:ProfileToken", profile), element("tptz:PresetToken", token))
    )  # fmt: skip


def store(client: Client, profile: str, name: str, token: str | None) -> None:
    """Keeps the present position. Raises DeviceError."""
    place = element("tptz:PresetToken", token) if token else None
    client.call(
        OnvifService.PTZ, element("tptz:SetPreset", element("tptz:ProfileToken", profile), element("tptz:PresetName", name), place)
    )  # fmt: skip
