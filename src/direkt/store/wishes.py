"""Which pushes are meant to be on: noted by whatever starts or stops one, read by whoever watches.

One file beside the rig; it holds no key. That a push is off says nothing of why; this says whether somebody wanted it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt.documents import Strict
from direkt.store.small_file import SmallFile, place

FILE_NAME = "pushes.json"


class _File(Strict):
    schema_: Literal["direkt.pushes/1"] = Field(default="direkt.pushes/1", alias="schema")
    on: dict[str, bool] = {}
    mending: list[str] = []
    at_device: list[str] = []  # of those that are off: somebody stopped them at the device


@dataclass(frozen=True, slots=True)
class Wishes:
    """What is meant to be on, and what a watch is about to start again."""

    on: Mapping[str, bool]  # by feed; of others nobody knows
    mending: frozenset[str]  # feeds whose push may be off for a moment
    at_device: frozenset[str] = frozenset()  # feeds that are off since somebody stopped them at the device


def read(folder: Path) -> Wishes:
    """As they stand; a file that cannot be read tells nothing."""
    found = _file(folder).read() or _File()
    return Wishes(found.on, frozenset(found.mending), frozenset(found.at_device))


def _file(folder: Path) -> SmallFile[_File]:
    return SmallFile(place(folder, FILE_NAME), _File)


def note(folder: Path, feeds: Mapping[str, bool], *, at_device: bool = False) -> None:
    """From here on these are meant to be on or off. A folder that cannot be written stops nobody.

    ``at_device``: somebody did that at the device.
    """

    def change(old: _File) -> _File:
        others = [name for name in old.at_device if name not in feeds]
        stopped = [name for name, on in feeds.items() if at_device and not on]
        return old.model_copy(update={"on": {**old.on, **feeds}, "at_device": [*others, *stopped]})

    _change(folder, change)


def mend(folder: Path, feed: str, *, begins: bool) -> None:
    """A feed's push is off for a moment, to be started again; or that is over."""

    def change(old: _File) -> _File:
        others = [name for name in old.mending if name != feed]
        return old.model_copy(update={"mending": [*others, feed] if begins else others})

    _change(folder, change)


def _change(folder: Path, how: Callable[[_File], _File]) -> None:
    with contextlib.suppress(OSError):
        _file(folder).change(lambda old: how(old if old is not None else _File()))
