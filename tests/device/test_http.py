"""Devices that mean harm, or are broken, over real sockets: bytes are written by hand."""

import asyncio
import socket
import threading
import time
import tracemalloc
import unittest
from unittest import mock

import httpx

from direkt.described import http as device_http
from direkt.described.errors import BadAnswer, DeviceError, DeviceLoginRefused
from direkt.described.http import HttpAnswer, HttpInterface
from direkt.secret import Secret


class Harm(unittest.TestCase):
    def answer(self, *parts: bytes, pause: float = 0.0, login=None, kind="none"):
        """What asking a device gives that sends these bytes to everybody who asks."""
        server = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(server.close)

        def serve() -> None:
            while True:
                try:
                    connection, _ = server.accept()
                except OSError:
                    return
                with connection:
                    try:
                        connection.recv(65536)
                        for part in parts:
                            connection.sendall(part)
                            time.sleep(pause)
                    except OSError:
                        pass

        threading.Thread(target=serve, daemon=True).start()
        device = HttpInterface("tower", f"http://127.0.0.1:{server.getsockname()[1]}", kind, login)
        self.addCleanup(device.close)
        return device.ask("GET", "/state")

    @staticmethod
    def page(body: bytes, *headers: bytes, status: bytes = b"200 OK") -> bytes:
        lines = [b"HTTP/1.1 " + status, b"Content-Type: application/json", b"Content-Length: %d" % len(body), *headers]
        return b"\r\n".join([*lines, b"Connection: close", b"", body])

    def test_answers_without_an_end_take_no_memory(self):
        for status in (b"200 OK", b"500 No", b'401 Login\r\nWWW-Authenticate: Digest realm="a", nonce="b", qop="auth"'):
            for login, kind in ((None, "none"), (("op", Secret("pw")), "digest")):
                tracemalloc.start()
                with self.assertRaisesRegex(BadAnswer, "more than 1 MiB"):
                    self.answer(b"HTTP/1.1 " + status + b"\r\n\r\n", *[b"x" * 65536] * 400, login=login, kind=kind)
                self.assertLess(tracemalloc.get_traced_memory()[1], 12 << 20)
                tracemalloc.stop()

    def test_answers_that_drip(self):
        with mock.patch.object(device_http, "_WHOLE_LIMIT", 0.3), self.assertRaisesRegex(BadAnswer, "more than 0.3 s"):
            self.answer(b"HTTP/1.1 200 OK\r\nContent-Length: 9000\r\n\r\n", *[b" "] * 100, pause=0.02)
        for drips in (
            [b"HTTP/1.1 200 OK\r\n", *[b"A: b\r\n"] * 100], [b"H"] + [b"\r\n"] * 100, [b"HTTP/1.1 100 Continue\r\n\r\n"] * 100,
        ):
            with mock.patch.object(device_http, "_WHOLE_LIMIT", 0.3), self.assertRaises(DeviceError):
                begin = time.monotonic()
                self.answer(*drips, pause=0.02)
            self.assertLess(time.monotonic() - begin, 1.5)

    def test_packed_bytes_are_not_unpacked(self):
        with self.assertRaisesRegex(BadAnswer, "compressed bytes"):
            self.answer(self.page(b"\x1f\x8b", b"Content-Encoding: gzip"))

    def test_json_that_is_odd(self):
        for body in (
            b"NaN", b'{"a": Infinity}', b'{"a": -Infinity}', b'{"a": 1e400}', b"1" + b"0" * 400, b"1" + b"0" * 5000, b"[" * 100_000,
            b'{"a":' * 100_000, b"\xff\xfe\x00", b"{", b"'a'", b'{"a": 99999999999999999999}',
        ):  # fmt: skip
            with self.assertRaisesRegex(BadAnswer, "expected JSON", msg=body[:20]):
                self.answer(self.page(body))
        self.assertEqual(self.answer(self.page(b'{"a": [1, 2.5, true, null], "b": 9223372036854775807}'))[1]["b"], 2**63 - 1)
        self.assertEqual(self.answer(self.page(b"")), (True, {}))

    def test_texts_steer_no_terminal(self):
        body = '{"a\\u001b[2J": "x\\u001b]0;y\\u0007\\u202ez\\n", "b": ["Brindle\\u00a0B2 µ"]}'.encode()
        taken, data = self.answer(self.page(body))
        self.assertEqual((taken, data), (True, {"a?[2J": "x?]0;y??z?", "b": ["Brindle\u00a0B2 µ"]}))
        with self.assertRaises(BadAnswer) as caught:
            self.answer(b"HTTP/1.1 200 OK\r\nContent-Type: text/\x1b[31mhtml\r\nContent-Length: 1\r\n\r\n<")
        self.assertNotIn("\x1b", str(caught.exception))
        with self.assertRaises(DeviceLoginRefused) as refused:
            self.answer(self.page(b"", b"WWW-Authenticate: B\x1b[1m" + b"x" * 500, status=b"401 No"))
        self.assertTrue(str(refused.exception).isprintable() and len(str(refused.exception)) < 120)

    def test_what_is_no_http_is_a_clear_error(self):
        for data in (b"", b"SSH-2.0-x\r\n", b"HTTP/1.1 200 OK\r\n" + b"a: b\r\n" * 40000, b"\0" * 200, b"HTTP/1.1 abc\r\n\r\n"):
            with self.assertRaises(DeviceError) as caught:
                self.answer(data)
            self.assertEqual(len(str(caught.exception).splitlines()), 1)


class Interrupted(unittest.TestCase):
    def test_ctrl_c_in_the_moment_of_an_answer_leaves_the_next_question_whole(self):
        device = HttpInterface("tower", "http://127.0.0.1:9", "none", None)
        self.addCleanup(device.close)
        answer = HttpAnswer(200, httpx.Headers(), b"{}")

        def ctrl_c() -> None:
            raise KeyboardInterrupt

        async def answered(seconds: float, *, interrupted: bool) -> HttpAnswer:
            if interrupted:
                asyncio.get_running_loop().call_soon(ctrl_c)
            if seconds:
                await asyncio.sleep(seconds)
            return answer

        for seconds in (0, 5):  # the answer is there, and on its way
            with self.assertRaises(KeyboardInterrupt):
                device._wait(answered(seconds, interrupted=True))
            self.assertIs(device._wait(answered(0.01, interrupted=False)), answer)


if __name__ == "__main__":
    unittest.main()
