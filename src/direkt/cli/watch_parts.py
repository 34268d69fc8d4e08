"""What the watch and the schedule have in common: which feeds, a pool of threads, the log, whom to notify."""

from __future__ import annotations

import contextlib
import queue
import threading
import time
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from direkt.cli import options, output
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.rig.file import Rig
    from direkt.store.entry import LogEntry
    from direkt.watch.notify import Telling



def chosen(rig: Rig, names: tuple[str, ...]) -> list[str]:
    """The feeds that are meant. Raises UnusableInput."""
    if not names:
        return rig.every("feed")
    out: list[str] = []
    for name in names:
        if name in rig.file.events:
            out += rig.file.events[name].feeds
        elif name in rig.file.feeds:
            out.append(name)
        else:
            known = ", ".join([*rig.file.events, *rig.file.feeds]) or "none"
            raise UnusableInput(f"no event or feed {name!r} in {rig.source}; it has {known}")
    return list(dict.fromkeys(out))


def telling_of(rig: Rig, told: Callable[[str, str, bool], None]) -> Telling:
    """Tells those under watch.notify in the rig; who cannot be told is said."""
    from direkt.store.notified import NotifiedMemory
    from direkt.watch import notify

    people, wrong = notify.targets(rig, options.sources(rig))
    for words in wrong:
        output.note(f"! nobody is notified there: {words}")
    return notify.Telling(rig, people, time.time, told, kept=NotifiedMemory(rig.folder))


def starts(rig: Rig) -> Iterator[tuple[str, float]]:
    """The devices of the rig, and when something of each is to begin: feeds by their 'start', events by their times."""
    import datetime

    from direkt.platform import planned as planning

    for entry in rig.file.feeds.values():
        if entry.start is not None:
            yield entry.device, datetime.datetime.fromisoformat(entry.start).astimezone().timestamp()
    now = datetime.datetime.now(datetime.UTC)
    for name, event in rig.file.events.items():
        with contextlib.suppress(UnusableInput):
            for planned in planning.occurrences(rig, name):
                if planned.start > now + datetime.timedelta(days=8):
                    break
                if planned.end > now:
                    yield from ((rig.file.feeds[feed].device, planned.start.timestamp()) for feed in event.feeds)


class Pool:
    """Threads that are made when they are needed, and keep nobody from ending."""

    def __init__(self, most: int) -> None:
        self._most, self._made, self._free = most, 0, 0
        self._lock = threading.Lock()
        self._todo: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()

    def submit(self, work: Callable[[], None]) -> None:
        """Does it soon."""
        with self._lock:
            if self._free:
                self._free -= 1
            elif self._made < self._most:
                self._made += 1
                threading.Thread(target=self._run, daemon=True).start()
        self._todo.put(work)

    def _run(self) -> None:
        while True:
            self._todo.get()()
            with self._lock:
                self._free += 1


class LogRecorder:
    """Writes into the log in a thread of its own: a database that is slow keeps nobody waiting."""

    def __init__(self, rig: Rig) -> None:
        self._rig = rig
        self._todo: queue.Queue[LogEntry | None] = queue.Queue(1000)
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def add(self, entry: LogEntry) -> None:
        """Soon in the log."""
        with contextlib.suppress(queue.Full):
            self._todo.put_nowait(entry)

    def close(self) -> None:
        """What waits is written, within some seconds."""
        with contextlib.suppress(queue.Full):
            self._todo.put_nowait(None)
        self._thread.join(6.0)

    def _run(self) -> None:
        from direkt.cli import recording

        while (entry := self._todo.get()) is not None:
            recording.record(self._rig, [entry])
