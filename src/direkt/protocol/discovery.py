"""WS-Discovery (April 2005, as ONVIF's Network Interface Specification uses it), without I/O: probes, and what answers them.

Every probe has a message id of its own; an answer counts only where it relates to one of ours. A device may answer
several times (once for each probe and each of its addresses): its endpoint reference tells that it is one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from lxml import etree

from direkt.errors import Malformed
from direkt.protocol import soap, tree

GROUP4, GROUP6, PORT = "239.255.255.250", "ff02::c", 3702  # WS-Discovery 2005/04, 2.4
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
    """A probe (WS-Discovery 2005/04, 5.3) for devices of all ``types`` (namespace and name); ``message_id``: a URI that nobody else uses."""
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
    """What a ProbeMatches (WS-Discovery 2005/04, 5.3), ResolveMatches (WS-Discovery 2005/04, 6.3) or Hello (WS-Discovery 2005/04, 4.1) tells. Raises Malformed for anything else."""
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

RFC3986, STRCMP0, NONE = f"{WSD}/rfc2396", f"{WSD}/strcmp0", f"{WSD}/none"  # WS-Discovery 2005/04, 5.1: how scopes are compared


@dataclass(frozen=True, slots=True)
class Probe:
    """What somebody looks for; with ``endpoint`` one device whose addresses are asked for (Resolve)."""

    message_id: str
    types: tuple[tuple[str, str], ...]  # namespace and name
    scopes: tuple[str, ...]
    reply_to: str = ANONYMOUS
    matched_by: str = RFC3986
    endpoint: str = ""

    def matches(self, types: Iterable[tuple[str, str]], scopes: Iterable[str]) -> bool:
        """Whether a device of these types and scopes is meant (WS-Discovery 2005/04, 5.1): all that is asked for must be there."""
        listed, there = set(types), list(scopes)
        if not all(one in listed for one in self.types):
            return False
        if self.matched_by == NONE:  # devices without scopes are looked for
            return not there
        if self.matched_by == STRCMP0:
            return set(self.scopes) <= set(there)
        return self.matched_by == RFC3986 and all(any(_below(wanted, scope) for scope in there) for wanted in self.scopes)


def _below(wanted: str, scope: str) -> bool:
    """Whether a scope is the one that is wanted or lies below it: scheme and host in any capitals, whole steps of the path."""
    try:
        one, other = urlsplit(wanted), urlsplit(scope)
    except ValueError:
        return False
    if (one.scheme.lower(), one.netloc.lower()) != (other.scheme.lower(), other.netloc.lower()):
        return False
    steps, there = ([unquote(step) for step in path.strip("/").split("/") if step] for path in (one.path, other.path))
    return there[: len(steps)] == steps and not any(step in (".", "..") for step in steps)


def read_probe(data: bytes) -> Probe:
    """A Probe (WS-Discovery 2005/04, 5.3) or Resolve (WS-Discovery 2005/04, 6.3). Raises Malformed for what is none."""
    envelope = soap.read(data)
    body = envelope.body
    kind = tree.local(body) if body is not None else ""
    if body is None or kind not in ("Probe", "Resolve"):
        raise Malformed("no probe")
    said = {tree.local(element): tree.text(element) for element in envelope.header}
    reply = next((tree.text(e, "Address") for e in envelope.header if tree.local(e) == "ReplyTo"), "") or ANONYMOUS
    if kind == "Resolve":
        return Probe(said.get("MessageID", ""), (), (), reply, endpoint=tree.text(body, "EndpointReference", "Address"))
    scopes = tree.find(body, "Scopes")
    by = tree.attribute(scopes, "MatchBy") or RFC3986
    by = RFC3986 if by.endswith(("/rfc2396", "/rfc3986")) else by
    types = tree.find(body, "Types")
    names = tuple(_qualified(word, types) for word in tree.text(types).split()[:_MOST])
    return Probe(said.get("MessageID", ""), names, tuple(tree.text(scopes).split()[:_MOST]), reply, by)


def _qualified(word: str, element: tree.Element | None) -> tuple[str, str]:
    prefix, _, name = word.rpartition(":")
    spaces = element.nsmap if element is not None else {}
    return str(spaces.get(prefix or None) or ""), name


def probe_matches(
    answer_to: Probe, message_id: str, endpoint: str, types: Mapping[str, str], scopes: Iterable[str], addresses: Iterable[str],
    sequence: tuple[int, int] = (1, 1),
) -> bytes:  # fmt: skip
    """The answer to a probe, or to a Resolve; ``types``: names and their namespaces; ``sequence``: since when the device is on (a
    number that grows with each start), and the number of its message since then (appendix I)."""
    spaces = {namespace: f"t{n}" for n, namespace in enumerate(dict.fromkeys(types.values()))}
    kind = "Resolve" if answer_to.endpoint else "Probe"
    body = etree.Element(f"{{{WSD}}}{kind}Matches", nsmap={"d": WSD, **{p: ns for ns, p in spaces.items()}})
    one = etree.SubElement(body, f"{{{WSD}}}{kind}Match")
    reference = etree.SubElement(one, f"{{{WSA}}}EndpointReference", nsmap={"a": WSA})
    etree.SubElement(reference, f"{{{WSA}}}Address").text = endpoint
    etree.SubElement(one, f"{{{WSD}}}Types").text = " ".join(f"{spaces[ns]}:{name}" for name, ns in types.items())
    etree.SubElement(one, f"{{{WSD}}}Scopes").text = " ".join(scopes)
    etree.SubElement(one, f"{{{WSD}}}XAddrs").text = " ".join(addresses)
    etree.SubElement(one, f"{{{WSD}}}MetadataVersion").text = "1"
    header = _header(f"{kind}Matches", message_id, answer_to.reply_to, answer_to.message_id)
    order = etree.Element(f"{{{WSD}}}AppSequence", nsmap={"d": WSD})
    order.set("InstanceId", str(sequence[0]))
    order.set("MessageNumber", str(sequence[1]))
    return soap.write(body, [*header, order])
