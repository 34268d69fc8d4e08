"""The log's chain of hashes: each entry's hash covers the one before, so that a line that was changed or taken out shows.

It shows what somebody did to the file, not who could write a whole new one: the last hash, noted elsewhere, shows that too.
"""

from __future__ import annotations

import datetime
import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

COVERED = (
    "at", "rig", "rig_id", "machine", "person", "what", "outcome", "text", "event", "mark", "feed", "device", "destination", "seconds", "detail",
    "deed", "phase",
)  # fmt: skip


def link(before: str, row: Mapping[str, Any]) -> str:
    """The hash of an entry behind another one, in hexadecimal."""
    values = [_plain(row[name]) for name in COVERED]
    words = json.dumps([before, *values], sort_keys=True, ensure_ascii=True, separators=(",", ":"))
    return hashlib.sha256(words.encode()).hexdigest()


def _plain(value: Any) -> Any:
    if isinstance(value, datetime.datetime):  # a database may keep no zone
        moment = value if value.tzinfo is not None else value.replace(tzinfo=datetime.UTC)
        return moment.astimezone(datetime.UTC).isoformat(timespec="microseconds")
    return value


@dataclass(frozen=True, slots=True)
class BrokenLink:
    """A place where the chain does not hold."""

    number: int  # of the entry
    text: str


@dataclass(frozen=True, slots=True)
class Verified:
    """What became of looking at the whole chain."""

    entries: int  # in the chain
    older: int  # from before there was one
    broken: tuple[BrokenLink, ...]
    last: int  # the number of the last entry; 0: there is none
    hash: str  # and its hash


_MOST = 20


def verify(rows: Iterable[Mapping[str, Any]]) -> Verified:
    """Looks at entries in the order of their numbers."""
    before, last, count, older = "", 0, 0, 0
    broken: list[BrokenLink] = []
    for row in rows:
        number = int(row["id"])
        if not row["hash"]:
            older += 1
            if count and len(broken) < _MOST:
                broken.append(BrokenLink(number, "it has no hash, though those before it have one"))
            continue
        if row["hash"] != link(before, row) and len(broken) < _MOST:
            broken.append(BrokenLink(number, "it was changed, or entries in front of it were changed or taken out"))
        before, last, count = str(row["hash"]), number, count + 1
    return Verified(count, older, tuple(broken), last, before)
