"""A signal while it is sent: what is shown, asked and judged."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import options, output, recording
from direkt.cli.exits import ExitCode
from direkt.cli.output import clock, escape
from direkt.errors import DirektError, UnusableInput

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.measured import SignalJson
    from direkt.destination.sheet import Sheet
    from direkt.judge import Judgement
    from direkt.platform.event import Input
    from direkt.rig.file import Rig
    from direkt.work.live.signal_event import SignalTarget
    from direkt.work.steps import Answer
    from direkt.work.stream.signal import ClimbStep, LineCarried, Settings, SignalEvent, Signalling, SignalResult

_LOOK_EVERY = 2.0  # s between questions to the platform
_LATE_AFTER = 5.0  # s of a signal from where on it is said that the line does not keep up
_LINE_EVERY = 5.0  # s between lines in a pipe


class SignalRun:
    def __init__(self, rig: Rig, destination: str, sheet: Sheet, *, as_json: bool) -> None:
        from direkt.cli import crew

        self.rig, self.destination, self.sheet, self.as_json = rig, destination, sheet, as_json
        self.out: Console = output.console(err=as_json)
        self.means = crew.means(rig)
        self.seen: Input | None = None
        self.trouble = ""
        self.shown_after: float | None = None
        self.asked = self.said = -100.0
        self.line = False

    def place(self, rehearse: str | None, *, backup: bool, on_air: bool) -> SignalTarget:
        """Where it goes. Raises DirektError."""
        from direkt.protocol import address
        from direkt.work.live import signal_event

        if rehearse is None:
            return signal_event.place(self.rig, self.destination, self.means, backup=backup, on_air=on_air)
        key = self.rig.key(self.rig.destination(self.destination), self.means.sources)
        if key.reveal() in rehearse:
            raise UnusableInput("the address holds the stream key: give it without")
        return signal_event.SignalTarget(address.parse(rehearse), key, "a receiver, not the platform")

    def agreed(self, question: str, *, yes: bool) -> bool:
        from direkt.cli.crew import PersonAsker

        return PersonAsker(yes).ask(question, False)

    def drive(self, work: Signalling, place: SignalTarget, seconds: float | None, most: float | None) -> SignalResult:
        from direkt.work.steps import drive
        from direkt.work.stream import signal

        self.out.print(
            f"[bold]Test signal to {escape(self.sheet.name)}[/] ({escape(self.destination)}): {escape(place.server)}",
            soft_wrap=True,
        )
        self.out.print(f"   {escape(_words(work.settings))}", soft_wrap=True)
        self.out.print(f"   it goes to {escape(place.words)}", soft_wrap=True)

        def on_event(event: SignalEvent) -> Answer:
            if isinstance(event, signal.ClimbStep):
                self._end_line()
                self._step(event)
            else:
                self._look(place, event.since)
                self._tick(work, event)
            return None

        recording.begin(self.rig, "signal", f"a test signal to {self.destination}")
        try:
            return drive(signal.send(work, options.SystemClock(), seconds=seconds, climb=most), on_event)
        finally:
            self._end_line()

    def _look(self, place: SignalTarget, since: float) -> None:
        """What the platform sees, asked every other second."""
        if since - self.asked < _LOOK_EVERY:
            return
        self.asked = since
        try:
            seen = place.seen()
            self.trouble = ""
        except DirektError as error:
            self.trouble = str(error)
            return
        if seen is not None:
            self.seen = next((one for one in seen.inputs if one.arriving), None)
            if self.seen is not None and self.seen.shown and self.shown_after is None:
                self.shown_after = since

    def _tick(self, work: Signalling, event: object) -> None:
        from direkt.work.stream.signal import SignalTick

        assert isinstance(event, SignalTick)
        text = f"{clock(event.since)}  {self._state(work)}"
        if event.last is not None:
            text += f"; {_line(event.last)}"
        if self.out.is_terminal:
            self.out.file.write("\r\x1b[2K" + text[: max(20, self.out.width - 1)])
            self.out.file.flush()
            self.line = True
        elif event.since - self.said >= _LINE_EVERY:
            self.said = event.since
            self.out.print(f"   {escape(text)}", soft_wrap=True)
            self.out.file.flush()

    def _state(self, work: Signalling) -> str:
        if not work.pushing:
            return "connecting"
        if self.trouble:
            return f"pushing; {self.sheet.name} reports nothing"
        if self.seen is not None:
            return f"pushing; {self.sheet.name} {'shows it' if self.seen.shown else 'has it'}"
        return "pushing"

    def _step(self, step: ClimbStep) -> None:
        mark = "[green]✓ holds[/]" if step.held else "[bold red]✗ does not hold[/]"
        found = f"; {_line(step.carried)}" if step.carried is not None else ""
        self.out.print(f"   {step.number:>2}  {step.kbit_s / 1000:.2f} Mbit/s  {mark}{escape(found)}", soft_wrap=True)
        self.out.file.flush()

    def _end_line(self) -> None:
        if self.line:
            self.out.file.write("\r\x1b[2K")
            self.line = False

    def finish(
        self, work: Signalling, result: SignalResult, place: SignalTarget, *, climb: bool, save: bool, report: Path | None
    ) -> ExitCode:
        """The last lines; the exit code."""
        from direkt.finding import Verdict
        from direkt.judge import judge_sent

        came = work.rehearsal.first is not None
        judgement = (
            judge_sent(self.sheet, work.rehearsal.snapshot().found, work.settings.values())
            if came and not climb
            else None
        )
        saved = self._save(result) if save and not result.failure else None
        document = self._document(work, result, place, judgement, saved)
        self._record(result, judgement, climb=climb)
        if self.as_json:
            output.print_json(document)
        output.save_report(report, document)
        if not self.as_json:
            self._print(result, judgement, climb=climb, saved=saved)
        if result.failure:
            output.error(f"the push ended: {result.failure}")
            return ExitCode.NO_ANSWER
        if result.interrupted:
            output.interrupted("the signal has ended in good order" + ("; the climb was not finished" if climb else ""))
            return ExitCode.INTERRUPTED
        if result.steady is None and not came:
            output.error("nothing was sent")
            return ExitCode.NO_ANSWER
        bad = judgement is not None and judgement.verdict is Verdict.FAIL
        complained = not climb and self.seen is not None and bool(self.seen.complaints)
        late = not climb and _is_late(result)
        return ExitCode.FAILS if bad or complained or late else ExitCode.GOOD

    def _print(self, result: SignalResult, judgement: Judgement | None, *, climb: bool, saved: float | None) -> None:
        lines: list[tuple[str, str]] = []
        if result.steady is not None:
            lines.append(("the line", escape(_line(result.steady, long=True))))
        if climb and result.mbit_s is not None:
            least = "" if result.limit is not None else "at least "
            lines.append(
                ("it carries", f"[bold]{least}{result.mbit_s:.2f} Mbit/s[/] for good to this ingest, headers included")
            )
            if result.limit is not None:
                lines.append(("at its limit", escape(f"{result.limit.on_the_wire / 1000:.2f} Mbit/s went out")))
        if saved is not None:
            lines.append(("kept", f"uplink.mbit_s: {saved:g} in {escape(self.rig.source)}; see: direkt budget"))
        if self.seen is not None:
            shown = (
                f"shows it after {self.shown_after:.0f} s"
                if self.shown_after is not None
                else "has it, and does not show it yet"
            )
            said = f"; it says: {'; '.join(self.seen.complaints)}" if self.seen.complaints else ""
            lines.append(("the platform", escape(f"{self.sheet.name} {shown}{said}")))
        elif self.trouble:
            lines.append(("the platform", f"[yellow]does not report: {escape(self.trouble)}[/]"))
        if judgement is not None:
            lines.append(("the signal", escape(_in_short(judgement))))
        self.out.print()
        output.print_lines(self.out, lines)
        if result.steady is not None and not climb and not result.failure and _is_late(result):
            self.out.print(
                f"[yellow]! the line does not keep up[/]  {result.steady.backlog:.1f} s of the signal wait: direkt signal {escape(self.destination)} --climb"
            )

    def _save(self, result: SignalResult) -> float | None:
        """Writes the uplink into the rig; what was written. Raises UnusableInput."""
        from direkt.cli import rigfile

        if result.mbit_s is None or result.interrupted:
            return None
        value = math.floor(result.mbit_s * 10) / 10 or round(result.mbit_s, 2)
        stated = self.rig.file.uplink
        if result.limit is None and stated is not None and stated.mbit_s >= value:
            output.note(
                f"the limit was not reached: the rig keeps its uplink of {stated.mbit_s:g} Mbit/s; climb higher with --most"
            )
            return None
        rigfile.change(self.rig, [(["uplink", "mbit_s"], value)])
        return value

    def _record(self, result: SignalResult, judgement: Judgement | None, *, climb: bool) -> None:
        from direkt.store.entry import LogEntry

        words = f"the line carries {result.mbit_s:.2f} Mbit/s" if climb and result.mbit_s is not None else ""
        words = words or (_line(result.steady) if result.steady is not None else "nothing was sent")
        outcome = "failed" if result.failure else "interrupted" if result.interrupted else "good"
        text = f"test signal: {result.failure or words}"
        recording.record(self.rig, [LogEntry(
            "signal", outcome, text, destination=self.destination,  # type: ignore[arg-type]
            detail={"mbit_s": result.mbit_s, "verdict": judgement.verdict.value if judgement is not None else None},
        )])  # fmt: skip

    def _document(
        self, work: Signalling, result: SignalResult, place: SignalTarget, judgement: Judgement | None, saved: float | None
    ) -> SignalJson:
        from direkt.cli.judgement import finding_json

        return {
            "schema": "direkt.signal/1", "destination": self.destination, "server": str(place.server), "event": place.words,
            "set": work.settings.values(), "line": _carried_json(result.steady), "limit": _carried_json(result.limit),
            "mbit_s": round(result.mbit_s, 3) if result.mbit_s is not None else None, "saved_mbit_s": saved,
            "steps": [
                {"number": s.number, "kbit_s": round(s.kbit_s), "held": s.held, "line": _carried_json(s.carried)} for s in result.steps
            ],
            "shown_after": round(self.shown_after, 1) if self.shown_after is not None else None,
            "complaints": list(self.seen.complaints) if self.seen is not None else [],
            "findings": [finding_json(f) for f in judgement.findings] if judgement is not None else [],
            "failure": result.failure or None, "interrupted": result.interrupted,
        }  # fmt: skip


def _is_late(result: SignalResult) -> bool:
    """Whether the line did not keep up; a few seconds say nothing of that."""
    found = result.steady
    return found is not None and found.seconds >= _LATE_AFTER and found.backlog > 1.0 + found.rtt


def _carried_json(found: LineCarried | None) -> dict[str, float] | None:
    if found is None:
        return None
    return {
        "seconds": round(found.seconds, 1), "handed_kbit_s": round(found.handed), "arrived_kbit_s": round(found.arrived),
        "on_the_wire_kbit_s": round(found.on_the_wire), "rtt_ms": round(found.rtt * 1000, 2), "least_rtt_ms": round(found.least_rtt * 1000, 2),
        "sent_again": found.sent_again, "segments": found.segments, "backlog": round(found.backlog, 2),
    }  # fmt: skip


def _words(settings: Settings) -> str:
    v, a = settings.video, settings.audio
    interval = float(v.keyframe_interval / v.frame_rate)
    return (
        f"{v.width}x{v.height}, {float(v.frame_rate):g} fps, {(v.bitrate or 0) / 1000:g} Mbit/s {v.rate_control.upper()}, keyframe every {interval:g} s, "
        f"AAC {a.sample_rate / 1000:g} kHz {a.bitrate} kbit/s"
    )


def _line(found: LineCarried, *, long: bool = False) -> str:
    again = f"{found.lost_share:.1%} sent again" if found.sent_again else "nothing sent again"
    least = f" (least {found.least_rtt * 1000:.0f} ms)" if long else ""
    waits = f"{found.backlog:.1f} s waiting" if found.backlog >= 0.05 else "nothing waiting"
    return f"{found.arrived / 1000:.2f} Mbit/s arrive, round trip {found.rtt * 1000:.0f} ms{least}, {again}, {waits}"


def _in_short(judgement: Judgement) -> str:
    """What fails; or that it conforms, as far as it was seen."""
    from direkt.finding import Verdict
    from direkt.parameters import find

    bad = [f for f in judgement.findings if f.verdict is Verdict.FAIL]
    if bad:
        return "; ".join(f"{find(f.parameter).label}: {f.words}" for f in bad[:4])
    if all(f.verdict is Verdict.UNSEEN for f in judgement.findings):
        return "not judged: nothing of it was seen"
    unseen = [find(f.parameter).label for f in judgement.findings if f.verdict is Verdict.UNSEEN]
    return "conforms to the sheet" + (f" as far as seen; not seen: {', '.join(unseen)}" if unseen else "")
