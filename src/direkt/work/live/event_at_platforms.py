"""An event at the destinations of its feeds: what it takes to make, open, change and end it there, with what only a person can do."""

from __future__ import annotations

import datetime
import hashlib
import hmac
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from direkt.destination import references
from direkt.destination.references import SecretError
from direkt.destination.sheet import CheckStep, SessionRules, Sheet
from direkt.errors import UnusableInput
from direkt.platform import library, planned
from direkt.platform.event import Platform, PlatformEvent
from direkt.platform.interface import stamp
from direkt.platform.library import Means
from direkt.platform.planned import PlannedEvent, WantedEvent
from direkt.rig import edit as rig_edit
from direkt.rig.events import Delay, EventState
from direkt.rig.file import DestinationEntry, Rig, RigError, key_places
from direkt.secret import Secret
from direkt.store import event_memory
from direkt.work.steps import Job


@dataclass(frozen=True, slots=True)
class Airing:
    """An event at one destination."""

    rig: Rig
    planned: PlannedEvent
    destination: str
    entry: DestinationEntry
    sheet: Sheet  # in the latency mode of the event's delay
    platform: Platform
    by_hand: bool
    id: str  # our name for it at the platform
    primary: tuple[str, ...]  # feeds
    backup: tuple[str, ...]
    delay: Delay | None = None  # the platform's word for the figure that the rig asks for
    no_delay: str = ""  # why the figure that the rig asks for cannot be had

    @property
    def feeds(self) -> tuple[str, ...]:
        """All feeds, the primary ones first."""
        return (*self.primary, *self.backup)

    @property
    def place(self) -> event_memory.DestinationMemory:
        """What is remembered."""
        return event_memory.read(self.rig.folder, self.planned.name, self.planned.mark).place(self.destination)

    def wanted(self) -> WantedEvent:
        """What it is to be. Raises UnusableInput."""
        return planned.wanted(self.rig, self.planned, self.delay)

    def find(self) -> PlatformEvent | None:
        """As it is at the platform now. Raises PlatformError."""
        return self.platform.find(self.id)


@dataclass(frozen=True, slots=True)
class PersonStep:
    """Something that only a person can do; the answer is whether it is done."""

    destination: str
    title: str  # of the destination
    step: str
    when: str = ""


@dataclass(frozen=True, slots=True)
class Did:
    """Something that was done at a platform."""

    destination: str
    what: str


AirEvent = PersonStep | Did


class NotDone(UnusableInput):
    """A person said that a step is not done."""

    def __init__(self, platform: str, step: str, event: str) -> None:
        self.undone = f"{platform}: not done: {step}"
        super().__init__(f"{self.undone}; do it, and go on with: direkt go {event}")


def gather(rig: Rig, at: PlannedEvent, means: Means, *, practice: bool = False) -> list[Airing]:
    """The event at each destination of its feeds, in their order. Raises UnusableInput. Close the platforms when done.

    ``practice``: what only a person can do at the real platform is left out.
    """
    by_destination: dict[str, list[str]] = {}
    whole = at
    for name in at.entry.feeds:
        by_destination.setdefault(rig.file.feeds[name].destination, []).append(name)
    out: list[Airing] = []
    try:
        for destination, names in by_destination.items():
            entry = rig.file.destinations[destination]
            at = replace(whole, entry=whole.entry.for_destination(destination))
            by_hand = entry.platform is None
            platform: Platform = (
                library.by_hand(rig, at, destination, means)
                if entry.platform is None
                else library.open_platform(rig, entry.platform, means)
            )
            sheet, delay, no_delay = _in_mode(rig.sheet(entry), at)
            sheet = replace(sheet, checklist=(), session=_untimed(sheet.session)) if practice else sheet
            roles = {role: tuple(n for n in names if rig.file.feeds[n].role == role) for role in ("primary", "backup")}
            out.append(
                Airing(
                    rig, at, destination, entry, sheet, platform, by_hand,
                    planned.event_id(rig, at, destination), roles["primary"], roles["backup"], delay, no_delay,
                )
            )  # fmt: skip
    except BaseException:
        close(out)
        raise
    return out


def _in_mode(sheet: Sheet, at: PlannedEvent) -> tuple[Sheet, Delay | None, str]:
    """The sheet in the mode of the event's delay, the word for that, and why it cannot be had."""
    limit = at.entry.delay_limit
    if limit is None:
        return sheet.for_delay(at.entry.delay), None, ""
    found = sheet.for_limit(limit)
    if found is not None:
        mode, word = found
        return mode, next((d for d in ("usual", "short", "shortest") if d == word), None), ""
    offers = sheet.behind_words()
    why = f"{sheet.name} gives {offers}" if offers else f"the sheet of {sheet.name} does not state the viewer delay"
    return sheet, None, f"delay: the viewer delay is to be at most {limit:g} s; {why}"


def _untimed(session: SessionRules | None) -> SessionRules | None:
    return session.model_copy(update={"lead_time_hours": None}) if session is not None else None


def close(airings: list[Airing]) -> None:
    """Lets go of the platforms."""
    for airing in airings:
        airing.platform.close()


# What only a person can do


def steps(airing: Airing, phase: str, does: tuple[str | None, ...] = (None,)) -> Iterator[CheckStep]:
    """The sheet's steps of a phase that a person has to do, in its order; by hand, those that do one of ``does`` as well."""
    for step in airing.sheet.checklist:
        if step.phase == phase and (step.does is None or (airing.by_hand and step.does in does)):
            yield step


def _is_done(airing: Airing, step: CheckStep) -> bool:
    if step.step in airing.place.done:
        return True
    if not step.once:
        return False
    return _known_of_account(airing, step.step)


def _known_of_account(airing: Airing, step: str) -> bool:
    """Whether a person said so before, for this event or another of the same account."""
    alike = [
        name for name, entry in airing.rig.file.destinations.items()
        if name == airing.destination or (entry.platform is not None and entry.platform == airing.entry.platform)
    ]  # fmt: skip
    return any(step in s.place(name).done for s in event_memory.every(airing.rig.folder) for name in alike)


def ask(airing: Airing, step: str, when: str, now: str) -> Job[AirEvent, None]:
    """Waits for the person to say that a step is done, and remembers it. Raises NotDone."""
    done = yield PersonStep(airing.destination, airing.sheet.name, step, when)
    if not done:
        raise NotDone(airing.sheet.name, step, airing.planned.name)
    event_memory.change_place(
        airing.rig.folder, airing.planned.name, airing.planned.mark, airing.destination,
        lambda place: place.model_copy(update={"done": {**place.done, step: now}}),
    )  # fmt: skip


def ask_steps(airing: Airing, phase: str, does: tuple[str | None, ...], now: str) -> Job[AirEvent, None]:
    """The sheet's steps of a phase, each until the person says that it is done."""
    for step in steps(airing, phase, does):
        if not _is_done(airing, step):
            yield from ask(airing, step.step, step.when, now)


# Making, opening, ending


def prepare(airing: Airing, now: str, audience: str | None = None) -> Job[AirEvent, PlatformEvent]:
    """The event is there, and as the rig wants it. ``audience``: for now, instead of the rig's. Raises DirektError."""
    wanted = _with_audience(airing.wanted(), audience)
    if wrong := airing.platform.facts.wrong(wanted):
        raise RigError(f"events.{airing.planned.name}: {'; '.join(wrong)}")
    found = airing.find()
    if airing.by_hand:
        if found is None:
            if lead := _lead_time(airing):
                yield from ask(airing, lead, "before the first event", now)
            yield from ask_steps(airing, "before", (None, "make", "key"), now)
            if not any(step.does == "make" for step in airing.sheet.checklist):
                yield from ask(airing, f"Make the event {wanted.title!r}{_how(wanted)}", "", now)
        return airing.platform.make(airing.id, wanted)
    if found is None:
        if lead := _lead_time(airing):
            yield from ask(airing, lead, "before the first event", now)
        yield from ask_steps(airing, "before", (None,), now)
        found = airing.platform.make(airing.id, wanted)
        yield Did(airing.destination, f"made the event {wanted.title!r}")
    if found.state is EventState.CLOSED:
        return found
    changed = airing.platform.change(found, wanted)
    if changed.version != found.version:
        yield Did(airing.destination, "changed the event to what the rig says")
    return changed


def _with_audience(wanted: WantedEvent, audience: str | None) -> WantedEvent:
    return (
        wanted
        if audience is None
        else replace(wanted, audience="invited" if audience == "invited" else wanted.audience)
    )


def _how(wanted: WantedEvent) -> str:
    words = {"everyone": "everyone", "link": "whoever has the link", "invited": "those who are invited"}
    parts = [f"{wanted.start:%Y-%m-%d %H:%M}", f"for {words[wanted.audience]}"]
    parts += [f"delay {wanted.delay}"] if wanted.delay != "usual" else []
    parts += [f"marked as {wanted.projection}"] if wanted.projection != "none" else []
    return f" ({', '.join(parts)})"


def _lead_time(airing: Airing) -> str:
    """What to make sure of where a new account has to wait, and no step of the sheet says so; empty: nothing is left to ask."""
    session = airing.sheet.session
    if session is None or not session.lead_time_hours or any(step.once for step in airing.sheet.checklist):
        return ""
    step = f"Make sure that the account may stream: new ones wait {session.lead_time_hours:g} h"
    return "" if _known_of_account(airing, step) else step


def opens_itself(airing: Airing) -> bool:
    """Whether the push opens the event."""
    return airing.sheet.session is not None and airing.sheet.session.opens == "by itself"


def open_event(airing: Airing, known: PlatformEvent, now: str) -> Job[AirEvent, PlatformEvent]:
    """Pushes are let in. Raises DirektError."""
    if known.state in (EventState.OPEN, EventState.LIVE):
        return known
    if airing.by_hand and not opens_itself(airing):
        yield from ask_steps(airing, "before", ("open",), now)
        if not any(step.does == "open" for step in airing.sheet.checklist):
            yield from ask(airing, "Open the event", "before the push", now)
    opened = airing.platform.open(known)
    if not airing.by_hand:
        yield Did(airing.destination, "opened the event: pushes are let in")
    return opened


def air(airing: Airing, known: PlatformEvent, now: str) -> Job[AirEvent, PlatformEvent]:
    """Viewers get the stream. Raises DirektError."""
    if known.state is EventState.LIVE:
        return known
    if airing.by_hand and any(step.does == "air" for step in airing.sheet.checklist):
        yield from ask_steps(airing, "pushing", ("air",), now)
    live = airing.platform.air(known)
    if not airing.by_hand:
        yield Did(airing.destination, "on air: viewers get the stream")
    return live


def finish(airing: Airing, known: PlatformEvent, now: str) -> Job[AirEvent, PlatformEvent]:
    """The event is over, and what a person does behind it is done. Raises DirektError."""
    if airing.by_hand and known.state is not EventState.CLOSED:
        yield from ask_steps(airing, "after", (None, "close"), now)
        if not any(step.does == "close" for step in airing.sheet.checklist) and not opens_itself(airing):
            yield from ask(airing, "Close the event", "after the push is stopped", now)
    if not airing.by_hand and known.state is not EventState.CLOSED:
        known = airing.platform.finish(known)
        yield Did(airing.destination, "closed the event")
    elif airing.by_hand:
        known = airing.platform.finish(known)
    if not airing.by_hand:
        yield from ask_steps(airing, "after", (None,), now)
    return known


# The key


@dataclass(frozen=True, slots=True)
class KeyKept:
    """What became of the key that a platform gives out."""

    changed: bool
    where: str


def adopt_key(airing: Airing, key: Secret, means: Means) -> KeyKept:
    """The key of the rig's destination is the one that the platform gives out. Raises UnusableInput where it cannot be put there."""
    ref = references.parse_ref(airing.entry.key)
    try:
        if airing.rig.key(airing.entry, means.sources) == key:
            return KeyKept(False, str(ref))
    except SecretError:
        pass  # there is none yet
    if ref.kind == "store":
        means.tokens.put(ref.name, key.reveal(), means.sources.by(key_places(airing.entry)))
    elif ref.kind == "file":
        _into_file(airing.rig.folder / ref.path, ref.name, key)
    else:
        raise UnusableInput(
            f"{airing.sheet.name} gives out another key than {ref} holds: put the new one there, or write "
            f"'key: store:{means.slug}/{airing.destination}' under destinations.{airing.destination}"
        )
    return KeyKept(True, str(ref))


def _into_file(path: Path, name: str, key: Secret) -> None:
    try:
        rig_edit.change(path, [([name], key.reveal())])
    except UnusableInput:  # its text could repeat what stands in the file
        raise UnusableInput(f"{path}: the key {name!r} cannot be written there; write it by hand") from None


def key_mark(rig: Rig, key: Secret) -> str:
    """Four digits by which a key of a past event is known again: too few to say anything of the key itself."""
    return hmac.new(str(rig.path).encode(), key.reveal().encode(), hashlib.sha256).hexdigest()[:4]


def remember(
    airing: Airing, *, state: PlatformEvent | None = None, pushed: bool | None = None, mark: str | None = None
) -> None:
    """What the next command is to know, though it asks."""

    def how(place: event_memory.DestinationMemory) -> event_memory.DestinationMemory:
        new: dict[str, object] = {}
        if state is not None and not airing.by_hand:
            new |= {"state": state.state}
        if state is not None and state.watch:
            new |= {"watch": state.watch}
        new |= {"pushed": pushed} if pushed is not None else {}
        new |= {"key_mark": mark} if mark is not None else {}
        return place.model_copy(update=new)

    event_memory.change_place(airing.rig.folder, airing.planned.name, airing.planned.mark, airing.destination, how)


def stamp_of(wall: float) -> str:
    """RFC 3339, of s since 1970."""
    return stamp(datetime.datetime.fromtimestamp(wall, datetime.UTC))
