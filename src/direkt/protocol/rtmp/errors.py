"""What can go wrong in RTMP."""


class RtmpError(ValueError):
    """The peer broke the protocol, or asked for more than is allowed; the text says what it did."""
