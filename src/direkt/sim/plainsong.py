"""Plainsong, a simulated small channel: an ingest with one key for good, and nothing else. Events there are worked by hand."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import threading

from direkt.net import loops
from direkt.protocol.address import ServerAddress
from direkt.sim.ingest import Port, Sink


class Plainsong:
    """The channel. start() opens its port on the loopback interface."""

    def __init__(self, key: str, *, port: int = 0) -> None:
        self._key, self.port = key, port
        self.sink = Sink("rtmp")
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._over = threading.Event()
        self._ingest = Port("village", self._find)

    def _find(self, key: str) -> Sink | str:
        return self.sink if secrets.compare_digest(key.encode(), self._key.encode()) else "no such key"

    def start(self) -> None:
        """Opens its port. Raises OSError."""
        self._thread.start()
        started = asyncio.run_coroutine_threadsafe(self._ingest.start("127.0.0.1", self.port), self._loop)
        try:
            self.port = started.result(5)
        except OSError:
            self.stop()
            raise
        threading.Thread(target=self._look_after, daemon=True).start()

    def stop(self) -> None:
        """Closes it."""
        self._over.set()
        with contextlib.suppress(Exception):
            asyncio.run_coroutine_threadsafe(self._ingest.stop(), self._loop).result(5)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_forever()
        loops.end(self._loop)

    def _look_after(self) -> None:
        while not self._over.wait(0.25):
            self.sink.poll()

    @property
    def address(self) -> str:
        """Of its ingest."""
        return str(ServerAddress("rtmp", "127.0.0.1", self.port, "village"))
