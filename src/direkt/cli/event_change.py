"""What is done to an event at its platforms: make, change, open, close, drop."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.event_chosen import at_option, chosen, gathered, yes_option
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import DirektError, UnusableInput

if TYPE_CHECKING:
    from collections.abc import Callable

    from direkt.cli.documents.on_air import EventDoneJson
    from direkt.platform.event import PlatformEvent
    from direkt.platform.planned import PlannedEvent
    from direkt.rig.file import Rig
    from direkt.work.live.event_at_platforms import AirEvent, Airing, PersonStep
    from direkt.work.steps import Job

    Work = Callable[[Airing, str], Job[AirEvent, PlatformEvent | None]]



def change_command(verb: str, help: str, work: Work) -> click.Command:
    """A subcommand that changes an event at its platforms."""

    @click.command(verb, help=help)
    @click.argument("name", required=False)
    @at_option
    @yes_option
    @options.rig_option
    @options.json_option
    def command(name: str | None, at: str | None, yes: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
        rig = options.load_rig(rig_path)
        return _change(rig, chosen(rig, name, at), verb, yes, as_json, work)

    return command


def _change(rig: Rig, one: PlannedEvent, verb: str, yes: bool, as_json: bool, work: Work) -> ExitCode:
    """Does ``work`` at each destination of the event, and says what became of it."""
    import time

    from direkt.cli import recording
    from direkt.cli.crew import PersonAsker
    from direkt.store.entry import LogEntry
    from direkt.work.live import event_at_platforms as air
    from direkt.work.steps import Answer, drive

    asker, out = PersonAsker(yes), output.console(err=as_json)
    recording.begin(rig, "event", verb, event=one.name, mark=one.mark)
    document: EventDoneJson = {"schema": "direkt.event-done/1", "did": verb, "name": one.name, "at": []}
    entries: list[LogEntry] = []
    worst = ExitCode.GOOD

    def on_event(told: AirEvent) -> Answer:
        if isinstance(told, air.PersonStep):
            return asker.ask(person_text(told), False)
        out.print(f"[green]✓[/] {escape(told.destination)}: {escape(told.what)}")
        return None

    for airing in gathered(rig, one):
        try:
            found = drive(work(airing, air.stamp_of(time.time())), on_event)
            if found is not None:
                air.remember(airing, state=found)
            state = found.state.value if found is not None else None
            document["at"].append(
                {
                    "destination": airing.destination,
                    "state": state,
                    "watch": found.watch or None if found else None,
                    "failure": None,
                }
            )
            said = found.state.words if found is not None else "there is no such event any more"
            out.print(
                f"  {escape(airing.sheet.name)}: {said}"
                + (f"; viewers: {escape(found.watch)}" if found and found.watch else ""),
                soft_wrap=True,
            )
            entries.append(
                LogEntry("event", "good", f"{verb}: {said}", event=one.name, mark=one.mark, destination=airing.destination)
            )
        except DirektError as error:
            from direkt.cli.exits import code_of

            worst = max(worst, code_of(error))
            document["at"].append(
                {"destination": airing.destination, "state": None, "watch": None, "failure": str(error)}
            )
            output.error(str(error))
            entries.append(
                LogEntry(
                    "event", "failed", f"{verb}: {error}", event=one.name, mark=one.mark, destination=airing.destination
                )
            )
        finally:
            airing.platform.close()
    recording.record(rig, entries)
    if as_json:
        output.print_json(document)
    return worst


def person_text(step: PersonStep) -> str:
    """What a person is asked to do."""
    when = f" ({step.when})" if step.when else ""
    return f"By hand, {step.title}: {step.step}{when}. Done?"


def _need(airing: Airing) -> PlatformEvent:
    from direkt.platform.event import NoSuchEvent

    found = airing.find()
    if found is None:
        raise NoSuchEvent(f"{airing.sheet.name} has no such event yet: direkt event make {airing.planned.name}")
    return found


def make(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
    from direkt.cli import crew
    from direkt.work.live import event_at_platforms as air

    made = yield from air.prepare(airing, now)
    if not airing.by_hand:
        kept = air.adopt_key(airing, airing.platform.ingest(made).key, crew.means(airing.rig))
        if kept.changed:
            yield air.Did(airing.destination, f"the event's key is kept in {kept.where}")
    return made


def change_to_rig(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
    from direkt.work.live import event_at_platforms as air

    _need(airing)
    return (yield from air.prepare(airing, now))


def open_(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
    from direkt.work.live import event_at_platforms as air

    return (yield from air.open_event(airing, _need(airing), now))


def close(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
    from direkt.work.live import event_at_platforms as air

    return (yield from air.finish(airing, _need(airing), now))


def drop(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
    from direkt.rig.events import EventState
    from direkt.store import event_memory
    from direkt.work.live import event_at_platforms as air

    found = airing.find()
    if found is not None and found.state in (EventState.OPEN, EventState.LIVE):
        sure = yield air.PersonStep(
            airing.destination, airing.sheet.name, f"the event is {found.state}: really take it from viewers", ""
        )
        if not sure:
            raise UnusableInput(f"{airing.sheet.name}: the event stays {found.state}")
        found = yield from air.finish(airing, found, now)
    if found is not None:
        airing.platform.drop(found)
    known = airing.planned.name, airing.planned.mark

    def gone(place: event_memory.DestinationMemory) -> event_memory.DestinationMemory:
        return place.model_copy(update={"state": "none", "done": {}, "pushed": False, "key_mark": ""})

    left = event_memory.change_place(airing.rig.folder, *known, airing.destination, gone)
    if all(place == gone(place) for place in left.places.values()):
        if left.begun and not left.ended:
            event_memory.change(airing.rig.folder, *known, lambda s: s.model_copy(update={"ended": now}))
        event_memory.put_away(airing.rig.folder, *known)  # its report is kept
    return None
