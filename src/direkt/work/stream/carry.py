"""Carrying a feed: what there is to carry, the job that does it, and ending one that another process does."""

from __future__ import annotations

import os
import signal
import ssl
from dataclasses import dataclass, replace

from direkt.described.errors import DeviceError
from direkt.destination.references import Sources
from direkt.destination.sheet import Sheet
from direkt.device.state import Channel, DeviceState, PushState, Slot
from direkt.device_side import DeviceSide
from direkt.errors import NoAnswer, UnusableInput, os_words
from direkt.judge import Judgement, judge_sent
from direkt.measure.meter import Measurement
from direkt.parameters import Value, Values
from direkt.protocol import address
from direkt.protocol.source import SourceAddress
from direkt.secret import Secret
from direkt.store import carried, wishes
from direkt.store.carried import AlreadyCarried, CarriedFeed, HeldFeed
from direkt.store.small_file import place
from direkt.work.feeds import FeedParts, source_of
from direkt.work.steps import END, Job, StepClock
from direkt.work.stream.carrier import CarrierState, Carrying, Ends
from direkt.work.stream.catch import TICK, CatchTick
from direkt.work.stream.relay import CARRIED, PLAIN, Silence

SILENCE_ADDED = (
    "This machine added the silence: the camera has no sound that can be pushed. A microphone and AAC would replace it."
)
_END_LIMIT = 12.0  # s for another process to end
_RATES = (48000, 44100, 32000, 24000, 22050, 16000)  # Hz
_BITRATES = (128, 160, 96, 192, 256, 64, 320, 48, 32)  # kbit/s


@dataclass(frozen=True, slots=True)
class CarryResult:
    """The result; what was sent is in the carrying's rehearsal."""

    state: CarrierState
    interrupted: bool


def read(feed: FeedParts) -> tuple[DeviceState | None, Channel | None, SourceAddress]:
    """The device's state and channel, and where that is fetched; a rig that says where needs no answer of the device."""
    try:
        state = feed.driver.read()
        channel = feed.channel(state)
    except DeviceError:
        if feed.entry.source is None:
            raise
        return None, None, source_of(feed, None)
    return state, channel, source_of(feed, channel)


def carrying(
    feed: FeedParts, source: SourceAddress, sources: Sources, key: Secret, server: str, *, by: str = "",
    tls: ssl.SSLContext | None = None, channel: Channel | None = None, keep_damaged: bool = False,
) -> Carrying:  # fmt: skip
    """What carries the feed from ``source`` to ``server``. Raises UnusableInput.

    ``channel``: what the device says of the stream; ``keep_damaged``: pictures that depend on a lost one are sent all the same.
    """
    if key.reveal() in server:
        raise UnusableInput("the address holds the stream key: give it without")
    login = feed.rig.login(feed.rig.file.devices[feed.device], sources)
    return Carrying(
        Ends(source, login, address.parse(server), key), silence_for(feed.sheet), by=by, tls=tls, codecs=codecs_for(feed.sheet),
        told=channel.full if channel is not None else None, keep_damaged=keep_damaged,
    )  # fmt: skip


def codecs_for(sheet: Sheet) -> tuple[str, ...]:
    """The pictures that can be carried to a destination: H.264, and what else its sheet names."""
    rule = sheet.rules.get("video.codec")
    named = {str(value) for d in (rule.must, rule.should) if d is not None for value in d.one_of} if rule is not None else set()
    return (*PLAIN, *(codec for codec in CARRIED if codec in named and codec not in PLAIN))


def silence_for(sheet: Sheet) -> Silence:
    """A silent sound track that a sheet takes."""

    def choose(name: str, offers: tuple[int, ...], otherwise: int) -> int:
        rule = sheet.rules.get(name)
        demands = [d for d in (rule.must, rule.should) if d is not None] if rule is not None else []

        def price(value: Value) -> int:
            return sum(2 - n for n, demand in enumerate(demands) if not demand.allows(value))

        named = [round(v) for d in demands for v in d.one_of if isinstance(v, int | float)]
        return min([*offers, *named], key=price) if demands else otherwise

    return Silence(
        choose("audio.sample_rate", _RATES, 48000), choose("audio.channels", (2, 1), 2),
        choose("audio.bitrate.mean", _BITRATES, 128),
    )  # fmt: skip


def running(feed: FeedParts) -> CarriedFeed | None:
    """Who carries the feed on this machine now."""
    return carried.find(feed.rig.folder, feed.name)


def refuse_twice(feed: FeedParts) -> UnusableInput:
    """That the feed is carried already."""
    found = running(feed)
    who = f" by process {found.process} since {_time(found.since)}" if found is not None else ""
    return UnusableInput(f"{feed.name} is carried already{who}: stop that with: direkt push off {feed.name}")


def _time(stamp: str) -> str:
    return f"{stamp[9:11]}:{stamp[11:13]}:{stamp[13:15]}"


def carry(
    feed: FeedParts, work: Carrying, ends: tuple[str, str], key_length: int, clock: StepClock, *, seconds: float | None,
    wished: bool = False,
) -> Job[CatchTick, CarryResult]:  # fmt: skip
    """Carries until ``seconds`` after the push began (None: until Ctrl-C), or until it cannot go on by itself.

    ``wished``: it is noted that this push is meant to be on, until it is ended from outside or its time is over. ``ends``: from where and to where, as they may be shown. Raises UnusableInput where somebody carries the feed already.
    The push is ended in good order at the end.
    """
    interrupted = False
    since = clock.stamp()

    def tell(held: HeldFeed, state: CarrierState) -> None:
        held.tell(
            CarriedFeed(
                feed=feed.name, device=feed.device, source=ends[0], server=ends[1], key_length=key_length, process=os.getpid(), since=since,
                coming=state.source, push=state.push, pushing=state.pushing, sent=state.sent, pushes=state.pushes,
                left_out=state.left_out, silence_added=state.silent, measured=_measured(work) if state.pushing else {},
            )
        )  # fmt: skip

    try:
        with carried.held(feed.rig.folder, feed.name) as held:
            begin = told = clock.now()
            tell(held, work.state)
            if wished:
                wishes.note(feed.rig.folder, {feed.name: True})
            work.start()
            try:
                while not work.state.fatal:
                    clock.sleep(TICK)
                    work.poll()
                    now, rehearsal = clock.now(), work.rehearsal
                    if now - told >= 1:
                        told = now
                        tell(held, work.state)
                    yield CatchTick(now, now - begin)
                    passed = rehearsal.elapsed(now) if rehearsal.first is not None else now - begin
                    if seconds is not None and passed >= seconds:  # also where the push never began
                        break
            except KeyboardInterrupt:
                END.taken()
                interrupted = True
            finally:
                if wished and not work.state.fatal:
                    wishes.note(feed.rig.folder, {feed.name: False})
                work.close()
    except AlreadyCarried:
        raise refuse_twice(feed) from None
    except OSError as error:
        raise UnusableInput(
            f"{place(feed.rig.folder, carried.FOLDER)}: what is carried cannot be noted: {os_words(error)}"
        ) from None
    return CarryResult(work.state, interrupted)


_TOLD = ("video.size", "video.frame_rate", "video.keyframe_interval.max", "audio.codec", "audio.silent", "video.moving")


def _measured(work: Carrying) -> Values:
    """What a look at the stream from elsewhere would tell."""
    found, video = work.rehearsal.snapshot().found, work.rehearsal.meter.video
    values = {name: found[name].value for name in _TOLD if name in found}
    recent = video.bitrate.recent() if video is not None else None
    return values if recent is None else {**values, "video.bitrate.mean": round(recent)}


def slot_of(feed: FeedParts, found: CarriedFeed | None) -> Slot:
    """A carried feed as though it were a push slot of the device."""
    entry = feed.entry
    if found is None:
        return Slot(entry.slot, entry.channel, feed.destination.server, 0, PushState.STOPPED)
    state = PushState.PUSHING if found.pushing else PushState.RETRYING
    message = "" if found.pushing else f"camera: {found.coming}; platform: {found.push}"
    return Slot(entry.slot, entry.channel, found.server, found.key_length, state, message, found.sent)


def end(feed: FeedParts, clock: StepClock, *, wanted_off: bool = True) -> CarriedFeed | None:
    """Ends what another process carries, and makes sure that it has ended; None: nobody carried it. Raises NoAnswer.

    ``wanted_off``: it is meant to stay off; otherwise it is started again in a moment.
    """
    if wanted_off:
        wishes.note(feed.rig.folder, {feed.name: False})
    found = running(feed)
    if found is None:
        return None
    try:
        os.kill(found.process, signal.SIGTERM)
    except ProcessLookupError:
        return found
    except PermissionError:
        raise NoAnswer(f"{feed.name} is carried by process {found.process} of another user: end it there") from None
    begin = clock.now()
    while running(feed) is not None:
        if clock.now() - begin > _END_LIMIT:
            raise NoAnswer(
                f"{feed.name} is still carried by process {found.process}, which does not end: kill -9 {found.process}"
            )
        clock.sleep(0.1)
    return found


def judge(
    feed: FeedParts, measurement: Measurement, set_: Values | None, source_rate: float | None, *, silent: bool,
    device: DeviceSide | None = None,
) -> Judgement:  # fmt: skip
    """What was sent, held against the sheet and the device; of sound that is silence of ours, nothing is asked of the device."""
    if not silent:
        return judge_sent(feed.sheet, measurement.found, set_, source_rate, device)
    given = {name: value for name, value in set_.items() if not name.startswith("audio.")} if set_ is not None else None
    judgement = judge_sent(feed.sheet, measurement.found, given, source_rate, device)
    findings = (replace(f, said="", advice=SILENCE_ADDED) if f.parameter == "audio.silent" else f for f in judgement.findings)
    return replace(judgement, findings=tuple(findings))
