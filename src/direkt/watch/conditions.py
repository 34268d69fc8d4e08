"""What is not as it should be, from what the watch knows: each thing with its weight, its words and the next step."""

from __future__ import annotations

from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import dataclass

from direkt.watch.looks import DeviceLook
from direkt.watch.notices import Condition, Key, Weight
from direkt.watch.tracker import FeedState, Tracker

_SILENT = 10.0  # s without an answer
_PLATFORM = 20.0
_GB = 1e9


@dataclass(frozen=True, slots=True)
class Bounds:
    """From where on something is warned of."""

    hot: float  # degrees Celsius
    disk: float  # bytes
    session: float  # s
    certificate: float  # days


@dataclass(frozen=True, slots=True)
class Running:
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


def of_feeds(
    trackers: Sequence[Tracker], events: Mapping[str, str], on_air: Container[str], given_up: Mapping[str, str], now: float
) -> Iterator[tuple[Key, Condition]]:  # fmt: skip
    """What feeds are in. ``events``: the event that a feed is in; ``given_up``: what was tried in vain."""
    for one in trackers:
        name, event = one.facts.name, events.get(one.facts.name, "")
        if one.state is FeedState.DROPPED and one.wanted:
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
                    weight, one.text, f"it is not started by itself; if it should be on: direkt push on {name}", event
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
                    f"nobody knows whether it pushes: {one.text}",
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


def of_devices(
    devices: Mapping[str, DeviceLook], silent: Mapping[str, float], wanted: set[str], bounds: Bounds, now: float
) -> Iterator[tuple[Key, Condition]]:
    """What devices are in. ``silent``: since when one does not answer; ``wanted``: those with a feed that is meant to be on."""
    for name, look in devices.items():
        since = silent.get(name)
        if look.error:
            if name in wanted and since is not None and now - since >= _SILENT:
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


def of_events(events: Sequence[Running], bounds: Bounds, now: float, wall: float) -> Iterator[tuple[Key, Condition]]:
    """What events are in."""
    for one in events:
        if one.error and one.error_since is not None and now - one.error_since >= _PLATFORM:
            yield (
                Key("platform", f"{one.name} at {one.title}"),
                Condition(
                    "advise", f"{one.title} does not tell how it stands: {one.error}", "look at its page", one.name
                ),
            )
        if one.limit is not None and one.limit <= bounds.session and one.on_air:
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
        if one.on_air and wall > one.end + 300:
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
                    "its pushes will be refused: tell whoever runs it",
                ),
            )
