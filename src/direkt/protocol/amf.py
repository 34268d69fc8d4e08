"""AMF0 and AMF3, the object encodings of RTMP commands and FLV metadata (their published specifications).

Numbers become float, objects dict, arrays list, null and undefined None, dates their number of milliseconds.
Reading is O(n) and bounded: nesting, counts and lengths are checked against the bytes that are there.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Mapping, Sequence
from typing import TypeAlias

from direkt.errors import Malformed

Amf: TypeAlias = "bool | float | str | bytes | Sequence[Amf] | Mapping[str, Amf] | None"

_DEEPEST = 16
_DOUBLE = struct.Struct(">d")

# AMF0, section 2.1
(_NUMBER, _BOOLEAN, _STRING, _OBJECT, _CLIP, _NULL, _UNDEFINED, _REFERENCE, _ECMA, _END, _STRICT, _DATE, _LONG,
 _UNSUPPORTED, _RECORDSET, _XML, _TYPED, _AMF3) = range(18)  # fmt: skip


class AmfError(Malformed):
    """Bytes that are not AMF, or too deep; the text gives the byte offset."""


class EcmaArray(dict[str, Amf]):
    """Written as an ECMA array (AMF0, 2.10), as FLV metadata is."""


class _Reader:
    def __init__(self, data: bytes | bytearray | memoryview, at: int = 0) -> None:
        self.data = bytes(data)
        self.at = at
        self.objects: list[Amf] = []  # AMF0 references
        self.strings3: list[str] = []
        self.objects3: list[Amf] = []
        self.traits3: list[tuple[bool, bool, list[str]]] = []

    def take(self, size: int) -> bytes:
        end = self.at + size
        if end > len(self.data):
            raise AmfError(
                f"AMF ends too early: {size} bytes wanted at byte {self.at}, {len(self.data) - self.at} left"
            )
        part = self.data[self.at : end]
        self.at = end
        return part

    def number(self, size: int) -> int:
        return int.from_bytes(self.take(size), "big")

    def double(self) -> float:
        number: float = _DOUBLE.unpack(self.take(8))[0]
        return number

    def text(self, size: int) -> str:
        return self.take(size).decode("utf-8", "replace")

    # AMF0

    def value(self, depth: int = 0) -> Amf:
        if depth > _DEEPEST:
            raise AmfError(f"AMF nested deeper than {_DEEPEST} at byte {self.at}")
        marker = self.number(1)
        if marker == _NUMBER:
            return self.double()
        if marker == _BOOLEAN:
            return self.number(1) != 0
        if marker == _STRING:
            return self.text(self.number(2))
        if marker in (_LONG, _XML):
            return self.text(self.number(4))
        if marker in (_NULL, _UNDEFINED, _UNSUPPORTED):
            return None
        if marker in (_OBJECT, _TYPED, _ECMA):
            return self._object(marker, depth)
        if marker == _STRICT:
            return self._array(depth)
        if marker == _DATE:
            milliseconds = self.double()
            self.take(2)
            return milliseconds
        if marker == _REFERENCE:
            index = self.number(2)
            if index >= len(self.objects):
                raise AmfError(f"AMF reference to object {index} of {len(self.objects)} at byte {self.at}")
            return self.objects[index]
        if marker == _AMF3:
            return self.value3(depth + 1)
        raise AmfError(f"AMF marker {marker} at byte {self.at - 1}")

    def _object(self, marker: int, depth: int) -> Amf:
        if marker == _TYPED:
            self.take(self.number(2))
        if marker == _ECMA:
            self.take(4)  # a count that writers get wrong; the end marker rules
        found: dict[str, Amf] = {}
        self.objects.append(found)
        while True:
            name = self.text(self.number(2))
            if not name and self.at < len(self.data) and self.data[self.at] == _END:
                self.at += 1
                return found
            if marker == _ECMA and not name and self.at >= len(self.data):
                return found
            found[name] = self.value(depth + 1)

    def _array(self, depth: int) -> Amf:
        count = self.number(4)
        if count > len(self.data) - self.at:
            raise AmfError(f"AMF array of {count} values in {len(self.data) - self.at} bytes at byte {self.at}")
        items: list[Amf] = []
        self.objects.append(items)
        items.extend(self.value(depth + 1) for _ in range(count))
        return items

    # AMF3

    def u29(self) -> int:
        number = 0
        for n in range(4):
            byte = self.number(1)
            if n == 3:
                return number << 8 | byte
            number = number << 7 | byte & 0x7F
            if not byte & 0x80:
                break
        return number

    def text3(self) -> str:
        head = self.u29()
        if not head & 1:
            if head >> 1 >= len(self.strings3):
                raise AmfError(f"AMF3 reference to string {head >> 1} of {len(self.strings3)} at byte {self.at}")
            return self.strings3[head >> 1]
        text = self.text(head >> 1)
        if text:
            self.strings3.append(text)
        return text

    def _object3(self, head: int) -> Amf:
        if head >> 1 >= len(self.objects3):
            raise AmfError(f"AMF3 reference to object {head >> 1} of {len(self.objects3)} at byte {self.at}")
        return self.objects3[head >> 1]

    def value3(self, depth: int = 0) -> Amf:
        if depth > _DEEPEST:
            raise AmfError(f"AMF nested deeper than {_DEEPEST} at byte {self.at}")
        marker = self.number(1)  # AMF3, section 3.1
        if marker in (0, 1):
            return None
        if marker in (2, 3):
            return marker == 3
        if marker == 4:
            number = self.u29()
            return float(number - (1 << 29) if number >> 28 else number)
        if marker == 5:
            return self.double()
        if marker == 6:
            return self.text3()
        if marker not in (7, 8, 9, 10, 11, 12):
            raise AmfError(f"AMF3 marker {marker} at byte {self.at - 1}")
        head = self.u29()
        if not head & 1:
            return self._object3(head)
        if marker in (7, 11, 12):
            blob: Amf = self.take(head >> 1) if marker == 12 else self.text(head >> 1)
            self.objects3.append(blob)
            return blob
        if marker == 8:
            date = self.double()
            self.objects3.append(date)
            return date
        if marker == 9:
            return self._array3(head >> 1, depth)
        return self._traits3(head, depth)

    def _array3(self, count: int, depth: int) -> Amf:
        if count > len(self.data) - self.at:
            raise AmfError(f"AMF3 array of {count} values in {len(self.data) - self.at} bytes at byte {self.at}")
        items: list[Amf] = []
        place = len(self.objects3)
        self.objects3.append(items)
        named: dict[str, Amf] = {}
        while name := self.text3():
            named[name] = self.value3(depth + 1)
        items.extend(self.value3(depth + 1) for _ in range(count))
        if not named:
            return items
        named |= {str(n): item for n, item in enumerate(items)}
        self.objects3[place] = named
        return named

    def _traits3(self, head: int, depth: int) -> Amf:
        if head & 2:
            if head & 4:
                raise AmfError(f"AMF3 object with an encoding of its own at byte {self.at}")
            names_wanted = head >> 4
            if names_wanted > len(self.data) - self.at:
                raise AmfError(f"AMF3 object of {names_wanted} names at byte {self.at}")
            self.text3()
            traits = (bool(head & 8), False, [self.text3() for _ in range(names_wanted)])
            self.traits3.append(traits)
        else:
            if head >> 2 >= len(self.traits3):
                raise AmfError(f"AMF3 reference to traits {head >> 2} of {len(self.traits3)} at byte {self.at}")
            traits = self.traits3[head >> 2]
        found: dict[str, Amf] = {}
        self.objects3.append(found)
        for name in traits[2]:
            found[name] = self.value3(depth + 1)
        if traits[0]:
            while name := self.text3():
                found[name] = self.value3(depth + 1)
        return found


def decode(data: bytes | bytearray | memoryview) -> list[Amf]:
    """All AMF0 values in ``data``. Raises AmfError."""
    reader = _Reader(data)
    values: list[Amf] = []
    while reader.at < len(reader.data):
        values.append(reader.value())
    return values


def decode3(data: bytes | bytearray | memoryview) -> list[Amf]:
    """The values of an AMF3 command or data message (RTMP types 17 and 15).

    Such a message begins with a format byte of 0 and holds AMF0 values, each of which may switch to AMF3.
    Raises AmfError.
    """
    if len(data) and data[0] == 0:
        return decode(data[1:])
    reader = _Reader(data)
    values: list[Amf] = []
    while reader.at < len(reader.data):
        values.append(reader.value3() if values or reader.data[0] == 6 else reader.value())
    return values


def _short(text: str) -> bytes:
    raw = text.encode()
    if len(raw) > 0xFFFF:
        raise AmfError(f"a name of {len(raw)} bytes; AMF0 allows 65535")
    return struct.pack(">H", len(raw)) + raw


def encode_value(value: Amf) -> bytes:
    """One value in AMF0. Raises AmfError for what AMF0 cannot hold."""
    if value is None:
        return bytes([_NULL])
    if isinstance(value, bool):
        return bytes([_BOOLEAN, value])
    if isinstance(value, int | float):
        return bytes([_NUMBER]) + _DOUBLE.pack(value)
    if isinstance(value, str):
        raw = value.encode()
        if len(raw) > 0xFFFF:
            return struct.pack(">BI", _LONG, len(raw)) + raw
        return struct.pack(">BH", _STRING, len(raw)) + raw
    if isinstance(value, dict):
        body = b"".join(_short(name) + encode_value(item) for name, item in value.items()) + b"\x00\x00\x09"
        if isinstance(value, EcmaArray):
            return struct.pack(">BI", _ECMA, len(value)) + body
        return bytes([_OBJECT]) + body
    if isinstance(value, list | tuple):
        return struct.pack(">BI", _STRICT, len(value)) + b"".join(map(encode_value, value))
    raise AmfError(f"AMF0 cannot hold a {type(value).__name__}")


def encode(values: Iterable[Amf]) -> bytes:
    """Values one behind the other in AMF0."""
    return b"".join(map(encode_value, values))


def _u29(number: int) -> bytes:
    if number < 0x80:
        return bytes([number])
    if number < 0x4000:
        return bytes([0x80 | number >> 7, number & 0x7F])
    if number < 0x200000:
        return bytes([0x80 | number >> 14, 0x80 | number >> 7 & 0x7F, number & 0x7F])
    if number < 1 << 29:
        return bytes([0x80 | number >> 22, 0x80 | number >> 15 & 0x7F, 0x80 | number >> 8 & 0x7F, number & 0xFF])
    raise AmfError(f"{number} does not fit 29 bits")


def _text3(text: str) -> bytes:
    raw = text.encode()
    return _u29(len(raw) << 1 | 1) + raw


def encode_value3(value: Amf) -> bytes:
    """One value in AMF3 without references. Raises AmfError for what AMF3 cannot hold."""
    if value is None:
        return b"\x01"
    if isinstance(value, bool):
        return b"\x03" if value else b"\x02"
    if isinstance(value, int | float):
        if isinstance(value, int) and 0 <= value < 1 << 28:
            return b"\x04" + _u29(value)
        return b"\x05" + _DOUBLE.pack(value)
    if isinstance(value, str):
        return b"\x06" + _text3(value)
    if isinstance(value, bytes):
        return b"\x0c" + _u29(len(value) << 1 | 1) + value
    if isinstance(value, dict):
        body = b"".join(_text3(name) + encode_value3(item) for name, item in value.items() if name)
        return b"\x0a\x0b\x01" + body + b"\x01"
    if isinstance(value, list | tuple):
        return b"\x09" + _u29(len(value) << 1 | 1) + b"\x01" + b"".join(map(encode_value3, value))
    raise AmfError(f"AMF3 cannot hold a {type(value).__name__}")
