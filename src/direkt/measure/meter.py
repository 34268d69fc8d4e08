"""The meter: media events in, measured values out, at any moment, in bounded memory.

``add`` costs a few array operations a batch; ``snapshot`` costs O(different intervals seen). Live streams and files
take the same way.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from direkt import parameters
from direkt.codec.bits import BitstreamError
from direkt.measure.arrival import Arrivals
from direkt.measure.audio import AudioMeter
from direkt.measure.figures import TrackClock
from direkt.measure.series import OverTime
from direkt.measure.video import VideoMeter
from direkt.media import Break, Claims, Damaged, Delivery, Format, MediaEvent, Odd, Samples, Track, UnreadTrack
from direkt.parameters import Bound, Measured, Value, Values, measured

_MOST_REMARKS = 20
_MOST_CHANGES = 200  # of how a track is coded
_STOPS = 1.0  # s that the sound may end before the picture

Found = dict[str, Measured]


@dataclass(frozen=True, slots=True)
class Difference:
    """A place where a source and the stream inside it disagree; the stream is believed."""

    what: str  # a parameter's name, or "keyframes"
    source: str  # who claims it
    claimed: Value
    stream: Value


@dataclass(frozen=True, slots=True)
class Measurement:
    """What a stream truly is, as far as it was seen."""

    found: Mapping[str, Measured]  # in the table's order
    differences: tuple[Difference, ...] = ()
    remarks: tuple[str, ...] = ()
    broken: Break | None = None
    odd_codec: str | None = None  # the video codec, where nothing but times and bytes could be measured
    video_series: OverTime | None = None
    audio_series: OverTime | None = None
    levels: tuple[tuple[float, float], ...] = ()  # of the sound: s since it began, and dBFS then
    behind: tuple[tuple[float, float], ...] = ()  # of a live stream: clock time, and by how much it is late then, s

    @property
    def values(self) -> Values:
        """The values alone."""
        return {name: found.value for name, found in self.found.items()}


class Meter:
    """Takes media events in the order in which they come."""

    def __init__(self, protocol: str | None = None) -> None:
        self._protocol = protocol
        self._remarks: dict[str, None] = {}
        self.video: VideoMeter | None = None
        self.audio: AudioMeter | None = None
        self._claims: dict[str, Claims] = {}
        self._broken: Break | None = None
        self._pace = _Pace()
        self._arrivals = Arrivals()
        self._delivered: dict[Track, Delivery] = {}
        self._unread: dict[Track, UnreadTrack] = {}
        self._formats: dict[Track, Format] = {}  # in force
        self._changed: dict[Track, int] = {}
        self._left: set[Track] = set()  # tracks that are not measured any more
        self._starts: dict[Track, int | None] = {}  # presentation time in front of which nothing is shown

    def remark(self, text: str) -> None:
        """Keeps something worth telling; the first 20 are kept."""
        if len(self._remarks) < _MOST_REMARKS:
            self._remarks[text] = None

    def add_all(self, events: Iterable[MediaEvent]) -> None:
        """All events of a source."""
        for event in events:
            self.add(event)

    def add(self, event: MediaEvent) -> None:
        """One event."""
        if isinstance(event, Samples):
            self._samples(event)
        elif isinstance(event, Format):
            self._configure(event)
        elif isinstance(event, Claims):
            self._claims[event.source] = event
        elif isinstance(event, Odd):
            self.remark(event.text)
        elif isinstance(event, Delivery):
            self._delivered[event.track] = event
        elif isinstance(event, Damaged):
            pass  # what is missing shows in the times
        elif isinstance(event, UnreadTrack):
            self._unread.setdefault(event.track, event)
        else:
            self._broken = event

    def _samples(self, samples: Samples) -> None:
        meter = self.video if samples.track == "video" else self.audio
        if meter is None:
            self.remark(f"{samples.track} came before anything said how it is coded: it was passed over")
            return
        if not len(samples) or samples.track in self._left:
            return
        meter.add(samples)
        if isinstance(meter, VideoMeter) and meter.changes > _most_changes(meter):
            self._leave(samples.track, meter)
        self._pace.add(samples, float(meter.clock.tick))
        if samples.track == "video":
            self._arrivals.add(samples, float(meter.clock.tick))

    def _leave(self, track: Track, meter: VideoMeter | AudioMeter) -> None:
        """What changes again and again is no stream that could be measured; each change costs as much as many pictures."""
        self._left.add(track)
        at = max(0.0, float((meter.clock.last - meter.clock.first_decoded) * meter.clock.tick))
        self.remark(f"the {track} changes how it is coded again and again, more than {_MOST_CHANGES} times: what comes after {at:.1f} s is not measured")

    def _configure(self, format: Format) -> None:
        if format.track in self._left:
            return
        old = self.video if format.track == "video" else self.audio
        if old is not None and self._formats.get(format.track) not in (None, format):
            self._changed[format.track] = count = self._changed.get(format.track, 0) + 1
            if count > _most_changes(old):
                self._leave(format.track, old)
                return
        self._starts.setdefault(format.track, format.starts)
        try:
            if old is not None and (old.codec, old.clock.tick) == (format.codec, format.tick):
                old.configure(format)
                self._formats[format.track] = format
                return
            if old is not None and old.clock.count:
                self.remark(
                    f"the {format.track} codec changes from {old.codec} to {format.codec}: what follows is measured anew"
                )
                self._begin_other(format.track)
            self._begin(format)
        except BitstreamError as error:
            self.remark(f"the {format.track} configuration cannot be read: {error}")
            bare = Format(format.track, format.codec, format.tick, format.framing)
            if old is None or old.codec != format.codec:
                self._begin(bare)

    def _begin_other(self, track: Track) -> None:
        """Where one track is measured anew, so is the other: else times of before and after were held against each other."""
        other = self._formats.get("audio" if track == "video" else "video")
        meter = self.audio if track == "video" else self.video
        if other is not None and meter is not None and meter.clock.count:
            self._begin(other)
        self._starts.clear()

    def _begin(self, format: Format) -> None:
        self._formats[format.track] = format
        if format.track == "video":
            self.video = VideoMeter(format, self.remark)
        else:
            self.audio = AudioMeter(format, self.remark)

    def interrupt(self) -> None:
        """The publisher went away and may come back."""
        for meter in (self.video, self.audio):
            if meter is not None:
                meter.interrupt()
        self._pace.close()

    @property
    def seconds(self) -> float:
        """Length of what was seen so far."""
        return max((meter.seconds for meter in (self.video, self.audio) if meter is not None), default=0.0)

    def snapshot(self) -> Measurement:
        """The values so far."""
        self._tell_gaps()
        found: Found = self.video.values() if self.video is not None else {}
        if (picture := self._unread.get("video")) is not None and not found:
            found["video.codec"] = Measured(
                picture.codec, note=f"present, not read: {picture.reason}", unread=picture.reason
            )
        if self.audio is not None and self.audio.clock.count:
            found |= self.audio.values()
        elif (sound := self._unread.get("audio")) is not None:
            found["audio.present"] = Measured("yes", note=f"present, not read: {sound.reason}", unread=sound.reason)
            found["audio.codec"] = Measured(sound.codec)
        elif found:
            found["audio.present"] = Measured("no")
        self._whole(found)
        self._dead_air(found)
        ordered = {name: found[name] for name in parameters.in_table_order(found)}
        remarks = [*self._remarks, *self._changes()]
        odd = self.video.codec if self.video is not None and not self.video.is_read else None
        video, audio = (meter.series.over_time() if meter is not None and meter.clock.count else None for meter in (self.video, self.audio))
        levels = self.audio.levels() if self.audio is not None else ()
        return Measurement(ordered, tuple(self._differences(found)), tuple(remarks), self._broken, odd, video, audio, levels, self._arrivals.behind())

    def _tell_gaps(self) -> None:
        """What is a gap on one track shows on the other."""
        video = self.video.clock if self.video is not None else None
        audio = self.audio.clock if self.audio is not None and self.audio.clock.count else None
        for clock, other in ((video, audio), (audio, video)):
            if clock is not None:
                clock.bridge(other)

    def _changes(self) -> Iterable[str]:
        """What changed in mid-stream."""
        video, audio = self.video, self.audio
        for meter in (video, audio):
            if meter is not None:
                yield from meter.remarks()
        if video is not None and audio is not None and video.pictures and audio.clock.count:
            begin = float((video.clock.first or 0) * video.clock.tick)
            end = float(video.clock.last * video.clock.tick)
            stops = self._stops(video, audio)
            if stops > _STOPS:
                yield f"the sound stops at {audio.end - begin:.1f} s, {end - audio.end:.1f} s before the picture"
            elif -stops > _STOPS:
                yield f"the picture stops at {end - begin:.1f} s, {-stops:.1f} s before the sound"

    @staticmethod
    def _stops(video: VideoMeter, audio: AudioMeter) -> float:
        """s by which the sound ends before the picture; below 0: behind it. 0 where their times cannot be compared."""
        if video.clock.backward or audio.clock.backward:
            return 0.0
        return float(video.clock.last * video.clock.tick) - audio.end

    def _dead_air(self, found: Found) -> None:
        """One track ends and the other goes on: that is its longest gap, if it is longer than those in the middle."""
        video, audio = self.video, self.audio
        if video is None or audio is None or not video.pictures or not audio.clock.count:
            return
        stops = self._stops(video, audio)
        begin = float((video.clock.first or 0) * video.clock.tick)
        name, length = ("audio.longest_gap", stops) if stops > 0 else ("video.longest_gap", -stops)
        longest = found.get(name)
        if length <= _STOPS or (longest is not None and isinstance(longest.value, float) and longest.value >= length):
            return
        since = (audio.end if stops > 0 else float(video.clock.last * video.clock.tick)) - begin
        said = measured(name, length, Bound.AT_LEAST, note=f"it stops at {since:.1f} s and does not come back")
        found[name] = replace(said, since=round(max(0.0, since), 1))

    def _whole(self, found: Found) -> None:
        video, audio = self.video, self.audio
        meters = [meter for meter in (video, audio) if meter is not None and meter.clock.count]
        if self._protocol and meters:
            found["stream.protocol"] = Measured(self._protocol)
        seconds = self.seconds
        if seconds > 0:
            found["stream.duration"] = measured("stream.duration", seconds)
            total = sum(meter.bitrate.kbit_s(seconds) for meter in meters)
            found["stream.bitrate.mean"] = measured("stream.bitrate.mean", total)
        if video is not None and audio is not None and video.clock.first is not None and audio.clock.first is not None:
            offset = self._first(audio) - self._first(video)
            found["stream.av_offset"] = measured("stream.av_offset", float(offset * 1000))
        told = self._delivered.get("audio")
        drift = told.drift if told is not None else None
        if drift is None and audio is not None and not self._delivered:
            drift = audio.drift()
        if drift is not None:
            found["stream.av_drift"] = measured("stream.av_drift", drift)
        if meters:
            found["stream.timestamps"] = _evenness([m.clock for m in meters])
        if self._delivered:
            self._packets(found)
        pace = self._pace.value()
        if pace is not None:
            found["stream.pace"] = measured("stream.pace", pace)

    def _packets(self, found: Found) -> None:
        """How the packets came."""
        each = self._delivered.values()
        sent = sum(d.packets + d.lost for d in each)
        for name, count in (
            ("lost", sum(d.lost for d in each)), ("doubled", sum(d.doubled for d in each)),
            ("reordered", sum(d.reordered for d in each)),
        ):  # fmt: skip
            note = f"{count / sent:.2%} of {sent}" if count and sent else ""
            found[f"stream.packets_{name}"] = Measured(count, note=note)
        found["stream.packet_jitter"] = measured("stream.packet_jitter", max(d.jitter for d in each) * 1000)

    def _first(self, meter: VideoMeter | AudioMeter) -> Fraction:
        """When a track is first presented, in s."""
        starts = self._starts.get("video" if meter is self.video else "audio")
        first = meter.clock.first or 0
        return (first if starts is None else max(first, starts)) * meter.clock.tick

    def _differences(self, found: Found) -> Iterable[Difference]:
        for claims in self._claims.values():
            for name, claimed in claims.values.items():
                value = found[name].value if name in found else None
                if value is not None and not parameters.same(name, value, claimed, measured=True):
                    yield Difference(name, claims.source, claimed, value)
        video = self.video
        if video is not None and video.is_read and (video.marked_wrong or video.marked != video.keyframes):
            yield Difference("keyframes", "the container's marks", video.marked, video.keyframes)


class _Pace:
    """Media seconds by clock seconds while somebody pushes."""

    def __init__(self) -> None:
        self._begin: tuple[float, float] | None = None  # clock and media time at the start of the run
        self._now = (0.0, 0.0)
        self._wall = self._media = 0.0

    def add(self, samples: Samples, tick: float) -> None:
        """A batch with arrival times."""
        if samples.arrival is None:
            return
        first, last = float(samples.dts[0]) * tick, float(samples.dts.max()) * tick
        if self._begin is None or first < self._begin[1]:
            self.close()
            self._begin = self._now = (float(samples.arrival[0]), first)
        self._now = (float(samples.arrival[-1]), max(last, self._now[1]))

    def close(self) -> None:
        """The run is over."""
        wall, media = self._run()
        self._wall += wall
        self._media += media
        self._begin = None

    def _run(self) -> tuple[float, float]:
        if self._begin is None:
            return 0.0, 0.0
        return self._now[0] - self._begin[0], self._now[1] - self._begin[1]

    def value(self) -> float | None:
        """None before a second has passed."""
        wall, media = self._run()
        return (self._media + media) / (self._wall + wall) if self._wall + wall >= 1 else None


def _most_changes(meter: VideoMeter | AudioMeter) -> int:
    """How often a track may change how it is coded: often, or now and then for ever."""
    return _MOST_CHANGES + meter.clock.count // 50


_SAME = 1.0  # s between breaks of two tracks that are one
_TOLD = 3  # breaks that are told


def _evenness(clocks: Sequence[TrackClock]) -> Measured:
    """Whether the stamps run on, where they do not, and by how much; what happens to all tracks at once is told once."""
    said: list[str] = []
    begins: list[float] = []
    for backward, word in ((True, "backward"), (False, "forward")):
        breaks: list[tuple[float, float]] = []
        for at, length in sorted(place for clock in clocks for place in clock.breaks(backward)):
            if not any(abs(at - a) < _SAME and abs(length - n) < _SAME for a, n in breaks[-len(clocks) :]):
                breaks.append((at, length))
        begins += [at for at, _ in breaks[:1]]
        said += [f"{length:.1f} s {word} at {at:.1f} s" for at, length in breaks[:_TOLD]]
        if len(breaks) > _TOLD:
            said.append(f"and {word} again")
    if any(clock.pauses for clock in clocks):
        said.append("a pause or a jump of the clock: the time stamps alone do not show which")
    repeated = sum(clock.repeated for clock in clocks)
    if repeated:
        said.append(f"{repeated} {'time repeats' if repeated == 1 else 'times repeat'}")
    states = ("backward", any(c.backward for c in clocks)), ("jump", any(c.jumps for c in clocks)), ("repeated", repeated)
    state = next((name for name, is_so in states if is_so), "clean")
    return Measured(state, note=", ".join(said), since=round(max(0.0, min(begins)), 1) if begins else None)
