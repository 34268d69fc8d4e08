"""The end of an event loop that ran in a thread of its own."""

from __future__ import annotations

import asyncio


def end(loop: asyncio.AbstractEventLoop) -> None:
    """Cancels what is left in ``loop``, lets it end in good order, and closes the loop: one that stood still until then
    would meet a closed loop, and say so on the terminal."""
    loop.run_until_complete(asyncio.sleep(0))  # what was accepted at the last moment becomes a task
    while left := asyncio.all_tasks(loop):
        for task in left:
            task.cancel()
        loop.run_until_complete(asyncio.gather(*left, return_exceptions=True))
    loop.run_until_complete(asyncio.sleep(0))  # and its socket closes
    loop.close()
