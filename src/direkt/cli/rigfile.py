"""Changes to the rig that a command makes for the person: comments and order stay, and so does the person's trust."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from direkt.cli import options

if TYPE_CHECKING:
    from direkt.rig.edit import Content
    from direkt.rig.file import Rig


def change(rig: Rig, changes: Sequence[tuple[Sequence[str], Content]]) -> None:
    """Puts each value at its place in rig.yaml. Raises UnusableInput; then the file is as it was."""
    from direkt.rig import edit as rig_edit

    trust = options.trust(rig)
    rig_edit.change(rig.path, changes)
    new = options.load_rig(rig.path)
    if trust.commands:  # the person's own change leaves it trusted
        options.trust_store().add(rig.path, new.content(), trust.environment or ())
    if new.sent() != rig.sent():
        options.bind(new, own=True)  # and its secrets go where the person sent them
