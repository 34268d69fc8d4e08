"""asyncio around the protocols: the receiver and the publisher."""
