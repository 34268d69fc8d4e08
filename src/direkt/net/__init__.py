"""asyncio around the protocols. A transport is one file here; transport.py says what it offers and finds it."""
