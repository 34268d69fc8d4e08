"""What can go wrong with a device, or with an interface that a file describes."""

from __future__ import annotations

from collections.abc import Mapping

from direkt import mask
from direkt.errors import NoAnswer, UnusableInput


class DeviceError(NoAnswer):
    """Something between us and the device; ``what`` says what it does, or does not, and what to do.

    ``device``: whose name stands before that; of one without ``what`` it is the whole text, and the device is not named.
    """

    def __init__(self, device: str, what: str = "") -> None:
        super().__init__(f"{device} {what}" if what else device)
        self.what = mask.own(what or device)


class Unreachable(DeviceError):
    """It does not answer."""


class DeviceLoginRefused(DeviceError):
    """It does not take the login; ``said`` are its own words, where it has some."""

    def __init__(self, device: str, what: str = "", said: str = "") -> None:
        self.said = said
        super().__init__(device, what)


class BadAnswer(DeviceError):
    """It answers with something that its driver does not know."""


class NotOffered(DeviceError):
    """It does not have this, though its driver could use it."""


class ChangeRefused(DeviceError):
    """It refuses a change; ``reasons`` maps parameters (or the device's own fields) to its words."""

    def __init__(self, device: str, reasons: Mapping[str, str]) -> None:
        self.reasons = dict(reasons)
        super().__init__(device, "refuses: " + "; ".join(f"{name}: {why}" for name, why in reasons.items()))


class CannotDo(UnusableInput):
    """Its driver has no way to do this."""
