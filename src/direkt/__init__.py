"""Direkt: cameras and encoders push straight to a live platform, and the stream itself proves it."""

__version__ = "0.2.0"
