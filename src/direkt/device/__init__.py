"""Devices: what they are set to, what they can do, and how to talk to them."""
