"""What commands write into the log, and where it is. A log that cannot be written is said, and stops nothing."""

from __future__ import annotations

import datetime
import os
import socket
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING

from direkt.cli import output
from direkt.errors import DirektError

if TYPE_CHECKING:
    from direkt.judge import Judgement, Verdict
    from direkt.rig import Rig
    from direkt.store.log import Entry, Log, Of, Outcome
    from direkt.work.feeds import FeedParts
    from direkt.work.reception import Rehearsal


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


def of(feed: FeedParts) -> Of:
    """What is written of a feed."""
    from direkt.store.log import Of

    return Of(feed.name, feed.device, feed.entry.destination)


def record_feed(feed: FeedParts, what: str, outcome: Outcome, text: str, **detail: object) -> None:
    """The same of one feed."""
    record(feed.rig, [of(feed).entry(what, outcome, text, detail=detail)])


def record_judged(
    feed: FeedParts, what: str, rehearsal: Rehearsal, judgement: Judgement, came: bool, failure: str
) -> None:
    """A stream of a feed that was measured: its verdict, and each time in which nothing came."""
    from direkt.judge import Verdict

    if failure or not came:
        record_feed(feed, what, "failed", failure or "nothing came")
        return
    bad = [f.parameter for f in judgement.findings if f.verdict is Verdict.FAIL]
    text = f"{judgement.verdict.value}: {len(bad)} fail" + (f" ({', '.join(bad[:5])})" if bad else "")
    values = {f.parameter: f.sent.value for f in judgement.findings if f.sent is not None}
    about, now = of(feed), time.time()
    entries = [about.entry(what, outcome_of(judgement.verdict), text, detail={"sent": values, "failing": bad})]
    for gap in rehearsal.gaps:
        began = now - (rehearsal.elapsed(time.monotonic()) - gap.at)
        stamp = datetime.datetime.fromtimestamp(began, datetime.UTC).isoformat(timespec="seconds")
        entries.append(
            about.entry("drop", "failed", f"nothing came: {gap.reason}", seconds=gap.seconds, detail={"began": stamp})
        )
    record(feed.rig, entries)


def outcome_of(verdict: Verdict) -> Outcome:
    """A verdict as an outcome."""
    told: dict[str, Outcome] = {"pass": "good", "advise": "advise", "unseen": "advise", "fail": "failed"}
    return told[verdict.value]
