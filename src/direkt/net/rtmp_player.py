"""Fetching a stream by RTMP over sockets: whoever gives it out is asked to play it. Every wait has a limit."""

from __future__ import annotations

import asyncio
import contextlib
import os
import ssl
import time
from collections.abc import Callable

from direkt.container import flv
from direkt.errors import os_words
from direkt.net.connect import ConnectError, Connection, connect
from direkt.net.transport import Arrived, FetchError, Left, ReceiverEvent
from direkt.protocol.rtmp.client import PlayEnded, PlayerSession, PlayStarted, PushRefused
from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.session import TagMessage
from direkt.protocol.source import SourceAddress
from direkt.secret import Secret

CONNECT_LIMIT = 5.0  # s for each step of connecting
ANSWER_LIMIT = 10.0  # s for the stream to begin
SILENCE_LIMIT = 15.0  # s without a byte
_READ = 1 << 16  # bytes
_BATCH = 0.2  # s that tags wait to be handed on together


class Puller:
    """Calls ``on_event`` from the event loop with what happens."""

    def __init__(
        self, address: SourceAddress, on_event: Callable[[ReceiverEvent], None], tls: ssl.SSLContext | None
    ) -> None:
        self._address, self._tell, self._tls = address, on_event, tls
        app, _, name = address.path.lstrip("/").rpartition("/")
        url = f"{address.scheme}://{address.place}/{app}"
        self._session = PlayerSession(url, app, name, os.urandom(1528))
        self._tags = flv.TagQueue()
        self._handed_on = 0.0

    def _error(self, text: str) -> FetchError:
        return FetchError(self._address.place, text)

    async def run(self) -> None:
        """Connects, tells Arrived and then media events, until it is cancelled. Raises FetchError."""
        address = self._address
        if not address.path.strip("/"):
            raise self._error(
                f"no application and stream after the host; expected {address.scheme}://host/application/stream"
            )
        try:
            connection = await connect(address, CONNECT_LIMIT, self._tls, lambda *_: None)
        except ConnectError as error:
            raise FetchError(address.place, f"it cannot be reached: {error.detail}") from None
        self._session.start()
        plays, reason = False, "the fetching was ended"
        begin = time.monotonic()
        try:
            while True:
                limit = SILENCE_LIMIT if plays else begin + ANSWER_LIMIT - time.monotonic()
                await self._flush(connection)
                data = await self._read(connection, limit, plays=plays)
                self._session.receive_data(data)
                while (event := self._session.next_event()) is not None:
                    if isinstance(event, PlayStarted):
                        plays = True
                        self._tell(Arrived(address.place))
                    elif isinstance(event, TagMessage):
                        self._tags.add(event.kind, event.timestamp, event.body, time.monotonic())
                    elif isinstance(event, PushRefused):
                        words = f"{event.text} ({event.code})" if event.text else event.code
                        raise self._error(f"it does not play this stream: {words}")
                    elif isinstance(event, PlayEnded):
                        raise self._error("it says that the stream has ended, or has no publisher any more")
                if time.monotonic() - self._handed_on > _BATCH:
                    self._hand_on()
        except RtmpError as error:
            reason = f"it does not speak RTMP: {error}" if not plays else str(error)
            raise self._error(reason) from None
        except OSError as error:
            reason = f"the connection broke: {os_words(error)}"
            raise self._error(reason) from None
        except FetchError as error:
            reason = error.why
            raise
        finally:
            self._hand_on()
            if plays:
                self._tell(Left(address.place, reason))
            await connection.close()

    async def _flush(self, connection: Connection) -> None:
        data = self._session.data_to_send()
        if data:
            connection.writer.write(data)
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(ANSWER_LIMIT):
                    await connection.writer.drain()

    async def _read(self, connection: Connection, limit: float, *, plays: bool) -> bytes:
        try:
            async with asyncio.timeout(max(0.0, limit)):
                data = await connection.reader.read(_READ)
        except TimeoutError:
            what = (
                f"nothing came for {SILENCE_LIMIT:g} s"
                if plays
                else f"it does not begin to play within {ANSWER_LIMIT:g} s"
            )
            raise self._error(what) from None
        if not data:
            raise self._error(
                "it closed the connection" if plays else "it closed the connection before the stream began"
            )
        return data

    def _hand_on(self) -> None:
        self._handed_on = time.monotonic()
        for event in self._tags.take():
            self._tell(event)


def puller(
    address: SourceAddress, login: tuple[str, Secret] | None, on_event: Callable[[ReceiverEvent], None], *,
    by: str = "", exact: bool = False, tls: ssl.SSLContext | None = None,
) -> Puller:  # fmt: skip
    """Fetches the stream at an address; RTMP has no login and one transport."""
    return Puller(address, on_event, tls)
