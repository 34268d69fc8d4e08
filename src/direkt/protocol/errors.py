"""What is wrong with how a protocol is used, and whose fault it is; each protocol has an error of its own for what the peer does."""

from __future__ import annotations

from direkt.errors import DirektError


class LocalError(DirektError):
    """This end was asked for something that its state does not allow: a mistake of whoever drives the session."""
