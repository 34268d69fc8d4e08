"""Answers and bodies of makers' HTTP interfaces: JSON, XML, and lines of name=value; values by their places in them.

A place is a JSON pointer (RFC 6901) such as ``/video/bitrate``, an XPath such as ``Video/@size``, or the name of a line. A
channel's places begin where the channel begins.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Literal, Protocol
from urllib.parse import urlencode

from lxml import etree

from direkt.errors import Malformed
from direkt.printable import printable
from direkt.protocol import tree
from direkt.protocol.tree import Element

Shape = Literal["json", "xml", "lines"]
Coding = Literal["json", "xml", "form", "query", "none"]
_MOST_LINES = 10_000
_LINE = re.compile(r"\s*([^\s=:#\"'][^=:\"']{0,99}?)\s*[=:]\s*(.*?)\s*;?\s*")


class Answered(Protocol):
    """An answer, or a part of one."""

    def get(self, place: str) -> object:
        """The value there: a text, number, yes or no, list or mapping; None where there is none."""

    def limit(self, place: str) -> object:
        """The limits that stand there: a list, a range with min and max, or a text that says them; None: there are none."""

    def part(self, place: str) -> Answered | None:
        """What stands there, as an answer of its own; None where nothing does."""

    def parts(self, place: str) -> list[Answered]:
        """Each item of the list there."""


class JsonAnswer:
    """JSON; places are JSON pointers."""

    def __init__(self, data: object) -> None:
        self.data = data

    def get(self, place: str) -> object:
        """RFC 6901, 4."""
        data = self.data
        if place and not place.startswith("/"):
            return None
        for step in place.split("/")[1:] if place else ():
            step = step.replace("~1", "/").replace("~0", "~")
            if isinstance(data, Mapping) and step in data:
                data = data[step]
            elif isinstance(data, list) and step.isascii() and step.isdigit() and int(step) < len(data):
                data = data[int(step)]
            else:
                return None
        return data

    def limit(self, place: str) -> object:
        """A list or an object."""
        return self.get(place)

    def part(self, place: str) -> JsonAnswer | None:
        """An object or a list."""
        data = self.get(place)
        return JsonAnswer(data) if isinstance(data, Mapping | list) else None

    def parts(self, place: str) -> list[Answered]:
        """The items of a list; an object stands for itself."""
        data = self.get(place)
        return [
            JsonAnswer(item)
            for item in (data if isinstance(data, list) else [data] if isinstance(data, Mapping) else [])
        ]


class XmlAnswer:
    """XML; places are XPaths, names without namespaces."""

    def __init__(self, node: Element) -> None:
        self.node = node

    @classmethod
    def read(cls, data: bytes) -> XmlAnswer:
        """Raises Malformed."""
        root = tree.parse(data)
        for element in root.iter():
            if isinstance(element.tag, str):
                element.tag = tree.local(element)
        return cls(root)

    def _found(self, place: str) -> list[object]:
        try:
            found = self.node.xpath(place)
        except etree.XPathError:
            return []
        return list(found) if isinstance(found, list) else [found]

    def get(self, place: str) -> object:
        """The text of the first match; of several elements without children, a list of their texts."""
        found = self._found(place)
        texts = [self._text(one) for one in found[:1000]]
        if len(texts) > 1 and all(isinstance(one, etree._Element) for one in found):
            return texts
        return texts[0] if texts else None

    @staticmethod
    def _text(one: object) -> object:
        if isinstance(one, etree._Element):
            return tree.text(one)
        return " ".join(printable(str(one)[:4096]).split()) if not isinstance(one, float | bool) else one

    def limit(self, place: str) -> object:
        """Attributes min and max of the element; several texts; or one that says them."""
        first = next((one for one in self._found(place) if isinstance(one, etree._Element)), None)
        bounds = {name: text for name in ("min", "max") if (text := tree.attribute(first, name))}
        return bounds or self.get(place)

    def part(self, place: str) -> XmlAnswer | None:
        """The first element."""
        return next((XmlAnswer(one) for one in self._found(place) if isinstance(one, etree._Element)), None)

    def parts(self, place: str) -> list[Answered]:
        """Each element."""
        return [XmlAnswer(one) for one in self._found(place)[:1000] if isinstance(one, etree._Element)]


class LinesAnswer:
    """Lines of ``name=value`` or ``name: value``; a channel's place is what its names begin with."""

    def __init__(self, lines: Mapping[str, str], start: str = "") -> None:
        self._lines, self._start = lines, start

    @classmethod
    def read(cls, text: str) -> LinesAnswer:
        """Lines of another kind are passed over. Raises Malformed where there is no other kind."""
        lines: dict[str, str] = {}
        for line in text.splitlines()[:_MOST_LINES]:
            match = _LINE.fullmatch(printable(line))
            if match is not None:
                name = match[1].split()[-1]  # of "var name" too
                lines[name] = match[2][1:-1] if re.fullmatch(r"\"[^\"]*\"|'[^']*'", match[2]) else match[2]
        if not lines:
            raise Malformed("no line of name=value")
        return cls(lines)

    def get(self, place: str) -> object:
        """The value of the line."""
        return self._lines.get(self._start + place)

    def limit(self, place: str) -> object:
        """The value of the line."""
        return self.get(place)

    def part(self, place: str) -> LinesAnswer | None:
        """The lines that begin so."""
        start = self._start + place
        return LinesAnswer(self._lines, start) if any(name.startswith(start) for name in self._lines) else None

    def parts(self, place: str) -> list[Answered]:
        """The lines that begin so, as the one item there is."""
        found = self.part(place)
        return [found] if found is not None else []


def place_problem(place: str, shape: Shape) -> str:
    """What is wrong with a place; empty: nothing."""
    if shape == "json" and place and not place.startswith("/"):
        return f"{place!r} is no JSON pointer: it begins with a slash, such as /video/bitrate"
    if shape == "xml" and place:
        try:
            etree.XPath(place)
        except etree.XPathSyntaxError:
            return f"{place!r} is no XPath, such as Video/Bitrate or Video/@size"
    return ""


# What is sent


def body(coding: Coding, fields: Mapping[str, object], root: str = "") -> tuple[bytes, str, str]:
    """Body, content type, and query string with these fields. A nested field is named by its place."""
    if coding in ("none", "query"):
        return b"", "", urlencode({name: _plain(value) for name, value in fields.items()}) if coding == "query" else ""
    if coding == "form":
        pairs = {name: _plain(value) for name, value in fields.items()}
        return urlencode(pairs).encode(), "application/x-www-form-urlencoded", ""
    if coding == "xml":
        return _xml(fields, root), "application/xml; charset=utf-8", ""
    out: dict[str, object] = {}
    for place, value in fields.items():
        node = out
        *groups, last = [step.replace("~1", "/").replace("~0", "~") for step in place.lstrip("/").split("/")]
        for group in groups:
            inner = node.setdefault(group, {})
            node = inner if isinstance(inner, dict) else {}
        node[last] = value
    return json.dumps(out).encode(), "application/json", ""


def _plain(value: object) -> str:
    """A value as forms and XML write it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return f"{value:g}" if isinstance(value, float) else str(value)


def _xml(fields: Mapping[str, object], root: str) -> bytes:
    """Elements and attributes by their paths, in the order in which they are named."""
    top = etree.Element(root or "request")
    for place, value in fields.items():
        node = top
        for step in filter(None, place.split("/")):
            if step.startswith("@"):
                node.set(step[1:], _plain(value))
                break
            name = step.partition("[")[0]
            inner = tree.find(node, name)
            node = inner if inner is not None else etree.SubElement(node, name)
        else:
            node.text = _plain(value)
    return etree.tostring(top, xml_declaration=True, encoding="utf-8")


def is_name(text: str) -> bool:
    """Whether an XML element or attribute can be called so, without a namespace."""
    try:
        return not etree.QName(text).namespace and ":" not in text
    except ValueError:
        return False


def sendable(place: str, coding: Coding) -> str:
    """What is wrong with a place in what is sent; empty: nothing."""
    *outer, last = [step.partition("[")[0] for step in place.split("/") if step] or [""]
    if coding == "xml" and not all(is_name(step) for step in [*outer, last.removeprefix("@")]):
        return f"{place!r} cannot be sent as XML: write 'send' with plain names, such as Video/Bitrate or Video/@size"
    return ""
