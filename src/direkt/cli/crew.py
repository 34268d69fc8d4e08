"""What going live takes from this machine: clocks, the key store, a process for what is carried, the log, and a person to ask."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from dataclasses import dataclass
from typing import TYPE_CHECKING

from direkt import files, mask
from direkt.cli import options, output, recording
from direkt.errors import UnusableInput, os_words
from direkt.printable import printable

if TYPE_CHECKING:
    from direkt.platform.library import Means
    from direkt.rig.file import Rig
    from direkt.work.live.go_types import Crew

_WORDS = 1 << 20  # bytes of what a process said that are read
CARRY_LOG = "carried"  # the folder in which the processes' words are kept


def means(rig: Rig) -> Means:
    """What talking to platforms takes."""
    from direkt.platform.library import Means

    return Means(options.sources(rig), options.key_store(), options.rig_slug(rig), time.time, time.sleep, output.note)


def crew(rig: Rig) -> Crew:
    """All of it."""
    from direkt.platform.interface import values_of
    from direkt.work.live.go_types import Crew, LastRehearsal

    def rehearsed(feed: str) -> LastRehearsal:
        found = recording.limited(rig, lambda log: log.last(("rehearse", "catch"), feed))
        if found is None:
            return LastRehearsal()
        good = found.entry.outcome in ("good", "advise")
        return LastRehearsal(found.at.strftime("%Y-%m-%dT%H:%M:%SZ"), good, values_of(found.entry.detail.get("sent")))

    def exposed(destination: str) -> bool:
        name = rig.file.destinations[destination].key.removeprefix("store:")
        store = rig.file.destinations[destination].key.startswith("store:")
        return store and any(k.name == name and k.exposed for k in options.key_store().kept())

    return Crew(means(rig), options.SystemClock(), lambda feed: launch(rig, feed), lambda feed: last_words(rig, feed), rehearsed, exposed)


def last_words(rig: Rig, feed: str) -> str:
    """What the process that should carry a feed said last; empty: nothing."""
    from direkt.store.small_file import place

    try:
        said = files.read(place(rig.folder, CARRY_LOG) / f"{files.name_of(feed)}.txt", _WORDS).decode("utf-8", "replace")
    except OSError:
        return ""
    lines = [line.strip() for line in said.splitlines() if line.strip()]
    return mask.own(printable(lines[-1]))[:300] if lines else ""


def launch(rig: Rig, feed: str) -> None:
    """Starts the process that carries a feed: it outlives this one. Raises UnusableInput."""
    from direkt.store.small_file import open_folder, place

    folder = place(rig.folder, CARRY_LOG)
    try:
        open_folder(folder)
        descriptor = os.open(folder / f"{files.name_of(feed)}.txt", os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    except OSError as error:
        raise UnusableInput(f"{folder}: cannot be written: {os_words(error)}") from None
    with os.fdopen(descriptor, "wb") as file:
        subprocess.Popen(
            [sys.executable, "-m", "direkt", "push", "on", feed, "--rig", str(rig.path)], cwd=rig.folder, stdin=subprocess.DEVNULL,
            stdout=file, stderr=file, start_new_session=True,
        )  # fmt: skip


@dataclass(slots=True)
class PersonAsker:
    """Asks a person: at a terminal, or line by line from a pipe. Where nobody answers, the answer is the safe one."""

    yes: bool  # everything is answered with yes

    def ask(self, text: str, otherwise: bool, *, always: bool = False) -> bool:
        """The answer to a question; ``always``: a yes to everything is no answer to this one."""
        shown = "Y/n" if otherwise else "y/N"
        if self.yes and not always:
            output.note(f"{text} yes (--yes)")
            return True
        err = sys.stderr
        err.write(f"{printable(text)} [{shown}] ")
        err.flush()
        line = sys.stdin.readline()
        if not line:
            err.write(f"(no terminal to confirm on: {'yes' if otherwise else 'no'})\n")
            return otherwise
        if not sys.stdin.isatty():
            err.write(f"{line.strip()[:20]}\n")
        word = line.strip().lower()
        return otherwise if not word else word in ("y", "yes", "done", "ok")
