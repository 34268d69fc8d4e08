"""The simulated cameras' RTSP server keeps the rules of RFC 2326, by raw requests."""

import asyncio
import unittest
from fractions import Fraction

from direkt.codec.programme import Programme
from direkt.sim.rtsp import RtspServer
from tests.support import card


class Show:
    def __init__(self):
        self.programme = Programme(card(96, 64, bitrate=100), None)

    def formats(self):
        return self.programme.formats()

    def next(self):
        return Fraction(10**6), self.programme.next()[1]


def talk(*requests):
    """The status of the answer to each request; ``@`` stands for the address, ``$`` for the session's number."""

    async def run():
        server = RtspServer(lambda path: Show() if path.startswith("/live") else None)
        port = await server.start()
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        out, session = [], ""
        for n, request in enumerate(requests, 1):
            text = request.replace("@", f"rtsp://127.0.0.1:{port}").replace("$", session).replace("#", str(n))
            writer.write((text + "\r\n\r\n").encode())
            head = (await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), 5)).decode()
            for line in head.split("\r\n"):
                name, _, value = line.partition(":")
                if name == "Session":
                    session = value.partition(";")[0].strip()
                if name == "Content-Length":
                    await reader.readexactly(int(value))
            out.append((int(head.split()[1]), head))
        writer.close()
        await server.stop()
        return out

    return asyncio.run(run())


def codes(*requests):
    return [status for status, _ in talk(*requests)]


DESCRIBE = "DESCRIBE @/live RTSP/1.0\r\nCSeq: #\r\nAccept: application/sdp"
SETUP = "SETUP @/live/track1 RTSP/1.0\r\nCSeq: #\r\nTransport: RTP/AVP/TCP;unicast;interleaved=0-1"


class Rules(unittest.TestCase):
    def test_versions_numbers_and_requirements(self):
        self.assertEqual(codes("OPTIONS * RTSP/2.0\r\nCSeq: #"), [505])
        self.assertEqual(codes("OPTIONS * RTSP/1.0"), [400])
        status, head = talk("OPTIONS * RTSP/1.0\r\nCSeq: #\r\nRequire: www.example.org/extra")[0]
        self.assertEqual(status, 551)
        self.assertIn("Unsupported: www.example.org/extra", head)
        self.assertEqual(codes("DESCRIBE @/live RTSP/1.0\r\nCSeq: #\r\nAccept: text/html"), [406])
        self.assertEqual(codes("RECORD @/live RTSP/1.0\r\nCSeq: #"), [405])

    def test_transports(self):
        for transport, status in (
            ("RTP/AVP;unicast;client_port=50000-50001", 200), ("RTP/AVP;unicast;client_port=50001-50002", 461),
            ("RTP/AVP;unicast;client_port=50000-50005", 461), ("RTP/AVP;multicast", 461), ("RAW/RAW/UDP;unicast", 461),
            ("RTP/AVP/TCP;unicast;interleaved=0-1", 200), ("RTP/AVP/TCP;unicast;interleaved=3", 200), ("", 461),
        ):  # fmt: skip
            found = talk(DESCRIBE, f"SETUP @/live/track1 RTSP/1.0\r\nCSeq: #\r\nTransport: {transport}")
            self.assertEqual(found[1][0], status, transport)
            if "client_port" in transport and status == 200:
                ports = found[1][1].split("server_port=")[1].split("\r")[0].split("-")
                self.assertEqual((int(ports[0]) % 2, int(ports[1]) - int(ports[0])), (0, 1))
        self.assertEqual(codes(DESCRIBE, "SETUP @/live/track1 RTSP/1.0\r\nCSeq: #"), [200, 461])

    def test_sessions_and_states(self):
        play = "PLAY @/live RTSP/1.0\r\nCSeq: #\r\nSession: $"
        self.assertEqual(codes(DESCRIBE, SETUP, play), [200, 200, 200])
        self.assertEqual(codes(DESCRIBE, "PLAY @/live RTSP/1.0\r\nCSeq: #"), [200, 454])
        self.assertEqual(codes(DESCRIBE, SETUP, "PLAY @/live RTSP/1.0\r\nCSeq: #"), [200, 200, 454])
        self.assertEqual(codes(DESCRIBE, SETUP, "PLAY @/live RTSP/1.0\r\nCSeq: #\r\nSession: 123"), [200, 200, 454])
        self.assertEqual(codes(DESCRIBE, SETUP, "TEARDOWN @/live RTSP/1.0\r\nCSeq: #\r\nSession: $"), [200, 200, 200])
        self.assertEqual(codes(DESCRIBE, SETUP, play, SETUP + "\r\nSession: $"), [200, 200, 200, 455])
        self.assertEqual(codes(SETUP), [404])
