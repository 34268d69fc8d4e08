"""direkt device: what is done with a device itself, beside its settings. Its commands stand in the files named here."""

from __future__ import annotations

import click

from direkt.cli import device_care, device_learned, device_place, device_restart, device_view


@click.group()
def device() -> None:
    """Look after the devices themselves: address, first password, clock, health, firmware, pictures, positions."""


for command in (
    device_care.health, device_care.time_, device_restart.restart, device_restart.firmware, device_care.login_, device_place.address, device_place.claim,
    device_view.snapshot, device_view.preset, device_learned.learned,
):  # fmt: skip
    device.add_command(command)
