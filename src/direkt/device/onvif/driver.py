"""The driver for devices of the cameras' open standard. It needs no driver file; one may add what the standard has no words for."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from urllib.parse import urlsplit

from direkt.described.errors import BadAnswer, ChangeRefused, DeviceError, DeviceLoginRefused, NotOffered, Unreachable
from direkt.described.http import Login
from direkt.device.input import InputSignal
from direkt.device.onvif import manage
from direkt.device.onvif.client import WRONG_CLOCK, Client, offset_text
from direkt.device.onvif.media import Media, with_stream
from direkt.device.state import (
    Bare,
    Capability,
    Channel,
    DeviceClock,
    DeviceState,
    Health,
    Identity,
    Network,
    Preset,
    health_of,
)
from direkt.parameters import Values
from direkt.secret import Secret

_LARGEST_PICTURE = 16 << 20  # bytes
_NOT_TOLD = InputSignal("")


class Driver(Bare):
    """Talks to one device."""

    capabilities = frozenset({
        Capability.WRITE, Capability.RESTART, Capability.FIRMWARE, Capability.SNAPSHOT, Capability.PRESETS,
        Capability.ADDRESS, Capability.TIME, Capability.CLAIM,
    })  # fmt: skip

    def __init__(
        self, name: str, address: str, login: tuple[str, Secret] | None, *, scheme: Login = "any", any_certificate: bool = False,
        limit: float = 5.0,
    ) -> None:  # fmt: skip
        self.name, self.address = name, address
        self.client = Client(name, address, login, scheme=scheme, any_certificate=any_certificate, limit=limit)
        self._media = Media(self.client)
        self._identity: Identity | None = None
        self._host = urlsplit(address).hostname or ""

    def close(self) -> None:
        """Lets go of the connection."""
        self.client.close()

    # Reading

    def identity(self) -> Identity:
        """Maker, model, firmware. Raises DeviceError."""
        self._identity = manage.identity(self.client)
        return self._identity

    def read(self) -> DeviceState:
        """State and limits. Raises DeviceError."""
        remarks: list[str] = []
        try:
            known = self._identity or self.identity()
        except (NotOffered, ChangeRefused, BadAnswer) as error:
            known = Identity()
            remarks.append(f"make and model not reported: {error}")
        channels, sources = self._media.channels()
        channels = {name: with_stream(one, self._media.stream(name, self._host)) for name, one in channels.items()}
        signal = next(iter(sources.values()), _NOT_TOLD)
        offset = self.client.offset()
        if offset is not None and abs(offset) > WRONG_CLOCK:
            remarks.append(f"its clock is {offset_text(offset)}: set it with: direkt device time {self.name}")
        return DeviceState(
            known.model or "a device that does not say what it is", known.firmware or "not reported", None, signal, False, channels,
            make=known.make, remarks=(*remarks, *dict.fromkeys(self._media.remarks)),
        )  # fmt: skip

    def health(self) -> Health:
        """Clock and sensor; the standard has no words for heat or memory. Raises DeviceError."""
        clock = self.clock()
        state = self.read()
        return replace(health_of(state), clock=clock)

    def pulse(self) -> Health:
        """That it answers; the standard has no push slots. Raises DeviceError."""
        return Health() if self.answers() else self.health()

    def speaks(self) -> bool:
        """Whether it answers as a device of the standard does. Raises Unreachable."""
        return self.client.speaks()

    def answers(self) -> bool:
        """Whether it tells everybody its time, or anything at all."""
        try:
            self.client.clock()
        except DeviceError:
            return False
        return True

    # Writing

    def write(self, channel: Channel, values: Values) -> None:
        """Sets parameters of a channel. Raises DeviceError."""
        self._media.write(channel.name, values, channel)

    def portions(self, values: Values) -> list[Values]:
        """Picture and sound are two configurations."""
        parts = [{n: v for n, v in values.items() if n.startswith(start)} for start in ("video.", "audio.")]
        return [part for part in parts if part]

    def restart(self) -> None:
        """Raises DeviceError."""
        manage.restart(self.client)
        self._media.forget()
        self._identity = None

    # Pictures and positions

    def snapshot(self, channel: str) -> bytes:
        """A JPEG. Raises DeviceError."""
        path = self._media.snapshot(channel)
        answer = self.client.http.admitted("GET", path, most=_LARGEST_PICTURE)
        if answer.status >= 300 or not answer.content.startswith(b"\xff\xd8"):
            what = f"HTTP status {answer.status}" if answer.status >= 300 else answer.kind
            raise BadAnswer(self.name, f"gives no JPEG as its picture: {what}")
        return answer.content

    def presets(self) -> list[Preset]:
        """Raises DeviceError."""
        return manage.presets(self.client, self._media.profile_of_first())

    def go_to(self, preset: Preset) -> None:
        """Raises DeviceError."""
        manage.go_to(self.client, self._media.profile_of_first(), preset.token)

    def store(self, name: str, preset: Preset | None) -> None:
        """Raises DeviceError."""
        manage.store(self.client, self._media.profile_of_first(), name, preset.token if preset else None)

    # The device itself

    def clock(self) -> DeviceClock:
        """Raises DeviceError."""
        return manage.clock(self.client)

    def set_clock(self, moment: datetime.datetime | None, servers: tuple[str, ...]) -> None:
        """Raises DeviceError."""
        manage.set_clock(self.client, moment, servers, self.client.clock().zone)

    def network(self) -> Network:
        """Raises DeviceError."""
        return manage.network(self.client, self._host)

    def set_network(self, wanted: Network) -> bool:
        """Raises DeviceError; a device that moves before it has answered has taken it."""
        try:
            return manage.set_network(self.client, wanted)
        except Unreachable:
            return False

    def update(self, file: Path, sent: Callable[[int], None]) -> None:
        """Raises Refused and OSError."""
        manage.update(self.client, file, sent)

    def is_new(self) -> bool:
        """Raises Unreachable."""
        return manage.is_new(self.client)

    def claim(self, user: str, password: Secret) -> None:
        """Raises Refused."""
        try:
            manage.claim(self.client, user, password)
        except DeviceLoginRefused:
            raise ChangeRefused(self.name, {"first password": "it has one already: use its login"}) from None
