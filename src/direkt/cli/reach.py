"""direkt reach: is the ingest reachable from here, before any camera is involved?"""

from __future__ import annotations

import asyncio
import ssl
from pathlib import Path
from typing import Any

import click
from rich.markup import escape

from direkt.cli import common


@click.command()
@click.argument("destination", required=False)
@click.option(
    "--tries", type=click.IntRange(1, 20), default=3, show_default=True, help="How often to try each address."
)
@click.option("--limit", type=common.Seconds(), default=5.0, show_default="5s", help="How long each step may take.")
@click.option(
    "--ca", type=click.Path(path_type=Path, exists=True, dir_okay=False), help="Trust this authority's certificate too."
)
@common.rig_option
@common.json_option
@common.handled
def reach(
    destination: str | None, tries: int, limit: float, ca: Path | None, rig_path: Path | None, as_json: bool
) -> int:
    """Test each server address of DESTINATION (or of all): name, TCP, TLS, RTMP, application. Publishes nothing."""
    rig = common.load_rig(rig_path)
    names = [destination] if destination else list(rig.file.destinations)
    context = ssl.create_default_context()
    if ca is not None:
        try:
            context.load_verify_locations(ca)
        except (ssl.SSLError, OSError):
            raise common.Failure(f"{ca}: no certificate in PEM form", common.USE) from None
    results = asyncio.run(_all(rig, names, tries, limit, context))
    good = all(any(r.reachable for _, r in found) and found[0][1].reachable for found in results.values())
    if as_json:
        common.print_json(_document(results))
    else:
        _print(results)
    return 0 if good else common.DEVICE


async def _all(
    rig: Any, names: list[str], tries: int, limit: float, context: ssl.SSLContext
) -> dict[str, list[tuple[str, Any]]]:
    from direkt.net.reach import reach as test
    from direkt.sheet import address

    results: dict[str, list[tuple[str, Any]]] = {}
    for name in names:
        entry = rig.file.destinations.get(name)
        if entry is None:
            raise common.Failure(
                f"no destination {name!r} in {rig.source}; it has {', '.join(rig.file.destinations) or 'none'}",
                common.USE,
            )
        sheet = rig.sheet(entry)
        targets = {entry.server: "in the rig"}
        for server in (s for s in sheet.servers if s.rtmp is not None):
            targets.setdefault(server.address, f"{server.region} {server.role}".strip())
        ports = [(p.protocol, p.port) for p in sheet.protocols]
        parsed = [(role, address.parse(text)) for text, role in targets.items()]
        found = await asyncio.gather(*(test(a, tries, context, limit, ports) for _, a in parsed))
        results[name] = [(role, result) for (role, _), result in zip(parsed, found, strict=True)]
    return results


def _nearest(found: list[tuple[str, Any]]) -> Any:
    return min((r for _, r in found if r.reachable), key=lambda r: r.median("tcp"), default=None)


def _document(results: dict[str, list[tuple[str, Any]]]) -> dict[str, Any]:
    from direkt.net.reach import STEPS

    out = []
    for name, found in results.items():
        nearest = _nearest(found)
        out.append({
            "destination": name, "nearest": str(nearest.address) if nearest else None,
            "servers": [
                {"address": str(r.address), "role": role, "reachable": r.reachable, "verdict": r.worst.verdict, "detail": r.worst.detail,
                 "hint": r.hint, "milliseconds": {s: round(m * 1000, 2) for s in STEPS if (m := r.median(s)) is not None}}
                for role, r in found
            ],
        })  # fmt: skip
    return {"schema": "direkt.reach/1", "destinations": out}


def _print(results: dict[str, list[tuple[str, Any]]]) -> None:
    from direkt.net.reach import STEPS

    out = common.console()
    for name, found in results.items():
        out.print(f"[bold]{escape(name)}[/]  median times of each step")
        made = common.table("server address", "", *STEPS[:-1], "app", "verdict")
        nearest = _nearest(found)
        for role, r in found:
            times = ["–" if (m := r.median(s)) is None else f"{m * 1000:.1f} ms" for s in STEPS]
            verdict = "[green]✓ reachable[/]" if r.reachable else f"[bold red]✗ {escape(r.worst.verdict)}[/]"
            mark = " [green](nearest)[/]" if nearest is r and len(found) > 1 else ""
            made.add_row(escape(str(r.address)), escape(role), *times, verdict + mark)
        out.print(made)
        for _, r in found:
            if not r.reachable:
                hint = f"; {r.hint}" if r.hint else ""
                out.print(
                    f"[bold red]✗ {escape(r.worst.verdict)}[/]  {escape(str(r.address))}: {escape(r.worst.detail + hint)}"
                )
