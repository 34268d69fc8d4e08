"""The driver for a device of the cameras' open standard whose driver file adds what the standard has no words for.

What the file describes goes by its requests: push slots, settings that the standard does not know, facts. All else goes by
the standard. Without a file it is the standard alone.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from direkt.described.errors import BadAnswer
from direkt.device import by_file
from direkt.device.driver_file import DriverFile, can_push, check
from direkt.device.onvif import driver as onvif
from direkt.device.state import Bare, Capability, Channel, DeviceClock, DeviceState, Health, Identity, Network, Preset
from direkt.parameters import Values
from direkt.secret import Secret

__all__ = ["Driver", "DriverFile", "check"]

NEEDS_ADDRESS = True


class Driver(Bare):
    """Talks to one device by the standard and by its file."""

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
        self._standard = onvif.Driver(name, address, login, any_certificate=any_certificate)
        self._own = by_file.Driver(name, file, self._standard.client.address, login, any_certificate=any_certificate)
        self._pushes: bool | None = None  # not known yet
        self._own_state: bool | None = None  # whether the file's requests tell of the push; not known yet
        own = self._own.capabilities - {Capability.WRITE}
        self.capabilities = self._standard.capabilities | own

    def close(self) -> None:
        """Lets go of the connections."""
        self._standard.close()
        self._own.close()

    # Reading

    def identity(self) -> Identity:
        """By the standard. Raises DeviceError."""
        return self._standard.identity()

    def read(self) -> DeviceState:
        """State and limits of both. Raises DeviceError."""
        state = self._standard.read()
        self._pushes = can_push(self.file, state.firmware)
        if "state" not in self.file.requests:
            return state
        if self._pushes is False and self.file.push.from_firmware:
            words = f"it pushes from firmware {self.file.push.from_firmware} on, and has {state.firmware}"
            return replace(state, remarks=(*state.remarks, words), no_push=words)
        try:
            own = self._own.read()
        except BadAnswer as error:  # the standard's part is there all the same
            words = f"its page for the push cannot be read: {error}"
            return replace(state, remarks=(*state.remarks, words), no_push=words)
        channels = {name: self._joined(one, own.channels.get(name)) for name, one in state.channels.items()}
        return replace(
            state, channels=channels, slots=own.slots, temperature=own.temperature,
            restart_needed=state.restart_needed or own.restart_needed, remarks=(*state.remarks, *own.remarks),
        )  # fmt: skip

    @staticmethod
    def _joined(one: Channel, more: Channel | None) -> Channel:
        if more is None:
            return one
        return replace(
            one, values={**one.values, **more.values}, limits={**one.limits, **more.limits}, together=(*one.together, *more.together)
        )  # fmt: skip

    def health(self) -> Health:
        """Of both. Raises DeviceError."""
        found = self._standard.health()
        if "state" not in self.file.requests or can_push(self.file, self._standard.identity().firmware) is False:
            return found
        try:
            own = self._own.health()
        except BadAnswer as error:
            return replace(found, wrong=(*found.wrong, str(error)))
        return replace(
            own, clock=found.clock, input=own.input if own.input is not None else found.input,
            restart_needed=own.restart_needed or found.restart_needed,
        )  # fmt: skip

    def pulse(self) -> Health:
        """By the file alone, where that tells of the push. Raises DeviceError."""
        if self._own_state is None:
            firmware = self._standard.identity().firmware if self.file.push.from_firmware else ""
            self._own_state = "state" in self.file.requests and can_push(self.file, firmware) is not False
        if self._own_state:
            return self._own.health()
        return Health() if self._standard.answers() else self._standard.health()

    def answers(self) -> bool:
        """By the standard."""
        return self._standard.answers()

    # Writing

    def write(self, channel: Channel, values: Values) -> None:
        """Each parameter by the way that has it. Raises DeviceError."""
        standard, own = self._divided(values)
        if standard:
            self._standard.write(channel, standard)
        if own:
            self._own.write(channel, own)

    def _divided(self, values: Values) -> tuple[Values, Values]:
        """What goes by the standard, and what by the file."""
        own = set(self.file.settings) | {
            name for mode in self.file.modes for more in mode.words.values() for name in more
        }
        return {n: v for n, v in values.items() if n not in own}, {n: v for n, v in values.items() if n in own}

    def portions(self, values: Values) -> list[Values]:
        """Those of the standard, and those of the file."""
        standard, own = self._divided(values)
        return [*self._standard.portions(standard), *self._own.portions(own)]

    def write_slot(self, slot: int, channel: str, server: str, key: Secret) -> None:
        """By the file. Raises DeviceError."""
        self._may_push()
        self._own.write_slot(slot, channel, server, key)

    def push(self, slot: int, *, on: bool) -> None:
        """By the file. Raises DeviceError."""
        self._may_push()
        self._own.push(slot, on=on)

    def _may_push(self) -> None:
        if self._pushes is None:
            self._pushes = can_push(self.file, self.identity().firmware)
        if self._pushes is False:
            least = f" before firmware {self.file.push.from_firmware}" if self.file.push.from_firmware else ""
            raise BadAnswer(self.name, f"cannot push{least}")

    def restart(self) -> None:
        """By the file where it says how. Raises DeviceError."""
        (self._own if Capability.RESTART in self._own.capabilities else self._standard).restart()

    # The rest, by the file where it says how

    def snapshot(self, channel: str) -> bytes:
        """Raises DeviceError."""
        return (self._own if Capability.SNAPSHOT in self._own.capabilities else self._standard).snapshot(channel)

    def update(self, file: Path, sent: Callable[[int], None]) -> None:
        """Raises Refused and OSError."""
        (self._own if Capability.FIRMWARE in self._own.capabilities else self._standard).update(file, sent)

    def presets(self) -> list[Preset]:
        """Raises DeviceError."""
        return self._standard.presets()

    def go_to(self, preset: Preset) -> None:
        """Raises DeviceError."""
        self._standard.go_to(preset)

    def store(self, name: str, preset: Preset | None) -> None:
        """Raises DeviceError."""
        self._standard.store(name, preset)

    def clock(self) -> DeviceClock:
        """Raises DeviceError."""
        return self._standard.clock()

    def set_clock(self, moment: datetime.datetime | None, servers: tuple[str, ...]) -> None:
        """Raises DeviceError."""
        self._standard.set_clock(moment, servers)

    def network(self) -> Network:
        """Raises DeviceError."""
        return self._standard.network()

    def set_network(self, wanted: Network) -> bool:
        """Raises DeviceError."""
        return self._standard.set_network(wanted)

    def is_new(self) -> bool:
        """Raises DeviceError."""
        return self._standard.is_new()

    def claim(self, user: str, password: Secret) -> None:
        """Raises Refused."""
        self._standard.claim(user, password)
