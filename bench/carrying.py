"""Ten feeds carried at once by processes of the command that share one core, cameras and platform on the other."""

from __future__ import annotations

import asyncio
import contextlib
import json
import multiprocessing
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from fractions import Fraction
from pathlib import Path

from direkt.codec.programme import AudioSettings, Programme
from direkt.codec.testcard import CardSettings
from direkt.media import Format, Samples
from direkt.net import rtmp
from direkt.secret import Secret
from direkt.sim.rtsp import RtspServer

_KEY = "varn~fake~bench"
_RIG = """\
schema: direkt.rig/1
name: Bench
devices:
  camera: {driver: fescue, address: "http://127.0.0.1:9"}
destinations:
"""


class _Loop:
    """Ten seconds of a stream, again and again: made once, so that the cameras cost little."""

    def __init__(self, rows: list[tuple[Fraction, Samples]], formats: list[Format], length: Fraction) -> None:
        self._rows, self._formats, self._length = rows, formats, length
        self._ticks = {f.track: round(length / f.tick) for f in formats}
        self._at = 0

    def formats(self) -> list[Format]:
        return self._formats

    def next(self) -> tuple[Fraction, Samples]:
        turn, n = divmod(self._at, len(self._rows))
        self._at += 1
        time_, s = self._rows[n]
        shift = turn * self._ticks[s.track]
        return time_ + turn * self._length, Samples(
            s.track, s.data, s.offset, s.size, s.dts + shift, s.pts + shift, s.marked
        )


def _sites(ports: multiprocessing.Queue[tuple[int, int]], count: int) -> None:
    """Cameras and platforms; never ends by itself."""
    os.sched_setaffinity(0, {sorted(os.sched_getaffinity(0))[-1]})
    programme = Programme(CardSettings(1920, 1080, Fraction(25), 50, "high", 5870, "cbr"), AudioSettings(48000, 2, 128))
    formats, rows = programme.formats(), []
    length = Fraction(32, 3)  # s: whole pictures, groups and audio frames
    while (following := programme.next())[0] < length:
        rows.append(following)

    async def run() -> None:
        for _ in range(count):
            camera = RtspServer(lambda _: _Loop(rows, formats, length))
            platform = rtmp.Receiver("live", Secret(_KEY), lambda event: None)
            ports.put((await camera.start(), await platform.start("127.0.0.1", 0)))
        await asyncio.Event().wait()

    asyncio.run(run())


def bench(direkt: str, count: int, seconds: float) -> tuple[list[float], float, int, int]:
    """Pace of each feed, CPU seconds of all carriers in each second (of one core), and peak memory (KiB) of one: all, and its share of
    what processes have in common."""
    context = multiprocessing.get_context("spawn")
    ports: multiprocessing.Queue[tuple[int, int]] = context.Queue()
    sites = context.Process(target=_sites, args=(ports, count), daemon=True)
    sites.start()
    pairs = [ports.get(timeout=60) for _ in range(count)]
    with tempfile.TemporaryDirectory(prefix="direkt-bench-") as name:
        folder = Path(name)
        text = _RIG + "".join(
            f'  p{n}: {{sheet: tarnlight, server: "rtmp://127.0.0.1:{rtmp_}/live", key: "file:keys.yaml#k"}}\n'
            for n, (_, rtmp_) in enumerate(pairs)
        )
        text += "feeds:\n" + "".join(
            f"  f{n}: {{device: camera, destination: p{n}, carry: true, source: rtsp://127.0.0.1:{rtsp}/x}}\n"
            for n, (rtsp, _) in enumerate(pairs)
        )
        (folder / "rig.yaml").write_text(text)
        (folder / "keys.yaml").write_text(f"k: {_KEY}\n")
        (folder / "keys.yaml").chmod(0o600)
        core = sorted(os.sched_getaffinity(0))[0]
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        begin = time.perf_counter()
        children = [
            subprocess.Popen(
                [direkt, "push", "on", f"f{n}", "--for", f"{seconds:g}s", "--json"], cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                preexec_fn=lambda: os.sched_setaffinity(0, {core}),
            )
            for n in range(count)
        ]  # fmt: skip
        outputs: list[bytes] = [b""] * count
        peaks, shares = [0] * count, [0] * count

        def read(n: int) -> None:
            while True:
                with contextlib.suppress(subprocess.TimeoutExpired):
                    outputs[n] = children[n].communicate(timeout=1.0)[0]
                    return
                peaks[n] = max(peaks[n], _told(children[n].pid, "status", "VmHWM:"))
                shares[n] = max(shares[n], _told(children[n].pid, "smaps_rollup", "Pss:"))

        threads = [threading.Thread(target=read, args=(n,)) for n in range(count)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        whole = time.perf_counter() - begin
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
    sites.kill()
    found = [json.loads(out) for out in outputs]
    paces = [one["sent"]["measured"]["stream.pace"] for one in found]
    rates = [one["sent"]["measured"]["stream.bitrate.mean"] for one in found]
    assert min(rates) > 5900, rates
    assert not any(one["sent"]["gaps"] for one in found)
    spent = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return paces, spent / whole, max(peaks), max(shares)


def _told(pid: int, file: str, name: str) -> int:
    """KiB that the system tells of a process. Not what it says of a child that ended: that counts what it was forked from."""
    with contextlib.suppress(OSError):
        for line in Path(f"/proc/{pid}/{file}").read_text().splitlines():
            if line.startswith(name):
                return int(line.split()[1])
    return 0


def main() -> bool:
    """Prints it."""
    direkt = str(Path(sys.executable).with_name("direkt"))
    paces, share, memory, own = bench(direkt, 10, 60.0)
    alone, share_alone, _, _ = bench(direkt, 1, 30.0)
    print(
        f"ten feeds of 6 Mbit/s carried on one core, 60 s: pace {min(paces):.3f} to {max(paces):.3f} (one alone: {statistics.mean(alone):.3f}), "
        f"{100 * share:.0f} % of the core (one alone: {100 * share_alone:.0f} %), start included; peak memory of each {memory / 1024:.0f} MiB, {own / 1024:.0f} MiB where what they share is shared out"
    )
    return min(paces) > 0.995 and own < 60 << 10


def share_of_one() -> float:
    """Of a core, what carrying one feed takes."""
    return bench(str(Path(sys.executable).with_name("direkt")), 1, 30.0)[1]
