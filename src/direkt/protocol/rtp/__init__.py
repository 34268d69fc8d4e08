"""RTP and RTCP (RFC 3550) and the payload formats of cameras, without I/O."""
