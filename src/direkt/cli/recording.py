"""What commands write into the log, and where it is. A log that cannot be written is said, and stops nothing."""

from __future__ import annotations

import os
import socket
from collections.abc import Sequence
from typing import TYPE_CHECKING

from direkt.cli import output
from direkt.errors import DirektError

if TYPE_CHECKING:
    from direkt.judge import Verdict
    from direkt.rig import Rig
    from direkt.store.log import Entry, Log, Outcome


def open_log(rig: Rig) -> Log:
    """The rig's log: DIREKT_DATABASE, or a file beside it. Raises UnusableInput."""
    from direkt.store import log

    return log.Log(log.url_of(os.environ.get("DIREKT_DATABASE"), rig.folder), rig.file.name, socket.gethostname())


def record(rig: Rig, entries: Sequence[Entry]) -> None:
    """Writes entries down, if that can be done."""
    if not entries:
        return
    try:
        with open_log(rig) as found:
            found.add(entries)
    except DirektError as error:
        output.note(f"! not logged: {error}")


def outcome_of(verdict: Verdict) -> Outcome:
    """A verdict as an outcome."""
    told: dict[str, Outcome] = {"pass": "good", "advise": "advise", "unseen": "advise", "fail": "failed"}
    return told[verdict.value]
