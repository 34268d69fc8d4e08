"""The view of a reception while it runs: redrawn on a terminal, a line every few seconds elsewhere."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from types import TracebackType
from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.live import Live
from rich.text import Text

from direkt import parameters
from direkt.cli import output
from direkt.cli.judgement import verdict_text
from direkt.cli.output import clock, escape, show, show_measured
from direkt.finding import Verdict
from direkt.judge import Judgement

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.destination.sheet import Sheet
    from direkt.measure.meter import Measurement
    from direkt.work.stream.reception import RefusedPeers, Rehearsal

_LINE_EVERY = 5  # s between lines where there is no terminal
_FIRST_RATE = 2.0  # s before which a mean bitrate is little but the first keyframe
_MOST_OFF = 12  # findings shown while it runs
_MOST_REFUSALS = 4


@dataclass(frozen=True, slots=True)
class StateWords:
    """What the states of a stream are called."""

    waiting: str = "waiting for the push"
    idle: str = "nobody pushes"
    busy: str = "receiving from"
    status: Callable[[], str] = lambda: ""  # what goes on instead of these; empty: nothing else


Judge = Callable[["Measurement"], Judgement]


class RehearsalView:
    """Shows a rehearsal; a context manager, so that the terminal is left in order."""

    def __init__(
        self, out: Console, rehearsal: Rehearsal, judge: Judge, sheet: Sheet | None, seconds: float | None,
        words: StateWords | None = None,
    ) -> None:  # fmt: skip
        self._words = words or StateWords()
        self._out, self._rehearsal, self._judge, self._sheet, self._seconds = out, rehearsal, judge, sheet, seconds
        self._live = Live(console=out, auto_refresh=False, transient=True) if out.is_terminal else None
        self._told = -1

    def __enter__(self) -> RehearsalView:
        if self._live is not None:
            self._live.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._live is not None:
            self._live.stop()

    def tell(self, words: str) -> None:
        """A line that stays, above what is redrawn."""
        if self._live is not None:
            self._live.console.print(Text(words))
        else:
            output.note(words)

    def show(self, now: float, waited: float, limit: float) -> None:
        """The state at clock time ``now``; ``waited``: s since the port opened, of at most ``limit``."""
        if self._live is not None:
            self._live.update(self._picture(now, waited, limit), refresh=True)
            return
        elapsed = self._rehearsal.elapsed(now)
        if self._rehearsal.first is not None and int(elapsed) // _LINE_EVERY != self._told:
            self._told = int(elapsed) // _LINE_EVERY
            output.note(self._line(elapsed))

    def _line(self, elapsed: float) -> str:
        r = self._rehearsal
        found = r.snapshot().found
        parts = [f"{clock(elapsed)}  {self._status()}"]
        for name, label in (
            ("stream.pace", "pace "), ("video.size", ""), ("video.frame_rate", ""), ("video.bitrate.mean", ""),
            ("video.keyframe_interval.max", "keyframes "), ("audio.codec", ""), ("audio.bitrate.mean", ""),
        ):  # fmt: skip
            if name in found and (elapsed >= _FIRST_RATE or not name.endswith("bitrate.mean")):
                parts.append(label + parameters.show_measured(name, found[name]))
        if "audio.present" in found and found["audio.present"].value == "no":
            parts.append("no audio")
        return ", ".join(parts)

    def _status(self) -> str:
        busy = self._words.busy.partition(" ")[0] if self._rehearsal.peer else self._words.idle
        return self._words.status() or busy

    def _picture(self, now: float, waited: float, limit: float) -> RenderableType:
        r = self._rehearsal
        if r.first is None:
            waiting = f"[yellow]{self._words.waiting}[/]  {clock(waited)} of {clock(limit)}"
            return Group(Text.from_markup(waiting), *refusal_lines(r.refusals))
        measurement = r.snapshot()
        until = f" of {clock(self._seconds)}" if self._seconds else ""
        other = self._words.status()
        where = f"[green]● {self._words.busy}[/] {escape(r.peer)}" if r.peer else f"[bold red]○ {self._words.idle}[/]"
        where = f"[bold red]○ {other}[/]" if other else where
        head = Text.from_markup(f"[bold]{clock(r.elapsed(now))}[/]{until}  {where}")
        return Group(head, self._facts(measurement), *self._off(measurement), *refusal_lines(r.refusals))

    def _facts(self, measurement: Measurement) -> RenderableType:
        r, found = self._rehearsal, measurement.found
        video, audio = r.meter.video, r.meter.audio
        facts = output.table("", "now", "over all")

        def all_of(*names: str) -> str:
            return ", ".join(show_measured(name, found[name]) for name in names if name in found)

        now_video, now_audio = (
            show(f"{track}.bitrate.mean", meter.bitrate.recent() if r.peer and meter is not None else None)
            for track, meter in (("video", video), ("audio", audio))
        )
        facts.add_row("pace", "", show_measured("stream.pace", found.get("stream.pace")))
        facts.add_row("video bitrate", now_video, show_measured("video.bitrate.mean", found.get("video.bitrate.mean")))
        facts.add_row("picture", "", all_of("video.size", "video.frame_rate"))
        keyframes = "video.keyframe_interval.max"
        apart = f"{show_measured(keyframes, found[keyframes])} apart" if keyframes in found else "not seen"
        facts.add_row("keyframes", "", apart)
        words = all_of("audio.codec", "audio.sample_rate", "audio.bitrate.mean") or "no audio"
        silent = found.get("audio.silent")
        if silent is not None and silent.value == "yes":
            words += ", [yellow]silent[/]"
        facts.add_row("audio", now_audio, words)
        if r.gaps:
            facts.add_row("gaps", "", f"[yellow]{len(r.gaps)}[/], the last at {clock(r.gaps[-1].at)}")
        return facts

    def _off(self, measurement: Measurement) -> list[RenderableType]:
        """What is wrong so far."""
        judgement = self._judge(measurement)
        found = [f for f in judgement.findings if f.verdict in (Verdict.FAIL, Verdict.ADVISE)]
        if not found:
            if self._sheet is None:
                return []
            return [Text.from_markup(f"[green]✓[/] nothing against {escape(self._sheet.name)} so far")]
        with_set = any(f.set is not None for f in judgement.findings)
        off = output.table("verdict", "", "required", *(["set"] if with_set else []), "sent")
        for f in found[:_MOST_OFF]:
            set_ = [show(f.parameter, f.set)] if with_set else []
            asked = escape(f.asked.text()) if f.asked else "–"
            off.add_row(verdict_text(f.verdict), parameters.find(f.parameter).label, asked, *set_, show_measured(f.parameter, f.sent))
        more = [Text(f"and {len(found) - _MOST_OFF} more")] if len(found) > _MOST_OFF else []
        return [off, *more]


def refusal_lines(refusals: dict[str, RefusedPeers], most: int = _MOST_REFUSALS) -> list[Text]:
    """Who was turned away: one line for each reason, the latest last."""
    lines = []
    for r in list(refusals.values())[-most:]:
        times = f" ({r.count} times)" if r.count > 1 else ""
        lines.append(Text.from_markup(f"[yellow]! turned away[/]  {escape(r.peer)}{times}: {escape(r.reason)}"))
    return lines
