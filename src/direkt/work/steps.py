"""What jobs share: the clock they are given, the question they may ask, and how a front end drives one."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import Protocol, TypeVar

Event = TypeVar("Event")
Result = TypeVar("Result")
Answer = bool | None  # to a question; None to all else
Job = Generator[Event, Answer, Result]


class Clock(Protocol):
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
                event = job.throw(KeyboardInterrupt(*interruption.args))
                continue
            event = job.send(answer)
    except StopIteration as end:
        result: Result = end.value
        return result
    finally:
        job.close()
