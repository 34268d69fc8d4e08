"""RTMP and RTMPS over sockets: receiver, recorder, publisher, and the conversation that tests a server.

The receiver takes one publisher at a time, with the right application and key. A publisher that goes may come back;
another one beside it is refused. Every wait has a limit: the handshake and commands up to publish together, and
silence once the stream runs. What comes is handed on as media events, a batch a few times a second.
"""

from __future__ import annotations

import asyncio
import contextlib
import hmac
import os
import ssl
import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from direkt.codec import registry
from direkt.container import ContainerError, flv, flv_writer
from direkt.errors import os_words
from direkt.media import MediaEvent
from direkt.net import tcp_figures, tcp_probe
from direkt.net.connect import ConnectError, Connection, connect
from direkt.net.line import Line
from direkt.net.listener import Listener
from direkt.net.recording import Recording
from direkt.net.transport import (
    HANDSHAKE_LIMIT,
    SILENCE_LIMIT,
    Arrived,
    Left,
    Obstructed,
    PublishError,
    PublishRefused,
    ReceiverEvent,
    RecordingEnded,
    TurnedAway,
)
from direkt.net.transport import Recorder as AnyRecorder
from direkt.protocol.address import ServerAddress
from direkt.protocol.errors import LocalError
from direkt.protocol.rtmp.client import Connected, PublishStarted, PushRefused, RtmpClientSession
from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.server import ConnectRequest, PlayRequest, PublishRequest, RtmpServerSession, Unpublished
from direkt.protocol.rtmp.session import SessionState, TagMessage
from direkt.secret import Secret, is_like, mistyped

_STEPS = ("rtmp", "application")
STEPS = (*tcp_probe.STEPS, *_STEPS)

CONNECT_LIMIT = 5.0  # s for TCP, and again for handshake and commands
SEND_LIMIT = 10.0  # s that the line may be stuck
_FAREWELL = 1.0  # s for the server to take the last bytes and end its side
_READ = 1 << 16  # bytes
_BATCH = 0.2  # s that tags wait to be handed on together
_BATCH_BYTES = 4 << 20  # from which on they do not wait


# Receiving


class FlvRecorder:
    """Writes tags to an FLV file as they come. Times run on over a gap, so that the file plays.

    Raises OSError when the disk does not take it.
    """

    def __init__(self, path: Path, *, overwrite: bool = False) -> None:
        self._recording = Recording(path, overwrite=overwrite)
        self._shift = 0
        self._last = 0

    @property
    def path(self) -> Path | None:
        """Where it is now."""
        return self._recording.path

    def new_stretch(self, milliseconds: int) -> None:
        """What comes now begins ``milliseconds`` into the file."""
        self._shift = max(self._last + 1, milliseconds) if self._last else 0

    def add(self, message: TagMessage) -> None:
        """One message."""
        stamp = message.timestamp + self._shift
        self._last = max(self._last, stamp & 0x7FFFFFFF)
        body = message.body
        if message.kind == flv.SCRIPT:
            body = body.removeprefix(b"\x02\x00\x0d@setDataFrame")
        tag = flv_writer.tag(message.kind, stamp, body)
        self._recording.write(tag if self._recording.bytes else flv_writer.header() + tag)

    def close(self) -> None:
        """Ends the file."""
        self._recording.close()


class Receiver:
    """Calls ``on_event`` from the event loop with what happens."""

    def __init__(
        self, app: str, key: Secret, on_event: Callable[[ReceiverEvent], None], recorder: FlvRecorder | None = None, *,
        handshake_limit: float = HANDSHAKE_LIMIT, silence_limit: float = SILENCE_LIMIT,
    ) -> None:  # fmt: skip
        self._app = app
        self._key = key
        self._on_event = on_event
        self._recorder = recorder
        self.handshake_limit, self.silence_limit = handshake_limit, silence_limit
        self._publisher: Publishing | None = None
        self._first: float | None = None  # clock time at which the first publisher came
        self._listener = Listener(self._serve, self._refuse)

    def tell(self, event: ReceiverEvent) -> None:
        """Hands on what happens."""
        self._on_event(event)

    async def start(self, host: str | None, port: int, tls: ssl.SSLContext | None = None) -> int:
        """Opens the port (0: any free one) and returns it; ``tls`` makes it RTMPS. Raises OSError when it cannot."""
        return await self._listener.start(host, port, tls, self.handshake_limit)

    async def stop(self) -> None:
        """Closes the port and all connections."""
        await self._listener.stop()

    async def _serve(self, connection: Connection, peer: str) -> None:
        await Publishing(self, connection, peer).run()

    def _refuse(self, peer: str, reason: str) -> None:
        self.tell(TurnedAway(peer, reason))

    # What connections ask

    def admits(self, app: str) -> str | None:
        """None, or why a publisher with this application is turned away."""
        if app == self._app:
            return None
        if self._key.reveal() in app:  # a device that was given everything as its server address
            return "the key is in its server address: enter address and key apart, or as one URL where it wants one"
        expected = f"expected {_named(self._app)}: check the server address"
        if app.rstrip("/") == self._app:
            return f"its server address ends with a slash: remove it, so that it ends with /{self._app}"
        if not app:
            return f"its server address has nothing after the host: it must end with /{self._app}"
        if is_like(app, self._key):
            return f"its server address holds something like the key, {len(app)} characters; {expected}"
        if app.startswith(f"{self._app}/"):
            behind = len(app) - len(self._app) - 1
            return f"it requests application {_named(self._app)} and {behind} characters after it; {expected}"
        if app.partition("?")[0] == self._app.partition("?")[0]:
            return f"it requests application {_named(app)}; {expected}, and what follows its ?"
        return f"it requests application {_named(app)}, {expected}"

    def knows(self, key: str) -> str | None:
        """None, or why a publisher with this key is turned away. Tells neither key."""
        right = self._key.reveal()
        if hmac.compare_digest(key.encode(), right.encode()):
            return None
        if not key:
            return "it sends no stream key"
        if words := mistyped(key, self._key):
            return words
        return f"wrong stream key: it has {len(key)} characters, the right one {len(right)}"

    def claim(self, connection: Publishing) -> bool:
        """Makes a connection the publisher; False when there is one."""
        if self._publisher is not None:
            return False
        self._publisher = connection
        now = time.monotonic()
        if self._first is None:
            self._first = now
        elif self._recorder is not None:
            self._recorder.new_stretch(round((now - self._first) * 1000))
        return True

    def release(self) -> None:
        """The publisher is gone."""
        self._publisher = None

    def record(self, message: TagMessage) -> None:
        """Writes a message down, until the disk takes no more."""
        if self._recorder is None:
            return
        try:
            self._recorder.add(message)
        except OSError as error:
            recorder, self._recorder = self._recorder, None
            with contextlib.suppress(OSError):
                recorder.close()
            self.tell(RecordingEnded(os_words(error)))


class Desk(Protocol):
    """Whom a connection asks whether it may publish, and tells what it brings."""

    @property
    def handshake_limit(self) -> float:
        """s from connecting to publishing."""

    @property
    def silence_limit(self) -> float:
        """s without a byte."""

    def admits(self, app: str) -> str | None:
        """None, or why a publisher with this application is turned away."""

    def knows(self, key: str) -> str | None:
        """None, or why a publisher with this key is turned away."""

    def claim(self, connection: Publishing) -> bool:
        """Makes a connection the publisher; False when there is one."""

    def release(self) -> None:
        """The publisher is gone."""

    def record(self, message: TagMessage) -> None:
        """Writes a message down."""

    def tell(self, event: ReceiverEvent) -> None:
        """What happens."""


class Publishing:
    """One connection from its first byte to its last."""

    def __init__(self, receiver: Desk, connection: Connection, peer: str) -> None:
        self._receiver = receiver
        self._connection = connection
        self._peer = peer
        self._session = RtmpServerSession(os.urandom(1528))
        self._tags = flv.TagQueue()
        self._flushing: asyncio.TimerHandle | None = None
        self._publishing = False
        self._published = False  # at any time
        self._begin = time.monotonic()
        self._over: str | None = None  # why it ends, when it is to end
        self._closed = False  # the other end closed the connection

    async def run(self) -> None:
        try:
            await self._talk()
        except asyncio.CancelledError:
            if self._publishing:
                self._leave("the receiver closes")
            raise
        finally:
            if self._publishing:
                self._leave(self._over or "the receiver fails")

    async def _talk(self) -> None:
        receiver = self._receiver
        while self._over is None:
            limit = receiver.silence_limit
            if not self._publishing:
                limit = self._begin + receiver.handshake_limit - time.monotonic()
            try:
                # not wait_for: that may swallow the cancellation when data arrives at the same moment
                async with asyncio.timeout(max(0.0, limit)):
                    data = await self._connection.reader.read(_READ)
            except TimeoutError:
                self._over = self._timed_out()
                break
            except OSError as error:
                self._over = f"the connection broke: {os_words(error)}"
                break
            if not data:
                self._over, self._closed = "the connection was closed", True
                break
            self._take(data)
            await self._answer()
        self._end(self._over or "")

    def _take(self, data: bytes) -> None:
        now = time.monotonic()
        self._session.receive_data(data)
        try:
            while self._over is None and (event := self._session.next_event()) is not None:
                if isinstance(event, TagMessage):
                    self._receiver.record(event)
                    self._tags.add(event.kind, event.timestamp, event.body, now)
                else:
                    self._handle(event)
        except RtmpError as error:
            self._over = str(error)
        if self._tags.bytes > _BATCH_BYTES:
            self._hand_on()
        elif self._tags.bytes and self._flushing is None:
            self._flushing = asyncio.get_running_loop().call_later(_BATCH, self._hand_on)

    def _hand_on(self) -> None:
        """Hands on the tags that wait."""
        if self._flushing is not None:
            self._flushing.cancel()
            self._flushing = None
        for event in self._tags.take():
            self._receiver.tell(event)

    def _timed_out(self) -> str:
        if self._publishing:
            return f"nothing came for {self._receiver.silence_limit:g} s"
        shaken = self._session.state is not SessionState.HANDSHAKE
        what = "it connected but did not publish" if shaken else "it stalled in the handshake"
        return f"{what} within {self._receiver.handshake_limit:g} s"

    async def _answer(self) -> None:
        data = self._session.data_to_send()
        if data:
            try:
                self._connection.writer.write(data)
                async with asyncio.timeout(self._receiver.silence_limit):
                    await self._connection.writer.drain()
            except TimeoutError:
                self._over = self._over or "it takes no answers"
            except OSError:
                return  # it has gone; what it sent before that is still to be read, and how it went

    def _handle(self, event: ConnectRequest | PublishRequest | PlayRequest | Unpublished) -> None:
        if isinstance(event, ConnectRequest):
            refusal = self._receiver.admits(event.app)
            if refusal is None:
                self._session.accept_connect()
            else:
                self._session.reject_connect("No such application here.")
                self._over = refusal
        elif isinstance(event, PublishRequest):
            self._publish(event)
        elif isinstance(event, PlayRequest):
            self._session.reject_play("This receiver takes streams, it plays none.")
            self._over = "it wants to play, not to publish"
        else:
            self._begin = time.monotonic()  # it may publish again
            self._leave("it stopped the stream")

    def _publish(self, event: PublishRequest) -> None:
        refusal = self._receiver.knows(event.name)
        if refusal is None and not self._receiver.claim(self):
            refusal = "another publisher is already connected"
        if refusal is not None:
            self._session.reject_publish("Stream name refused.")
            self._over = refusal
            return
        self._publishing = self._published = self._connection.admitted = True
        self._session.accept_publish()
        self._tags = flv.TagQueue()
        self._receiver.tell(Arrived(self._peer))

    def _leave(self, reason: str) -> None:
        self._publishing = False
        self._hand_on()
        self._receiver.release()
        self._receiver.tell(Left(self._peer, reason))

    def _end(self, reason: str) -> None:
        if self._publishing:
            self._leave(reason)
            return
        looked_in = self._closed and self._session.state is not SessionState.HANDSHAKE
        if self._session.received and not self._published and not looked_in:
            self._receiver.tell(TurnedAway(self._peer, reason))


def _named(app: str) -> str:
    """An application in words. What stands behind its ? may be a login: only its length is told."""
    name, mark, query = app.partition("?")
    return _quoted(name) + (f" with {len(query)} characters after a ?" if mark else "")


def _quoted(text: str) -> str:
    return repr(text if len(text) <= 60 else text[:57] + "...")


# Publishing


class Publisher:
    """One push to one server: connects, publishes, and sends what it is given; every wait has a limit."""

    def __init__(
        self, address: ServerAddress, key: Secret, *, chunk_size: int = 4096, tls: ssl.SSLContext | None = None,
        codecs: tuple[str, ...] = (),
    ) -> None:  # fmt: skip
        self._tls = tls
        self._address = address
        codes = tuple(registry.find("video", codec).four_cc[0].decode() for codec in codecs)
        self._session = RtmpClientSession(
            str(address), address.app, key.reveal(), os.urandom(1528), chunk_size=chunk_size, codes=codes
        )
        self._connection: Connection | None = None
        self._listening: asyncio.Task[None] | None = None
        self._writer = flv_writer.TagWriter()
        self._refused: str | None = None
        self.sent = 0  # bytes

    async def start(self) -> None:
        """Connects and publishes. Raises PublishError."""
        place = f"{self._address.host}:{self._address.port}"
        try:
            self._connection = await connect(self._address, CONNECT_LIMIT, self._tls, lambda *_: None)
        except ConnectError as error:
            raise PublishError(f"{place} cannot be reached: {error.detail}") from None
        self._session.start()
        try:
            async with asyncio.timeout(CONNECT_LIMIT):
                await self._open(self._connection.reader)
        except TimeoutError:
            await self.close()
            raise PublishError(
                f"{place} takes connections but does not let publish within {CONNECT_LIMIT:g} s"
            ) from None
        except PublishError:
            await self.close()
            raise
        except OSError as error:
            await self.close()
            raise PublishError(f"{place}: the connection broke: {os_words(error)}") from None
        self._listening = asyncio.create_task(self._listen(self._connection.reader))

    async def _open(self, reader: asyncio.StreamReader) -> None:
        while not self._session.publishing:
            await self._flush()
            data = await reader.read(_READ)
            if not data:
                raise PublishError("the server closed the connection before the stream began")
            self._session.receive_data(data)
            try:
                while (event := self._session.next_event()) is not None:
                    if isinstance(event, PushRefused):
                        raise PublishRefused(f"the server refuses: {event.text} ({event.code})")
                    if isinstance(event, PublishStarted):
                        return
            except RtmpError as error:
                raise PublishError(f"the server does not speak RTMP: {error}") from None

    async def _listen(self, reader: asyncio.StreamReader) -> None:
        """Takes the server's acknowledgements, pings and refusals while the stream runs."""
        try:
            while data := await reader.read(_READ):
                self._session.receive_data(data)
                while (event := self._session.next_event()) is not None:
                    if isinstance(event, PushRefused):
                        self._refused = f"the server ends the stream: {event.text} ({event.code})"
                        return
            self._refused = self._refused or "the server closed the connection"
        except OSError as error:
            self._refused = f"the connection broke: {os_words(error)}"
        except RtmpError as error:
            self._refused = str(error)

    async def _flush(self) -> None:
        data = self._session.data_to_send()
        if data and self._connection is not None:
            self.sent += len(data)
            self._connection.writer.write(data)
            async with asyncio.timeout(SEND_LIMIT):
                await self._connection.writer.drain()

    async def send(self, event: MediaEvent) -> None:
        """Sends what the stream is, how it is coded, or samples. Raises PublishError when the push is over."""
        if self._refused is not None:
            raise PublishError(self._refused)
        try:
            for kind, milliseconds, body in self._writer.tags(event):
                if kind == flv.SCRIPT:
                    self._session.send_metadata(body)
                else:
                    self._session.send_media(kind, milliseconds, body)
                await self._flush()
        except LocalError:
            raise PublishError(self._refused or "the stream is over") from None
        except ContainerError as error:
            raise PublishError(f"RTMP cannot carry this: {error}") from None
        except TimeoutError:
            raise PublishError(f"the line is stuck: nothing went out for {SEND_LIMIT:g} s") from None
        except OSError as error:
            raise PublishError(f"the connection broke: {os_words(error)}") from None

    def line(self) -> Line | None:
        """How the connection stands."""
        if self._connection is None:
            return None
        writer = self._connection.writer
        found = writer.get_extra_info("socket")
        figures = tcp_figures.read(found) if found is not None else None
        return Line(writer.transport.get_write_buffer_size(), figures) if figures is not None else None

    async def close(self) -> None:
        """Ends the stream in good order, if it can."""
        if self._connection is not None:
            self._session.finish()
            with contextlib.suppress(OSError, TimeoutError):
                await self._flush()
                # a connection that is closed with answers unread takes the last pictures with it (RFC 1122, 4.2.2.13)
                if self._listening is not None and not self._listening.done():
                    half = self._connection.writer.can_write_eof()  # not with TLS
                    if half:
                        self._connection.writer.write_eof()
                    await asyncio.wait({self._listening}, timeout=_FAREWELL if half else _FAREWELL / 2)
        if self._listening is not None:
            self._listening.cancel()
        if self._connection is not None:
            await self._connection.close(2.0)


# Testing a server


async def _converse(address: ServerAddress, connection: Connection, step: Callable[[str], None]) -> None:
    """Handshake and connect, up to but not including publish. Raises Obstructed."""
    session = RtmpClientSession(str(address), address.app, "", os.urandom(1528), probe=True)
    session.start()
    shaken = False
    try:
        while True:
            connection.writer.write(session.data_to_send())
            await connection.writer.drain()
            data = await connection.reader.read(_READ)
            if not data:
                raise ConnectionResetError
            session.receive_data(data)
            event = session.next_event()
            if not shaken and session.state is not SessionState.HANDSHAKE:
                shaken = True
                step(_STEPS[0])
            if isinstance(event, Connected):
                step(_STEPS[1])
                return
            if isinstance(event, PushRefused):
                words = f"{event.text} ({event.code})" if event.text else event.code
                raise Obstructed("application refused", f"{address.app!r}: {words}")
    except RtmpError as error:
        raise Obstructed("not RTMP", str(error)) from None
    except OSError:
        if not shaken:
            raise Obstructed("not RTMP", "the server closes the connection in the handshake") from None
        detail = f"the server closes the connection when asked for {address.app!r}"
        raise Obstructed("application refused", detail) from None


# The transport's face


async def probe(address: ServerAddress, limit: float, tls: ssl.SSLContext | None, step: Callable[[str, float], None]) -> None:
    """Name, TCP, TLS, handshake and connect; nothing is published. Raises ConnectError and Obstructed."""
    await tcp_probe.probe(address, limit, tls, step, _STEPS, _converse)


def receiver(
    app: str, key: Secret, on_event: Callable[[ReceiverEvent], None], recorder: AnyRecorder | None = None, *,
    handshake_limit: float = HANDSHAKE_LIMIT, silence_limit: float = SILENCE_LIMIT,
) -> Receiver:  # fmt: skip
    """A receiver for one application and key; ``recorder`` is one of recorder()'s."""
    assert recorder is None or isinstance(recorder, FlvRecorder)
    return Receiver(app, key, on_event, recorder, handshake_limit=handshake_limit, silence_limit=silence_limit)


def recorder(path: Path, *, overwrite: bool = False) -> FlvRecorder:
    """A new recording. Raises OSError, FileExistsError among them."""
    return FlvRecorder(path, overwrite=overwrite)


def publisher(
    address: ServerAddress, key: Secret, *, tls: ssl.SSLContext | None = None, codecs: tuple[str, ...] = ()
) -> Publisher:
    """A push to one server; ``codecs``: of pictures that need extended headers, which the server is told of beforehand."""
    return Publisher(address, key, tls=tls, codecs=codecs)
