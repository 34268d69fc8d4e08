"""What a carried stream goes through on its way from a camera to a platform: nothing but its time line, and a sound track.

A relay takes what comes from the source and gives what is to be sent. It begins with a keyframe; it gives pictures and AAC on as they
are, byte for byte; where the source has no sound that can be pushed, it adds silence. The times of what it gives begin at 0 and
run on, whatever becomes of the source. It holds nothing back, so its memory does not grow.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from direkt.codec import aac, registry
from direkt.codec.aac_writer import ToneWriter
from direkt.media import Claims, Format, Framing, MediaEvent, Odd, Samples, Scalar, Times, Track, batch

CARRIED = ("h264",)  # pictures that can be handed on
_MS = 1000
_STEP = Fraction(1, 25)  # s from the last sample to the first behind an interruption, at least


@dataclass(frozen=True, slots=True)
class Silence:
    """The sound track that is added."""

    sample_rate: int = 48000  # Hz
    channels: int = 2
    bitrate: int = 128  # kbit/s


class CannotCarry(Exception):
    """What the source sends cannot be handed on; the text says what to set."""


class Relay:
    """One feed. Times of what comes out are in ms, as RTMP counts them, of one connection to the platform."""

    def __init__(self, silence: Silence) -> None:
        self._silence = silence
        self._formats: dict[Track, Format] = {}  # of the source, as they are now
        self._sent: dict[Track, Format] = {}  # what the platform knows
        self._shift: Fraction | None = None  # s, from the source's times to those sent; None: a keyframe is waited for
        self._last = Fraction(-1)  # time of the last sample sent; below 0: none was, on this connection
        self._last_at = 0.0  # s of the clock, when that was
        self._quiet: ToneWriter | None = None
        self._quiet_frames = 0
        self._quiet_begin = Fraction(0)
        self.waiting_since: float | None = None  # s of the clock: samples came, no keyframe yet
        self.dropped = 0  # pictures that came before a keyframe
        self.silent = False  # the sound that is sent is silence of our own

    def new_connection(self) -> None:
        """The platform knows nothing: its stream begins anew, with a keyframe."""
        self._sent.clear()
        self._shift, self._last = None, Fraction(-1)
        self._quiet = None

    def new_source(self) -> None:
        """The source begins anew, with times of its own; the stream to the platform goes on."""
        self._formats.clear()
        self._shift = None

    def skipped(self) -> None:
        """Some of what came was left out: the next picture sent is a keyframe."""
        self._shift = None

    def take(self, events: Iterable[MediaEvent], now: float) -> list[MediaEvent]:
        """What is to be sent of what came. Raises CannotCarry for pictures that RTMP does not take."""
        out: list[MediaEvent] = []
        pieces: list[tuple[Fraction, int, Samples]] = []  # decoding time, order, one sample
        for event in events:
            if isinstance(event, Format):
                if event.track == "video" and event.codec not in CARRIED:
                    name = registry.find("video", event.codec).title
                    raise CannotCarry(f"the camera sends {name}, which cannot be pushed: set its stream to H.264")
                if pieces:  # what came before is coded as it was
                    out += self._in_turn(pieces, now)
                    pieces = []
                self._formats[event.track] = event
            elif isinstance(event, Samples):
                tick = self._formats[event.track].tick if event.track in self._formats else None
                if tick is None:
                    continue
                for n in range(len(event)):
                    pieces.append((int(event.dts[n]) * tick, len(pieces), event[n : n + 1]))
            elif isinstance(event, Odd):
                out.append(event)
        return out + self._in_turn(pieces, now)

    def _in_turn(self, pieces: list[tuple[Fraction, int, Samples]], now: float) -> list[MediaEvent]:
        """One sample after the other, in the order of their times."""
        out: list[MediaEvent] = []
        for time, _, sample in sorted(pieces, key=lambda piece: piece[:2]):
            if sample.track == "video":
                out += self._picture(time, sample, now)
            elif self._sound_is_sent() and self._shift is not None and time + self._shift >= 0:
                out += self._told("audio")
                out.append(self._moved(sample, self._formats["audio"].tick))
        return out

    def _sound_is_sent(self) -> bool:
        """Whether the source's own sound goes on: AAC whose configuration is known."""
        format = self._formats.get("audio")
        return format is not None and format.codec == "aac" and bool(format.configuration)

    def _picture(self, time: Fraction, sample: Samples, now: float) -> list[MediaEvent]:
        out: list[MediaEvent] = []
        key = bool(sample.marked[0])
        if self._shift is None:
            if not key or not self._formats["video"].configuration:
                self.dropped += 1
                self.waiting_since = self.waiting_since or now
                return out
            self._begin(time, now)
        elif not -1 < float(time + self._shift - self._last) < 10 and self._last >= 0:
            # the source's times jump: what is sent runs on
            self._shift = self._next_time(now) - time
        assert self._shift is not None
        if key or self._sent.get("video") is not self._formats["video"]:
            out += self._told("video")
        self._last = max(self._last, time + self._shift)
        self._last_at = now
        if not self._sound_is_sent():
            out += self._silence_until(self._last, sample.arrival)
        out.append(self._moved(sample, self._formats["video"].tick))
        return out

    def _begin(self, time: Fraction, now: float) -> None:
        self._shift = self._next_time(now) - time
        self.waiting_since = None

    def _next_time(self, now: float) -> Fraction:
        """When the next sample behind an interruption is sent: as much later as the clock is, and never earlier."""
        if self._last < 0:
            return Fraction(0)
        passed = Fraction(round((now - self._last_at) * _MS), _MS)
        return self._last + max(_STEP, passed)

    def _told(self, track: Track) -> list[MediaEvent]:
        """The format of a track, where the platform does not know it; in front of the first of all, what the stream is."""
        format = self._formats[track]
        if self._sent.get(track) is format:
            return []
        known = self._sent.get(track)
        first = not self._sent
        self._sent[track] = format
        if track == "audio":
            self._quiet, self.silent = None, False
        if known is not None and _same(known, format):
            return []
        told = Format(track, format.codec, Fraction(1, _MS), format.framing, format.configuration)
        return [*([Claims("the relay", self._claims())] if first else []), told]

    def _claims(self) -> Mapping[str, Scalar]:
        claims: dict[str, Scalar] = {"video.codec": "h264", "audio.codec": "aac"}
        if self._sound_is_sent():
            config = aac.parse_config(self._formats["audio"].configuration)
            claims |= {"audio.sample_rate": config.sample_rate, "audio.channels": config.channels}
        else:
            claims |= {"audio.sample_rate": self._silence.sample_rate, "audio.channels": self._silence.channels}
        return claims

    def _moved(self, sample: Samples, tick: Fraction) -> Samples:
        """The same at the time at which it is sent."""
        assert self._shift is not None
        dts, pts = (round((int(column[0]) * tick + self._shift) * _MS) for column in (sample.dts, sample.pts))
        return Samples(
            sample.track,
            sample.data,
            sample.offset,
            sample.size,
            np.array([dts]),
            np.array([pts]),
            sample.marked,
            sample.arrival,
        )

    def _silence_until(self, end: Fraction, arrival: Times | None) -> list[MediaEvent]:
        """Frames of silence up to a time; they come with the picture that they end at."""
        came = None if arrival is None else [float(arrival[0])]
        s, out = self._silence, list[MediaEvent]()
        if self._quiet is None:
            self._quiet = ToneWriter(s.sample_rate, s.channels, s.bitrate, tone=False)
            self._quiet_frames, self._quiet_begin = 0, end
            format = Format("audio", "aac", Fraction(1, _MS), Framing.RAW, self._quiet.config)
            self._sent["audio"] = format
            self.silent = True
            out.append(format)
        frame = Fraction(aac.FRAME_SAMPLES, s.sample_rate)
        begin = self._quiet_begin + self._quiet_frames * frame
        if end - begin > 1:  # an interruption: it goes on from here
            self._quiet_frames, self._quiet_begin = 0, end
            begin = end
        while begin <= end:
            stamp = round(begin * _MS)
            out.append(batch("audio", [self._quiet.next()], [stamp], [stamp], [True], came))
            self._quiet_frames += 1
            begin = self._quiet_begin + self._quiet_frames * frame
        return out


def _same(a: Format, b: Format) -> bool:
    return (a.codec, a.configuration) == (b.codec, b.configuration)
