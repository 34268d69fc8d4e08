"""A rehearsal: what a receiver takes is measured, recorded as received, and its gaps are kept."""

from __future__ import annotations

import contextlib
import os
import time
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from direkt.container import flv
from direkt.container.media import MediaError
from direkt.measure.meter import Measurement, Meter
from direkt.net.receiver import Arrived, Left, ReceiverEvent, TurnedAway
from direkt.protocol.rtmp.session import Media

_MOST_KEPT = 100  # gaps and refusals each; more are only counted


@dataclass(slots=True)
class Gap:
    """A time in which nobody pushed, between two times in which somebody did."""

    at: float  # s after the first publisher came
    seconds: float | None  # None: still open
    reason: str


class Recorder:
    """Writes tags to an FLV file as they come; the file is whole at any moment.

    Times run on over a gap, so that the file plays. Raises OSError when the disk does not take it.
    """

    def __init__(self, path: Path, *, overwrite: bool = False) -> None:
        flags = os.O_WRONLY | os.O_CREAT | (os.O_TRUNC if overwrite else os.O_EXCL)
        self._file: BinaryIO = os.fdopen(os.open(path, flags, 0o644), "wb")
        self._file.write(flv.header())
        self._shift = 0
        self._last = 0
        self.bytes = 0

    def new_stretch(self, milliseconds: int) -> None:
        """What comes now begins ``milliseconds`` into the file."""
        self._shift = max(self._last + 1, milliseconds) if self._last else 0

    def add(self, media: Media) -> None:
        """One message."""
        stamp = media.timestamp + self._shift
        self._last = max(self._last, stamp & 0x7FFFFFFF)
        body = media.body
        if media.kind == flv.SCRIPT:
            body = body.removeprefix(b"\x02\x00\x0d@setDataFrame")
        tag = flv.tag(media.kind, stamp, body)
        self._file.write(tag)
        self.bytes += len(tag)

    def close(self) -> None:
        """Ends the file."""
        self._file.close()


class Rehearsal:
    """Takes a receiver's events. ``clock`` gives seconds and never goes back."""

    def __init__(self, recorder: Recorder | None = None, protocol: str = "rtmp") -> None:
        self._clock = time.monotonic
        self.meter = Meter(0.001, protocol)
        self._parser = flv.TagParser()
        self._recorder = recorder
        self.peer: str | None = None  # who publishes now
        self.first: float | None = None  # clock time at which the first publisher came
        self._left_at = 0.0
        self.gaps: list[Gap] = []
        self.turned_away: list[TurnedAway] = []
        self.turned_away_count = 0
        self.record_error: str | None = None
        self._over = False

    @property
    def elapsed(self) -> float:
        """Seconds since the first publisher came; 0 before."""
        return 0.0 if self.first is None else self._clock() - self.first

    def take(self, event: ReceiverEvent) -> None:
        """One event of the receiver. After finish() nothing counts any more."""
        if self._over:
            return
        if isinstance(event, Media):
            self._media(event)
        elif isinstance(event, Arrived):
            self._arrived(event)
        elif isinstance(event, Left):
            self.meter.interrupt()
            self.peer = None
            self._left_at = self.elapsed
            if len(self.gaps) < _MOST_KEPT:
                self.gaps.append(Gap(self._left_at, None, event.reason))
        else:
            self.turned_away_count += 1
            if len(self.turned_away) < _MOST_KEPT:
                self.turned_away.append(event)

    def _arrived(self, event: Arrived) -> None:
        self.peer = event.peer
        if self.first is None:
            self.first = self._clock()
            return
        self._parser = flv.TagParser()
        if self.gaps and self.gaps[-1].seconds is None:
            self.gaps[-1].seconds = self.elapsed - self.gaps[-1].at
        if self._recorder is not None:
            self._recorder.new_stretch(round(self.elapsed * 1000))

    def _media(self, media: Media) -> None:
        if self._recorder is not None:
            try:
                self._recorder.add(media)
            except OSError as error:
                self.record_error = (error.strerror or str(error)).lower()
                self._recorder.close()
                self._recorder = None
        try:
            event = self._parser.parse(media.kind, media.timestamp, media.body)
        except MediaError as error:
            self.meter.remark(f"a message that makes no sense: {error}")
            return
        if event is not None:
            self.meter.add(event, self._clock())

    def finish(self) -> Measurement:
        """Ends the recording and the measurement."""
        self._over = True
        if self._recorder is not None:
            with contextlib.suppress(OSError):
                self._recorder.close()
            self._recorder = None
        return self.meter.snapshot()
