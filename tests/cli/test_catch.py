import asyncio
import signal
import socket

from direkt.codec.programme import Programme
from direkt.net import rtmp
from direkt.net.transport import PublishError
from direkt.protocol.address import parse
from direkt.secret import Secret
from direkt.sim.push import push
from tests.support import AUDIO, KEY, Cli, card, free_port, wait_for_port


class Publishers(Cli):
    """``direkt catch`` by itself, with publishers of the test's own."""

    def begin(self, *arguments: str):
        self.port = free_port()
        child = self.start("catch", "--port", str(self.port), "--host", "127.0.0.1", "--key", "env:K", *arguments, K=KEY)
        wait_for_port(self.port)
        return child

    def publish(self, seconds: float, key: str = KEY) -> None:
        async def run() -> None:
            publisher = rtmp.Publisher(parse(f"rtmp://127.0.0.1:{self.port}/rehearsal"), Secret(key))
            try:
                async with asyncio.timeout(seconds):
                    await push(publisher, Programme(card(), AUDIO), lambda _: None)
            except TimeoutError:
                return

        asyncio.run(run())

    def test_strangers_are_turned_away_and_the_right_one_is_measured(self):
        child = self.begin("--for", "3s", "--keep", "kept.flv")
        with socket.create_connection(("127.0.0.1", self.port)) as stranger:
            stranger.sendall(b"GET / HTTP/1.1\r\n\r\n")
            stranger.recv(10)
        with self.assertRaises(PublishError):
            self.publish(1, "FAKE-WRONG")
        with self.assertRaises(PublishError):
            self.publish(1, "FAKE-WRONG")
        self.publish(1.5)
        result = self.finish(child)
        self.assertEqual(result.code, 0, result)
        self.assertIn("not RTMP but HTTP", result.out)
        self.assertRegex(
            result.out, rf"127.0.0.1:\d+ \(2 times\): wrong stream key: it has 10 characters, the right one {len(KEY)}"
        )
        self.assertIn("640x360", result.out)
        self.assertIn("gap", result.out)
        self.assertNotIn(KEY, result.out + result.err)
        checked = self.direkt("check", "kept.flv", "--json").json["measured"]
        self.assertEqual((checked["video.size"], checked["audio.codec"]), ("640x360", "aac"))

    def test_without_an_end_ctrl_c_is_the_end_and_the_verdict_the_exit_code(self):
        child = self.begin("--sheet", "tarnlight", "--json")
        self.publish(1)
        result = self.interrupt(child)
        self.assertEqual(result.code, 1, result)
        self.assertEqual((result.json["verdict"], result.json["feed"]), ("fail", None))

    def test_without_a_sheet_there_is_no_verdict_and_sigterm_ends_it_too(self):
        child = self.begin("--json")
        self.publish(0.5)
        result = self.interrupt(child, signal.SIGTERM)
        self.assertEqual((result.code, result.json["verdict"], result.json["findings"]), (0, None, []))

    def test_wrong_use(self):
        for arguments, words in (
            (("--sheet", "tarnlight", "--feed", "x"), "exclude each other"), (("--key", "file:FAKE-PLAIN-KEY"), "expected a reference"),
            (("--key", "env:NOT_SET"), "NOT_SET is not set"), (("--sheet", "nothing"), "no sheet of this name"),
            (("--keep", "no/such/folder.flv"), "cannot be written"),
        ):  # fmt: skip
            result = self.direkt("catch", "--port", str(free_port()), *arguments)
            self.one_line(result, 2, words)
            self.assertNotIn("FAKE-PLAIN-KEY", result.err)
        self.assertEqual(self.direkt("catch", "--for", "soon").code, 2)
