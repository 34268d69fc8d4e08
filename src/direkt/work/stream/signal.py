"""A signal without a camera: our own test card and tone, pushed from this machine, and what the connection carries meanwhile.

A thread of its own paces the stream; what it sends is told to whoever polls, and measured there. Raising the bitrate begins the
card anew with other settings, on the same connection and time line. How fast the line is comes from the kernel: while more is
handed over than goes out, what is acknowledged in a second is what the line carries.
"""

from __future__ import annotations

import asyncio
import ssl
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from direkt import parameters
from direkt.codec.bits import BitstreamError
from direkt.codec.programme import AudioSettings, Programme, exact_rate
from direkt.codec.testcard import CardSettings, TestCard
from direkt.demand import Demand
from direkt.destination.sheet import Sheet
from direkt.device.input import InputSignal
from direkt.device.state import Channel
from direkt.errors import UnusableInput
from direkt.match.plan import Plan, plan
from direkt.media import MediaEvent
from direkt.net.line import Line
from direkt.net.transport import Arrived, Left, Publisher, PublishError, transport
from direkt.parameters import Value, Values
from direkt.protocol.address import ServerAddress
from direkt.secret import Secret
from direkt.work.steps import END, Job, StepClock
from direkt.work.stream.background import Background

_SIZES = ("426x240", "640x360", "854x480", "960x540", "1280x720", "1920x1080", "2560x1440", "3840x2160")
_RATES = (23.976, 24.0, 25.0, 29.97, 30.0, 50.0, 59.94, 60.0)
_LEAST, _MOST = 150, 200_000  # kbit/s
_SAMPLES = 3000  # that are kept: ten minutes and more
_EVERY = 0.2  # s between looks at the line
_AGAIN = 3  # times that a bitrate is tried anew where the line dips and comes back
_STEP = 1.3  # times the bitrate of the step before
_HOLD = 4.0  # s of a step
_SETTLE = 1.0  # s of it that are not counted
_LATE = 0.5  # s of the stream that may wait at the end of a step
_SHARE = 0.95  # of what is handed over has to go out
_DRAIN = 12.0  # s for what waits to go out
_FOR_GOOD = 0.97  # of the limit: what waited goes out as well while a step below it is held
_MARGIN = 0.94  # of what the line carried at its limit, to be held for good


@dataclass(frozen=True, slots=True)
class Settings:
    """What is sent."""

    video: CardSettings
    audio: AudioSettings

    @property
    def kbit_s(self) -> float:
        """Video and audio."""
        return (self.video.bitrate or 0) + self.audio.bitrate

    def values(self) -> Values:
        """By our parameters' names, as a device says what it is set to."""
        v, a = self.video, self.audio
        return {
            "video.codec": "h264", "video.profile": v.profile, "video.size": f"{v.width}x{v.height}", "video.frame_rate": float(v.frame_rate),
            "video.bitrate.mean": float(v.bitrate or 0), "video.rate_control": v.rate_control,
            "video.keyframe_interval.median": float(v.keyframe_interval / v.frame_rate), "audio.present": "yes", "audio.codec": "aac",
            "audio.sample_rate": a.sample_rate, "audio.channels": a.channels, "audio.bitrate.mean": float(a.bitrate),
        }  # fmt: skip


# Which settings


def best(sheet: Sheet, scheme: str, limit: float | None, mains: int | None = None) -> tuple[Settings, Plan]:
    """The settings that a sheet likes best, of those that the card can have, under ``limit`` kbit/s; and how they were chosen.

    ``mains``: Hz of the lights where the cameras are: the card moves as their pictures do.

    Raises UnusableInput where the card cannot be made like that.
    """
    rate = 50.0 if mains == 50 else 60.0
    channel = _channel(rate)
    found = plan(channel, sheet, InputSignal("test card", 3840, 2160, rate), limit, protocol=scheme, mains=mains)
    values = {**channel.values, **found.values()}
    made = settings_of(values)
    if wrong := [u for u in found.unmet if u.parameter in ("video.codec", "audio.codec")]:
        raise UnusableInput(
            f"{sheet.name}: the test signal is H.264 and AAC, which it does not take: {wrong[0].reason}"
        )
    return made, found


def settings_of(values: Values) -> Settings:
    """Settings by our parameters' names as the card's. Raises UnusableInput."""
    width, height = map(int, str(values["video.size"]).split("x"))
    rate = exact_rate(_number(values["video.frame_rate"]))
    interval = max(1, round(_number(values["video.keyframe_interval.median"]) * rate))
    video = CardSettings(
        width, height, rate, interval, str(values["video.profile"]), round(_number(values["video.bitrate.mean"])),
        str(values["video.rate_control"]),
    )  # fmt: skip
    audio = AudioSettings(
        round(_number(values["audio.sample_rate"])),
        round(_number(values["audio.channels"])),
        round(_number(values["audio.bitrate.mean"])),
    )
    try:
        TestCard(video)
    except BitstreamError as error:
        raise UnusableInput(f"the test card cannot be made so: {error}") from None
    return Settings(video, audio)


def _number(value: Value) -> float:
    return float(value)


def _channel(rate: float) -> Channel:
    """The card as though it were a device's channel: what it is, and what it could be."""
    values: Values = {
        "video.codec": "h264", "video.profile": "high", "video.size": "1920x1080", "video.frame_rate": rate, "video.rate_control": "cbr",
        "video.bitrate.mean": 3000.0, "video.keyframe_interval.median": 2.0, "audio.present": "yes", "audio.codec": "aac",
        "audio.sample_rate": 48000, "audio.channels": 2, "audio.bitrate.mean": 128.0,
    }  # fmt: skip
    limits = {
        "video.codec": Demand("video.codec", ("h264",)), "video.profile": Demand("video.profile", ("high", "main", "baseline")),
        "video.size": Demand("video.size", _SIZES), "video.frame_rate": Demand("video.frame_rate", _RATES),
        "video.rate_control": Demand("video.rate_control", ("cbr", "vbr")),
        "video.bitrate.mean": Demand("video.bitrate.mean", minimum=_LEAST, maximum=_MOST),
        "video.keyframe_interval.median": Demand("video.keyframe_interval.median", minimum=0.2, maximum=10.0),
        "audio.present": Demand("audio.present", ("yes",)), "audio.codec": Demand("audio.codec", ("aac",)),
        "audio.sample_rate": Demand("audio.sample_rate", (44100, 48000)), "audio.channels": Demand("audio.channels", (1, 2)),
        "audio.bitrate.mean": Demand("audio.bitrate.mean", minimum=32, maximum=320),
    }  # fmt: skip
    assert all(name in parameters.TABLE for name in limits)
    return Channel("main", values, limits)


# Sending


@dataclass(frozen=True, slots=True)
class Sample:
    """The line at one moment."""

    at: float  # s of the steady clock
    line: Line
    behind: float  # s by which the stream is late
    made: int  # bytes of the stream up to here, sent or waiting to be


class Signalling(Background):
    """One signal, from start() to close()."""

    def __init__(
        self, server: ServerAddress, key: Secret, settings: Settings, *, tls: ssl.SSLContext | None = None, now: Callable[[], float] = time.monotonic
    ) -> None:  # fmt: skip
        super().__init__(server.scheme)
        self._server, self._key, self._tls, self._now = server, key, tls, now
        self.settings = settings
        self._wanted = settings
        self._samples: deque[Sample] = deque(maxlen=_SAMPLES)
        self._lock = threading.Lock()
        self._begin = self._moment = 0.0  # when the stream began, and how far it is, s
        self.made = 0  # bytes of the card and the tone that were to be sent
        self.pushing = False
        self.over = ""  # why it ended by itself
        self.behind = 0.0

    def change(self, kbit_s: float) -> Settings:
        """From the next picture on with so much video. Raises UnusableInput."""
        wanted = replace(self._wanted, video=replace(self._wanted.video, bitrate=round(kbit_s)))
        try:
            TestCard(wanted.video)
        except BitstreamError as error:
            raise UnusableInput(f"the test card cannot be made so: {error}") from None
        self._wanted = wanted
        return wanted

    async def _work(self) -> None:
        publisher = transport(self._server.scheme).publisher(self._server, self._key, tls=self._tls)
        reason, looking = "the signal was ended", None
        try:
            await publisher.start()
            self.pushing = True
            self._tell(Arrived(self._server.place))
            programme = Programme(self.settings.video, self.settings.audio)
            opening: list[MediaEvent] = [programme.claims(), *programme.formats()]
            for event in opening:
                await publisher.send(event)
                self._tell(event)
            self._begin, self._moment = self._now(), 0.0
            looking = asyncio.create_task(self._look(publisher))
            while not self.ending:
                if self._wanted is not self.settings:
                    self.settings = self._wanted
                    programme = Programme(self.settings.video, self.settings.audio, first=programme.next_numbers)
                    for format in programme.formats():
                        await publisher.send(format)
                        self._tell(format)
                moment, samples = programme.next()
                ahead = self._begin + float(moment) - self._now()
                if ahead > 0:
                    await asyncio.sleep(ahead)
                self._moment = float(moment)
                self.behind = max(0.0, -ahead)
                self.made += int(samples.size.sum())
                await publisher.send(samples)
                self._tell(samples)
        except PublishError as error:
            reason = self.over = str(error)
        finally:
            if looking is not None:
                looking.cancel()
            if self.pushing:
                self.pushing = False
                self._tell(Left(self._server.place, reason))
            await publisher.close()

    async def _look(self, publisher: Publisher) -> None:
        """Looks at the line again and again, also while the line takes nothing."""
        while True:
            now, line = self._now(), publisher.line()
            if line is not None:
                behind = max(0.0, now - self._begin - self._moment)
                with self._lock:
                    self._samples.append(Sample(now, line, behind, self.made))
            await asyncio.sleep(_EVERY)

    @property
    def samples(self) -> list[Sample]:
        """The line so far."""
        with self._lock:
            return list(self._samples)


@dataclass(frozen=True, slots=True)
class LineCarried:
    """What the line carried over some time."""

    seconds: float
    handed: float  # kbit/s that were handed over
    arrived: float  # kbit/s that were acknowledged
    on_the_wire: float  # kbit/s at the IP layer
    rtt: float  # s, the median
    least_rtt: float  # s
    sent_again: int  # segments
    segments: int
    backlog: float  # s of the stream that wait at the end
    growth: float = 0.0  # s by which more waits, for each second
    most_waiting: int = 0  # bytes that were on their way or waited, at the most

    @property
    def held(self) -> bool:
        """Whether the line carried what was handed over: nothing piles up. What was asked for does not matter: a card may need less."""
        return self.arrived >= _SHARE * self.handed and self.backlog <= _LATE + self.rtt

    @property
    def machine_is_slow(self) -> bool:
        """Whether the stream is late though the line has nothing to carry: it is this machine that cannot make it in time."""
        return not self.held and self.most_waiting < max(32_768, self.arrived * 1000 / 8 * 0.1)

    @property
    def lost_share(self) -> float:
        """Of the segments, how many were sent again."""
        return self.sent_again / self.segments if self.segments else 0.0


def carried(samples: Sequence[Sample], since: float) -> LineCarried | None:
    """What the line carried since a moment; None: too little is known."""
    some = [sample for sample in samples if sample.at >= since]
    if len(some) < 3 or some[-1].at - some[0].at < 0.5:
        return None
    first, last = some[0], some[-1]
    seconds = last.at - first.at
    a, b = first.line.figures, last.line.figures
    arrived = (b.acked - a.acked) * 8 / 1000 / seconds
    sent = b.sent - a.sent
    share = (b.on_the_wire - a.on_the_wire) / sent if sent > 0 else 1.0  # headers, and nothing that was sent again
    rtts = sorted(sample.line.figures.rtt for sample in some)
    backlog = last.behind + (last.line.backlog * 8 / 1000 / arrived if arrived > 0 else 60.0)
    growth = (last.behind - first.behind) / seconds + (last.line.backlog - first.line.backlog) / max(
        1, last.made - first.made
    )
    return LineCarried(
        seconds, (last.made - first.made) * 8 / 1000 / seconds, arrived, arrived * share, rtts[len(rtts) // 2], b.least_rtt, b.sent_again - a.sent_again,
        b.packets - a.packets, backlog, growth, max(sample.line.backlog for sample in some),
    )  # fmt: skip


# The job


@dataclass(frozen=True, slots=True)
class SignalTick:
    """The signal runs; told a few times a second."""

    since: float  # s
    last: LineCarried | None  # the last two seconds
    step: int = 0  # of the climb; 0: none


@dataclass(frozen=True, slots=True)
class ClimbStep:
    """One step of the climb."""

    number: int
    kbit_s: float  # video and audio that were to be sent
    carried: LineCarried | None
    held: bool


@dataclass(frozen=True, slots=True)
class SignalResult:
    """What came of it."""

    steps: tuple[ClimbStep, ...]
    limit: LineCarried | None  # the line at its limit; None: it was not reached
    steady: LineCarried | None  # what went well for the last seconds
    steady_kbit_s: float | None  # video and audio of that
    failure: str  # why the push ended; empty: it did not
    interrupted: bool

    @property
    def mbit_s(self) -> float | None:
        """What the line carries for good at the IP layer, Mbit/s; without a limit reached, what it carried at the least."""
        if self.limit is not None:
            held = [self.steady.on_the_wire] if self.steady is not None else []
            return max([self.limit.on_the_wire * _FOR_GOOD, *held]) / 1000
        return self.steady.on_the_wire / 1000 if self.steady is not None else None


SignalEvent = SignalTick | ClimbStep


def send(
    work: Signalling, clock: StepClock, *, seconds: float | None, climb: float | None = None
) -> Job[SignalEvent, SignalResult]:
    """Sends for ``seconds`` (None: until it is interrupted); ``climb``: raises the bitrate up to so many kbit/s until it does not hold.

    The push is ended in good order.
    """
    job = _Job(work, clock)
    interrupted = False
    work.start()
    try:
        if climb is None:
            yield from job.steadily(seconds)
        else:
            yield from job.climb(climb)
    except KeyboardInterrupt:
        END.taken()
        interrupted = True
    finally:
        work.close()
    return job.result(interrupted=interrupted)


class _Job:
    def __init__(self, work: Signalling, clock: StepClock) -> None:
        self._work, self._clock, self._begin = work, clock, clock.now()
        self._steps: list[ClimbStep] = []
        self._limit: LineCarried | None = None
        self._steady: tuple[float, LineCarried] | None = None

    def result(self, *, interrupted: bool) -> SignalResult:
        """What came of it so far."""
        steady = self._steady
        return SignalResult(
            tuple(self._steps),
            self._limit,
            steady[1] if steady else None,
            steady[0] if steady else None,
            self._work.over,
            interrupted,
        )

    def _wait(self, seconds: float | None, number: int = 0) -> Job[SignalEvent, bool]:
        """Sends for so long; False where the push is over."""
        begin = self._clock.now()
        while seconds is None or self._clock.now() - begin < seconds:
            self._clock.sleep(_EVERY)
            self._work.poll()
            now = self._clock.now()
            yield SignalTick(now - self._begin, carried(self._work.samples, now - 2.0), number)
            if self._work.over:
                return False
            if not self._work.pushing:  # it connects, which has limits of its own
                begin = now
        return True

    def steadily(self, seconds: float | None) -> Job[SignalEvent, None]:
        """The same bitrate all the while."""
        try:
            yield from self._wait(seconds)
        finally:
            self._work.poll()
            kept = [s.at for s in self._work.samples]
            found = carried(self._work.samples, kept[0] + _SETTLE) if kept else None
            if found is not None:
                self._steady = (self._work.settings.kbit_s, found)

    def climb(self, most: float) -> Job[SignalEvent, None]:
        """Step by step up to what the line does not carry; then a little below that, for good."""
        number, kbit_s, again = 0, float(self._work.settings.video.bitrate or _LEAST), 0
        while True:
            number += 1
            settings = self._work.change(kbit_s)
            if not (yield from self._wait(_HOLD, number)):
                return
            step = self._judged(number, settings)
            self._steps.append(step)
            yield step
            if not step.held:
                if (yield from self._at_the_limit(number)):
                    yield from self._below(number)
                    return
                slow = step.carried is None or step.carried.machine_is_slow
                if self._work.over or again == (1 if slow else _AGAIN):
                    return
                again += 1  # the line may be changing: the same bitrate once more
                continue
            again = 0
            if step.carried is not None:
                self._steady = (settings.kbit_s, step.carried)
            if kbit_s >= most:
                return
            kbit_s = min(most, round(kbit_s * _STEP))

    def _judged(self, number: int, settings: Settings) -> ClimbStep:
        found = carried(self._work.samples, self._clock.now() - (_HOLD - _SETTLE))
        return ClimbStep(number, settings.kbit_s, found, found is not None and found.held)

    def _at_the_limit(self, number: int) -> Job[SignalEvent, bool]:
        """More is handed over than goes out: what goes out is what the line carries."""
        if not (yield from self._wait(_HOLD, number)):
            return False
        found = carried(self._work.samples, self._clock.now() - _HOLD)
        if found is None or found.held or found.machine_is_slow:  # it was a dip, or is not the line's limit
            return False
        before = self._steps[
            -1
        ].carried  # it was full then, too; a sender that was told to slow down fills it less for a while
        self._limit = found if before is None else max(found, before, key=lambda one: one.on_the_wire)
        return True

    def _below(self, number: int) -> Job[SignalEvent, None]:
        """A little under the limit: it has to hold, once what waited is gone."""
        assert self._limit is not None
        rate = self._limit.arrived
        for share in (_MARGIN, _MARGIN * 0.93, _MARGIN * 0.86):
            number += 1
            video = max(_LEAST, rate * share - self._work.settings.audio.bitrate)
            settings = self._work.change(video)
            begin = self._clock.now()
            while self._clock.now() - begin < _DRAIN:
                if not (yield from self._wait(0.4, number)):
                    return
                some = self._work.samples
                if self._work.behind < 0.1 and some and some[-1].line.backlog * 8 / 1000 < rate * 0.3:
                    break
            if not (yield from self._wait(_HOLD, number)):
                return
            step = self._judged(number, settings)
            self._steps.append(step)
            yield step
            if step.held and step.carried is not None:
                self._steady = (settings.kbit_s, step.carried)
                return
