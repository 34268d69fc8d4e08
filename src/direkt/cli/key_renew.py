"""A new key: typed, from the platform, and on to the devices that have the old one."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import key_paste, options, output
from direkt.cli.exits import ExitCode
from direkt.cli.key_kept import bound_to, change_rig, destination_of, store_name
from direkt.cli.output import escape
from direkt.errors import UnusableInput
from direkt.work.steps import END

if TYPE_CHECKING:

    from direkt.cli.documents.destinations import KeyRenewJson
    from direkt.rig.file import Rig
    from direkt.secret import Secret



@click.command()
@click.argument("destination")
@click.option("--event", metavar="NAME", help="Ask the platform for a new key of this event, instead of pasting one.")
@click.option("--given", is_flag=True, help="With --event: take the key that the platform has now, not a new one.")
@click.option("--yes", is_flag=True, help="Renew it also while the event is open or on air, which ends its push.")
@options.rig_option
@options.json_option
def renew(destination: str, event: str | None, given: bool, yes: bool, rig_path: Path | None, as_json: bool) -> ExitCode:
    """Take a new key for DESTINATION and write it to every device that has the old one; nothing else is touched."""
    rig, entry = destination_of(rig_path, destination)
    if given and event is None:
        raise UnusableInput("--given goes with --event: whose key is to be taken?")
    if event is not None:
        key = _of_platform(rig, destination, event, given=given, yes=yes)
        output.console(err=as_json).print(f"the new key {escape(str(key))} is kept")
        return _to_devices(rig, destination, key, as_json)
    found = key_paste.of_one(rig, destination, key_paste.pasted())
    if found.aside:
        raise UnusableInput("another address was pasted with the key, and was not taken: paste the key alone")
    if found.key is None:
        raise UnusableInput("; ".join(["no key was found in what was pasted", *found.left]))
    if found.server is not None and str(found.server) != entry.server:
        raise UnusableInput(
            "another server address was pasted too; renewing touches the key alone. "
            f"To change both: direkt key set {destination}"
        )
    out = output.console(err=as_json)
    key_paste.show(out, found, entry)
    key_paste.agree(found.questions, f"Keep it, and write it to every device that pushes to {destination}?")
    from direkt.secret import Secret

    name = store_name(rig, destination)
    options.key_store().put(name, found.key, bound_to(rig, entry, found))
    if entry.key != f"store:{name}":
        change_rig(rig, destination, {"key": f"store:{name}"})
    out.print(f"the new key {escape(key_paste.masked(found.key))} is kept")
    return _to_devices(rig, destination, Secret(found.key), as_json)


def _of_platform(rig: Rig, destination: str, event: str, *, given: bool, yes: bool) -> Secret:
    """A new key, as the event's platform gives it out; it is kept where the rig has the destination's key."""
    from direkt.cli import crew
    from direkt.cli.crew import PersonAsker
    from direkt.cli.event_chosen import chosen
    from direkt.platform.event import NoSuchEvent
    from direkt.rig.events import EventState
    from direkt.work.live import event_at_platforms

    means = crew.means(rig)
    airings = event_at_platforms.gather(rig, chosen(rig, event, None), means)
    try:
        one = next((a for a in airings if a.destination == destination), None)
        if one is None:
            raise UnusableInput(f"no feed of the event {event!r} goes to {destination}")
        known = one.find()
        if known is None:
            raise NoSuchEvent(f"{one.sheet.name} has no such event yet: direkt event make {event}")
        if given:
            key = one.platform.ingest(known).key
            event_at_platforms.adopt_key(one, key, means)
            return key
        if known.state in (EventState.OPEN, EventState.LIVE, EventState.UNKNOWN):
            state = "is on air" if known.state is EventState.LIVE else f"is {known.state}"
            text = f"{event} {state} at {one.sheet.name}: a new key ends its push. Renew the key all the same?"
            if not PersonAsker(yes).ask(text, False):
                raise UnusableInput(f"{event} {state}, and its key was left as it is; end it first: direkt stop {event}, or say --yes")
        key = one.platform.renew(known).key
        event_at_platforms.adopt_key(one, key, means)
        return key
    finally:
        event_at_platforms.close(airings)


def _to_devices(rig: Rig, destination: str, key: Secret, as_json: bool) -> ExitCode:
    """Writes the new key to every device that has the old one."""
    from direkt.work.device.renew import renew as work

    out = output.console(err=as_json)
    document: KeyRenewJson = {"schema": "direkt.key-renew/1", "destination": destination, "devices": []}
    try:
        for one in work(rig, destination, key, options.sources(rig)):
            mark = "[green]✓ written[/]" if one.written else "[bold red]✗ not written[/]"
            reason = f": {escape(one.reason)}" if one.reason else ""
            out.print(f"{mark}  {escape(one.device)} ({escape(one.feed)}){reason}")
            document["devices"].append(one)
    except KeyboardInterrupt:
        END.taken()
        have = ", ".join(d.device for d in document["devices"] if d.written) or "no device for certain"
        output.interrupted(
            f"the new key is kept; it is written to: {have}. For the others: direkt key renew {destination}"
        )
        return ExitCode.INTERRUPTED
    if as_json:
        output.print_json(document)
    return ExitCode.GOOD if all(d.written for d in document["devices"]) else ExitCode.NO_ANSWER
