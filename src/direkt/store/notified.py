"""Who was told of what, and the number of the last notice: kept beside the rig, so that a restart tells nobody twice, nor two watches."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path
from typing import Literal

from pydantic import Field

from direkt.documents import Strict
from direkt.store.small_file import SmallFile, place

FILE_NAME = "told.json"
_MOST = 4 << 20  # bytes
_MOST_TOLD = 2000
_LIFE = 3600.0  # s after which whoever was told of something, and not since, is told anew


class One(Strict):
    """A state that somebody was told of, and not yet that it is over."""

    at: float  # s since 1970
    weight: Literal["advise", "fail"] = "advise"
    text: str = ""
    event: str = ""
    since: float = 0.0


class _File(Strict):
    schema_: Literal["direkt.told/1"] = Field(default="direkt.told/1", alias="schema")
    number: int = 0
    told: dict[str, dict[str, One]] = {}  # by target, then by kind and name of the state


class NotifiedMemory:
    """What was told. ``folder``: None keeps it in memory alone. What cannot be written is forgotten with this process."""

    def __init__(self, folder: Path | None) -> None:
        self._file = SmallFile(place(folder, FILE_NAME), _File, most=_MOST) if folder is not None else None
        self._memory = _File()

    def number(self) -> int:
        """The next notice's number."""
        return self._change(lambda old: old.model_copy(update={"number": old.number + 1})).number

    def begin(self, target: str, key: str, one: One) -> bool:
        """Whether somebody is to be told that it begins: not where they know it already, unless it is worse now."""
        taken = False

        def how(old: _File) -> _File:
            nonlocal taken
            before = old.told.get(target, {}).get(key)
            fresh = before is None or one.at - before.at > _LIFE
            taken = fresh or (before is not None and before.weight == "advise" and one.weight == "fail")
            return self._with(old, target, key, one) if taken else old

        self._change(how)
        return taken

    def again(self, target: str, key: str, now: float, after: float) -> bool:
        """Whether it is time to remind them; from here on it was done."""
        taken = False

        def how(old: _File) -> _File:
            nonlocal taken
            before = old.told.get(target, {}).get(key)
            taken = before is not None and now - before.at >= after
            return self._with(old, target, key, before.model_copy(update={"at": now})) if taken and before is not None else old

        self._change(how)
        return taken

    def postpone(self, target: str, key: str, at: float) -> None:
        """They are to be reminded as though they had been told then."""

        def how(old: _File) -> _File:
            before = old.told.get(target, {}).get(key)
            return self._with(old, target, key, before.model_copy(update={"at": at})) if before is not None else old

        self._change(how)

    def end(self, target: str, key: str) -> One | None:
        """What they were told, which is over now; None: they never heard of it, or heard that it is over."""
        found: One | None = None

        def how(old: _File) -> _File:
            nonlocal found
            found = old.told.get(target, {}).get(key)
            if found is None:
                return old
            return old.model_copy(update={"told": {**old.told, target: {k: v for k, v in old.told[target].items() if k != key}}})

        self._change(how)
        return found

    def lasting(self, target: str) -> dict[str, One]:
        """What somebody was told of, and not that it is over."""
        return dict(self._read().told.get(target, {}))

    @staticmethod
    def _with(old: _File, target: str, key: str, one: One) -> _File:
        mine = {**old.told.get(target, {}), key: one}
        if len(mine) > _MOST_TOLD:
            mine = dict(sorted(mine.items(), key=lambda item: item[1].at)[-_MOST_TOLD:])
        return old.model_copy(update={"told": {**old.told, target: mine}})

    def _read(self) -> _File:
        return (self._file.read() if self._file is not None else None) or self._memory

    def _change(self, how: Callable[[_File], _File]) -> _File:
        new = None
        if self._file is not None:
            with contextlib.suppress(OSError):
                new = self._file.change(lambda old: how(old or self._memory))
        self._memory = new or how(self._memory)
        return self._memory
