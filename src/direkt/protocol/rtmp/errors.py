"""What can go wrong in RTMP."""

from direkt.errors import Malformed


class RtmpError(Malformed):
    """The peer broke the protocol, or asked for more than is allowed; the text says what it did."""
