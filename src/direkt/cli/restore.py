"""direkt restore: put back what a device was set to before a write."""

from __future__ import annotations

from pathlib import Path

import click

from direkt.cli import options, output
from direkt.cli.exits import ExitCode
from direkt.cli.output import escape
from direkt.errors import UnusableInput


@click.command()
@click.argument("device")
@click.argument("backup", required=False, type=click.Path(path_type=Path))
@click.option("--list", "show", is_flag=True, help="Only list what was saved.")
@click.option("--yes", is_flag=True, help="Write without asking.")
@options.time_option("--wait", default=60.0, help="How long a restart may take.")
@click.option("--live", is_flag=True, help="Also while the device pushes: that interrupts what viewers see.")
@options.rig_option
@options.json_option
def restore(
    device: str, backup: Path | None, show: bool, yes: bool, wait: float, live: bool, rig_path: Path | None, as_json: bool
) -> ExitCode:  # fmt: skip
    """Set DEVICE as it was before the last write, or as BACKUP says (a file in .direkt/saved-settings/).

    The key of the push slot is put back where the rig knows it; a key is never kept in a backup.
    """
    from direkt.cli.write import one
    from direkt.work.device import saved
    from direkt.work.device.write import WriteTerms

    rig = options.load_rig(rig_path)
    name = rig.device_name(device)
    known = saved.newest(rig, name)
    if show:
        out = output.console()
        for path in known:
            old = saved.load(path)
            out.print(f"{escape(path)}  channel {escape(old.channel)}, {escape(old.server or 'no server address')}")
        if not known:
            out.print(f"nothing was saved of {escape(name)} yet")
        return ExitCode.GOOD
    named = [path for path in known if backup is not None and path.name == str(backup) and not backup.exists()]
    chosen = named[0] if named else backup if backup is not None else next(iter(known), None)
    if chosen is None:
        raise UnusableInput(f"nothing was saved of {name}: no write has changed it from here")
    old = saved.load(chosen)
    if old.device != name:
        raise UnusableInput(f"{chosen}: settings of {old.device}, not of {name}")
    feeds = [f for f, entry in rig.file.feeds.items() if entry.device == name]
    feed = next((f for f in feeds if rig.file.feeds[f].channel == old.channel), None)
    if feed is None:
        raise UnusableInput(f"no feed of the rig uses channel {old.channel} of {name}: add one, then restore")
    return one(rig, feed, yes, as_json, chosen, WriteTerms(wait, live=live))
