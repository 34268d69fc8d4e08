"""Files that several programs change: one at a time, and each whole or not at all."""

from __future__ import annotations

import contextlib
import fcntl
import os
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

_TRIES, _PAUSE = 500, 0.02  # how often, and s between


@contextlib.contextmanager
def alone(folder: Path) -> Iterator[None]:
    """Nobody else who asks is in here for the same folder at the same time.

    Raises OSError where the folder cannot be opened, TimeoutError (one of those) when others do not leave within 10 s.
    """
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        for _ in range(_TRIES):
            with contextlib.suppress(BlockingIOError):
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            time.sleep(_PAUSE)
        else:
            raise TimeoutError(f"another program holds {folder}")
        yield
    finally:
        os.close(descriptor)


def replace(path: Path, text: str, mode: int) -> None:
    """Writes a file of this mode; whoever reads it finds the old content or the new one. Raises OSError."""
    replace_bytes(path, text.encode("utf-8"), mode)


def replace_bytes(path: Path, content: bytes, mode: int) -> None:
    """The same with bytes."""
    descriptor, made = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    new = Path(made)
    try:
        with os.fdopen(descriptor, "wb") as file:
            os.fchmod(file.fileno(), mode)
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        new.replace(path)
    except BaseException:
        with contextlib.suppress(OSError):
            new.unlink()
        raise
