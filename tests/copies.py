"""Starts the program as a copy of a process that has read it already: what a start of Python takes is most of a short command's time.

A small program stands for the copy: it has the copy's place among the processes, passes signals on to it and ends as it ends.
``Copies.folder`` holds two of these, ``direkt`` and ``python``; the latter is Python itself for anything but ``-m direkt``.
"""

from __future__ import annotations

import array
import contextlib
import json
import locale
import os
import random
import resource
import runpy
import selectors
import shutil
import signal
import socket
import stat
import struct
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from pathlib import Path

FOLDER = "TESTS_COPIES"  # the variable that names the folder
_PASSED_ON = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGUSR1, signal.SIGUSR2)  # the last one asks to be killed
_LIMITS = ("RLIMIT_FSIZE", "RLIMIT_NOFILE", "RLIMIT_AS", "RLIMIT_CPU")
_STAND_IN = """\
#!{python} -IS
import array, json, os, resource, signal, socket, sys
words = sys.argv[1:]
if os.path.basename(sys.argv[0]) == "python":
    rest = words[1:] if words[:1] == ["-P"] else words
    if rest[:1] != ["-m"] or not rest[1].startswith("direkt"):
        os.execv({python!r}, [{python!r}, *words])
    module, words = rest[1], rest[2:]
else:
    module = "direkt"
signal.pthread_sigmask(signal.SIG_BLOCK, {numbers})
link = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
link.connect({path!r})
order = json.dumps([module, words, os.getcwd(), dict(os.environ), [resource.getrlimit(getattr(resource, n)) for n in {limits}],
                    [n for n in {numbers} if signal.getsignal(n) == signal.SIG_IGN]]).encode()
link.sendmsg([len(order).to_bytes(4, "big")], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", [0, 1, 2]))])
link.sendall(order)
for n in {numbers}:
    if signal.getsignal(n) != signal.SIG_IGN:
        signal.signal(n, lambda number, frame: link.sendall(bytes([signal.SIGKILL if number == signal.SIGUSR2 else number])))
signal.pthread_sigmask(signal.SIG_UNBLOCK, {numbers})
null = os.open(os.devnull, os.O_RDWR)
for n in 0, 1, 2:
    os.dup2(null, n)  # the copy alone holds them
code = b""
while len(code) < 4:
    part = link.recv(4 - len(code))
    if not part:
        os._exit(125)
    code += part
code = int.from_bytes(code, "big", signed=True)
if code < 0:
    if -code != signal.SIGKILL:
        signal.signal(-code, signal.SIG_DFL)
    os.kill(os.getpid(), -code)
os._exit(code)
"""


class Copies:
    """The process that makes copies; to be started while there is one thread only, when the program has been read."""

    def __init__(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="direkt-test-copies-"))
        text = _STAND_IN.format(
            python=sys.executable, path=str(self.folder / "s"), limits=_LIMITS, numbers=tuple(int(n) for n in _PASSED_ON)
        )  # fmt: skip
        for name in ("direkt", "python"):
            path = self.folder / name
            path.write_text(text)
            path.chmod(path.stat().st_mode | stat.S_IXUSR)
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self._listener.bind(str(self.folder / "s"))
        self._listener.listen(100)
        self._pid = os.fork()
        if self._pid == 0:
            code = 1
            try:
                _serve(self._listener, self.folder)
                code = 0
            except BaseException:
                traceback.print_exc()
            finally:
                os._exit(code)
        self._listener.close()
        os.environ[FOLDER] = str(self.folder)

    def close(self) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.kill(self._pid, signal.SIGTERM)
        with contextlib.suppress(ChildProcessError):
            os.waitpid(self._pid, 0)
        shutil.rmtree(self.folder, ignore_errors=True)


class Started(subprocess.Popen[str]):
    """A copy that was started: who kills it kills the copy, and it has ended when the copy has."""

    def send_signal(self, sig: int) -> None:
        super().send_signal(signal.SIGUSR2 if sig == signal.SIGKILL else sig)


def program() -> list[str]:
    """How the program is started: a copy where there are copies, else the built one beside this Python."""
    script = Path(os.environ.get(FOLDER) or Path(sys.executable).parent) / "direkt"
    return [str(script)] if script.exists() else [sys.executable, "-m", "direkt"]


def python() -> str:
    """The Python that starts copies, where there are any."""
    folder = os.environ.get(FOLDER)
    return str(Path(folder) / "python") if folder else sys.executable


def _serve(listener: socket.socket, folder: Path) -> None:
    os.setpgid(0, 0)
    for number in (signal.SIGINT, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
    parent = os.getppid()
    links: dict[int, tuple[socket.socket, int, int]] = {}  # by its number: a link, its copy and that one's pidfd
    with selectors.DefaultSelector() as selector:
        selector.register(listener, selectors.EVENT_READ)
        while os.getppid() == parent:
            for key, _ in selector.select(5):
                if key.fileobj is listener:
                    link, _ = listener.accept()
                    if started := _start(link, [listener, *(one[0] for one in links.values())], folder):
                        links[link.fileno()] = (link, *started)
                        selector.register(link, selectors.EVENT_READ)
                        selector.register(started[1], selectors.EVENT_READ, link.fileno())
                elif key.data is not None:  # a copy has ended
                    link, pid, descriptor = links.pop(key.data)
                    code = os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
                    with contextlib.suppress(OSError):
                        link.sendall(struct.pack(">i", code))
                    with contextlib.suppress(KeyError):
                        selector.unregister(link)
                    selector.unregister(descriptor)
                    os.close(descriptor)
                    link.close()
                elif key.fd in links:
                    link, pid, _ = links[key.fd]
                    numbers = _received(link)
                    if not numbers:  # its stand-in was killed
                        selector.unregister(link)
                    for number in numbers or (signal.SIGKILL,):
                        with contextlib.suppress(ProcessLookupError):
                            os.kill(pid, number)


def _received(link: socket.socket) -> bytes:
    try:
        return link.recv(100)
    except OSError:
        return b""


def _start(link: socket.socket, others: list[socket.socket], folder: Path) -> tuple[int, int] | None:
    descriptors = array.array("i")
    with contextlib.suppress(OSError):
        head, extra, _, _ = link.recvmsg(4, socket.CMSG_SPACE(3 * descriptors.itemsize))
        for _, _, data in extra:
            descriptors.frombytes(data)
        size, order = int.from_bytes(head, "big"), b""
        while len(order) < size and (part := link.recv(size - len(order))):
            order += part
        if len(order) == size and len(descriptors) == 3:
            pid = os.fork()
            if pid == 0:
                for one in (link, *others):
                    one.close()
                _become(list(descriptors), *json.loads(order), folder)
            for descriptor in descriptors:
                os.close(descriptor)
            return pid, os.pidfd_open(pid)
    link.close()
    return None


def _become(descriptors: list[int], module: str, words: list[str], place: str, environment: dict[str, str],
            limits: list[tuple[int, int]], ignored: list[int], folder: Path) -> None:  # fmt: skip
    """This process as Python would be after a start with these words."""
    code = 1
    try:
        os.setsid()
        for n, descriptor in enumerate(descriptors):
            os.dup2(descriptor, n)
            os.close(descriptor)
        os.chdir(place)
        os.environ.clear()
        os.environ.update(environment)
        for name, limit in zip(_LIMITS, limits, strict=True):
            resource.setrlimit(getattr(resource, name), tuple(limit))
        signal.signal(signal.SIGINT, signal.default_int_handler)
        for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGUSR1, signal.SIGUSR2):
            signal.signal(number, signal.SIG_DFL)
        for number in ignored:
            signal.signal(number, signal.SIG_IGN)
        time.tzset()
        random.seed()
        encoding = environment.get("PYTHONIOENCODING", "") or locale.getencoding()
        for n, name in enumerate(("stdin", "stdout", "stderr")):
            errors = "backslashreplace" if n == 2 else "strict"
            stream = open(n, "w" if n else "r", encoding=encoding.partition(":")[0], errors=errors, closefd=False)  # noqa: SIM115
            if n == 2:
                stream.reconfigure(line_buffering=True)
            setattr(sys, name, stream)
            setattr(sys, f"__{name}__", stream)
        sys.argv = ["direkt", *words]
        sys.executable = str(folder / "python")
        sys.modules.pop(module, None) if "." in module else None
        try:
            runpy.run_module(module, run_name="__main__", alter_sys=False)
            code = 0
        except SystemExit as end:
            if end.code is None or isinstance(end.code, int):
                code = end.code or 0
            else:
                print(end.code, file=sys.stderr)
        threading._shutdown()  # type: ignore[attr-defined]
    except KeyboardInterrupt:
        code = 130
        traceback.print_exc()
    except BaseException:
        traceback.print_exc()
    finally:
        import atexit

        for last in (atexit._run_exitfuncs, sys.stdout.flush, sys.stderr.flush):
            with contextlib.suppress(OSError, ValueError):
                last()
        os._exit(code & 0xFF)
