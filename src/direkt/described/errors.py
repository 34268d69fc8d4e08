"""What can go wrong with a device, or with an interface that a file describes."""

from __future__ import annotations

from collections.abc import Mapping

from direkt.errors import NoAnswer, UnusableInput


class DeviceError(NoAnswer):
    """Something between us and the device; the text says what and what to do."""


class Unreachable(DeviceError):
    """It does not answer."""


class LoginRefused(DeviceError):
    """It does not take the login; ``said`` are its own words, where it has some."""

    def __init__(self, text: str, said: str = "") -> None:
        self.said = said
        super().__init__(text)


class BadAnswer(DeviceError):
    """It answers with something that its driver does not know."""


class NotOffered(DeviceError):
    """It does not have this, though its driver could use it."""


class Refused(DeviceError):
    """It refuses a change; ``reasons`` maps parameters (or the device's own fields) to its words."""

    def __init__(self, device: str, reasons: Mapping[str, str]) -> None:
        self.reasons = dict(reasons)
        super().__init__(f"{device} refuses: " + "; ".join(f"{name}: {why}" for name, why in reasons.items()))


class CannotDo(UnusableInput):
    """Its driver has no way to do this."""
