"""Keys in the store and in the rig: which one a destination has, and changing it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from direkt.cli import options

if TYPE_CHECKING:

    from direkt.destination.keystore import Binding
    from direkt.destination.paste import Paste
    from direkt.rig.file import DestinationEntry, Rig



def destination_of(rig_path: Path | None, name: str) -> tuple[Rig, DestinationEntry]:
    rig = options.load_rig(rig_path)
    return rig, rig.destination(name)


def store_name(rig: Rig, destination: str) -> str:
    return options.own_name(rig, destination)


def bound_to(rig: Rig, entry: DestinationEntry, found: Paste) -> Binding:
    """What the pasted key is bound to: the rig, and where it says from now on that the key goes."""
    from direkt.rig.file import key_places

    server = str(found.server) if found.server is not None else entry.server
    return options.binding(rig, key_places(entry.model_copy(update={"server": server})))


def change_rig(rig: Rig, destination: str, changes: dict[str, str]) -> None:
    """Writes entries of a destination into rig.yaml."""
    from direkt.cli import rigfile

    rigfile.change(rig, [(["destinations", destination, name], value) for name, value in changes.items()])
