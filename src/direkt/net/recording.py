"""A recording's file: named as partial until it is complete, and whole units of its container at any moment."""

from __future__ import annotations

import contextlib
import errno
import os
from pathlib import Path


class Recording:
    """Writes ``NAME.partial.EXT``, which becomes ``NAME.EXT`` when it is closed without ever having failed.

    Raises OSError when the disk does not take it, FileExistsError (one of those) for files that are there already.
    """

    def __init__(self, path: Path, *, overwrite: bool = False) -> None:
        if path.exists() and not overwrite:
            raise FileExistsError(errno.EEXIST, "there", str(path))
        self._wanted, self._overwrite = path, overwrite
        self.path: Path | None = path.with_name(f"{path.stem}.partial{path.suffix}")  # where it is; None: nothing came
        flags = os.O_WRONLY | os.O_CREAT | (os.O_TRUNC if overwrite else os.O_EXCL)
        self._descriptor: int | None = os.open(self.path, flags, 0o644)
        self._failed = False
        self.bytes = 0  # up to the end of the last whole unit

    def write(self, unit: bytes) -> None:
        """A unit, or nothing of it. Raises OSError; nothing is taken after that."""
        if self._descriptor is None or self._failed:
            return
        try:
            left = memoryview(unit)
            while left:
                left = left[os.write(self._descriptor, left) :]
        except OSError:
            self._failed = True
            with contextlib.suppress(OSError):
                os.ftruncate(self._descriptor, self.bytes)
            raise
        self.bytes += len(unit)

    def close(self) -> None:
        """Ends the file, and gives it its name where it is complete; where nothing came there is none."""
        if self._descriptor is None or self.path is None:
            return
        os.close(self._descriptor)
        self._descriptor = None
        if not self.bytes:
            self.path.unlink()
            self.path = None
        elif not self._failed and (self._overwrite or not self._wanted.exists()):
            self.path = self.path.replace(self._wanted)
