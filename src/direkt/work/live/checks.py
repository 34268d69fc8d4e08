"""The first step of going live: what must be true before anything is started. It only looks."""

from __future__ import annotations

import asyncio
import datetime
import shutil
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from direkt import parameters
from direkt.described.errors import CannotDo, DeviceError
from direkt.destination.references import SecretError
from direkt.device.state import Capability, Channel, DeviceState, PushState
from direkt.errors import DirektError
from direkt.finding import Verdict
from direkt.match.budget import on_the_wire
from direkt.net.reach import reach
from direkt.platform.event import PlatformError
from direkt.protocol import address
from direkt.protocol.load import Load
from direkt.rig.events import EventState
from direkt.store import changes, event_memory
from direkt.work.device import drift
from direkt.work.device.planning import plan_channel
from direkt.work.feeds import FeedParts
from direkt.work.live.clocks import SAME, Clocks, span
from direkt.work.live.event_at_platforms import Airing, key_mark
from direkt.work.live.go_types import Crew, GoCheck, GoStep, Options, reason

_CLOCK_OFF = 2.0  # s at which a device's clock is worth a word
_CLOCK_WRONG = 60.0  # s at which it is wrong
_LEAST_DISK = 200 << 20  # bytes free where Direkt keeps its files
_LEAST_MEMORY = 3.0  # percent
_PASS, _ADVISE, _FAIL, _UNSEEN = Verdict.PASS, Verdict.ADVISE, Verdict.FAIL, Verdict.UNSEEN


def check(what: str, verdict: Verdict, text: str, advice: str = "") -> GoCheck:
    """One line of the first step."""
    return GoCheck(GoStep.BEFORE, what, verdict, text, advice)


@dataclass(slots=True)
class Looking:
    """What is looked at, and what was found on the way."""

    airings: list[Airing]
    feeds: dict[str, FeedParts]
    crew: Crew
    options: Options
    states: dict[str, tuple[DeviceState, Channel]] = field(default_factory=dict)
    offsets: dict[str, float] = field(default_factory=dict)  # of the devices' clocks


def before(airings: list[Airing], feeds: dict[str, FeedParts], crew: Crew, options: Options) -> Iterator[GoCheck]:
    """Everything that is looked at, one after the other; what cannot be seen is said, not guessed."""
    looking = Looking(airings, feeds, crew, options)
    for first in AT_FIRST:
        yield from first(looking)
    for airing in airings:
        for of_destination in OF_DESTINATIONS:
            yield from of_destination(airing, looking)
    settled: set[tuple[str, str, str]] = set()  # several feeds may push one channel
    for airing in airings:
        for name in airing.feeds:
            for of_feed in OF_FEEDS:
                yield from of_feed(airing, feeds[name], looking)
            entry = feeds[name].entry
            same = (entry.device, entry.channel, airing.sheet.id)
            if same not in settled:
                settled.add(same)
                for of_channel in OF_CHANNELS:
                    yield from of_channel(airing, feeds[name], looking)
    for last in AT_LAST:
        yield from last(looking)


_EARLY = 6.0  # h in front of its start at which that is worth a word


def _when(looking: Looking) -> Iterator[GoCheck]:
    planned, now = looking.airings[0].planned, looking.crew.means.wall()
    hours = (planned.start.timestamp() - now) / 3600
    text = f"{planned.start:%a %Y-%m-%d %H:%M} {planned.start.tzname() or ''} to {planned.end:%H:%M}"
    if hours > _EARLY:
        yield check(planned.name, _ADVISE, f"{text}: it begins in {hours:.0f} h", "another time of it: --at DATE")
        return
    minutes = abs(hours) * 60
    yield check(
        planned.name,
        _PASS,
        f"{text}: {'it begins in' if hours > 0 else 'it began'} {minutes:.0f} min{'' if hours > 0 else ' ago'}",
    )


# The platform's side


def _at_platform(airing: Airing, looking: Looking) -> Iterator[GoCheck]:
    title = airing.sheet.name
    try:
        wanted = airing.wanted()
    except DirektError as error:
        yield check(airing.destination, _FAIL, reason(error))
        return
    wrong = [*([airing.no_delay] if airing.no_delay else []), *airing.platform.facts.wrong(wanted)]
    for text in wrong:
        yield check(airing.destination, _FAIL, text, f"change events.{airing.planned.name} in the rig")
    if airing.by_hand:
        yield check(airing.destination, _PASS, f"{title} is worked by hand: you will be asked for each step")
        return
    try:
        found = airing.find()
    except PlatformError as error:
        yield check(airing.destination, _FAIL, reason(error), f"try it with: direkt event show {airing.planned.name}")
        return
    if found is None:
        yield check(airing.destination, _PASS, f"{title} answers; the event is not made yet")
    elif found.state is EventState.CLOSED:
        why = f": {found.closed_because}" if found.closed_because else ""
        yield check(
            airing.destination, _FAIL, f"{title}: the event is closed{why}",
            f"a closed event stays closed: change its start in the rig, or take it away with: direkt event drop {airing.planned.name}",
        )  # fmt: skip
    else:
        yield check(airing.destination, _PASS, f"{title} answers; the event is {found.state}")


def _key(airing: Airing, looking: Looking) -> Iterator[GoCheck]:
    given = not airing.by_hand
    try:
        key = airing.rig.key(airing.entry, looking.crew.means.sources)
    except SecretError as error:
        if given:
            yield check(airing.destination, _PASS, "the key comes from the platform with the event")
        else:
            yield check(airing.destination, _FAIL, str(error), f"direkt key set {airing.destination}")
        return
    if looking.crew.exposed(airing.destination):
        yield check(
            airing.destination, _FAIL, "the key was seen by others", f"get a new one, then: direkt key renew {airing.destination}"
        )  # fmt: skip
        return
    lives = airing.sheet.key.lives if airing.sheet.key is not None else None
    if lives == "one event" and not given:
        mark, own = key_mark(airing.rig, key), (airing.planned.name, airing.planned.mark)
        past = [
            s for s in event_memory.every(airing.rig.folder)
            if (s.event, s.mark) != own and s.place(airing.destination).key_mark == mark and s.place(airing.destination).pushed
        ]  # fmt: skip
        if past:
            yield check(
                airing.destination, _FAIL, f"the key is that of a past event ({past[-1].event}, {past[-1].mark[:8]})",
                f"take the new event's key: direkt key set {airing.destination}",
            )  # fmt: skip
            return
    yield check(airing.destination, _PASS, "there is a key" + ("; the platform says which is right" if given else ""))


def _length(airing: Airing, looking: Looking) -> Iterator[GoCheck]:
    session = airing.sheet.session
    longest = session.longest_hours if session is not None else None
    if longest is None:
        return
    hours = airing.planned.seconds / 3600
    if hours > longest:
        yield check(
            airing.destination, _FAIL,
            f"the event lasts {hours:g} h, {airing.sheet.name} ends a session after {longest:g} h",
            f"make it shorter, or make two of it: events.{airing.planned.name}.length",
        )  # fmt: skip
    else:
        yield check(airing.destination, _PASS, f"{hours:g} h fit into a session of {longest:g} h")


def _reachable(airing: Airing, looking: Looking) -> Iterator[GoCheck]:
    for server in dict.fromkeys(looking.feeds[name].destination.server for name in airing.feeds):
        yield _reached(airing, server)


def _reached(airing: Airing, server: str) -> GoCheck:
    found = asyncio.run(reach(address.parse(server), tries=1))
    if found.reachable:
        return check(airing.destination, _PASS, f"{server} can be reached")
    worst = found.worst
    return check(
        airing.destination, _FAIL, f"{server}: {worst.verdict}: {worst.detail}",
        found.hint or f"direkt reach {airing.destination}",
    )  # fmt: skip


def _disk(looking: Looking) -> Iterator[GoCheck]:
    free = shutil.disk_usage(looking.airings[0].rig.folder).free
    text = f"{free / 1e9:.1f} GB free where Direkt keeps its files"
    yield check(
        "this machine", _PASS if free >= _LEAST_DISK else _FAIL, text, "" if free >= _LEAST_DISK else "make room"
    )


# The devices' side


def by_hand(feed: FeedParts) -> bool:
    """Whether a person starts and stops the feed's push."""
    return not feed.entry.carry and Capability.PUSH not in feed.driver.capabilities


def _device(airing: Airing, feed: FeedParts, looking: Looking) -> Iterator[GoCheck]:
    if by_hand(feed):
        yield check(feed.name, _PASS, f"{feed.device} is set by hand, as its card says (direkt card {feed.name})")
        return
    try:
        state = feed.driver.read()
        looking.states[feed.name] = (state, feed.channel(state))
    except DirektError as error:
        if feed.entry.carry and feed.entry.source is not None and isinstance(error, DeviceError):
            yield check(feed.name, _UNSEEN, f"{reason(error)}; its stream is fetched all the same")
            return
        yield check(feed.name, _FAIL, reason(error), f"direkt read {feed.device}")
        return
    yield check(feed.name, _PASS, f"{feed.device} answers: {state.model} {state.firmware}")
    yield from _health(feed, looking.offsets)
    if not feed.entry.carry:
        slot = state.slots.get(feed.entry.slot)
        if slot is None:
            yield check(
                feed.name, _FAIL, f"{feed.device} has no push slot {feed.entry.slot}", f"direkt read {feed.device}"
            )
        elif slot.state is not PushState.STOPPED and slot.server != feed.destination.server:
            yield check(
                feed.name,
                _FAIL,
                f"{feed.device} is pushing" + (f" to {slot.server}" if slot.server else ", and does not report where to"),
                f"stop it first: direkt push off {feed.name}",
            )


def _health(feed: FeedParts, offsets: dict[str, float]) -> Iterator[GoCheck]:
    try:
        health = feed.driver.health()
        clock = feed.driver.clock() if Capability.TIME in feed.driver.capabilities else health.clock
    except (DeviceError, CannotDo) as error:
        yield check(feed.name, _UNSEEN, f"{feed.device} does not report how it fares: {reason(error)}")
        return
    if health.memory_free is not None and health.memory_free < _LEAST_MEMORY:
        yield check(
            feed.name, _FAIL, f"{feed.device}: {health.memory_free:g} % of its memory is free", "make room on it"
        )
    for complaint in health.wrong:
        yield check(feed.name, _ADVISE, f"{feed.device} says: {complaint}")
    if clock is not None and clock.offset is not None:
        offsets[feed.device] = clock.offset


def _clocks(looking: Looking) -> Iterator[GoCheck]:
    """Whose clock is wrong: this machine's, too, is held against the others."""
    airings, feeds, offsets, options = looking.airings, looking.feeds, looking.offsets, looking.options
    told = {one.sheet.name: ahead for one in airings if (ahead := one.platform.clock_ahead()) is not None}
    clocks = Clocks(offsets, told)
    ours = clocks.ours()
    if ours is None:
        yield check("this machine", _UNSEEN, "whether its clock is right is not known: there is no second clock to compare it with")
        return
    if abs(ours) >= _CLOCK_OFF:
        verdict = _FAIL if abs(ours) >= _CLOCK_WRONG and not options.unattended else _ADVISE
        who = " and ".join(clocks.witnesses())
        yield check("this machine", verdict, f"its clock is {span(ours)}, by that of {who}", "set this machine's clock: timedatectl set-ntp true")
    elif told:
        yield check("this machine", _PASS, f"its clock agrees with that of {' and '.join(told)}")
    for name, ahead in told.items():
        if abs(ahead + ours) >= max(_CLOCK_OFF, SAME):
            yield check(name, _ADVISE, f"its clock is {span(ahead + ours)}, or this machine's and the devices' are wrong", "look at the time on its page")
    devices = {feeds[name].device: name for one in airings for name in one.feeds}
    for device, offset in offsets.items():
        off, feed = offset + ours, devices[device]
        if abs(off) >= _CLOCK_OFF:
            verdict = _FAIL if abs(off) >= _CLOCK_WRONG and not options.unattended else _ADVISE
            alone = "; it is that one or this machine's, there is no second clock to compare it with" if clocks.undecided else ""
            yield check(feed, verdict, f"the clock of {device} is {span(off)}{alone}", f"direkt device time {device} --set")
        else:
            yield check(feed, _PASS, f"the clock of {device} is right")


def _settings(airing: Airing, feed: FeedParts, looking: Looking) -> Iterator[GoCheck]:
    known = looking.states.get(feed.name)
    if known is None:
        return
    state, channel = known
    try:
        made = plan_channel(feed, state, channel)
    except DirektError as error:
        yield check(feed.name, _FAIL, reason(error), f"direkt match {feed.name}")
        return
    changes_ = [
        f"{parameters.find(s.parameter).label} {parameters.show(s.parameter, s.old)} -> {parameters.show(s.parameter, s.new)}"
        for s in made.changes
    ]
    for unmet in made.unmet:
        yield check(feed.name, _FAIL, f"{parameters.find(unmet.parameter).label}: {unmet.reason}", f"direkt match {feed.name}")
    if changes_:
        more = f" and {len(changes_) - 2} more" if len(changes_) > 2 else ""
        yield check(
            feed.name, _FAIL, f"not set as matched: {'; '.join(changes_[:2])}{more}", f"direkt write {feed.name}"
        )
    elif not made.unmet:
        yield check(feed.name, _PASS, f"{feed.device} is set as {feed.sheet.name} requires")
    if state.restart_needed:
        yield check(
            feed.name,
            _FAIL,
            f"{feed.device} has to restart before its settings are in force",
            f"direkt device restart {feed.device}",
        )
    try:
        drifted = drift.look(feed.rig, feed.device, looking.crew.means.sources) if not changes_ else None
    except DirektError:
        drifted = None
    own = [d for d in drifted or [] if d.channel == channel.name and d.what.startswith(("video.", "audio."))]
    if own:
        d = own[0]
        yield check(
            feed.name, _ADVISE,
            f"{d.what} was written as {d.written}, is {d.now}: somebody changed it" + (f" and {len(own) - 1} more" if len(own) > 1 else ""),
            f"direkt drift {feed.device}",
        )  # fmt: skip


def _spherical(airing: Airing, feed: FeedParts, looking: Looking) -> Iterator[GoCheck]:
    known = looking.states.get(feed.name)
    told = known[1].full.get("video.projection") if known is not None else None
    wanted = airing.planned.entry.projection
    facts = airing.sheet.spherical
    if wanted != "none" and facts is not None and not facts.taken:
        yield check(
            airing.destination,
            _FAIL,
            f"{airing.sheet.name} takes no spherical pictures",
            f"events.{airing.planned.name}.projection: none",
        )
    elif (
        isinstance(told, str)
        and told != "none"
        and wanted == "none"
        and (facts is None or facts.mark_event or not facts.taken)
    ):
        yield check(
            feed.name, _FAIL, f"{feed.device} sends a spherical picture ({told}), the event is not marked as one",
            f"events.{airing.planned.name}.projection: {told}",
        )  # fmt: skip
    elif wanted != "none" and isinstance(told, str) and told != wanted:
        yield check(
            feed.name, _FAIL, f"the event is marked as {wanted}, {feed.device} sends {told if told != 'none' else 'a flat picture'}",
            f"set the device, or events.{airing.planned.name}.projection: {told}",
        )  # fmt: skip
    elif wanted != "none":
        text = f"the event is marked as {wanted}" + (
            " as the picture is" if told == wanted else "; the device does not report what it sends"
        )
        yield check(feed.name, _PASS if told == wanted else _UNSEEN, text)


def _rehearsed(airing: Airing, feed: FeedParts, looking: Looking) -> Iterator[GoCheck]:
    if looking.options.rehearsal and not looking.options.practice:
        yield _rehearsal(feed, looking.crew)


def _rehearsal(feed: FeedParts, crew: Crew) -> GoCheck:
    advice = f"direkt rehearse {feed.name}, or leave it out with --no-rehearsal"
    try:
        own = (feed.entry.device, feed.entry.channel, feed.entry.carry)
        alike = [n for n, e in feed.rig.file.feeds.items() if (e.device, e.channel, e.carry) == own]
        found = [crew.rehearsed(name) for name in alike]
        when = max((one.when for one in found if one.good), default="")
    except DirektError as error:
        return check(feed.name, _UNSEEN, f"whether it was rehearsed is not known: {reason(error)}")
    if by_hand(feed):
        return check(
            feed.name,
            _PASS if when else _ADVISE,
            "caught and judged" if when else "its push was never caught",
            "" if when else f"direkt catch --feed {feed.name}",
        )
    if not when:
        return check(feed.name, _FAIL, "never rehearsed, or not well", advice)
    written = _last_change(feed)
    if written is not None and _local(when) < written:
        return check(
            feed.name, _FAIL, f"changed since the last good rehearsal ({when[:16].replace('T', ' ')} UTC)", advice
        )
    return check(feed.name, _PASS, f"rehearsed well on {when[:16].replace('T', ' ')} UTC")


def _last_change(feed: FeedParts) -> datetime.datetime | None:
    """When the device's channel was last written, as local time."""
    found = changes.last(feed.rig.folder, feed.device, feed.entry.channel)
    return datetime.datetime.strptime(found.when, "%Y%m%d-%H%M%S") if found is not None else None


def _local(text: str) -> datetime.datetime:
    return datetime.datetime.fromisoformat(text).astimezone().replace(tzinfo=None)


# The line


def _budget(looking: Looking) -> Iterator[GoCheck]:
    airings, feeds, states = looking.airings, looking.feeds, looking.states
    uplink = airings[0].rig.file.uplink
    if uplink is None:
        yield check(
            "the line", _UNSEEN, "the rig does not say what the uplink carries", "write it under 'uplink': mbit_s"
        )
        return
    total, unknown = 0.0, []
    for airing in airings:
        for name in airing.feeds:
            values = states[name][1].full if name in states else {}
            video, audio, rate = (
                values.get(f"{p}") for p in ("video.bitrate.mean", "audio.bitrate.mean", "video.frame_rate")
            )
            if not isinstance(video, int | float):
                unknown.append(name)
                continue
            load = Load(
                video, audio if isinstance(audio, int | float) else 0.0, rate if isinstance(rate, int | float) else 50.0
            )
            total += on_the_wire(address.parse(feeds[name].destination.server).scheme, load)
    limit = uplink.mbit_s * 1000 * (1 - uplink.reserve_percent / 100)
    text = (
        f"{total / 1000:.1f} of {limit / 1000:.1f} Mbit/s ({uplink.mbit_s:g} less {uplink.reserve_percent:g} % reserve)"
    )
    if unknown:
        text += f"; not known: {', '.join(unknown)}"
    verdict = _FAIL if total > limit else _UNSEEN if unknown else _PASS
    yield check("the line", verdict, text, "direkt budget" if total > limit else "")


# What is looked at, in this order: once, at each destination, of each feed, of each channel that is pushed, and once more.
AT_FIRST: tuple[Callable[[Looking], Iterator[GoCheck]], ...] = (_when, _disk)
OF_DESTINATIONS: tuple[Callable[[Airing, Looking], Iterator[GoCheck]], ...] = (_at_platform, _key, _length, _reachable)
OF_FEEDS: tuple[Callable[[Airing, FeedParts, Looking], Iterator[GoCheck]], ...] = (_device,)
OF_CHANNELS: tuple[Callable[[Airing, FeedParts, Looking], Iterator[GoCheck]], ...] = (_settings, _spherical, _rehearsed)
AT_LAST: tuple[Callable[[Looking], Iterator[GoCheck]], ...] = (_clocks, _budget)
