"""What is not as it should be, from what the watch knows: each thing with its weight, its words and the next step."""

from __future__ import annotations

from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import dataclass

from direkt.watch.causes import CommonCause
from direkt.watch.looks import DeviceLook
from direkt.watch.notices import Condition, Key, Weight
from direkt.watch.tracker import FeedState, Tracker

_SILENT = 10.0  # s without an answer
_PLATFORM = 20.0
_GB = 1e9
_LATE = 3.0  # s


@dataclass(frozen=True, slots=True)
class Bounds:
    """From where on something is warned of."""

    hot: float  # degrees Celsius
    disk: float  # bytes
    session: float  # s
    certificate: float  # days


@dataclass(frozen=True, slots=True)
class RunningEvent:
    """An event that goes on, at one destination."""

    name: str
    title: str
    end: float  # s since 1970
    error: str
    error_since: float | None  # steady
    limit: float | None  # s until the platform ends the push
    on_air: bool  # as it was left here
    closed: bool = False  # the platform says that it is over


@dataclass(frozen=True, slots=True)
class Machine:
    """This machine and its line."""

    disk_free: float | None  # bytes
    plan: float | None  # bytes that may be sent
    sent: float  # bytes
    rate: float  # bytes/s that go out now
    certificates: Mapping[str, float]  # days left, by host


def of_cause(cause: CommonCause) -> tuple[Key, Condition]:
    """Why many feeds have dropped."""
    return Key("cause", cause.name), Condition("fail", cause.text, f"{cause.advice}; restarts wait for that")


def of_watch(late: float) -> Iterator[tuple[Key, Condition]]:
    """What the watch itself is in. ``late``: s by which it was late at the worst, in the last while."""
    if late >= _LATE:
        text = f"the watch was {late:.0f} s late: this machine is too busy, and what is said of others may be old"
        yield Key("late", "this machine"), Condition("fail" if late >= 10 else "advise", text, "end other programs here; see: top")


def of_feeds(
    trackers: Sequence[Tracker], events: Mapping[str, str], on_air: Container[str], given_up: Mapping[str, str], now: float,
    held: Container[str] = (), patience: float = 0.0,
) -> Iterator[tuple[Key, Condition]]:  # fmt: skip
    """What feeds are in. ``events``: the event that a feed is in; ``given_up``: what was tried in vain; ``held``: those with a cause in common.

    ``patience``: s that a drop waits to be told, so that several can be told as one.
    """
    for one in trackers:
        name, event = one.facts.name, events.get(one.facts.name, "")
        yield from _of_content(one, event, now)
        if name in held:
            continue
        if one.state is FeedState.DROPPED and one.wanted and (one.dropped is None or now - one.dropped >= patience):
            yield (
                Key("drop", name),
                Condition("fail", f"the push has dropped: {one.text}", f"direkt push state {name}", event),
            )
        if one.state is FeedState.DROPPED and name in given_up:
            yield (
                Key("unmended", name),
                Condition("fail", f"{given_up[name]}: a person has to look", f"direkt push state {name}", event),
            )
        if one.state is FeedState.STOPPED:
            weight: Weight = "fail" if event else "advise"
            yield (
                Key("stopped", name),
                Condition(
                    weight, one.text, f"it is left off; on again: direkt push on {name}; off for good: direkt push off {name}", event
                ),
            )
        if one.state is FeedState.OFF and name in on_air and now - one.since > _SILENT:
            yield (
                Key("stopped", name),
                Condition(
                    "advise",
                    "it is off while its event is on air",
                    f"direkt push on {name}, or direkt stop {event}",
                    event,
                ),
            )
        if one.state is FeedState.ELSEWHERE and one.wanted:
            yield (
                Key("elsewhere", name),
                Condition("fail", one.text, f"a rehearsal? Else: direkt push off {name}; direkt push on {name}", event),
            )
        if (
            one.state is FeedState.UNKNOWN
            and one.wanted
            and one.device is not None
            and one.device.error
            and now - one.since > _SILENT
        ):
            yield (
                Key("unseen", name),
                Condition(
                    "fail",
                    f"it is not known whether it pushes: {one.text}",
                    "look at the device, and at the platform's page",
                    event,
                ),
            )
        if not one.wanted and one.state in (FeedState.ON, FeedState.DROPPED) and now - one.wished_at > _SILENT:
            yield Key("still-on", name), Condition("advise", "it was stopped, and pushes", f"direkt stop {name}", event)
        elif one.state is FeedState.OFF and one.input is not None and one.input.arriving and now - one.since > _SILENT:
            yield (
                Key("still-on", name),
                Condition(
                    "advise", "its push is off here, and something arrives at its ingest", "direkt stop --all", event
                ),
            )
        if one.is_thin(now) and one.usual and one.kbit_s is not None:
            text = f"only {one.kbit_s / 1000:.1f} Mbit/s go out, {one.usual / 1000:.1f} is usual: is the line too thin?"
            yield Key("thin", name), Condition("advise", text, "direkt budget; direkt reach", event)
        if one.state is FeedState.ON and one.contradicted:
            yield (
                Key("contradiction", name),
                Condition("advise", one.text, f"direkt push state {name}; who else pushes with its key?", event),
            )
        seen = one.input
        if (
            one.state is FeedState.ON
            and seen is not None
            and seen.arriving
            and (seen.complaints or seen.health not in ("", "good"))
        ):
            words = "; ".join(seen.complaints) or f"health {seen.health}"
            yield (
                Key("ingest", name),
                Condition("advise", f"the ingest says: {words}", f"direkt check --feed {name}", event),
            )


def _of_content(one: Tracker, event: str, now: float) -> Iterator[tuple[Key, Condition]]:
    """A push that is on, and carries no sound or a picture that stands still."""
    name = one.facts.name
    for parameter, bad, kind, words, advice in _CONTENT:
        since = one.content_since(parameter, bad, now)
        if since is not None and now - since >= _SETTLED:
            if kind == "sound" and one.silence_added:
                yield Key(kind, name), Condition("advise", "the sound is silence that this machine adds: the camera has none that can be pushed", _MICROPHONE, event)
                continue
            who = "as measured here" if one.measured_here else "by its ingest"
            yield Key(kind, name), Condition("fail" if event else "advise", f"{words}, {who}", advice, event)
    look = one.event
    if look is not None and not look.error and look.other_key and one.state in (FeedState.ON, FeedState.DROPPED, FeedState.STARTING):
        yield (
            Key("key", name),
            Condition(
                "fail", "its platform now has another key than the one that the rig pushes with",
                f"direkt key renew {one.facts.destination} --event {event} --given; then: direkt push off {name}; direkt push on {name}", event,
            ),
        )  # fmt: skip


_MICROPHONE = "for sound, give the camera a microphone and AAC"
_SETTLED = 10.0  # s that sound may be silent
_CONTENT = (
    ("audio.silent", "yes", "sound", "the sound is silent", "is the microphone on, is its level up?"),
    ("audio.present", "no", "sound", "there is no sound", "switch the sound on at the device"),
    ("video.moving", "no", "picture", "the picture stands still", "look at the camera and at its cable"),
)


def of_devices(
    devices: Mapping[str, DeviceLook], silent: Mapping[str, float], wanted: set[str], bounds: Bounds, now: float,
    held: Container[str] = (),
) -> Iterator[tuple[Key, Condition]]:  # fmt: skip
    """What devices are in. ``held``: those with a cause in common; ``silent``: since when one does not answer; ``wanted``: those with a feed that is meant to be on."""
    for name, look in devices.items():
        since = silent.get(name)
        if look.error:
            if name in wanted and name not in held and since is not None and now - since >= _SILENT:
                yield (
                    Key("silent", name),
                    Condition("advise", look.error, "look at its power and its network"),
                )
            continue
        if look.temperature is not None and look.temperature >= bounds.hot:
            yield Key("hot", name), Condition("advise", f"{look.temperature:g} °C is hot", "give it air and shade")
        if name in wanted:
            for n, words in enumerate(look.wrong[:4]):
                yield (
                    Key("device", f"{name}" if not n else f"{name} ({n + 1})"),
                    Condition("advise", f"it says: {words}", f"direkt device health {name}"),
                )


def of_events(
    events: Sequence[RunningEvent], bounds: Bounds, now: float, wall: float, *, calm: bool = False, held: bool = False
) -> Iterator[tuple[Key, Condition]]:  # fmt: skip
    """What events are in. ``calm``: this machine's clock was just set: nothing is said by it; ``held``: the line is down."""
    for one in events:
        if not held and one.error and one.error_since is not None and now - one.error_since >= _PLATFORM:
            yield (
                Key("platform", f"{one.name} at {one.title}"),
                Condition(
                    "advise", f"{one.title} does not report how it stands: {one.error}", "look at its page", one.name
                ),
            )
        if not calm and one.limit is not None and one.limit <= bounds.session and one.on_air:
            left = max(0.0, one.limit)
            text = f"{one.title} ends the push in {left / 60:.0f} min: its limit for one push"
            yield (
                Key("session", f"{one.name} at {one.title}"),
                Condition(
                    "fail" if left < 300 else "advise",
                    text,
                    f"direkt stop {one.name} --pause, then direkt go {one.name}",
                    one.name,
                ),
            )
        if one.on_air and one.closed:
            yield (
                Key("closed", f"{one.name} at {one.title}"),
                Condition(
                    "fail", f"{one.title} has closed the event: viewers get nothing", f"look at its page; then: direkt stop {one.name}",
                    one.name,
                ),
            )  # fmt: skip
        if not calm and one.on_air and wall > one.end + 300:
            yield (
                Key("overdue", one.name),
                Condition(
                    "advise",
                    f"it should have ended {(wall - one.end) / 60:.0f} min ago, and is on air",
                    f"direkt stop {one.name}",
                    one.name,
                ),
            )


def of_machine(machine: Machine, bounds: Bounds) -> Iterator[tuple[Key, Condition]]:
    """What this machine and its line are in."""
    if machine.disk_free is not None and machine.disk_free < bounds.disk:
        yield (
            Key("disk", "this machine"),
            Condition(
                "advise",
                f"{machine.disk_free / _GB:.1f} GB are free on its disk",
                "make room: recordings and the log need it",
            ),
        )
    if machine.plan is not None and machine.sent >= 0.8 * machine.plan:
        left = machine.plan - machine.sent
        time = f", {left / machine.rate / 60:.0f} min at the present rate" if machine.rate > 0 and left > 0 else ""
        text = f"{machine.sent / _GB:.1f} of {machine.plan / _GB:g} GB of the data plan are sent; {max(0.0, left) / _GB:.1f} GB are left{time}"
        yield (
            Key("plan", "the line"),
            Condition("fail" if left <= 0.05 * machine.plan else "advise", text, "lower the bitrate, or book more"),
        )
    for host, days in machine.certificates.items():
        if days <= bounds.certificate:
            ended = "has ended" if days < 0 else f"ends in {days:.0f} days"
            yield (
                Key("certificate", host),
                Condition(
                    "fail" if days < 1 else "advise",
                    f"its certificate {ended}",
                    "its pushes will be refused: report it to whoever runs it",
                ),
            )
