"""Fetching a stream that a device gives out: a puller in a thread of its own, and what it brings, measured by whoever polls."""

from __future__ import annotations

import asyncio
import contextlib
import queue
import ssl
import threading
import time
from dataclasses import dataclass

from direkt.net.transport import FetchError, ReceiverEvent, puller
from direkt.protocol.source import SOURCES, SourceAddress
from direkt.secret import Secret
from direkt.work.catch import TICK, Tick
from direkt.work.reception import Rehearsal
from direkt.work.steps import Clock, Job


@dataclass(frozen=True, slots=True)
class Fetched:
    """The result; what came is in the fetch's rehearsal."""

    failure: str  # why it ended before its time; empty: it did not
    interrupted: bool


class Fetch:
    """One stream. Close it when done; a with statement does."""

    def __init__(
        self,
        address: SourceAddress,
        login: tuple[str, Secret] | None,
        *,
        by: str = "",
        tls: ssl.SSLContext | None = None,
    ) -> None:
        protocol = SOURCES[address.scheme].name
        self.rehearsal = Rehearsal(protocol)
        self.failure: str | None = None  # why it ended
        self._events: queue.SimpleQueue[tuple[float, ReceiverEvent]] = queue.SimpleQueue()
        self._loop = asyncio.new_event_loop()
        self._puller = puller(address, login, self._tell, by=by, tls=tls)
        self._task: asyncio.Task[None] | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._task = self._loop.create_task(self._pull())
        with contextlib.suppress(asyncio.CancelledError):
            self._loop.run_until_complete(self._task)
        self._loop.close()

    async def _pull(self) -> None:
        try:
            await self._puller.run()
            self.failure = "it ended"
        except FetchError as error:
            self.failure = str(error)

    def _tell(self, event: ReceiverEvent) -> None:
        self._events.put((time.monotonic(), event))

    def poll(self) -> None:
        """Measures what came since."""
        for _ in range(self._events.qsize()):
            when, event = self._events.get()
            self.rehearsal.take(event, when)

    def close(self) -> None:
        """Ends it, and measures the rest."""
        self.poll()
        self.rehearsal.closing = True
        if self._thread.is_alive():
            with contextlib.suppress(RuntimeError):
                self._loop.call_soon_threadsafe(self._cancel)
            self._thread.join(5)
        self.poll()

    def _cancel(self) -> None:
        if self._task is not None:
            self._task.cancel()

    def __enter__(self) -> Fetch:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def fetch(fetching: Fetch, clock: Clock, *, seconds: float) -> Job[Tick, Fetched]:
    """Measures what comes until ``seconds`` after it began, or until it ends; the stream is closed at the end."""
    begin = clock.now()
    interrupted = False
    try:
        while fetching.failure is None:
            clock.sleep(TICK)
            fetching.poll()
            now, rehearsal = clock.now(), fetching.rehearsal
            yield Tick(now, now - begin)
            if rehearsal.first is not None and rehearsal.elapsed(now) >= seconds:
                break
        failure = fetching.failure or ""
    except KeyboardInterrupt:
        interrupted, failure = True, ""
    finally:
        fetching.close()
    return Fetched(failure, interrupted)
