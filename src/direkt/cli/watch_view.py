"""The watch on a terminal: a line for each feed, what is wrong, what happened; in a pipe, a line for each thing that happens."""

from __future__ import annotations

import time
from types import TracebackType
from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.live import Live
from rich.table import Table
from rich.text import Text

from direkt.cli.output import clock, escape, show

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.cli.documents.on_air import WatchJson
    from direkt.watch.board import Board, EventRow, FeedRow
    from direkt.watch.notices import Notice

_WIDE = 130  # columns from which on everything has one of its own
_MOST_WARNED = 8  # lines
_STATES = {
    "on": ("●", "green"), "dropped": ("✗", "bold red"), "starting": ("~", "yellow"), "off": ("·", "dim"), "stopped": ("-", "yellow"),
    "elsewhere": (">", "yellow"), "not known": ("?", "cyan"),
}  # fmt: skip
_CELLS = {"━": "green", "x": "bold red", "~": "yellow", "·": "dim", "-": "yellow", ">": "yellow", "?": "cyan"}
_LINE_EVERY = 60.0  # s between summaries in a pipe
_WORST = "✗x>-?~━· "


class WatchView:
    """Shows boards; a context manager, so that the terminal is left in order."""

    def __init__(self, out: Console, period: float, *, mend: bool) -> None:
        self._out, self._period, self._mend = out, period, mend
        self._live = Live(console=out, auto_refresh=False, screen=True) if out.is_terminal else None
        self._said = 0.0
        self._first = True

    def __enter__(self) -> WatchView:
        if self._live is not None:
            self._live.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._live is not None:
            self._live.stop()

    def show(self, board: Board) -> None:
        """The board as it is now."""
        if self._live is not None:
            self._live.update(
                picture(board, self._out.width, self._out.height, self._period, mend=self._mend), refresh=True
            )
            return
        now = time.monotonic()
        if self._first and now - self._said > 0 and all(row.looked_at for row in board.feeds):
            self._first = False
            for row in board.feeds:
                self._line(f"{row.name}: {row.state}" + (f": {row.text}" if row.text else ""), row.state.value)
            self._said = now
        elif not self._first and now - self._said >= _LINE_EVERY:
            self._said = now
            states = [row.state.value for row in board.feeds]
            counts = ", ".join(f"{states.count(s)} {s}" for s in _STATES if s in states)
            self._line(counts, "off")

    def happened(self, text: str, *, good: bool) -> None:
        """A line, where nothing is redrawn."""
        if self._live is None:
            self._line(text, "on" if good else "dropped")

    def noticed(self, notice: Notice) -> None:
        """A warning that begins or is over; drops tell themselves."""
        if self._live is None and notice.key.kind not in ("drop", "stopped", "unmended"):
            over = "recovered: " if notice.phase == "well" else ""
            self._line(f"{over}{notice.key.name}: {notice.condition.text}", "on" if over else "starting")

    def _line(self, text: str, state: str) -> None:
        mark, style = _STATES[state]
        self._out.print(f"{time.strftime('%H:%M:%S')}  [{style}]{mark}[/]  {escape(text)}", soft_wrap=True)
        self._out.file.flush()


def picture(board: Board, width: int, height: int, period: float, *, mend: bool) -> RenderableType:
    """The whole screen."""
    head = Text.from_markup(
        f"[bold]{escape(board.rig)}[/]  {time.strftime('%H:%M:%S', time.localtime(board.at))}  "
        f"watching {clock(board.at - board.since)}, asking every {period:g} s"
        + ("" if mend else "; [yellow]restarts nothing[/]")
    )
    events = [_event_line(e, board.at) for e in board.events]
    if board.next is not None and not any(e.on_air for e in board.events):
        events.append(
            Text(f"next: {board.next.title}, {time.strftime('%a %Y-%m-%d %H:%M', time.localtime(board.next.start))}")
        )
    if board.sent_gb is not None and board.plan_gb is not None:
        events.append(Text(f"data plan: {board.sent_gb:.1f} of {board.plan_gb:g} GB sent"))
    warnings = _warnings(board, width)
    told = list[Text]()
    for n, lines in enumerate(warnings):
        if n and len(told) + len(lines) > _MOST_WARNED:
            told.append(Text(f"and {len(warnings) - n} more"))
            break
        told += lines
    room = max(4, height - 6 - len(events) - len(told))
    rows = list(board.feeds)
    most = max(3, room - 4)
    hidden = 0
    if len(rows) > most:  # the worst first
        rows.sort(
            key=lambda row: ("dropped", "elsewhere", "stopped", "not known", "starting", "on", "off").index(
                row.state.value
            )
        )
        hidden, rows = len(rows) - most, rows[:most]
    parts: list[RenderableType] = [
        head,
        *events,
        Text(),
        _feeds(rows, width, {e.destination: e.viewers for e in board.events}),
    ]
    if hidden:
        parts.append(Text(f"and {hidden} more feeds"))
    if told:
        parts += [Text(), *told]
    left = height - len(events) - len(rows) - (len(told) and len(told) + 1) - 8
    happenings = board.happenings[: max(2, left)]
    if happenings:
        parts += [Text(), *(_happening(h.at, h.name, h.text, good=h.good) for h in happenings)]
    for part in parts:
        if isinstance(part, Text):
            part.no_wrap, part.overflow = True, "ellipsis"
    return Group(*parts)


def _event_line(event: EventRow, now: float) -> Text:
    state = "[green]on air[/]" if event.on_air else f"{escape(event.state)}"
    viewers = f", {event.viewers} viewers" if event.viewers is not None else ""
    end = f", until {time.strftime('%H:%M', time.localtime(event.end))}" if event.end > now else ""
    limit = f", its limit in {clock(max(0.0, event.limit))}" if event.limit is not None and event.limit < 7200 else ""
    trouble = f"  [yellow]{escape(event.error)}[/]" if event.error else ""
    return Text.from_markup(
        f"{state}  [bold]{escape(event.title)}[/] at {escape(event.platform)} ({escape(event.destination)}){viewers}{end}{limit}{trouble}"
    )


def _feeds(rows: list[FeedRow], width: int, viewers: dict[str, int | None]) -> Table:
    wide = width >= _WIDE
    made = Table(box=None, pad_edge=False, padding=(0, 1, 0, 0), expand=False, show_header=True, header_style="dim")
    columns = ["", "feed", "device", "push", "ingest", "sent", "measured", "viewers", "ten minutes"] if wide else [
        "", "feed", "device", "push", "ingest", "sent", "seen by", "10 min"
    ]  # fmt: skip
    least = (1, 8, 12, 9, 8, 10, 20, 7, 20) if wide else (1, 6, 10, 7, 7, 4, 4, 13)
    for name, size in zip(columns, least, strict=True):
        made.add_column(name, no_wrap=True, overflow="ellipsis", min_width=size)
    for row in rows:
        mark, style = _STATES[row.state.value]
        rate = "–" if row.kbit_s is None else f"{row.kbit_s / 1000:.1f} Mbit/s" if wide else f"{row.kbit_s / 1000:.1f}M"
        seen = viewers.get(row.destination)
        people = str(seen) if seen is not None else "–"
        name = f"[bold]{escape(row.name)}[/]" + (" (backup)" if row.role == "backup" and wide else "")
        lost = row.state.value in ("dropped", "stopped", "elsewhere", "not known")
        push = f"[{style}]{escape(row.push)} {clock(row.seconds)}[/]" if lost else escape(row.push)
        ingest = f"[red]{row.ingest}[/]" if row.arriving is False and row.state.value != "off" else escape(row.ingest)
        cells = [f"[{style}]{mark}[/]", name, escape(row.device), push, ingest, rate]
        if wide:
            cells.append(_measured(row))
        made.add_row(*cells, people, _strip(row.strip, max(20, min(60, width - 116)) if wide else 13))
    return made


def _measured(row: FeedRow) -> str:
    v = row.values
    parts = [show(n, v[n]) for n in ("video.size", "video.frame_rate", "video.keyframe_interval.max") if n in v]
    if v.get("audio.silent") == "yes":
        parts.append("silent")
    return " ".join(parts) or "–"


def _strip(marks: str, cells: int) -> Text:
    """The last ten minutes in so many cells: the worst of each, in colour and as a mark."""
    per = len(marks) / cells
    made = Text(no_wrap=True)
    for n in range(cells):
        some = marks[int(n * per) : max(int(n * per) + 1, int((n + 1) * per))].replace(" ", "")
        mark = min(some, key=_WORST.index) if some else " "
        made.append(mark, style=_CELLS.get(mark, ""))
    return made


def _warnings(board: Board, width: int) -> list[list[Text]]:
    """Each in one line, or in two where the next step would be cut off."""
    out = []
    for w in board.warnings:
        mark, style = ("✗", "bold red") if w.weight == "fail" else ("!", "yellow")
        notes = ", ".join(word for word, so in (("seen", w.seen is not None), ("muted", w.muted)) if so)
        behind = f"  [dim]({notes})[/]" if notes else ""
        line = Text.from_markup(f"[{style}]{mark}[/] [bold]{escape(w.name)}[/]  {escape(w.text)}{behind}")
        lines = [line]
        if w.advice:
            advice = Text(f"next: {w.advice}")
            if line.cell_len + 2 + advice.cell_len <= width:
                line.append("  ").append_text(advice)
            else:
                lines.append(Text("    ").append_text(advice))
        out.append(lines)
    return out


def _happening(at: float, name: str, text: str, *, good: bool) -> Text:
    mark, style = ("·", "dim") if good else ("!", "yellow")
    return Text.from_markup(
        f"[dim]{time.strftime('%H:%M:%S', time.localtime(at))}[/] [{style}]{mark}[/] [bold]{escape(name)}[/]  {escape(text)}"
    )


def document(board: Board, *, interrupted: bool) -> WatchJson:
    """The board as JSON."""
    from direkt.watch import boardjson

    found: WatchJson = boardjson.document(board) | {"schema": "direkt.watch/1", "interrupted": interrupted}  # type: ignore[assignment]
    return found
