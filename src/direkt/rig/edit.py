"""Changes single entries of a rig's text and leaves every other character as it is: comments, order, quotes, line ends.

An entry is found by the parser's marks; its text is replaced, or a line is put behind the last one beside it. What comes
out is parsed again and compared with what was wanted, so that a file of an unforeseen shape is refused, not spoilt.
"""

from __future__ import annotations

import copy
import json
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import yaml
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from direkt import documents, files
from direkt.documents import DocumentError
from direkt.errors import UnusableInput, os_words

Content = str | int | float | Mapping[str, "Content"]
_LARGEST = 1 << 20  # bytes
_PLAIN = re.compile(r"[A-Za-z0-9_./][\w./+-]*(?:://?[\w./:\[\]-]*)?")


def change(path: Path, changes: Sequence[tuple[Sequence[str], Content]]) -> None:
    """Puts each value at its path in the file. Raises UnusableInput; then the file is as it was."""
    target = path.resolve()  # a link stays one
    try:
        with files.alone(target.parent):
            text = files.read(target, _LARGEST).decode("utf-8")
            for place, value in changes:
                text = put(text, place, value, str(path))
            files.replace(target, text, target.stat().st_mode & 0o777)
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be written: {os_words(error)}") from None
    except UnicodeDecodeError:
        raise UnusableInput(f"{path}: not text in UTF-8") from None


def put(text: str, place: Sequence[str], value: Content, source: str = "rig.yaml") -> str:
    """The text with ``value`` at ``place``; missing mappings on the way are made. Raises UnusableInput."""
    wanted = copy.deepcopy(_data(text, source))
    node = wanted
    for step in place[:-1]:
        inner = node.get(step)
        if inner is None:
            inner = node[step] = {}
        if not isinstance(inner, dict):
            raise UnusableInput(f"{source}: {step} holds no entries; {'.'.join(place)} cannot be written there")
        node = inner
    node[place[-1]] = value
    try:
        made = _put(text, list(place), value)
        right = _data(made, source) == wanted
    except (DocumentError, yaml.YAMLError, RecursionError):
        made, right = "", False
    if not right:
        raise UnusableInput(f"{source}: {'.'.join(place)} cannot be changed in a file of this shape; write it by hand")
    return made


def _data(text: str, source: str) -> Any:
    return documents.plain(documents.parse(text, source))


def _put(text: str, place: list[str], value: Content) -> str:
    newline = "\r\n" if "\r\n" in text else "\n"
    root = yaml.compose(text, Loader=yaml.SafeLoader)
    node: Node | None = root
    depth = 0
    key: Node | None = None
    while isinstance(node, MappingNode) and depth < len(place):
        entry = next(((k, v) for k, v in node.value if k.value == place[depth]), None)
        if entry is None:
            break
        key, node = entry
        depth += 1
    if node is None:
        raise yaml.YAMLError("nothing is in it")
    if depth == len(place):
        return _replace(text, node, value)
    for step in reversed(place[depth + 1 :]):
        value = {step: value}
    if isinstance(node, MappingNode) and node.value:
        return _insert(text, node, place[depth], value, newline)
    # an empty mapping or nothing at all: the value's place takes a block of its own
    if key is None:
        raise yaml.YAMLError("no mapping")
    indent = key.start_mark.column + 2
    block = newline + _block({place[depth]: value}, indent, newline)
    end = node.end_mark.index if text[node.start_mark.index : node.end_mark.index].strip() else key.end_mark.index + 1
    return text[: key.end_mark.index + 1] + block + text[end:]


def _replace(text: str, node: Node, value: Content) -> str:
    start, end = node.start_mark.index, node.end_mark.index
    quoted = isinstance(node, ScalarNode) and node.style in ('"', "'")
    new = json.dumps(value, ensure_ascii=False) if quoted and isinstance(value, str) else _flow(value)
    if start == end:  # 'key:' with nothing behind it
        new = " " + new
    return text[:start] + new + text[end:]


def _insert(text: str, node: MappingNode, key: str, value: Content, newline: str) -> str:
    """A new entry behind the last one of a mapping."""
    if node.flow_style:
        at = node.end_mark.index - 1
        kept = text[:at].rstrip()
        comma = "" if kept.endswith(",") else ","
        return f"{kept}{comma} {_flow(key)}: {_flow(value)}{text[len(kept) : at].rstrip(' ')}{text[at:]}"
    last = _last_line(node)
    lines = text.split("\n")
    before, after = "\n".join(lines[: last + 1]), "\n".join(lines[last + 1 :])
    block = _block({key: value}, node.value[0][0].start_mark.column, newline)
    return (
        before.rstrip("\r")
        + newline
        + block
        + ("\n" if len(lines) > last + 1 and newline == "\n" else newline if len(lines) > last + 1 else "")
        + after
    )


def _last_line(node: Node) -> int:
    """The line on which the last content of a node ends; comments behind it are not its."""
    if isinstance(node, MappingNode) and node.value and not node.flow_style:
        key, value = node.value[-1]
        return max(int(key.end_mark.line), _last_line(value))
    if isinstance(node, SequenceNode) and node.value and not node.flow_style:
        return _last_line(node.value[-1])
    end, start = int(node.end_mark.line), int(node.start_mark.line)
    block = isinstance(node, ScalarNode) and node.style in ("|", ">")
    return end - 1 if block or (end > start and node.end_mark.column == 0) else end


def _flow(value: Content) -> str:
    """A value on one line."""
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{_flow(k)}: {_flow(v)}" for k, v in value.items()) + "}"
    if isinstance(value, str):
        plain = _PLAIN.fullmatch(value) and isinstance(_data(f"a: {value}", "value").get("a"), str)
        return value if plain else json.dumps(value, ensure_ascii=False)
    return f"{value}"


def _block(entries: Mapping[str, Content], indent: int, newline: str) -> str:
    """Entries as a block: a mapping of mappings is spread out, the innermost stay on lines of their own."""
    out = []
    for key, value in entries.items():
        if isinstance(value, Mapping):
            out.append(f"{' ' * indent}{_flow(key)}:")
            out.append(_block(value, indent + 2, newline))
        else:
            out.append(f"{' ' * indent}{_flow(key)}: {_flow(value)}")
    return newline.join(out)
