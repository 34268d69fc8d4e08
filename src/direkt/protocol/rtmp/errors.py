"""What can go wrong in RTMP, and whose fault it was."""

from direkt.errors import DirektError, Malformed


class RtmpError(Malformed):
    """The peer broke the protocol, or asked for more than is allowed; the text says what it did."""


class LocalError(DirektError):
    """This end was asked for something that its state does not allow."""
