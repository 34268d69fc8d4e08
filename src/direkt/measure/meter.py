"""The meter: media events in, measured values out, at any moment, in bounded memory.

``add`` costs O(1) for audio and O(NAL units) for video; ``snapshot`` costs O(different intervals seen).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from direkt import parameters
from direkt.bitstream.bits import BitstreamError
from direkt.container.media import Break, Claims, CodecConfig, MediaEvent, Sample
from direkt.measure.audio import AudioMeter
from direkt.measure.video import VideoMeter
from direkt.parameters import Value, Values

_MOST_REMARKS = 20


@dataclass(frozen=True, slots=True)
class Difference:
    """A place where the container and the stream inside it disagree; the stream is believed."""

    what: str  # a parameter's name, or "keyframes"
    source: str  # who claims it
    claimed: Value
    stream: Value


@dataclass(frozen=True, slots=True)
class Measurement:
    """What a stream truly is, as far as it was seen."""

    values: Values
    notes: dict[str, str] = field(default_factory=dict)  # parameter: what its value alone does not say
    differences: tuple[Difference, ...] = ()
    remarks: tuple[str, ...] = ()
    broken: Break | None = None


class Meter:
    """Takes media events in the order in which they come.

    ``time_step``: how coarse the time stamps are, in s: 0.001 for FLV and RTMP, 0 for MP4.
    """

    def __init__(self, time_step: float = 0.001, protocol: str | None = None) -> None:
        self._protocol = protocol
        self._remarks: list[str] = []
        self.video = VideoMeter(time_step, self.remark)
        self.audio = AudioMeter(time_step)
        self._claims: list[Claims] = []
        self._broken: Break | None = None
        self._wall: tuple[float, float] | None = None  # clock and media time at the start of the run
        self._wall_now = self._media_now = 0.0
        self._wall_span = self._media_span = 0.0

    def remark(self, text: str) -> None:
        """Keeps something worth telling; the first 20 are kept."""
        if text not in self._remarks and len(self._remarks) < _MOST_REMARKS:
            self._remarks.append(text)

    def add(self, event: MediaEvent, wall: float | None = None) -> None:
        """One event; ``wall``: when it came, in s of a steady clock, for live streams."""
        if isinstance(event, Sample):
            if event.track == "video":
                self.video.add(event)
            else:
                self.audio.add(event)
            if wall is not None:
                self._pace(event.dts, wall)
        elif isinstance(event, CodecConfig):
            self._configure(event)
        elif isinstance(event, Claims):
            self._claims = [claim for claim in self._claims if claim.source != event.source] + [event]
        else:
            self._broken = event

    def add_all(self, events: Iterable[MediaEvent]) -> None:
        """All events of a recording."""
        video, audio = self.video.add, self.audio.add
        for event in events:
            if type(event) is Sample:
                if event[0] == "video":
                    video(event)
                else:
                    audio(event)
            else:
                self.add(event)

    def _configure(self, config: CodecConfig) -> None:
        try:
            if config.track == "video":
                self.video.configure(config)
            else:
                self.audio.configure(config)
        except BitstreamError as error:
            self.remark(f"the {config.track} configuration cannot be read: {error}")
        if config.first is not None:
            self.add(config.first)

    def _pace(self, media: float, wall: float) -> None:
        if self._wall is None or media < self._wall[1]:
            self._close_pace()
            self._wall = (wall, media)
        self._wall_now, self._media_now = wall, max(media, self._media_now)

    def _close_pace(self) -> None:
        if self._wall is not None:
            self._wall_span += self._wall_now - self._wall[0]
            self._media_span += self._media_now - self._wall[1]
        self._wall = None
        self._media_now = 0.0

    def interrupt(self) -> None:
        """The publisher went away and may come back."""
        self.video.interrupt()
        self.audio.interrupt()
        self._close_pace()

    @property
    def seconds(self) -> float:
        """Length of what was seen so far."""
        self.video.fold()
        self.audio.fold()
        return max(self.video.seconds, self.audio.seconds)

    def snapshot(self) -> Measurement:
        """The values so far."""
        notes: dict[str, str] = {}
        values = self.video.values(notes)
        heard = self.audio.values(notes)
        if values or self.audio.clock.count:
            values |= heard
        self._whole(values, notes)
        ordered = {name: values[name] for name in parameters.in_table_order(values)}
        remarks = list(self._remarks)
        if self.video.damaged:
            remarks.append(f"{self.video.damaged} pictures have NAL units whose lengths do not add up")
        return Measurement(ordered, notes, tuple(self._differences(values)), tuple(remarks), self._broken)

    def _whole(self, values: Values, notes: dict[str, str]) -> None:
        if self._protocol:
            values["stream.protocol"] = self._protocol
        seconds = self.seconds
        if seconds > 0:
            values["stream.duration"] = round(seconds, 3)
            total = self.video.bitrate.bytes + self.audio.bitrate.bytes
            values["stream.bitrate.mean"] = round(total * 8 / seconds / 1000, 1)
        video, audio = self.video.clock, self.audio.clock
        if video.first is not None and audio.first is not None:
            # times before 0 are cut away by an edit list and are not presented
            offset = max(0.0, audio.first) - max(0.0, video.first)
            values["stream.av_offset"] = round(offset * 1000, 1)
        drift = self.audio.drift()
        if drift is not None:
            values["stream.av_drift"] = round(drift, 1)
        backward, jumps = video.backward + audio.backward, video.jumps + audio.jumps
        if video.count or audio.count:
            values["stream.timestamps"] = "backward" if backward else "jump" if jumps else "clean"
            if backward or jumps:
                notes["stream.timestamps"] = f"{backward} steps backward, {jumps} jumps of more than 1 s"
        wall, media = self._wall_span, self._media_span
        if self._wall is not None:
            wall += self._wall_now - self._wall[0]
            media += self._media_now - self._wall[1]
        if wall >= 1:
            values["stream.pace"] = round(media / wall, 3)

    def _differences(self, values: Values) -> Iterable[Difference]:
        for claims in self._claims:
            for name, claimed in claims.values.items():
                value = values.get(name)
                if value is not None and not parameters.same(name, value, claimed, measured=True):
                    yield Difference(name, claims.source, claimed, value)
        video = self.video
        if video.codec == "h264" and (video.marked_wrong or video.marked != video.keyframes):
            yield Difference("keyframes", "the container's marks", video.marked, video.keyframes)
