"""Two hundred simulated devices watched on one core; a day on a faster clock; a hundred viewers of the page against one feed."""

from __future__ import annotations

import gc
import json
import os
import re
import socket
import subprocess
import sys
import tempfile
import threading
import time
import tracemalloc
from pathlib import Path

COUNT, DROPS, SECONDS = 200, 12, 70
_GEAR = """
import sys, threading, time
from direkt.sim.brindle import BrindleB2
gear = [BrindleB2("op", "pw") for _ in range(int(sys.argv[1]))]
server = sys.argv[2]
for one in gear:
    one.start()
    one._slot = {"channel": "main", "server": server, "key": "varn~fake~crowd"}
    one.push_state = "pushing"
print(" ".join(str(one.port) for one in gear), flush=True)
def count():
    while True:
        time.sleep(0.5)
        for one in gear:
            if one.push_state == "pushing":
                one.sent += 375_000
threading.Thread(target=count, daemon=True).start()
for line in sys.stdin:
    number, state = line.split()
    gear[int(number)].push_state = state
    print(time.time(), flush=True)
"""
_SERVER = "rtmp://ingest.tarnlight.example/live"


def _rig(folder: Path, ports: list[int]) -> None:
    (folder / "secrets.yaml").write_text("t: varn~fake~crowd\nlogin: op:pw\n")
    (folder / "secrets.yaml").chmod(0o600)
    head = f'schema: direkt.rig/1\nname: Crowd\ndestinations:\n  t: {{sheet: tarnlight, server: "{_SERVER}", key: "file:secrets.yaml#t"}}\n'
    devices = "".join(
        f'  d{n}: {{driver: brindle-b2, address: "http://127.0.0.1:{port}", login: "file:secrets.yaml#login"}}\n'
        for n, port in enumerate(ports)
    )
    feeds = "".join(f"  f{n}: {{device: d{n}, destination: t}}\n" for n in range(len(ports)))
    (folder / "rig.yaml").write_text(f"{head}devices:\n{devices}feeds:\n{feeds}")


def _usage(process: int) -> tuple[float, int]:
    """CPU s so far, and peak memory in KiB."""
    fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    peak = re.search(r"VmHWM:\s+(\d+)", Path(f"/proc/{process}/status").read_text())
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK"), int(peak[1]) if peak else 0


def crowd(direkt: str) -> bool:
    """Prints the figures; whether they are within what is wanted."""
    with tempfile.TemporaryDirectory(prefix="direkt-bench-") as name:
        folder = Path(name)
        gear = subprocess.Popen(
            [sys.executable, "-c", _GEAR, str(COUNT), _SERVER], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert gear.stdin is not None and gear.stdout is not None
        try:
            _rig(folder, [int(port) for port in gear.stdout.readline().split()])
            watch = subprocess.Popen(
                ["taskset", "-c", "0", direkt, "watch", "--no-mend", "--for", str(SECONDS), "--json"], cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
            )  # fmt: skip
            seen: dict[str, float] = {}

            def read() -> None:
                assert watch.stderr is not None
                for line in watch.stderr:
                    if found := re.search(r"(f\d+): dropped", line):
                        seen[found[1]] = time.time()

            threading.Thread(target=read, daemon=True).start()
            time.sleep(30)
            begin, at = _usage(watch.pid)[0], time.monotonic()
            dropped: dict[str, float] = {}
            for n in range(DROPS):
                gear.stdin.write(f"{n * 16} retrying\n")
                gear.stdin.flush()
                dropped[f"f{n * 16}"] = float(gear.stdout.readline())
                time.sleep(1.7)
            time.sleep(6)
            cpu, memory = _usage(watch.pid)
            share = (cpu - begin) / (time.monotonic() - at)
            out = watch.communicate(timeout=60)[0] if watch.stdout is not None else ""
        finally:
            gear.kill()
    states = [feed["state"] for feed in json.loads(out)["feeds"]]
    late = [seen[name] - when for name, when in dropped.items() if name in seen]
    print(
        f"{COUNT} feeds watched on one core: {100 * share:.0f} % of it, peak memory {memory / 1024:.0f} MiB; {len(late)} of {DROPS} drops seen, after "
        f"{min(late, default=0):.1f} to {max(late, default=99):.1f} s; {states.count('on')} on, {states.count('dropped')} dropped"
    )
    return (
        len(late) == DROPS
        and max(late) <= 5
        and memory < 150 * 1024
        and share < 0.95
        and states.count("on") == COUNT - DROPS
    )


def day() -> bool:
    """A day of six feeds with drops of every kind, on a faster clock."""
    from tests.watch.fakes import Case, random_world

    from direkt.watch.policy import RestartTerms

    names = [f"feed-{n}" for n in range(6)]
    case = Case(names, terms=RestartTerms(push=3, device=1, within=600, pause=5), period=4.0)
    case.world.pushing(*names)
    case.world.on.update(dict.fromkeys(names, True))
    each = random_world(7, case, names)
    sizes, drops, begin = [], 0, time.perf_counter()
    tracemalloc.start()
    for _ in range(24):
        case.run(3600, each)
        drops += sum(h.happening.what == "drop" for h in case.happened)
        for kept in (case.happened, case.notices, case.world.done):
            kept.clear()
        gc.collect()
        sizes.append(tracemalloc.get_traced_memory()[0])
    tracemalloc.stop()
    grown = sizes[-1] - sizes[1]
    print(
        f"a day of {len(names)} feeds in {time.perf_counter() - begin:.0f} s: {drops} drops; memory after two hours {sizes[1] / 1024:.0f} KiB, after 24 {sizes[-1] / 1024:.0f} KiB"
    )
    return grown < 200_000 and drops > 100


_VIEWED = """
import sys, time
sys.path.insert(0, sys.argv[1])
from direkt.page import app, serve
from direkt.page.hub import Hub
from direkt.secret import Secret
from tests.page.test_page import board, event, feed
hub = Hub()
doors = app.Doors({"look": Secret("look"), "act": Secret("act")}, False)
with serve.serve(hub, doors, lambda what, name: "", "127.0.0.1", 0, None) as port:
    print(port, flush=True)
    n = 0
    while True:
        n += 1
        hub.publish(board(tuple(feed(f"feed-{k}", kbit_s=6000.0 + 37 * (n + k) % 400) for k in range(6)), at=1.8e9 + n * 0.5))
        time.sleep(0.5)
"""


def viewers(carried_share: float) -> bool:
    """A hundred viewers of the page for half a minute, against what carrying one feed of 6 Mbit/s costs."""
    import httpx

    root = str(Path(__file__).resolve().parent.parent)
    child = subprocess.Popen([sys.executable, "-c", _VIEWED, root], stdout=subprocess.PIPE, text=True)
    assert child.stdout is not None
    sockets = []
    try:
        port = int(child.stdout.readline())
        answer = httpx.post(
            f"http://127.0.0.1:{port}/session", json={"token": "look"}, headers={"X-Direkt": "1"}, trust_env=False
        )
        cookie = answer.headers["set-cookie"].partition(";")[0]
        time.sleep(3)
        idle, at = _usage(child.pid)[0], time.monotonic()
        time.sleep(10)
        alone = (_usage(child.pid)[0] - idle) / (time.monotonic() - at)
        for _ in range(100):
            made = socket.create_connection(("127.0.0.1", port))
            made.sendall(f"GET /events HTTP/1.1\r\nHost: 127.0.0.1\r\nCookie: {cookie}\r\n\r\n".encode())
            sockets.append(made)
        time.sleep(3)
        got = [0]
        over = threading.Event()

        def drain() -> None:
            import select

            while not over.is_set():
                for one in select.select(sockets, [], [], 0.2)[0]:
                    got[0] += len(one.recv(1 << 16))

        threading.Thread(target=drain, daemon=True).start()
        time.sleep(2)
        begin, at, before = _usage(child.pid)[0], time.monotonic(), got[0]
        time.sleep(30)
        seconds = time.monotonic() - at
        share = (_usage(child.pid)[0] - begin) / seconds - alone
        rate = (got[0] - before) * 8 / 1e6 / seconds
        over.set()
    finally:
        child.kill()
        for made in sockets:
            made.close()
    print(
        f"a hundred viewers of the page: {100 * share:.1f} % of a core and {rate:.2f} Mbit/s; one carried feed of 6 Mbit/s: {100 * carried_share:.1f} % and 6 Mbit/s"
    )
    return share < carried_share and rate < 6


def main(direkt: str) -> bool:
    """All three."""
    from bench import carrying

    good = crowd(direkt)
    good = day() and good
    return viewers(carrying.share_of_one()) and good
