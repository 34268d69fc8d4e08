"""Receiving a push: a receiver in a thread of its own, and what it takes, measured by whoever polls.

The receiver's thread does nothing but receive and record; measuring happens in poll(), in the caller's thread, so that
neither waits for the other and nothing needs a lock.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import logging
import ssl
import threading
import time
from concurrent.futures import Future
from dataclasses import dataclass, replace
from pathlib import Path

from direkt.errors import NoAnswer, os_words
from direkt.measure.meter import Measurement, Meter
from direkt.net import loops
from direkt.net.transport import (
    Arrived,
    Left,
    Receiver,
    ReceiverEvent,
    Recorder,
    RecordingEnded,
    TurnedAway,
    transport,
)
from direkt.protocol.schemes import Scheme
from direkt.secret import Secret
from direkt.work.stream.inbox import Inbox

_PATIENCE = 1.0  # s for a good end
_MEASURED = 0.5  # s for measuring the rest
_MOST_KEPT = 100  # gaps, and kinds of refusals


@dataclass(slots=True)
class PushGap:
    """A time in which nobody pushed, between two times in which somebody did."""

    at: float  # s after the first publisher came
    seconds: float | None  # None: still open
    reason: str


@dataclass(frozen=True, slots=True)
class RefusedPeers:
    """Connections that were turned away for one reason."""

    peer: str  # the latest
    reason: str
    count: int


class Rehearsal:
    """What came, measured. Every event brings the time (s of a steady clock) at which it happened."""

    def __init__(self, protocol: str) -> None:
        self.meter = Meter(protocol)
        self.peer: str | None = None  # who publishes now
        self.first: float | None = None  # when the first publisher came
        self.gaps: list[PushGap] = []
        self.refusals: dict[str, RefusedPeers] = {}  # by reason, the latest last
        self.more_refusals = 0  # of further kinds
        self.recording: Path | None = None  # where it is, once the port is closed
        self.recording_ended: tuple[float, str] | None = None  # s after the first publisher came, and why
        self.closing = False  # that a publisher leaves now is our own doing

    def elapsed(self, now: float) -> float:
        """Seconds since the first publisher came; 0 before."""
        return 0.0 if self.first is None else now - self.first

    def take(self, event: ReceiverEvent, now: float) -> None:
        """One event of the receiver."""
        if isinstance(event, Arrived):
            self.peer = event.peer
            if self.first is None:
                self.first = now
            elif self.gaps and self.gaps[-1].seconds is None:
                self.gaps[-1].seconds = self.elapsed(now) - self.gaps[-1].at
        elif isinstance(event, Left):
            self.meter.interrupt()
            self.peer = None
            if len(self.gaps) < _MOST_KEPT and not self.closing:
                self.gaps.append(PushGap(self.elapsed(now), None, event.reason))
        elif isinstance(event, TurnedAway):
            self._turn_away(event)
        elif isinstance(event, RecordingEnded):
            self.recording_ended = (self.elapsed(now), event.reason)
        else:
            self.meter.add(event)

    def _turn_away(self, event: TurnedAway) -> None:
        known = self.refusals.pop(event.reason, None)
        if known is not None:
            self.refusals[event.reason] = replace(known, peer=event.peer, count=known.count + 1)
        elif len(self.refusals) < _MOST_KEPT:
            self.refusals[event.reason] = RefusedPeers(event.peer, event.reason, 1)
        else:
            self.more_refusals += 1

    def snapshot(self) -> Measurement:
        """The values so far."""
        return self.meter.snapshot()


class PortError(NoAnswer):
    """The port cannot be opened."""


class Reception:
    """An open port and what came through it. Close it when done; a with statement does."""

    def __init__(
        self, scheme: Scheme, app: str, key: Secret, *, recorder: Recorder | None = None, tls: ssl.SSLContext | None = None
    ) -> None:  # fmt: skip
        self.scheme = scheme
        self.rehearsal = Rehearsal(scheme.name)
        self._recorder = recorder
        self._tls = tls
        self._inbox = Inbox()
        self._loop = asyncio.new_event_loop()
        self._receiver: Receiver = transport(scheme.name).receiver(app, key, self._tell, recorder)
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._open = False

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_forever()
        loops.end(self._loop)

    def _tell(self, event: ReceiverEvent) -> None:
        self._inbox.put(event)

    def open(self, host: str | None, port: int) -> int:
        """Opens the port (0: any free one) and returns it. Raises PortError."""
        logging.getLogger("asyncio").setLevel(logging.CRITICAL)  # a failed TLS handshake is no news to a person
        self._thread.start()
        self._open = True
        started: Future[int] = asyncio.run_coroutine_threadsafe(self._receiver.start(host, port, self._tls), self._loop)
        try:
            return started.result()
        except OSError as error:
            self.close()
            used = "it is in use: is another rehearsal running? Choose another with --port"
            reason = used if error.errno == errno.EADDRINUSE else os_words(error)
            raise PortError(f"port {port} cannot be opened: {reason}") from None

    def poll(self) -> None:
        """Measures what came since; what takes too long waits for the next time."""
        self._inbox.take(self.rehearsal.take)

    def close(self) -> None:
        """Closes the port, ends the recording, and measures the rest."""
        if not self._open:
            return
        self._open = False
        self._inbox.take(self.rehearsal.take)
        self.rehearsal.closing = True
        stopped = asyncio.run_coroutine_threadsafe(self._receiver.stop(), self._loop)
        try:
            with contextlib.suppress(TimeoutError):
                stopped.result(_PATIENCE)
        finally:
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join(_PATIENCE)
            self._inbox.drain(self.rehearsal.take, _MEASURED)
            if self._recorder is not None:
                try:
                    self._recorder.close()
                except OSError as error:
                    self.rehearsal.take(RecordingEnded(os_words(error)), time.monotonic())
                self.rehearsal.recording = self._recorder.path

    def __enter__(self) -> Reception:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
