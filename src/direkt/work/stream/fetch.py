"""Fetching a stream that a device gives out: a puller in a thread of its own, and what it brings, measured by whoever polls."""

from __future__ import annotations

import ssl
from dataclasses import dataclass

from direkt.net.transport import FetchError, puller
from direkt.protocol.source import SOURCES, SourceAddress
from direkt.secret import Secret
from direkt.work.steps import END, Job, StepClock
from direkt.work.stream.background import Background
from direkt.work.stream.catch import TICK, CatchTick


@dataclass(frozen=True, slots=True)
class Fetched:
    """The result; what came is in the fetch's rehearsal."""

    failure: str  # why it ended before its time; empty: it did not
    interrupted: bool


class Fetch(Background):
    """One stream. Close it when done; a with statement does."""

    def __init__(
        self,
        address: SourceAddress,
        login: tuple[str, Secret] | None,
        *,
        by: str = "",
        tls: ssl.SSLContext | None = None,
    ) -> None:
        super().__init__(SOURCES[address.scheme].name)
        self.failure: str | None = None  # why it ended
        self._puller = puller(address, login, self._tell, by=by, tls=tls)
        self.start()

    async def _work(self) -> None:
        try:
            await self._puller.run()
            self.failure = "it ended"
        except FetchError as error:
            self.failure = str(error)

    def __enter__(self) -> Fetch:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def fetch(fetching: Fetch, clock: StepClock, *, seconds: float) -> Job[CatchTick, Fetched]:
    """Measures what comes until ``seconds`` after it began, or until it ends; the stream is closed at the end."""
    begin = clock.now()
    interrupted = False
    try:
        while fetching.failure is None:
            clock.sleep(TICK)
            fetching.poll()
            now, rehearsal = clock.now(), fetching.rehearsal
            yield CatchTick(now, now - begin)
            if rehearsal.first is not None and rehearsal.elapsed(now) >= seconds:
                break
        failure = fetching.failure or ""
    except KeyboardInterrupt:
        END.taken()
        interrupted, failure = True, ""
    finally:
        fetching.close()
    return Fetched(failure, interrupted)
