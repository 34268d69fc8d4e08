"""What is remembered beside a rig: in one folder, by small files that are changed by one program at a time, each whole or not at all."""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Generic, TypeVar

from direkt import files
from direkt.documents import Strict
from direkt.errors import UnusableInput, os_words

FOLDER = ".direkt"
_UNREADY = ".direkt.new"  # while older places are moved into it
NOTE = """\
What Direkt remembers of the rig in the folder above. No file here holds a stream key or a password.

Keep:
  log.sqlite          what was done, when and by whom: the record for later
  saved-settings/     how devices were set before each write: the way back to that
  changes.jsonl       what each write changed; 'direkt drift' compares devices with it
  events/             what people said and did about each event, and when it was on air
  schedule.json       which turns of the schedule were begun: without it, one could be begun twice
  rig-id              by which this rig's entries in a shared log are told from another's

May be deleted while no direkt runs here:
  pushes.json         which pushes are meant to be on: a watch then does not know, until one is started or stopped
  told.json           who was notified of what: the watch then notifies again
  line.json           how much of the data plan is used: the count then begins at 0
  learned.json        what devices did not keep: it is learned anew
  page-sessions.json  who is signed in at the watch's page: people open their link again
  carried/, *.lock    what runs now
"""
_OLDER = {
    "changes.jsonl": "saved-settings/changes.jsonl",
    "learned.json": "saved-settings/learned.json",
    **{name: name for name in ("log.sqlite", "schedule.json", "rig-id")},
    **{name: name for name in ("pushes.json", "told.json", "line.json", "page-sessions.json")},
}  # where each lay before it had a folder
_OLDER_FOLDERS = ("saved-settings", "events/past", "events")
_RIG_ID = re.compile(rb"[0-9a-f]{16}")
_BESIDE_LOG = ("-wal", "-shm")  # what SQLite keeps beside a database that is in use
_MOST = 4 << 20  # bytes in which it is looked whose a file is
_LOOKED: set[Path] = set()  # folders in which nothing lies in an older place


class DamagedMemory(UnusableInput):
    """What is remembered cannot be read."""


Model = TypeVar("Model", bound=Strict)


@dataclass(frozen=True, slots=True)
class SmallFile(Generic[Model]):
    """A file that one model describes. ``damaged``: what to do about a damaged one; empty: it is as though there were none."""

    path: Path
    model: type[Model]
    damaged: str = ""
    most: int = 1 << 20  # bytes that are read

    def read(self) -> Model | None:
        """What is in it; None: there is none. Raises UnusableInput where damage is not passed over."""
        try:
            return self.model.model_validate_json(files.read(self.path, self.most))
        except (FileNotFoundError, NotADirectoryError):
            return None
        except ValueError:  # pydantic's is one
            if self.damaged:
                raise DamagedMemory(f"{self.path}: damaged; {self.damaged}, then move this file away") from None
        except OSError as error:
            if self.damaged:
                raise UnusableInput(f"{self.path}: cannot be read: {os_words(error)}") from None
        return None

    def write(self, new: Model) -> None:
        """Raises OSError."""
        open_folder(self.path.parent)
        files.replace(self.path, new.model_dump_json(by_alias=True, indent=1) + "\n", 0o600)

    def change(self, how: Callable[[Model | None], Model | None]) -> Model | None:
        """What ``how`` makes of what is in it, written where it differs; None leaves it. Raises as both, and TimeoutError."""
        open_folder(self.path.parent)
        with files.alone(self.path.parent):
            old = self.read()
            new = how(old)
            if new is not None and new != old:
                self.write(new)
        return new

    def remove(self) -> None:
        """Raises OSError for one that cannot be removed; none is none."""
        self.path.unlink(missing_ok=True)


def place(folder: Path, name: str) -> Path:
    """Where something is remembered beside the rig in ``folder``. What lies in an older place is moved first."""
    new = folder / FOLDER / name
    if folder not in _LOOKED:
        try:
            _move(folder)
        except OSError:  # it cannot be moved: read where it lies
            old = folder / _OLDER.get(name, name)
            return old if old.exists() and _is_ours(old) else new
        _LOOKED.add(folder)
    return new


def is_in_the_way(path: Path) -> bool:
    """Whether something stands where a folder should: a file, or a link that leads nowhere."""
    return (path.exists() or path.is_symlink()) and not path.is_dir()


def require_folder(folder: Path) -> None:
    """That something is remembered can only be denied where one can look. Raises UnusableInput for what is in the way."""
    path = folder / FOLDER
    if is_in_the_way(path):
        raise UnusableInput(f"{path}: not a folder, so that what is remembered cannot be read: move it away")


@contextlib.contextmanager
def only_one(folder: Path, name: str) -> Iterator[bool]:
    """Holds one of the rig's locks until it ends, or this process does; False: another one has it. Raises UnusableInput."""
    path = place(folder, name)
    try:
        open_folder(path.parent)
        held = contextlib.ExitStack()
        mine = held.enter_context(files.lock(path))
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be used: {os_words(error)}") from None
    with held:
        yield mine


def open_folder(folder: Path) -> None:
    """Makes a folder beside the rig, or in there; in Direkt's own a note says what may be deleted. Raises OSError."""
    if folder.is_dir():
        return
    folder.mkdir(parents=True, exist_ok=True)
    root = next((one for one in (folder, folder.parent) if one.name in (FOLDER, _UNREADY)), None)
    if root is not None:
        with contextlib.suppress(FileExistsError):
            files.create(root / "README.txt", NOTE)


def _move(folder: Path) -> None:
    """Raises OSError."""
    unready = folder / _UNREADY
    if (folder / FOLDER).exists():
        return
    if not any(_is_ours(folder / old) for old in (*_OLDER.values(), *_OLDER_FOLDERS)) and not unready.exists():
        return
    with files.alone(folder):
        if (folder / FOLDER).exists():
            return  # somebody else was faster
        open_folder(unready)
        for name, old in _OLDER.items():
            if _is_ours(folder / old):
                (folder / old).rename(unready / name)
        if (unready / "log.sqlite").exists() and not (folder / "log.sqlite").exists():
            for end in _BESIDE_LOG:
                with contextlib.suppress(FileNotFoundError):
                    (folder / f"log.sqlite{end}").rename(unready / f"log.sqlite{end}")
        for name in _OLDER_FOLDERS:
            _move_folder(folder / name, unready / name)
        unready.rename(folder / FOLDER)


def _move_folder(old: Path, new: Path) -> None:
    for path in sorted(old.glob("*.json")):
        if _is_ours(path):
            new.mkdir(parents=True, exist_ok=True)
            path.rename(new / path.name)
    with contextlib.suppress(OSError):  # something of somebody else's is in it
        old.rmdir()


def _is_ours(path: Path) -> bool:
    """Whether Direkt wrote it: names like these may be somebody else's files. One that is damaged is ours, so that this is said."""
    if path.is_dir():
        return any(_is_ours(one) for one in path.glob("*.json"))
    if not path.is_file():
        return False
    if path.suffix == ".sqlite":
        return _has_our_table(path)
    try:
        content = files.read(path, _MOST)
    except OSError:
        return False
    if path.name == "rig-id":
        return _RIG_ID.fullmatch(content.strip()) is not None
    try:
        found = json.loads(content.split(b"\n", 1)[0] if path.suffix == ".jsonl" else content)
    except (ValueError, RecursionError):
        return path.parent.name not in _OLDER_FOLDERS or b'"direkt.' in content
    return isinstance(found, dict) and str(found.get("schema", "")).startswith("direkt.")


def _has_our_table(path: Path) -> bool:
    import sqlite3

    try:
        with contextlib.closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=2)) as database:
            return database.execute("SELECT 1 FROM sqlite_master WHERE name = 'direkt_log'").fetchone() is not None
    except sqlite3.Error:
        return False
