import asyncio
import socket
import time

from direkt.net.publisher import Publisher, PublishError
from direkt.sheet.address import parse
from direkt.sheet.secret import Secret
from direkt.sim.push import Programme, push
from tests.support import AUDIO, KEY, Cli, card, free_port


class Publishers(Cli):
    """``direkt catch`` by itself, with publishers of the test's own."""

    def begin(self, *arguments: str):
        self.port = free_port()
        child = self.start(
            "catch", "--port", str(self.port), "--host", "127.0.0.1", "--key", "env:K", *arguments, K=KEY
        )
        for _ in range(100):
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", self.port)) == 0:
                    return child
            time.sleep(0.1)
        raise AssertionError("the port does not open")

    def publish(self, seconds: float, key: str = KEY) -> None:
        async def run() -> None:
            publisher = Publisher(parse(f"rtmp://127.0.0.1:{self.port}/rehearsal"), Secret(key))
            try:
                async with asyncio.timeout(seconds):
                    await push(publisher, Programme(card(), AUDIO), lambda _: None)
            except TimeoutError:
                return

        asyncio.run(run())

    def test_strangers_are_turned_away_and_the_right_one_is_measured(self):
        child = self.begin("--for", "4s", "--keep", "kept.flv")
        with socket.create_connection(("127.0.0.1", self.port)) as stranger:
            stranger.sendall(b"GET / HTTP/1.1\r\n\r\n")
            stranger.recv(10)
        with self.assertRaises(PublishError):
            self.publish(1, "FAKE-WRONG")
        self.publish(3)
        result = self.finish(child)
        self.assertEqual(result.code, 0, result)
        self.assertIn("not RTMP but HTTP", result.out)
        self.assertIn(f"wrong stream key: it has 10 characters, the right one {len(KEY)}", result.out)
        self.assertIn("640x360", result.out)
        self.assertIn("gap", result.out)
        self.assertNotIn(KEY, result.out + result.err)
        checked = self.direkt("check", "kept.flv", "--json").json["measured"]
        self.assertEqual((checked["video.size"], checked["audio.codec"]), ("640x360", "aac"))

    def test_without_an_end_ctrl_c_is_the_end_and_the_verdict_the_exit_code(self):
        child = self.begin("--sheet", "tarnlight", "--json")
        self.publish(2)
        result = self.interrupt(child, 0.2)
        self.assertEqual(result.code, 1, result)
        self.assertEqual((result.json["verdict"], result.json["feed"]), ("fail", None))

    def test_wrong_use(self):
        for arguments, words in (
            (("--sheet", "tarnlight", "--feed", "x"), "exclude each other"), (("--key", "FAKE-PLAIN-KEY"), "expected a reference"),
            (("--key", "env:NOT_SET"), "NOT_SET is not set"), (("--sheet", "nothing"), "no sheet of this name"),
            (("--keep", "no/such/folder.flv"), "cannot be written"),
        ):  # fmt: skip
            result = self.direkt("catch", "--port", str(free_port()), *arguments)
            self.one_line(result, 2, words)
            self.assertNotIn("FAKE-PLAIN-KEY", result.err)
        self.assertEqual(self.direkt("catch", "--for", "soon").code, 2)
