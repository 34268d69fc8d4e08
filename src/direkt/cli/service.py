"""What a service manager is told (sd_notify(3)): that this is ready, and that it is alive, where it asks for that."""

from __future__ import annotations

import contextlib
import os
import socket
import time


class Manager:
    """The service manager that has started this; where none has, nothing is told to anybody."""

    def __init__(self) -> None:
        self._place = os.environ.get("NOTIFY_SOCKET", "")
        limit = os.environ.get("WATCHDOG_USEC", "")
        mine = os.environ.get("WATCHDOG_PID", str(os.getpid())) == str(os.getpid())
        self._every = int(limit) / 1e6 / 3 if mine and limit.isdigit() and int(limit) else None  # s between signs of life
        self._last = float("-inf")
        self._ready = False

    def alive(self) -> None:
        """The loop has come round."""
        if not self._place:
            return
        if not self._ready:
            self._ready = True
            self._tell("READY=1")
        now = time.monotonic()
        if self._every is not None and now - self._last >= self._every:
            self._last = now
            self._tell("WATCHDOG=1")

    def stopping(self) -> None:
        """It ends in good order."""
        if self._place:
            self._tell("STOPPING=1")

    def _tell(self, words: str) -> None:
        place = "\0" + self._place[1:] if self._place.startswith("@") else self._place
        with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as one:
            one.connect(place)
            one.send(words.encode())
