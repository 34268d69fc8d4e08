"""The log: log list, show and verify."""

from __future__ import annotations

from typing import Literal

from typing_extensions import TypedDict


class LogEntryJson(TypedDict):
    """One entry of the log."""

    id: int
    at: str
    rig: str
    machine: str
    what: str
    outcome: str
    text: str
    event: str
    feed: str
    device: str
    destination: str
    seconds: float | None
    detail: dict[str, object]
    person: str
    deed: str | None  # what began and ended together
    phase: Literal["began", "ended"] | None
    open: bool  # it began, and no end of it is known


class BrokenEntryJson(TypedDict):
    """A place where the chain of hashes does not hold."""

    id: int
    text: str


class LogVerifyJson(TypedDict):
    """direkt log verify."""

    schema: Literal["direkt.log-verify/1"]
    whole: bool
    entries: int
    older: int  # from before there was a chain
    last: int | None
    hash: str | None
    broken: list[BrokenEntryJson]


class LogListJson(TypedDict):
    """direkt log list."""

    schema: Literal["direkt.log-list/1"]
    entries: list[LogEntryJson]


class LogShowJson(LogEntryJson):
    """direkt log show."""

    schema: Literal["direkt.log-show/1"]
