"""The ingest of a simulated platform: one RTMP or RTMPS port for all its events, which are told apart by their keys."""

from __future__ import annotations

import contextlib
import queue
import ssl
import threading
import time
from collections.abc import Callable

from direkt.measure.meter import Measurement
from direkt.net.connect import Connection
from direkt.net.listener import Listener
from direkt.net.rtmp import Publishing
from direkt.net.transport import HANDSHAKE_LIMIT, ReceiverEvent
from direkt.protocol.rtmp.session import TagMessage
from direkt.work.stream.reception import Rehearsal

_SILENCE = 8.0  # s without a byte
_MOST_WAITING = 4000  # events that wait to be measured


class Sink:
    """Where one push of one event arrives."""

    def __init__(self, protocol: str) -> None:
        self.rehearsal = Rehearsal(protocol)
        self.since: float | None = None  # s since 1970 at which the present push began
        self.connection: Connection | None = None
        self.took: list[Callable[[ReceiverEvent], None]] = []  # who else wants what comes
        self._lock = threading.Lock()  # several may ask at once
        self._told: queue.SimpleQueue[tuple[float, ReceiverEvent]] = queue.SimpleQueue()

    def tell(self, event: ReceiverEvent) -> None:
        """From the port's event loop."""
        if self._told.qsize() < _MOST_WAITING:
            self._told.put((time.monotonic(), event))

    def poll(self) -> None:
        """Measures what came."""
        with self._lock:
            for _ in range(self._told.qsize()):
                when, event = self._told.get()
                for take in self.took:
                    take(event)
                self.rehearsal.take(event, when)

    def snapshot(self) -> Measurement:
        """The values so far."""
        with self._lock:
            return self.rehearsal.snapshot()

    def cut(self) -> None:
        """Ends the connection, from the port's event loop."""
        connection = self.connection
        if connection is not None:
            with contextlib.suppress(OSError):
                connection.writer.transport.abort()


class Port:
    """One port. ``find`` is asked for the sink of a key; a text says why there is none."""

    def __init__(self, app: str, find: Callable[[str], Sink | str]) -> None:
        self.app, self.find = app, find
        self._listener = Listener(self._serve, lambda *_: None)

    async def start(self, host: str, port: int, tls: ssl.SSLContext | None = None) -> int:
        """Opens it. Raises OSError."""
        return await self._listener.start(host, port, tls, HANDSHAKE_LIMIT)

    async def stop(self) -> None:
        """Closes it and all connections."""
        await self._listener.stop()

    async def _serve(self, connection: Connection, peer: str) -> None:
        await Publishing(_Counter(self, connection), connection, peer).run()


class _Counter:
    """Who admits one connection."""

    handshake_limit = HANDSHAKE_LIMIT
    silence_limit = _SILENCE

    def __init__(self, port: Port, connection: Connection) -> None:
        self._port, self._connection = port, connection
        self._sink: Sink | None = None
        self._mine = False

    def admits(self, app: str) -> str | None:
        """Only its one application."""
        return None if app == self._port.app else "no such application"

    def knows(self, key: str) -> str | None:
        """Whether an event that takes pushes has this key."""
        found = self._port.find(key)
        if isinstance(found, str):
            return found
        self._sink = found
        return None

    def claim(self, connection: Publishing) -> bool:
        """One push at a time."""
        sink = self._sink
        if sink is None or sink.connection is not None:
            return False
        sink.connection, sink.since, self._mine = self._connection, time.time(), True
        return True

    def release(self) -> None:
        """It is gone."""
        if self._sink is not None and self._mine:
            self._sink.connection, self._sink.since = None, None

    def record(self, message: TagMessage) -> None:
        """Nothing is recorded."""

    def tell(self, event: ReceiverEvent) -> None:
        """To the sink, once it is known."""
        if self._sink is not None:
            self._sink.tell(event)
