"""What simulated gear says when somebody probes for devices (WS-Discovery over multicast)."""

from __future__ import annotations

import contextlib
import socket
import struct
import threading
import time
import uuid
from collections import deque
from collections.abc import Callable

from direkt.errors import Malformed
from direkt.net import discovery as net
from direkt.protocol import discovery

_REMEMBERED = 256  # probes


class Beacon:
    """Answers probes for one device; ``tell`` gives its scopes and addresses, nothing while it is off."""

    def __init__(self, tell: Callable[[], tuple[list[str], list[str]] | None], *, answers: int = 2) -> None:
        self.endpoint = f"urn:uuid:{uuid.uuid4()}"
        self._since, self._messages = int(time.time()), 0
        self._answered: deque[str] = deque(maxlen=_REMEMBERED)  # probes, by their ids
        self._turn = threading.Lock()
        self._tell, self._answers = tell, answers
        self._sockets: list[socket.socket] = []

    def start(self) -> None:
        """Listens on every interface; one that takes no multicast is left out. Raises OSError where the port cannot be had."""
        for listener in (_listener4(), _listener6()):
            if listener is not None:
                self._sockets.append(listener)
                threading.Thread(target=self._serve, args=(listener,), daemon=True).start()

    def stop(self) -> None:
        """Falls silent."""
        for one in self._sockets:
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
            one.close()
        self._sockets.clear()

    def _serve(self, listener: socket.socket) -> None:
        while True:
            try:
                data, peer = listener.recvfrom(65536)
            except OSError:
                return
            answer = self.answer(data)
            for _ in range(self._answers if answer else 0):
                with contextlib.suppress(OSError):
                    listener.sendto(answer, peer)

    def answer(self, data: bytes) -> bytes:
        """The answer to a datagram; empty: none."""
        try:
            asked = discovery.read_probe(data)
        except Malformed:
            return b""
        told = self._tell()
        if told is None or not asked.message_id:
            return b""
        types = {"NetworkVideoTransmitter": discovery.NETWORK, "Device": discovery.DEVICE}
        scopes, addresses = told
        meant = asked.endpoint == self.endpoint if asked.endpoint else asked.matches([(ns, name) for name, ns in types.items()], scopes)
        if not meant:
            return b""
        with self._turn:
            if asked.message_id in self._answered:  # it was sent more than once, as UDP wants it
                return b""
            self._answered.append(asked.message_id)
            self._messages += 1
            sequence = self._since, self._messages
        return discovery.probe_matches(asked, f"urn:uuid:{uuid.uuid4()}", self.endpoint, types, scopes, addresses, sequence)


def _listener4() -> socket.socket | None:
    made = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    made.bind(("", discovery.PORT))
    joined = False
    for one in net.interfaces():
        if not one.is_ipv6:
            with contextlib.suppress(OSError):
                group = socket.inet_aton(discovery.GROUP4) + socket.inet_aton(one.address)
                made.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, group)
                joined = True
    if not joined:
        made.close()
    return made if joined else None


def _listener6() -> socket.socket | None:
    try:
        made = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
    except OSError:
        return None
    try:
        made.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        made.bind(("::", discovery.PORT))
        for index in {one.index for one in net.interfaces() if one.is_ipv6}:
            with contextlib.suppress(OSError):
                group = socket.inet_pton(socket.AF_INET6, discovery.GROUP6) + struct.pack("@I", index)
                made.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_JOIN_GROUP, group)
    except OSError:
        made.close()
        return None
    return made
