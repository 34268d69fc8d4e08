"""Fetching a stream by RTSP over sockets: the conversation, packets between its messages or by UDP, reports, keep-alive.

Every wait has a limit: connecting, each answer, the first packet, and silence once the stream runs. What comes is handed on as
media events, a batch a few times a second. A server that does not send between its messages is asked to send by UDP.
"""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import socket
import ssl
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from direkt.errors import os_words
from direkt.media import Track
from direkt.net.connect import ConnectError, Connection, connect
from direkt.net.transport import Arrived, FetchError, Left, LoginRefused, ReceiverEvent
from direkt.protocol import refusals
from direkt.protocol.address import AddressError
from direkt.protocol.rtp import formats
from direkt.protocol.rtp.stream import RtpStream
from direkt.protocol.rtsp.client import (
    Described,
    Event,
    LoginWanted,
    Playing,
    Redirected,
    RequestRefused,
    RtspClientSession,
    SetUp,
    TornDown,
)
from direkt.protocol.rtsp.messages import Interleaved, RtspError, interleave
from direkt.protocol.rtsp.sdp import Encoding, Medium, SessionDescription
from direkt.protocol.source import SourceAddress
from direkt.secret import Secret, without

CONNECT_LIMIT = 5.0  # s for each step of connecting
ANSWER_LIMIT = 10.0  # s for an answer
FIRST_LIMIT = 10.0  # s for the first packet
SILENCE_LIMIT = 15.0  # s without a packet
_REDIRECTS = 5
_READ = 1 << 17  # bytes
_BATCH = 0.2  # s that samples wait to be handed on together
_LAST = 0.1  # s in which nothing more comes, when the connection ends
_DRAINED = 1.0  # s that reading the rest may take
_AT_ONCE = 0.04  # the same, where they are handed on to others
_UDP_BUFFER = 4 << 20  # bytes that the system keeps for us
_UDP_WAIT = 0.25  # s that a missing packet is waited for
_TCP_WAIT = 0.1  # the same where none gets lost on the way: some senders mix their packets up themselves
_FAREWELL = 1.0  # s for the end of a session
_PORTS = range(50000, 60000, 2)
_TRIES = 40  # pairs of ports
_UNSUPPORTED = 461


class _Elsewhere(Exception):
    """The stream is at another address."""

    def __init__(self, url: str) -> None:
        super().__init__(url)
        self.url = url


class _OtherTransport(Exception):
    """The server does not send by the transport that was asked for."""


class Puller:
    """Calls ``on_event`` from the event loop with what happens."""

    def __init__(
        self, address: SourceAddress, login: tuple[str, Secret] | None, on_event: Callable[[ReceiverEvent], None], *,
        by: str = "", exact: bool = False, tls: ssl.SSLContext | None = None, silence_limit: float = SILENCE_LIMIT,
    ) -> None:  # fmt: skip
        self._address, self._login, self._by = address, login, by
        self._exact, self._tls = exact, tls
        self.tell = on_event
        self.silence_limit = silence_limit

    @property
    def place(self) -> str:
        """By which a refused login is remembered."""
        return f"rtsp://{self._address.place}"

    async def run(self) -> None:
        """Connects, tells Arrived and then media events, until it is cancelled. Raises FetchError."""
        address, login = self._address, self._login
        schemes: tuple[str, ...] = ("digest", "basic")
        ways = [self._by] if self._by else ["tcp", "udp"]
        redirects = 0
        if login is not None and (when := refusals.current().refused(self.place, *login)) is not None:
            words = f" on {when}" if when else ""
            raise LoginRefused(
                address.place, f"it has refused this login{words}; it is not sent again, so that the account does not lock: give another one, or try "
                "it once more: direkt device login DEVICE"
            )
        while True:
            pull = _Pull(self, address, login, schemes, ways[0], exact=self._exact, tls=self._tls)
            try:
                await pull.run()
                return
            except _OtherTransport:
                del ways[0]
                if not ways:
                    kinds = "UDP" if self._by == "udp" else "TCP"
                    more = (
                        f" by {kinds}: try --by {'tcp' if self._by == 'udp' else 'udp'}"
                        if self._by
                        else " by any transport"
                    )
                    raise FetchError(address.place, f"it does not send{more}") from None
            except _Elsewhere as elsewhere:
                redirects += 1
                if redirects > _REDIRECTS:
                    raise FetchError(self._address.place, "it sends us from address to address without end") from None
                try:
                    following = address.towards(elsewhere.url)
                except AddressError as error:
                    raise FetchError(address.place, f"it sends us to an address that cannot be used: {error}") from None
                if following.host != address.host:
                    schemes = ("digest",)  # which does not tell the password
                address = following


@dataclass(slots=True)
class _Way:
    """How the packets of one medium come."""

    medium: Medium
    encoding: Encoding
    track: Track
    sockets: list[socket.socket] = field(default_factory=list)  # RTP's and RTCP's
    channels: tuple[int, int] | None = None
    reports_to: tuple[str, int] | None = None  # where RTCP goes, by UDP


class _Pull:
    """One try at one address."""

    def __init__(
        self, puller: Puller, address: SourceAddress, login: tuple[str, Secret] | None, schemes: tuple[str, ...], by: str, *,
        exact: bool, tls: ssl.SSLContext | None,
    ) -> None:  # fmt: skip
        self._puller, self._address, self._login, self._by = puller, address, login, by
        self._exact, self._tls = exact, tls
        self._client = RtspClientSession(address.url, login, schemes)
        self._connection: Connection | None = None
        self._ways: list[_Way] = []
        self._by_channel: dict[int, tuple[int, int]] = {}  # channel: number of the way, and 0 for RTP or 1 for RTCP
        self._stream: RtpStream | None = None
        self._last_packet = 0.0
        self._any_packet = False
        self._readers: list[asyncio.AbstractEventLoop] = []

    def _error(self, text: str, kind: type[FetchError] = FetchError) -> FetchError:
        known = [self._login[1]] if self._login is not None else []
        return kind(self._address.place, without(text, known))

    async def run(self) -> None:
        try:
            self._connection = await connect(self._address, CONNECT_LIMIT, self._tls, lambda *_: None)
        except ConnectError as error:
            raise FetchError(self._address.place, f"it cannot be reached: {error.detail}") from None
        arrived = False
        reason = "the fetching was ended"
        try:
            await self._begin()
            peer = self._connection.writer.get_extra_info("peername") or (self._address.host, self._address.port)
            arrived = True
            self._puller.tell(Arrived(f"{peer[0]}:{peer[1]}"))
            await self._play()
        except RtspError as error:
            raise self._error(reason := str(error)) from None
        except OSError as error:
            reason = f"the connection broke: {os_words(error)}"
            raise self._error(reason) from None
        except FetchError as error:
            reason = error.why
            raise
        finally:
            if arrived:
                self._hand_on(over=True)
                self._puller.tell(Left(self._address.place, reason))
            await self._close()

    # The conversation

    async def _begin(self) -> None:
        """Up to the point where the stream plays."""
        client = self._client
        client.start()
        described = await self._expect(Described)
        assert isinstance(described, Described)
        self._choose(described.description)
        for number, way in enumerate(self._ways):
            await self._set_up(number, way)
        tracks = [(way.track, way.encoding) for way in self._ways]
        wait = _UDP_WAIT if self._by == "udp" else _TCP_WAIT
        self._stream = RtpStream(
            tracks, wait=wait, made_up=not self._exact, follow=self._exact, ssrc=secrets.randbits(31) | 1
        )
        for number, way in enumerate(self._ways):
            self._stream.offer(number, way.medium.encodings)
        self._last_packet = time.monotonic()
        client.play()
        playing = await self._expect(Playing)
        assert isinstance(playing, Playing)
        self._note_begins(playing)

    def _choose(self, description: SessionDescription) -> None:
        """At most one picture and one sound of what is offered."""
        tracks: tuple[Track, ...] = ("video", "audio")
        for track in tracks:
            media = [m for m in description.media if m.kind == track and description.comes_to_us(m)]
            chosen = [(m, e) for m in media if (e := formats.choose(m)) is not None]
            if chosen:
                self._ways.append(_Way(*chosen[0], track))
        if not self._ways:
            kinds = ", ".join(dict.fromkeys(m.kind for m in description.media))
            raise self._error(f"it offers neither picture nor sound ({kinds})")

    async def _set_up(self, number: int, way: _Way) -> None:
        if self._by == "udp":
            way.sockets = _pair(self._address.host, self._local_host())
            ports = [s.getsockname()[1] for s in way.sockets]
            transport = f"RTP/AVP;unicast;client_port={ports[0]}-{ports[1]}"
        else:
            transport = f"RTP/AVP/TCP;unicast;interleaved={2 * number}-{2 * number + 1}"
        self._client.set_up(way.medium, transport)
        done = await self._expect(SetUp)
        assert isinstance(done, SetUp)
        if self._by == "udp":
            if done.channels is not None:
                raise _OtherTransport
            loop = asyncio.get_running_loop()
            for kind, made in enumerate(way.sockets):
                loop.add_reader(made, self._receive, made, number, kind)
            if done.ports is not None:
                way.reports_to = (self._peer_host(), done.ports[1])
            return
        if done.channels is None:
            raise _OtherTransport
        way.channels = done.channels
        for kind, channel in enumerate(done.channels):
            self._by_channel[channel] = (number, kind)

    def _note_begins(self, playing: Playing) -> None:
        assert self._stream is not None
        for url, (_, timestamp) in playing.begins.items():
            tail = url.rstrip("/").rpartition("/")[2]
            for number, way in enumerate(self._ways):
                if way.medium.control and way.medium.control.rstrip("/").rpartition("/")[2] == tail:
                    self._stream.begins(number, timestamp)
        if len(playing.begins) == len(self._ways) and not any(
            way.medium.control.rstrip("/").rpartition("/")[2] == url.rstrip("/").rpartition("/")[2]
            for way in self._ways
            for url in playing.begins
        ):  # told in the order of the media, by names of its own
            for number, (_, timestamp) in enumerate(playing.begins.values()):
                self._stream.begins(number, timestamp)

    def _local_host(self) -> str:
        assert self._connection is not None
        return str(self._connection.writer.get_extra_info("sockname")[0])

    def _peer_host(self) -> str:
        assert self._connection is not None
        return str(self._connection.writer.get_extra_info("peername")[0])

    async def _expect(self, kind: type[Event]) -> Event:
        """The next event, which is to be of this kind. Raises what else the server makes of it."""
        deadline = time.monotonic() + ANSWER_LIMIT
        while True:
            event = self._next()
            if isinstance(event, kind):
                return event
            if event is not None:
                self._judge(event)
                continue
            await self._flush()
            left = deadline - time.monotonic()
            try:
                async with asyncio.timeout(max(0.0, left)):
                    await self._read()
            except TimeoutError:
                raise self._error(f"it takes the connection but does not answer within {ANSWER_LIMIT:g} s") from None

    def _judge(self, event: Event) -> None:
        """Raises what an event means that nobody hoped for."""
        if isinstance(event, Redirected):
            raise _Elsewhere(event.url)
        if isinstance(event, LoginWanted):
            kinds = f" ({', '.join(event.schemes)})" if event.schemes else ""
            if event.refused:
                if self._login is not None:
                    refusals.current().note(self._puller.place, *self._login)
                text = f"it refuses the login{kinds}: check user and password; after a few wrong ones it may lock"
            elif self._login is not None:
                text = f"it wants a login of a kind that cannot be given here{kinds}"
            else:
                text = f"it wants a login{kinds}: give one with --login REFERENCE, in the address, or name the rig's device"
            raise self._error(text, LoginRefused)
        if isinstance(event, RequestRefused):
            if event.method == "SETUP" and event.status == _UNSUPPORTED:
                raise _OtherTransport
            raise self._error(event.text)
        if isinstance(event, TornDown):
            raise self._error("it ends the stream")

    async def _read(self) -> None:
        assert self._connection is not None
        data = await self._connection.reader.read(_READ)
        if not data:
            raise self._error("it closed the connection")
        self._client.receive_data(data)

    def _next(self) -> Event | None:
        """The next event that is no packet; packets go to the stream."""
        while (event := self._client.next_event()) is not None:
            if not isinstance(event, Interleaved):
                return event
            if event.channel in self._by_channel:
                number, kind = self._by_channel[event.channel]
                self._packet(number, kind, event.data, time.monotonic())
        return None

    async def _flush(self) -> None:
        assert self._connection is not None
        data = self._client.data_to_send()
        if data:
            self._connection.writer.write(data)
            try:
                async with asyncio.timeout(ANSWER_LIMIT):
                    await self._connection.writer.drain()
            except TimeoutError:
                raise self._error("it takes no requests any more") from None

    # The stream

    def _packet(self, number: int, kind: int, data: bytes, now: float) -> None:
        if self._stream is None:
            return
        if kind == 0:
            self._last_packet, self._any_packet = now, True
            self._stream.rtp(number, data, now)
        else:
            self._stream.rtcp(number, data, now)

    def _receive(self, made: socket.socket, number: int, kind: int) -> None:
        """Takes all datagrams that wait."""
        now = time.monotonic()
        for _ in range(256):
            try:
                data = made.recv(1 << 16)
            except OSError:
                return
            self._packet(number, kind, data, now)

    async def _play(self) -> None:
        assert self._stream is not None
        loop = asyncio.get_running_loop()
        reading = loop.create_task(self._listen())
        kept_alive = time.monotonic()
        try:
            while True:
                done, _ = await asyncio.wait({reading}, timeout=_AT_ONCE if self._exact else _BATCH)
                if self._by == "udp" and (done or self._stream.ended):
                    await self._drain()
                self._hand_on()
                if self._stream.ended or (done and self._stream.goodbye):
                    raise self._error("it says that the stream is over")
                if done:
                    reading.result()
                now = time.monotonic()
                silent = now - self._last_packet
                if not self._any_packet and silent > FIRST_LIMIT:
                    raise self._error(f"it says that it plays, but sent nothing within {FIRST_LIMIT:g} s{self._hint()}")
                if self._any_packet and silent > self._puller.silence_limit:
                    raise self._error(f"nothing came for {self._puller.silence_limit:g} s")
                if now - kept_alive > max(1.0, min(self._client.timeout / 2, 30.0)):
                    kept_alive = now
                    self._client.keep_alive()
                self._report(now)
                await self._flush()
        finally:
            reading.cancel()
            with contextlib.suppress(asyncio.CancelledError, FetchError, RtspError, OSError, _Elsewhere):
                await reading

    async def _drain(self) -> None:
        """Goodbye, end of the connection and the last packets take three ways: what has come already is read, until nothing more comes."""
        end = time.monotonic() + _DRAINED
        before = -1.0
        while before != self._last_packet and time.monotonic() < end:
            before = self._last_packet
            await asyncio.sleep(_LAST)

    def _hint(self) -> str:
        return ": a firewall may hold UDP back; try --by tcp" if self._by == "udp" else ""

    async def _listen(self) -> None:
        while True:
            await self._read()
            while (event := self._next()) is not None:
                if isinstance(event, RequestRefused) and event.status in (401, 454):
                    raise self._error(f"it has dropped the session: {event.text}")
                if isinstance(event, Redirected | TornDown):
                    self._judge(event)

    def _report(self, now: float) -> None:
        assert self._stream is not None
        for number, data in self._stream.reports(now):
            way = self._ways[number]
            if way.channels is not None:
                self._client.send_packet(interleave(way.channels[1], data))
            elif way.reports_to is not None:
                with contextlib.suppress(OSError):
                    way.sockets[1].sendto(data, way.reports_to)

    def _hand_on(self, *, over: bool = False) -> None:
        if self._stream is not None:
            for event in self._stream.take(time.monotonic(), over=over):
                self._puller.tell(event)

    async def _close(self) -> None:
        loop = asyncio.get_running_loop()
        for way in self._ways:
            for made in way.sockets:
                loop.remove_reader(made)
                made.close()
        assert self._connection is not None
        self._client.tear_down()
        with contextlib.suppress(OSError, FetchError, RtspError, asyncio.CancelledError):
            async with asyncio.timeout(_FAREWELL):
                await self._flush()
                # a session that is not let go of counts against those that the camera allows
                while self._client.awaits_end:
                    await self._read()
                    while (event := self._client.next_event()) is not None and not isinstance(event, TornDown):
                        pass
                    await self._flush()
        await self._connection.close()


def _pair(host: str, local: str) -> list[socket.socket]:
    """Two UDP sockets at neighbouring ports, the first one even (RFC 3550, 11)."""
    family = socket.AF_INET6 if ":" in local else socket.AF_INET
    for _ in range(_TRIES):
        port = secrets.choice(_PORTS)
        made: list[socket.socket] = []
        try:
            for number in (port, port + 1):
                one = socket.socket(family, socket.SOCK_DGRAM)
                made.append(one)
                one.setblocking(False)
                one.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _UDP_BUFFER)
                one.bind((local, number))
            return made
        except OSError:
            for one in made:
                one.close()
    raise FetchError(host, "no two free UDP ports to receive it at: try --by tcp")


def puller(
    address: SourceAddress, login: tuple[str, Secret] | None, on_event: Callable[[ReceiverEvent], None], *,
    by: str = "", exact: bool = False, tls: ssl.SSLContext | None = None,
) -> Puller:  # fmt: skip
    """Fetches the stream at an address."""
    return Puller(address, login, on_event, by=by, exact=exact, tls=tls)
