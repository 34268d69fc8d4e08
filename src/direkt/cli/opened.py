"""A device of the rig, opened; and the question before something is done to it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from direkt.cli import options
from direkt.errors import UnusableInput

if TYPE_CHECKING:
    from direkt.device.state import Driver
    from direkt.rig.file import Rig

yes_option = click.option("--yes", is_flag=True, help="Do it without asking.")


def agreed(question: str, yes: bool) -> bool:
    """Whether the person agrees. Raises UnusableInput where nobody is there."""
    if yes:
        return True
    if not sys.stdin.isatty():
        raise UnusableInput("there is no terminal to confirm on: add --yes to do it without asking")
    return click.confirm(question, default=False, err=True)


def opened(rig_path: Path | None, name: str | None) -> tuple[Rig, str, Driver]:
    """The rig, the device's name, and its driver, to be closed when done."""
    rig = options.load_rig(rig_path)
    chosen = rig.device_name(name)
    return rig, chosen, rig.driver(chosen, options.sources(rig))
