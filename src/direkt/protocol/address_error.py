"""What is wrong with an address."""

from __future__ import annotations

from direkt.errors import UnusableInput


class AddressError(UnusableInput, ValueError):
    """A server address that cannot be meant; the text says what is wrong with it."""
