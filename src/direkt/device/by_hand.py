"""Devices that no program can reach: a person enters everything, and a driver file says in which words and places.

Nothing is known of how such a device is set; what it can be set to is what the file says.
"""

from __future__ import annotations

from direkt import demand
from direkt.demand import Demand
from direkt.described.errors import CannotDo
from direkt.device.driver_file import DriverFile, check
from direkt.device.input import input_signal
from direkt.device.settings_modes import mode_limits, mode_rules
from direkt.device.state import Bare, Capability, Channel, DeviceState, PushState, Slot, Together
from direkt.secret import Secret

__all__ = ["Driver", "DriverFile", "check"]

BY_HAND = "it is set by hand; what to enter: direkt card"


class Driver(Bare):
    """One device."""

    def __init__(
        self,
        name: str,
        file: DriverFile,
        address: str,
        login: tuple[str, Secret] | None,
        *,
        any_certificate: bool = False,
    ) -> None:
        self.name, self.address, self.file = name, address, file

    def read(self) -> DeviceState:
        """What it can be set to; nobody knows what it is set to."""
        file = self.file
        limits = {name: demand.parse(name, raw) for name, raw in file.limits.items()}
        values = {
            name: limit.one_of[0]
            for name, limit in limits.items()
            if len(limit.one_of) == 1 and name not in file.settings
        }
        for name in values:
            del limits[name]
        limits |= mode_limits(file)
        rules = (*_together(file), *mode_rules(file))
        channels = {
            name: Channel(name, dict(values), dict(limits), str(file.channel(name).word or ""), rules)
            for name in file.channels
        }
        first = next(iter(channels))
        return DeviceState(
            model=file.fits.model or file.title, firmware="", temperature=None, input=input_signal(""), restart_needed=False, channels=channels,
            slots={1: Slot(1, first, "", 0, PushState.STOPPED, "by hand")}, make=file.fits.make, remarks=(BY_HAND,),
        )  # fmt: skip

    def answers(self) -> bool:
        """There is nobody to ask."""
        return True

    def cannot(self, capability: Capability) -> CannotDo:
        """Nothing can be done from here."""
        return CannotDo(f"{self.name} is set by hand: no program can {capability.value}; what to enter: direkt card")


def _together(file: DriverFile) -> tuple[Together, ...]:
    """The limits that depend on each other; what depends on facts that nobody can ask for does not hold."""
    out = []
    for rule in file.together:
        if any(name in file.more_facts for name in rule.when):
            continue
        then = [demand.parse(name, raw) for name, raw in rule.then.items()]
        if rule.protocols is not None:
            then.append(Demand("stream.protocol", tuple(rule.protocols)))
        when = tuple(demand.parse(name, raw) for name, raw in rule.when.items())
        out.append(Together(when, tuple(then), None, rule.because, push=rule.push == "yes"))
    return tuple(out)
