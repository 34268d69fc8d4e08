"""What jobs share: the clock they are given, the question they may ask, and how a front end drives one."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass
from typing import Protocol, TypeVar

Event = TypeVar("Event")
Result = TypeVar("Result")
Answer = bool | None  # to a question; None to all else
Job = Generator[Event, Answer, Result]


class StepClock(Protocol):
    """Time, as the front end sees it."""

    def now(self) -> float:
        """s of a clock that never goes back."""

    def sleep(self, seconds: float) -> None:
        """Waits."""

    def stamp(self) -> str:
        """Date and time for a file's name, to the second: 20260103-174501."""


@dataclass(frozen=True, slots=True)
class Agree:
    """The question whether to go on with what was told so far."""


class _End:
    """Whether somebody wants the end: a signal says so at any moment, and whoever loops looks.

    A signal's exception can be lost where it happens to come (in a callback, while something is torn down). So it is noted here as well, and
    raised again by the next wait of whoever has not taken it.
    """

    def __init__(self) -> None:
        self._asked = False
        self._whole = 0  # stretches of the main thread that must not end in the middle
        self._held = False  # somebody asked in one

    def holds(self) -> bool:
        """Whether a signal that has come must wait for the end of a stretch; it is raised there."""
        self._held = self._whole > 0
        return self._held

    @contextlib.contextmanager
    def whole(self) -> Iterator[None]:
        """A stretch that a signal does not cut: it is heard behind it. Keep it short."""
        if threading.current_thread() is not threading.main_thread():  # signals come to the main thread only
            yield
            return
        self._whole += 1
        try:
            yield
        finally:
            self._whole -= 1
        if self._held and not self._whole:
            self._held = False
            raise KeyboardInterrupt

    def ask(self) -> None:
        """Somebody wants the end."""
        self._asked = True

    def taken(self) -> None:
        """Whoever was asked knows, and ends."""
        self._asked = False

    @property
    def asked(self) -> bool:
        """Whether somebody wants it, and nobody has taken notice."""
        return self._asked


END = _End()


@contextlib.contextmanager
def unbroken() -> Iterator[None]:
    """Who asks for the end once more in here is heard: it is ending already."""
    try:
        yield
    except KeyboardInterrupt:
        END.taken()


def drive(job: Job[Event, Result], on_event: Callable[[Event], Answer]) -> Result:
    """Runs a job to its end; ``on_event`` is given each event and returns the answer to a question.

    A KeyboardInterrupt in ``on_event`` is thrown into the job, so that it can end in good order; so is an OSError, as
    a front end has whose terminal or reader is gone. Whatever else goes wrong closes the job.
    """
    answer: Answer = None
    try:
        event = next(job)
        while True:
            try:
                answer = on_event(event)
            except (KeyboardInterrupt, OSError) as interruption:
                END.taken()
                event = job.throw(KeyboardInterrupt(*interruption.args))
                continue
            event = job.send(answer)
    except StopIteration as end:
        result: Result = end.value
        return result
    finally:
        job.close()
