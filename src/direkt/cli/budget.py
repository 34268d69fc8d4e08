"""direkt budget: share the uplink among the feeds."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.cli.documents.destinations import BudgetJson, ShareJson
    from direkt.match.budget import Share
    from direkt.rig.file import Rig


_RESERVE = 30.0  # percent, where nothing is said


@click.command()
@click.option(
    "--up", type=options.RealNumber(min=0, min_open=True), metavar="MBIT", help="Upstream in Mbit/s [default: the rig's]."
)
@click.option(
    "--reserve", type=options.RealNumber(0, 99), metavar="PERCENT", help="Kept free [default: the rig's, else 30]."
)
@click.option(
    "--plan", type=options.RealNumber(min=0, min_open=True), metavar="GB", help="What is left on a metered plan."
)
@click.option(
    "--hours", type=options.RealNumber(min=0, min_open=True), default=1.0, show_default=True, help="Length of the event."
)
@options.rig_option
@options.json_option
def budget(
    up: float | None, reserve: float | None, plan: float | None, hours: float, rig_path: Path | None, as_json: bool
) -> ExitCode:
    """Share the uplink among the feeds: what each may send, beside an even split, and when the uplink halves.

    Overhead of RTMP, TLS and TCP/IP is computed. A feed's weight is set in the rig. Exits with 1 when a feed finds
    no room.
    """
    from direkt.match import budget as sums

    rig = options.load_rig(rig_path)
    mbit, kept = _uplink(rig, up, reserve)
    limit = mbit * 1000 * (1 - kept / 100)
    feeds = sums.feeds_of(rig)
    if not feeds:
        raise UnusableInput(f"{rig.source} has no feeds to share the uplink")
    best, even, half = sums.best_split(feeds, limit), sums.even_split(feeds, limit), sums.best_split(feeds, limit / 2)
    total = sum(share.option.wire for share in best)
    volume = total * 1000 / 8 * 3600 / 1e9
    if as_json:
        document: BudgetJson = {
            "schema": "direkt.budget/1", "uplink_mbit_s": mbit, "reserve_percent": kept, "limit_kbit_s": round(limit, 1),
            "feeds": [
                {"feed": b.feed.name, "weight": b.feed.weight, "best": _json(b), "even": _json(e), "half": _json(h)}
                for b, e, h in zip(best, even, half, strict=True)
            ],
            "total_kbit_s": round(total, 1), "gigabytes_per_hour": round(volume, 3), "gigabytes": round(volume * hours, 3),
            "hours_left": round(plan / volume, 2) if plan and volume else None,
        }  # fmt: skip
        output.print_json(document)
    else:
        out = output.console()
        out.print(
            f"uplink {mbit:g} Mbit/s, {kept:g} % kept free: {limit:.0f} kbit/s for {len(feeds)} feed{'s' if len(feeds) > 1 else ''}, headers included"
        )
        made = output.table("feed", "weight", "best choice", "on the wire", "even split", "when the uplink halves")
        for b, e, h in zip(best, even, half, strict=True):
            made.add_row(
                escape(b.feed.name),
                f"{b.feed.weight:g}",
                _label(b),
                f"{b.option.wire:.0f} kbit/s",
                _label(e),
                _label(h),
            )
        output.print_table(out, made)
        payload = sum(share.option.video + share.option.audio for share in best)
        extra = f", {100 * (total / payload - 1):.1f} % of it overhead" if payload else ""
        out.print(f"together {total:.0f} kbit/s{extra}; {limit - total:.0f} kbit/s and the reserve stay free")
        out.print(f"data: {volume:.2f} GB an hour, {volume * hours:.2f} GB in {hours:g} h")
        if plan and volume:
            left = plan / volume
            mark = "[green]✓[/]" if left >= hours else "[bold red]✗ not enough:[/]"
            out.print(f"{mark} {plan:g} GB last {left:.1f} h")
    starved = any(share.option.video == 0 for share in best)
    return ExitCode.FAILS if starved or (plan is not None and volume * hours > plan) else ExitCode.GOOD


def _uplink(rig: Rig, up: float | None, reserve: float | None) -> tuple[float, float]:
    stated = rig.file.uplink
    if up is None and stated is None:
        raise UnusableInput(f"{rig.source} states no uplink: add uplink: {{mbit_s: ...}}, or give --up MBIT")
    mbit = up if up is not None or stated is None else stated.mbit_s
    kept = reserve if reserve is not None else stated.reserve_percent if stated is not None else _RESERVE
    assert mbit is not None
    return mbit, kept


def _json(share: Share) -> ShareJson:
    o = share.option
    return {"choice": o.label, "video_kbit_s": o.video, "audio_kbit_s": o.audio, "wire_kbit_s": round(o.wire, 1)}


def _label(share: Share) -> str:
    return "[bold red]✗ no room[/]" if share.option.video == 0 else escape(share.option.label)
