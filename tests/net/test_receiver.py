import asyncio
import contextlib
import gc
import itertools
import resource
import socket
import sys
import tempfile
import tracemalloc
import unittest
from fractions import Fraction
from pathlib import Path
from unittest import mock

from direkt.codec.programme import Programme
from direkt.measure.meter import Meter
from direkt.media import Samples, batch
from direkt.net.rtmp import FlvRecorder, Publisher, Receiver
from direkt.net.transport import Arrived, Left, PublishError, RecordingEnded, TurnedAway
from direkt.protocol.address import ServerAddress, parse
from direkt.protocol.amf import EcmaArray, encode
from direkt.protocol.rtmp.chunks import ChunkWriter, RtmpMessage
from direkt.protocol.rtmp.session import TagMessage
from direkt.protocol.schemes import SCHEMES
from direkt.secret import Secret
from direkt.work.stream.reception import Reception
from tests.support import AUDIO, KEY, Async, Folder, card, events, flat, free_port, pictures, tags, video_format

HELLO = bytes([3]) + bytes(3072)


class Net(Async):
    async def listen(self, take=None, recorder=None, **limits):
        self.events: list = []
        receiver = Receiver("live/a", Secret(KEY), take or self.events.append, recorder, **limits)
        self.port = await receiver.start("127.0.0.1", 0)
        self.addAsyncCleanup(receiver.stop)
        return receiver

    def address(self, app: str = "live/a") -> ServerAddress:
        return parse(f"rtmp://127.0.0.1:{self.port}/{app}")

    async def publish(self, seconds: float, **more) -> None:
        publisher = Publisher(self.address(), Secret(KEY), **more)
        await publisher.start()
        programme = Programme(card(), AUDIO)
        for format in programme.formats():
            await publisher.send(format)
        while (following := programme.next())[0] < seconds:
            await publisher.send(following[1])
        await publisher.close()

    async def until(self, condition) -> None:
        async with asyncio.timeout(40):
            while not condition():  # noqa: ASYNC110
                await asyncio.sleep(0.01)

    async def raw(self, *parts: bytes, pause: float = 0.05) -> bytes:
        """Sends bytes, returns what comes until the other end closes."""
        reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
        try:
            for part in parts:
                writer.write(part)
                await writer.drain()
                await asyncio.sleep(pause)
            async with asyncio.timeout(40):
                return await reader.read(-1)
        except OSError:
            return b""
        finally:
            writer.close()


class Receiving(Net):
    async def test_what_is_pushed_is_measured_and_recorded_as_received(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "kept.flv"
            recorder = FlvRecorder(path)
            await self.listen(recorder=recorder)
            for size in (128, 4096, 65536):
                await self.publish(2, chunk_size=size)
            await self.until(lambda: sum(isinstance(e, Left) for e in self.events) == 3)
            recorder.close()
            meter = Meter("rtmp")
            for event in self.events:
                if isinstance(event, Left):
                    meter.interrupt()
                elif not isinstance(event, Arrived):
                    meter.add(event)
            live = meter.snapshot()
            self.assertEqual((live.values["video.size"], live.values["stream.protocol"]), ("640x360", "rtmp"))
            self.assertAlmostEqual(live.values["stream.duration"], 6, delta=0.1)
            kept = flat(events(path.read_bytes()), "video")
            self.assertEqual(len(kept), 150)
            self.assertEqual([s.data for s in kept], [s.data for s in flat(self.events, "video")])
            self.assertTrue(all(b.dts >= a.dts - Fraction(30, 1000) for a, b in itertools.pairwise(kept)))
            stamps = [e.arrival for e in self.events if isinstance(e, Samples)]
            self.assertTrue(all(len(column) and (column[1:] >= column[:-1]).all() for column in stamps))

    async def test_the_last_pictures_arrive_however_fast_they_were_sent(self):
        # a connection that is closed with the server's acknowledgements unread would take them with it
        await self.listen()
        publisher = Publisher(self.address(), Secret(KEY))
        await publisher.start()
        programme = Programme(card(), None)
        for format in programme.formats():
            await publisher.send(format)
        sample = programme.next()[1]
        big = [bytes(sample.sample(0)) + bytes(100_000)]
        for n in range(200):
            await publisher.send(batch("video", big, [n * 40], [n * 40], [True]))
        await publisher.close()
        await self.until(lambda: any(isinstance(e, Left) for e in self.events))
        self.assertEqual(len(flat(self.events, "video")), 200)
        self.assertIn("stopped the stream", self.events[-1].reason)

    async def test_a_full_disk_ends_the_recording_and_nothing_else(self):
        with tempfile.TemporaryDirectory() as folder:
            recorder = FlvRecorder(Path(folder) / "a.flv")
            full = mock.patch.object(FlvRecorder, "add", side_effect=OSError(28, "No space left on device"))
            with full:
                await self.listen(recorder=recorder)
                await self.publish(1)
                await self.until(lambda: any(isinstance(e, Left) for e in self.events))
            self.assertEqual([e.reason for e in self.events if isinstance(e, RecordingEnded)], ["no space left on device"])
            self.assertEqual(len(flat(self.events, "video")), 25)

    async def test_wrong_keys_are_refused_with_the_reason_and_without_the_key(self):
        await self.listen()
        for key, words in (
            ("FAKE-OTHER", "10 characters"), (KEY.upper(), "capital and small"), (KEY + " ", "space"), ("", "no stream key"),
        ):  # fmt: skip
            with self.assertRaisesRegex(PublishError, "BadName"):
                await Publisher(self.address(), Secret(key)).start()
            await self.until(lambda: self.events)
            self.assertIn(words, self.events[-1].reason)
            self.assertNotIn(KEY, repr(self.events))
            self.events.clear()

    async def test_a_wrong_application(self):
        await self.listen()
        with self.assertRaisesRegex(PublishError, "Rejected"):
            await Publisher(self.address("live"), Secret(KEY)).start()
        await self.until(lambda: self.events)
        self.assertIn("requests application 'live', expected 'live/a'", self.events[0].reason)

    async def test_a_login_in_the_application_is_not_shown(self):
        await self.listen()
        for app, words in (
            ("live?user=anna&pass=Wagtail9", "application 'live' with 23 characters after a ?"),
            ("live/a?pass=Wagtail9", "and what follows its ?"), ("live/a/?Wagtail9", "after it"), ("?Wagtail9", "''"),
        ):  # fmt: skip
            with self.assertRaises(PublishError):
                await Publisher(self.address(app), Secret(KEY)).start()
            await self.until(lambda: self.events)
            self.assertIn(words, self.events[-1].reason)
            self.assertNotIn("Wagtail9", repr(self.events))
            self.assertNotIn("anna", repr(self.events))
            self.events.clear()

    async def test_a_key_in_the_server_address_is_said_and_not_shown(self):
        await self.listen()
        with self.assertRaises(PublishError):
            await Publisher(self.address(f"live/a/{KEY}"), Secret(KEY)).start()
        await self.until(lambda: self.events)
        self.assertIn("the key is in its server address", self.events[0].reason)
        self.assertNotIn(KEY, repr(self.events))

    async def test_what_could_be_the_key_is_not_shown_wherever_it_stands(self):
        await self.listen()
        mistyped = KEY.replace("bird", "brid")
        for app, shown in (
            (mistyped, "something like the key"), (f"live/{mistyped}", "something like the key"), (f"live/a/{mistyped}?x=1", "something like"),
            (KEY[:-2], "something like the key"), (f"live/a/{KEY.upper()}", "something like"), ("live/a/another-9x", "10 characters after it"),
            ("studio", "'studio'"),
        ):  # fmt: skip
            with self.assertRaises(PublishError):
                await Publisher(ServerAddress("rtmp", "127.0.0.1", self.port, app), Secret("x")).start()
            await self.until(lambda: self.events)
            self.assertIn(shown, self.events[0].reason)
            for secret in (mistyped, KEY, KEY[:-2], KEY.upper(), "another-9x"):
                self.assertNotIn(secret, repr(self.events))
            self.events.clear()

    async def test_one_publisher_at_a_time_and_the_next_when_it_is_gone(self):
        await self.listen()
        first = Publisher(self.address(), Secret(KEY))
        await first.start()
        with self.assertRaises(PublishError):
            await Publisher(self.address(), Secret(KEY)).start()
        await first.close()
        await self.until(lambda: any(isinstance(e, Left) for e in self.events))
        second = Publisher(self.address(), Secret(KEY))
        await second.start()
        await second.close()
        self.assertEqual(sum(isinstance(e, Arrived) for e in self.events), 2)
        self.assertIn("another publisher is already connected", [e.reason for e in self.events if isinstance(e, TurnedAway)])

    async def test_garbage_stalls_and_floods_are_turned_away(self):
        await self.listen(handshake_limit=0.6)
        writer = ChunkWriter()
        connect = writer.write(3, RtmpMessage(20, 0, 0, encode(["connect", 1.0, {"app": "live/a"}])))
        huge = b"\x03" + bytes(3) + b"\xff\xff\xff" + b"\x14" + bytes(4)
        largest = writer.write(2, RtmpMessage(1, 0, 0, (0x7FFFFFFF).to_bytes(4, "big")))
        tracemalloc.start()
        for parts, words in (
            ((b"GET / HTTP/1.1\r\n\r\n",), "HTTP"), ((b"\x16\x03\x01" + bytes(50),), "TLS"), ((b"\xff" * 4000,), "0xff"),
            ((b"\x03" + bytes(100),), "stalled in the handshake"), ((HELLO, connect), "did not publish"),
            ((HELLO, connect + huge), "16777215 bytes"), ((HELLO, largest + huge), "16777215 bytes"),
            ((HELLO, b"\x43" * 50), "header of type 1"),
        ):  # fmt: skip
            self.events.clear()
            await self.raw(*parts)
            await self.until(lambda: self.events)
            self.assertIn(words, self.events[0].reason)
        self.assertLess(tracemalloc.get_traced_memory()[1], 20 << 20)
        tracemalloc.stop()

    async def test_a_publisher_that_falls_silent_is_a_gap(self):
        await self.listen(silence_limit=0.4)
        publisher = Publisher(self.address(), Secret(KEY))
        await publisher.start()
        await self.until(lambda: any(isinstance(e, Left) for e in self.events))
        self.assertIn("nothing came for 0.4 s", self.events[-1].reason)
        with self.assertRaisesRegex(PublishError, "closed the connection|broke"):
            await publisher.send(video_format())
            for _ in range(200):
                await publisher.send(pictures([(0, 0, bytes(1000))]))
                await asyncio.sleep(0.01)
        await publisher.close()

    async def test_stopping_in_the_middle_does_not_hang(self):
        for _ in range(2):
            receiver = await self.listen()
            task = asyncio.create_task(self.publish(30))
            await self.until(lambda: len(flat(self.events, "video")) > 20)
            async with asyncio.timeout(3):
                await receiver.stop()
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)


class Publishing(Net):
    async def test_errors_are_clear_and_hold_no_key(self):
        self.port = free_port()
        with self.assertRaisesRegex(PublishError, f"127.0.0.1:{self.port} cannot be reached: .*nothing listens"):
            await Publisher(self.address(), Secret(KEY)).start()

        async def odd(reader, writer):
            writer.write(b"HTTP/1.1 400 Bad Request\r\n\r\n" + bytes(2000))
            await writer.drain()
            writer.close()

        server = await asyncio.start_server(odd, "127.0.0.1", self.port)
        with self.assertRaisesRegex(PublishError, "does not speak RTMP"):
            await Publisher(self.address(), Secret(KEY)).start()
        server.close()

    async def test_addresses_with_many_slashes_and_keys_with_questions(self):
        found: list = []
        receiver = Receiver("a/b/c", Secret("k?user=1&sig=%2F"), found.append)
        self.port = await receiver.start("127.0.0.1", 0)
        publisher = Publisher(self.address("a/b/c"), Secret("k?user=1&sig=%2F"))
        await publisher.start()
        await publisher.close()
        await self.until(lambda: found)
        self.assertIsInstance(found[0], Arrived)
        await receiver.stop()


class Recording(Folder):
    def messages(self, seconds: float) -> list[TagMessage]:
        return [TagMessage(*tag) for tag in tags(seconds)]

    def test_times_run_on_over_a_gap_and_metadata_loses_its_command(self):
        path = self.folder / "a.flv"
        recorder = FlvRecorder(path)
        recorder.add(TagMessage(18, 0, encode(["@setDataFrame", "onMetaData", EcmaArray(width=640.0)])))
        for message in self.messages(0.5):
            recorder.add(message)
        recorder.new_stretch(4000)
        for message in self.messages(0.5):
            recorder.add(message)
        recorder.close()
        found = events(path.read_bytes())
        self.assertEqual(found[0].values, {"video.width": 640})
        times = [s.dts for s in flat(found, "video")]
        self.assertEqual((times[0], times[12], times[13]), (0, Fraction(480, 1000), 4))

    def test_the_file_is_whole_at_any_moment_and_never_replaces_another(self):
        path = self.folder / "a.flv"
        recorder = FlvRecorder(path)
        partial = self.folder / "a.partial.flv"
        recorder.add(self.messages(0.1)[0])
        self.assertEqual((len(events(partial.read_bytes())), path.exists()), (1, False))
        with self.assertRaisesRegex(FileExistsError, "a.partial.flv"):
            FlvRecorder(path)
        recorder.close()
        self.assertEqual((recorder.path, partial.exists()), (path, False))
        with self.assertRaisesRegex(FileExistsError, "a.flv"):
            FlvRecorder(path)
        whole = path.read_bytes()
        nothing = FlvRecorder(path, overwrite=True)
        nothing.close()
        nothing.close()
        self.assertEqual((nothing.path, path.read_bytes(), partial.exists()), (None, whole, False), "nothing came")

    def test_another_file_that_takes_the_name_meanwhile_stays(self):
        recorder = FlvRecorder(self.folder / "a.flv")
        recorder.add(self.messages(0.1)[0])
        self.file("a.flv", "precious")
        recorder.close()
        self.assertEqual(recorder.path, self.folder / "a.partial.flv")
        self.assertEqual((self.folder / "a.flv").read_text(), "precious")

    def test_where_the_disk_is_full_the_last_whole_tag_is_the_end(self):
        for limit in (0, 5, 20, 3000, 20000):
            path = self.folder / f"{limit}.flv"
            recorder = FlvRecorder(path)
            before = resource.getrlimit(resource.RLIMIT_FSIZE)
            resource.setrlimit(resource.RLIMIT_FSIZE, (limit, before[1]))
            written = 0
            try:
                with self.assertRaises(OSError):
                    for message in self.messages(5):
                        recorder.add(message)
                        written += 1
            finally:
                resource.setrlimit(resource.RLIMIT_FSIZE, before)
            recorder.close()
            self.assertFalse(path.exists())
            if not written:
                self.assertIsNone(recorder.path)
                continue
            kept = recorder.path.read_bytes()
            self.assertLessEqual(len(kept), limit)
            self.assertEqual(sum(1 for _ in _tags(kept)), written)


class LastMoment(unittest.TestCase):
    def test_who_connects_while_the_port_closes_leaves_nothing_on_the_terminal(self):
        said = []
        with mock.patch.object(sys, "unraisablehook", lambda one: said.append(one.exc_value)):
            for _ in range(60):
                reception = Reception(SCHEMES["rtmp"], "live", Secret(KEY))
                port = reception.open("127.0.0.1", 0)
                with contextlib.ExitStack() as stack:
                    for _ in range(8):
                        stack.enter_context(socket.create_connection(("127.0.0.1", port), 2))
                    reception.close()
                gc.collect()
        self.assertEqual(said, [])


def _tags(data: bytes):
    """The tags of an FLV file, by their sizes alone."""
    at = 13
    while at < len(data):
        size = int.from_bytes(data[at + 1 : at + 4], "big")
        assert data[at + 11 + size : at + 15 + size] == (11 + size).to_bytes(4, "big")
        yield data[at]
        at += 15 + size
