"""The tests. asyncio's own log lines on slow steps and failed handshakes say nothing about them."""

import logging

logging.getLogger("asyncio").setLevel(logging.CRITICAL + 1)
