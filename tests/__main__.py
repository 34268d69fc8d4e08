"""Runs every test, the files shared out over the cores, and closes with ``N passed, N failed`` (and ``N skipped``).

``python -m tests [PATTERN]``: only files that fit, such as ``test_h264*``. ``--file NAME`` runs one in this process.
"""

from __future__ import annotations

import compileall
import contextlib
import gc
import importlib
import os
import pkgutil
import re
import resource
import signal
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from pathlib import Path

from direkt.documents import Strict
from tests.copies import Copies

HERE = Path(__file__).resolve().parent
_COUNTS = re.compile(r"^counts (\d+) (\d+) (\d+)$", re.MULTILINE)
# Much of what they do is waiting, so that there are three times as many of them as cores.
# The files that take longest come first, so that no core waits for one of them at the end.
_LONG = (
    "test_demo", "cli.test_watch", "test_sources", "tests.test_files", "test_service", "test_ends", "test_watcher",
    "match.test_search", "test_go_air", "lab.test_stop", "test_stop", "lab.test_go", "test_faults", "test_truth", "test_rtsp",
    "test_signalling", "test_gear", "test_go", "cli.test_signal", "cli.test_schedule", "test_practice", "test_whole",
    "test_rehearse", "test_receiver", "test_destinations", "test_catch", "test_card", "test_devices", "test_carrying", "test_cut",
    "test_log", "test_stream_report", "test_openapi", "test_relay", "test_cadence", "test_browser",
)
# What the program and its libraries read when they need it.
_READ_LATE = (
    "anyio._backends._asyncio", "certifi", "dateutil.rrule", "encodings.ascii", "encodings.idna", "fpdf", "http_message_signatures",
    "httpcore", "jsonschema", "keyring", "PIL.Image", "PIL.ImageDraw", "PIL.ImageFont", "PIL.PngImagePlugin", "pygments.lexers", "rich.table",
    "segno", "sqlalchemy.dialects.sqlite", "sqlite3", "unittest.mock",
)  # fmt: skip
_LIMIT = 600  # s for one file


def one(name: str) -> int:
    """Runs one file here, and prints its counts last."""
    signal.signal(signal.SIGINT, signal.default_int_handler)  # both are ignored where this runs in the background
    signal.signal(signal.SIGHUP, signal.SIG_DFL)
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    result = unittest.TextTestRunner(verbosity=1).run(suite)
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    print(f"counts {result.testsRun - bad - skipped} {bad} {skipped}", flush=True)
    return 1 if bad else 0


class _Child:
    """A file's tests in a process of their own: a copy of this one, which has read the program already."""

    def __init__(self, name: str) -> None:
        self.name, self.begin = name, time.monotonic()
        self._log = tempfile.TemporaryFile("w+")  # noqa: SIM115 - it lives as long as the child
        sys.stdout.flush()
        self.pid = os.fork()
        if self.pid == 0:
            os.setpgid(0, 0)
            os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
            for stream in (1, 2):
                os.dup2(self._log.fileno(), stream)
            sys.argv = ["tests", "--file", name]
            code = 1
            try:
                code = one(name)
            finally:
                sys.stdout.flush()
                sys.stderr.flush()
                os._exit(code)

    def ended(self, usage: resource.struct_rusage) -> tuple[int, int, int]:
        """Prints how it went; how many passed, failed and were skipped."""
        seconds = time.monotonic() - self.begin
        self._log.seek(0)
        text = self._log.read()
        self._log.close()
        found = _COUNTS.search(text)
        counts = tuple(map(int, found.groups())) if found else (0, 1, 0)
        if not found and seconds >= _LIMIT:
            text += f"{self.name} takes more than {_LIMIT} s\n"
        print(f"{'ok  ' if not counts[1] else 'FAIL'} {self.name} {seconds:.1f} s, {usage.ru_utime + usage.ru_stime:.1f} s of a core", flush=True)
        if counts[1]:
            print(text, flush=True)
        return counts  # type: ignore[return-value]

    def kill(self) -> None:
        """Ends it, and what it started."""
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.pid, signal.SIGKILL)


def _read_the_program() -> None:
    """All of it, once: each file's process is then a copy that need not."""
    import direkt

    for module in pkgutil.walk_packages(direkt.__path__, "direkt."):
        if not module.name.endswith("__main__") and ".migrations" not in module.name:
            with contextlib.suppress(ImportError):  # an extra that is not installed
                importlib.import_module(module.name)
    for name in _READ_LATE:
        with contextlib.suppress(ImportError):
            importlib.import_module(name)
    for model in _models(Strict):
        model.model_rebuild()
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)


def _models(base: type[Strict]) -> Iterator[type[Strict]]:
    for one in base.__subclasses__():
        yield one
        yield from _models(one)


def _share_out(names: list[str]) -> list[tuple[int, int, int]]:
    """Runs the files, so many at once that the cores do not wait."""
    running: dict[int, _Child] = {}
    counts: list[tuple[int, int, int]] = []
    waiting = iter(names)
    try:
        while True:
            while len(running) < 3 * (os.cpu_count() or 1) and (name := next(waiting, None)) is not None:
                child = _Child(name)
                running[child.pid] = child
            if not running:
                return counts
            pid, _, usage = os.wait4(-1, os.WNOHANG)
            if pid in running:
                counts.append(running.pop(pid).ended(usage))
                continue
            for child in running.values():
                if time.monotonic() - child.begin > _LIMIT:
                    child.kill()
            time.sleep(0.05)
    finally:
        for child in running.values():
            child.kill()


def main() -> int:
    if sys.argv[1:2] == ["--file"]:
        return one(sys.argv[2])
    pattern = sys.argv[1] if len(sys.argv) > 1 else "test_*"
    files = sorted(HERE.rglob(pattern.removesuffix(".py") + ".py"))
    names = [".".join(path.relative_to(HERE.parent).with_suffix("").parts) for path in files]
    for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"):  # of each process: there are more of them than cores
        os.environ.setdefault(name, "1")
    names.sort(key=lambda name: next((n for n, long in enumerate(_LONG) if name.endswith(long)), len(_LONG)))
    begin = time.monotonic()
    compileall.compile_dir(HERE.parent / "src", quiet=2)  # once, where each process would do it again
    _read_the_program()
    copies = Copies()
    try:
        passed, failed, skipped = (sum(column) for column in zip(*_share_out(names), strict=True)) if names else (0, 0, 0)
    finally:
        copies.close()
    print(f"{len(names)} files in {time.monotonic() - begin:.0f} s")
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""), flush=True)
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
