"""direkt go --rehearse: the same order against Direkt's own receiver and a simulated event; then everything is put back."""

from __future__ import annotations

import contextlib
import secrets
import time
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from direkt.cli import crew as crews
from direkt.cli import output
from direkt.cli.exits import ExitCode
from direkt.cli.go_front import Front, time_sheet
from direkt.cli.output import escape
from direkt.errors import DirektError, NoAnswer, UnusableInput, os_words

if TYPE_CHECKING:
    from direkt.destination.keystore import Binding
    from direkt.destination.references import Store
    from direkt.platform.library import Means
    from direkt.platform.planned import Planned
    from direkt.rig.file import Rig
    from direkt.sim.tarnlight import Tarnlight
    from direkt.work.feeds import FeedParts
    from direkt.work.live.event_at_platforms import Airing
    from direkt.work.live.go_types import Crew, Options
    from direkt.work.stream.rehearse import Former

_PLATFORM = "practice"
_MARK = "practice-"  # in front of names in the store of this practice
_DELAYS = {"usual": 6.0, "short": 3.0, "shortest": 2.0}  # s that viewers of a practice are behind


@dataclass(slots=True)
class _Store:
    """Keys of the practice in memory; all else is the person's own store's."""

    own: Store
    kept: dict[str, str]

    def get(self, name: str) -> str | None:
        """The key called ``name``."""
        return self.kept.get(name) if name.startswith(_MARK) else self.own.get(name)

    def bound(self, name: str) -> tuple[Binding, ...]:
        """The rigs that it was kept for."""
        return () if name.startswith(_MARK) else self.own.bound(name)

    def put(self, name: str, key: str, by: Binding) -> object:
        """Keeps a key of the practice."""
        self.kept[name] = key
        return None

    def forget(self, name: str, by: Binding) -> bool:
        """Drops one."""
        return self.kept.pop(name, None) is not None


def practise(rig: Rig, planned: Planned, how: Options, *, yes: bool, report: Path | None, as_json: bool) -> ExitCode:
    """The whole practice; the exit code."""
    from direkt.platform import planned as planning
    from direkt.sim.tarnlight import Tarnlight

    real = crews.crew(rig)
    token = f"practice-{secrets.token_hex(12)}"
    named = replace(planned, name=f"{planned.name} (practice)")
    platform = Tarnlight(token, host=_host(rig, planned), delays=_DELAYS, strict=False)
    try:
        platform.start()
    except OSError as error:
        raise NoAnswer(f"the practice's receiver cannot be opened: {os_words(error)}") from None
    sheets = {planning.event_id(rig, named, a.destination): a.sheet for a in _real(rig, named, real)}
    platform.sheet_of = sheets.get
    own = real.means.sources.store
    assert own is not None
    store = _Store(own, {f"{_MARK}token": token})
    means = replace(real.means, sources=replace(real.means.sources, store=store), tokens=store)
    copy = _copy(rig, planned, platform)
    carrier = _Carrier(copy, means)
    crew = replace(real, means=means, launch=carrier.launch)
    front = Front(copy, named, yes=yes, as_json=as_json, practice=True)
    formers = _formers(rig, planned, real)
    try:
        gone = front.drive(crew, replace(how, practice=True, rehearsal=False))
        code = _after(front, copy, named, crew, carrier)
    finally:
        left = _put_back(rig, formers, real, front)
        platform.stop()
        _forget(copy, named)
    if not as_json:
        time_sheet(front.out, gone)
    document = front.document
    document["on_air"], document["failed"], document["failure"] = (
        gone.on_air,
        int(gone.failed) if gone.failed else None,
        gone.failure or None,
    )
    document["interrupted"], document["left_on"] = gone.interrupted, left
    if as_json:
        output.print_json(document)
    output.save_report(report, document)
    if left:
        output.error("; ".join(left))
        return ExitCode.NO_ANSWER
    if gone.interrupted:
        output.interrupted("the practice is over; everything is back to how it was")
        return ExitCode.INTERRUPTED
    if gone.failed is not None:
        output.error(f"the practice stopped at step {gone.failed:d}: {gone.failure}")
        return ExitCode.FAILS
    return code


def _real(rig: Rig, planned: Planned, crew: Crew) -> list[Airing]:
    """The event at its real destinations, whose sheets the practice judges by; nothing is sent there."""
    from direkt.work.live import event_at_platforms

    found = event_at_platforms.gather(rig, planned, crew.means)
    event_at_platforms.close(found)
    return found


def _host(rig: Rig, planned: Planned) -> str:
    """This machine's address towards the event's devices. Raises UnusableInput and NoAnswer."""
    from direkt.net import routes

    found = set()
    for name in planned.entry.feeds:
        entry = rig.file.feeds[name]
        host = urlsplit(rig.file.devices[entry.device].address).hostname
        if host and not entry.carry:
            try:
                found.add(routes.address_towards(host))
            except OSError as error:
                raise NoAnswer(f"there is no way from here to {entry.device} at {host}: {os_words(error)}") from None
    if len(found) > 1:
        raise UnusableInput("the event's devices are in different networks: practise with the feeds of one of them")
    return found.pop() if found else "127.0.0.1"


def _copy(rig: Rig, planned: Planned, platform: Tarnlight) -> Rig:
    """The rig with the practice's platform in the place of all real ones."""
    from direkt.rig.events import PlatformEntry

    destinations = dict(rig.file.destinations)
    for name in {rig.file.feeds[feed].destination for feed in planned.entry.feeds}:
        given = {
            "server": platform.ingest_address("primary"), "backup": platform.ingest_address("backup"), "platform": _PLATFORM,
            "key": f"store:{_MARK}{name}",
        }  # fmt: skip
        destinations[name] = destinations[name].model_copy(update=given)
    entry = PlatformEntry(address=platform.address, token=f"store:{_MARK}token")
    file = rig.file.model_copy(update={"destinations": destinations, "platforms": {_PLATFORM: entry}})
    return replace(rig, file=file)


class _Carrier:
    """Carries feeds in this process, since the practice's keys are nobody else's."""

    def __init__(self, rig: Rig, means: Means) -> None:
        self.rig, self.means = rig, means
        self.running: list[contextlib.ExitStack] = []

    def launch(self, feed: str) -> None:
        """Begins to carry; stop() ends it."""
        import threading

        from direkt.cli import options
        from direkt.work import feeds
        from direkt.work.steps import drive
        from direkt.work.stream import carry

        parts = feeds.look_up(self.rig, feed, self.means.sources)
        _, _, source = carry.read(parts)
        key = self.rig.key(parts.destination, self.means.sources)
        work = carry.carrying(parts, source, self.means.sources, key, parts.destination.server)
        over = threading.Event()

        def on_event(_: object) -> None:
            if over.is_set():
                raise KeyboardInterrupt

        def run() -> None:
            with contextlib.suppress(DirektError):
                drive(
                    carry.carry(
                        parts,
                        work,
                        (str(source), parts.destination.server),
                        len(key),
                        options.SystemClock(),
                        seconds=None,
                    ),
                    on_event,
                )

        thread = threading.Thread(target=run, daemon=True)
        thread.start()
        stack = contextlib.ExitStack()
        stack.callback(parts.driver.close)
        stack.callback(thread.join, 10)
        stack.callback(over.set)
        self.running.append(stack)

    def stop(self) -> None:
        """Ends what was begun."""
        for stack in self.running:
            stack.close()
        self.running = []


def _formers(rig: Rig, planned: Planned, crew: Crew) -> dict[str, tuple[FeedParts, Former]]:
    """What the devices' push slots hold before the practice. Raises DirektError where that could not be put back."""
    from direkt.work import feeds
    from direkt.work.live import checks
    from direkt.work.stream import rehearse

    out: dict[str, tuple[FeedParts, Former]] = {}
    try:
        for name in planned.entry.feeds:
            parts = feeds.look_up(rig, name, crew.means.sources)
            if parts.entry.carry or checks.by_hand(parts):
                parts.driver.close()
                continue
            try:
                slot = parts.slot(parts.driver.read())
                out[name] = (parts, rehearse.former_of(parts, slot, crew.means.sources, False))
            except rehearse.CannotPutBack as error:
                parts.driver.close()
                raise UnusableInput(f"{error.what}: fill it first with: direkt write {name}") from None
            except DirektError:
                parts.driver.close()
                raise
    except DirektError:
        for parts, _ in out.values():
            parts.driver.close()
        raise
    return out


def _after(front: Front, rig: Rig, planned: Planned, crew: Crew, carrier: _Carrier) -> ExitCode:
    """The end is practised too."""
    from direkt.cli.stop import marked
    from direkt.work.live import end, end_findings
    from direkt.work.steps import drive

    front.out.print("\n[bold]The end[/]")
    carrier.stop()
    aim = end.Aim(tuple(planned.entry.feeds), (planned,))

    def on_event(event: end_findings.EndEvent) -> bool | None:
        if isinstance(event, end_findings.Off):
            output.print_lines(front.out, [(f"   {marked(event)}", f"[bold]{escape(event.name)}[/]  {escape(event.text)}")])
        return True

    begin = time.monotonic()
    stopped = drive(end.stop(rig, aim, crew), on_event)
    front.document["steps"].append(
        {"step": 8, "title": "the end", "seconds": round(time.monotonic() - begin, 1), "good": stopped.proven}
    )
    return ExitCode.GOOD if stopped.proven else ExitCode.NO_ANSWER


def _put_back(rig: Rig, formers: dict[str, tuple[FeedParts, Former]], crew: Crew, front: Front) -> list[str]:
    """Every slot as it was; what is not, in words."""
    from direkt.work.stream import rehearse

    left = []
    for name, (parts, former) in formers.items():
        try:
            found = rehearse.put_slot_back(parts, former)
            if not found.proven:
                left.append(f"{name}: {parts.device} is not as it was: {found.detail}; direkt write {name}")
        finally:
            parts.driver.close()
    if formers and not left:
        front.out.print(
            f"   [green]✓[/] {escape(', '.join(p.device for p, _ in formers.values()))}: the push slots are as they were"
        )
    return left


def _forget(rig: Rig, planned: Planned) -> None:
    from direkt.store import event_memory

    with contextlib.suppress(DirektError):
        event_memory.forget(rig.folder, planned.name, planned.mark)
