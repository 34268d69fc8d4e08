"""A publisher that does all that RTMP 1.0 allows and hardly anybody does, assembled by hand, over real sockets.

Nothing here is the project's own writer: chunks, AMF and aggregates are put together from the standards' tables, and
what must arrive is a plain list that is kept beside them.
"""

import asyncio
import itertools
import random
import re
import struct
import unittest

from direkt.net.rtmp import Receiver
from direkt.net.transport import Arrived, Left
from direkt.secret import Secret
from tests.support import KEY, Async, flat, thorough

CONFIG = bytes.fromhex("17000000000142c01effe1000a6742c01e95a0280bfe5401000468ce3c80")
SOUND_CONFIG = bytes.fromhex("af001190")


# AMF0 by its specification's table of markers


def text(value: str) -> bytes:
    data = value.encode()
    return (b"\x02" + struct.pack(">H", len(data)) if len(data) < 0x10000 else b"\x0c" + struct.pack(">I", len(data))) + data


def long_text(value: str) -> bytes:
    return b"\x0c" + struct.pack(">I", len(value)) + value.encode()


def number(value: float) -> bytes:
    return b"\x00" + struct.pack(">d", value)


NULL, UNDEFINED = b"\x05", b"\x06"


def thing(marker: bytes = b"\x03", **members: bytes) -> bytes:
    return marker + b"".join(struct.pack(">H", len(k)) + k.encode() + v for k, v in members.items()) + b"\0\0\x09"


# Chunks (5.3.1)


class Wire:
    """Bytes as a publisher sends them, with every liberty that the chunk stream gives."""

    def __init__(self) -> None:
        self.out = bytearray()
        self.size = 128

    def basic(self, kind: int, stream: int, wide: bool = False) -> bytes:
        """Basic header: of one byte, of two, or (``wide``) of three where two would do."""
        if stream < 64:
            return bytes([kind << 6 | stream])
        if stream < 320 and not wide:
            return bytes([kind << 6, stream - 64])
        return bytes([kind << 6 | 1, (stream - 64) & 255, (stream - 64) >> 8])

    def head(self, kind: int, stamp: int, length: int, type_: int, message_stream: int) -> tuple[bytes, bytes]:
        extended = struct.pack(">I", stamp) if stamp >= 0xFFFFFF else b""
        data = min(stamp, 0xFFFFFF).to_bytes(3, "big")
        if kind < 2:
            data += length.to_bytes(3, "big") + bytes([type_])
        if kind == 0:
            data += struct.pack("<I", message_stream)
        return data + extended, extended

    def message(
        self, stream: int, kind: int, stamp: int, type_: int, body: bytes, *, on: int = 1, wide: bool = False,
        repeat_extended: bool = True, between: bytes = b"",
    ) -> None:  # fmt: skip
        """``stamp``: a time for a header of type 0, a step for types 1 and 2; type 3 has neither."""
        head, extended = (b"", b"") if kind == 3 else self.head(kind, stamp, len(body), type_, on)
        self.out += self.basic(kind, stream, wide) + head + body[: self.size]
        for at in range(self.size, len(body), self.size):
            self.out += between
            self.out += self.basic(3, stream, wide) + (extended if repeat_extended else b"") + body[at : at + self.size]

    def resize(self, size: int) -> None:
        self.message(2, 0, 0, 1, struct.pack(">I", size), on=0)
        self.size = size

    def command(self, stream: int, *values: bytes, on: int = 0, type_: int = 20) -> None:
        self.message(stream, 0, 0, type_, (b"\0" if type_ == 17 else b"") + b"".join(values), on=on)


def video(n: int, size: int, *, key: bool = False, shift: int = 0) -> bytes:
    """A video tag's body: one slice behind its length, filled so that no start code or header hides in it."""
    nal = bytes([0x65 if key else 0x41, 0x88 if key else 0x9A]) + bytes((n * 7 + k) % 251 + 4 for k in range(size - 2))
    return bytes([0x17 if key else 0x27, 1]) + (shift & 0xFFFFFF).to_bytes(3, "big") + struct.pack(">I", len(nal)) + nal


def sound(n: int, size: int = 40) -> bytes:
    return b"\xaf\x01" + bytes((n + k) % 256 for k in range(size))


class Expected:
    """What must arrive: (ms, bytes) of every sample."""

    def __init__(self) -> None:
        self.video: list[tuple[int, bytes]] = []
        self.audio: list[tuple[int, bytes]] = []

    def picture(self, when: int, body: bytes) -> bytes:
        self.video.append((when, body[5:]))
        return body

    def frame(self, when: int, body: bytes) -> bytes:
        self.audio.append((when, body[2:]))
        return body


def opening(w: Wire) -> None:
    """From the handshake to publish, all in one go and without waiting for an answer."""
    w.out += b"\x03" + bytes(range(256)) * 6  # C0 and C1, whose zero is none
    w.out += bytes(1536)  # C2 cannot be an echo yet
    w.message(2, 0, 0, 5, struct.pack(">I", 5000), on=0)  # its acknowledgement window
    w.command(
        3, text("connect"), number(1),
        thing(
            app=text("live/a"), type=text("nonprivate"), flashVer=long_text("none of your business"), swfUrl=UNDEFINED,
            tcUrl=text("rtmp://[::1]:1935/live/a?token=x&y=z"), fpad=b"\x01\x00", capabilities=number(15),
            audioCodecs=number(4071), videoCodecs=number(252), objectEncoding=number(0), list=b"\x0a\0\0\0\x02" + NULL + number(1),
            when=b"\x0b" + struct.pack(">d", 1e12) + b"\0\0", inner=thing(b"\x08\0\0\0\x01", a=number(2)),
        ),
        text("an argument that nobody needs"), thing(b"\x08\0\0\0\0"),
    )  # fmt: skip
    w.message(2, 0, 0, 6, struct.pack(">IB", 1_310_720, 2), on=0)  # peer bandwidth, from a client
    w.message(2, 0, 0, 4, struct.pack(">HII", 3, 0, 3000), on=0)  # set buffer length
    w.command(3, text("releaseStream"), number(2), NULL, text(KEY))
    w.command(3, text("FCPublish"), number(3), NULL, text(KEY))
    w.command(70, text("createStream"), number(4), NULL)  # on a chunk stream of two bytes
    w.command(3, text("_checkbw"), number(5), NULL)
    w.command(3, text("_result"), number(77), NULL, NULL)  # an answer to nothing
    w.command(3, text("onSomethingElse"), number(0), NULL)
    w.command(3, text("publish"), number(0), NULL, long_text(KEY), on=1)  # no type, a long string, no transaction


def streaming(w: Wire, e: Expected) -> None:
    # metadata: as data and as AMF3 data, and on the audio's chunk stream
    w.message(4, 0, 0, 18, text("@setDataFrame") + text("onMetaData") + thing(b"\x08\0\0\0\1", width=number(640)))
    w.message(4, 0, 0, 15, b"\0" + text("onMetaData") + thing(height=number(360)))
    w.message(6, 0, 0, 9, CONFIG)
    w.message(4, 0, 0, 8, SOUND_CONFIG)
    # a keyframe in chunks of 128 bytes, with a sound message and a ping between any two of them
    other = Wire()
    other.message(4, 0, 10, 8, sound(1))
    other.message(2, 0, 0, 4, struct.pack(">HI", 6, 123), on=0)
    e.frame(10, sound(1))
    e.frame(10, sound(1))
    w.message(6, 0, 0, 9, e.picture(0, video(1, 300, key=True)), between=bytes(other.out))  # three chunks
    # header types 1, 2 and 3; a step that repeats without a header
    w.message(6, 1, 40, 9, e.picture(40, video(2, 90)))
    w.message(6, 2, 40, 9, e.picture(80, video(3, 90)))
    w.message(6, 3, 0, 9, e.picture(120, video(4, 90)))
    w.message(6, 3, 0, 9, e.picture(160, video(5, 90)))
    # a message cut in two by sound, then by a message that aborts it, then sent again
    whole = video(6, 200)
    w.out += w.basic(1, 6) + w.head(1, 40, len(whole), 9, 1)[0] + whole[:128]
    w.message(4, 1, 21, 8, e.frame(31, sound(2)))
    w.out += w.basic(3, 6) + e.picture(200, whole)[128:]
    w.out += w.basic(1, 6) + w.head(1, 40, 500, 9, 1)[0] + bytes(128)
    w.message(2, 0, 0, 2, struct.pack(">I", 6), on=0)
    w.message(6, 0, 240, 9, e.picture(240, video(7, 200)))
    # empty messages, a shared object, an unknown type, a second configuration that is the same
    w.message(4, 1, 5, 8, b"")
    w.message(6, 1, 10, 9, b"")
    w.message(9, 0, 250, 19, bytes(20))
    w.message(9, 0, 250, 16, bytes(20))
    w.message(9, 0, 250, 99, bytes(20))
    w.message(6, 1, 10, 9, CONFIG)
    w.message(4, 1, 0, 8, SOUND_CONFIG)
    # chunk sizes of one byte and of the most that there is
    w.resize(1)
    w.message(4, 0, 270, 8, e.frame(270, sound(3, 9)))
    w.resize(0x7FFFFFFF)
    w.message(6, 0, 280, 9, e.picture(280, video(8, 4000)))
    w.resize(200)
    # chunk streams of two and of three bytes, also where fewer would do
    w.message(64, 0, 320, 9, e.picture(320, video(9, 500)))
    w.message(319, 0, 360, 9, e.picture(360, video(10, 500)))
    w.message(65599, 0, 400, 9, e.picture(400, video(11, 500)))
    w.message(100, 0, 440, 9, e.picture(440, video(12, 500)), wide=True)
    # another message stream on the way, and a command in the middle of media
    w.command(3, text("getStreamLength"), number(9), NULL, text("x"))
    w.message(5, 0, 280, 8, e.frame(280, sound(4)))
    # an aggregate whose own clock begins elsewhere
    bodies = [(8, 7000, sound(5)), (9, 7020, video(13, 60)), (8, 7040, sound(6))]
    packed = b""
    for type_, when, body in bodies:
        packed += (
            bytes([type_])
            + len(body).to_bytes(3, "big")
            + (when & 0xFFFFFF).to_bytes(3, "big")
            + bytes([when >> 24])
            + bytes(3)
        )
        packed += body + struct.pack(">I", len(body) + 11)
    w.message(7, 0, 460, 22, packed)
    e.frame(460, bodies[0][2])
    e.picture(480, bodies[1][2])
    e.frame(500, bodies[2][2])
    # two-way prediction: presentation before and behind decoding
    w.message(6, 0, 520, 9, e.picture(520, video(14, 60, shift=80)))
    w.message(6, 1, 40, 9, e.picture(560, video(15, 60, shift=-40)))


def far_times(w: Wire, e: Expected) -> None:
    """Times that need four bytes, and the moment at which those four bytes start anew."""
    base = 0xFFFFFF - 20
    for n in range(3):  # the last time of three bytes, and the first of four
        w.message(6, 0, base + 20 * n, 9, e.picture(base + 20 * n, video(20 + n, 450)), repeat_extended=n < 2)
    late = base + 60
    w.message(6, 1, 20, 9, e.picture(late, video(23, 450)))  # a short step behind a long time
    w.message(6, 3, 0, 9, e.picture(late + 20, video(24, 450)))


class RarePublisher(Async):
    async def push(self, data: bytes, pieces) -> tuple[list, bytes]:
        found: list = []
        over = asyncio.Event()

        def take(event) -> None:
            found.append(event)
            if isinstance(event, Left):
                over.set()

        receiver = Receiver("live/a", Secret(KEY), take)
        port = await receiver.start("127.0.0.1", 0)
        self.addAsyncCleanup(receiver.stop)
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        listening = asyncio.create_task(reader.read(1 << 20))
        at = 0
        answers = bytearray()
        while at < len(data):
            size = pieces()
            writer.write(data[at : at + size])
            await writer.drain()
            at += size
            await asyncio.sleep(0)
            if listening.done():
                answers += listening.result()
                listening = asyncio.create_task(reader.read(1 << 20))
        writer.write_eof()
        async with asyncio.timeout(10):
            await over.wait()
            answers += await listening
            while more := await reader.read(1 << 20):
                answers += more
        writer.close()
        return found, bytes(answers)

    def check(self, found: list, e: Expected) -> None:
        self.assertEqual([type(x) for x in found if isinstance(x, Arrived | Left)], [Arrived, Left], found)
        for track, expected in (("video", e.video), ("audio", e.audio)):
            got = [(round(s.dts * 1000), s.data) for s in flat(found, track)]
            self.assertEqual([g[0] for g in got], [x[0] for x in expected], track)
            self.assertEqual(got, expected)

    async def test_everything_legal_in_pieces_of_every_size(self):
        w, e = Wire(), Expected()
        opening(w)
        streaming(w, e)
        far_times(w, e)
        chance = random.Random(7)
        for pieces in (
            lambda: len(w.out), *thorough([lambda: 1], []), lambda: chance.randint(1, 40),
            lambda: chance.choice((1, 129, 1460, 5000)),
        ):
            found, answers = await self.push(bytes(w.out), pieces)
            self.check(found, e)
            shifted = {s.dts: s.pts - s.dts for s in flat(found, "video")}
            self.assertEqual([round(1000 * shifted[s.dts]) for s in flat(found, "video")][13:15], [80, -40])
            self.assertEqual(answers[0], 3)
            self.assertIn(b"NetStream.Publish.Start", answers)
            self.assertIn(struct.pack(">HI", 7, 123), answers)  # the ping's echo
            self.assertNotIn(number(77), answers)
            # the peer bandwidth that it required is acknowledged with a window size (5.4.5)
            self.assertTrue(re.search(rb"[\x02\x42]\0{5}\x04\x05" + struct.pack(">I", 1_310_720), answers[3073:]))
            # acknowledgements as asked for, every 5000 bytes: type 3 on chunk stream 2
            self.assertTrue(re.search(rb"[\x02\x42]\0{5}\x04\x03", answers[3073:]))

    async def test_the_clock_starts_anew(self):
        w = Wire()
        opening(w)
        w.message(6, 0, 0xFFFFFFFF - 99, 9, CONFIG)
        first = 0xFFFFFFFF - 99
        w.message(6, 0, first, 9, video(1, 300, key=True))
        for n in range(1, 6):
            w.message(6, 1, 40, 9, video(1 + n, 300))
        found, _ = await self.push(bytes(w.out), lambda: 700)
        times = [s.dts for s in flat(found, "video")]
        self.assertEqual([round(1000 * (b - a)) for a, b in itertools.pairwise(times)], [40] * 5)


if __name__ == "__main__":
    unittest.main()
