"""direkt check of an address: fetch the stream that a device gives out, measure and judge it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import options, output, reports
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import NoAnswer, UnusableInput

if TYPE_CHECKING:
    from direkt.cli.documents.measured import CheckJson
    from direkt.destination.sheet import Sheet
    from direkt.device_side import DeviceSide
    from direkt.judge import Judgement
    from direkt.measure.meter import Measurement
    from direkt.parameters import Values
    from direkt.protocol.source import SourceAddress
    from direkt.secret import Secret
    from direkt.work.feeds import FeedParts
    from direkt.work.stream.fetch import Fetched
    from direkt.work.stream.reception import Rehearsal

_BEGIN_LIMIT = 30.0  # s that connecting may take in all


@dataclass(slots=True)
class _Source:
    """What is fetched, and what it is held against."""

    address: SourceAddress
    login: tuple[str, Secret] | None
    sheet: Sheet | None = None
    feed: str | None = None
    set: Values | None = None
    source_rate: float | None = None  # fps at the device's input
    device: DeviceSide | None = None  # what it says of itself
    carried: bool = False
    parts: FeedParts | None = None  # of a feed: what it was about, for the log


def check_source(
    url: str | None, sheet_name: str | None, feed_name: str | None, seconds: float, by: str, login_ref: str | None,
    report: Path | None, rig_path: Path | None, as_json: bool,
) -> ExitCode:  # fmt: skip
    """Fetches the stream at ``url``, or that of a feed, and judges it."""
    source = _of_feed(feed_name, rig_path) if url is None else _of_url(url, sheet_name, login_ref, rig_path)
    return _Run(source, seconds, by, as_json).run(report)


def _of_feed(feed_name: str | None, rig_path: Path | None) -> _Source:
    from direkt.work import feeds

    rig = options.load_rig(rig_path)
    sources = options.sources(rig)
    feed = feeds.look_up(rig, feed_name, sources)
    try:
        state = feed.driver.read()
        channel = feed.channel(state)
        address = feeds.source_of(feed, channel)
        rate = state.input.frame_rate if state.input is not None else None
        login = rig.login(rig.file.devices[feed.device], sources)
        return _Source(address, login, feed.sheet, feed.name, channel.full, rate, feed.side(state, channel), feed.entry.carry, feed)
    finally:
        feed.driver.close()


def _of_url(url: str, sheet_name: str | None, login_ref: str | None, rig_path: Path | None) -> _Source:
    from direkt.destination import library, references
    from direkt.protocol import source

    address, login = source.parse(url)
    sheet = library.load(sheet_name) if sheet_name is not None else None
    if login_ref is not None:
        if login is not None:
            raise UnusableInput("the address holds a login already: leave out --login, or the login in the address")
        login = references.login_of(options.given_secret(login_ref, "--login", "user:password"), "--login")
    return _Source(address, login or _known_login(address, rig_path), sheet)


def _known_login(address: SourceAddress, rig_path: Path | None) -> tuple[str, Secret] | None:
    """The login of the rig's device at this address, where there is a rig and one such device."""
    from urllib.parse import urlsplit

    from direkt.rig import file as rig

    if rig_path is None and not Path(rig.FILE_NAME).exists():
        return None
    loaded = options.load_rig(rig_path)
    here = [entry for entry in loaded.file.devices.values() if urlsplit(entry.address).hostname == address.host]
    logins = {entry.login for entry in here}
    return loaded.login(here[0], options.sources(loaded)) if len(logins) == 1 else None


class _Run:
    """One run."""

    def __init__(self, source: _Source, seconds: float, by: str, as_json: bool) -> None:
        self.source, self.seconds, self.by, self.as_json = source, seconds, by, as_json
        self.out = output.console(err=as_json)

    def run(self, report: Path | None) -> ExitCode:
        from direkt.cli.live import RehearsalView, StateWords
        from direkt.work.steps import Answer, drive
        from direkt.work.stream import fetch as work
        from direkt.work.stream.catch import CatchTick

        self.out.print(f"[bold]fetching[/] {escape(self.source.address)}", soft_wrap=True)
        fetching = work.Fetch(self.source.address, self.source.login, by=self.by)
        words = StateWords("waiting for the stream", "nothing comes")
        view = RehearsalView(self.out, fetching.rehearsal, self._judge, self.source.sheet, self.seconds, words)

        def on_event(event: CatchTick) -> Answer:
            view.show(event.now, event.since, _BEGIN_LIMIT)
            return None

        with view, fetching:
            fetched = drive(work.fetch(fetching, options.SystemClock(), seconds=self.seconds), on_event)
        return self._finish(fetching.rehearsal, fetched, report)

    def _judge(self, measurement: Measurement) -> Judgement:
        from direkt.judge import judge_sent

        # how it is fetched is not how it will be pushed
        found = {name: value for name, value in measurement.found.items() if name != "stream.protocol"}
        sheet = self.source.sheet
        if sheet is not None and self.source.carried and _is_replaced(measurement):
            sheet = sheet.without_sound()
        return judge_sent(sheet, found, self.source.set, self.source.source_rate, self.source.device)

    def _finish(self, rehearsal: Rehearsal, fetched: Fetched, report: Path | None) -> ExitCode:
        from direkt.cli import judgement as judging
        from direkt.cli.received import happened, print_received

        measurement = rehearsal.snapshot()
        if not measurement.found:
            if fetched.interrupted:
                output.interrupted("nothing had come yet.")
                return ExitCode.INTERRUPTED
            raise NoAnswer(fetched.failure or f"{self.source.address.place}: nothing came that could be measured")
        judgement = self._judge(measurement)
        document = self._document(measurement, judgement, fetched)
        if self.as_json:
            output.print_json(document)
        else:
            with_set = self.source.set is not None
            print_received(self.out, rehearsal, measurement, judgement, self.source.sheet, with_set=with_set, subject=self.source.feed or self.source.address.place,
                menu=self.source.parts.menu if self.source.parts is not None else None)
            if self.source.sheet is None:
                output.note("Not judged: name a sheet with --sheet (direkt sheet list shows them).")
        subject = self.source.feed or self.source.address.place
        reports.save(report, document, lambda: reports.of_stream(
            subject, self.source.sheet, measurement, judgement, happened=happened(rehearsal), menu=self.source.parts.menu if self.source.parts is not None else None,
        ))  # fmt: skip
        if self.source.parts is not None:
            from direkt.cli import recording

            recording.record_judged(self.source.parts, "check", rehearsal, judgement, True, "", measurement)
        if measurement.odd_codec is not None:
            output.note(f"the video is {measurement.odd_codec}; of it only times and bytes were measured")
        if self.source.carried and not self.as_json:
            output.note("This feed is carried: " + (
                "its sound is made on the way, and was not judged here; direkt rehearse judges it."
                if _is_replaced(measurement) else "this machine fetches it, and pushes it on."
            ))  # fmt: skip
        if fetched.interrupted:
            output.interrupted("judged what had come; the device was not touched.")
            return ExitCode.INTERRUPTED
        if fetched.failure:
            output.error(f"{fetched.failure}; it came for {rehearsal.meter.seconds:.1f} of {self.seconds:g} s")
            return ExitCode.NO_ANSWER
        return judging.exit_code(judgement)

    def _document(self, measurement: Measurement, judgement: Judgement, fetched: Fetched) -> CheckJson:
        from direkt.cli import judgement as judging
        from direkt.cli import measurement as measuring

        source = self.source
        findings, verdict = judging.findings_json(judgement, source.sheet)
        return {
            "schema": "direkt.check/1", "source": str(source.address), "sheet": source.sheet.id if source.sheet else None,
            "feed": source.feed, "set": source.set, "ended": fetched.failure or None,
            **measuring.measurement_json(measurement), "findings": findings, "verdict": verdict,
        }  # fmt: skip


def _is_replaced(measurement: Measurement) -> bool:
    """Whether a feed that is carried gets other sound than this on the way: there is none, or it is coded anew."""
    from direkt.work.stream.sound import TAKEN

    values = measurement.values
    return values.get("audio.present") == "no" or values.get("audio.codec") in TAKEN
