"""RTMP (the published specification, version 1.0), both ends, as pure state."""
