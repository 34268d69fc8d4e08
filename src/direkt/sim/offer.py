"""Simulated gear that offers its stream by RTMP: whoever asks for it gets it played, paced in real time."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Callable

from direkt.container import flv_writer
from direkt.protocol.errors import LocalError
from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.server import ConnectRequest, PlayRequest, PublishRequest, RtmpServerSession, Unpublished
from direkt.sim.rtsp import Show

_READ = 1 << 16  # bytes
APP = "offered"


class RtmpOffer:
    """One port. ``show_of``: what a name gives out, or nothing."""

    def __init__(self, show_of: Callable[[str], Show | None]) -> None:
        self.show_of = show_of
        self.port = 0
        self._server: asyncio.Server | None = None
        self._clients: set[asyncio.Task[None]] = set()

    async def start(self, host: str, port: int) -> int:
        """Opens the port and returns it. Raises OSError."""
        self._server = await asyncio.start_server(self._serve, host, port)
        self.port = self._server.sockets[0].getsockname()[1]
        return self.port

    async def stop(self) -> None:
        """Closes the port and all connections."""
        if self._server is not None:
            self._server.close()
        for task in list(self._clients):
            task.cancel()
        await asyncio.gather(*self._clients, return_exceptions=True)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._clients.add(task)
        playing: asyncio.Task[None] | None = None
        session = RtmpServerSession(os.urandom(1528))
        try:
            while data := await reader.read(_READ):
                session.receive_data(data)
                while (event := session.next_event()) is not None:
                    if isinstance(event, ConnectRequest):
                        if event.app == APP:
                            session.accept_connect()
                        else:
                            session.reject_connect("No such application.")
                    elif isinstance(event, PublishRequest):
                        session.reject_publish("Nothing is taken here.")
                    elif isinstance(event, PlayRequest):
                        show = self.show_of(event.name)
                        if show is None:
                            session.reject_play("No such stream.")
                        else:
                            session.accept_play()
                            playing = asyncio.create_task(self._play(session, writer, show))
                    elif isinstance(event, Unpublished) and playing is not None:
                        playing.cancel()
                writer.write(session.data_to_send())
                await writer.drain()
        except (OSError, RtmpError, LocalError, asyncio.CancelledError):
            pass  # whoever it was is gone
        finally:
            if playing is not None:
                playing.cancel()
                with contextlib.suppress(asyncio.CancelledError, OSError, LocalError):
                    await playing
            self._clients.discard(task)
            writer.close()

    async def _play(self, session: RtmpServerSession, writer: asyncio.StreamWriter, show: Show) -> None:
        loop, tags = asyncio.get_running_loop(), flv_writer.TagWriter()
        begin = loop.time()
        for format in show.formats():
            for tag in tags.tags(format):
                session.send_media(*tag)
        while (following := show.next()) is not None:
            moment, samples = following
            ahead = begin + float(moment) - loop.time()
            if ahead > 0:
                await asyncio.sleep(ahead)
            for tag in tags.tags(samples):
                session.send_media(*tag)
            writer.write(session.data_to_send())
            await writer.drain()
