"""XML of somebody else's: read without entities, document types or network, and found by local names.

Names are compared without their namespace: makers mix up prefixes and versions of one vocabulary, and no two elements of
those that are read here differ by namespace alone.
"""

from __future__ import annotations

from collections.abc import Iterator

from lxml import etree

from direkt.errors import Malformed
from direkt.printable import printable

_LARGEST = 4 << 20  # bytes
_TEXT = 4096  # characters of one text

Element = etree._Element


def parse(data: bytes) -> Element:
    """The root element. Raises Malformed."""
    if len(data) > _LARGEST:
        raise Malformed(f"XML of {len(data)} bytes; at most {_LARGEST} are read")
    if data[:2] not in (b"\xff\xfe", b"\xfe\xff"):
        data = data.strip(b"\x00 \t\r\n").removeprefix(b"\xef\xbb\xbf").lstrip(b" \t\r\n")
    try:
        root = etree.fromstring(data, _reader())
    except (etree.XMLSyntaxError, ValueError, LookupError) as error:
        root = _in_latin_1(data)
        if root is None:
            words = printable(str(error)).split("\n")[0][:120]
            raise Malformed(f"not valid XML: {words}") from None
    if root.getroottree().docinfo.doctype:  # type: ignore[union-attr]
        raise Malformed("XML with a document type, which is not read")
    return root


def _reader(encoding: str | None = None) -> etree.XMLParser:
    return etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, remove_comments=True, remove_pis=True, huge_tree=False, encoding=encoding
    )  # fmt: skip


def _in_latin_1(data: bytes) -> Element | None:
    """What says that it is UTF-8 and holds a name in another coding; None where that is not what is wrong."""
    try:
        data.decode()
    except UnicodeDecodeError:
        try:
            return etree.fromstring(data, _reader("iso-8859-1"))
        except (etree.XMLSyntaxError, ValueError):
            return None
    return None


def local(element: Element) -> str:
    """The name without its namespace."""
    tag = element.tag
    return str(tag).rpartition("}")[2] if isinstance(tag, str) else ""


def namespace(element: Element) -> str:
    """The namespace of the name; empty: none."""
    tag = element.tag
    return str(tag)[1:].partition("}")[0] if isinstance(tag, str) and tag.startswith("{") else ""


def children(element: Element | None, name: str) -> Iterator[Element]:
    """The children of this local name."""
    for inner in element if element is not None else ():
        if local(inner) == name:
            yield inner


def find(element: Element | None, *path: str) -> Element | None:
    """The first element down this path of local names; None where there is none."""
    for name in path:
        element = next(children(element, name), None)
        if element is None:
            return None
    return element


def text(element: Element | None, *path: str) -> str:
    """The text down the path, trimmed and safe to print on one line; empty where there is none."""
    found = find(element, *path)
    said = "".join(str(part) for part in found.itertext()) if found is not None and len(found) == 0 else ""
    return " ".join(printable(said[:_TEXT]).split())


def attribute(element: Element | None, name: str) -> str:
    """An attribute by its local name, safe to print; empty where there is none."""
    for key, value in element.attrib.items() if element is not None else ():
        if str(key).rpartition("}")[2] == name:
            return " ".join(printable(str(value)[:_TEXT]).split())
    return ""


def number(said: str) -> float | None:
    """A finite number as XML Schema writes it; None for anything else."""
    try:
        value = float(said.strip().replace("_", "x"))
    except ValueError:
        return None
    return value if abs(value) < 1e15 else None


def whole(said: str) -> int | None:
    """A whole number; None for anything else."""
    value = number(said)
    return int(value) if value is not None and value == int(value) else None


def yes(said: str) -> bool | None:
    """A boolean as XML Schema writes it, and in capitals as some do; None for anything else."""
    return {"true": True, "1": True, "false": False, "0": False}.get(said.strip().lower())
