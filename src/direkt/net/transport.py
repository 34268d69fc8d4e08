"""What a transport offers, and which one speaks a scheme."""

from __future__ import annotations

import importlib
import ssl
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol, cast

from direkt.errors import NoAnswer, UnusableInput
from direkt.media import MediaEvent
from direkt.net.line import Line
from direkt.protocol.address import ServerAddress
from direkt.protocol.schemes import SCHEMES
from direkt.protocol.source import SOURCES, SourceAddress
from direkt.secret import Secret

HANDSHAKE_LIMIT = 10.0  # s from connecting to publishing
SILENCE_LIMIT = 15.0  # s without a byte from a publisher


class PublishError(NoAnswer):
    """The push cannot begin or go on; the text says why and never holds the key."""


class PublishRefused(PublishError):
    """The server answers, and takes no stream by this name: a wrong key, or one that is in use."""


class FetchError(NoAnswer):
    """A stream cannot be fetched, or ends; ``why`` never holds a login."""

    def __init__(self, place: str, why: str) -> None:
        super().__init__(f"{place}: {why}")
        self.why = why


class LoginRefused(FetchError):
    """It wants a login, or another one; to try again could lock the device."""


# What a receiver tells, beside media events


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


@dataclass(frozen=True, slots=True)
class RecordingEnded:
    """The disk takes no more; receiving goes on."""

    reason: str


ReceiverEvent = Arrived | Left | TurnedAway | RecordingEnded | MediaEvent


class Recorder(Protocol):
    """Writes a stream to a file as it was received; its name says that it is partial until it is complete."""

    @property
    def path(self) -> Path | None:
        """Where it is now; None: nothing was recorded."""

    def close(self) -> None:
        """Ends the file. Raises OSError."""


class Receiver(Protocol):
    """Listens for one publisher at a time, and tells what happens from its event loop."""

    async def start(self, host: str | None, port: int, tls: ssl.SSLContext | None = None) -> int:
        """Opens the port (0: any free one) and returns it. Raises OSError when it cannot."""

    async def stop(self) -> None:
        """Closes the port and all connections."""


class Publisher(Protocol):
    """One push to one server."""

    sent: int  # bytes

    async def start(self) -> None:
        """Connects and publishes. Raises PublishError."""

    async def send(self, event: MediaEvent) -> None:
        """Sends what the stream is (Claims), how it is coded (Format), or samples of it.

        Raises PublishError when the push is over.
        """

    def line(self) -> Line | None:
        """How the connection stands; None where there is none, or nobody tells."""

    async def close(self) -> None:
        """Ends the stream in good order, if it can."""


class Puller(Protocol):
    """Fetches one stream from whoever gives it out, and tells what comes from its event loop."""

    async def run(self) -> None:
        """Connects, tells Arrived and then media events, until it is cancelled. Raises FetchError."""


class PullerFile(Protocol):
    """What each file of a puller offers."""

    def puller(
        self, address: SourceAddress, login: tuple[str, Secret] | None, on_event: Callable[[ReceiverEvent], None], *,
        by: str = "", exact: bool = False, tls: ssl.SSLContext | None = None,
    ) -> Puller:  # fmt: skip
        """A puller. ``by``: tcp or udp, where the protocol has a choice; empty: as it sees fit.

        ``exact``: only what came whole is told, and sound follows picture: for handing it on rather than measuring it.
        """


def puller(
    address: SourceAddress, login: tuple[str, Secret] | None, on_event: Callable[[ReceiverEvent], None], *,
    by: str = "", exact: bool = False, tls: ssl.SSLContext | None = None,
) -> Puller:  # fmt: skip
    """What fetches the stream at an address."""
    file = cast(PullerFile, importlib.import_module(f"direkt.net.{SOURCES[address.scheme].puller}"))
    return file.puller(address, login, on_event, by=by, exact=exact, tls=tls)


class Obstructed(Exception):
    """A conversation with a server that ended at one of the transport's own steps."""

    def __init__(self, verdict: str, detail: str) -> None:
        super().__init__(detail)
        self.verdict, self.detail = verdict, detail


class Transport(Protocol):
    """What each file of a transport offers."""

    STEPS: tuple[str, ...]  # of probe(), the way to the server among them

    def receiver(
        self, app: str, key: Secret, on_event: Callable[[ReceiverEvent], None], recorder: Recorder | None = None, *,
        handshake_limit: float = HANDSHAKE_LIMIT, silence_limit: float = SILENCE_LIMIT,
    ) -> Receiver:  # fmt: skip
        """A receiver for one application and key."""

    def recorder(self, path: Path, *, overwrite: bool = False) -> Recorder:
        """A new recording. Raises OSError, FileExistsError among them."""

    def publisher(
        self, address: ServerAddress, key: Secret, *, tls: ssl.SSLContext | None = None, codecs: tuple[str, ...] = ()
    ) -> Publisher:  # fmt: skip
        """A push; ``tls``: how certificates are checked, by default against the system's authorities.

        ``codecs``: pictures beside H.264 that may be pushed.
        """

    async def probe(
        self, address: ServerAddress, limit: float, tls: ssl.SSLContext | None, step: Callable[[str, float], None]
    ) -> None:
        """Goes to a server as far as one can without publishing; each step may take ``limit`` s, and ``step`` is told its name and seconds.

        Raises ConnectError where the way ends, and Obstructed where the server does not speak as it should.
        """


def transport(scheme: str) -> Transport:
    """The transport that speaks ``scheme``. Raises UnusableInput for one that Direkt knows by name only."""
    name = SCHEMES[scheme].transport
    if not name:
        raise UnusableInput(f"Direkt does not speak {scheme} itself so far")
    return cast(Transport, importlib.import_module(f"direkt.net.{name}"))
