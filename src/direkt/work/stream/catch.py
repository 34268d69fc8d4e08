"""Catching a push that somebody else starts: open, wait, measure, until it is time or somebody says stop."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from direkt.work.steps import END, Job, StepClock
from direkt.work.stream.reception import Reception

TICK = 0.25  # s between looks


@dataclass(frozen=True, slots=True)
class Listening:
    """The port is open."""

    port: int


@dataclass(frozen=True, slots=True)
class CatchTick:
    """A moment in which nothing but time and media went by."""

    now: float  # s of the clock
    since: float  # s since the port opened


@dataclass(frozen=True, slots=True)
class Caught:
    """The result; what came is in the reception's rehearsal."""

    came: bool
    interrupted: bool


CatchEvent = Listening | CatchTick


def receive(
    reception: Reception, clock: StepClock, *, wait: float, seconds: float | None, failed: Callable[[], str] = lambda: ""
) -> Job[CatchTick, None]:
    """Measures what comes until ``seconds`` after the push began (None: for ever), or when none came in ``wait`` s.

    ``failed``: why nothing will come any more; empty: it may.
    """
    begin = clock.now()
    while True:
        clock.sleep(TICK)
        reception.poll()
        now, rehearsal = clock.now(), reception.rehearsal
        yield CatchTick(now, now - begin)
        if failed():
            return
        if rehearsal.first is None and now - begin > wait:
            return
        if seconds is not None and rehearsal.first is not None and rehearsal.elapsed(now) >= seconds:
            return


def catch(
    reception: Reception, host: str | None, port: int, clock: StepClock, *, wait: float, seconds: float | None
) -> Job[CatchEvent, Caught]:
    """Opens the port and measures; ends ``seconds`` after the push began (None: at Ctrl-C), or when none came in ``wait`` s.

    Raises PortError. The port is closed at the end.
    """
    interrupted = False
    try:
        number = reception.open(host, port)
        yield Listening(number)
        yield from receive(reception, clock, wait=wait, seconds=seconds)
    except KeyboardInterrupt:
        END.taken()
        interrupted = True
    finally:
        reception.close()
    return Caught(reception.rehearsal.first is not None, interrupted)
