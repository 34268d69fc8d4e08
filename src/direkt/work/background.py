"""A connection that runs in an event loop and a thread of its own; what it tells is measured by whoever polls."""

from __future__ import annotations

import asyncio
import contextlib
import queue
import threading
import time
from abc import ABC, abstractmethod

from direkt.net import loops
from direkt.net.transport import ReceiverEvent
from direkt.work.reception import Rehearsal

_PATIENCE = 8.0  # s for a good end


class Background(ABC):
    """The thread and what it told. It touches nothing that is measured; close it when done."""

    def __init__(self, protocol: str) -> None:
        self.rehearsal = Rehearsal(protocol)
        self._told: queue.SimpleQueue[tuple[float, ReceiverEvent]] = queue.SimpleQueue()
        self._loop = asyncio.new_event_loop()
        self._task: asyncio.Task[None] | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)

    @abstractmethod
    async def _work(self) -> None:
        """All that it does; it is cancelled by close()."""

    def start(self) -> None:
        """Begins."""
        self._thread.start()

    def poll(self) -> None:
        """Measures what was told since."""
        for _ in range(self._told.qsize()):
            when, event = self._told.get()
            self.rehearsal.take(event, when)

    def close(self) -> None:
        """Ends it in good order, and measures the rest."""
        self.poll()
        self.rehearsal.closing = True
        if self._thread.is_alive():
            with contextlib.suppress(RuntimeError):  # it has just ended by itself
                self._loop.call_soon_threadsafe(self._cancel)
            self._thread.join(_PATIENCE)
        self.poll()

    def _tell(self, event: ReceiverEvent) -> None:
        self._told.put((time.monotonic(), event))

    def _cancel(self) -> None:
        if self._task is not None:
            self._task.cancel()

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._task = self._loop.create_task(self._work())
        with contextlib.suppress(asyncio.CancelledError):
            self._loop.run_until_complete(self._task)
        loops.end(self._loop)
