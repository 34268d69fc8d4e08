"""The RTSP server of simulated gear: real sockets, by TCP and UDP, and what goes wrong with cameras and networks.

What it gives out is a show: media events in the order of their times. Each who plays gets a show of its own from its beginning.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import socket
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Protocol
from urllib.parse import urlsplit

from direkt.media import Format, Samples, Track
from direkt.protocol.rtp import rtcp, sender
from direkt.protocol.rtp.packet import HEADER_SIZE
from direkt.protocol.rtp.sender import Sender, Style
from direkt.protocol.rtsp import sdp
from direkt.protocol.rtsp.messages import Interleaved, RtspError, RtspRequest
from direkt.protocol.rtsp.sdp import Medium
from direkt.protocol.rtsp.server import Asked, RtspServerSession

_READ = 1 << 16  # bytes
_REPORT_EVERY = 5.0  # s
_CNAME = "camera"
_LATE = 30.0  # s that the line may be stuck
_TRIES = 50  # pairs of ports
_HELD = 3  # packets behind which one that is late is sent


class Show(Protocol):
    """What is given out."""

    def formats(self) -> list[Format]:
        """How its tracks are coded."""

    def next(self) -> tuple[Fraction, Samples] | None:
        """The next samples, and the time (s) at which they are sent; None: it is over."""


@dataclass(slots=True)
class RtspFaults:
    """What goes wrong on purpose."""

    lost: float = 0.0  # share of packets that never come
    doubled: float = 0.0  # share that come twice
    reordered: float = 0.0  # share that come behind later ones
    wraps: bool = False  # numbers and time stamps begin right in front of their end
    jump: tuple[float, float] | None = None  # at this time (s) the time stamps jump by so much (s)
    new_source: float | None = None  # at this time (s) another SSRC takes over
    silence: tuple[float, float] | None = None  # at this time (s) nothing is sent for so long (s)
    timeout: float = 60.0  # s without a word after which the session is dropped
    pieces: bool = False  # answers come in several pieces
    no_udp: bool = False
    no_tcp: bool = False
    moved_to: str = ""  # an address to which everybody is sent
    slow: float = 0.0  # s before each answer
    no_reports: bool = False
    apart: bool = False  # each medium is started and ended by itself
    farewell: bool = False  # the old source says goodbye when another takes over
    no_info: bool = False  # does not tell where the stream begins
    wall_ahead: float = 0.0  # s that its clock is ahead
    drift: float = 0.0  # ppm by which the sound's clock is fast
    fast: float = 1.0  # media seconds sent in a second
    seed: int = 1


@dataclass(slots=True)
class Sent:
    """What was sent, for tests."""

    packets: int = 0
    dropped: int = 0
    doubled: int = 0
    reordered: int = 0
    by: list[str] = field(default_factory=list)


class RtspServer:
    """One camera's port. ``show_of``: what a path gives out, or nothing; ``refuse``: see ServerSession."""

    def __init__(
        self, show_of: Callable[[str], Show | None], refuse: Callable[[RtspRequest], tuple[str, ...]] = lambda _: (), *,
        name: str = "camera", style: Style | None = None, broken: RtspFaults | None = None,
    ) -> None:  # fmt: skip
        self.show_of, self.refuse, self.name = show_of, refuse, name
        self.style, self.broken = style or Style(), broken or RtspFaults()
        self.sent = Sent()
        self.clients: set[asyncio.Task[None]] = set()
        self._server: asyncio.Server | None = None
        self.host, self.port = "127.0.0.1", 0

    async def start(self, host: str = "127.0.0.1", port: int = 0) -> int:
        """Opens the port and returns it. Raises OSError."""
        self._server = await asyncio.start_server(self._serve, host, port)
        self.host, self.port = host, self._server.sockets[0].getsockname()[1]
        return self.port

    async def stop(self) -> None:
        """Closes the port and all connections."""
        if self._server is not None:
            self._server.close()
        for task in list(self.clients):
            task.cancel()
        await asyncio.gather(*self.clients, return_exceptions=True)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self.clients.add(task)
        try:
            await _Client(self, reader, writer).run()
        except (OSError, RtspError, asyncio.CancelledError, TimeoutError):
            pass  # whoever it was is gone
        finally:
            self.clients.discard(task)
            writer.close()


@dataclass(slots=True)
class _Out:
    """One medium on its way to a client."""

    track: Track
    format: Format
    sender: Sender
    channels: tuple[int, int] | None = None
    sockets: tuple[socket.socket, socket.socket] | None = None
    to: tuple[str, int, int] | None = None
    late: list[tuple[int, bytes]] = field(default_factory=list)  # packets that are held back, and for how many more

    @property
    def is_set_up(self) -> bool:
        return self.channels is not None or self.sockets is not None


class _Client:
    """One connection."""

    def __init__(self, server: RtspServer, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._server, self._reader, self._writer = server, reader, writer
        self._session = RtspServerSession(server.refuse)
        self._random = random.Random(server.broken.seed)
        self._show: Show | None = None
        self._outs: list[_Out] = []
        self._playing: asyncio.Task[None] | None = None
        self._heard = time.monotonic()
        self._turn = asyncio.Lock()

    async def run(self) -> None:
        try:
            while True:
                limit = self._server.broken.timeout - (time.monotonic() - self._heard)
                async with asyncio.timeout(max(0.05, limit)):
                    data = await self._reader.read(_READ)
                if not data:
                    return
                self._session.receive_data(data)
                while (event := self._session.next_event()) is not None:
                    if isinstance(event, Interleaved):
                        continue
                    self._heard = time.monotonic()
                    await self._do(event)
                await self._flush()
                if self._playing is not None and self._playing.done():
                    return
        finally:
            if self._playing is not None:
                self._playing.cancel()
                with contextlib.suppress(asyncio.CancelledError, OSError, TimeoutError):
                    await self._playing
            for out in self._outs:
                for made in out.sockets or ():
                    made.close()

    async def _flush(self) -> None:
        async with self._turn:
            data = self._session.data_to_send()
            if self._server.broken.pieces and data[:5] == b"RTSP/":
                for at in range(0, len(data), 17):
                    self._writer.write(data[at : at + 17])
                    await asyncio.sleep(0.001)
            elif data:
                self._writer.write(data)
            async with asyncio.timeout(_LATE):
                await self._writer.drain()

    async def _do(self, asked: Asked) -> None:
        broken, request, session = self._server.broken, asked.request, self._session
        if broken.slow:
            await asyncio.sleep(broken.slow)
        if request.method == "DESCRIBE":
            self._describe(request)
        elif request.method == "SETUP":
            self._set_up(asked)
        elif request.method == "PLAY":
            self._play(request)
        elif request.method == "TEARDOWN":
            session.answer(request, 200)
            if self._playing is not None:
                self._playing.cancel()
        else:
            session.answer(request, 200 if session.session or request.method == "OPTIONS" else 454)

    def _describe(self, request: RtspRequest) -> None:
        if self._server.broken.moved_to:
            self._session.answer(request, 302, {"Location": self._server.broken.moved_to})
            return
        parts = urlsplit(request.url)
        self._show = self._server.show_of(parts.path + (f"?{parts.query}" if parts.query else ""))
        if self._show is None:
            self._session.answer(request, 404)
            return
        style = self._server.style
        self._outs, media = [], []
        for number, format in enumerate(self._show.formats()):
            encoding = sender.describe(format, 96 + number, style)
            wraps = self._server.broken.wraps
            made = Sender(
                format, encoding, style, ssrc=self._random.getrandbits(32),
                first=0xFFFFFFFF - encoding.clock if wraps else self._random.getrandbits(31),
                sequence=0xFFFF - 40 if wraps else self._random.getrandbits(15),
            )  # fmt: skip
            self._outs.append(_Out(format.track, format, made))
            media.append(Medium(format.track, (encoding,), f"track{number + 1}", "recvonly"))
        body = sdp.build(self._server.name, media).encode()
        self._session.answer(request, 200, {"Content-Type": "application/sdp", "Content-Base": request.url + "/"}, body)

    def _set_up(self, asked: Asked) -> None:
        request, offer, session = asked.request, asked.offer, self._session
        name = request.url.rpartition("/")[2]
        number = int(name.removeprefix("track")) - 1 if name.removeprefix("track").isdigit() else -1
        if not 0 <= number < len(self._outs) or offer is None:
            session.answer(request, 404)
            return
        out, broken = self._outs[number], self._server.broken
        session.session = session.session or f"{self._random.getrandbits(32):08X}"
        told = {"Session": f"{session.session};timeout={broken.timeout:.0f}"}
        if offer.ports is not None and not broken.no_udp:
            host = str(self._writer.get_extra_info("peername")[0])
            made = [
                socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET, socket.SOCK_DGRAM) for _ in range(2)
            ]
            self._bind(made)
            out.sockets, out.to = (made[0], made[1]), (host, *offer.ports)
            ports = "-".join(str(one.getsockname()[1]) for one in made)
            told["Transport"] = f"RTP/AVP;unicast;client_port={offer.ports[0]}-{offer.ports[1]};server_port={ports}"
        elif offer.ports is None and not broken.no_tcp:
            out.channels = offer.channels or (2 * number, 2 * number + 1)
            told["Transport"] = f"RTP/AVP/TCP;unicast;interleaved={out.channels[0]}-{out.channels[1]}"
        else:
            session.answer(request, 461)
            return
        session.answer(request, 200, told)

    def _bind(self, made: list[socket.socket]) -> None:
        """An even port and the one above it (RFC 3550, 11). Raises OSError where there are none."""
        for _ in range(_TRIES):
            port = self._random.randrange(40000, 49998, 2)
            with contextlib.suppress(OSError):
                made[0].bind((self._server.host, port))
                made[1].bind((self._server.host, port + 1))
                for one in made:
                    one.setblocking(False)
                return
            for n, one in enumerate(made):
                family = one.family
                one.close()
                made[n] = socket.socket(family, socket.SOCK_DGRAM)
        raise OSError("no two free ports")

    def _play(self, request: RtspRequest) -> None:
        if self._server.broken.apart and not request.url.rstrip("/").rpartition("/")[2].startswith("track"):
            self._session.answer(request, 459)
            return
        if not any(out.is_set_up for out in self._outs) or self._show is None:
            self._session.answer(request, 455)
            return
        base = request.url.rstrip("/")
        if self._server.broken.apart:
            base = base.rpartition("/")[0]
        info = ",".join(
            f"url={base}/track{n + 1};seq={out.sender.sequence & 0xFFFF};rtptime={out.sender.first & 0xFFFFFFFF}"
            for n, out in enumerate(self._outs)
            if out.is_set_up
        )
        told = {"Range": "npt=0.000-"} | ({} if self._server.broken.no_info else {"RTP-Info": info})
        self._session.answer(request, 200, told)
        self._session.playing = True
        if self._playing is None:
            self._server.sent.by.append("udp" if self._outs[0].sockets else "tcp")
            self._playing = asyncio.get_running_loop().create_task(self._stream())

    # The stream

    async def _stream(self) -> None:
        assert self._show is not None
        loop, broken = asyncio.get_running_loop(), self._server.broken
        begin, wall = loop.time(), time.time() + broken.wall_ahead
        next_report, silent, changed = 0.0, 0.0, False
        while (following := self._show.next()) is not None:
            moment, samples = following
            seconds = float(moment)
            if broken.silence is not None and seconds >= broken.silence[0] and not silent:
                silent = broken.silence[1]
                begin = max(
                    begin, loop.time() - seconds / broken.fast
                )  # also where it is late, nothing comes for so long
            ahead = begin + (seconds + silent) / broken.fast - loop.time()
            if ahead > 0:
                await self._flush()
                await asyncio.sleep(ahead)
            if broken.new_source is not None and seconds >= broken.new_source and not changed:
                changed = True
                self._change_source()
            if seconds >= next_report and not broken.no_reports:
                next_report = seconds + _REPORT_EVERY
                await self._reports(wall, seconds, silent)
            out = next((o for o in self._outs if o.track == samples.track), None)
            if out is not None and out.is_set_up:
                self._send(out, samples, silent)
                await self._flush()
        for out in self._outs:
            if out.is_set_up:
                self._to_client(out, 1, rtcp.goodbye(out.sender.ssrc))
        await self._flush()
        self._writer.close()

    def _change_source(self) -> None:
        for out in self._outs:
            if self._server.broken.farewell and out.is_set_up:
                self._to_client(out, 1, rtcp.goodbye(out.sender.ssrc))
            out.sender.ssrc = self._random.getrandbits(32)
            out.sender.sequence = self._random.getrandbits(15)
            out.sender.first = self._random.getrandbits(31)

    async def _reports(self, wall: float, seconds: float, silent: float) -> None:
        for out in self._outs:
            if out.is_set_up:
                # the sound's clock may be fast: at the same moment it is further on
                mine = seconds * (1 + self._server.broken.drift / 1e6 if out.track == "audio" else 1)
                shift = self._shift(seconds) + silent
                self._to_client(out, 1, out.sender.report(wall + seconds + silent, mine + shift, _CNAME))
        await self._flush()

    def _shift(self, seconds: float) -> float:
        jump = self._server.broken.jump
        return jump[1] if jump is not None and seconds >= jump[0] else 0.0

    def _send(self, out: _Out, samples: Samples, silent: float) -> None:
        fast = 1 + self._server.broken.drift / 1e6 if out.track == "audio" else 1
        for n in range(len(samples)):
            shown = float(int(samples.pts[n]) * out.format.tick)
            stamp = out.sender.stamp(shown * fast + silent + self._shift(shown))
            for packet in out.sender.send(bytes(samples.sample(n)), stamp, key=bool(samples.marked[n])):
                self._deliver(out, packet)

    def _deliver(self, out: _Out, packet: bytes) -> None:
        """Sends a packet, or does to it what the network does."""
        broken, sent, chance = self._server.broken, self._server.sent, self._random.random
        sent.packets += 1
        for n, (more, held) in enumerate(out.late):
            out.late[n] = (more - 1, held)
        if broken.lost and chance() < broken.lost:
            sent.dropped += 1
        elif broken.reordered and len(packet) > HEADER_SIZE and chance() < broken.reordered:
            sent.reordered += 1
            out.late.append((_HELD, packet))
        else:
            self._to_client(out, 0, packet)
            if broken.doubled and chance() < broken.doubled:
                sent.doubled += 1
                self._to_client(out, 0, packet)
        while out.late and out.late[0][0] <= 0:
            self._to_client(out, 0, out.late.pop(0)[1])

    def _to_client(self, out: _Out, kind: int, packet: bytes) -> None:
        if out.channels is not None:
            self._session.send_packet(out.channels[kind], packet)
        elif out.sockets is not None and out.to is not None:
            with contextlib.suppress(OSError):
                out.sockets[kind].sendto(packet, (out.to[0], out.to[1 + kind]))
