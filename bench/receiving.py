"""Receiving over real sockets: one publisher as fast as it goes, and many at their own pace."""

from __future__ import annotations

import asyncio
import contextlib
import dataclasses
import multiprocessing
import os
import resource
import socket
import threading
import time
from collections.abc import Callable
from fractions import Fraction

from bench import material
from direkt.codec.programme import AudioSettings, Programme
from direkt.codec.testcard import CardSettings
from direkt.container import flv
from direkt.measure.meter import Meter
from direkt.net import rtmp
from direkt.net.transport import Arrived, Left
from direkt.protocol import address, amf
from direkt.protocol.rtmp import chunks
from direkt.protocol.rtmp.chunks import ChunkWriter, RtmpMessage
from direkt.protocol.rtmp.server import ConnectRequest, PublishRequest, RtmpServerSession
from direkt.protocol.rtmp.session import TagMessage
from direkt.secret import Secret

_KEY = "varn~fake~bench"


def _wire() -> bytes:
    """What a publisher of 20 s of 20 Mbit/s sends in 128-byte chunks, without the handshake."""
    writer = ChunkWriter()
    out = [
        writer.write(3, RtmpMessage(chunks.COMMAND, 0, 0, amf.encode(["connect", 1.0, {"app": "live"}]))),
        writer.write(3, RtmpMessage(chunks.COMMAND, 0, 0, amf.encode(["createStream", 2.0, None]))),
        writer.write(3, RtmpMessage(chunks.COMMAND, 1, 0, amf.encode(["publish", 3.0, None, "key", "live"]))),
    ]
    programme = Programme(
        CardSettings(1920, 1080, Fraction(50), 100, "high", 20000, "cbr"), AudioSettings(48000, 2, 160)
    )
    samples = []
    while (following := programme.next())[0] < 20:
        samples.append(following[1])
    for kind, stamp, body in material.tags(programme.formats(), samples):
        out.append(writer.write(6 if kind == 9 else 4, RtmpMessage(kind, 1, stamp, body)))
    return b"".join(out)


def _over_loopback(data: bytes, take: Callable[[bytes], None]) -> tuple[float, float]:
    """Wall and CPU seconds that this thread needs to take ``data`` from a loopback socket."""
    listener = socket.create_server(("127.0.0.1", 0))

    def send() -> None:
        with socket.create_connection(listener.getsockname()) as sender:
            sender.sendall(data)

    threading.Thread(target=send, daemon=True).start()
    connection, _ = listener.accept()
    begin, cpu = time.perf_counter(), time.thread_time()
    with connection:
        while part := connection.recv(1 << 16):
            take(part)
    listener.close()
    return time.perf_counter() - begin, time.thread_time() - cpu


def against_throwing_away(runs: int) -> tuple[list[float], list[float]]:
    """Ratios of wall time to a reader that throws the bytes away, and Mbit/s per core."""
    wire = bytes([3]) + bytes(1536 * 2) + _wire()
    ratios, rates = [], []
    for _ in range(runs):
        session, tags, meter = RtmpServerSession(bytes(1528)), flv.TagQueue(), Meter()

        def take(
            part: bytes, session: RtmpServerSession = session, tags: flv.TagQueue = tags, meter: Meter = meter
        ) -> None:
            session.receive_data(part)
            while (event := session.next_event()) is not None:
                if isinstance(event, TagMessage):
                    tags.add(event.kind, event.timestamp, event.body, 0.0)
                elif isinstance(event, ConnectRequest):
                    session.accept_connect()
                elif isinstance(event, PublishRequest):
                    session.accept_publish()
            if tags.bytes > 600_000:  # about a quarter of a second
                meter.add_all(tags.take())
            session.data_to_send()

        ours = _over_loopback(wire, take)
        thrown = _over_loopback(wire, lambda part: None)
        meter.add_all(tags.take())
        assert meter.seconds > 19, "the stream did not arrive"
        ratios.append(ours[0] / thrown[0])
        rates.append(len(wire) * 8 / ours[1] / 1e6)
    return ratios, rates


# Many publishers


def crowd(count: int, seconds: float) -> tuple[list[float], float, int]:
    """The pace at which each publisher was measured, the receivers' share of their core, and their peak memory (KiB).

    All receivers run in one process that is held to one core; the publishers run in another, on the others.
    """
    ports, results = multiprocessing.SimpleQueue(), multiprocessing.SimpleQueue()
    receiver = multiprocessing.Process(target=_receive, args=(count, seconds, ports, results))
    receiver.start()
    open_ports = ports.get()
    sender = multiprocessing.Process(target=_send, args=(open_ports, seconds))
    sender.start()
    found = results.get()
    sender.join()
    receiver.join()
    paces: list[float] = found[0]
    return paces, found[1], found[2]


def _receive(count: int, seconds: float, ports: object, results: object) -> None:
    os.sched_setaffinity(0, {0})

    async def run() -> None:
        meters = [Meter("rtmp") for _ in range(count)]
        receivers = []
        left = 0
        all_left = asyncio.Event()

        def taker(meter: Meter) -> Callable[[object], None]:
            def take(event: object) -> None:
                nonlocal left
                if isinstance(event, Left):
                    left += 1
                    if left == count:
                        all_left.set()
                elif not isinstance(event, Arrived):
                    meter.add(event)  # type: ignore[arg-type]

            return take

        opened = []
        for meter in meters:
            receiver = rtmp.Receiver("live", Secret(_KEY), taker(meter))
            opened.append(await receiver.start("127.0.0.1", 0))
            receivers.append(receiver)
        ports.put(opened)  # type: ignore[attr-defined]
        cpu = time.process_time()
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(all_left.wait(), seconds + 30)
        cpu = time.process_time() - cpu
        paces = []
        for meter in meters:
            values = meter.snapshot().values
            if values.get("stream.duration", 0) >= seconds - 1 and "stream.pace" in values:
                paces.append(values["stream.pace"])
        for receiver in receivers:
            await receiver.stop()
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        results.put((paces, cpu / seconds, memory))  # type: ignore[attr-defined]

    asyncio.run(run())


def _send(ports: list[int], seconds: float) -> None:
    """All publishers: each sends the same prepared block at its own pace, in 128-byte chunks."""
    os.sched_setaffinity(0, set(range(1, os.cpu_count() or 2)) or {0})
    formats, block = material.block("tone")
    ticks = {format.track: format.tick for format in formats}
    when = [float(int(samples.dts[0]) * ticks[samples.track]) for samples in block]  # s

    async def one(port: int, n: int) -> None:
        publisher = rtmp.Publisher(address.parse(f"rtmp://127.0.0.1:{port}/live"), Secret(_KEY), chunk_size=128)
        await asyncio.sleep(n * 0.05)
        await publisher.start()
        for format in formats:
            await publisher.send(format)
        loop = asyncio.get_running_loop()
        begin = loop.time()
        start = 0
        while True:
            shift = {track: int(start / tick) for track, tick in ticks.items()}
            for moment, samples in zip(when, block, strict=True):
                if start + moment >= seconds:
                    await publisher.close()
                    return
                if (ahead := begin + start + moment - loop.time()) > 0.004:
                    await asyncio.sleep(ahead)
                dts = samples.dts + shift[samples.track]
                await publisher.send(dataclasses.replace(samples, dts=dts, pts=dts))
            start += material.SECONDS

    async def run() -> None:
        await asyncio.gather(*(one(port, n) for n, port in enumerate(ports)))

    asyncio.run(run())
