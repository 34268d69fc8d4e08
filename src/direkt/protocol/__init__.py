"""Protocols as pure state: bytes in, events out; no sockets."""
