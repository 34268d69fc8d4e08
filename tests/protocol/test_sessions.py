import itertools
import unittest

from direkt.protocol import amf
from direkt.protocol.errors import LocalError
from direkt.protocol.rtmp import chunks
from direkt.protocol.rtmp.chunks import ChunkReader, ChunkWriter, RtmpMessage
from direkt.protocol.rtmp.client import Connected, PublishStarted, PushRefused, RtmpClientSession
from direkt.protocol.rtmp.errors import RtmpError
from direkt.protocol.rtmp.server import ConnectRequest, PlayRequest, PublishRequest, RtmpServerSession, Unpublished
from direkt.protocol.rtmp.session import TRANSITIONS, WINDOW, Advance, SessionState, TagMessage

RANDOM = bytes(n % 251 for n in range(1528))


def client(app: str = "live/second", key: str = "key?token=1&x=y", **more) -> RtmpClientSession:
    return RtmpClientSession(f"rtmp://h/{app}", app, key, RANDOM, **more)


def every(session) -> list:
    """All events that can be had now."""
    found = []
    while (event := session.next_event()) is not None:
        found.append(event)
    return found


class Pair:
    """A client and a server that hand each other their bytes, in pieces."""

    def __init__(self, key: str = "key?token=1&x=y", right: str | None = None, step: int = 700):
        self.client, self.server = client(key=key), RtmpServerSession(RANDOM)
        self.right = right or key
        self.step = step
        self.events: list = []
        self.seen: list = []
        self.client.start()

    def run(self) -> "Pair":
        for _ in range(40):
            for byte_run, take in ((self.client.data_to_send(), self._server), (self.server.data_to_send(), self._client)):
                for at in range(0, len(byte_run), self.step):
                    take(byte_run[at : at + self.step])
        return self

    def _client(self, data: bytes) -> None:
        self.client.receive_data(data)
        self.seen += every(self.client)

    def _server(self, data: bytes) -> None:
        self.server.receive_data(data)
        while (event := self.server.next_event()) is not None:
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
            pair.client.send_metadata(amf.encode(["onMetaData", {"width": 640.0}]))
            for n in range(50):
                pair.client.send_media(9, n * 40, bytes([n]) * 9000)
                pair.client.send_media(8, n * 40, b"s" * 300)
            pair.run()
            media = [e for e in pair.events if isinstance(e, TagMessage)]
            self.assertEqual(len(media), 101)
            self.assertEqual(amf.decode(media[0].body)[0], "@setDataFrame")
            self.assertEqual([m.body for m in media if m.kind == 9], [bytes([n]) * 9000 for n in range(50)])
            pair.client.finish()
            pair.run()
            self.assertIsInstance(pair.events[-1], Unpublished)

    def test_what_a_server_says_before_it_answers_connect(self):
        server, made = RtmpServerSession(RANDOM), client("live", "k")
        made.start()
        said = b""
        for _ in range(4):
            server.receive_data(made.data_to_send())
            if isinstance(server.next_event(), ConnectRequest):
                server.accept_connect()
            answer = server.data_to_send()
            said += answer
            made.receive_data(answer)
            made.next_event()
        reader, found = ChunkReader(), []
        reader.feed(said[1 + 1536 + 1536 :])
        while (message := reader.next_message()) is not None:
            found.append((message.type, message.stream, message.payload[:5]))
        window = (1 << 20).to_bytes(4, "big")
        self.assertEqual(found[:3], [(5, 0, window), (6, 0, window + b"\x02"), (1, 0, (4096).to_bytes(4, "big"))])
        self.assertEqual(found[3][0], 20)

    def test_a_wrong_key_is_refused_and_never_repeated(self):
        pair = Pair(key="secret-wrong", right="secret-right").run()
        (refused,) = pair.seen
        self.assertIsInstance(refused, PushRefused)
        self.assertEqual((refused.code, refused.text), ("NetStream.Publish.BadName", "no (key)"))
        self.assertNotIn("secret-wrong", repr(pair.events) + repr(pair.client))

    def test_a_rejected_application(self):
        server, made = RtmpServerSession(RANDOM), client("x", "k")
        made.start()
        events = []
        for _ in range(5):
            server.receive_data(made.data_to_send())
            if server.next_event() is not None:
                server.reject_connect("No.")
            made.receive_data(server.data_to_send())
            events += every(made)
        self.assertEqual(events, [PushRefused("NetConnection.Connect.Rejected", "No.")])
        self.assertEqual((server.state, made.state), (SessionState.CLOSED, SessionState.CLOSED))

    def test_a_probe_goes_no_further_than_connect(self):
        server, made = RtmpServerSession(RANDOM), client("x", "k", probe=True)
        made.start()
        seen = []
        for _ in range(5):
            server.receive_data(made.data_to_send())
            if isinstance(server.next_event(), ConnectRequest):
                server.accept_connect()
            made.receive_data(server.data_to_send())
            seen += every(made)
        self.assertEqual((seen, made.state), ([Connected()], SessionState.CONNECTED))

    def test_the_stream_that_the_server_hands_out_is_used(self):
        for given, used in (((5.0,), 5), ((70000.0,), 70000), ((), 1), ((None,), 1), ((-3.0,), 1), (("5",), 1)):
            made = client("x", "k")
            made.start()
            start = command("onStatus", 0.0, None, {"code": "NetStream.Publish.Start"})
            made.receive_data(wire(command("_result", 1.0, {}, {}), command("_result", 4.0, None, *given), start))
            self.assertEqual(every(made), [PublishStarted()])
            made.send_media(9, 0, b"picture")
            sent = [m for m in replies(made) if m.type == 9 or (m.type == 20 and amf.decode(m.payload)[0] == "publish")]
            self.assertEqual([m.stream for m in sent], [used, used], given)

    def test_acknowledgements_are_sent_as_asked(self):
        data = wire(command("connect", 1.0, {"app": "a"}), command("publish", 2.0, None, "k", stream=1),
                    *[(6, RtmpMessage(9, 1, n, bytes(100_000))) for n in range(80)])  # fmt: skip
        server, step = RtmpServerSession(RANDOM), 65536
        for at in range(0, len(data), step):
            server.receive_data(data[at : at + step])
            while (event := server.next_event()) is not None:
                if isinstance(event, ConnectRequest):
                    server.accept_connect()
                elif isinstance(event, PublishRequest):
                    server.accept_publish()
        sent = [int.from_bytes(m.payload, "big") for m in replies(server) if m.type == chunks.ACKNOWLEDGEMENT]
        self.assertEqual(server.received, len(data))
        self.assertGreater(len(sent), 4)
        for before, after in itertools.pairwise([0, *sent]):
            self.assertTrue(after - before + step >= WINDOW and after - before <= WINDOW + step, sent)


class States(unittest.TestCase):
    def test_only_steps_of_the_table_are_taken(self):
        for state in SessionState:
            for step in Advance:
                session = client()
                session.state = state
                if (state, step) in TRANSITIONS:
                    session._step(step)
                    self.assertEqual(session.state, TRANSITIONS[state, step])
                else:
                    with self.assertRaises(LocalError):
                        session._step(step)

    def test_every_state_but_the_last_two_can_be_left_and_fail(self):
        for state in SessionState:
            steps = {step for (at, step) in TRANSITIONS if at is state}
            self.assertEqual(Advance.FAILED in steps, state is not SessionState.ERROR)

    def test_nothing_is_sent_before_the_server_takes_the_stream(self):
        made = client()
        for act in (lambda: made.send_media(9, 0, b"x"), lambda: made.send_metadata(b"")):
            with self.assertRaises(LocalError):
                act()
        made.finish()
        self.assertEqual(made.data_to_send(), b"")

    def test_nothing_is_accepted_that_nobody_asked_for(self):
        server = RtmpServerSession(RANDOM)
        for act in (
            server.accept_connect, server.accept_publish, lambda: server.reject_publish("x"), lambda: server.reject_connect("x"),
        ):
            with self.assertRaises(LocalError):
                act()

    def test_what_was_whole_before_an_error_is_told_first_and_the_error_stays(self):
        data = wire(command("connect", 1.0, {"app": "a"}), command("publish", 2.0, None, "k", stream=1),
                    (6, RtmpMessage(9, 1, 0, b"one")), (6, RtmpMessage(9, 1, 40, b"two")), (3, RtmpMessage(20, 0, 0, b"\x63")),
                    (6, RtmpMessage(9, 1, 80, b"three")))  # fmt: skip
        server = RtmpServerSession(RANDOM)
        server.receive_data(data)
        self.assertIsInstance(server.next_event(), ConnectRequest)
        self.assertIsNone(server.next_event(), "it waits for its owner")
        server.accept_connect()
        self.assertIsInstance(server.next_event(), PublishRequest)
        server.accept_publish()
        self.assertEqual([server.next_event().body, server.next_event().body], [b"one", b"two"])
        for _ in range(2):
            with self.assertRaisesRegex(RtmpError, "cannot be read"):
                server.next_event()
        self.assertIs(server.state, SessionState.ERROR)

    def test_an_aggregate_that_is_cut_gives_what_is_whole(self):
        inner = bytes([8, 0, 0, 1, 0, 0, 10, 0, 0, 0, 0]) + b"a" + bytes(4)
        data = wire(command("connect", 1.0, {"app": "a"}), command("publish", 2.0, None, "k", stream=1),
                    (6, RtmpMessage(22, 1, 500, inner + inner[:5])))  # fmt: skip
        server, events = Server().drive(data, error=True)
        self.assertEqual(events[-1], TagMessage(8, 500, b"a"))
        self.assertIs(server.state, SessionState.ERROR)


def wire(*messages: tuple[int, RtmpMessage]) -> bytes:
    writer = ChunkWriter()
    return bytes([3]) + bytes(3072) + b"".join(writer.write(number, message) for number, message in messages)


def command(*values, type_: int = 20, stream: int = 0) -> tuple[int, RtmpMessage]:
    body = amf.encode(values)
    return 3, RtmpMessage(type_, stream, 0, b"\0" + body if type_ == 17 else body)


def replies(session) -> list:
    reader = ChunkReader()
    data = session.data_to_send()
    reader.feed(data[3073:] if len(data) > 3073 and data[0] == 3 else data)
    reader.chunk_size = session._writer.chunk_size
    out = []
    while (message := reader.next_message()) is not None:
        out.append(message)
    return out


class Server(unittest.TestCase):
    def drive(self, data: bytes, *, error: bool = False) -> tuple[RtmpServerSession, list]:
        server, events = RtmpServerSession(RANDOM), []
        server.receive_data(data)
        try:
            while (event := server.next_event()) is not None:
                events.append(event)
                if isinstance(event, ConnectRequest):
                    server.accept_connect()
                elif isinstance(event, PublishRequest):
                    server.accept_publish()
        except RtmpError:
            if not error:
                raise
        return server, events

    def test_a_publisher_that_waits_for_nothing_and_speaks_amf3(self):
        data = wire(
            command("connect", 1.0, {"app": "live", "objectEncoding": 3.0}, type_=17), command("releaseStream", 2.0, None, "k"),
            command("FCPublish", 3.0, None, "k"), command("createStream", 4.0, None, type_=17), command("_checkbw", 5.0, None),
            command("publish", 6.0, None, "k", stream=1), (4, RtmpMessage(15, 1, 0, b"\0" + amf.encode(["onMetaData", {}]))),
            (6, RtmpMessage(9, 1, 40, b"picture")),
        )  # fmt: skip
        server, events = self.drive(data)
        kinds = [type(e).__name__ for e in events]
        self.assertEqual(kinds, ["ConnectRequest", "PublishRequest", "TagMessage", "TagMessage"])
        answers = [amf.decode(m.payload) for m in replies(server) if m.type == 20]
        self.assertEqual(answers[0][3]["objectEncoding"], 3.0, "as it asked")
        names = [answer[0] for answer in answers]
        self.assertEqual(names, ["_result", "_result", "onFCPublish", "_result", "_result", "_result", "onStatus"])

    def test_aggregates_and_pings_and_media_before_publish(self):
        inner = bytes([8, 0, 0, 1, 0, 0, 10, 0, 0, 0, 0]) + b"a" + bytes(4)
        data = wire(
            command("connect", 1.0, {"app": "a"}), (6, RtmpMessage(9, 1, 0, b"too early")), command("publish", 2.0, None, "k", stream=1),
            (6, RtmpMessage(22, 1, 500, inner)), (2, RtmpMessage(4, 0, 0, b"\0\6\0\0\1\2")),
        )  # fmt: skip
        server, events = self.drive(data)
        self.assertEqual([e for e in events if isinstance(e, TagMessage)], [TagMessage(8, 500, b"a")])
        self.assertIn(b"\0\7\0\0\1\2", [m.payload for m in replies(server) if m.type == chunks.USER_CONTROL])

    def test_players_are_refused(self):
        _, events = self.drive(wire(command("connect", 1.0, {"app": "a"}), command("play", 0.0, None, "k", stream=1)))
        self.assertIsInstance(events[-1], PlayRequest)

    def test_what_is_no_rtmp_is_said_to_be(self):
        for data, words in (
            (b"\x16\x03\x01\x02\x00", "rtmps"), (b"GET / HTTP/1.1\r\n", "HTTP"), (b"\x47", "0x47"),
            (wire(command("publish", 1.0, None, "k")), "before connect"), (wire((3, RtmpMessage(20, 0, 0, b"\x63"))), "cannot be read"),
            (wire(command(1.0)), "without a name"), (wire(command("createStream", 1.0, None)), "before connect"),
            (wire(command("connect", 1.0, {"app": "a"}), command("connect", 2.0, {"app": "b"})), "out of order"),
            (wire(*[(2, RtmpMessage(4, 0, 0, b"\0\6\0\0\1\2"))] * 1001), "more pings"),
        ):  # fmt: skip
            with self.assertRaisesRegex(RtmpError, words):
                self.drive(data)
