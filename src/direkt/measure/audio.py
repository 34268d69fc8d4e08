"""Measures the sound of a stream: its format, bytes and times, and whether it is silent."""

from __future__ import annotations

import itertools

import numpy as np

from direkt.codec.reader import AudioReader, Remark, Sound, audio_reader
from direkt.measure.figures import Bitrate, Clock
from direkt.media import Format, Samples
from direkt.parameters import Measured, measured

_DRIFT_AFTER = 30.0  # s of sound before its drift says anything
_LOOKS = 2  # frames of a second whose sound is looked at, at most
_SOUNDING = 0.01  # share of seconds with sound from which on a stream is not silent

Found = dict[str, Measured]


class AudioMeter:
    """Takes an audio track's format and samples."""

    def __init__(self, format: Format, remark: Remark) -> None:
        self.codec = format.codec
        self._reader: AudioReader = audio_reader(format, remark)
        self.clock = Clock(format.tick)
        self.bitrate = Bitrate(format.tick)
        self._ticks_a_second = int(1 / format.tick)
        self._length = 0  # audio samples so far
        self._last_length = 0
        self._steps = 0  # audio samples in all frames but the last of each run
        # each second of the stream is silence, sound or unknown; one frame with sound settles its second
        self._second: int | None = None
        self._so_far = Sound.SILENCE  # of the second that is not over
        self._looks = 0
        self._seconds = [0, 0, 0]  # by Sound
        self.configure(format)

    def configure(self, format: Format) -> None:
        """The same codec, configured anew. Raises BitstreamError for a record that cannot be read."""
        self._reader.configure(format)

    def add(self, samples: Samples) -> None:
        """The next batch."""
        lengths = self._reader.lengths(samples)
        begins = self.clock.add(samples.dts, samples.pts)
        edges = [0, *(n for n in begins if n), len(samples)]
        for begin, end in itertools.pairwise(edges):
            if begin in begins:
                self.bitrate.new_stretch()
                self._last_length = 0
            self.bitrate.add(samples.dts[begin:end], samples.size[begin:end])
            if lengths is not None and end > begin:
                self._length += int(lengths[begin:end].sum())
                self._steps += self._last_length + int(lengths[begin : end - 1].sum())
                self._last_length = int(lengths[end - 1])
        self._listen(samples)

    def _listen(self, samples: Samples) -> None:
        """Looks at a few frames of each second, until one of them has sound."""
        seconds = samples.dts // self._ticks_a_second
        starts = np.flatnonzero(np.diff(seconds, prepend=seconds[0] - 1)).tolist()
        for begin, end in itertools.pairwise([*starts, len(samples)]):
            if int(seconds[begin]) != self._second:
                self._close_second()
                self._second = int(seconds[begin])
            left = _LOOKS - self._looks
            if self._so_far is Sound.SOUND or left <= 0:
                continue
            for n in range(begin, end, max(1, -(-(end - begin) // left))):
                self._looks += 1
                found = self._reader.sound(samples, n)
                if found is not Sound.SILENCE:
                    self._so_far = found
                if found is Sound.SOUND:
                    break

    def _close_second(self) -> None:
        if self._second is not None:
            self._seconds[self._so_far] += 1
        self._so_far, self._looks = Sound.SILENCE, 0

    def interrupt(self) -> None:
        """The stream stops here and may come back with other times."""
        self.clock.interrupt()

    def _frame_seconds(self) -> float:
        """Mean length of a frame, from what the codec says or else from the time stamps; 0 while it is not known."""
        rate = self._reader.rate
        if rate and self._length and self.clock.count:
            return self._length / rate / self.clock.count
        return self.clock.span / self.clock.steps if self.clock.steps else 0.0

    @property
    def seconds(self) -> float:
        """How long the sound lasts, the last frame included."""
        return self.clock.span + self.clock.runs * self._frame_seconds()

    def values(self) -> Found:
        """All that is known so far."""
        if not self.clock.count:
            return {"audio.present": Measured("no")}
        out: Found = {"audio.present": Measured("yes"), "audio.codec": Measured(self.codec)}
        out |= {name: Measured(value) for name, value in self._reader.declared.values.items()}
        seconds = self.seconds
        if seconds > 0 and self.clock.steps:
            out["audio.bitrate.mean"] = measured("audio.bitrate.mean", self.bitrate.kbit_s(seconds))
            if seconds >= 1:
                out["audio.bitrate.peak"] = measured("audio.bitrate.peak", self.bitrate.peak_kbit_s)
        out["audio.silent"] = self._silence()
        return out

    def _silence(self) -> Measured:
        """Silent when fewer than one second in a hundred has sound."""
        seconds = list(self._seconds)
        if self._second is not None:
            seconds[self._so_far] += 1
        silent, sounding, unknown = seconds
        total = sum(seconds)
        if total and sounding >= _SOUNDING * total:
            note = f"{silent} of {total} seconds are silent" if silent else ""
            return Measured("no", note=note)
        return Measured("unknown" if not total or unknown >= _SOUNDING * total else "yes")

    def drift(self) -> float | None:
        """Parts per million that the sound is longer than its time stamps say; None before 30 s."""
        if not self._reader.rate or not self._steps or self.clock.span < _DRIFT_AFTER:
            return None
        return (self._steps / self._reader.rate / self.clock.span - 1) * 1e6
