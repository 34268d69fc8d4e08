"""A device's state and limits, in the parameters' words and units; and what a driver offers."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import Protocol

from direkt import parameters
from direkt.demand import Demand
from direkt.described.errors import CannotDo, DeviceError
from direkt.device.input import InputSignal
from direkt.device_side import DeviceSide
from direkt.parameters import Values
from direkt.secret import Secret

PATIENCE = 15.0  # s that a device is given at least until it reads back what was written


@dataclass(frozen=True, slots=True)
class Together:
    """Limits that hold where the channel has certain values."""

    when: tuple[Demand, ...]  # all of them; none: always
    then: tuple[Demand, ...] = ()
    pictures: tuple[int, int] | None = None  # the keyframe interval, counted in pictures: the least and the most
    because: str = ""
    push: bool = True  # False: the device does not push then

    def holds(self, values: Mapping[str, parameters.Value]) -> bool:
        """Whether it applies beside these values (under every name that follows from them)."""
        return all(demand.name in values and demand.allows(values[demand.name]) for demand in self.when)


@dataclass(frozen=True, slots=True)
class Channel:
    """A separately encoded output."""

    name: str
    values: Values  # as set; one name for each setting
    limits: Mapping[str, Demand]  # what it can be set to
    title: str = ""  # what the device calls it
    together: tuple[Together, ...] = ()  # limits that depend on each other
    source: InputSignal | None = None  # where channels have different ones
    stream: str = ""  # the address at which the device gives the channel out itself
    sound: str = ""  # the device's name for its sound encoder, where channels may share one

    @property
    def full(self) -> Values:
        """The values under every name that follows from them."""
        return parameters.expand_set(self.values)


class PushState(StrEnum):
    """What a push slot does."""

    STOPPED = "stopped"
    CONNECTING = "connecting"
    PUSHING = "pushing"
    RETRYING = "retrying"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Slot:
    """A place in the device that holds a server address and a key."""

    number: int
    channel: str
    server: str
    key_length: int  # characters; the key itself never comes back
    state: PushState
    message: str = ""
    sent_bytes: int = 0


@dataclass(frozen=True, slots=True)
class Identity:
    """What a device is."""

    make: str = ""
    model: str = ""
    firmware: str = ""
    serial: str = ""


@dataclass(frozen=True, slots=True)
class DeviceState:
    """A device at one moment."""

    model: str
    firmware: str
    temperature: float | None  # degrees Celsius
    input: InputSignal | None  # None: no signal; one without a size: not told
    restart_needed: bool
    channels: Mapping[str, Channel]
    slots: Mapping[int, Slot] = field(default_factory=dict)  # empty where the device has none
    make: str = ""
    remarks: tuple[str, ...] = ()  # what could not be read, and what is odd
    no_push: str = ""  # why it has no push slots, where that is known

    def channel(self, name: str) -> Channel | None:
        """The channel by our name, or by what the device calls it; None where there is none."""
        found = self.channels.get(name)
        return found or next((one for one in self.channels.values() if one.title == name), None)


def side_of(state: DeviceState, channel: Channel) -> DeviceSide:
    """What the device says of itself, for judging what a channel sends."""
    signal = channel.source or state.input
    size = (signal.width, signal.height) if signal is not None and signal.width and signal.height else None
    others = {one.name: one.full for one in state.channels.values() if one.name != channel.name}
    return DeviceSide(channel.name, channel.full, others, state.restart_needed, size)


@dataclass(frozen=True, slots=True)
class DeviceClock:
    """A device's clock."""

    utc: datetime.datetime | None  # None: it does not tell
    offset: float | None  # s that it is ahead of ours
    by_ntp: bool
    servers: tuple[str, ...] = ()  # of NTP
    zone: str = ""  # as POSIX writes it


@dataclass(frozen=True, slots=True)
class Network:
    """How a device stands in its network (IPv4)."""

    interface: str  # what the device calls it
    address: str
    prefix: int  # bits
    dhcp: bool
    gateways: tuple[str, ...] = ()
    dns: tuple[str, ...] = ()
    ntp: tuple[str, ...] = ()
    hardware: str = ""  # MAC address


@dataclass(frozen=True, slots=True)
class Health:
    """How a device fares; None where it does not tell."""

    clock: DeviceClock | None = None
    temperature: float | None = None  # degrees Celsius
    memory_free: float | None = None  # percent
    fan: str | None = None
    input: str | None = None  # empty: no signal
    uptime: float | None = None  # s
    pushes: tuple[Slot, ...] = ()
    restart_needed: bool = False
    wrong: tuple[str, ...] = ()  # what the device itself complains of


@dataclass(frozen=True, slots=True)
class Preset:
    """A position of a camera that moves."""

    token: str
    name: str


class Capability(StrEnum):
    """Something that a driver may be able to do, beside reading; the value finishes "its driver cannot ..."."""

    WRITE = "change settings"
    SLOTS = "fill its push slots"
    PUSH = "start and stop its push"
    RESTART = "restart it"
    FIRMWARE = "replace its firmware"
    SNAPSHOT = "take a picture"
    PRESETS = "recall positions"
    ADDRESS = "change its address"
    TIME = "set its clock"
    CLAIM = "set its first password"


class Driver(Protocol):
    """Talks to one device. Every method but close() may raise a DeviceError; those that need a capability, CannotDo."""

    name: str
    address: str  # where the device is, as the rig says
    capabilities: frozenset[Capability]
    patience: float  # s that what was written may take until it reads back so

    def identity(self) -> Identity:
        """What it is."""

    def read(self) -> DeviceState:
        """State and limits."""

    def write(self, channel: Channel, values: Values) -> None:
        """Sets parameters of a channel (Capability.WRITE)."""

    def portions(self, values: Values) -> list[Values]:
        """The values in the groups that go to the device in one request each."""

    def write_slot(self, slot: int, channel: str, server: str, key: Secret) -> None:
        """Puts a server address and a key into a push slot, and says which channel it pushes (SLOTS).

        An empty address and key empty the slot.
        """

    def push(self, slot: int, *, on: bool) -> None:
        """Starts or stops a slot's push (PUSH)."""

    def restart(self) -> None:
        """Tells the device to restart, and does not wait for it (RESTART)."""

    def answers(self) -> bool:
        """Whether it answers now; False while it is away or not done starting."""

    def health(self) -> Health:
        """How it fares."""

    def pulse(self) -> Health:
        """What changes from one moment to the next, its push slots above all, in as few requests as it takes."""

    def snapshot(self, channel: str) -> bytes:
        """A picture of a channel as the device makes it, a JPEG (SNAPSHOT)."""

    def presets(self) -> list[Preset]:
        """The positions that it keeps (PRESETS)."""

    def go_to(self, preset: Preset) -> None:
        """Moves to one (PRESETS)."""

    def store(self, name: str, preset: Preset | None) -> None:
        """Keeps the present position under a name, in the place of ``preset`` where one is given (PRESETS)."""

    def clock(self) -> DeviceClock:
        """Its clock (TIME)."""

    def set_clock(self, moment: datetime.datetime | None, servers: tuple[str, ...]) -> None:
        """Sets the clock to ``moment``, or to follow NTP ``servers`` (TIME)."""

    def network(self) -> Network:
        """Its address and what belongs to it (ADDRESS)."""

    def set_network(self, wanted: Network) -> bool:
        """Changes it, and says whether the device has to restart for that (ADDRESS). It may be gone at once."""

    def update(self, file: Path, sent: Callable[[int], None]) -> None:
        """Sends a firmware file; ``sent`` is told how many bytes went (FIRMWARE). Raises Refused."""

    def is_new(self) -> bool:
        """Whether it waits for its first password (CLAIM)."""

    def claim(self, user: str, password: Secret) -> None:
        """Sets the first password (CLAIM). Raises Refused."""

    def cannot(self, capability: Capability) -> CannotDo:
        """What to say where it cannot do something."""

    def close(self) -> None:
        """Lets go of the connection."""


class Bare:
    """What a driver inherits that cannot do everything: each method says so."""

    name: str
    address: str
    capabilities: frozenset[Capability] = frozenset()
    patience: float = PATIENCE

    def cannot(self, capability: Capability) -> CannotDo:
        """What to say where it cannot do something."""
        return CannotDo(f"{self.name}: its driver cannot {capability.value}; do it by hand on the device's page")

    def read(self) -> DeviceState:
        """To be written."""
        raise NotImplementedError

    def identity(self) -> Identity:
        """From the state."""
        state = self.read()
        return Identity(state.make, state.model, state.firmware)

    def health(self) -> Health:
        """From the state."""
        return health_of(self.read())

    def pulse(self) -> Health:
        """Its health."""
        return self.health()

    def write(self, channel: Channel, values: Values) -> None:
        """Raises CannotDo."""
        raise self.cannot(Capability.WRITE)

    def portions(self, values: Values) -> list[Values]:
        """All in one request."""
        return [dict(values)] if values else []

    def write_slot(self, slot: int, channel: str, server: str, key: Secret) -> None:
        """Raises CannotDo."""
        raise self.cannot(Capability.SLOTS)

    def push(self, slot: int, *, on: bool) -> None:
        """Raises CannotDo."""
        raise self.cannot(Capability.PUSH)

    def restart(self) -> None:
        """Raises CannotDo."""
        raise self.cannot(Capability.RESTART)

    def answers(self) -> bool:
        """Whether it can be read."""
        try:
            self.read()
        except DeviceError:
            return False
        return True

    def snapshot(self, channel: str) -> bytes:
        """Raises CannotDo."""
        raise self.cannot(Capability.SNAPSHOT)

    def presets(self) -> list[Preset]:
        """Raises CannotDo."""
        raise self.cannot(Capability.PRESETS)

    def go_to(self, preset: Preset) -> None:
        """Raises CannotDo."""
        raise self.cannot(Capability.PRESETS)

    def store(self, name: str, preset: Preset | None) -> None:
        """Raises CannotDo."""
        raise self.cannot(Capability.PRESETS)

    def clock(self) -> DeviceClock:
        """Raises CannotDo."""
        raise self.cannot(Capability.TIME)

    def set_clock(self, moment: datetime.datetime | None, servers: tuple[str, ...]) -> None:
        """Raises CannotDo."""
        raise self.cannot(Capability.TIME)

    def network(self) -> Network:
        """Raises CannotDo."""
        raise self.cannot(Capability.ADDRESS)

    def set_network(self, wanted: Network) -> bool:
        """Raises CannotDo."""
        raise self.cannot(Capability.ADDRESS)

    def update(self, file: Path, sent: Callable[[int], None]) -> None:
        """Raises CannotDo."""
        raise self.cannot(Capability.FIRMWARE)

    def is_new(self) -> bool:
        """A device whose driver cannot set a first password is not known to want one."""
        return False

    def claim(self, user: str, password: Secret) -> None:
        """Raises CannotDo."""
        raise self.cannot(Capability.CLAIM)

    def close(self) -> None:
        """There is nothing to let go of."""


def health_of(state: DeviceState) -> Health:
    """What a state tells of a device's health."""
    signal = None if state.input is not None and not state.input.text else (state.input.text if state.input else "")
    return Health(
        temperature=state.temperature, input=signal, pushes=tuple(state.slots.values()),
        restart_needed=state.restart_needed,
    )  # fmt: skip


def need(driver: Driver, *capabilities: Capability) -> None:
    """Raises CannotDo for the first capability that the driver does not have."""
    for capability in capabilities:
        if capability not in driver.capabilities:
            raise driver.cannot(capability)
