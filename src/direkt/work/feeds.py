"""A feed with all that belongs to it, looked up once."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from direkt import parameters
from direkt.destination.references import Sources
from direkt.destination.sheet import Sheet
from direkt.device import library
from direkt.device.settings_modes import presets
from direkt.device.state import Channel, DeviceState, Driver, Slot, side_of
from direkt.device_side import DeviceSide
from direkt.errors import UnusableInput
from direkt.protocol import source
from direkt.protocol.address import AddressError
from direkt.protocol.source import SourceAddress
from direkt.rig.file import DestinationEntry, FeedEntry, Rig
from direkt.secret import Secret

if TYPE_CHECKING:
    from direkt.device.driver_file import DriverFile


@dataclass(frozen=True, slots=True)
class FeedParts:
    """A feed, its destination and sheet, and the driver of its device."""

    rig: Rig
    name: str
    entry: FeedEntry
    destination: DestinationEntry
    sheet: Sheet
    driver: Driver

    @property
    def device(self) -> str:
        """The device's name in the rig."""
        return self.entry.device

    def channel(self, state: DeviceState) -> Channel:
        """The channel that the feed pushes. Raises UnusableInput."""
        found = state.channel(self.entry.channel)
        if found is None:
            raise UnusableInput(
                f"{self.device} has no channel {self.entry.channel!r}; it has {', '.join(state.channels)}"
            )
        return found

    def slot(self, state: DeviceState) -> Slot:
        """The push slot that the feed uses. Raises UnusableInput."""
        found = state.slots.get(self.entry.slot)
        if found is None and not state.slots:
            raise UnusableInput(f"{self.device} has no push of its own that its driver knows: {self.no_push(state)}")
        if found is None:
            known = ", ".join(str(number) for number in state.slots) or "none"
            raise UnusableInput(f"{self.device} has no push slot {self.entry.slot}; it has {known}")
        return found

    def menu(self, parameter: str) -> str:
        """Where a person finds a parameter on the device, by its driver file; empty: not known there."""
        file = self._driver_file()
        if file is None:
            return ""
        setting = parameters.setting_of(parameter)
        modes = [mode.at for mode in file.modes if any(setting in row for row in mode.words.values())]
        return " > ".join(next((file.menus[at] for at in (parameter, setting, *modes) if at in file.menus), []))

    def side(self, state: DeviceState, channel: Channel) -> DeviceSide:
        """What the device says of itself, and its driver file of it, for judging what the channel sends."""
        file = self._driver_file()
        return replace(side_of(state, channel), presets=tuple(presets(file)) if file is not None else ())

    def _driver_file(self) -> DriverFile | None:
        """What describes the device; None where a standard does, or the file cannot be used."""
        name = self.rig.file.devices[self.device].driver
        if name == library.STANDARD:
            return None
        with contextlib.suppress(UnusableInput):
            return library.load_described(name, self.rig.folder)
        return None

    def no_push(self, state: DeviceState) -> str:
        """What to do where the device has no push slots."""
        return state.no_push or "enter server address and key on its page, or take another device"

    def known_key(self, server: str, length: int, sources: Sources) -> Secret | None:
        """The key that the rig knows for a server address, where it has this many characters."""
        for name, entry in self.rig.file.destinations.items():
            if entry.server == server:
                with contextlib.suppress(UnusableInput):
                    key = self.rig.key(self.rig.destination(name), sources)
                    if len(key) == length:
                        return key
        return None


def look_up(rig: Rig, name: str | None, sources: Sources) -> FeedParts:
    """The feed called ``name``, or the only one. Raises UnusableInput. Close the driver when done."""
    feed = rig.feed_name(name)
    entry, _, destination = rig.feed(feed)
    return FeedParts(rig, feed, entry, destination, rig.sheet(destination), rig.driver(entry.device, sources))


def source_of(feed: FeedParts, channel: Channel | None) -> SourceAddress:
    """Where the feed's device gives out the channel itself: what the rig says, or else the device.

    Raises UnusableInput where neither knows.
    """
    told = feed.entry.source or (channel.stream if channel is not None else "")
    if not told:
        raise UnusableInput(
            f"{feed.device}: its driver knows no address at which channel {feed.entry.channel!r} can be fetched; find it in the "
            f"handbook, try it (direkt check rtsp://HOST/PATH), and write it under feeds.{feed.name}.source"
        )
    try:
        return source.parse(told)[0]
    except AddressError as error:
        raise UnusableInput(
            f"{feed.device}: the address of channel {feed.entry.channel!r} cannot be used: {error}"
        ) from None
