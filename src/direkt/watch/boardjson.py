"""The board as JSON, for the command's document and for the page."""

from __future__ import annotations

import datetime

from direkt.watch.board import Board, EventRow, FeedRow

_MOST_HAPPENINGS = 60


def document(board: Board) -> dict[str, object]:
    """All of it, in our parameters' names and units."""
    return {
        "rig": board.rig, "at": stamp(board.at), "since": stamp(board.since), "well": board.well,
        "feeds": [_feed(row) for row in board.feeds], "events": [_event(row) for row in board.events],
        "warnings": [
            {"kind": w.kind, "name": w.name, "weight": w.weight, "text": w.text, "advice": w.advice, "since": stamp(w.since),
             "seen": stamp(w.seen) if w.seen is not None else None, "muted": w.muted}
            for w in board.warnings
        ],
        "happenings": [
            {"at": stamp(h.at), "what": h.what, "name": h.name, "text": h.text, "good": h.good} for h in board.happenings[:_MOST_HAPPENINGS]
        ],
        "next": {"name": board.next.name, "title": board.next.title, "start": stamp(board.next.start)} if board.next is not None else None,
        "late": round(board.late, 1), "data_plan": {"sent_gb": round(board.sent_gb, 3), "plan_gb": board.plan_gb} if board.sent_gb is not None else None,
    }  # fmt: skip


def stamp(wall: float) -> str:
    """RFC 3339."""
    return datetime.datetime.fromtimestamp(wall, datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _feed(row: FeedRow) -> dict[str, object]:
    return {
        "name": row.name, "device": row.device, "destination": row.destination, "role": row.role, "carried": row.carried,
        "event": row.event or None, "state": row.state.value, "seconds": round(row.seconds, 1), "text": row.text, "push": row.push,
        "ingest": row.ingest, "kbit_s": round(row.kbit_s) if row.kbit_s is not None else None, "values": dict(row.values),
        "measured": row.measured, "gaps": row.gaps, "drops": row.drops, "missing": round(row.missing, 1), "restarts": row.restarts,
        "mending": row.mending, "temperature": row.temperature, "strip": row.strip, "wanted": row.wanted,
    }  # fmt: skip


def _event(row: EventRow) -> dict[str, object]:
    return {
        "name": row.name, "title": row.title, "destination": row.destination, "platform": row.platform, "state": row.state,
        "on_air": row.on_air, "watch": row.watch or None, "viewers": row.viewers, "start": stamp(row.start), "end": stamp(row.end),
        "limit": round(row.limit) if row.limit is not None else None, "error": row.error or None,
    }  # fmt: skip
