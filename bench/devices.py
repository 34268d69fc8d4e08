"""Sixty simulated devices in processes of their own: read, match and write all of them, against the slowest one alone."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

COUNT = 60
_PROCESSES = 4
_FASTEST, _SLOWEST = 0.1, 0.8  # s until a device answers
_GEAR = """
import sys, threading, time
from direkt.sim import unit
from direkt.sim.brindle import BrindleB2
from direkt.sim.web import Faults
unit.RESTART_SECONDS = 3.0
gear = [BrindleB2("op", "pw", faults=Faults(slow=float(slow))) for slow in sys.argv[1:]]
for one in gear:
    one.start()
print(" ".join(str(one.port) for one in gear), flush=True)
threading.Event().wait()
"""
_HEAD = """\
schema: direkt.rig/1
name: Sixty
destinations:
  t: {sheet: tarnlight, server: "rtmp://ingest.tarnlight.example/live", key: "file:secrets.yaml#t"}
"""


def _rig(folder: Path, ports: list[int]) -> None:
    folder.mkdir(parents=True)
    (folder / "secrets.yaml").write_text("t: varn~fake~sixty\nlogin: op:pw\n")
    (folder / "secrets.yaml").chmod(0o600)
    devices = "".join(
        f'  d{n}: {{driver: brindle-b2, address: "http://127.0.0.1:{port}", login: "file:secrets.yaml#login"}}\n'
        for n, port in enumerate(ports)
    )
    feeds = "".join(f"  f{n}: {{device: d{n}, destination: t}}\n" for n in range(len(ports)))
    (folder / "rig.yaml").write_text(f"{_HEAD}devices:\n{devices}feeds:\n{feeds}")


def _timed(direkt: str, folder: Path, *arguments: str) -> float:
    begin = time.perf_counter()
    done = subprocess.run([direkt, *arguments, "--json"], cwd=folder, capture_output=True, text=True, check=False)
    seconds = time.perf_counter() - begin
    assert done.returncode == 0, (arguments, done.stderr[-2000:], done.stdout[-500:])
    json.loads(done.stdout)
    return seconds


def bench(direkt: str) -> bool:
    """Prints both figures; whether they are within what is wanted."""
    with tempfile.TemporaryDirectory(prefix="direkt-bench-") as name:
        folder = Path(name)
        slow = [_FASTEST + n * (_SLOWEST - _FASTEST) / (COUNT - 1) for n in range(COUNT)][
            ::-1
        ]  # s that each takes to answer
        gear = [
            subprocess.Popen(
                [sys.executable, "-c", _GEAR, *(f"{s:.3f}" for s in slow[n::_PROCESSES])], stdout=subprocess.PIPE, text=True
            ) for n in range(_PROCESSES)
        ]  # fmt: skip
        try:
            ports: list[int] = []
            for process in gear:
                assert process.stdout is not None
                ports += [int(word) for word in process.stdout.readline().split()]
            _rig(folder / "all", ports)
            _rig(folder / "one", ports[:1])
            good = True
            for words, arguments in (
                ("match", ("match", "--all")),
                ("write", ("write", "--all", "--yes", "--parallel", str(COUNT))),
            ):
                alone = _timed(direkt, folder / "one", *arguments)
                together = _timed(direkt, folder / "all", *arguments)
                ratio = together / alone
                print(
                    f"direkt {words} of {COUNT} devices that answer in {_FASTEST:g} to {_SLOWEST:g} s: {together:.2f} s against {alone:.2f} s for the slowest alone: ratio {ratio:.2f}"
                )
                good = good and ratio <= 1.2
        finally:
            for process in gear:
                process.kill()
                process.wait()
        return good


def matching(runs: int) -> tuple[float, str, float]:
    """Seconds of the slowest search (best of ``runs``), what it was, and its ratio to loading the sheet."""
    from direkt.destination import library as sheets
    from direkt.device import library
    from direkt.match.plan import plan
    from direkt.secret import Secret
    from direkt.sim import rig as regatta
    from direkt.sim.unit import SimulatedUnit

    drivers = dict(zip(regatta.NAMES, ("brindle-b2", "osier-20", "fescue", "marram-360"), strict=True))
    slowest: tuple[float, str, float] = (0.0, "", 0.0)
    with tempfile.TemporaryDirectory(prefix="direkt-bench-") as name:
        folder = Path(name) / "rig"
        regatta.lay_out(folder, dict.fromkeys(regatta.NAMES, 1))
        for device, driver in drivers.items():
            unit: SimulatedUnit = regatta.gear(folder, device, 0)
            unit.start()
            talk = library.open_driver(
                driver, device, f"http://127.0.0.1:{unit.port}", ("operator", Secret("regatta-demo"))
            )
            state = talk.read()
            for sheet_name in sheets.shipped():
                begin = time.perf_counter()
                sheet = sheets.load(sheet_name)
                loading = time.perf_counter() - begin
                for channel in state.channels.values():
                    for uplink in (None, 8000.0, 2500.0, 400.0):
                        times = []
                        for _ in range(runs):
                            begin = time.perf_counter()
                            plan(channel, sheet, state.input, uplink, protocol="rtmp", mains=50)
                            times.append(time.perf_counter() - begin)
                        words = f"{device}, {channel.name}, {sheet_name}, uplink {uplink or 'without limit'}"
                        slowest = max(slowest, (min(times), words, min(times) / loading))
            talk.close()
            unit.stop()
    return slowest
