"""Devices and drivers: find, device, driver."""

from __future__ import annotations

from typing import Literal

from typing_extensions import TypedDict

from direkt.device.state import Preset


class FoundJson(TypedDict):
    """A device that was found."""

    address: str  # as a rig has it; empty where it tells none
    name: str
    make: str
    model: str
    firmware: str
    speaks: list[str]  # onvif, rtsp, names of driver files
    can_push: bool | None  # null: unknown
    push: str  # the same in words: yes, no, from firmware 3.1, unknown
    needs_first_password: bool
    default_login_works: bool | None  # null: not tried
    rig_name: str | None
    driver: str  # what a rig would name
    other_addresses: list[str]
    notes: list[str]  # what stands in the way


class FindJson(TypedDict):
    """direkt find."""

    schema: Literal["direkt.find/1"]
    devices: list[FoundJson]
    notes: list[str]


class HealthRowJson(TypedDict):
    """One device; null where it does not tell."""

    device: str
    reachable: bool
    clock_offset: float | None  # s that its clock is ahead
    temperature: float | None  # degrees Celsius
    memory_free: float | None  # percent
    fan: str | None
    input: str | None  # empty: no signal
    uptime: float | None  # s
    push: list[str]  # the state of each push slot
    wrong: list[str]


class HealthJson(TypedDict):
    """direkt device health."""

    schema: Literal["direkt.device-health/1"]
    devices: list[HealthRowJson]


class TimeJson(TypedDict):
    """direkt device time."""

    schema: Literal["direkt.device-time/1"]
    device: str
    offset_before: float | None  # s that its clock was ahead
    offset: float | None
    by_ntp: bool
    servers: list[str]
    zone: str


class FirmwareJson(TypedDict):
    """direkt device firmware."""

    schema: Literal["direkt.device-firmware/1"]
    device: str
    before: str
    after: str


class AddressJson(TypedDict):
    """direkt device address."""

    schema: Literal["direkt.device-address/1"]
    device: str
    address: str | None  # as the rig has it now; null: by DHCP, and not known yet
    dhcp: bool
    restarted: bool


class ClaimJson(TypedDict):
    """direkt device claim."""

    schema: Literal["direkt.device-claim/1"]
    device: str
    user: str
    login: str  # the reference under which it is kept


class ShotJson(TypedDict):
    """One picture."""

    device: str
    size: str | None
    time: str | None
    remark: str | None  # what is wrong with it


class SnapshotJson(TypedDict):
    """direkt device snapshot."""

    schema: Literal["direkt.device-snapshot/1"]
    file: str
    devices: list[ShotJson]


class PresetJson(TypedDict):
    """direkt device preset."""

    schema: Literal["direkt.device-preset/1"]
    device: str
    action: str
    position: str | None
    presets: list[Preset]


class DriverRowJson(TypedDict):
    """A driver."""

    name: str
    title: str
    kind: str
    make: str
    model: str
    push: str


class DriverListJson(TypedDict):
    """direkt driver list."""

    schema: Literal["direkt.driver-list/1"]
    drivers: list[DriverRowJson]


class DriverLintJson(TypedDict):
    """direkt driver lint."""

    schema: Literal["direkt.driver-lint/1"]
    file: str
    title: str
    can: list[str]
    cannot: list[str]
    advice: list[str]


class DriverTryJson(TypedDict):
    """direkt driver try."""

    schema: Literal["direkt.driver-try/1"]
    address: str
    make: str
    model: str
    firmware: str
    channels: dict[str, dict[str, object]]  # set and can, by parameter
    slots: list[int]
    missing: list[str]
    write_back_failed: list[str]
    remarks: list[str]
