"""Writing many devices at once: planned together, agreed to once, carried out in parallel, each as a transaction of its own.

Feeds of one device go one after the other. A failure of one does not stop the others; an interruption reaches each at its
next step.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from direkt.errors import DirektError
from direkt.secret import Secret
from direkt.work.device.unfinished import UnfinishedWrite
from direkt.work.device.write import (
    BackAfterRestart,
    Checking,
    PlannedWrite,
    PuttingBack,
    Restarting,
    Saved,
    WriteEvent,
    WriteTerms,
    Written,
    write,
)
from direkt.work.feeds import FeedParts
from direkt.work.steps import END, Agree, StepClock, drive

AT_ONCE = 64  # devices at the same time: most of the time is theirs


@dataclass(frozen=True, slots=True)
class Became:
    """What became of one feed."""

    feed: str
    device: str
    written: Written | None
    reason: str = ""  # why it failed
    standing: str = ""  # what state that leaves the device in
    seconds: float = 0.0
    interrupted: bool = False
    by_hand: bool = False  # no program can reach the device


@dataclass(frozen=True, slots=True)
class Progress:
    """Where one feed is."""

    feed: str
    device: str
    words: str


class Many:
    """One write of several feeds."""

    def __init__(
        self, feeds: Sequence[tuple[FeedParts, Secret]], clock: StepClock, terms: Mapping[str, WriteTerms], tell: Callable[[Progress], None],
        at_once: int = AT_ONCE,
    ) -> None:  # fmt: skip
        self._feeds, self._clock, self._terms, self._tell, self._at_once = feeds, clock, terms, tell, at_once
        self._stop = threading.Event()

    def interrupt(self) -> None:
        """Each feed ends at its next step, as with Ctrl-C."""
        self._stop.set()

    def run(self) -> list[Became]:
        """Carries all out; the results in the order of the feeds."""
        by_device: dict[str, list[tuple[FeedParts, Secret]]] = {}
        for feed, key in self._feeds:
            by_device.setdefault(feed.device, []).append((feed, key))
        out: dict[str, Became] = {}
        with ThreadPoolExecutor(self._at_once) as pool:
            jobs = [pool.submit(self._group, group) for group in by_device.values()]
            try:
                for job in jobs:
                    out |= {became.feed: became for became in job.result()}
            except KeyboardInterrupt:
                END.taken()
                self._tell(Progress("all feeds", "Ctrl-C", "each device ends at its next step"))
                self.interrupt()
                for job in jobs:
                    out |= {became.feed: became for became in job.result()}
        return [out[feed.name] for feed, _ in self._feeds]

    def _group(self, group: list[tuple[FeedParts, Secret]]) -> list[Became]:
        return [self._one(feed, key) for feed, key in group]

    def _one(self, feed: FeedParts, key: Secret) -> Became:
        begin, last = self._clock.now(), [""]

        def on_event(event: WriteEvent) -> bool | None:
            if self._stop.is_set():
                raise KeyboardInterrupt
            if isinstance(event, UnfinishedWrite):
                last[0] = event.text
            elif not isinstance(event, Agree):
                self._tell(Progress(feed.name, feed.device, _words(event)))
            return True if isinstance(event, Agree) else None

        if self._stop.is_set():
            return Became(
                feed.name,
                feed.device,
                None,
                "not begun: interrupted",
                f"{feed.device} was not changed",
                interrupted=True,
            )
        if getattr(getattr(feed.driver, "file", None), "kind", "") == "hand":
            return Became(feed.name, feed.device, None, f"set by hand: direkt card {feed.name}", by_hand=True)
        try:
            done = drive(write(feed, key, self._clock, self._terms.get(feed.name, WriteTerms())), on_event)
        except DirektError as error:
            notes = [str(note) for note in getattr(error, "__notes__", ())]
            return Became(feed.name, feed.device, None, str(error), " ".join(notes), self._clock.now() - begin)
        except KeyboardInterrupt:
            END.taken()
            state = last[0] or f"{feed.device} was not changed"
            return Became(
                feed.name, feed.device, None, "interrupted", state, self._clock.now() - begin, interrupted=True
            )
        finally:
            feed.driver.close()
        return Became(feed.name, feed.device, done, seconds=self._clock.now() - begin)


def _words(event: PlannedWrite | Saved | Restarting | BackAfterRestart | Checking | PuttingBack) -> str:
    """A step as a progress line has it."""
    if isinstance(event, PlannedWrite):
        return f"{len(event.plan.changes)} changes"
    if isinstance(event, Saved):
        return "writing"
    if isinstance(event, Restarting):
        return "restarting"
    if isinstance(event, BackAfterRestart):
        return f"back after {event.seconds:.1f} s"
    if isinstance(event, Checking):
        return f"read back for {event.seconds:.0f} s: {', '.join(event.what)} not in force yet"
    return "putting back what was"
