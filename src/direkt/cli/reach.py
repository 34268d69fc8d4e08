"""direkt reach: is the ingest reachable from here, before any camera is involved?"""

from __future__ import annotations

import asyncio
import ssl
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.cli.documents.destinations import ReachJson
    from direkt.net.reach import Reach
    from direkt.rig.file import Rig

Found = list[tuple[str, "Reach"]]  # what the address is for, and how it was reached


@click.command()
@click.argument("destination", required=False)
@click.option(
    "--tries", type=click.IntRange(1, 20), default=3, show_default=True, help="How often to try each address."
)
@options.time_option("--limit", default=5.0, help="How long each step may take.")
@click.option(
    "--ca", type=click.Path(path_type=Path, exists=True, dir_okay=False), help="Trust this authority's certificate too."
)
@options.rig_option
@options.json_option
def reach(
    destination: str | None, tries: int, limit: float, ca: Path | None, rig_path: Path | None, as_json: bool
) -> ExitCode:
    """Test each server address of DESTINATION (or of all): name, TCP, TLS, then its protocol. Publishes nothing."""
    rig = options.load_rig(rig_path)
    names = [destination] if destination else list(rig.file.destinations)
    context = ssl.create_default_context()
    if ca is not None:
        try:
            context.load_verify_locations(ca)
        except (ssl.SSLError, OSError):
            raise UnusableInput(f"{ca}: no certificate in PEM form") from None
    results = asyncio.run(_all(rig, names, tries, limit, context))
    good = all(any(r.reachable for _, r in found) and found[0][1].reachable for found in results.values())
    if as_json:
        output.print_json(_document(results))
    else:
        _print(results)
    return ExitCode.GOOD if good else ExitCode.NO_ANSWER


async def _all(rig: Rig, names: list[str], tries: int, limit: float, context: ssl.SSLContext) -> dict[str, Found]:
    from direkt.net.reach import reach as test
    from direkt.protocol import address
    from direkt.protocol.schemes import SPOKEN

    results: dict[str, Found] = {}
    for name in names:
        entry = rig.destination(name)
        sheet = rig.sheet(entry)
        targets = {address.parse(entry.server): "in the rig"}
        for server in sheet.servers:
            if server.parsed.scheme in SPOKEN:
                targets.setdefault(server.parsed, f"{server.region} {server.role}".strip())
        ports = [(p.protocol, p.port) for p in sheet.protocols]
        found = await asyncio.gather(*(test(target, tries, context, limit, ports) for target in targets))
        results[name] = list(zip(targets.values(), found, strict=True))
    return results


def _nearest(found: Found) -> Reach | None:
    return min((r for _, r in found if r.reachable), key=lambda r: r.median("tcp") or 0.0, default=None)


def _document(results: dict[str, Found]) -> ReachJson:
    made: ReachJson = {"schema": "direkt.reach/1", "destinations": []}
    for name, found in results.items():
        nearest = _nearest(found)
        made["destinations"].append({
            "destination": name, "nearest": str(nearest.address) if nearest else None,
            "servers": [
                {"address": str(r.address), "role": role, "reachable": r.reachable,
                 "verdict": r.worst.verdict or "reachable", "detail": r.worst.detail, "hint": r.hint,
                 "milliseconds": {s: round(m * 1000, 2) for s in r.steps if (m := r.median(s)) is not None}}
                for role, r in found
            ],
        })  # fmt: skip
    return made


def _print(results: dict[str, Found]) -> None:
    """Each address with its verdict, and the median time of each step, or what stands in the way."""
    out = output.console()
    for name, found in results.items():
        out.print(f"[bold]{escape(name)}[/]")
        nearest = _nearest(found)
        lines = []
        for role, r in found:
            verdict = "[green]✓ reachable[/]" if r.reachable else f"[bold red]✗ {escape(r.worst.verdict)}[/]"
            more = "; [green]nearest[/]" if nearest is r and len(found) > 1 else ""
            times = ", ".join(f"{step} {m * 1000:.1f} ms" for step in r.steps if (m := r.median(step)) is not None)
            hint = f"; {r.hint}" if r.hint else ""
            below = f"[dim]{times}[/]" if r.reachable else escape(r.worst.detail + hint)
            lines.append((verdict, f"[bold]{escape(r.address)}[/]  {escape(role)}{more}\n{below}"))
        output.print_lines(out, lines, indent=2)
