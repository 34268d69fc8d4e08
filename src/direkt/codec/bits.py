"""Bits in and out of bytes, with the Exp-Golomb codes and the emulation prevention that H.264 and H.265 share.

The reader holds the bytes as one integer, so a read is a shift and a mask. That costs O(n) for a read in n
bytes: right for headers of some tens of bytes, wrong for payloads, which nothing here reads.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from direkt.errors import Malformed

if TYPE_CHECKING:
    from direkt.media import Buffer


class BitstreamError(Malformed):
    """A header that breaks its standard or ends too early."""


class BitReader:
    """Reads bits from the most significant end. Raises BitstreamError past the end."""

    __slots__ = ("_size", "_value", "position")

    def __init__(self, data: bytes | bytearray | memoryview) -> None:
        self._value = int.from_bytes(data, "big")
        self._size = len(data) * 8
        self.position = 0  # bits

    @property
    def left(self) -> int:
        """Bits not read yet."""
        return self._size - self.position

    def u(self, bits: int) -> int:
        """An unsigned number of ``bits`` bits (0 to any)."""
        self.position += bits
        shift = self._size - self.position
        if shift < 0:
            raise BitstreamError(f"the header ends {-shift} bits too early")
        return (self._value >> shift) & ((1 << bits) - 1)

    def flag(self) -> bool:
        """One bit."""
        return self.u(1) == 1

    def ue(self) -> int:
        """ue(v), H.264 clause 9.1: an unsigned Exp-Golomb number below 2^32 - 1."""
        zeros = 0
        while not self.u(1):
            zeros += 1
            if zeros > 32:
                raise BitstreamError("an Exp-Golomb number is longer than 32 bits")
        return (1 << zeros) - 1 + self.u(zeros)

    def se(self) -> int:
        """se(v), H.264 clause 9.1.1: a signed Exp-Golomb number."""
        number = self.ue()
        return (number + 1) // 2 if number & 1 else -(number // 2)


def u(value: int, bits: int) -> str:
    """``value`` as ``bits`` binary digits."""
    return format(value, f"0{bits}b") if bits else ""


def ue(value: int) -> str:
    """``value`` as ue(v), H.264 clause 9.1."""
    digits = format(value + 1, "b")
    return "0" * (len(digits) - 1) + digits


def se(value: int) -> str:
    """``value`` as se(v), H.264 clause 9.1.1."""
    return ue(2 * value - 1 if value > 0 else -2 * value)


def pack(digits: str) -> bytes:
    """Binary digits as bytes; zeros fill the last one."""
    digits += "0" * (-len(digits) % 8)
    return int(digits, 2).to_bytes(len(digits) // 8, "big") if digits else b""


def stop(digits: str) -> bytes:
    """Binary digits as an RBSP with its trailing bits (H.264 clause 7.3.2.11)."""
    return pack(digits + "1")


def unescape(data: Buffer) -> bytes:
    """A NAL unit's payload without its emulation prevention bytes (7.4.1.1)."""
    data = bytes(data)
    if b"\x00\x00\x03" not in data:
        return data
    out = bytearray()
    start = 0
    while (at := data.find(b"\x00\x00\x03", start)) >= 0:
        out += data[start : at + 2]
        start = at + 3
    return bytes(out + data[start:])


_NEEDS_ESCAPE = re.compile(rb"\x00\x00(?=[\x00-\x03])")


def escape(rbsp: bytes) -> bytes:
    """``rbsp`` (which ends in its trailing bits) with emulation prevention bytes (7.4.1.1)."""
    if b"\x00\x00" not in rbsp:
        return rbsp
    return _NEEDS_ESCAPE.sub(b"\x00\x00\x03", rbsp)
