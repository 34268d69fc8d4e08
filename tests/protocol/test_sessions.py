import unittest

from direkt.protocol import amf
from direkt.protocol.rtmp import chunks
from direkt.protocol.rtmp.chunks import ChunkReader, ChunkWriter, Message
from direkt.protocol.rtmp.client import ClientSession, PublishStarted, Refused, Target
from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.server import ConnectRequest, PlayRequest, PublishRequest, ServerSession, Unpublished
from direkt.protocol.rtmp.session import Media

RANDOM = bytes(n % 251 for n in range(1528))


class Pair:
    """A client and a server that hand each other their bytes, in pieces."""

    def __init__(
        self, key: str = "key?token=1&x=y", app: str = "live/second", right: str | None = None, step: int = 700
    ):
        self.client = ClientSession(Target(f"rtmp://h/{app}", app, key), RANDOM)
        self.server = ServerSession(RANDOM)
        self.right = right or key
        self.step = step
        self.events: list = []
        self.seen: list = []
        self.client.start()

    def run(self) -> "Pair":
        for _ in range(40):
            for byte_run, take in (
                (self.client.data_to_send(), self._server),
                (self.server.data_to_send(), self._client),
            ):
                for at in range(0, len(byte_run), self.step):
                    take(byte_run[at : at + self.step])
        return self

    def _client(self, data: bytes) -> None:
        self.seen += self.client.receive(data)

    def _server(self, data: bytes) -> None:
        while found := self.server.receive(data):
            data = b""
            for event in found:
                self.events.append(event)
                if isinstance(event, ConnectRequest):
                    self.server.accept_connect()
                elif isinstance(event, PublishRequest):
                    if event.name == self.right:
                        self.server.accept_publish()
                    else:
                        self.server.reject_publish(f"no {event.name}")


class Flow(unittest.TestCase):
    def test_publish_from_end_to_end(self):
        for step in (1, 97, 5000):
            pair = Pair(step=step).run()
            self.assertEqual(pair.seen, [PublishStarted()])
            connect, publish = pair.events
            self.assertEqual((connect.app, connect.url), ("live/second", "rtmp://h/live/second"))
            self.assertEqual((publish.name, publish.kind), ("key?token=1&x=y", "live"))
            pair.client.send_metadata({"width": 640.0})
            for n in range(50):
                pair.client.send_media(9, n * 40, bytes([n]) * 9000)
                pair.client.send_media(8, n * 40, b"s" * 300)
            pair.run()
            media = [e for e in pair.events if isinstance(e, Media)]
            self.assertEqual(len(media), 101)
            self.assertEqual(amf.decode(media[0].body)[0], "@setDataFrame")
            self.assertEqual([m.body for m in media if m.kind == 9], [bytes([n]) * 9000 for n in range(50)])
            pair.client.finish()
            pair.run()
            self.assertIsInstance(pair.events[-1], Unpublished)

    def test_a_wrong_key_is_refused_and_never_repeated(self):
        pair = Pair(key="secret-wrong", right="secret-right").run()
        (refused,) = pair.seen
        self.assertIsInstance(refused, Refused)
        self.assertEqual((refused.code, refused.text), ("NetStream.Publish.BadName", "no (key)"))
        self.assertNotIn("secret-wrong", repr(pair.events) + repr(pair.client._target))

    def test_a_rejected_application(self):
        server, client = ServerSession(RANDOM), ClientSession(Target("rtmp://h/x", "x", "k"), RANDOM)
        client.start()
        data, events = client.data_to_send(), []
        for _ in range(5):
            for _event in server.receive(data):
                server.reject_connect("No.")
            events += client.receive(server.data_to_send())
            data = client.data_to_send()
        self.assertEqual(events, [Refused("NetConnection.Connect.Rejected", "No.")])

    def test_acknowledgements_reach_the_publisher(self):
        pair = Pair().run()
        for n in range(80):
            pair.client.send_media(9, n, bytes(100_000))
            pair.run()
        self.assertGreater(pair.client.acknowledged, 5_000_000)


def wire(*messages: tuple[int, Message]) -> bytes:
    writer = ChunkWriter()
    return bytes([3]) + bytes(3072) + b"".join(writer.write(number, message) for number, message in messages)


def command(*values, type_: int = 20, stream: int = 0) -> tuple[int, Message]:
    body = amf.encode(values)
    return 3, Message(type_, stream, 0, b"\0" + body if type_ == 17 else body)


def replies(server: ServerSession) -> list:
    reader = ChunkReader()
    data = server.data_to_send()
    reader.feed(data[3073:] if len(data) > 3073 and data[0] == 3 else data)
    return list(reader.messages())


class Server(unittest.TestCase):
    def drive(self, data: bytes) -> tuple[ServerSession, list]:
        server, events = ServerSession(RANDOM), []
        while found := server.receive(data):
            data = b""
            for event in found:
                events.append(event)
                if isinstance(event, ConnectRequest):
                    server.accept_connect()
                elif isinstance(event, PublishRequest):
                    server.accept_publish()
        return server, events

    def test_a_publisher_that_waits_for_nothing_and_speaks_amf3(self):
        data = wire(
            command("connect", 1.0, {"app": "live", "objectEncoding": 3.0}, type_=17), command("releaseStream", 2.0, None, "k"),
            command("FCPublish", 3.0, None, "k"), command("createStream", 4.0, None, type_=17), command("_checkbw", 5.0, None),
            command("publish", 6.0, None, "k", stream=1), (4, Message(15, 1, 0, b"\0" + amf.encode(["onMetaData", {}]))),
            (6, Message(9, 1, 40, b"picture")),
        )  # fmt: skip
        server, events = self.drive(data)
        kinds = [type(e).__name__ for e in events]
        self.assertEqual(kinds, ["ConnectRequest", "PublishRequest", "Media", "Media"])
        names = [amf.decode(m.payload)[0] for m in replies(server) if m.type == 20]
        self.assertEqual(names, ["_result", "_result", "onFCPublish", "_result", "_result", "_result", "onStatus"])

    def test_aggregates_and_pings_and_media_before_publish(self):
        inner = bytes([8, 0, 0, 1, 0, 0, 10, 0, 0, 0, 0]) + b"a" + bytes(4)
        data = wire(
            command("connect", 1.0, {"app": "a"}), (6, Message(9, 1, 0, b"too early")), command("publish", 2.0, None, "k", stream=1),
            (6, Message(22, 1, 500, inner)), (2, Message(4, 0, 0, b"\0\6\0\0\1\2")),
        )  # fmt: skip
        server, events = self.drive(data)
        self.assertEqual([e for e in events if isinstance(e, Media)], [Media(8, 500, b"a")])
        self.assertIn(b"\0\7\0\0\1\2", [m.payload for m in replies(server) if m.type == chunks.USER_CONTROL])

    def test_players_are_refused(self):
        _, events = self.drive(wire(command("connect", 1.0, {"app": "a"}), command("play", 0.0, None, "k", stream=1)))
        self.assertIsInstance(events[-1], PlayRequest)

    def test_what_is_no_rtmp_is_said_to_be(self):
        for data, words in (
            (b"\x16\x03\x01\x02\x00", "rtmps"), (b"GET / HTTP/1.1\r\n", "HTTP"), (b"\x47", "0x47"),
            (wire(command("publish", 1.0, None, "k")), "before connect"), (wire((3, Message(20, 0, 0, b"\x63"))), "cannot be read"),
            (wire(command(1.0)), "without a name"),
            (wire(*[(2, Message(4, 0, 0, b"\0\6\0\0\1\2"))] * 1001), "more pings"),
        ):  # fmt: skip
            with self.assertRaisesRegex(RtmpError, words):
                self.drive(data)
