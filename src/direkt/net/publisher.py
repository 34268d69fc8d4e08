"""An RTMP publisher: connects, publishes, and sends what it is given; every wait has a limit."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import ssl

from direkt.errors import NoAnswer
from direkt.protocol.amf import Amf
from direkt.protocol.rtmp.client import ClientSession, PublishStarted, Refused, Target
from direkt.protocol.rtmp.errors import RtmpError
from direkt.sheet.address import ServerAddress
from direkt.sheet.secret import Secret

CONNECT_LIMIT = 5.0  # s for TCP, and again for handshake and commands
SEND_LIMIT = 10.0  # s that the line may be stuck


class PublishError(NoAnswer):
    """The push cannot begin or go on; the text says why and never holds the key."""


class Publisher:
    """One push to one server."""

    def __init__(
        self, address: ServerAddress, key: Secret, *, chunk_size: int = 4096, tls: ssl.SSLContext | None = None
    ) -> None:
        """``tls``: for rtmps, how certificates are checked; by default against the system's authorities."""
        self._tls = (tls or ssl.create_default_context()) if address.scheme == "rtmps" else None
        self._address = address
        self._session = ClientSession(
            Target(str(address), address.app, key.reveal()), os.urandom(1528), chunk_size=chunk_size
        )
        self._writer: asyncio.StreamWriter | None = None
        self._listening: asyncio.Task[None] | None = None
        self._refused: str | None = None
        self.sent = 0  # bytes

    async def start(self) -> None:
        """Connects and publishes. Raises PublishError."""
        host, port = self._address.host, self._address.port
        try:
            async with asyncio.timeout(CONNECT_LIMIT):
                reader, self._writer = await asyncio.open_connection(host, port, ssl=self._tls)
        except TimeoutError:
            raise PublishError(f"{host}:{port} does not answer within {CONNECT_LIMIT:g} s") from None
        except ssl.SSLError as error:
            raise PublishError(f"{host}:{port} refuses TLS: {tls_words(error)}") from None
        except OSError as error:
            raise PublishError(f"{host}:{port} cannot be reached: {_plain(error)}") from None
        self._session.start()
        try:
            async with asyncio.timeout(CONNECT_LIMIT):
                await self._open(reader)
        except TimeoutError:
            await self.close()
            raise PublishError(
                f"{host}:{port} takes connections but does not let publish within {CONNECT_LIMIT:g} s"
            ) from None
        except PublishError:
            await self.close()
            raise
        except OSError as error:
            await self.close()
            raise PublishError(f"{host}:{port}: the connection broke: {_plain(error)}") from None
        self._listening = asyncio.create_task(self._listen(reader))

    async def _open(self, reader: asyncio.StreamReader) -> None:
        while not self._session.publishing:
            await self._flush()
            data = await reader.read(1 << 16)
            if not data:
                raise PublishError("the server closed the connection before the stream began")
            try:
                events = self._session.receive(data)
            except RtmpError as error:
                raise PublishError(f"the server does not speak RTMP: {error}") from None
            for event in events:
                if isinstance(event, Refused):
                    raise PublishError(f"the server refuses: {event.text} ({event.code})")
                if isinstance(event, PublishStarted):
                    return

    async def _listen(self, reader: asyncio.StreamReader) -> None:
        """Takes the server's acknowledgements, pings and refusals while the stream runs."""
        try:
            while data := await reader.read(1 << 16):
                for event in self._session.receive(data):
                    if isinstance(event, Refused):
                        self._refused = f"the server ends the stream: {event.text} ({event.code})"
                        return
            self._refused = self._refused or "the server closed the connection"
        except (OSError, RtmpError) as error:
            self._refused = str(error)

    async def _flush(self) -> None:
        data = self._session.data_to_send()
        if data and self._writer is not None:
            self.sent += len(data)
            self._writer.write(data)
            async with asyncio.timeout(SEND_LIMIT):
                await self._writer.drain()

    async def metadata(self, facts: dict[str, Amf]) -> None:
        """Sends onMetaData. Raises PublishError."""
        self._session.send_metadata(facts)
        await self._checked_flush()

    async def send(self, kind: int, milliseconds: int, body: bytes) -> None:
        """Sends one audio (8) or video (9) message. Raises PublishError when the push is over."""
        self._session.send_media(kind, milliseconds, body)
        await self._checked_flush()

    async def _checked_flush(self) -> None:
        if self._refused is not None:
            raise PublishError(self._refused)
        try:
            await self._flush()
        except TimeoutError:
            raise PublishError(f"the line is stuck: nothing went out for {SEND_LIMIT:g} s") from None
        except OSError as error:
            raise PublishError(f"the connection broke: {_plain(error)}") from None

    async def close(self) -> None:
        """Ends the stream in good order, if it can."""
        if self._listening is not None:
            self._listening.cancel()
        if self._writer is None:
            return
        self._session.finish()
        with contextlib.suppress(OSError, TimeoutError):
            await self._flush()
        self._writer.close()
        with contextlib.suppress(OSError, TimeoutError):
            async with asyncio.timeout(2):
                await self._writer.wait_closed()


def tls_words(error: ssl.SSLError) -> str:
    """What a TLS error means."""
    if isinstance(error, ssl.SSLCertVerificationError):
        return {
            9: "the certificate is not valid yet, or this machine's clock is behind",
            10: "the certificate has expired, or this machine's clock is ahead",
            18: "the certificate is self-made", 19: "the certificate's chain ends in an unknown authority",
            20: "the certificate's authority is unknown here", 21: "the certificate's chain is incomplete",
            62: "the certificate is for another name", 64: "the certificate is for another address",
        }.get(error.verify_code, error.verify_message.lower())  # fmt: skip
    if error.reason in ("WRONG_VERSION_NUMBER", "HTTP_REQUEST", "RECORD_LAYER_FAILURE", "PACKET_LENGTH_TOO_LONG"):
        return "what answers there does not speak TLS"
    return (error.reason or str(error)).lower().replace("_", " ")


def _plain(error: OSError) -> str:
    """The system's words for an error, without those of our libraries."""
    if isinstance(error, ssl.SSLError):
        return tls_words(error)
    if isinstance(error, socket.gaierror):
        return "its name is unknown here"
    if error.errno:
        return os.strerror(error.errno).lower()
    return "no address of it answers" if "Multiple exceptions" in str(error) else str(error).lower()
