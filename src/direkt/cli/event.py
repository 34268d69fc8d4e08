"""direkt event: an event at its platforms."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import DirektError, UnusableInput

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console

    from direkt.cli.schemas import (
        EventAccountsJson,
        EventAtJson,
        EventDoneJson,
        EventListJson,
        EventShowJson,
        HeldEventJson,
    )
    from direkt.platform.event import Input, PlatformEvent, Seen
    from direkt.platform.planned import Planned
    from direkt.rig.file import Rig
    from direkt.work.live.account import Held
    from direkt.work.live.event_at_platforms import AirEvent, Airing, PersonStep
    from direkt.work.steps import Job

    Work = Callable[[Airing, str], Job[AirEvent, PlatformEvent | None]]

_WHO = {"everyone": "everyone", "link": "whoever has the link", "invited": "those who are invited"}

at_option = click.option(
    "--at", "at", metavar="DATE", help="Of an event that repeats: the time on or after this date (2026-07-05)."
)
yes_option = click.option("--yes", is_flag=True, help="Answer every question with yes.")


@click.group()
def event() -> None:
    """Make, change, open, close and look at events at their platforms.

    What an event is to be stands in the rig, under 'events'; 'direkt go' does all of this in the right order.
    """


def chosen(rig: Rig, name: str | None, at: str | None) -> Planned:
    """The time of an event that is meant: on now, next, or on or after a date. Raises UnusableInput."""
    from direkt.platform import planned

    found = rig.event_name(name)
    if at is None:
        return planned.next_one(rig, found, datetime.datetime.now(datetime.UTC))
    try:
        day = datetime.date.fromisoformat(at.strip()[:10])
    except ValueError:
        raise UnusableInput(f"--at: expected a date like 2026-07-05, got {at!r}") from None
    for one in planned.occurrences(rig, found):
        if one.start.date() >= day:
            return one
    raise UnusableInput(f"the event {found!r} does not take place on or after {day}")


@event.command("list")
@click.option(
    "--at-platform", "at_platform", metavar="PLATFORM", is_flag=False, flag_value="*",
    help="Instead: all events in the account there, whoever made them (of PLATFORM, or of all platforms of the rig).",
)  # fmt: skip
@options.rig_option
@options.json_option
def list_(at_platform: str | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """List the rig's events and when each takes place next; without --at-platform it asks no platform."""
    if at_platform is not None:
        return _list_accounts(options.load_rig(rig_path), at_platform, as_json)
    return _list_rig(rig_path, as_json)


def _list_accounts(rig: Rig, wanted: str, as_json: bool) -> ExitCode:
    from direkt.cli import crew
    from direkt.work.live import account

    if wanted != "*" and wanted not in rig.file.platforms:
        raise UnusableInput(f"no platform {wanted!r} in {rig.source}; it has {', '.join(rig.file.platforms) or 'none'}")
    chosen_ = [n for n, e in rig.file.destinations.items() if e.platform is not None and wanted in ("*", e.platform)]
    found, wrong = account.accounts(rig, chosen_, crew.means(rig))
    document: EventAccountsJson = {"schema": "direkt.event-accounts/1", "accounts": []}
    out, worst = output.console(err=as_json), ExitCode.GOOD
    for one in found:
        try:
            held = one.held()
        except DirektError as error:
            wrong[one.name] = str(error)
            continue
        finally:
            one.close()
        document["accounts"].append({"platform": one.name, "failure": None, "events": [_held_json(h) for h in held]})
        if not as_json:
            _print_account(out, one.title, one.name, held)
    for name, why in wrong.items():
        worst = ExitCode.NO_ANSWER
        document["accounts"].append({"platform": name, "failure": why, "events": []})
        output.error(why)
    if as_json:
        output.print_json(document)
    elif not found and not wrong:
        out.print("the rig has no platform: what is open is seen on the pages of its destinations only")
    return worst


def _whose(one: Held) -> str:
    if one.by_key:
        return f"the rig pushes with its key ({one.destination})"
    if one.owner is not None:
        return f"this rig's: {one.owner.event}" if one.owner.event else "this rig's, which has no such event any more"
    return f"not known: {one.unasked}" if one.unasked else "somebody else's"


def _held_json(one: Held) -> HeldEventJson:
    e = one.event
    return {
        "id": e.id, "title": e.title or None, "state": e.state.value, "word": e.word or None, "start": e.start or None, "watch": e.watch or None,
        "event": one.owner.event or None if one.owner is not None else None, "destination": one.destination or None,
        "ours": "by key" if one.by_key else "by name" if one.owner is not None else "not known" if one.unasked else "no",
    }  # fmt: skip


def _print_account(out: Console, title: str, name: str, held: list[Held]) -> None:
    out.print(f"[bold]{escape(title)}[/]  {escape(name)}: {len(held)} event{'s' if len(held) != 1 else ''}, all that it lists")
    if not held:
        return
    table = output.table("state", "title", "start", "whose")
    for one in sorted(held, key=lambda h: not h.open):
        state = one.event.state.value if one.event.state.value != "not known" else f"? {one.event.word}"
        mark = f"[green]{escape(state)}[/]" if one.open else escape(state)
        table.add_row(mark, escape(one.event.title or one.event.id), escape(one.event.start), escape(_whose(one)))
    out.print(table)


def _list_rig(rig_path: Path | None, as_json: bool) -> ExitCode:
    from direkt.platform import planned
    from direkt.store import event_memory

    rig = options.load_rig(rig_path)
    now = datetime.datetime.now(datetime.UTC)
    document: EventListJson = {"schema": "direkt.event-list/1", "events": []}
    lines = []
    for name, entry in rig.file.events.items():
        try:
            one = planned.next_one(rig, name, now)
            wanted = planned.wanted(rig, one)
            known = event_memory.read(rig.folder, name, one.mark)
        except UnusableInput as error:
            document["events"].append(
                {
                    "name": name,
                    "title": entry.title,
                    "next": None,
                    "seconds": None,
                    "feeds": entry.feeds,
                    "on_air": False,
                }
            )
            lines.append((name, "–", str(error), ""))
            continue
        on = bool(known.on_air and not known.ended)
        document["events"].append(
            {"name": name, "title": wanted.title, "next": one.start.isoformat(), "seconds": one.seconds, "feeds": entry.feeds, "on_air": on}
        )  # fmt: skip
        when = f"{one.start:%a %Y-%m-%d %H:%M} {one.start.tzname() or ''}, {_length(one.seconds)}"
        lines.append((name, when, wanted.title, "paused" if known.paused else "on air" if on else ""))
    if as_json:
        output.print_json(document)
        return ExitCode.GOOD
    out = output.console()
    if not lines:
        out.print("the rig has no events: write them under 'events'")
        return ExitCode.GOOD
    table = output.table("event", "next", "title", "")
    for line in lines:
        table.add_row(*(escape(cell) for cell in line))
    out.print(table)
    return ExitCode.GOOD


def _length(seconds: float) -> str:
    hours, minutes = divmod(round(seconds / 60), 60)
    return f"{hours} h {minutes} min" if hours and minutes else f"{hours} h" if hours else f"{minutes} min"


@event.command()
@click.argument("name", required=False)
@at_option
@options.rig_option
@options.json_option
def show(name: str | None, at: str | None, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Show how NAME stands at each of its platforms, what its ingest sees, and where viewers go."""
    from direkt.errors import DirektError
    from direkt.platform import planned

    rig = options.load_rig(rig_path)
    one = chosen(rig, name, at)
    wanted = planned.wanted(rig, one)
    document: EventShowJson = {
        "schema": "direkt.event-show/1", "name": one.name, "title": wanted.title, "start": one.start.isoformat(), "seconds": one.seconds,
        "audience": wanted.audience, "delay": wanted.delay, "at": [],
    }  # fmt: skip
    out = output.console(err=as_json)
    if not as_json:
        out.print(f"[bold]{escape(wanted.title)}[/]  {escape(one.name)}, {one.start:%a %Y-%m-%d %H:%M} {escape(one.start.tzname() or '')}, "
                  f"{_length(one.seconds)}, for {_WHO[wanted.audience]}, delay {wanted.delay}")  # fmt: skip
    worst = ExitCode.GOOD
    for airing in _gathered(rig, one):
        try:
            found = airing.find()
            seen = airing.platform.seen(found) if found is not None else None
            document["at"].append(_at_json(airing, found, seen, ""))
            if not as_json:
                _print_at(out, airing, found, seen)
        except DirektError as error:
            worst = ExitCode.NO_ANSWER
            document["at"].append(_at_json(airing, None, None, str(error)))
            output.error(str(error))
        finally:
            airing.platform.close()
    if as_json:
        output.print_json(document)
    return worst


def _gathered(rig: Rig, one: Planned) -> list[Airing]:
    from direkt.cli import crew
    from direkt.work.live import event_at_platforms

    return event_at_platforms.gather(rig, one, crew.means(rig))


def _at_json(airing: Airing, found: PlatformEvent | None, seen: Seen | None, failure: str) -> EventAtJson:
    return {
        "destination": airing.destination, "platform": airing.entry.platform, "by_hand": airing.by_hand, "id": airing.id,
        "state": found.state.value if found is not None else None, "audience": found.audience if found is not None else None,
        "watch": found.watch or None if found is not None else None, "viewers": seen.viewers if seen is not None else None,
        "inputs": [
            {"role": i.role, "arriving": i.arriving, "since": i.since or None, "shown": i.shown, "values": dict(i.values), "gaps": [{"began": g.began, "seconds": g.seconds} for g in i.gaps],
             "missing": i.missing, "health": i.health or None, "complaints": list(i.complaints)} for i in (seen.inputs if seen is not None else ())
        ],
        "failure": failure or None,
    }  # fmt: skip


def _print_at(out: Console, airing: Airing, found: PlatformEvent | None, seen: Seen | None) -> None:
    how = "by hand" if airing.by_hand else f"platform {airing.entry.platform}"
    from direkt.rig.events import EventState

    said = "– not made"
    if found is not None and found.state is EventState.UNKNOWN:
        said = f"? {escape(found.word)!r}, a word that is not known here"
    elif found is not None:
        good = found.state in (EventState.OPEN, EventState.LIVE)
        said = f"[green]✓ {found.state.words}[/]" if good else f"– {found.state.words}"
    who = f", for {_WHO[found.audience]}" if found is not None and found.audience else ""
    out.print(f"{escape(airing.sheet.name)}  {escape(airing.destination)}, {escape(how)}: {said}{who}")
    if found is not None and found.closed_because:
        out.print(f"  closed because {escape(found.closed_because)}")
    if found is not None and found.watch:
        out.print(
            f"  viewers: {escape(found.watch)}"
            + (f" ({seen.viewers} watching)" if seen is not None and seen.viewers is not None else ""),
            soft_wrap=True,
        )
    if airing.by_hand:
        for step, when in airing.place.done.items():
            out.print(f"  ✓ {escape(step)}  [dim]{escape(when)}[/]")
    for one in seen.inputs if seen is not None else ():
        print_input(out, one)
    if seen is not None and not seen.inputs:
        out.print("  ingest: nothing arrived so far")


def print_input(out: Console, one: Input) -> None:
    """What an ingest sees of one push."""
    values = [output.show(name, value) for name, value in one.values.items() if name in (
        "video.codec", "video.size", "video.frame_rate", "video.bitrate.mean", "audio.codec")]  # fmt: skip
    shown = {True: "", False: ", not shown yet", None: ", whether it is shown is not reported"}[one.shown]
    state = {True: f"[green]✓ arrives[/]{shown}", False: "– nothing arrives", None: "? not reported whether it arrives"}[one.arriving]
    gaps = f", {len(one.gaps)} gap{'s' if len(one.gaps) > 1 else ''}, {one.missing:g} s in all" if one.gaps else ""
    since = f" since {escape(one.since)}" if one.since else ""
    out.print(f"  {one.role} ingest: {state}{since}{gaps}" + (f": {', '.join(values)}" if values else ""))
    for words in one.complaints:
        out.print(f"    [yellow]! it says[/] {escape(words)}")


# What changes something


def _command(verb: str, help: str, work: Work) -> click.Command:
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


def _change(rig: Rig, one: Planned, verb: str, yes: bool, as_json: bool, work: Work) -> ExitCode:
    """Does ``work`` at each destination of the event, and says what became of it."""
    import time

    from direkt.cli import recording
    from direkt.cli.crew import Asker
    from direkt.errors import DirektError
    from direkt.store.entry import Entry
    from direkt.work.live import event_at_platforms as air
    from direkt.work.steps import Answer, drive

    asker, out = Asker(yes), output.console(err=as_json)
    recording.begin(rig, "event", verb, event=one.name, mark=one.mark)
    document: EventDoneJson = {"schema": "direkt.event-done/1", "did": verb, "name": one.name, "at": []}
    entries: list[Entry] = []
    worst = ExitCode.GOOD

    def on_event(told: AirEvent) -> Answer:
        if isinstance(told, air.PersonStep):
            return asker.ask(person_text(told), False)
        out.print(f"[green]✓[/] {escape(told.destination)}: {escape(told.what)}")
        return None

    for airing in _gathered(rig, one):
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
                Entry("event", "good", f"{verb}: {said}", event=one.name, mark=one.mark, destination=airing.destination)
            )
        except DirektError as error:
            from direkt.cli.exits import code_of

            worst = max(worst, code_of(error))
            document["at"].append(
                {"destination": airing.destination, "state": None, "watch": None, "failure": str(error)}
            )
            output.error(str(error))
            entries.append(
                Entry(
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


def _make(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
    from direkt.cli import crew
    from direkt.work.live import event_at_platforms as air

    made = yield from air.prepare(airing, now)
    if not airing.by_hand:
        kept = air.adopt_key(airing, airing.platform.ingest(made).key, crew.means(airing.rig))
        if kept.changed:
            yield air.Did(airing.destination, f"the event's key is kept in {kept.where}")
    return made


def _change_to_rig(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
    from direkt.work.live import event_at_platforms as air

    _need(airing)
    return (yield from air.prepare(airing, now))


def _open(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
    from direkt.work.live import event_at_platforms as air

    return (yield from air.open_event(airing, _need(airing), now))


def _close(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
    from direkt.work.live import event_at_platforms as air

    return (yield from air.finish(airing, _need(airing), now))


def _drop(airing: Airing, now: str) -> Job[AirEvent, PlatformEvent | None]:
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

    def gone(place: event_memory.Place) -> event_memory.Place:
        return place.model_copy(update={"state": "none", "done": {}, "pushed": False, "key_mark": ""})

    left = event_memory.change_place(airing.rig.folder, *known, airing.destination, gone)
    if all(place == gone(place) for place in left.places.values()):
        if left.begun and not left.ended:
            event_memory.change(airing.rig.folder, *known, lambda s: s.model_copy(update={"ended": now}))
        event_memory.put_away(airing.rig.folder, *known)  # its report is kept
    return None


@event.command("sign-in")
@click.argument("platform", required=False)
@click.option("--out", "leave", is_flag=True, help="Forget the sign-in instead.")
@options.rig_option
def sign_in(platform: str | None, leave: bool, rig_path: Path | None) -> ExitCode:
    """Sign in at PLATFORM on a phone: shows an address and a code, and waits."""
    import time

    from direkt.cli import crew
    from direkt.platform import library
    from direkt.platform.sign_in import Code

    rig = options.load_rig(rig_path)
    if platform is None and len(rig.file.platforms) == 1:
        platform = next(iter(rig.file.platforms))
    account = library.account(rig, platform or "", crew.means(rig))
    if leave:
        output.console().print("signed out" if account.forget() else "nobody was signed in")
        return ExitCode.GOOD
    out = output.console()
    for told in account.sign_in():
        if isinstance(told, Code):
            out.print(f"On a phone or in a browser: [bold]{escape(told.address)}[/]", soft_wrap=True)
            out.print(f"Code: [bold]{escape(told.code)}[/]  (it ends in {told.seconds / 60:.0f} min; Ctrl-C gives up)")
            if told.complete:
                from direkt.cli.picture_code import print_code

                print_code(out, told.complete)
            out.file.flush()
        else:
            time.sleep(told)
    out.print(f"[green]✓[/] signed in at {escape(platform or '')}")
    return ExitCode.GOOD


for _verb, _help, _work in (
    ("make", "Make NAME at its platforms, or find it as it was made before.", _make),
    ("change", "Change NAME at its platforms to what the rig says now.", _change_to_rig),
    ("open", "Open NAME: pushes are let in, viewers find the page and wait.", _open),
    ("close", "Close NAME: it is over for viewers. A closed event stays closed.", _close),
    ("drop", "Take NAME away at its platforms; an open one is closed first, after a question.", _drop),
):
    event.add_command(_command(_verb, _help, _work))
