"""What commands write into the log, and where it is. A log that cannot be written is said, and stops nothing."""

from __future__ import annotations

import contextlib
import datetime
import getpass
import os
import secrets
import socket
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, TypeVar

from direkt.cli import output
from direkt.errors import DirektError

if TYPE_CHECKING:
    from direkt.finding import Verdict
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement
    from direkt.rig.file import Rig
    from direkt.store.entry import LogEntry, Of, Outcome, Writer
    from direkt.store.log import Log
    from direkt.work.feeds import FeedParts
    from direkt.work.stream.reception import Rehearsal


_FIRST = 2.0  # s that something waits until its beginning stands there
_LIMIT = 6.0  # s that the log may take, whatever its database does


def open_log(rig: Rig, *, write: bool = False) -> Log:
    """The rig's log: DIREKT_DATABASE, or a file beside it. Raises UnusableInput."""
    from direkt.cli.recording_apart import at

    return at(rig.folder, writer(rig, write=write))


def writer(rig: Rig, *, write: bool) -> Writer:
    """Who writes, and for which rig; ``write``: a rig that has no id yet is given one."""
    from direkt.store import entry, rig_id

    own = rig.file.id or (rig_id.ensure(rig.folder) if write else rig_id.read(rig.folder))
    return entry.Writer(rig.file.name, socket.gethostname(), own, person())


def person() -> str:
    """Who uses this, as the system knows them."""
    with contextlib.suppress(OSError, KeyError):
        return getpass.getuser()
    return ""


Found = TypeVar("Found")


def limited(rig: Rig, work: Callable[[Log], Found], limit: float = _LIMIT, *, write: bool = False) -> Found:
    """Something with the log, within a limit that no database can exceed. Raises DirektError."""
    from direkt.store.entry import LogError

    results: list[Found] = []
    errors: list[DirektError] = []

    def run() -> None:
        try:
            with open_log(rig, write=write) as log:
                results.append(work(log))
        except DirektError as error:
            errors.append(error)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    thread.join(limit)
    if errors:
        raise errors[0]
    if not results:
        raise LogError(f"the log does not answer within {limit:g} s")
    return results[0]


def record(rig: Rig, entries: Sequence[LogEntry]) -> None:
    """Writes entries down, if that can be done."""
    if not entries:
        return
    deed = _Deed.current
    if deed is not None and deed.rig.path == rig.path:
        deed.join()
        entries = deed.ended_by(entries)
    try:
        _add(rig, entries, apart=deed is not None and deed.apart)
    except DirektError as error:
        output.note(f"! not logged: {error}")


def _add(rig: Rig, entries: Sequence[LogEntry], *, apart: bool) -> None:
    """Writes entries down; ``apart``: by a process of its own. Raises DirektError."""
    if apart:
        from direkt.cli import recording_apart

        recording_apart.add(rig.folder, writer(rig, write=True), entries)
    else:
        limited(rig, lambda log: log.add(entries), write=True)


# Deeds: that something began is written before it is done


class _Deed:
    """What this process does to devices and platforms: its beginning, and its end, belong together in the log."""

    current: _Deed | None = None

    def __init__(
        self, rig: Rig, what: str, text: str, *, event: str, mark: str, feed: str, apart: bool, detail: Mapping[str, object]
    ) -> None:  # fmt: skip
        from direkt.store.entry import LogEntry

        self.rig, self.what, self.id, self.ended, self.apart = rig, what, secrets.token_hex(8), False, apart
        self.since = time.monotonic()
        entry = LogEntry(
            what, "good", text, event=event, mark=mark, feed=feed, deed=self.id, phase="began", detail={"process": os.getpid(), **detail}
        )
        self.entry = entry
        self._thread = threading.Thread(target=self._write, args=(entry,), daemon=True)
        self._thread.start()

    def _write(self, entry: LogEntry) -> None:
        with contextlib.suppress(DirektError):
            if self.apart:
                _add(self.rig, [entry], apart=True)
                return
            with open_log(self.rig, write=True) as log:
                log.add([entry])

    def join(self, limit: float | None = None) -> bool:
        """Waits until the beginning stands in the log; false: it still does not."""
        self._thread.join(_LIMIT if limit is None else limit)
        return not self._thread.is_alive()

    def ended_by(self, entries: Sequence[LogEntry]) -> Sequence[LogEntry]:
        """The same entries, as the end of this."""
        own = [entry for entry in entries if entry.what == self.what]
        if own:
            self.ended = True
        return [replace(entry, deed=self.id, phase="ended") if entry in own else entry for entry in entries]


def begin(
    rig: Rig, what: str, text: str, *, event: str = "", mark: str = "", feed: str = "", apart: bool = False, first: bool = False,
    detail: Mapping[str, object] | None = None,
) -> None:  # fmt: skip
    """Something is about to be done. It is written in the background: a slow log keeps nobody waiting.

    ``first``: it stands in the log before anything is done, unless the log takes longer than 2 s, which is said. ``apart``: by processes of their own, for a command that runs for hours and is to stay small: the database's code takes 30 MB.
    """
    deed = _Deed.current = _Deed(rig, what, text, event=event, mark=mark, feed=feed, apart=apart, detail=detail or {})
    if first and not deed.join(_FIRST):
        output.note("! the log is slow: that this begins does not stand there yet")


def end(code: int) -> None:
    """The command is over: what it began and did not log as ended has ended now, by its exit code."""
    from direkt.cli.exits import ExitCode

    deed, _Deed.current = _Deed.current, None
    if deed is None or deed.ended:
        return

    outcome: Outcome = "good" if code == ExitCode.GOOD else "interrupted" if code == ExitCode.INTERRUPTED else "failed"
    deed.join()
    text = {"good": "done", "interrupted": "interrupted"}.get(outcome, f"not done (exit code {int(code)})")
    seconds = round(time.monotonic() - deed.since, 1)
    with contextlib.suppress(DirektError):
        entry = replace(deed.entry, outcome=outcome, text=text, seconds=seconds, phase="ended", detail={})
        _add(deed.rig, [entry], apart=deed.apart)


def of(feed: FeedParts) -> Of:
    """What is written of a feed."""
    from direkt.store.entry import Of

    return Of(feed.name, feed.device, feed.entry.destination)


def record_feed(feed: FeedParts, what: str, outcome: Outcome, text: str, **detail: object) -> None:
    """The same of one feed."""
    record(feed.rig, [of(feed).entry(what, outcome, text, detail=detail)])


def record_judged(
    feed: FeedParts, what: str, rehearsal: Rehearsal, judgement: Judgement, came: bool, failure: str, measurement: Measurement
) -> None:
    """A stream of a feed that was measured: its verdict, and each time in which nothing came."""
    from direkt.finding import Verdict
    from direkt.measure import kept
    from direkt.parameters import find

    if failure or not came:
        record_feed(feed, what, "failed", failure or "nothing came")
        return
    bad = [f.parameter for f in judgement.findings if f.verdict is Verdict.FAIL]
    text = f"{judgement.verdict.value}: {len(bad)} fail" + (f" ({', '.join(find(name).label for name in bad[:5])})" if bad else "")
    values = {f.parameter: f.sent.value for f in judgement.findings if f.sent is not None}
    about, now = of(feed), time.time()
    entries = [about.entry(what, outcome_of(judgement.verdict), text, detail={"sent": values, "failing": bad, "sheet": feed.sheet.id, "measures": kept.keep(measurement)})]
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
