"""What the page sends: boards made into text once, whoever many look; a change is what differs from the one before.

Cost: one board is O(feeds) twice a second; each viewer costs a wake-up and the bytes of what changed. A viewer that does not
keep up gets the whole board when it comes again, so nothing is queued for anybody.
"""

from __future__ import annotations

import asyncio
import json
import threading
from dataclasses import dataclass

from direkt.watch.board import Board, EventRow, FeedRow
from direkt.watch.boardjson import stamp
from direkt.watch.tracker import FeedState

_CELLS = 60  # of a strip on the page
_STRIPS_EVERY = 15  # changes
_PACE = 1.0  # s between changes, at the least
_WORST = "x>-?~━·"
_MOST_HAPPENINGS = 30


@dataclass(frozen=True, slots=True)
class PageMessage:
    """One event of the stream."""

    number: int
    whole: bytes
    change: bytes


class Hub:
    """The latest board as text. publish() is called from the watch's thread, all else from the event loop."""

    def __init__(self) -> None:
        self.board: Board | None = None
        self._parts: dict[str, str] = {}
        self._message = PageMessage(0, b"", b"")
        self._loop: asyncio.AbstractEventLoop | None = None
        self._waiters: set[asyncio.Future[None]] = set()
        self._lock = threading.Lock()
        self._last = float("-inf")

    def attach(self, loop: asyncio.AbstractEventLoop) -> None:
        """The loop in which viewers wait."""
        self._loop = loop

    @property
    def message(self) -> PageMessage:
        """The latest one."""
        with self._lock:
            return self._message

    def publish(self, board: Board) -> None:
        """A new board."""
        self.board = board
        if self._message.number and board.at - self._last < _PACE and board.at >= self._last:
            return
        self._last = board.at
        parts = _parts(board)
        number = self._message.number + 1
        changed = {name: text for name, text in parts.items() if self._parts.get(name) != text}
        gone = [name for name in self._parts if name not in parts]
        if number % _STRIPS_EVERY:
            changed.pop("strips", None)
        self._parts = (
            {**parts, "strips": self._parts["strips"]} if "strips" not in changed and "strips" in self._parts else parts
        )
        whole = _event("board", number, parts, [])
        with self._lock:
            self._message = PageMessage(number, whole, _event("change", number, changed, gone))
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._wake)

    def _wake(self) -> None:
        waiters, self._waiters = self._waiters, set()
        for waiter in waiters:
            if not waiter.done():
                waiter.set_result(None)

    async def after(self, number: int, limit: float) -> PageMessage:
        """The next message, or the same one again after ``limit`` s."""
        if self.message.number > number:
            return self.message
        waiter: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiters.add(waiter)
        try:
            async with asyncio.timeout(limit):
                await waiter
        except TimeoutError:
            pass
        finally:
            self._waiters.discard(waiter)
        return self.message


def _event(kind: str, number: int, parts: dict[str, str], gone: list[str]) -> bytes:
    """As server-sent events have it (HTML, 9.2)."""
    body = ",".join(f"{json.dumps(name)}:{text}" for name, text in parts.items())
    return f'event: {kind}\nid: {number}\ndata: {{"parts":{{{body}}},"gone":{json.dumps(gone)}}}\n\n'.encode()


def _parts(board: Board) -> dict[str, str]:
    parts: dict[str, object] = {
        "head": {"rig": board.rig, "since": stamp(board.since), "well": board.well, "unknown": _unknown(board), "late": round(board.late)},
        "events": [_event_row(row) for row in board.events],
        "warnings": [
            {"kind": w.kind, "name": w.name, "weight": w.weight, "text": w.text, "advice": w.advice, "seen": stamp(w.seen) if w.seen is not None else None,
             "muted": w.muted} for w in board.warnings[:50]
        ],
        "happenings": [{"at": stamp(h.at), "name": h.name, "text": h.text, "good": h.good} for h in board.happenings[:_MOST_HAPPENINGS]],
        "next": {"title": board.next.title, "start": stamp(board.next.start)} if board.next is not None else None,
        "strips": {row.name: _strip(row.strip) for row in board.feeds},
        "order": [row.name for row in sorted(board.feeds, key=_worst_first)],
    }  # fmt: skip
    parts |= {f"feed {row.name}": _feed_row(row, board.at) for row in board.feeds}
    return {name: json.dumps(part, ensure_ascii=False, separators=(",", ":")) for name, part in parts.items()}


def _unknown(board: Board) -> int:
    """Feeds that are meant to be on, and of which nobody knows whether they are."""
    return sum(row.wanted and row.state is FeedState.UNKNOWN for row in board.feeds)


_ORDER = [
    FeedState.DROPPED, FeedState.ELSEWHERE, FeedState.UNKNOWN, FeedState.STOPPED, FeedState.STARTING, FeedState.ON, FeedState.OFF,
]  # fmt: skip


def _worst_first(row: FeedRow) -> tuple[bool, int]:
    """What is meant to be on and is not comes first; else as the rig has them."""
    return (not row.wanted and row.state is FeedState.UNKNOWN), _ORDER.index(row.state)


def _feed_row(row: FeedRow, at: float) -> dict[str, object]:
    """Without what changes all the while."""
    v = row.values
    return {
        "name": row.name, "device": row.device, "destination": row.destination, "role": row.role, "state": row.state.value,
        "since": stamp(round(at - row.seconds)), "text": row.text, "push": row.push, "ingest": row.ingest, "arriving": row.arriving,
        "mbit_s": round(row.kbit_s / 1000, 1) if row.kbit_s is not None else None,
        "measured": {n: v[n] for n in ("video.size", "video.frame_rate", "audio.silent") if n in v}, "drops": row.drops,
        "restarts": row.restarts, "mending": row.mending, "undo": row.undo, "temperature": round(row.temperature) if row.temperature is not None else None,
    }  # fmt: skip


def _event_row(row: EventRow) -> dict[str, object]:
    return {
        "title": row.title, "platform": row.platform, "destination": row.destination, "state": row.state, "on_air": row.on_air,
        "watch": row.watch if row.watch.startswith(("https://", "http://")) else None, "viewers": row.viewers, "end": stamp(row.end),
        "error": row.error or None,
    }  # fmt: skip


def _strip(marks: str) -> str:
    per, out = max(1, len(marks) // _CELLS), []
    for n in range(0, len(marks), per):
        some = marks[n : n + per].replace(" ", "")
        out.append(min(some, key=_WORST.index) if some else " ")
    return "".join(out)
