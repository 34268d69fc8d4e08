"""direkt catch: receive a push that somebody starts by hand, measure and judge it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output, recording, reports
from direkt.cli.catch_expected import Expected, expect, expect_feed, read_device
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import NoAnswer, UnusableInput, os_words
from direkt.protocol.schemes import PORTS, SPOKEN

if TYPE_CHECKING:
    from direkt.cli.documents.measured import CatchJson
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement
    from direkt.net.transport import Recorder
    from direkt.work.stream.reception import RefusedPeers, Rehearsal

_TRANSPORT = SPOKEN[0]


@click.command()
@click.option("--sheet", "sheet_name", metavar="NAME|FILE", help="Judge against this sheet.")
@click.option(
    "--feed", "feed_name", metavar="FEED", help="Judge against this feed's sheet, its device's settings and its key."
)
@click.option(
    "--for", "seconds", type=options.Seconds(), metavar="TIME",
    help="Stop this long after the push began; otherwise at Ctrl-C.",
)  # fmt: skip
@options.keep_option
@options.overwrite_option
@options.time_option("--wait", default=120.0, help="How long to wait for the push to begin.")
@click.option(
    "--port", type=click.IntRange(0, 65535), default=PORTS[_TRANSPORT], show_default=True,
    help="Port to listen on; 0: any free one.",
)  # fmt: skip
@click.option("--host", default=None, metavar="ADDRESS", help="Listen on this address of the machine only.")
@click.option("--tls", is_flag=True, help="Receive RTMPS, with a certificate made for this run.")
@click.option("--key", "key_ref", metavar="REF", help="The key to expect: env:NAME, file:PATH#NAME, or 'ask' to type it.")
@options.all_option
@reports.report_option
@reports.junit_option
@options.rig_option
@options.json_option
def catch(
    sheet_name: str | None, feed_name: str | None, seconds: float | None, keep: Path | None, overwrite: bool, wait: float,
    port: int, host: str | None, tls: bool, key_ref: str | None, report: Path | None, rig_path: Path | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Receive a push that you start by hand, measure it while it runs, and judge it: asked, set and sent.

    Prints the address that a device must push to, and takes one publisher with the right key. A publisher that goes and
    comes back is shown as a gap. Where Direkt can reach the device, 'direkt rehearse' does all of it by itself.
    """
    if sheet_name is not None and feed_name is not None:
        raise UnusableInput("--sheet and --feed exclude each other: a feed has its sheet")
    if feed_name is not None and key_ref is not None:
        raise UnusableInput("--key and --feed exclude each other: a feed has its key")
    expected = expect_feed(feed_name, rig_path) if feed_name is not None else expect(sheet_name, key_ref)
    run = _Run(expected, seconds, wait, tls, as_json, keep)
    try:
        return run.run(host, port, overwrite, report)
    finally:
        if expected.driver is not None:
            expected.driver.close()


class _Run:
    """One run of catch."""

    def __init__(
        self, expected: Expected, seconds: float | None, wait: float, tls: bool, as_json: bool, keep: Path | None
    ) -> None:
        from direkt.protocol.schemes import SCHEMES, secure

        self.expected, self.seconds, self.wait, self.keep, self.as_json = expected, seconds, wait, keep, as_json
        self.scheme = secure(SCHEMES[_TRANSPORT].transport, tls=tls)
        self.out = output.console(err=as_json)
        self.addresses: list[str] = []

    def run(self, host: str | None, port: int, overwrite: bool, report: Path | None) -> ExitCode:
        from direkt.cli.live import RehearsalView
        from direkt.net import certificates, routes
        from direkt.work.steps import Answer, drive
        from direkt.work.stream import catch as work
        from direkt.work.stream.reception import Reception

        names = routes.own_addresses(host)
        certificate = certificates.make([*names, "localhost"]) if self.scheme.tls else None
        recorder = self._recorder(overwrite)
        reception = Reception(
            self.scheme, self.expected.app, self.expected.key, recorder=recorder,
            tls=certificate.context if certificate else None,
        )  # fmt: skip
        view = RehearsalView(self.out, reception.rehearsal, self._judge, self.expected.sheet, self.seconds)

        def on_event(event: work.CatchEvent) -> Answer:
            if isinstance(event, work.Listening):
                self._announce(names, event.port)
                if certificate is not None:
                    self.out.print(f"[bold]certificate[/]  self-signed, SHA-256 {certificate.fingerprint}")
                view.__enter__()
            else:
                view.show(event.now, event.since, self.wait)
            return None

        job = work.catch(reception, host, port, options.SystemClock(), wait=self.wait, seconds=self.seconds)
        try:
            caught = drive(job, on_event)
        finally:
            view.__exit__(None, None, None)
        if not caught.came:
            return self._nothing_came(reception.rehearsal.refusals, caught.interrupted)
        return self._finish(reception.rehearsal, caught.interrupted, report)

    def _recorder(self, overwrite: bool) -> Recorder | None:
        from direkt.net.transport import transport

        if self.keep is None:
            return None
        try:
            return transport(self.scheme.name).recorder(self.keep, overwrite=overwrite)
        except FileExistsError as error:
            raise UnusableInput(
                f"{error.filename} already exists; choose another name, or add --overwrite"
            ) from None
        except OSError as error:
            raise UnusableInput(f"{self.keep}: cannot be written: {os_words(error)}") from None

    def _announce(self, names: list[str], port: int) -> None:
        from direkt.protocol.address import ServerAddress

        feed = self.expected.feed
        self.addresses = [str(ServerAddress(self.scheme.name, name, port, self.expected.app)) for name in names]
        for n, address in enumerate(self.addresses):
            self.out.print(f"[bold]{'push to' if n == 0 else 'or':<8}[/] {escape(address)}", soft_wrap=True)
        self.out.print(f"[bold]{'key':<8}[/] {escape(self.expected.shown_key)}")
        if feed is not None:
            command = f"direkt push on {feed.name} --rehearse {self.addresses[-1]}"
            self.out.print(f"[dim]from a second terminal: {escape(command)}[/]", soft_wrap=True)
        self.out.file.flush()

    def _judge(self, measurement: Measurement) -> Judgement:
        from direkt.judge import judge_sent

        return judge_sent(self.expected.sheet, measurement.found, self.expected.set, self.expected.source_rate, self.expected.device)

    def _nothing_came(self, refusals: dict[str, RefusedPeers], interrupted: bool) -> ExitCode:
        from direkt.cli import live

        for line in live.refusal_lines(refusals, 100):
            self.out.print(line)
        if interrupted:
            output.interrupted("nobody had pushed yet; the port is closed.")
            return ExitCode.INTERRUPTED
        raise NoAnswer(
            f"nobody pushed within {self.wait:g} s: does the device's server address read {self.addresses[0]}, with its scheme once and no "
            "other one? Is its push on, and does nothing that it records keep it from pushing?"
        )

    def _finish(self, rehearsal: Rehearsal, interrupted: bool, report: Path | None) -> ExitCode:
        from direkt.cli import judgement as judging
        from direkt.cli.received import happened, print_received

        expected = self.expected
        if expected.set is not None:
            read_device(expected)
        measurement = rehearsal.snapshot()
        judgement = self._judge(measurement)
        document = self._document(rehearsal, measurement, judgement)
        if self.as_json:
            output.print_json(document)
        else:
            print_received(
                self.out, rehearsal, measurement, judgement, expected.sheet, with_set=expected.feed is not None,
                subject=expected.feed.name if expected.feed is not None else "",
                menu=expected.feed.menu if expected.feed is not None else None,
            )  # fmt: skip
            self._print_channel()
        subject = expected.feed.name if expected.feed is not None else self.addresses[0]
        reports.save(report, document, lambda: reports.of_stream(subject, expected.sheet, measurement, judgement, happened=happened(rehearsal)))
        if expected.feed is not None:
            recording.record_judged(expected.feed, "catch", rehearsal, judgement, True, "", measurement)
        # without --for, Ctrl-C is how a catch is meant to end
        if interrupted and self.seconds is not None:
            output.interrupted("judged what had come; the port is closed, the device was not touched.")
            return ExitCode.INTERRUPTED
        return judging.exit_code(judgement)

    def _print_channel(self) -> None:
        slot, feed = self.expected.slot, self.expected.feed
        if slot is not None and feed is not None and slot.channel != feed.entry.channel:
            self.out.print(f"[yellow]! channel[/]  slot {slot.number} pushes channel {escape(slot.channel)}, "
                           f"the feed wants {escape(feed.entry.channel)}")  # fmt: skip

    def _document(self, rehearsal: Rehearsal, measurement: Measurement, judgement: Judgement) -> CatchJson:
        from direkt.cli.received import received_json

        expected = self.expected
        feed = expected.feed.name if expected.feed else None
        shared = received_json(
            rehearsal, measurement, judgement, expected.sheet, source=self.addresses[0], feed=feed, set_=expected.set,
        )  # fmt: skip
        return {"schema": "direkt.catch/1", **shared}
