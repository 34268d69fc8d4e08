"""SOAP 1.2 envelopes (and 1.1 where a device answers so), faults of both, and WS-Security's user name token.

Without I/O: an envelope is bytes. The clock and the random bytes of a token are given by the caller.
"""

from __future__ import annotations

import base64
import datetime
import hashlib
from collections.abc import Sequence
from dataclasses import dataclass

from lxml import etree

from direkt.errors import Malformed
from direkt.protocol import tree
from direkt.protocol.tree import Element

SOAP12 = "http://www.w3.org/2003/05/soap-envelope"
SOAP11 = "http://schemas.xmlsoap.org/soap/envelope/"
WSSE = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
WSU = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
# Web Services Security UsernameToken Profile 1.0, 3.1
_DIGEST = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest"
_BASE64 = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary"
_MOST_PARTS = 16
CONTENT_TYPE = "application/soap+xml; charset=utf-8"


@dataclass(frozen=True, slots=True)
class SoapFault:
    """A fault of either version: local names of code and subcodes, and the reason in words."""

    code: str  # Sender or Receiver; the names of SOAP 1.1 are put into those of 1.2
    subcodes: tuple[str, ...]
    reason: str

    @property
    def text(self) -> str:
        """As a person reads it."""
        codes = " / ".join(self.subcodes) or self.code
        return f"{self.reason} ({codes})" if self.reason and codes else self.reason or codes or "no reason given"


@dataclass(frozen=True, slots=True)
class Envelope:
    """What came: the first element of the body, or a fault; and the header's elements."""

    body: Element | None
    fault: SoapFault | None
    header: tuple[Element, ...] = ()


def write(body: Element, header: Sequence[Element] = ()) -> bytes:
    """An envelope of SOAP 1.2."""
    root = etree.Element(f"{{{SOAP12}}}Envelope", nsmap={"s": SOAP12})
    if header:
        etree.SubElement(root, f"{{{SOAP12}}}Header").extend(header)
    etree.SubElement(root, f"{{{SOAP12}}}Body").append(body)
    return etree.tostring(root, xml_declaration=True, encoding="utf-8")


def read(data: bytes) -> Envelope:
    """An envelope, also in the first part of a message in parts (XOP and MTOM). Raises Malformed for what is no envelope."""
    root = tree.parse(_root_part(data))
    if tree.local(root) != "Envelope" or tree.namespace(root) not in (SOAP11, SOAP12):
        raise Malformed(f"expected a SOAP envelope, got {tree.local(root)[:40] or 'something'}")
    above = tree.find(root, "Header")
    header = tuple(above) if above is not None else ()
    body = tree.find(root, "Body")
    first = next((inner for inner in (body if body is not None else ()) if tree.local(inner)), None)
    if first is not None and tree.local(first) == "Fault":
        return Envelope(None, _fault(first), header)
    return Envelope(first, None, header)


def _root_part(data: bytes) -> bytes:
    """The part with the envelope, of a message in parts (RFC 2387); other data as it is."""
    start = data.lstrip()
    if not start.startswith(b"--") or b"\n" not in start:
        return data
    boundary = start[2 : start.index(b"\n")].strip()
    if not 0 < len(boundary) <= 70:  # RFC 2046, 5.1.1
        return data
    for part in start.split(b"--" + boundary)[1:_MOST_PARTS]:
        head, _, body = part.lstrip(b"\r\n").replace(b"\r\n\r\n", b"\n\n", 1).partition(b"\n\n")
        if b"Envelope" in body[:2048] and not head.lstrip().startswith(b"<"):
            return body.strip()
    return data


def _local(said: str) -> str:
    return said.rpartition(":")[2][:80]


def _fault(element: Element) -> SoapFault:
    old = {"Client": "Sender", "Server": "Receiver"}
    if tree.find(element, "faultcode") is not None or tree.find(element, "faultstring") is not None:  # SOAP 1.1, 4.4
        code, *more = _local(tree.text(element, "faultcode")).split(".")
        inner = tree.find(element, "detail")
        subcodes = [*more, *(_local(tree.text(found)) for found in _subcodes(inner))]
        return SoapFault(old.get(code, code), tuple(filter(None, subcodes)), tree.text(element, "faultstring")[:300])
    codes = tree.find(element, "Code")
    named = [_local(tree.text(found)) for found in _subcodes(codes)]
    top = _local(tree.text(codes, "Value"))
    reasons = [tree.text(said) for said in tree.children(tree.find(element, "Reason"), "Text")]
    return SoapFault(old.get(top, top), tuple(filter(None, named)), next(filter(None, reasons), "")[:300])


def _subcodes(element: Element | None) -> list[Element]:
    """The values of nested subcodes, outermost first (SOAP 1.2, 5.4.1.2)."""
    out: list[Element] = []
    for found in element.iter() if element is not None else ():
        if tree.local(found) == "Subcode" and (value := tree.find(found, "Value")) is not None:
            out.append(value)
    return out[:8]


def timestamp(moment: datetime.datetime) -> str:
    """A time in UTC as XML Schema writes it."""
    return moment.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%S.") + f"{moment.microsecond // 1000:03d}Z"


def password_digest(nonce: bytes, created: str, password: str) -> str:
    """UsernameToken Profile 1.0, 3.1: Base64(SHA-1(nonce + created + password))."""
    made = hashlib.sha1(nonce + created.encode() + password.encode(), usedforsecurity=False)
    return base64.b64encode(made.digest()).decode()


def username_token(user: str, password: str, created: datetime.datetime, nonce: bytes) -> Element:
    """The Security header of a user; ``created`` as the device's own clock has it, ``nonce`` 16 random bytes."""
    security = etree.Element(f"{{{WSSE}}}Security", nsmap={"wsse": WSSE, "wsu": WSU})
    security.set(f"{{{SOAP12}}}mustUnderstand", "true")
    token = etree.SubElement(security, f"{{{WSSE}}}UsernameToken")
    moment = timestamp(created)
    etree.SubElement(token, f"{{{WSSE}}}Username").text = user
    etree.SubElement(token, f"{{{WSSE}}}Password", Type=_DIGEST).text = password_digest(nonce, moment, password)
    etree.SubElement(token, f"{{{WSSE}}}Nonce", EncodingType=_BASE64).text = base64.b64encode(nonce).decode()
    etree.SubElement(token, f"{{{WSU}}}Created").text = moment
    return security


@dataclass(frozen=True, slots=True)
class UsernameToken:
    """A user name token as a server reads it."""

    user: str
    digest: str
    nonce: bytes
    created: str

    def is_right(self, password: str) -> bool:
        """Whether it was made from this password."""
        return self.digest == password_digest(self.nonce, self.created, password)


def read_token(header: Sequence[Element]) -> UsernameToken | None:
    """The user name token among an envelope's header elements; None where there is none."""
    for element in header:
        found = tree.find(element, "UsernameToken") if tree.local(element) == "Security" else None
        if found is not None:
            try:
                nonce = base64.b64decode(tree.text(found, "Nonce"), validate=True)
            except ValueError:
                return None
            return UsernameToken(
                tree.text(found, "Username"), tree.text(found, "Password"), nonce, tree.text(found, "Created")
            )  # fmt: skip
    return None
