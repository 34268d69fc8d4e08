"""Answers of simulated cameras: elements as text, faults, envelopes. onvif_device.py and onvif_media.py fill them."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING
from xml.sax.saxutils import escape, quoteattr

from direkt.protocol import soap
from direkt.protocol.tree import Element

if TYPE_CHECKING:
    from direkt.sim.camera import Camera

SPACES = {
    "s": soap.SOAP12, "tds": "http://www.onvif.org/ver10/device/wsdl", "trt": "http://www.onvif.org/ver10/media/wsdl",
    "tr2": "http://www.onvif.org/ver20/media/wsdl", "tptz": "http://www.onvif.org/ver20/ptz/wsdl",
    "tt": "http://www.onvif.org/ver10/schema", "ter": "http://www.onvif.org/ver10/error",
}  # fmt: skip


class OnvifFault(Exception):
    """A fault with its innermost subcode (and, before a slash, the one above)."""

    def __init__(self, code: str, reason: str, *, receiver: bool = False) -> None:
        self.code, self.reason, self.receiver = code, reason, receiver
        super().__init__(reason)

    def body(self) -> str:
        """As SOAP 1.2 writes it."""
        inner = ""
        for name in reversed(self.code.split("/")):
            inner = tag("s:Subcode", tag("s:Value", f"ter:{name}"), inner)
        top = "s:Receiver" if self.receiver else "s:Sender"
        text = f'<s:Text xml:lang="en">{escape(self.reason)}</s:Text>'
        return tag("s:Fault", tag("s:Code", tag("s:Value", top), inner), f"<s:Reason>{text}</s:Reason>")


def tag(name: str, *inner: object, **attributes: object) -> str:
    """An element; texts that begin with ``<`` are elements."""
    said = "".join(f" {key}={quoteattr(text_of(value))}" for key, value in attributes.items())
    content = "".join(str(i) if str(i).startswith("<") else escape(text_of(i)) for i in inner)
    return f"<{name}{said}>{content}</{name}>"


def text_of(value: object) -> str:
    """A value as XML Schema writes it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return f"{value:g}" if isinstance(value, float) else str(value)


def envelope(body: str) -> bytes:
    """The whole answer."""
    spaces = "".join(f' xmlns:{prefix}="{space}"' for prefix, space in SPACES.items())
    return f'<?xml version="1.0" encoding="UTF-8"?><s:Envelope{spaces}><s:Body>{body}</s:Body></s:Envelope>'.encode()


Operation = Callable[["Camera", Element, str], str]


def address(name: str, host: str) -> str:
    """A host by its address (IPv4 or IPv6)."""
    kind = "IPv6" if ":" in host else "IPv4"
    return tag(name, tag("tt:Type", kind), tag(f"tt:{kind}Address", host))


def host(name: str, text: str) -> str:
    """A host by its address, or by its name."""
    if ":" in text or text.replace(".", "").isdigit():
        return address(name, text)
    return tag(name, tag("tt:Type", "DNS"), tag("tt:DNSname", text))
