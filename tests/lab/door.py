"""A server that lets a client of RTMP 1.0 shake hands and connect, and nothing else: bytes by the specification's own tables."""

from __future__ import annotations

import socket
import struct
import threading


def _string(text: str) -> bytes:
    return b"\x02" + struct.pack(">H", len(text)) + text.encode()


def _result() -> bytes:
    """_result of connect, transaction 1, in one chunk of stream 3 (RTMP 1.0, 7.2.1.1)."""
    info = b"\x03" + struct.pack(">H", 5) + b"level" + _string("status") + struct.pack(">H", 4) + b"code" + _string("NetConnection.Connect.Success")
    body = _string("_result") + b"\x00" + struct.pack(">d", 1.0) + b"\x05" + info + b"\x00\x00\x09"
    head = b"\x03" + b"\0\0\0" + len(body).to_bytes(3, "big") + b"\x14" + b"\0\0\0\0"
    size = b"\x02" + b"\0\0\0" + b"\0\0\4" + b"\x01" + b"\0\0\0\0" + struct.pack(">I", 4096)  # a chunk size that holds it whole
    return size + head + body


class Door:
    def __init__(self) -> None:
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.address = f"rtmp://127.0.0.1:{self._listening.getsockname()[1]}/reed"
        threading.Thread(target=self._run, daemon=True).start()

    def close(self) -> None:
        self._listening.close()

    def _run(self) -> None:
        while True:
            try:
                peer, _ = self._listening.accept()
            except OSError:
                return
            threading.Thread(target=self._one, args=(peer,), daemon=True).start()

    @staticmethod
    def _one(peer: socket.socket) -> None:
        with peer:
            peer.settimeout(5)
            try:
                got = b""
                while len(got) < 1537:
                    got += peer.recv(4096) or b"\0" * 2000
                peer.sendall(b"\x03" + bytes(1536) + got[1:1537])
                while b"connect" not in got[1537:]:
                    more = peer.recv(4096)
                    if not more:
                        return
                    got += more
                peer.sendall(_result())
                while peer.recv(4096):
                    pass
            except OSError:
                return
