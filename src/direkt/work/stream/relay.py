"""What a carried stream goes through on its way from a camera to a platform: nothing but its time line, and a sound track.

A relay takes what comes from the source and gives what is to be sent. It begins with a keyframe; it gives pictures and AAC on as they
are, byte for byte; telephone and plain sound it codes to AAC; where there is none that can be pushed, or it stops, it adds silence. The
times of what it gives begin at 0 and run on, whatever becomes of the source. Pictures that depend on one that was lost are left out up
to the next keyframe, unless they are to pass. It holds nothing back, so its memory does not grow.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from direkt.codec import aac, h264_syntax, h265_syntax, registry
from direkt.codec.aac_writer import ToneWriter
from direkt.codec.bits import BitstreamError
from direkt.media import Claims, Damaged, Format, Framing, MediaEvent, Odd, Samples, Scalar, Times, Track, batch
from direkt.work.stream.sound import TAKEN, Coded, SoundCoder

PLAIN = ("h264",)  # pictures that every ingest takes
CARRIED = ("h264", "h265")  # pictures that can be handed on, the second by extended headers
_MS = 1000
_STEP = Fraction(1, 25)  # s from the last sample to the first behind an interruption, at least
_JUMP = 2  # s by which times may run ahead of the clock before they jump
_BACK = -1  # s that they may step back
_SOUND_GONE = 1.5  # s without a sample of sound after which it has stopped
_LC = 2


@dataclass(frozen=True, slots=True)
class Silence:
    """The sound track that is added, and to which other sound is coded."""

    sample_rate: int = 48000  # Hz
    channels: int = 2
    bitrate: int = 128  # kbit/s


class CannotCarry(Exception):
    """What the source sends cannot be handed on; the text says what to set."""


class Relay:
    """One feed. Times of what comes out are in ms, as RTMP counts them, of one connection to the platform."""

    def __init__(
        self, silence: Silence, *, codecs: tuple[str, ...] = PLAIN, told: Mapping[str, Scalar] | None = None, keep_damaged: bool = False
    ) -> None:  # fmt: skip
        """``codecs``: pictures that the platform takes; ``told``: what the device says of itself, for the stream's own description.

        ``keep_damaged``: pictures that depend on a lost one are sent all the same.
        """
        self._silence, self._codecs, self._device, self._keep_damaged = silence, codecs, dict(told or {}), keep_damaged
        self._formats: dict[Track, Format] = {}  # of the source, as they are now
        self._sent: dict[Track, Format] = {}  # what the platform knows
        self._begun = False  # a keyframe came on this connection, of this source
        self._shift: dict[Track, Fraction] = {}  # s, from the source's times to those sent
        self._last: dict[Track, Fraction] = {}  # time of the last sample of the source that was sent, on this connection
        self._last_at: dict[Track, float] = {}  # s of the clock, when that was
        self._sound = Fraction(0)  # up to here there is sound, of the source or of ours
        self._coder: SoundCoder | None = None
        self._coded: Format | None = None  # of the source's sound, what that coder codes
        self._quiet: ToneWriter | None = None
        self._told_gone = False
        self._heard_at: float | None = None  # s of the clock, when sound of the source came last, or should have begun again
        self._broken = False  # a picture is lost that those behind it need
        self.waiting_since: float | None = None  # s of the clock: samples came, no keyframe yet
        self.dropped = 0  # pictures that came before a keyframe
        self.damaged = 0  # pictures and frames of sound that were lost or damaged on their way here
        self.behind = 0  # pictures that were left out because they depend on one that was lost
        self.silent = False  # the sound that is sent is silence of our own
        self.coded = ""  # the codec of the source's sound, where that is coded to AAC here

    def new_connection(self) -> None:
        """The platform knows nothing: its stream begins anew, with a keyframe."""
        self._sent.clear()
        self._last.clear()
        self._last_at.clear()
        self._sound = Fraction(0)
        self._heard_at = None
        self._restart()

    def new_source(self) -> None:
        """The source begins anew, with times of its own; the stream to the platform goes on."""
        self._formats.clear()
        self._restart()

    def skipped(self) -> None:
        """Some of what came was left out: the next picture sent is a keyframe."""
        self._restart()

    def _restart(self) -> None:
        self._begun = self._broken = False
        self._shift.clear()
        self._coder = self._quiet = None

    def take(self, events: Iterable[MediaEvent], now: float) -> list[MediaEvent]:
        """What is to be sent of what came. Raises CannotCarry for pictures that the platform does not take."""
        out: list[MediaEvent] = []
        pieces: list[tuple[Fraction, int, Samples]] = []  # decoding time, order, one sample
        for event in events:
            if isinstance(event, Samples):
                tick = self._formats[event.track].tick if event.track in self._formats else None
                if tick is None:
                    continue
                for n in range(len(event)):
                    pieces.append((int(event.dts[n]) * tick, len(pieces), event[n : n + 1]))
                continue
            if isinstance(event, Format | Damaged) and pieces:  # what came before is as it was
                out += self._in_turn(pieces, now)
                pieces = []
            if isinstance(event, Format):
                self._check(event)
                self._formats[event.track] = event
            elif isinstance(event, Damaged):
                self.damaged += event.samples
                self._broken = self._broken or (event.track == "video" and not self._keep_damaged)
            elif isinstance(event, Odd):
                out.append(event)
        return out + self._in_turn(pieces, now)

    def _check(self, format: Format) -> None:
        if format.track != "video" or format.codec in self._codecs:
            return
        name = registry.find("video", format.codec).title
        why = "which this platform's sheet does not name" if format.codec in CARRIED else "which cannot be pushed"
        raise CannotCarry(f"the camera sends {name}, {why}: set its stream to H.264")

    def _in_turn(self, pieces: list[tuple[Fraction, int, Samples]], now: float) -> list[MediaEvent]:
        """One sample after the other, in the order of their times."""
        out: list[MediaEvent] = []
        for time, _, sample in sorted(pieces, key=lambda piece: piece[:2]):
            out += self._picture(time, sample, now) if sample.track == "video" else self._heard(time, sample, now)
        return out

    # Times

    def _place(self, track: Track, time: Fraction, now: float) -> Fraction:
        """When a sample is sent. Where the source's times jump, what is sent runs on, sound and picture by the same step."""
        others: list[Fraction] = [shift for other, shift in self._shift.items() if other != track]
        shift = self._shift.get(track)
        if shift is None:
            shift = others[0] if others else self._next_time(now) - time
        last = self._last.get(track)
        if last is not None:
            passed = now - self._last_at[track]

            def runs_on(way: Fraction) -> bool:
                return _BACK <= time + way - last <= passed + _JUMP

            if not runs_on(shift):
                shift = next((way for way in others if runs_on(way)), last + max(_STEP, _rounded(passed)) - time)
        self._shift[track] = shift
        return time + shift

    def _next_time(self, now: float) -> Fraction:
        """When the next sample behind an interruption is sent: as much later as the clock is, and never earlier."""
        if not self._last:
            return Fraction(0)
        return max(last + max(_STEP, _rounded(now - self._last_at[track])) for track, last in self._last.items())

    def _note(self, track: Track, at: Fraction, now: float) -> None:
        self._last[track], self._last_at[track] = max(at, self._last.get(track, at)), now

    # Pictures

    def _picture(self, time: Fraction, sample: Samples, now: float) -> list[MediaEvent]:
        key = bool(sample.marked[0])
        if not self._begun:
            if not key or not self._formats["video"].configuration:
                self.dropped += 1
                self.waiting_since = self.waiting_since or now
                return []
            self._begun, self.waiting_since = True, None
        if self._broken and not key:
            self.behind += 1
            return []
        self._broken = False
        out: list[MediaEvent] = []
        first = not self._sent
        at = self._place("video", time, now)
        if key or self._sent.get("video") is not self._formats["video"]:
            out += self._told(self._formats["video"])
        if self._heard_at is not None and at - self._last.get("video", at) > 1:
            self._heard_at = now  # a pause of the source: the sound is about to come as well
        self._note("video", at, now)
        if first:
            self._sound = at
        out += self._silence_until(at, sample.arrival, now)
        out.append(self._moved(sample, self._formats["video"].tick, at - time))
        return out

    # Sound

    @property
    def _passes(self) -> bool:
        """Whether the source's sound goes on as it is: AAC whose configuration is known."""
        format = self._formats.get("audio")
        return format is not None and format.codec == "aac" and bool(format.configuration)

    def _heard(self, time: Fraction, sample: Samples, now: float) -> list[MediaEvent]:
        """A sample of the source's sound."""
        format = self._formats["audio"]
        if not self._begun or not (self._passes or format.codec in TAKEN):
            return []
        at = self._place("audio", time, now)
        self._note("audio", at, now)
        self._heard_at = now
        if not self._passes:
            return self._code(format, at, bytes(sample.sample(0)))
        if at < self._sound - Fraction(1, 500):  # in front of the first picture, or where silence stands already
            return []
        out = self._back() + self._told(format)
        self._sound = at + self._length(format)
        out.append(self._moved(sample, format.tick, at - time))
        return out

    @staticmethod
    def _length(format: Format) -> Fraction:
        try:
            config = aac.parse_config(format.configuration)
        except BitstreamError:
            return Fraction(0)
        return Fraction(config.frame_samples, config.core_rate or 48000)

    def _code(self, format: Format, at: Fraction, data: bytes) -> list[MediaEvent]:
        """Sound that is coded to AAC here."""
        s = self._silence
        if self._coder is None or self._coded is not format:
            self._coder, self._coded = SoundCoder(format, s.sample_rate, s.channels, s.bitrate), format
        made = Format("audio", "aac", Fraction(1, _MS), Framing.RAW, self._coder.config)
        out: list[MediaEvent] = []
        for coded in self._coder.add(at, data):
            if coded.time < self._sound - Fraction(1, 500):
                continue
            out += self._back() + self._told(made)
            self._sound = coded.time + Fraction(aac.FRAME_SAMPLES, s.sample_rate)
            self.coded = format.codec
            out.append(_frame(coded))
        return out

    def _back(self) -> list[MediaEvent]:
        """The source's sound goes on."""
        self._quiet, self.silent = None, False
        if not self._told_gone:
            return []
        self._told_gone = False
        return [Odd("the camera's sound came back: it is sent again")]

    def _silence_until(self, end: Fraction, arrival: Times | None, now: float) -> list[MediaEvent]:
        """Frames of silence up to a time, where the source gives no sound; they come with the picture that they end at."""
        heard = self._heard_at
        format = self._formats.get("audio")
        comes = format is not None and (self._passes or format.codec in TAKEN)
        if self._quiet is None and comes and (end - self._sound <= _SOUND_GONE or (heard is not None and now - heard < _SOUND_GONE)):
            return []
        out: list[MediaEvent] = []
        if self._quiet is None:
            self._quiet, self.silent = self._writer(), True
            if comes and heard is not None and not self._told_gone:
                self._told_gone = True
                out.append(Odd(f"the camera's sound stopped at {float(self._sound):.1f} s: silence is sent in its place"))
            out += self._told(Format("audio", "aac", Fraction(1, _MS), Framing.RAW, self._quiet.config))
        config = aac.parse_config(self._quiet.config)
        frame = Fraction(aac.FRAME_SAMPLES, config.core_rate)
        if end - self._sound > 10:  # an interruption: it goes on from here
            self._sound = end
        came = None if arrival is None else [float(arrival[0])]
        while self._sound <= end:
            stamp = round(self._sound * _MS)
            out.append(batch("audio", [self._quiet.next()], [stamp], [stamp], [True], came))
            self._sound += frame
        return out

    def _writer(self) -> ToneWriter:
        """What writes silence: coded as the sound in whose place it stands, where that can be written."""
        s, sent = self._silence, self._sent.get("audio")
        if sent is not None and sent.configuration:
            config = aac.parse_config(sent.configuration)
            if config.object_type == _LC and not config.sbr and config.frame_samples == aac.FRAME_SAMPLES:
                for bitrate in (s.bitrate, 64, 32):
                    try:
                        return ToneWriter(config.core_rate, config.channels, bitrate, tone=False)
                    except BitstreamError:
                        continue
        return ToneWriter(s.sample_rate, s.channels, s.bitrate, tone=False)

    # What is told

    def _told(self, format: Format) -> list[MediaEvent]:
        """The format of a track, where the platform does not know it; in front of the first of all, what the stream is."""
        known = self._sent.get(format.track)
        if known is format:
            return []
        first = not self._sent
        self._sent[format.track] = format
        if known is not None and _same(known, format):
            return []
        told = Format(format.track, format.codec, Fraction(1, _MS), format.framing, format.configuration)
        return [*([Claims("the relay", self._claims())] if first else []), told]

    def _claims(self) -> Mapping[str, Scalar]:
        """What the stream is, by its own headers, and for the rest by what the device says."""
        claims: dict[str, Scalar] = {name: self._device[name] for name in _CLAIMED if name in self._device}
        video = self._formats["video"]
        claims |= {"video.codec": video.codec, "audio.codec": "aac", **_described(video)}
        s = self._silence
        claims |= {"audio.sample_rate": s.sample_rate, "audio.channels": s.channels}
        if self._passes:
            config = aac.parse_config(self._formats["audio"].configuration)
            claims |= {"audio.sample_rate": config.sample_rate, "audio.channels": config.channels}
        else:
            claims["audio.bitrate.mean"] = s.bitrate
        return claims

    def _moved(self, sample: Samples, tick: Fraction, shift: Fraction) -> Samples:
        """The same at the time at which it is sent."""
        dts, pts = (round((int(column[0]) * tick + shift) * _MS) for column in (sample.dts, sample.pts))
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


_CLAIMED = ("video.frame_rate", "video.bitrate.mean", "audio.bitrate.mean")  # that the headers need not say


def _described(video: Format) -> dict[str, Scalar]:
    """Size and rate by the sequence parameter set; what cannot be read is left out."""
    try:
        if video.codec == "h264":
            h264 = h264_syntax.parse_sps(h264_syntax.parse_avc_config(video.configuration).sps[0])
            width, height, rate = h264.width, h264.height, h264.frame_rate
        else:
            units = h265_syntax.parse_hevc_config(video.configuration).units
            h265 = h265_syntax.parse_sps(next(unit for unit in units if unit[0] >> 1 & 63 == h265_syntax.SPS))
            width, height, rate = h265.width, h265.height, h265.frame_rate
    except (BitstreamError, IndexError, StopIteration):
        return {}
    found: dict[str, Scalar] = {"video.width": width, "video.height": height}
    return found | ({"video.frame_rate": float(rate)} if rate else {})


def _frame(coded: Coded) -> Samples:
    stamp = round(coded.time * _MS)
    return batch("audio", [coded.data], [stamp], [stamp], [True])


def _rounded(seconds: float) -> Fraction:
    return Fraction(round(seconds * _MS), _MS)


def _same(a: Format, b: Format) -> bool:
    return (a.codec, a.configuration) == (b.codec, b.configuration)
