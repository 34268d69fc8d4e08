"""The push of a simulated device, paced in real time."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from direkt.codec.programme import Programme
from direkt.net.transport import Publisher


async def push(publisher: Publisher, programme: Programme, progress: Callable[[int], None]) -> None:
    """Pushes until cancelled. Raises PublishError; ``progress`` is told the bytes sent."""
    await publisher.start()
    try:
        await publisher.send(programme.claims())
        for format in programme.formats():
            await publisher.send(format)
        loop = asyncio.get_running_loop()
        begin = loop.time()
        while True:
            time, samples = programme.next()
            ahead = begin + float(time) - loop.time()
            if ahead > 0:
                await asyncio.sleep(ahead)
            await publisher.send(samples)
            progress(publisher.sent)
    finally:
        await publisher.close()
