"""The watch while it runs."""

from __future__ import annotations

import contextlib
import os
import queue
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import output
from direkt.cli.exits import ExitCode
from direkt.cli.watch_parts import LogRecorder, Pool, chosen, starts, telling_of
from direkt.errors import DirektError, UnusableInput
from direkt.work.steps import END, unbroken

if TYPE_CHECKING:
    from direkt.cli.watch_view import WatchView
    from direkt.rig.file import Rig
    from direkt.store.entry import Outcome
    from direkt.watch.board import Board
    from direkt.watch.notify import Telling
    from direkt.watch.policy import Act
    from direkt.watch.watch_events import Happened, Setup, WatchEvent
    from direkt.watch.watcher import Watcher

_LOCK = "watch.lock"
_SETTLED = 60.0  # s after which what an earlier watch told, and is not so, has recovered
_SETTLE = 30.0  # s that what is being done gets to come to its end
_MOST_THREADS = 240


class WatchRun:
    """One watch from the command line."""

    def __init__(
        self, rig: Rig, names: tuple[str, ...], every: float | None, *, mend: bool, tell: bool, as_json: bool
    ) -> None:
        from direkt.cli import crew
        from direkt.cli.service import Manager
        from direkt.cli.watch_view import WatchView
        from direkt.store.small_file import only_one
        from direkt.store.usage import Usage
        from direkt.watch.watcher import Watcher
        from direkt.watch.world import RealWorld

        self.rig, self.names, self.as_json = rig, names, as_json
        feeds = chosen(rig, names)
        self.crew = crew.crew(rig)
        self.telling: Telling | None = self._telling() if tell and rig.file.watch.notify else None
        self.held = contextlib.ExitStack()
        self.mends = mend and self.held.enter_context(only_one(rig.folder, _LOCK))
        if mend and not self.mends:
            output.note("! another watch runs here and restarts what drops; this one only looks and notifies")
        self.world = RealWorld(rig, feeds, self.crew)
        setup = self._setup(feeds, every, mend=self.mends)
        pool = Pool(min(_MOST_THREADS, len(feeds) + 8))
        self.watcher: Watcher = Watcher(
            self.world,
            setup,
            self.crew.clock,
            time.time,
            pool.submit,
            Usage(rig.folder if self.mends else None),
        )
        self.view: WatchView = WatchView(output.console(err=as_json), self.watcher.period, mend=setup.mend)
        self.recorder = LogRecorder(rig)
        self.board: Board = self.watcher.board()
        self.manager = Manager()
        self.interrupted, self.settled, self.began = False, False, self.crew.clock.now()
        self.shown: Callable[[Board], None] = lambda board: None
        self.told: queue.SimpleQueue[tuple[str, str, bool]] = queue.SimpleQueue()

    def _telling(self) -> Telling:
        return telling_of(self.rig, lambda name, words, good: self.told.put((name, words, good)))

    def _setup(self, feeds: list[str], every: float | None, *, mend: bool) -> Setup:
        from direkt.rig.values import length_of
        from direkt.watch.conditions import Bounds
        from direkt.watch.policy import RestartTerms
        from direkt.watch.watch_events import Setup
        from direkt.watch.world import facts_of

        w, line = self.rig.file.watch, self.rig.file.uplink
        terms = RestartTerms(w.recover.push, w.recover.device, length_of(w.recover.within), length_of(w.recover.pause))
        bounds = Bounds(w.hot, w.disk_gb * 1e9, length_of(w.session), w.certificate_days)
        plan = line.plan_gb * 1e9 if line is not None and line.plan_gb is not None else None
        if every is not None and not 0.5 <= every <= 600:
            raise UnusableInput("--every: expected 500 ms to 10 min, such as 2s")
        facts = tuple(facts_of(self.rig, name) for name in feeds)
        return Setup(
            self.rig.file.name,
            facts,
            terms,
            bounds,
            mend,
            every,
            plan,
            tuple(self._earlier(terms.within)) if mend else (),
            tuple(starts(self.rig)),
        )

    def _earlier(self, within: float) -> Iterator[tuple[str, Act, float]]:
        """What earlier watches tried: it counts."""
        import datetime

        from direkt.cli import recording
        from direkt.watch.policy import Act

        now = datetime.datetime.now(datetime.UTC)
        since = now - datetime.timedelta(seconds=within)
        with contextlib.suppress(DirektError):
            for kept in recording.limited(self.rig, lambda log: log.read(since=since, what="mend")):
                act = next((a for a in Act if a.name.lower() == kept.entry.detail.get("act")), None)
                if act is not None and kept.entry.detail.get("by") == "watch":
                    yield kept.entry.feed, act, max(0.0, (now - kept.at).total_seconds())

    @contextlib.contextmanager
    def around(self, page: str | None, tls: bool, certificate: Path | None, metrics: str | None) -> Iterator[None]:
        """Page and metrics, while the watch runs."""
        with contextlib.ExitStack() as stack:
            stack.callback(self.world.close)
            if page is not None or metrics is not None:
                from direkt.cli import watch_page

                self.shown = stack.enter_context(
                    watch_page.serve(self.rig, self.watcher, page, tls, certificate, metrics)
                )
            yield

    def run(self, seconds: float | None) -> Board | None:
        job = self.watcher.run(seconds)
        with self.view:
            try:
                for event in job:
                    self._on_event(event)
            except (KeyboardInterrupt, OSError):
                END.taken()
                self.interrupted = True
            finally:
                job.close()
                self.board = self.watcher.board()
        return self.board

    def _on_event(self, event: WatchEvent) -> None:
        from direkt.store.entry import LogEntry
        from direkt.watch.notices import Notice
        from direkt.watch.watch_events import ActionBegan, Frame

        if isinstance(event, Frame):
            self.manager.alive()
            self.board = event.board
            self.shown(event.board)
            self.view.show(event.board)
            if self.telling is not None:
                self.telling.remind(self.watcher.notices)
                if not self.settled and self.crew.clock.now() - self.began > _SETTLED:
                    self.settled = True
                    self.telling.settle(self.watcher.notices, self.watcher.names)
            for _ in range(self.told.qsize()):
                name, words, good = self.told.get()
                self.watcher.note(name, words, good=good)
                self.view.happened(f"{name} {words}", good=good)
        elif isinstance(event, ActionBegan):
            self.recorder.add(LogEntry(
                event.what, "good", event.text, event=event.event, mark=event.mark, feed=event.feed, device=event.device,
                destination=event.destination, detail={"process": os.getpid()}, deed=event.deed, phase="began",
            ))  # fmt: skip
        elif isinstance(event, Notice):
            if self.telling is not None:
                self.telling.tell(event)
            self.view.noticed(event)
        else:
            self.view.happened(f"{event.happening.name}: {event.happening.text}", good=event.happening.good)
            self._record(event)

    def _record(self, event: Happened) -> None:
        import datetime

        from direkt.store.entry import LogEntry

        h = event.happening
        what = {"drop": "watch", "well": "watch", "mend": "mend", "stop": "stop"}.get(h.what)
        if what is None:
            return
        detail: dict[str, object] = {"kind": h.what}
        outcome: Outcome = "good" if h.good else "failed"
        text = h.text
        if h.what == "well" and event.seconds is not None and not event.counted:  # else the ingest's own gaps are logged at the end
            began = datetime.datetime.fromtimestamp(h.at - event.seconds, datetime.UTC)
            what, outcome = "drop", "failed"
            detail = {"began": began.isoformat(timespec="seconds")}
            text = f"the push dropped, and was {h.text}"
        if event.act is not None:
            detail |= {"act": event.act.name.lower(), "by": event.by}
        self.recorder.add(LogEntry(
            what, outcome, text, datetime.datetime.fromtimestamp(h.at, datetime.UTC), event.event, event.mark,
            event.feed, event.device, event.destination, event.seconds, detail, event.deed, "ended" if event.deed else "",
        ))  # fmt: skip

    def finish(self) -> ExitCode:
        """The last lines; the exit code."""
        self.manager.stopping()
        with unbroken():
            if self.watcher.doing:
                output.note(f"… {'; '.join(self.watcher.doing)}: waiting until that is done")
            left = self.watcher.settle(_SETTLE)
            if left:
                output.error(f"{'; '.join(left)}: how that ended is not known; see: direkt push state FEED")
        untold = self.telling.close() if self.telling is not None else 0
        if untold:
            output.note(f"! {untold} notices could not be sent any more")
        self.recorder.close()
        self.held.close()
        states = {row.name: row.state.value for row in self.board.feeds}
        on = [name for name, state in states.items() if state == "on"]
        words = f"the pushes are left as they are; on: {', '.join(on) or 'none'}"
        for state in ("starting", "dropped", "stopped"):
            if some := [name for name, one in states.items() if one == state]:
                words += f"; {state}: {', '.join(some)}"
        if self.interrupted:
            output.interrupted(f"the watch has ended; {words}")
            return ExitCode.INTERRUPTED
        output.note(f"The watch has ended; {words}.")
        return ExitCode.GOOD if self.board.well else ExitCode.FAILS
