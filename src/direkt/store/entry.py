"""What stands in the log. Apart from the log itself, whose database takes long to load: what only makes entries does without."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from direkt.errors import NoAnswer

Outcome = Literal["good", "advise", "failed", "interrupted"]
Phase = Literal["", "began", "ended"]


class LogError(NoAnswer):
    """The log cannot be read or written; its text holds no password."""


@dataclass(frozen=True, slots=True)
class LogEntry:
    """One thing that was done or happened."""

    what: str  # write restore push rehearse catch event go step stop drop
    outcome: Outcome
    text: str
    at: datetime.datetime | None = None  # with its zone; None: now
    event: str = ""
    mark: str = ""
    feed: str = ""
    device: str = ""
    destination: str = ""
    seconds: float | None = None  # how long it took, or lasted
    detail: Mapping[str, object] = field(default_factory=dict)
    deed: str = ""  # what began and ended together
    phase: Phase = ""


@dataclass(frozen=True, slots=True)
class Writer:
    """Who writes, and for which rig."""

    rig: str
    machine: str
    rig_id: str = ""
    person: str = ""


@dataclass(frozen=True, slots=True)
class Of:
    """What an entry is about, where it is a feed."""

    feed: str
    device: str
    destination: str

    def entry(
        self, what: str, outcome: Outcome, text: str, *, seconds: float | None = None, detail: Mapping[str, object] | None = None
    ) -> LogEntry:  # fmt: skip
        """An entry about it."""
        return LogEntry(
            what, outcome, text, feed=self.feed, device=self.device, destination=self.destination, seconds=seconds, detail=detail or {}
        )  # fmt: skip
