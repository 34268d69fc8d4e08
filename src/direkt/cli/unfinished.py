"""What an earlier write has left, and what is set but not in force: said by every command that meets the device."""

from __future__ import annotations

from typing import TYPE_CHECKING

from direkt.cli import output
from direkt.cli.output import escape

if TYPE_CHECKING:
    from rich.console import Console

    from direkt.rig.file import Rig
    from direkt.work.device.unfinished import UnfinishedWrite


def tell(rig: Rig, *, feed: str | None = None, device: str | None = None) -> list[UnfinishedWrite]:
    """Says which writes were not finished, of a feed's device or of a device, and what to do. Raises RigError."""
    from direkt.work.device import unfinished

    found = unfinished.of_device(rig, device or rig.file.feeds[rig.feed_name(feed)].device)
    for one in found:
        output.note(f"! {one.told_later}")
    return list(found)


def not_in_force(out: Console, device: str, feed: str | None) -> None:
    """The device waits for a restart."""
    how = f"direkt write {feed} restarts it" if feed is not None else "restart it"
    out.print(f"[bold red]✗ not in force[/]  {escape(device)} needs a restart: until then the stream keeps the settings "
              f"from before; {escape(how)}")  # fmt: skip
