"""Elements of the standard's requests, in its namespaces."""

from __future__ import annotations

from enum import StrEnum

from lxml import etree

from direkt.protocol.tree import Element


class OnvifService(StrEnum):
    """A service by its namespace."""

    DEVICE = "http://www.onvif.org/ver10/device/wsdl"
    MEDIA = "http://www.onvif.org/ver10/media/wsdl"
    MEDIA2 = "http://www.onvif.org/ver20/media/wsdl"
    PTZ = "http://www.onvif.org/ver20/ptz/wsdl"


SCHEMA = "http://www.onvif.org/ver10/schema"
_NAMES = {
    "tds": OnvifService.DEVICE.value, "trt": OnvifService.MEDIA.value, "tr2": OnvifService.MEDIA2.value, "tptz": OnvifService.PTZ.value, "tt": SCHEMA,
}  # fmt: skip


def element(name: str, *content: Element | str | None, **attributes: str | None) -> Element:
    """An element such as ``tds:GetServices`` with its text or inner elements; None is left out."""
    prefix, _, local = name.partition(":")
    made = etree.Element(f"{{{_NAMES[prefix]}}}{local}", nsmap={p: _NAMES[p] for p in {prefix, "tt"}})
    for key, value in attributes.items():
        if value is not None:
            made.set(key, value)
    for part in content:
        if isinstance(part, str):
            made.text = part
        elif part is not None:
            made.append(part)
    return made


def boolean(value: bool) -> str:
    """As XML Schema writes it."""
    return "true" if value else "false"


def decimal(value: float) -> str:
    """A number without an exponent, as short as it can be."""
    return f"{value:.6f}".rstrip("0").rstrip(".")
