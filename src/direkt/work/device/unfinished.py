"""What a write has left its device in: told as it goes, and kept in a file until it is done, so that the next command knows.

The file stands beside the saved settings, from before the first change until everything was read back. It holds no key.
"""

from __future__ import annotations

import contextlib
import shlex
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt import files
from direkt.documents import Strict
from direkt.errors import UnusableInput
from direkt.rig.file import Rig
from direkt.store.small_file import SmallFile, place

SAVED_FOLDER = "saved-settings"


class Stage(StrEnum):
    """What state a write has left the device in."""

    UNTOUCHED = "untouched"
    PUT_BACK = "put back"
    PARTLY = "partly written"
    NOT_IN_FORCE = "written, not in force"
    SETTINGS_DONE = "settings written, push slot not"
    NOT_CHECKED = "all written, not read back"
    NOT_KEPT = "written, not all of it kept"


@dataclass(frozen=True, slots=True)
class UnfinishedWrite:
    """The stage that the device is in, and where the settings are that it had before."""

    stage: Stage
    feed: str
    device: str
    saved: Path | None = None
    restoring: bool = False  # what is written are those saved settings
    since: str = ""  # when the write began, as a stamp

    @property
    def text(self) -> str:
        """The same in words, with what to do."""
        write = f"direkt write {shlex.quote(self.feed)}"
        back = f"{write} --restore {shlex.quote(str(self.saved))}" if self.saved is not None else ""
        again = back if self.restoring and back else write
        way = f"; to finish: {again}" + (f"; to go back: {back}" if back and not self.restoring else "")
        return {
            Stage.UNTOUCHED: f"{self.device} was not changed",
            Stage.PUT_BACK: f"{self.device} was put back: it is set as before",
            Stage.PARTLY: f"some settings may have been written to {self.device}{way}",
            Stage.NOT_IN_FORCE: f"{self.device} has the new settings, but not in force until it restarts{way}",
            Stage.SETTINGS_DONE: f"the settings of {self.device} are written, its push slot is not{way}",
            Stage.NOT_KEPT: f"{self.device} took all settings and did not keep all of them{way}",
            Stage.NOT_CHECKED: f"everything is written to {self.device}, but was not read back{way}",
        }[self.stage]

    @property
    def told_later(self) -> str:
        """What the next command says of it."""
        s = self.since
        when = f" of {s[:4]}-{s[4:6]}-{s[6:8]} {s[9:11]}:{s[11:13]}" if s else ""
        return f"the write{when} for feed {self.feed} was not finished: {self.text}"


class _File(Strict):
    schema_: Literal["direkt.unfinished/1"] = Field(alias="schema")
    feed: str
    device: str
    stage: Stage
    since: str = Field(pattern=r"^\d{8}-\d{6}$")
    saved: str  # the name of the file with the old settings
    restoring: bool


def _file(folder: Path, feed: str) -> SmallFile[_File]:
    return SmallFile(saved_folder(folder) / f"{files.name_of(feed)}.unfinished.json", _File, "the settings beside it lead back")


def saved_folder(folder: Path) -> Path:
    """Where saved settings lie, for the rig in a folder."""
    return place(folder, SAVED_FOLDER)


def keep(folder: Path, standing: UnfinishedWrite) -> None:
    """Keeps it beside the rig's saved settings. Raises OSError."""
    assert standing.saved is not None
    kept = _File(
        schema="direkt.unfinished/1", feed=standing.feed, device=standing.device, stage=standing.stage,
        since=standing.since, saved=standing.saved.name, restoring=standing.restoring,
    )  # fmt: skip
    _file(folder, standing.feed).write(kept)


def drop(folder: Path, feed: str) -> None:
    """The write of a feed is done."""
    with contextlib.suppress(OSError):
        _file(folder, feed).remove()


def find(rig: Rig, feed: str) -> UnfinishedWrite | None:
    """What an unfinished write of a feed has left; None: there is none."""
    device = rig.file.feeds[feed].device
    try:
        kept = _file(rig.folder, feed).read()
    except UnusableInput:  # cut short: it was being kept
        return UnfinishedWrite(Stage.PARTLY, feed, device)
    if kept is None:
        return None
    if (kept.feed, kept.device) != (feed, device):
        return None  # of another rig in this folder, or of the feed before it was changed
    saved = saved_folder(rig.folder) / Path(kept.saved).name
    known = kept.saved.isprintable() and saved.is_file()
    return UnfinishedWrite(kept.stage, feed, device, saved if known else None, kept.restoring, kept.since)


def of_device(rig: Rig, device: str) -> list[UnfinishedWrite]:
    """What unfinished writes have left of a device."""
    found = (find(rig, name) for name, feed in rig.file.feeds.items() if feed.device == device)
    return [standing for standing in found if standing is not None]
