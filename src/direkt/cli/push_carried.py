"""direkt push of a feed that this machine carries: it runs here until Ctrl-C."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import options, output, recording
from direkt.cli.exits import ExitCode
from direkt.cli.output import clock, escape

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.measured import CarryingJson, PushJson
    from direkt.cli.live import RehearsalView
    from direkt.destination.references import Sources
    from direkt.device.state import Channel, DeviceState
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement
    from direkt.store.carried import CarriedFeed
    from direkt.work.device.unfinished import UnfinishedWrite
    from direkt.work.feeds import FeedParts
    from direkt.work.steps import Answer
    from direkt.work.stream.carrier import CarrierState, Carrying
    from direkt.work.stream.carry import CarryResult
    from direkt.work.stream.catch import CatchTick

_WAIT = 30.0  # s after which it is said that it takes long
_USUAL = ("coming", "pushing", "waiting for the camera")  # states that are no news
_WORDS = ("waiting for camera and platform", "the push is interrupted")


def look(feed: FeedParts, left: list[UnfinishedWrite], *, as_json: bool) -> ExitCode:
    """How it stands."""
    from direkt.work.stream import carry as work

    found = work.running(feed)
    if as_json:
        output.print_json(_document(feed, found, left))
    else:
        _print(feed, found)
    return ExitCode.GOOD


def stop(feed: FeedParts, left: list[UnfinishedWrite], *, as_json: bool) -> ExitCode:
    """Ends the process that carries it."""
    from direkt.work.stream import carry as work

    found = work.end(feed, options.SystemClock())
    if as_json:
        output.print_json(_document(feed, None, left))
    elif found is None:
        output.console().print(f"[bold]{escape(feed.name)}[/]  – stopped: no process on this machine carries it")
    else:
        output.console().print(
            f"[bold]{escape(feed.name)}[/]  – stopped: process {found.process} has ended the push to {escape(found.server)}, "
            f"{found.sent / 1e6:.1f} MB sent"
        )
    return ExitCode.GOOD


def start(
    feed: FeedParts, sources: Sources, server: str | None, seconds: float | None, by: str, report: Path | None,
    left: list[UnfinishedWrite], *, keep_damaged: bool, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Carries it until Ctrl-C, or for some time; then says what was sent, and judges it."""
    from direkt.work.stream import carry as work

    if work.running(feed) is not None:
        raise work.refuse_twice(feed)
    key = feed.rig.key(feed.destination, sources)
    options.remind(feed.destination)
    state, channel, source = work.read(feed)
    target = server or feed.destination.server
    carrying = work.carrying(feed, source, sources, key, target, by=by, channel=channel, keep_damaged=keep_damaged)
    return _Run(feed, carrying, state, channel, wished=server is None, as_json=as_json).run(
        (str(source), target), len(key), seconds, report, left
    )


class _Run:
    """One run."""

    def __init__(
        self, feed: FeedParts, carrying: Carrying, state: DeviceState | None, channel: Channel | None, *, wished: bool,
        as_json: bool,
    ) -> None:  # fmt: skip
        self.feed, self.carrying, self.wished, self.as_json = feed, carrying, wished, as_json
        self.set = channel.full if channel is not None else None
        self.source_rate = state.input.frame_rate if state is not None and state.input is not None else None
        self.out: Console = output.console(err=as_json)
        self.told: dict[str, str] = {}  # of each side, what it was last

    def run(
        self,
        ends: tuple[str, str],
        key_length: int,
        seconds: float | None,
        report: Path | None,
        left: list[UnfinishedWrite],
    ) -> ExitCode:
        from direkt.cli.live import RehearsalView, StateWords
        from direkt.work.steps import drive
        from direkt.work.stream import carry as work

        feed = self.feed
        self.out.print(f"[bold]{escape(feed.name)}[/]  carried from {escape(ends[0])}", soft_wrap=True)
        self.out.print(f"        to {escape(ends[1])}; Ctrl-C ends it", soft_wrap=True)
        view = RehearsalView(
            self.out,
            self.carrying.rehearsal,
            self._judge,
            feed.sheet,
            seconds,
            StateWords(*_WORDS, "sending to", self._status),
        )

        def on_event(event: CatchTick) -> Answer:
            self._tell(event, view)
            view.show(event.now, event.since, _WAIT)
            return None

        with view:
            done = drive(
                work.carry(
                    feed, self.carrying, ends, key_length, options.SystemClock(), seconds=seconds, wished=self.wished
                ), on_event,
            )  # fmt: skip
        return self._finish(done, ends, seconds, report, left)

    def _status(self) -> str:
        state = self.carrying.state
        return (
            ""
            if state.source == "coming"
            else "the camera is gone, the push is held"
            if state.pushing
            else "the camera is gone"
        )

    def _tell(self, event: CatchTick, view: RehearsalView) -> None:
        """What changed on either side, a line each; what stands between two tries is no news."""
        state = self.carrying.state
        for side, new in (("camera", state.source), ("platform", state.push)):
            old = self.told.get(side, "")
            if new == "connecting" or new == old:
                continue
            self.told[side] = new
            if new not in _USUAL:
                view.tell(f"{clock(event.since)}  {side}: {new}")
            elif old not in ("", *_USUAL) and new in _USUAL[:2]:
                view.tell(f"{clock(event.since)}  {side}: it is back")

    def _judge(self, measurement: Measurement) -> Judgement:
        from direkt.work.stream import carry as work

        return work.judge(self.feed, measurement, self.set, self.source_rate, silent=self.carrying.state.silent)

    def _finish(
        self,
        done: CarryResult,
        ends: tuple[str, str],
        seconds: float | None,
        report: Path | None,
        left: list[UnfinishedWrite],
    ) -> ExitCode:
        from direkt.cli import judgement as judging
        from direkt.cli.received import print_received, received_json

        rehearsal, state = self.carrying.rehearsal, done.state
        measurement = rehearsal.snapshot()
        judgement = self._judge(measurement)
        sent = received_json(
            rehearsal, measurement, judgement, self.feed.sheet, source=ends[1], feed=self.feed.name, set_=self.set
        )
        document = {**_document(self.feed, None, left), "sent": sent, "carrying": _carrying(state)}
        came = rehearsal.first is not None
        if self.as_json:
            output.print_json(document)
        elif came:
            print_received(
                self.out, rehearsal, measurement, judgement, self.feed.sheet, with_set=self.set is not None, word="carried",
                subject=self.feed.name, menu=self.feed.menu,
            )  # fmt: skip
            self._print_extras(done)
        output.save_report(report, document)
        recording.record_judged(self.feed, "push", rehearsal, judgement, came, state.fatal, measurement)
        if state.fatal:
            output.error(state.fatal)
            return ExitCode.NO_ANSWER
        if not came:
            output.error(f"nothing was carried: camera: {state.source}; platform: {state.push}")
            return ExitCode.INTERRUPTED if done.interrupted else ExitCode.NO_ANSWER
        if done.interrupted and seconds is not None:
            output.interrupted("the push was ended in good order; judged what had been sent.")
            return ExitCode.INTERRUPTED
        return judging.exit_code(judgement)

    def _print_extras(self, done: CarryResult) -> None:
        state = done.state
        if state.silent:
            self.out.print("[yellow]! sound[/]  silence was added: the camera has no sound that can be pushed")
        if state.coded:
            self.out.print(f"– sound: {escape(state.coded)} of the camera was coded to AAC on this machine")
        if state.damaged:
            more = f", and {state.behind} pictures behind them were left out, up to the next keyframe" if state.behind else ""
            self.out.print(
                f"[yellow]! line to the camera[/]  {state.damaged} pictures or frames of sound were lost or damaged on their way here{more}"
            )
        if state.left_out:
            self.out.print(
                f"[yellow]! line[/]  {state.left_out} pictures were left out: the line did not keep up; lower the bitrate"
            )
        self.out.print(
            f"– the push is ended: {state.sent / 1e6:.1f} MB in {state.pushes} connection{'s' if state.pushes != 1 else ''}"
        )


def _carrying(state: CarrierState) -> CarryingJson:
    return {
        "connections": state.pushes, "fetches": state.fetches, "left_out": state.left_out, "damaged": state.damaged,
        "behind_damaged": state.behind, "silence_added": state.silent, "sound_coded_from": state.coded or None,
    }  # fmt: skip


def _document(feed: FeedParts, found: CarriedFeed | None, left: list[UnfinishedWrite]) -> PushJson:
    from direkt.cli.read import slot_json
    from direkt.work.stream.carry import slot_of

    return {
        "schema": "direkt.push/1", "feed": feed.name, "device": feed.device, **slot_json(slot_of(feed, found)),
        "carried": True, "restart_needed": False, "sent": None, "carrying": None, "unfinished": left,
    }  # fmt: skip


def _print(feed: FeedParts, found: CarriedFeed | None) -> None:
    out = output.console()
    if found is None:
        out.print(
            f"[bold]{escape(feed.name)}[/]  {escape(feed.device)}, channel {escape(feed.entry.channel)}, to "
            f"{escape(feed.destination.server)}: – stopped; no process on this machine carries it"
        )
        return
    mark = "[green]✓ pushing[/]" if found.pushing else "[yellow]! not pushing[/]"
    out.print(
        f"[bold]{escape(feed.name)}[/]  {escape(feed.device)}, carried from {escape(found.source)} to {escape(found.server)} by process "
        f"{found.process}: {mark}, {found.sent / 1e6:.1f} MB sent", soft_wrap=True,
    )  # fmt: skip
    for side, words in (("camera", found.coming), ("platform", found.push)):
        if words not in ("coming", "pushing"):
            out.print(f"  {side}: {escape(words)}")
