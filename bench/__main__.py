"""Prints every figure: ``python -m bench [check|receive|help|sheets]``.

check    ``direkt check`` of an hour of 6 Mbit/s FLV against ``cat FILE > /dev/null`` of the same cached file
receive  an RTMP session fed from a loopback socket in 128-byte chunks against a reader that throws the bytes away
sheets   loading and checking 500 sheets against parsing their YAML
help     ``direkt --help`` against ``python -c "import click"``
"""

from __future__ import annotations

import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

RUNS = 5


def direkt() -> str:
    """The installed command beside this Python."""
    return str(Path(sys.executable).with_name("direkt"))


# A launcher of its own: a child's peak memory counts what it was forked from, and this process may be large.
_LAUNCHER = """
import os, resource, subprocess, sys, time
begin = time.perf_counter()
subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
print(time.perf_counter() - begin, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
"""


def whole(command: list[str]) -> tuple[float, int]:
    """Wall seconds and peak memory (KiB) of one process."""
    launcher = [sys.executable, "-S", "-E", "-c", _LAUNCHER, *command]
    seconds, memory = subprocess.run(launcher, capture_output=True, text=True, check=True).stdout.split()
    return float(seconds), int(memory)


def pairs(name: str, command: list[str], baseline: list[str]) -> tuple[float, int]:
    """Runs both in turn; prints medians; returns the median ratio of wall times and the command's peak memory."""
    whole(command), whole(baseline)
    ours, theirs, ratios, memory = [], [], [], 0
    for _ in range(RUNS):
        a, b = whole(command), whole(baseline)
        ours.append(a[0])
        theirs.append(b[0])
        ratios.append(a[0] / b[0])
        memory = max(memory, a[1])
    ratio = statistics.median(ratios)
    print(
        f"{name}: {statistics.median(ours):.3f} s against {statistics.median(theirs):.3f} s: ratio {ratio:.2f} "
        f"(of {RUNS} pairs: {min(ratios):.2f} to {max(ratios):.2f}); peak memory {memory / 1024:.0f} MiB"
    )
    return ratio, memory


def make_hour(path: Path) -> None:
    """An hour of 720p30 at 6 Mbit/s CBR and AAC at 160 kbit/s, as FLV: 32 seconds, repeated with running times."""
    from direkt.codec.testcard import CardSettings
    from direkt.container import flv
    from direkt.sim.push import AudioSettings, Programme

    programme = Programme(CardSettings(1280, 720, Fraction(30), 60, "high", 5840, "cbr"), AudioSettings(48000, 2, 160))
    seconds = 32  # 1500 audio frames of 1024 samples at 48 kHz: video and audio repeat together
    block: list[tuple[int, int, bytes]] = []
    while True:
        when, kind, body = programme.next()
        if when >= seconds:
            break
        block.append((round(when * 1000), kind, body))
    with path.open("wb") as file:
        file.write(flv.header())
        for kind, body in programme.configs():
            file.write(flv.tag(kind, 0, body))
        for start in range(0, 3600, seconds):
            file.write(b"".join(flv.tag(kind, start * 1000 + stamp, body) for stamp, kind, body in block))


def bench_check() -> bool:
    folder = Path(tempfile.mkdtemp(prefix="direkt-bench-"))
    try:
        path = folder / "hour.flv"
        make_hour(path)
        print(f"an hour of FLV: {path.stat().st_size / 1e9:.2f} GB")
        ratio, memory = pairs("direkt check", [direkt(), "check", str(path), "--json"], ["cat", str(path)])
        return ratio <= 8 and memory < 120 * 1024
    finally:
        shutil.rmtree(folder)


def make_wire() -> bytes:
    """What a publisher of 20 s of 20 Mbit/s sends in 128-byte chunks, without the handshake."""
    from direkt.codec.testcard import CardSettings
    from direkt.protocol import amf
    from direkt.protocol.rtmp import chunks
    from direkt.protocol.rtmp.chunks import ChunkWriter, Message
    from direkt.sim.push import AudioSettings, Programme

    writer = ChunkWriter()
    out = [
        writer.write(3, Message(chunks.COMMAND, 0, 0, amf.encode(["connect", 1.0, {"app": "live"}]))),
        writer.write(3, Message(chunks.COMMAND, 0, 0, amf.encode(["createStream", 2.0, None]))),
        writer.write(3, Message(chunks.COMMAND, 1, 0, amf.encode(["publish", 3.0, None, "key", "live"]))),
    ]
    programme = Programme(
        CardSettings(1920, 1080, Fraction(50), 100, "high", 20000, "cbr"), AudioSettings(48000, 2, 160)
    )
    out += [writer.write(6 if kind == 9 else 4, Message(kind, 1, 0, body)) for kind, body in programme.configs()]
    while True:
        when, kind, body = programme.next()
        if when >= 20:
            return b"".join(out)
        out.append(writer.write(6 if kind == 9 else 4, Message(kind, 1, round(when * 1000), body)))


def over_loopback(data: bytes, take: Callable[[bytes], None]) -> tuple[float, float]:
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


def bench_receive() -> bool:
    from direkt.container.flv import TagParser
    from direkt.measure.meter import Meter
    from direkt.protocol.rtmp.server import ConnectRequest, Media, PublishRequest, ServerSession

    wire = bytes([3]) + bytes(1536 * 2) + make_wire()
    ratios, rates = [], []
    for _ in range(RUNS):
        session, parser, meter = ServerSession(bytes(1528)), TagParser(), Meter()

        def take(
            part: bytes, session: ServerSession = session, parser: TagParser = parser, meter: Meter = meter
        ) -> None:
            while events := session.receive(part):
                part = b""
                for event in events:
                    if isinstance(event, Media):
                        found = parser.parse(event.kind, event.timestamp, event.body)
                        if found is not None:
                            meter.add(found)
                    elif isinstance(event, ConnectRequest):
                        session.accept_connect()
                    elif isinstance(event, PublishRequest):
                        session.accept_publish()
            session.data_to_send()

        ours = over_loopback(wire, take)
        thrown = over_loopback(wire, lambda part: None)
        assert meter.seconds > 19, "the stream did not arrive"
        ratios.append(ours[0] / thrown[0])
        rates.append(len(wire) * 8 / ours[1] / 1e6)
    print(
        f"receive and measure, 128-byte chunks: {statistics.median(rates):.0f} Mbit/s per core; "
        f"ratio to throwing away {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})"
    )
    return statistics.median(rates) >= 200


def bench_help() -> bool:
    ratio, _ = pairs("direkt --help", [direkt(), "--help"], [sys.executable, "-c", "import click"])
    return ratio <= 1.4


def bench_sheets() -> bool:
    import yaml

    from direkt.destination import library

    folder = Path(tempfile.mkdtemp(prefix="direkt-bench-"))
    try:
        source = Path(library.__file__).parent / "shipped" / "tarnlight.yaml"
        paths = [folder / f"sheet-{n}.yaml" for n in range(500)]
        for path in paths:
            shutil.copy(source, path)
        library.load(str(paths[0]))
        ratios, times = [], []
        for _ in range(RUNS):
            begin = time.perf_counter()
            for path in paths:
                library.load(str(path))
            middle = time.perf_counter()
            for path in paths:
                yaml.compose(path.read_text(), Loader=yaml.CSafeLoader)
            ratios.append((middle - begin) / (time.perf_counter() - middle))
            times.append(middle - begin)
        print(
            f"500 sheets of {source.stat().st_size} bytes: {statistics.median(times):.2f} s; "
            f"ratio to parsing their YAML alone {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})"
        )
        return statistics.median(ratios) <= 2  # an idle machine takes less than a second; seconds alone tell little
    finally:
        shutil.rmtree(folder)


BENCHES = {"check": bench_check, "receive": bench_receive, "help": bench_help, "sheets": bench_sheets}


def main() -> int:
    names = sys.argv[1:] or list(BENCHES)
    good = True
    for name in names:
        met = BENCHES[name]()
        print(f"  {'within' if met else 'OUTSIDE'} what the project promises")
        good = good and met
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
