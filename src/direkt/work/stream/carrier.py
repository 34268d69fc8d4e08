"""Carrying a stream in a thread of its own: fetch it from the camera, hand it to the platform, and begin again when either goes.

The thread does nothing but carry. What it sends is told to whoever polls, and measured there, as for a push that is received.
"""

from __future__ import annotations

import asyncio
import contextlib
import ssl
import time
from collections import deque
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from direkt.media import Damaged, Format, MediaEvent, Odd, Samples, Scalar
from direkt.net.transport import (
    Arrived,
    FetchError,
    Left,
    LoginRefused,
    Publisher,
    PublishError,
    PublishRefused,
    ReceiverEvent,
    puller,
    transport,
)
from direkt.protocol.address import ServerAddress
from direkt.protocol.source import SourceAddress
from direkt.secret import Secret
from direkt.work.stream.background import Background
from direkt.work.stream.relay import PLAIN, CannotCarry, Relay, Silence

_PAUSES = (1.0, 2.0, 4.0, 8.0, 10.0)  # s between tries
_MOST_WAITING = 12 << 20  # bytes that wait to be sent: then the line is too thin
_SOURCE_GONE = 12.0  # s without the camera after which the push is ended, to begin anew with it
_REFUSALS = 5  # of the key in a row, after which a person is waited for
_REFUSALS_BEHIND = 30  # the same where it was taken before: a platform may still hold the connection that broke
_IDLE = 0.25  # s
_WELL = 30.0  # s that a connection lasts which was well: the next pause is a short one


@dataclass(frozen=True, slots=True)
class CarrierState:
    """How a carried feed stands."""

    source: str  # connecting, coming, or why not
    push: str  # waiting, connecting, pushing, or why not
    pushing: bool
    sent: int  # bytes, over all connections
    pushes: int  # that began
    fetches: int
    left_out: int  # pictures that the line had no room for
    silent: bool  # the sound is silence of our own
    fatal: str = ""  # why it ended by itself
    damaged: int = 0  # pictures and frames of sound that were lost or damaged on their way from the camera
    behind: int = 0  # pictures that were left out because they depend on one of those
    coded: str = ""  # the codec of the camera's sound, where this machine codes it to AAC
    waits: bool = False  # for a person: the key is refused


@dataclass(frozen=True, slots=True)
class Ends:
    """From where to where."""

    source: SourceAddress
    login: tuple[str, Secret] | None
    server: ServerAddress
    key: Secret


class Carrying(Background):
    """One feed, from start() to close()."""

    def __init__(
        self,
        ends: Ends,
        silence: Silence,
        *,
        codecs: tuple[str, ...] = PLAIN,
        told: Mapping[str, Scalar] | None = None,
        keep_damaged: bool = False,
        by: str = "",
        tls: ssl.SSLContext | None = None,
        now: Callable[[], float] = time.monotonic,
    ) -> None:
        super().__init__(ends.server.scheme)
        self._ends, self._by, self._tls, self._now = ends, by, tls, now
        self._relay = Relay(silence, codecs=codecs, told=told, keep_damaged=keep_damaged)
        self._extended = tuple(codec for codec in codecs if codec not in PLAIN)
        self._waits = False
        self._waiting: deque[MediaEvent] = deque()  # from the source
        self._waiting_bytes = 0
        self._overflowed = False
        self._came = asyncio.Event()
        self._source, self._push = "connecting", "waiting for the camera"
        self._coming = self._pushing = False
        self._sent_before = self._pushes = self._fetches = self._left_out = 0
        self._publisher: Publisher | None = None
        self._fatal = ""
        self._refused = False
        self._last_came = 0.0

    @property
    def state(self) -> CarrierState:
        """How it stands now."""
        sent = self._sent_before + (self._publisher.sent if self._publisher is not None else 0)
        return CarrierState(
            self._source, self._push, self._pushing, sent, self._pushes, self._fetches, self._left_out, self._relay.silent,
            self._fatal, self._relay.damaged, self._relay.behind, self._relay.coded, self._waits,
        )  # fmt: skip

    async def _work(self) -> None:
        fetching = asyncio.create_task(self._fetch())
        pushing = asyncio.create_task(self._hand_on())
        try:
            done, _ = await asyncio.wait({fetching, pushing}, return_when=asyncio.FIRST_COMPLETED)
            for task in done:
                task.result()
        except (CannotCarry, FetchError) as error:
            self._fatal = str(error)
        finally:
            for task in (pushing, fetching):
                task.cancel()
            await asyncio.gather(pushing, fetching, return_exceptions=True)

    # The camera's side

    async def _fetch(self) -> None:
        tries = 0
        while not self.ending:
            self._source, began = "connecting", self._now()
            try:
                await puller(self._ends.source, self._ends.login, self._take, by=self._by, exact=True).run()
                reason = "it ended"
            except LoginRefused:
                raise
            except FetchError as error:
                reason = str(error)
            self._coming = False
            tries = 0 if self._now() - began > _WELL else tries
            self._source = f"{reason}; trying again"
            await asyncio.sleep(_PAUSES[min(tries, len(_PAUSES) - 1)])
            tries += 1

    def _take(self, event: ReceiverEvent) -> None:
        """What the puller tells, in this thread."""
        if isinstance(event, Arrived):
            self._source, self._coming = "coming", True
            self._fetches += 1
            self._waiting.append(_NEW_SOURCE)
        elif isinstance(event, Left):
            self._coming = False
        elif isinstance(event, Samples):
            self._last_came = self._now()
            self._waiting_bytes += int(event.size.sum())
            self._waiting.append(event)
            if self._waiting_bytes > _MOST_WAITING:
                self._throw_away()
        elif isinstance(event, Format | Odd | Damaged):
            self._waiting.append(event)
        self._came.set()

    def _throw_away(self) -> None:
        """The line does not keep up: what waits is left out, up to the next keyframe."""
        kept = [event for event in self._waiting if not isinstance(event, Samples)]
        self._left_out += sum(
            len(event) for event in self._waiting if isinstance(event, Samples) and event.track == "video"
        )
        self._waiting = deque([*kept, _SKIPPED])
        self._waiting_bytes = 0

    # The platform's side

    async def _hand_on(self) -> None:
        tries = refused = 0
        while not self.ending:
            first = await self._first()
            if not first:
                return
            began, pushes = self._now(), self._pushes
            reason = await self._one_push(first)
            tries = 0 if self._now() - began > _WELL else tries
            refused = refused + 1 if self._refused and self._pushes == pushes else 0
            if refused >= (_REFUSALS_BEHIND if self._pushes else _REFUSALS):
                await self._wait_for_a_person(reason, refused)
                return
            self._push = f"{reason}; trying again"
            await asyncio.sleep(_PAUSES[min(tries, len(_PAUSES) - 1)])
            tries += 1

    async def _wait_for_a_person(self, reason: str, refused: int) -> None:
        """A key that is wrong stays wrong; who tries it for ever is locked out. Ends with the carrying."""
        self._waits = True
        self._push = f"{reason}; tried {refused} times, and not again: check key and event, then begin anew"
        while not self.ending:
            self._relay.new_connection()
            self._relayed()  # what comes meanwhile goes nowhere
            await self._wait()

    async def _one_push(self, first: list[MediaEvent]) -> str:
        """One connection to the platform, from a keyframe on; why it ended."""
        self._push, reason = "connecting", "the carrying was ended"
        self._refused = False
        publisher = transport(self._ends.server.scheme).publisher(
            self._ends.server, self._ends.key, tls=self._tls, codecs=self._extended
        )
        self._publisher = publisher
        try:
            await publisher.start()
            self._pushing, self._push = True, "pushing"
            self._pushes += 1
            self._tell(Arrived(self._ends.server.place))
            reason = await self._send_all(publisher, first)
        except PublishError as error:
            reason = str(error)
            self._refused = isinstance(error, PublishRefused)
        finally:
            self._sent_before += publisher.sent
            self._publisher = None
            if self._pushing:
                self._pushing = False
                self._tell(Left(self._ends.server.place, reason))
            await publisher.close()
        return reason

    async def _first(self) -> list[MediaEvent]:
        """What opens a connection's stream: from a keyframe on. Until then no connection is made: platforms drop idle ones."""
        self._relay.new_connection()
        while not self.ending:
            out = self._relayed()
            if any(isinstance(event, Samples) for event in out):
                return out
            if not self._coming:
                self._push = "waiting for the camera"
            await self._wait()
        return []

    async def _send_all(self, publisher: Publisher, out: list[MediaEvent]) -> str:
        """Sends until the camera is gone for too long; why it ended. Raises PublishError."""
        while not self.ending:
            for event in out:
                if not isinstance(event, Odd):
                    await publisher.send(event)
                self._tell(event)
            if not self._coming and self._now() - self._last_came > _SOURCE_GONE:
                return f"the camera was gone for {_SOURCE_GONE:g} s"
            await self._wait()
            out = self._relayed()
            if not out:
                await publisher.send(_NOTHING)  # so that an end is seen
        return "the carrying was ended"

    async def _wait(self) -> None:
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(_IDLE):
                await self._came.wait()
        self._came.clear()

    def _relayed(self) -> list[MediaEvent]:
        """What is to be sent of all that waits."""
        out: list[MediaEvent] = []
        waiting, self._waiting, self._waiting_bytes = self._waiting, deque(), 0
        some: list[MediaEvent] = []
        for event in waiting:
            if event is _NEW_SOURCE or event is _SKIPPED:
                out += self._relay.take(some, self._now())
                some = []
                if event is _NEW_SOURCE:
                    self._relay.new_source()
                else:
                    self._relay.skipped()
            else:
                some.append(event)
        return out + self._relay.take(some, self._now())


# marks between what waits
_NEW_SOURCE, _SKIPPED = Odd("the source begins anew"), Odd("some was left out")
_NOTHING = Odd("")
