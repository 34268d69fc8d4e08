"""A connection that runs in an event loop and a thread of its own; what it tells is measured by whoever polls.

It ends within two seconds, whatever it is in the middle of: its loops look at a flag, its waits are cancelled, and what does not end by
that is left to itself with its connections cut.
"""

from __future__ import annotations

import asyncio
import contextlib
import threading
from abc import ABC, abstractmethod

from direkt.net import loops
from direkt.net.transport import ReceiverEvent
from direkt.work.stream.inbox import Inbox
from direkt.work.stream.reception import Rehearsal

_PATIENCE = 1.2  # s for a good end
_CUT = 0.4  # s for one that is none
_MEASURED = 0.5  # s for measuring the rest


class Background(ABC):
    """The thread and what it told. It touches nothing that is measured; close it when done."""

    def __init__(self, protocol: str) -> None:
        self.rehearsal = Rehearsal(protocol)
        self.ending = False  # what runs looks at it, and ends
        self._inbox = Inbox()
        self._loop = asyncio.new_event_loop()
        self._task: asyncio.Task[None] | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)

    @abstractmethod
    async def _work(self) -> None:
        """All that it does; it is cancelled by close(), and looks at ``ending``."""

    def start(self) -> None:
        """Begins."""
        self._thread.start()

    def poll(self) -> None:
        """Measures what was told since; what takes too long waits for the next time."""
        self._inbox.take(self.rehearsal.take)

    def close(self) -> None:
        """Ends it in good order, and measures the rest."""
        self.ending = True
        self._inbox.take(self.rehearsal.take)
        self.rehearsal.closing = True
        for patience in (_PATIENCE, _CUT):
            if not self._thread.is_alive():
                break
            with contextlib.suppress(RuntimeError):  # it has just ended by itself
                self._loop.call_soon_threadsafe(self._cancel, patience == _CUT)
            self._thread.join(patience)
        self._inbox.drain(self.rehearsal.take, _MEASURED)

    def _tell(self, event: ReceiverEvent) -> None:
        self._inbox.put(event)

    def _cancel(self, everything: bool) -> None:
        """``everything``: also what the work began; it had its time."""
        if self._task is not None:
            self._task.cancel()
        if everything:
            for task in asyncio.all_tasks(self._loop):
                task.cancel()

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._task = self._loop.create_task(self._work())
        with contextlib.suppress(asyncio.CancelledError):
            self._loop.run_until_complete(self._task)
        loops.end(self._loop)
