"""Those that connect and only wait: none of them keeps out the one that has the key, and none takes much memory."""

import asyncio
import contextlib
import struct
import unittest

from direkt.net import certificates
from direkt.net.rtmp import Publisher
from direkt.net.transport import Arrived, TurnedAway
from direkt.protocol.rtmp.chunks import ChunkReader
from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.server import RtmpServerSession
from direkt.secret import Secret
from tests.net import test_rare_publisher as rare
from tests.net.test_receiver import Net
from tests.support import KEY

TEXT, HANDSHAKE = "live/a", b"\x03" + bytes(1536) + bytes(1536)


class Waiting(Net):
    async def idle(self, count: int, host: str = "127.0.0.1", first: bytes = b"\x03"):
        """Connections that say little and stay."""
        made = []
        for _ in range(count):
            reader, writer = await asyncio.open_connection("127.0.0.1", self.port, local_addr=(host, 0))
            self.addCleanup(writer.close)
            with contextlib.suppress(OSError):
                writer.write(first)
            made.append((reader, writer))
        await asyncio.sleep(0.1)
        return made

    @staticmethod
    def alive(connections) -> int:
        return sum(not reader.at_eof() and reader.exception() is None for reader, _ in connections)

    def reasons(self) -> set[str]:
        return {e.reason for e in self.events if isinstance(e, TurnedAway)}

    async def test_idle_connections_keep_nobody_out(self):
        await self.listen()
        crowd = await self.idle(100)
        self.assertEqual(self.alive(crowd), 8)
        self.assertTrue(self.alive(crowd[-8:]) == 8, "the oldest go")
        self.assertEqual(self.reasons(), {"more than 8 connections of its address wait; the oldest had to go"})
        await self.publish(0.5)
        await self.until(lambda: any(isinstance(e, Arrived) for e in self.events))

    async def test_one_address_cannot_push_out_another(self):
        await self.listen()
        honest = await self.idle(1, "127.0.0.50", HANDSHAKE)
        await self.idle(200, "127.0.0.2")
        self.assertEqual(self.alive(honest), 1)

    async def test_many_addresses_push_out_the_greediest_first(self):
        await self.listen()
        honest = await self.idle(1, "127.0.0.50")
        crowds = [await self.idle(4, f"127.0.1.{n}") for n in range(1, 12)]
        self.assertEqual(self.alive(honest), 1)
        self.assertEqual(self.alive(honest) + sum(map(self.alive, crowds)), 32)
        self.assertIn("more than 32 connections wait; the oldest had to go", self.reasons())

    async def test_who_was_turned_away_is_named_by_address_and_port(self):
        receiver = await self.listen()
        await receiver.stop()
        for host, pattern in (("127.0.0.1", r"127\.0\.0\.1:\d+"), ("::1", r"\[::1\]:\d+")):
            self.port = await receiver.start(host, 0)
            reader, writer = await asyncio.open_connection(host, self.port)
            writer.write(b"GET / HTTP/1.0\r\n\r\n")
            await reader.read()
            writer.close()
            await self.until(lambda: self.events)
            self.assertRegex(self.events.pop().peer, f"^{pattern}$")
            await receiver.stop()

    async def test_the_publisher_stays_whatever_comes(self):
        await self.listen()
        publisher = Publisher(self.address(), Secret(KEY))
        await publisher.start()
        await self.idle(120)
        await self.idle(40, "127.0.0.3")
        await publisher.close()
        await self.until(lambda: sum(isinstance(e, Arrived) for e in self.events) == 1)
        self.assertNotIn("it takes no answers", self.reasons())

    async def test_the_same_behind_tls_handshakes_counted(self):
        receiver = await self.listen()
        await receiver.stop()
        certificate = certificates.make(["127.0.0.1"])
        self.port = await receiver.start("127.0.0.1", 0, certificate.context)
        crowd = await self.idle(60, first=b"\x16\x03\x01")
        self.assertEqual(self.alive(crowd), 8)
        address = f"rtmps://127.0.0.1:{self.port}/live/a"
        from direkt.net.certificates import unchecked
        from direkt.protocol.address import parse

        publisher = Publisher(parse(address), Secret(KEY), tls=unchecked())
        await publisher.start()
        await publisher.close()
        self.assertTrue(any(isinstance(e, Arrived) for e in self.events))
        reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
        writer.write(b"GET / HTTP/1.0\r\n\r\n")
        async with asyncio.timeout(5):
            while await reader.read(1000):
                pass
        writer.close()


class Early(unittest.TestCase):
    def begun(self) -> RtmpServerSession:
        session = RtmpServerSession(bytes(1528))
        session.receive_data(HANDSHAKE)
        self.assertIsNone(session.next_event())
        return session

    def test_little_is_held_before_the_key(self):
        big = rare.Wire()
        big.out += bytes([0x02]) + bytes(3) + (4).to_bytes(3, "big") + b"\x01" + bytes(4) + struct.pack(">I", 0xFFFFFF)
        media = bytes([0x04]) + bytes(3) + (8 << 20).to_bytes(3, "big") + b"\x09" + bytes(4)
        session = self.begun()
        session.receive_data(bytes(big.out) + media + bytes(1000))
        with self.assertRaisesRegex(RtmpError, "type 9 announces 8388608 bytes on chunk stream 4 before it publishes"):
            session.next_event()
        session = self.begun()
        many = b"".join(
            bytes([number]) + bytes(3) + (60_000).to_bytes(3, "big") + b"\x14" + bytes(4) + bytes(128)
            for number in range(4, 60)
        )
        session.receive_data(many)
        self.assertIsNone(session.next_event())
        self.assertLess(session._reader._held, 128 << 10)
        reader = ChunkReader()
        reader.early, reader.chunk_size = True, 30_000
        with self.assertRaisesRegex(RtmpError, "unfinished messages of more than 128 KiB"):
            for number in range(4, 20):
                reader.feed(bytes([number]) + bytes(3) + (60_000).to_bytes(3, "big") + b"\x14" + bytes(4) + bytes(30_000))
                reader.next_message()


if __name__ == "__main__":
    unittest.main()
