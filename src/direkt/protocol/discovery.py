"""WS-Discovery (April 2005, as ONVIF's Network Interface Specification uses it), without I/O: probes, and what answers them.

Every probe has a message id of its own; an answer counts only where it relates to one of ours. A device may answer
several times (once for each probe and each of its addresses): its endpoint reference tells that it is one.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from lxml import etree

from direkt.errors import Malformed
from direkt.protocol import soap, tree

GROUP4, GROUP6, PORT = "239.255.255.250", "ff02::c", 3702  # 2.4
WSD = "http://schemas.xmlsoap.org/ws/2005/04/discovery"
WSA = "http://schemas.xmlsoap.org/ws/2004/08/addressing"
NETWORK = "http://www.onvif.org/ver10/network/wsdl"
DEVICE = "http://www.onvif.org/ver10/device/wsdl"
TO = "urn:schemas-xmlsoap-org:ws:2005:04:discovery"
ANONYMOUS = f"{WSA}/role/anonymous"
_SCOPE = "onvif://www.onvif.org/"
_LARGEST = 1 << 16  # bytes of a datagram
_MOST = 32  # addresses of one answer


@dataclass(frozen=True, slots=True)
class Match:
    """One device as an answer tells of it."""

    endpoint: str  # the same in all of its answers
    types: tuple[str, ...]  # local names
    scopes: tuple[str, ...]
    addresses: tuple[str, ...]  # of its device service
    relates_to: str = ""

    def scope(self, kind: str) -> str:
        """What the scopes say of ``kind``: name, hardware, location; empty where nothing."""
        for scope in self.scopes:
            start = f"{_SCOPE}{kind}/"
            if scope.lower().startswith(start):
                return " ".join(unquote(scope[len(start) :]).replace("/", " ").split())[:80]
        return ""

    @property
    def is_camera(self) -> bool:
        """Whether it says that it speaks the cameras' open standard."""
        return "NetworkVideoTransmitter" in self.types or any(s.lower().startswith(_SCOPE) for s in self.scopes)


def probe(message_id: str, types: Iterable[tuple[str, str]] = ()) -> bytes:
    """A probe (5.3) for devices of all ``types`` (namespace and name); ``message_id``: a URI that nobody else uses."""
    prefixes = {namespace: f"t{n}" for n, namespace in enumerate(dict.fromkeys(ns for ns, _ in types))}
    body = etree.Element(f"{{{WSD}}}Probe", nsmap={"d": WSD, **{prefix: ns for ns, prefix in prefixes.items()}})
    names = " ".join(f"{prefixes[ns]}:{name}" for ns, name in types)
    if names:
        etree.SubElement(body, f"{{{WSD}}}Types").text = names
    return soap.write(body, _header("Probe", message_id, TO))


def _header(action: str, message_id: str, to: str, relates_to: str = "") -> list[tree.Element]:
    made = []
    for name, value in (
        ("Action", f"{WSD}/{action}"),
        ("MessageID", message_id),
        ("RelatesTo", relates_to),
        ("To", to),
    ):
        if value:
            element = etree.Element(f"{{{WSA}}}{name}", nsmap={"a": WSA})
            element.text = value
            made.append(element)
    return made


def read(data: bytes) -> list[Match]:
    """What a ProbeMatches (5.3), ResolveMatches (6.3) or Hello (4.1) tells. Raises Malformed for anything else."""
    if len(data) > _LARGEST:
        raise Malformed(f"a datagram of {len(data)} bytes")
    envelope = soap.read(data)
    if envelope.body is None or (kind := tree.local(envelope.body)) not in ("ProbeMatches", "ResolveMatches", "Hello"):
        raise Malformed("no answer of a device")
    relates = next((tree.text(e) for e in envelope.header if tree.local(e) == "RelatesTo"), "")
    listed = [envelope.body] if kind == "Hello" else list(tree.children(envelope.body, kind.removesuffix("es")))
    return [_match(element, relates) for element in listed[:_MOST]]


def _match(element: tree.Element, relates: str) -> Match:
    words = tree.text(element, "XAddrs").split()[:_MOST]
    addresses = tuple(word for word in words if _is_address(word))
    types = tuple(word.rpartition(":")[2] for word in tree.text(element, "Types").split()[:_MOST])
    endpoint = tree.text(element, "EndpointReference", "Address")[:200]
    return Match(endpoint, types, tuple(tree.text(element, "Scopes").split()[:100]), addresses, relates)


def _is_address(text: str) -> bool:
    try:
        parts = urlsplit(text)
        return parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port != 0
    except ValueError:
        return False


def together(matches: Iterable[Match]) -> list[Match]:
    """One match for each device, with all its addresses in the order in which they came."""
    found: dict[str, Match] = {}
    for one in matches:
        key = one.endpoint.lower() or " ".join(one.addresses)
        old = found.get(key)
        if old is None:
            found[key] = one
            continue
        found[key] = Match(
            old.endpoint, _joined(old.types, one.types), _joined(old.scopes, one.scopes),
            _joined(old.addresses, one.addresses), old.relates_to,
        )  # fmt: skip
    return list(found.values())


def _joined(a: tuple[str, ...], b: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(dict.fromkeys((*a, *b)))[:100]


# The device's end

_PROBE = re.compile(r"[^\s]+")


@dataclass(frozen=True, slots=True)
class Probe:
    """What somebody looks for."""

    message_id: str
    types: tuple[str, ...]  # local names
    scopes: tuple[str, ...]
    reply_to: str = ANONYMOUS


def read_probe(data: bytes) -> Probe:
    """Raises Malformed for what is no probe."""
    envelope = soap.read(data)
    if envelope.body is None or tree.local(envelope.body) != "Probe":
        raise Malformed("no probe")
    said = {tree.local(element): tree.text(element) for element in envelope.header}
    types = tuple(word.rpartition(":")[2] for word in _PROBE.findall(tree.text(envelope.body, "Types")))
    return Probe(said.get("MessageID", ""), types, tuple(tree.text(envelope.body, "Scopes").split()))


def probe_matches(
    answer_to: Probe, message_id: str, endpoint: str, types: Mapping[str, str], scopes: Iterable[str], addresses: Iterable[str]
) -> bytes:  # fmt: skip
    """The answer to a probe; ``types``: names and their namespaces."""
    spaces = {namespace: f"t{n}" for n, namespace in enumerate(dict.fromkeys(types.values()))}
    body = etree.Element(f"{{{WSD}}}ProbeMatches", nsmap={"d": WSD, **{p: ns for ns, p in spaces.items()}})
    one = etree.SubElement(body, f"{{{WSD}}}ProbeMatch")
    reference = etree.SubElement(one, f"{{{WSA}}}EndpointReference", nsmap={"a": WSA})
    etree.SubElement(reference, f"{{{WSA}}}Address").text = endpoint
    etree.SubElement(one, f"{{{WSD}}}Types").text = " ".join(f"{spaces[ns]}:{name}" for name, ns in types.items())
    etree.SubElement(one, f"{{{WSD}}}Scopes").text = " ".join(scopes)
    etree.SubElement(one, f"{{{WSD}}}XAddrs").text = " ".join(addresses)
    etree.SubElement(one, f"{{{WSD}}}MetadataVersion").text = "1"
    return soap.write(body, _header("ProbeMatches", message_id, answer_to.reply_to, answer_to.message_id))
