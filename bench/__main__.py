"""Prints every figure: ``python -m bench [check|ts|receive|crowd|carry|help|sheets|devices|matching|watch]``.

check    ``direkt check`` of an hour of 6 Mbit/s FLV with sound, silence and noise against ``cat`` of the same cached file;
         and of twice that length
ts       ``direkt check`` of ten minutes of 6 Mbit/s MPEG-TS against ``cat`` of the same cached file
receive  an RTMP session fed from a loopback socket in 128-byte chunks against a reader that throws the bytes away
crowd    forty publishers of 6 Mbit/s in 128-byte chunks, received and measured in one process on one core
carry    ten feeds of 6 Mbit/s carried by ten commands that share one core, against one alone
help     ``direkt --help`` against ``python -c "import click"``
sheets   loading and checking 500 sheets against parsing their YAML
devices  ``match --all`` and ``write --all`` of sixty slow devices against one of them alone
matching the exact search for each simulated device against every sheet, with and without a thin uplink, against loading the sheet
watch    two hundred feeds watched on one core; a day of six feeds on a faster clock; a hundred viewers of the page against one carried feed
"""

from __future__ import annotations

import compileall
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import direkt as direkt_package
from bench import carrying, devices, material, receiving, watching

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


def bench_check() -> bool:
    folder = Path(tempfile.mkdtemp(prefix="direkt-bench-"))
    good = True
    try:
        for sound, most in (("tone", 3.0), ("silence", 3.5), ("noise", 3.5)):
            path = folder / f"{sound}.flv"
            material.write_hour(path, sound)
            name = f"direkt check, an hour of FLV with {sound} ({path.stat().st_size / 1e9:.2f} GB)"
            ratio, memory = pairs(name, [direkt(), "check", str(path), "--json"], ["cat", str(path)])
            good = good and ratio <= most and memory < 100 * 1024
            path.unlink()
        path = folder / "two.flv"
        material.write_hour(path, "tone", hours=2)
        ratio, memory = pairs("direkt check, two hours", [direkt(), "check", str(path), "--json"], ["cat", str(path)])
        return good and ratio <= 3.0 and memory < 100 * 1024
    finally:
        shutil.rmtree(folder)


def bench_ts() -> bool:
    folder = Path(tempfile.mkdtemp(prefix="direkt-bench-"))
    try:
        path = folder / "ten.ts"
        material.write_ts(path, 10)
        name = f"direkt check, ten minutes of MPEG-TS ({path.stat().st_size / 1e9:.2f} GB)"
        ratio, memory = pairs(name, [direkt(), "check", str(path), "--json"], ["cat", str(path)])
        return ratio <= 75.0 and memory < 100 * 1024
    finally:
        shutil.rmtree(folder)


def bench_receive() -> bool:
    ratios, rates = receiving.against_throwing_away(RUNS)
    print(
        f"receive and measure, 128-byte chunks: {statistics.median(rates):.0f} Mbit/s per core; "
        f"ratio to throwing away {statistics.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})"
    )
    return statistics.median(rates) >= 200


def bench_crowd() -> bool:
    paces, share, memory = receiving.crowd(40, 60.0)
    print(
        f"forty publishers of 6 Mbit/s, 128-byte chunks, 60 s on one core: pace {min(paces):.3f} to {max(paces):.3f}, "
        f"{len(paces)} measured, {100 * share:.0f} % of the core, peak memory {memory / 1024:.0f} MiB"
    )
    return len(paces) == 40 and min(paces) > 0.995


def bench_help() -> bool:
    ratio, _ = pairs("direkt --help", [direkt(), "--help"], [sys.executable, "-c", "import click"])
    return ratio <= 1.3


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


def bench_devices() -> bool:
    return devices.bench(direkt())


def bench_matching() -> bool:
    slowest, words, ratio = devices.matching(RUNS)
    print(
        f"the exact search, slowest of all: {slowest * 1000:.0f} ms ({words}); ratio to loading its sheet {ratio:.1f}"
    )
    return slowest < 0.2


BENCHES = {
    "check": bench_check, "ts": bench_ts, "receive": bench_receive, "crowd": bench_crowd, "carry": carrying.main, "help": bench_help, "sheets": bench_sheets,
    "devices": bench_devices, "matching": bench_matching, "watch": lambda: watching.main(direkt()),
}  # fmt: skip


def main() -> int:
    names = sys.argv[1:] or list(BENCHES)
    compileall.compile_dir(Path(direkt_package.__file__).parent, quiet=2)  # as an installation does
    good = True
    for name in names:
        met = BENCHES[name]()
        print(f"  {'within' if met else 'OUTSIDE'} what the project promises", flush=True)
        good = good and met
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
