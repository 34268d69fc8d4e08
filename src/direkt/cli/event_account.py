"""Accounts at platforms: what events they hold, and signing in."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import DirektError, UnusableInput

if TYPE_CHECKING:
    from collections.abc import Callable

    from rich.console import Console

    from direkt.cli.documents.on_air import EventAccountsJson, HeldEventJson
    from direkt.platform.event import PlatformEvent
    from direkt.rig.file import Rig
    from direkt.work.live.account import HeldEvent
    from direkt.work.live.event_at_platforms import AirEvent, Airing
    from direkt.work.steps import Job

    Work = Callable[[Airing, str], Job[AirEvent, PlatformEvent | None]]



def list_accounts(rig: Rig, wanted: str, as_json: bool) -> ExitCode:
    from direkt.cli import crew
    from direkt.work.live import account

    if wanted != "*" and wanted not in rig.file.platforms:
        raise UnusableInput(f"no platform {wanted!r} in {rig.source}; it has {', '.join(rig.file.platforms) or 'none'}")
    chosen_ = [n for n, e in rig.file.destinations.items() if e.platform is not None and wanted in ("*", e.platform)]
    found, wrong = account.accounts(rig, chosen_, crew.means(rig))
    document: EventAccountsJson = {"schema": "direkt.event-accounts/1", "accounts": []}
    out, worst = output.console(err=as_json), ExitCode.GOOD
    for one in found:
        try:
            held = one.held()
        except DirektError as error:
            wrong[one.name] = str(error)
            continue
        finally:
            one.close()
        document["accounts"].append({"platform": one.name, "failure": None, "events": [_held_json(h) for h in held]})
        if not as_json:
            _print_account(out, one.title, one.name, held)
    for name, why in wrong.items():
        worst = ExitCode.NO_ANSWER
        document["accounts"].append({"platform": name, "failure": why, "events": []})
        output.error(why)
    if as_json:
        output.print_json(document)
    elif not found and not wrong:
        out.print("the rig has no platform: what is open is seen on the pages of its destinations only")
    return worst


def _whose(one: HeldEvent) -> str:
    if one.by_key:
        return f"the rig pushes with its key ({one.destination})"
    if one.owner is not None:
        return f"this rig's: {one.owner.event}" if one.owner.event else "this rig's, which has no such event any more"
    return f"not known: {one.unasked}" if one.unasked else "somebody else's"


def _held_json(one: HeldEvent) -> HeldEventJson:
    e = one.event
    return {
        "id": e.id, "title": e.title or None, "state": e.state.value, "word": e.word or None, "start": e.start or None, "watch": e.watch or None,
        "event": one.owner.event or None if one.owner is not None else None, "destination": one.destination or None,
        "ours": "by key" if one.by_key else "by name" if one.owner is not None else "not known" if one.unasked else "no",
    }  # fmt: skip


def _print_account(out: Console, title: str, name: str, held: list[HeldEvent]) -> None:
    out.print(f"[bold]{escape(title)}[/]  {escape(name)}: {len(held)} event{'s' if len(held) != 1 else ''}, all that it lists")
    if not held:
        return
    table = output.table("state", "title", "start", "whose")
    for one in sorted(held, key=lambda h: not h.open):
        state = one.event.state.value if one.event.state.value != "not known" else f"? {one.event.word}"
        mark = f"[green]{escape(state)}[/]" if one.open else escape(state)
        table.add_row(mark, escape(one.event.title or one.event.id), escape(one.event.start), escape(_whose(one)))
    output.print_table(out, table, all_columns=True)


@click.command("sign-in")
@click.argument("platform", required=False)
@click.option("--out", "leave", is_flag=True, help="Forget the sign-in instead.")
@options.rig_option
def sign_in(platform: str | None, leave: bool, rig_path: Path | None) -> ExitCode:
    """Sign in at PLATFORM on a phone: shows an address and a code, and waits."""
    import time

    from direkt.cli import crew
    from direkt.platform import library
    from direkt.platform.sign_in import Code

    rig = options.load_rig(rig_path)
    if platform is None and len(rig.file.platforms) == 1:
        platform = next(iter(rig.file.platforms))
    account = library.account(rig, platform or "", crew.means(rig))
    if leave:
        output.console().print("signed out" if account.forget() else "nobody was signed in")
        return ExitCode.GOOD
    out = output.console()
    for told in account.sign_in():
        if isinstance(told, Code):
            out.print(f"On a phone or in a browser: [bold]{escape(told.address)}[/]", soft_wrap=True)
            out.print(f"Code: [bold]{escape(told.code)}[/]  (it ends in {told.seconds / 60:.0f} min; Ctrl-C gives up)")
            if told.complete:
                from direkt.cli.picture_code import print_code

                print_code(out, told.complete)
            out.file.flush()
        else:
            time.sleep(told)
    out.print(f"[green]✓[/] signed in at {escape(platform or '')}")
    return ExitCode.GOOD
