"""direkt rehearse: push from a feed's device to here, measure and judge it, and leave the device as it was."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, recording, reports, unfinished
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.measured import RehearseJson
    from direkt.cli.live import RehearsalView
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement
    from direkt.work.device.unfinished import UnfinishedWrite
    from direkt.work.feeds import FeedParts
    from direkt.work.steps import Answer
    from direkt.work.stream.rehearse import Rehearsed, RehearseEvent

_SECONDS = 30.0


@click.command()
@click.argument("feed", required=False)
@options.time_option("--for", "seconds", default=_SECONDS, help="How long to receive the push.")
@options.keep_option
@options.overwrite_option
@click.option("--tls", is_flag=True, help="Receive RTMPS, with a certificate made for this run.")
@click.option("--port", type=click.IntRange(0, 65535), default=0, help="Port to receive on [default: any free one].")
@click.option(
    "--replace", is_flag=True,
    help="Take the push slot even if what it holds cannot be put back; it then gets the destination's address and key.",
)  # fmt: skip
@options.all_option
@reports.report_option
@reports.junit_option
@options.rig_option
@options.json_option
def rehearse(
    feed: str | None, seconds: float, keep: Path | None, overwrite: bool, tls: bool, port: int, replace: bool,
    report: Path | None, rig_path: Path | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Rehearse FEED: its device pushes to this machine, and what arrives is measured and judged.

    Opens a receiver where the device can reach it, points the device's push slot at it, starts the push, measures it,
    stops it, points the slot back, and reads the slot to prove that it is back. Ctrl-C at any moment does the same. The
    destination's key is not used: the rehearsal has one of its own. Of a feed that is carried, the device's stream is fetched
    and pushed to this machine by itself.
    """
    from direkt.work import feeds

    rig = options.load_rig(rig_path)
    sources = options.sources(rig)
    left = unfinished.tell(rig, feed=feed)
    parts = feeds.look_up(rig, feed, sources)
    try:
        return _Run(parts, seconds, keep, report, as_json, left).run(tls, port, overwrite, replace)
    finally:
        parts.driver.close()


class _Run:
    """One run of rehearse."""

    def __init__(
        self, feed: FeedParts, seconds: float, keep: Path | None, report: Path | None, as_json: bool,
        left: list[UnfinishedWrite],
    ) -> None:  # fmt: skip
        self.left = left
        self.feed, self.seconds, self.keep, self.report, self.as_json = feed, seconds, keep, report, as_json
        self.out: Console = output.console(err=as_json)
        self.view: RehearsalView | None = None

    def run(self, tls: bool, port: int, overwrite: bool, replace: bool) -> ExitCode:
        from direkt.work.steps import drive
        from direkt.work.stream import rehearse as work

        feed, sources, clock = self.feed, options.sources(self.feed.rig), options.SystemClock()
        if feed.entry.carry:
            job = work.rehearse_carried(
                feed, sources, clock, seconds=self.seconds, tls=tls, port=port, keep=self.keep, overwrite=overwrite
            )
        else:
            job = work.rehearse(
                feed,
                sources,
                clock,
                seconds=self.seconds,
                tls=tls,
                port=port,
                keep=self.keep,
                overwrite=overwrite,
                replace=replace,
            )
        recording.begin(self.feed.rig, "rehearse", f"{self.feed.device} pushes to this machine", feed=self.feed.name)
        try:
            done = drive(job, self._on_event)
        finally:
            with contextlib.suppress(OSError):
                self._end_view()
        try:
            return self._finish(done)
        except BrokenPipeError:
            self.out = output.console(err=True)
            self._print_put_back(done)
            raise

    def _on_event(self, event: RehearseEvent) -> Answer:
        from direkt.work.stream.catch import CatchTick
        from direkt.work.stream.rehearse import START_LIMIT, Phase, Receiving

        if isinstance(event, Receiving):
            from direkt.cli.live import RehearsalView

            self.view = RehearsalView(self.out, event.rehearsal, self._judge, self.feed.sheet, self.seconds)
        elif isinstance(event, CatchTick):
            assert self.view is not None
            self.view.show(event.now, event.since, START_LIMIT)
        else:
            self._end_view()
            device, where = escape(self.feed.device), escape(event.server or "nothing, as before")
            words = {
                Phase.OPEN: f"receiving at [bold]{where}[/]", Phase.POINT: f"pointing {device} at it",
                Phase.START: f"carrying the stream of {device}" if self.feed.entry.carry else f"starting the push of {device}", Phase.STOP: f"stopping the push of {device}",
                Phase.BACK: f"pointing {device} back at {where}",
            }  # fmt: skip
            self.out.print(words[event.phase], soft_wrap=True)
            if event.phase is Phase.START and self.view is not None:
                self.view.__enter__()
        return None

    def _end_view(self) -> None:
        if self.view is not None:
            self.view.__exit__(None, None, None)

    def _judge(self, measurement: Measurement) -> Judgement:
        from direkt.judge import judge_sent

        return judge_sent(self.feed.sheet, measurement.found)

    def _finish(self, done: Rehearsed) -> ExitCode:
        from direkt.cli import judgement as judging
        from direkt.cli.received import happened, print_received
        from direkt.work.stream import carry

        rehearsal = done.reception.rehearsal
        measurement = rehearsal.snapshot()
        judgement = carry.judge(self.feed, measurement, done.set, done.source_rate, silent=done.silent, device=done.device)
        came = rehearsal.first is not None
        document = self._document(done, measurement, judgement)
        if self.as_json:
            output.print_json(document)
        elif came:
            print_received(self.out, rehearsal, measurement, judgement, self.feed.sheet, with_set=True, subject=self.feed.name, menu=self.feed.menu)
        if done.restart_needed and not self.as_json:
            unfinished.not_in_force(self.out, self.feed.device, self.feed.name)
        self._print_put_back(done)
        reports.save(self.report, document, lambda: reports.of_stream(
            self.feed.name, self.feed.sheet, measurement, judgement, device=self.feed.device, happened=happened(rehearsal), menu=self.feed.menu,
            failure="" if came else done.failure or "nothing came"
        ))  # fmt: skip
        if not done.interrupted:
            waits = f"{self.feed.device} needs a restart" if done.restart_needed else ""
            recording.record_judged(self.feed, "rehearse", rehearsal, judgement, came, done.failure or waits, measurement)
        if done.failure:
            output.error(done.failure)
        if done.interrupted:
            output.interrupted("the rehearsal was ended early.")
            return ExitCode.INTERRUPTED
        if done.failure or not done.put_back.proven:
            return ExitCode.NO_ANSWER
        return ExitCode.FAILS if done.restart_needed else judging.exit_code(judgement)

    def _print_put_back(self, done: Rehearsed) -> None:
        back, device = done.put_back, self.feed.device
        if done.carried:
            self.out.print(f"[green]✓ untouched[/]  {escape(device)} was only asked for its stream")
        elif back.proven:
            where = back.server or "no address, as before"
            detail = f" ({escape(back.detail)})" if back.detail else ""
            self.out.print(
                f"[green]✓ put back[/]  {escape(device)} does not push; its slot holds {escape(where)}{detail}"
            )
        else:
            self.out.print(
                f"[bold red]✗ not put back[/]  {escape(device)}: {escape(back.detail)}; look at it, then: "
                f"direkt push off {escape(self.feed.name)}; direkt write {escape(self.feed.name)}"
            )

    def _document(self, done: Rehearsed, measurement: Measurement, judgement: Judgement) -> RehearseJson:
        from direkt.cli.received import received_json

        shared = received_json(
            done.reception.rehearsal, measurement, judgement, self.feed.sheet, source=done.address, feed=self.feed.name,
            set_=done.set,
        )  # fmt: skip
        return {
            "schema": "direkt.rehearse/1", **shared, "failure": done.failure or None,
            "put_back": done.put_back,
            "restart_needed": done.restart_needed, "unfinished": self.left,
        }  # fmt: skip
