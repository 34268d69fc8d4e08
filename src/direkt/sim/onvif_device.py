"""What simulated cameras answer of themselves: services, clock, network, users, restart, firmware."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING

from direkt.protocol import tree
from direkt.protocol.tree import Element
from direkt.sim.onvif_words import SPACES, OnvifFault, Operation, address, host, tag, text_of

if TYPE_CHECKING:
    from direkt.sim.camera import Camera


def _services(camera: Camera, body: Element, base: str) -> str:
    paths = {
        "tds": "device_service",
        "trt": "media",
        **({"tr2": "media2"} if camera.make.media2 else {}),
        **({"tptz": "ptz"} if camera.make.presets else {}),
    }
    return "".join(
        tag("tds:Service", tag("tds:Namespace", SPACES[p]), tag("tds:XAddr", f"{base}/onvif/{path}"),
            tag("tds:Version", tag("tt:Major", 2), tag("tt:Minor", 60))) for p, path in paths.items()
    )  # fmt: skip


def _capabilities(camera: Camera, body: Element, base: str) -> str:
    told = {
        "Device": tag("tt:Device", tag("tt:XAddr", f"{base}/onvif/device_service")),
        "Media": tag("tt:Media", tag("tt:XAddr", f"{base}/onvif/media"), tag("tt:StreamingCapabilities")),
        "PTZ": tag("tt:PTZ", tag("tt:XAddr", f"{base}/onvif/ptz")) if camera.make.presets else "",
    }
    wanted = [tree.text(one) for one in tree.children(body, "Category")] or ["All"]
    if not set(wanted) <= {"All", "Analytics", "Device", "Events", "Imaging", "Media", "PTZ"}:
        raise OnvifFault("InvalidArgVal", "no such category")
    missing = [name for name in wanted if name != "All" and not told.get(name)]
    if missing:
        raise OnvifFault("ActionNotSupported/NoSuchService", f"this camera has no {missing[0]} service", receiver=True)
    return tag("tds:Capabilities", *(text for name, text in told.items() if "All" in wanted or name in wanted))


def _information(camera: Camera, body: Element, base: str) -> str:
    told = (("Manufacturer", camera.make.maker), ("Model", camera.make.model), ("FirmwareVersion", camera.firmware),
            ("SerialNumber", camera.serial), ("HardwareId", "A1"))  # fmt: skip
    return "".join(tag(f"tds:{name}", value) for name, value in told)


def _date_time(name: str, moment: datetime.datetime) -> str:
    time = tag("tt:Time", tag("tt:Hour", moment.hour), tag("tt:Minute", moment.minute), tag("tt:Second", moment.second))
    return tag(
        name,
        time,
        tag("tt:Date", tag("tt:Year", moment.year), tag("tt:Month", moment.month), tag("tt:Day", moment.day)),
    )


def _clock(camera: Camera, body: Element, base: str) -> str:
    now = camera.now()
    return tag(
        "tds:SystemDateAndTime", tag("tt:DateTimeType", "NTP" if camera.by_ntp else "Manual"), tag("tt:DaylightSavings", False),
        tag("tt:TimeZone", tag("tt:TZ", camera.zone)), _date_time("tt:UTCDateTime", now), _date_time("tt:LocalDateTime", now),
    )  # fmt: skip


def _set_clock(camera: Camera, body: Element, base: str) -> str:
    camera.by_ntp = tree.text(body, "DateTimeType") == "NTP"
    camera.zone = tree.text(body, "TimeZone", "TZ") or camera.zone
    if camera.by_ntp:
        camera.clock_ahead = 0.0
        return ""
    told = tree.find(body, "UTCDateTime")
    numbers = [tree.whole(tree.text(told, "Date", part)) or 0 for part in ("Year", "Month", "Day")]
    numbers += [tree.whole(tree.text(told, "Time", part)) or 0 for part in ("Hour", "Minute", "Second")]
    try:
        moment = datetime.datetime(*numbers, tzinfo=datetime.UTC)  # type: ignore[misc, arg-type]
    except ValueError:
        raise OnvifFault("InvalidArgVal/InvalidDateTime", "there is no such date") from None
    camera.clock_ahead += (moment - camera.now()).total_seconds()
    return ""


def _ntp(camera: Camera, body: Element, base: str) -> str:
    return tag("tds:NTPInformation", tag("tt:FromDHCP", False), *(host("tt:NTPManual", one) for one in camera.ntp))


def _set_ntp(camera: Camera, body: Element, base: str) -> str:
    hosts = [next(filter(None, (tree.text(one, kind) for kind in ("IPv4Address", "IPv6Address", "DNSname"))), "") for one in tree.children(body, "NTPManual")]
    camera.ntp = tuple(filter(None, hosts))
    return ""


def _dns(camera: Camera, body: Element, base: str) -> str:
    return tag("tds:DNSInformation", tag("tt:FromDHCP", False), *(address("tt:DNSManual", host) for host in camera.dns))


def _set_dns(camera: Camera, body: Element, base: str) -> str:
    camera.dns = tuple(filter(None, (tree.text(one, "IPv4Address") for one in tree.children(body, "DNSManual"))))
    return ""


def _gateway(camera: Camera, body: Element, base: str) -> str:
    return tag("tds:NetworkGateway", tag("tt:IPv4Address", camera.gateway))


def _set_gateway(camera: Camera, body: Element, base: str) -> str:
    camera.gateway = tree.text(body, "IPv4Address")
    return ""


def _interfaces(camera: Camera, body: Element, base: str) -> str:
    place = tag(
        "tt:FromDHCP" if camera.dhcp else "tt:Manual",
        tag("tt:Address", camera.address),
        tag("tt:PrefixLength", camera.prefix),
    )
    config = tag("tt:Config", place, tag("tt:DHCP", camera.dhcp))
    info = tag("tt:Info", tag("tt:Name", "eth"), tag("tt:HwAddress", "02:00:5e:00:53:01"), tag("tt:MTU", 1500))
    return tag(
        "tds:NetworkInterfaces",
        tag("tt:Enabled", True),
        info,
        tag("tt:IPv4", tag("tt:Enabled", True), config),
        token="net0",
    )


def _set_interfaces(camera: Camera, body: Element, base: str) -> str:
    if tree.text(body, "InterfaceToken") != "net0":
        raise OnvifFault("InvalidArgVal/InvalidNetworkInterface", "no such interface")
    ipv4 = tree.find(body, "NetworkInterface", "IPv4")
    camera.dhcp = tree.yes(tree.text(ipv4, "DHCP")) is True
    manual = tree.find(ipv4, "Manual")
    if manual is not None:
        camera.address = tree.text(manual, "Address")
        camera.prefix = tree.whole(tree.text(manual, "PrefixLength")) or 24
    camera.move()
    return tag("tds:RebootNeeded", False)


def _users(camera: Camera, body: Element, base: str) -> str:
    if not camera.login.password:
        return ""
    return tag("tds:User", tag("tt:Username", camera.login.user), tag("tt:UserLevel", "Administrator"))


def _create_users(camera: Camera, body: Element, base: str) -> str:
    if camera.login.password:
        raise OnvifFault("OperationProhibited/UsernameClash", "there is an administrator already")
    user = tree.find(body, "User")
    password = tree.text(user, "Password")
    if len(password) < 8 or password.isalpha() or password.isdigit():
        raise OnvifFault("OperationProhibited/PasswordTooWeak", "8 characters at least, letters and figures")
    camera.login.user, camera.login.password = tree.text(user, "Username"), password
    return ""


def _set_user(camera: Camera, body: Element, base: str) -> str:
    for user in tree.children(body, "User"):
        if not camera.login.password or tree.text(user, "Username") != camera.login.user:
            raise OnvifFault("InvalidArgVal/UsernameMissing", "no such user")
        password = tree.text(user, "Password")
        if password and (len(password) < 8 or password.isalpha() or password.isdigit()):
            raise OnvifFault("OperationProhibited/PasswordTooWeak", "8 characters at least, letters and figures")
        if tree.text(user, "UserLevel") != "Administrator":
            raise OnvifFault("InvalidArgVal/FixedUser", "the only administrator stays one")
        camera.login.password = password or camera.login.password
    return ""


def _delete_users(camera: Camera, body: Element, base: str) -> str:
    for one in tree.children(body, "Username"):
        if tree.text(one) != camera.login.user:
            raise OnvifFault("InvalidArgVal/UsernameMissing", "no such user")
        raise OnvifFault("InvalidArgVal/FixedUser", "the only administrator stays one")
    return ""


def _reboot(camera: Camera, body: Element, base: str) -> str:
    camera.restart()
    return tag("tds:Message", "restarting")


def _upgrade(camera: Camera, body: Element, base: str) -> str:
    return (
        tag("tds:UploadUri", f"{base}/upgrade/1") + tag("tds:UploadDelay", "PT0S") + tag("tds:ExpectedDownTime", "PT3S")
    )


# What clients ask before they come to the point


def _device_abilities(camera: Camera, body: Element, base: str) -> str:
    schemes = {scheme.split()[0] for scheme in camera.login.schemes_all}
    security = (
        f'<tds:Security HttpDigest="{text_of("digest" in schemes)}" UsernameToken="{text_of("token" in schemes)}"/>'
    )
    return tag(
        "tds:Capabilities",
        '<tds:Network NTP="2" DHCPv6="false"/>',
        security,
        '<tds:System FirmwareUpgrade="true" DiscoveryBye="false"/>',
    )


def _scopes(camera: Camera, body: Element, base: str) -> str:
    told = camera.told()
    listed = told[0] if told is not None else []
    return "".join(tag("tds:Scopes", tag("tt:ScopeDef", "Fixed"), tag("tt:ScopeItem", scope)) for scope in listed)


def _hostname(camera: Camera, body: Element, base: str) -> str:
    name = camera.name.lower().replace(" ", "-")
    return tag("tds:HostnameInformation", tag("tt:FromDHCP", False), tag("tt:Name", name))


OPERATIONS: dict[str, Operation] = {
    "tds:GetServices": _services,
    "tds:GetCapabilities": _capabilities,
    "tds:GetDeviceInformation": _information,
    "tds:GetSystemDateAndTime": _clock,
    "tds:SetSystemDateAndTime": _set_clock,
    "tds:GetNTP": _ntp,
    "tds:SetNTP": _set_ntp,
    "tds:GetDNS": _dns,
    "tds:SetDNS": _set_dns,
    "tds:GetNetworkDefaultGateway": _gateway,
    "tds:SetNetworkDefaultGateway": _set_gateway,
    "tds:GetNetworkInterfaces": _interfaces,
    "tds:SetNetworkInterfaces": _set_interfaces,
    "tds:GetUsers": _users,
    "tds:CreateUsers": _create_users,
    "tds:SetUser": _set_user,
    "tds:DeleteUsers": _delete_users,
    "tds:SystemReboot": _reboot,
    "tds:StartFirmwareUpgrade": _upgrade,
    "tds:GetServiceCapabilities": _device_abilities,
    "tds:GetScopes": _scopes,
    "tds:GetHostname": _hostname,
}
