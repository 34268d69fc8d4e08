"""Measures the sound of a stream: its configuration, bytes and times, and whether it is silent."""

from __future__ import annotations

import itertools

from direkt.bitstream import aac
from direkt.container.media import CodecConfig, Sample
from direkt.measure.statistics import Bitrate, Clock
from direkt.parameters import Values

_BATCH = 1024  # samples whose times and sizes are counted together
_DRIFT_AFTER = 30.0  # s of sound before its drift says anything


class AudioMeter:
    """Takes an audio track's configuration and samples."""

    def __init__(self, time_step: float) -> None:
        self._time_step = time_step
        self.codec: str | None = None
        self.config: aac.AudioConfig | None = None
        self._rate = self._channels = 0
        self.clock = Clock()
        self.bitrate = Bitrate()
        self._times: list[float] = []  # not counted yet
        self._sizes: list[int] = []
        # each second of the stream is silence, sound or unknown; one frame with sound settles its second
        self._second = -1
        self._heard = self._unclear = False
        self._sounding = self._silent = self._unknown = 0

    def configure(self, config: CodecConfig) -> None:
        """An AudioSpecificConfig, or the name of another codec. Raises BitstreamError for one that cannot be read."""
        self.codec = config.codec
        self._rate, self._channels = config.sample_rate, config.channels
        self.config = aac.parse_config(config.data) if config.codec == "aac" and config.data else None

    def add(self, sample: Sample) -> None:
        """One audio frame."""
        _, dts, _, data, _ = sample
        times = self._times
        times.append(dts)
        self._sizes.append(len(data))
        if len(times) >= _BATCH:
            self.fold()
        second = int(dts)
        if second != self._second:
            self._close_second()
            self._second = second
        if not self._heard and self.config is not None:
            sound = aac.sound_of(data)
            if sound is aac.Sound.SOUND:
                self._heard = True
            elif sound is aac.Sound.UNKNOWN:
                self._unclear = True

    def fold(self) -> None:
        """Counts the times and sizes that wait."""
        times, sizes = self._times, self._sizes
        if not times:
            return
        self._times, self._sizes = [], []
        begins = self.clock.add_all(times, times)
        edges = [0, *(n for n in begins if n), len(times)]
        for begin, end in itertools.pairwise(edges):
            if begin in begins:
                self.bitrate.new_stretch()
            self.bitrate.add_all(times[begin:end], sizes[begin:end])

    def _close_second(self) -> None:
        if self._second >= 0:
            if self._heard:
                self._sounding += 1
            elif self._unclear:
                self._unknown += 1
            else:
                self._silent += 1
        self._heard = self._unclear = False

    def interrupt(self) -> None:
        """The stream stops here and may come back with other times."""
        self.fold()
        self.clock.interrupt()

    @property
    def frame_seconds(self) -> float | None:
        """Length of one frame, from the configuration or else from the time stamps."""
        if self.config is not None:
            return self.config.frame_seconds
        return self.clock.span / self.clock.steps if self.clock.steps else None

    @property
    def seconds(self) -> float:
        """How long the sound lasts, the last frame included."""
        step = self.frame_seconds
        return self.clock.span + self.clock.runs * step if step else self.clock.span

    def values(self, notes: dict[str, str]) -> Values:
        """All that is known so far."""
        self.fold()
        if not self.clock.count:
            return {"audio.present": "no"}
        out: Values = {"audio.present": "yes"}
        if self.codec is not None:
            out["audio.codec"] = self.codec
        config = self.config
        if config is not None:
            out["audio.profile"] = config.profile
            out["audio.sample_rate"] = config.sample_rate
            if config.channels:
                out["audio.channels"] = config.channels
        else:
            if self._rate:
                out["audio.sample_rate"] = self._rate
            if self._channels:
                out["audio.channels"] = self._channels
        if self.seconds > 0 and self.clock.steps:
            out["audio.bitrate.mean"] = round(self.bitrate.bytes * 8 / self.seconds / 1000, 1)
            if self.seconds >= 1:
                out["audio.bitrate.peak"] = round(self.bitrate.peak * 8 / 1000, 1)
        out["audio.silent"] = self._silence(notes)
        return out

    def _silence(self, notes: dict[str, str]) -> str:
        """Silent when fewer than one second in a hundred has sound above -60 dB."""
        sounding = self._sounding + self._heard
        unknown = self._unknown + (self._unclear and not self._heard)
        silent = self._silent + (self._second >= 0 and not self._heard and not self._unclear)
        seconds = sounding + unknown + silent
        if self.config is None or not seconds:
            return "unknown"
        if sounding * 100 >= seconds:
            if silent:
                notes["audio.silent"] = f"{silent} of {seconds} seconds are silent"
            return "no"
        return "unknown" if unknown * 100 >= seconds else "yes"

    def drift(self) -> float | None:
        """Parts per million that the sound is longer than its time stamps say; None before 30 s."""
        clock, step = self.clock, self.frame_seconds
        if self.config is None or step is None or clock.span < _DRIFT_AFTER:
            return None
        return (clock.steps * step / clock.span - 1) * 1e6
