"""RTSP (RFC 2326, with what RFC 7826 made clearer) and SDP, both ends, as pure state."""
