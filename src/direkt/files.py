"""Files that several programs change: one at a time, and each whole or not at all."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import stat
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

_TRIES, _PAUSE = 500, 0.02  # how often, and s between: until nobody else is in a folder
_LOOKS, _APART = 8, 0.01  # the same, for a lock that somebody may merely look at


@contextlib.contextmanager
def alone(folder: Path) -> Iterator[None]:
    """Nobody else who asks is in here for the same folder at the same time.

    Raises OSError where the folder cannot be opened, TimeoutError (one of those) when others do not leave within 10 s.
    """
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        for _ in range(_TRIES):
            if _taken(descriptor):
                break
            time.sleep(_PAUSE)
        else:
            raise TimeoutError(f"another program holds {folder}")
        yield
    finally:
        os.close(descriptor)


@contextlib.contextmanager
def lock(path: Path) -> Iterator[bool]:
    """Holds a lock that the system drops with this process; False: another one has it. Raises OSError.

    Who only looks (is_locked) has it for a moment as well: so it is tried again a few times before somebody is said to have it.
    """
    descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        mine = _taken(descriptor)
        for _ in range(_LOOKS if not mine else 0):
            time.sleep(_APART)
            if mine := _taken(descriptor):
                break
        yield mine
    finally:
        os.close(descriptor)


def is_locked(path: Path) -> bool:
    """Whether somebody holds that lock."""
    try:
        descriptor = os.open(path, os.O_RDWR | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        return not _taken(descriptor)
    finally:
        os.close(descriptor)


def _taken(descriptor: int) -> bool:
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def name_of(text: str) -> str:
    """A name as part of a file's name."""
    return "".join(c if c.isalnum() or c in "-_" else "_" for c in text)[:80]


def opened(path: Path) -> BinaryIO:
    """A file, open to be read. Raises OSError; also for what is no file: a pipe would be waited for, a device never ends."""
    descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        mode = os.fstat(descriptor).st_mode
        if stat.S_ISDIR(mode):
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR), str(path))
        if not stat.S_ISREG(mode):
            raise OSError("a pipe or a device, not a file")
        return os.fdopen(descriptor, "rb")
    except BaseException:
        os.close(descriptor)
        raise


def read(path: Path, most: int) -> bytes:
    """What is in a file. Raises OSError; also for more than ``most`` bytes, and for what is no file."""
    with opened(path) as file:
        content = file.read(most + 1)
    if len(content) > most:
        raise OSError(f"at most {most} bytes are read")
    return content


def create(path: Path, text: str) -> None:
    """Writes a new file, whole or not at all. Raises OSError; FileExistsError for one that already exists."""
    with path.open("x", encoding="utf-8") as file:
        try:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        except BaseException:
            with contextlib.suppress(OSError):
                path.unlink()
            raise


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
