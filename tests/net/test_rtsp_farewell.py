"""The end of a session, against servers of a few lines that share no code with ours."""

import asyncio
import re
import unittest

from direkt.net import rtsp
from direkt.net.transport import FetchError
from direkt.protocol import source
from direkt.secret import Secret

SDP = "v=0\r\nm=video 0 RTP/AVP 26\r\na=control:t1\r\nm=audio 0 RTP/AVP 0\r\na=control:t2\r\n"


class Server:
    """Answers what it is told to: ``answer`` gives status and headers for a request, or nothing for the usual."""

    def __init__(self, answer):
        self.answer, self.seen = answer, []

    async def serve(self, reader, writer):
        try:
            while True:
                head = (await reader.readuntil(b"\r\n\r\n")).decode()
                method, url = head.split()[:2]
                number = re.search(r"CSeq: (\d+)", head)[1]
                self.seen.append((method, url, head))
                status, headers, body = self.answer(method, url, head) or (200, "", "")
                if not headers and method == "DESCRIBE":
                    headers, body = "Content-Type: application/sdp\r\n", SDP
                elif not headers and method == "SETUP" and status == 200:
                    transport = re.search(r"Transport: (.*)\r", head)[1]
                    headers = f"Session: 77;timeout=60\r\nTransport: {transport}\r\n"
                size = f"Content-Length: {len(body)}\r\n" if body else ""
                writer.write(f"RTSP/1.0 {status} X\r\nCSeq: {number}\r\n{headers}{size}\r\n{body}".encode())
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError):
            pass
        finally:
            writer.close()


def fetch(answer, login=None):
    """What a server saw of a fetch of half a second, and how it ended."""

    async def run():
        served = Server(answer)
        port = await asyncio.start_server(served.serve, "127.0.0.1", 0)
        address = source.parse(f"rtsp://127.0.0.1:{port.sockets[0].getsockname()[1]}/x")[0]
        puller = rtsp.puller(address, login, lambda event: None)
        task = asyncio.ensure_future(puller.run())
        await asyncio.wait({task}, timeout=0.6)
        task.cancel()
        reason = None
        try:
            await task
        except FetchError as error:
            reason = error
        except asyncio.CancelledError:
            pass
        port.close()
        return served.seen, reason

    return asyncio.run(run())


class Farewells(unittest.TestCase):
    def test_a_farewell_whose_nonce_is_old_is_said_again(self):
        state = {"nonce": 1}

        def answer(method, url, head):
            wanted = f'nonce="n{state["nonce"]}"'
            if method == "TEARDOWN" and state["nonce"] == 1:
                state["nonce"] = 2
                wanted = "none"
            if method != "OPTIONS" and wanted not in head:
                stale = ", stale=true" if "Authorization" in head else ""
                return 401, f'WWW-Authenticate: Digest realm="r", nonce="n{state["nonce"]}"{stale}\r\n', ""
            return None

        seen, _ = fetch(answer, ("user", Secret("fake-password")))
        ends = [head for method, _, head in seen if method == "TEARDOWN"]
        self.assertEqual(len(ends), 2)
        self.assertIn('nonce="n2"', ends[1])

    def test_each_medium_is_started_and_ended_by_itself_where_the_server_wants_that(self):
        def answer(method, url, head):
            return (459, "", "") if method in ("PLAY", "TEARDOWN") and not url.endswith(("t1", "t2")) else None

        seen, reason = fetch(answer)
        self.assertIsNone(reason)
        for method in ("PLAY", "TEARDOWN"):
            urls = [url.rpartition("/")[2] for m, url, _ in seen if m == method]
            self.assertEqual(urls[-2:], ["t1", "t2"], method)

    def test_a_server_that_does_not_answer_a_farewell_holds_nobody_up(self):
        seen, _ = fetch(lambda method, url, head: (100, "", "") if method == "TEARDOWN" else None)
        self.assertEqual(seen[-1][0], "TEARDOWN")
