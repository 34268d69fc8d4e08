"""An RTMP receiver for rehearsals: one publisher at a time, with the right application and key.

A publisher that goes may come back; another one beside it is refused. Every wait has a limit: the handshake and
commands up to publish together, and silence once the stream runs.
"""

from __future__ import annotations

import asyncio
import contextlib
import hmac
import os
import ssl
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.server import (
    ConnectRequest,
    PlayRequest,
    PublishRequest,
    ServerSession,
    Unpublished,
)
from direkt.protocol.rtmp.session import Media
from direkt.sheet.secret import Secret

HANDSHAKE_LIMIT = 10.0  # s from connecting to publishing
SILENCE_LIMIT = 15.0  # s without a byte from a publisher
_READ = 1 << 16  # bytes
_MOST_WAITING = 32  # connections that have not published yet


@dataclass(frozen=True, slots=True)
class Arrived:
    """A publisher with the right key begins."""

    peer: str


@dataclass(frozen=True, slots=True)
class Left:
    """The publisher stopped, or its connection ended."""

    peer: str
    reason: str


@dataclass(frozen=True, slots=True)
class TurnedAway:
    """A connection that did not become the publisher."""

    peer: str
    reason: str


ReceiverEvent = Arrived | Left | TurnedAway | Media


class Receiver:
    """Listens, and calls ``on_event`` from the event loop with what happens."""

    def __init__(
        self, app: str, key: Secret, on_event: Callable[[ReceiverEvent], None], *,
        handshake_limit: float = HANDSHAKE_LIMIT, silence_limit: float = SILENCE_LIMIT,
    ) -> None:  # fmt: skip
        self._app = app
        self._key = key
        self._on_event = on_event
        self._handshake_limit = handshake_limit
        self._silence_limit = silence_limit
        self._publisher: asyncio.Task[None] | None = None
        self._tasks: set[asyncio.Task[None]] = set()
        self._server: asyncio.Server | None = None

    async def start(self, host: str | None, port: int, tls: ssl.SSLContext | None = None) -> int:
        """Opens the port (0: any free one) and returns it; ``tls`` makes it RTMPS. Raises OSError when it cannot."""
        limits: dict[str, Any] = {"ssl": tls, "ssl_handshake_timeout": self._handshake_limit} if tls else {}
        self._server = await asyncio.start_server(
            self._connected, host, port, limit=_READ, reuse_address=True, **limits
        )
        number: int = self._server.sockets[0].getsockname()[1]
        return number

    async def stop(self) -> None:
        """Closes the port and all connections."""
        if self._server is not None:
            self._server.close()
        for task in list(self._tasks):
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    @property
    def busy(self) -> bool:
        """Whether somebody publishes."""
        return self._publisher is not None

    def _connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.create_task(self._serve(reader, writer))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        name = writer.get_extra_info("peername") or ("?", 0)
        peer = f"{name[0]}:{name[1]}"
        connection = _Connection(self, reader, writer, peer)
        try:
            if len(self._tasks) > _MOST_WAITING:
                self._on_event(TurnedAway(peer, f"more than {_MOST_WAITING} connections at once"))
                return
            await connection.run()
        except asyncio.CancelledError:
            if self._publisher is asyncio.current_task():
                self._on_event(Left(peer, "the receiver closes"))
            raise
        finally:
            if self._publisher is asyncio.current_task():
                self._publisher = None
            writer.close()
            with contextlib.suppress(OSError, TimeoutError):
                async with asyncio.timeout(1):
                    await writer.wait_closed()

    # What connections ask

    def admits(self, app: str) -> str | None:
        """None, or why a publisher with this application is turned away."""
        if app == self._app:
            return None
        key = self._key.reveal()
        if key in app:  # a device that was given everything as its server address
            return "the key stands in its server address: enter address and key apart, or as one URL where it wants one"
        return f"it asks for application {_quoted(app)}, expected {_quoted(self._app)}: check the server address"

    def knows(self, key: str) -> str | None:
        """None, or why a publisher with this key is turned away. Tells neither key."""
        right = self._key.reveal()
        if hmac.compare_digest(key.encode(), right.encode()):
            return None
        if key.strip() == right:
            return "its key is right but has a space before or behind it: take it out"
        if not key:
            return "it sends no stream key"
        if key.lower() == right.lower():
            return "its key differs from the right one in capital and small letters"
        return f"wrong stream key: it has {len(key)} characters, the right one {len(right)}"

    def claim(self) -> bool:
        """Makes the running connection the publisher; False when there is one."""
        if self._publisher is not None:
            return False
        self._publisher = asyncio.current_task()
        return True

    def release(self) -> None:
        """The publisher is gone."""
        self._publisher = None

    def tell(self, event: ReceiverEvent) -> None:
        """Passes an event on."""
        self._on_event(event)

    @property
    def limits(self) -> tuple[float, float]:
        """Limits for the handshake and for silence, in s."""
        return self._handshake_limit, self._silence_limit


class _Connection:
    """One connection from its first byte to its last."""

    def __init__(
        self, receiver: Receiver, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, peer: str
    ) -> None:
        self._receiver = receiver
        self._reader = reader
        self._writer = writer
        self._peer = peer
        self._session = ServerSession(os.urandom(1528))
        self._publishing = False
        self._published = False  # at any time
        self._begin = time.monotonic()
        self._over: str | None = None  # why it ends, when it is to end

    async def run(self) -> None:
        handshake_limit, silence_limit = self._receiver.limits
        while self._over is None:
            limit = silence_limit if self._publishing else self._begin + handshake_limit - time.monotonic()
            try:
                # not wait_for: that may swallow the cancellation when data arrives at the same moment
                async with asyncio.timeout(max(0.0, limit)):
                    data = await self._reader.read(_READ)
            except TimeoutError:
                self._over = self._timed_out(handshake_limit, silence_limit)
                break
            except OSError as error:
                self._over = f"the connection broke: {(error.strerror or str(error)).lower()}"
                break
            if not data:
                self._over = "the connection was closed"
                break
            try:
                while events := self._session.receive(data):
                    for event in events:
                        self._handle(event)
                    data = b""
            except RtmpError as error:
                self._over = str(error)
            await self._flush(silence_limit)
        self._end(self._over or "")

    def _timed_out(self, handshake_limit: float, silence_limit: float) -> str:
        if self._publishing:
            return f"nothing came for {silence_limit:g} s"
        what = "it connected but did not publish" if self._session.ready else "it stalled in the handshake"
        return f"{what} within {handshake_limit:g} s"

    async def _flush(self, limit: float) -> None:
        data = self._session.data_to_send()
        if data:
            try:
                self._writer.write(data)
                async with asyncio.timeout(limit):
                    await self._writer.drain()
            except (OSError, TimeoutError):
                self._over = self._over or "it takes no answers"

    def _handle(self, event: object) -> None:
        if self._over is not None:
            return
        if isinstance(event, Media):
            self._receiver.tell(event)
        elif isinstance(event, ConnectRequest):
            refusal = self._receiver.admits(event.app)
            if refusal is None:
                self._session.accept_connect()
            else:
                self._session.reject_connect("No such application here.")
                self._over = refusal
        elif isinstance(event, PublishRequest):
            self._publish(event)
        elif isinstance(event, PlayRequest):
            self._over = "it wants to play, not to publish"
        elif isinstance(event, Unpublished):
            self._publishing = False
            self._begin = time.monotonic()  # it may publish again
            self._receiver.release()
            self._receiver.tell(Left(self._peer, "it stopped the stream"))

    def _publish(self, event: PublishRequest) -> None:
        refusal = self._receiver.knows(event.name)
        if refusal is None and not self._receiver.claim():
            refusal = "somebody publishes already"
        if refusal is not None:
            self._session.reject_publish("Stream name refused.")
            self._over = refusal
            return
        self._publishing = self._published = True
        self._session.accept_publish()
        self._receiver.tell(Arrived(self._peer))

    def _end(self, reason: str) -> None:
        if self._publishing:
            self._publishing = False
            self._receiver.release()
            self._receiver.tell(Left(self._peer, reason))
        elif (
            self._session.received
            and not self._published
            and not (reason == "the connection was closed" and self._session.ready)
        ):
            self._receiver.tell(TurnedAway(self._peer, reason))


def _quoted(text: str) -> str:
    cut = text if len(text) <= 60 else text[:57] + "..."
    return repr(cut)
