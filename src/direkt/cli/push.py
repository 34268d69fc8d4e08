"""direkt push: start, stop or look at a device's push."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, recording, unfinished
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.cli.read import slot_json
from direkt.errors import UnusableInput
from direkt.work.steps import END

if TYPE_CHECKING:
    from direkt.cli.documents.measured import PushJson
    from direkt.destination.references import Sources
    from direkt.destination.sheet import Sheet
    from direkt.device.state import Slot
    from direkt.work.device.push import Look, PushStanding
    from direkt.work.device.unfinished import UnfinishedWrite
    from direkt.work.feeds import FeedParts


@click.command()
@click.argument("action", type=click.Choice(["on", "off", "state"]))
@click.argument("feed", required=False)
@click.option(
    "--rehearse", metavar="ADDRESS", help="on: push to this receiver (see direkt catch) instead of the platform."
)
@click.option(
    "--for", "seconds", type=options.Seconds(), metavar="TIME",
    help="on, of a carried feed: end this long after the push began; otherwise at Ctrl-C.",
)  # fmt: skip
@click.option("--by", type=click.Choice(["tcp", "udp"]), help="on, of a carried feed: how the camera sends.")
@click.option(
    "--damaged", type=click.Choice(["drop", "pass"]),
    help="on, of a carried feed: whether pictures that depend on a lost one are left out up to the next keyframe, or sent [default: drop].",
)  # fmt: skip
@options.all_option
@options.report_option
@options.rig_option
@options.json_option
def push(
    action: str, feed: str | None, rehearse: str | None, seconds: float | None, by: str | None, damaged: str | None,
    report: Path | None, rig_path: Path | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Start, stop or look at the push of FEED's device.

    'on' first makes sure that the push slot holds the right server address, key and channel. A feed with 'carry: true'
    is carried by this machine: 'on' fetches the camera's stream and pushes it on until Ctrl-C, or until 'push off'.
    """
    from direkt.device.state import PushState
    from direkt.work import feeds
    from direkt.work.device import push as work

    if rehearse is not None and action != "on":
        raise UnusableInput(f"--rehearse goes with 'push on', not with 'push {action}'")
    rig = options.load_rig(rig_path)
    sources = options.sources(rig)
    left = unfinished.tell(rig, feed=feed)
    parts = feeds.look_up(rig, feed, sources)
    try:
        if parts.entry.carry:
            from direkt.cli import push_carried

            if action != "state":
                recording.begin(parts.rig, "push", f"{action} (carried)", feed=parts.name, apart=action == "on")
            if action == "on":
                return push_carried.start(parts, sources, rehearse, seconds, by or "", report, left, keep_damaged=damaged == "pass", as_json=as_json)
            return (push_carried.stop if action == "off" else push_carried.look)(parts, left, as_json=as_json)
        if seconds is not None or by is not None or report is not None or damaged is not None:
            raise UnusableInput(
                f"--for, --by, --damaged and --report go with a feed that is carried; {parts.name} is pushed by its device"
            )
        if action != "state":
            recording.begin(parts.rig, "push", action, feed=parts.name)
        if action == "on":
            found = _start(parts, sources, rehearse)
        elif action == "off":
            found = _stop(parts)
        else:
            found = work.look(parts)
    finally:
        parts.driver.close()
    if found is None:
        return ExitCode.INTERRUPTED
    if action != "state":
        good = (found.slot.state is PushState.PUSHING) == (action == "on")
        said = f": {found.slot.message}" if found.slot.message else ""
        text = f"{action}: {found.slot.state}{said}, to {found.slot.server or 'nowhere'}"
        recording.record_feed(parts, "push", "good" if good else "failed", text)
    if as_json:
        output.print_json(_document(parts, found, left))
    else:
        _print(parts, found, action)
    if action == "on" and found.slot.state is not PushState.PUSHING:
        return ExitCode.NO_ANSWER
    return ExitCode.FAILS if found.restart_needed and action != "off" else ExitCode.GOOD


def _stop(feed: FeedParts) -> Look | None:
    """The slot when the push is off; None when it was interrupted, which is said."""
    from direkt.work.device import push as work

    try:
        return work.stop(feed, options.SystemClock())
    except KeyboardInterrupt:
        END.taken()
        output.interrupted(work.not_stopped(feed))
        return None


def _start(feed: FeedParts, sources: Sources, server: str | None) -> Look | None:
    """The slot when the push runs, or fails to; None when it was interrupted, which is said."""
    from direkt.work.device import push as work
    from direkt.work.steps import Answer, drive

    key = feed.rig.key(feed.destination, sources)
    options.remind(feed.destination)
    standing: PushStanding | None = None

    def on_event(event: PushStanding) -> Answer:
        nonlocal standing
        standing = event
        return None

    try:
        return drive(work.start(feed, key, options.SystemClock(), server), on_event)
    except KeyboardInterrupt:
        END.taken()
        if standing is None:
            raise
        output.interrupted(standing.text)
        return None


def _document(feed: FeedParts, found: Look, left: list[UnfinishedWrite]) -> PushJson:
    return {
        "schema": "direkt.push/1", "feed": feed.name, "device": feed.device, **slot_json(found.slot),
        "carried": False, "restart_needed": found.restart_needed, "sent": None, "carrying": None, "unfinished": left,
    }  # fmt: skip


def _print(feed: FeedParts, found: Look, action: str) -> None:
    from direkt.device.state import PushState

    out, slot = output.console(), found.slot
    said = f": {slot.message}" if slot.message else ""
    sent = f", {slot.sent_bytes / 1e6:.1f} MB sent" if slot.sent_bytes else ""
    marks = {PushState.PUSHING: "[green]✓ pushing[/]", PushState.STOPPED: "– stopped"}
    mark = marks.get(slot.state, f"[yellow]! {slot.state}[/]")
    out.print(f"[bold]{escape(feed.name)}[/]  {escape(feed.device)}, slot {slot.number}, channel {escape(slot.channel)}, "
              f"to {escape(slot.server or 'nowhere')}: {mark}{escape(said)}{sent}")  # fmt: skip
    if found.restart_needed:
        unfinished.not_in_force(out, feed.device, feed.name)
    if slot.server == feed.destination.server:
        _platform_side(feed, slot, action)
    elif slot.server:
        output.note(
            f"This is a rehearsal: slot {slot.number} does not point at {feed.destination.server}. "
            f"To point it back: direkt write {feed.name}"
        )


def _platform_side(feed: FeedParts, slot: Slot, action: str) -> None:
    """What to expect of the platform now, where its sheet says so."""
    from direkt.device.state import PushState

    session = feed.sheet.session
    if action == "on" and slot.state is PushState.PUSHING:
        platform_notes(feed.sheet)
    elif action == "off" and session is not None and session.after_stop == "new key":
        output.note(f"{feed.sheet.name} wants a new key after a stop: direkt key renew.")


def platform_notes(sheet: Sheet) -> None:
    """What to expect of the platform once a push begins."""
    session = sheet.session
    if session is not None and session.shows_after_s is not None:
        span = session.shows_after_s
        output.note(
            f"{sheet.name} shows the picture {span.min:g} to {span.max:g} s after the push begins: wait that long."
        )
    if session is not None and session.opens == "by hand before the push":
        output.note(f"{sheet.name} wants the event opened by hand.")
