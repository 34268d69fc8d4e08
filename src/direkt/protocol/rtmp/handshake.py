"""The RTMP handshake (section 5.2): C0 C1 C2 and S0 S1 S2. Bytes in, bytes out; at most 3073 are held."""

from __future__ import annotations

from direkt.protocol.rtmp.errors import RtmpError

VERSION = 3
SIZE = 1536


class Handshake:
    """One end's handshake. The server answers; the client begins (``start``)."""

    def __init__(self, *, client: bool, random: bytes, time: int = 0) -> None:
        """``random``: 1528 bytes that the peer must send back; ``time``: ms."""
        if len(random) != SIZE - 8:
            raise ValueError(f"{len(random)} random bytes; expected {SIZE - 8}")
        self._client = client
        self._own = (time & 0xFFFFFFFF).to_bytes(4, "big") + bytes(4) + random
        self._held = bytearray()
        self._seen_one = False
        self.done = False
        self.sent = 0  # bytes

    def start(self) -> bytes:
        """C0 and C1."""
        self.sent += 1 + SIZE
        return bytes([VERSION]) + self._own

    def receive(self, data: bytes | memoryview) -> bytes:
        """Takes the peer's bytes; returns what to send. Raises RtmpError when they are no handshake."""
        self._held += data
        out = b""
        if not self._seen_one:
            if self._held and self._held[0] != VERSION:
                raise RtmpError(_not_rtmp(bytes(self._held[:8])))
            if len(self._held) < 1 + SIZE:
                return b""
            theirs = bytes(self._held[1 : 1 + SIZE])
            del self._held[: 1 + SIZE]
            self._seen_one = True
            echo = theirs[:4] + self._own[:4] + theirs[8:]
            out = echo if self._client else bytes([VERSION]) + self._own + echo
            self.sent += len(out)
        if len(self._held) >= SIZE:
            # what the peer echoes is not checked: many send something of their own, and nothing rests on it
            del self._held[:SIZE]
            self.done = True
        return out

    def rest(self) -> bytes:
        """Bytes that came behind the handshake."""
        rest = bytes(self._held)
        self._held.clear()
        return rest


def _not_rtmp(start: bytes) -> str:
    if start[:2] == b"\x16\x03":
        return "not RTMP but TLS: the device is set to rtmps://; use rtmp:// here"
    if start[:4] in (b"GET ", b"POST", b"OPTI", b"HEAD"):
        return "not RTMP but HTTP: the device is set to http://; use rtmp://"
    return f"not RTMP: the first byte is 0x{start[0]:02x}, expected 0x{VERSION:02x}"
