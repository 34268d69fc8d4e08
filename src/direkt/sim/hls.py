"""What viewers of a simulated platform get: HTTP Live Streaming (RFC 8216), the pushed stream in segments, as late as was chosen."""

from __future__ import annotations

import datetime
import threading
import time
from collections import deque
from dataclasses import dataclass

from direkt.container import ContainerError, ts_writer
from direkt.media import Format, MediaEvent, Samples
from direkt.net.transport import Arrived, Left, ReceiverEvent

_SHORTEST = 1.5  # s of a segment; it ends at the next keyframe
_MOST_KEPT = 60  # segments
_MOST_BYTES = 64 << 20
_SHOWN = 6  # segments of a playlist
_CLOCK = ts_writer.CLOCK


@dataclass(frozen=True, slots=True)
class MadeSegment:
    """A stretch from one keyframe to another."""

    number: int
    data: bytes
    seconds: float
    begins: float  # s since 1970
    anew: bool  # another push began with it


class Hls:
    """One event's viewers' side. ``delay``: s that a segment is held back."""

    def __init__(self, delay: float) -> None:
        self.delay = delay
        self.segments: deque[MadeSegment] = deque()
        self.viewers: dict[str, float] = {}  # who asked, and when last
        self.size, self.bandwidth = "", 0
        self._lock = threading.Lock()
        self._number = 0
        self._anew = False
        self._restart()

    def _restart(self) -> None:
        self._writer = ts_writer.TsWriter()
        self._formats: set[str] = set()
        self._parts: list[bytes] = []
        self._first: int | None = None  # presentation time with which the open segment begins
        self._began = 0.0

    def take(self, event: ReceiverEvent | MediaEvent) -> None:
        """What the ingest is told."""
        if isinstance(event, Arrived):
            self._restart()
            self._anew = True
        elif isinstance(event, Left):
            self._parts = []
            self._first = None
        elif isinstance(event, Format):
            try:
                self._writer.format(event)
                self._formats.add(event.track)
            except ContainerError:
                return
        elif isinstance(event, Samples) and event.track in self._formats:
            late = time.time() - time.monotonic()
            for n, (pts, key, packets) in enumerate(self._writer.samples(event)):
                arrived = float(event.arrival[n]) + late if event.arrival is not None else time.time()
                if event.track == "video" and key:
                    self._cut(pts, arrived)
                if self._first is not None:
                    self._parts.append(packets)

    def _cut(self, pts: int, arrived: float) -> None:
        """A keyframe: the open segment ends, if it is long enough."""
        if self._first is not None:
            seconds = (pts - self._first) / _CLOCK
            if seconds < _SHORTEST:
                return
            with self._lock:
                data = b"".join(self._parts)
                self.segments.append(MadeSegment(self._number, data, seconds, self._began, self._anew))
                self.bandwidth = max(self.bandwidth, round(len(data) * 8 / seconds))
                self._number += 1
                self._anew = False
                while len(self.segments) > _MOST_KEPT or sum(len(s.data) for s in self.segments) > _MOST_BYTES:
                    self.segments.popleft()
        self._first, self._began = pts, arrived
        self._parts = [self._writer.tables()]

    def segment(self, number: int) -> bytes | None:
        """One that viewers may have."""
        with self._lock:
            return next((s.data for s in self._out() if s.number == number), None)

    def _out(self) -> list[MadeSegment]:
        now = time.time()
        return [s for s in self.segments if s.begins + s.seconds + self.delay <= now]

    @property
    def shown(self) -> bool:
        """Whether there is anything to see."""
        with self._lock:
            return bool(self._out())

    def master(self) -> str:
        """The multivariant playlist (RFC 8216, 4.3.4.2)."""
        size = f",RESOLUTION={self.size}" if self.size else ""
        return f"#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH={max(1, self.bandwidth)}{size}\nlive.m3u8\n"

    def playlist(self, *, ended: bool) -> str:
        """The media playlist (RFC 8216, 4.3.3)."""
        with self._lock:
            out = self._out()[-_SHOWN:]
        longest = max((s.seconds for s in out), default=_SHORTEST)
        lines = [
            "#EXTM3U", "#EXT-X-VERSION:3", f"#EXT-X-TARGETDURATION:{round(longest + 0.5)}",
            f"#EXT-X-MEDIA-SEQUENCE:{out[0].number if out else 0}",
        ]  # fmt: skip
        for s in out:
            if s.anew and s is not out[0]:
                lines.append("#EXT-X-DISCONTINUITY")
            moment = datetime.datetime.fromtimestamp(s.begins, datetime.UTC).isoformat(timespec="milliseconds")
            lines += [
                f"#EXT-X-PROGRAM-DATE-TIME:{moment.replace('+00:00', 'Z')}",
                f"#EXTINF:{s.seconds:.3f},",
                f"{s.number}.ts",
            ]
        return "\n".join([*lines, *(["#EXT-X-ENDLIST"] if ended else [])]) + "\n"
