"""Runs every test, the files shared out over the cores, and closes with ``N passed, N failed`` (and ``N skipped``).

``python -m tests [PATTERN]``: only files that fit, such as ``test_h264*``. ``--file NAME`` runs one in this process.
"""

from __future__ import annotations

import compileall
import os
import re
import resource
import signal
import subprocess
import sys
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

HERE = Path(__file__).resolve().parent
_COUNTS = re.compile(r"^counts (\d+) (\d+) (\d+)$", re.MULTILINE)
# Much of what they do is waiting, so that there are more than three times as many of them as cores.
# The files that take longest come first, so that no core waits for one of them at the end.
_LONG = (
    "test_demo",
    "cli.test_watch",
    "test_sources",
    "test_go_air",
    "lab.test_stop",
    "test_stop",
    "lab.test_go",
    "test_faults",
    "test_truth",
    "test_rtsp",
    "test_signalling",
    "test_gear",
    "test_go",
    "cli.test_signal",
    "cli.test_schedule",
    "test_practice",
    "test_whole",
    "test_rehearse",
    "test_receiver",
    "test_destinations",
    "test_catch",
    "test_card",
    "test_devices",
    "test_carrying",
    "test_cut",
    "test_log",
)
_WORKED = re.compile(r"^worked ([\d.]+)$", re.MULTILINE)
_LIMIT = 600  # s for one file


def one(name: str) -> int:
    """Runs one file here, and prints its counts last."""
    signal.signal(signal.SIGINT, signal.default_int_handler)  # both are ignored where this runs in the background
    signal.signal(signal.SIGHUP, signal.SIG_DFL)
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    result = unittest.TextTestRunner(verbosity=1).run(suite)
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    own, children = (resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    worked = own.ru_utime + own.ru_stime + children.ru_utime + children.ru_stime
    print(f"worked {worked:.1f}\ncounts {result.testsRun - bad - skipped} {bad} {skipped}", flush=True)
    return 1 if bad else 0


def _run(name: str) -> tuple[str, float, str, tuple[int, int, int]]:
    begin = time.monotonic()
    command = [sys.executable, "-m", "tests", "--file", name]
    try:
        done = subprocess.run(command, cwd=HERE.parent, capture_output=True, text=True, timeout=_LIMIT)
        text, found = done.stderr + done.stdout, _COUNTS.search(done.stdout)
    except subprocess.TimeoutExpired:
        text, found = f"{name} takes more than {_LIMIT} s\n", None
    counts = tuple(map(int, found.groups())) if found else (0, 1, 0)
    return name, time.monotonic() - begin, text, counts  # type: ignore[return-value]


def main() -> int:
    if sys.argv[1:2] == ["--file"]:
        return one(sys.argv[2])
    pattern = sys.argv[1] if len(sys.argv) > 1 else "test_*"
    files = sorted(HERE.rglob(pattern.removesuffix(".py") + ".py"))
    names = [".".join(path.relative_to(HERE.parent).with_suffix("").parts) for path in files]
    for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"):  # of each process: there are more of them than cores
        os.environ.setdefault(name, "1")
    names.sort(key=lambda name: next((n for n, long in enumerate(_LONG) if name.endswith(long)), len(_LONG)))
    passed = failed = skipped = 0
    begin = time.monotonic()
    compileall.compile_dir(HERE.parent / "src", quiet=2)  # once, where each process would do it again
    with ThreadPoolExecutor(3 * (os.cpu_count() or 1) + 1) as pool:
        for name, seconds, text, counts in pool.map(_run, names):
            passed, failed, skipped = passed + counts[0], failed + counts[1], skipped + counts[2]
            worked = _WORKED.search(text)
            of_it = f", {worked[1]} s of a core" if worked else ""
            print(f"{'ok  ' if not counts[1] else 'FAIL'} {name} {seconds:.1f} s{of_it}", flush=True)
            if counts[1]:
                print(text, flush=True)
    print(f"{len(names)} files in {time.monotonic() - begin:.0f} s")
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""), flush=True)
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
