"""Probes over real multicast, answered by hand; and the scan of a subnet, which stays polite."""

import asyncio
import contextlib
import re
import socket
import struct
import threading
import time
import unittest
from unittest import mock

from direkt.errors import UnusableInput
from direkt.net import discovery

ANSWER = """<?xml version="1.0"?><e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" xmlns:w="http://schemas.xmlsoap.org/ws/2004/08/addressing"
 xmlns:q="http://schemas.xmlsoap.org/ws/2005/04/discovery"><e:Header><w:RelatesTo>{relates}</w:RelatesTo></e:Header><e:Body><q:ProbeMatches><q:ProbeMatch>
<w:EndpointReference><w:Address>{who}</w:Address></w:EndpointReference><q:Types>q:NetworkVideoTransmitter</q:Types>
<q:Scopes>onvif://www.onvif.org/name/{name}</q:Scopes><q:XAddrs>{where}</q:XAddrs></q:ProbeMatch></q:ProbeMatches></e:Body></e:Envelope>"""


class Heard(unittest.TestCase):
    def listen(self, answer):
        """A device by hand: ``answer`` gives the datagrams for a probe's message id."""
        made = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        made.bind(("", 3702))
        made.setsockopt(
            socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP,
            struct.pack("4s4s", socket.inet_aton("239.255.255.250"), socket.inet_aton("127.0.0.1")),
        )
        made.settimeout(0.2)
        self.probes = []
        stop = threading.Event()

        def serve():
            while not stop.is_set():
                with contextlib.suppress(OSError):
                    data, peer = made.recvfrom(65536)
                    self.probes.append(data)
                    found = re.search(rb"MessageID[^>]*>([^<]+)<", data)
                    for datagram in answer(found[1].decode()) if found else ():
                        made.sendto(datagram, peer)
            made.close()

        threading.Thread(target=serve, daemon=True).start()
        self.addCleanup(stop.set)

    def test_answers_are_matched_joined_and_strangers_counted(self):
        def answer(message):
            def one(**more):
                return ANSWER.format(
                    **{
                        "relates": message, "who": "urn:uuid:pond-1", "name": "Pond",
                        "where": "http://192.0.2.7/onvif/device_service", **more,
                    }
                ).encode()

            return [one(), one(), one(where="http://[2001:db8::7]/onvif/device_service"), one(who="urn:uuid:pond-2", name="Reed", where="http://192.0.2.8/x"),
                    one(relates="urn:uuid:not-ours", who="urn:uuid:stranger"), b"nonsense", b"\xff" * 70]  # fmt: skip

        self.listen(answer)
        heard = asyncio.run(discovery.probe(discovery.interfaces("127.0.0.1"), 2.0))
        own = {m.endpoint: m for m in heard.matches if m.endpoint.startswith("urn:uuid:pond")}
        self.assertEqual(set(own), {"urn:uuid:pond-1", "urn:uuid:pond-2"})
        self.assertEqual(
            own["urn:uuid:pond-1"].addresses,
            ("http://192.0.2.7/onvif/device_service", "http://[2001:db8::7]/onvif/device_service"),
        )
        self.assertNotIn("urn:uuid:stranger", {m.endpoint for m in heard.matches})
        self.assertGreaterEqual(heard.strangers, 9)
        ids = {re.search(rb"MessageID[^>]*>([^<]+)<", data)[1] for data in self.probes}
        self.assertGreaterEqual(len(ids), 4, "repeated, each time with a name of its own")
        self.assertEqual(sum(b"NetworkVideoTransmitter" in data for data in self.probes), len(self.probes) // 2)

    def test_a_flood_has_an_end(self):
        def answer(message):
            return [
                ANSWER.format(relates=message, who=f"urn:uuid:flood-{n}", name="x", where="http://192.0.2.7/").encode()
                for n in range(300)
            ]

        self.listen(answer)
        with mock.patch.object(discovery, "_MOST_ANSWERS", 200):
            heard = asyncio.run(discovery.probe(discovery.interfaces("127.0.0.1"), 0.6))
        self.assertLessEqual(len(heard.matches), 220)

    def test_interfaces(self):
        names = {one.name for one in discovery.interfaces()}
        self.assertIn("lo", names)
        with self.assertRaisesRegex(UnusableInput, "no interface 'pond'; there is|no interface 'pond' with an address; there is"):
            discovery.interfaces("pond")


class Doors(unittest.TestCase):
    def test_open_ports_and_what_speaks_rtsp(self):
        def serve(reply):
            server = socket.create_server(("127.0.0.1", 0))
            self.addCleanup(server.close)

            def run():
                while True:
                    try:
                        connection, _ = server.accept()
                    except OSError:
                        return
                    with connection, contextlib.suppress(OSError):
                        if connection.recv(1000).startswith(b"OPTIONS"):
                            connection.sendall(reply)

            threading.Thread(target=run, daemon=True).start()
            return server.getsockname()[1]

        rtsp, mute = serve(b"RTSP/1.0 200 OK\r\nCSeq: 1\r\n\r\n"), serve(b"")
        with socket.socket() as closed:
            closed.bind(("127.0.0.1", 0))
            with mock.patch.object(discovery, "_like_rtsp", lambda port: port in (rtsp, mute)):
                found = asyncio.run(discovery.doors(["127.0.0.1"], [rtsp, mute, closed.getsockname()[1]]))
        self.assertEqual({(door.port, door.rtsp) for door in found}, {(rtsp, True), (mute, False)})

    def test_so_many_at_once_and_no_more(self):
        now, most, begin = 0, 0, time.monotonic()

        async def slow(host, port):
            nonlocal now, most
            now += 1
            most = max(most, now)
            await asyncio.sleep(0.002)
            now -= 1
            raise OSError

        with mock.patch.object(asyncio, "open_connection", slow):
            done = []
            self.assertEqual(asyncio.run(discovery.doors(discovery.hosts_of("192.0.2.0/24"), [80, 554], done.append)), [])
        self.assertEqual((most, done[-1]), (discovery.AT_ONCE, 254))
        self.assertLess(time.monotonic() - begin, 5)

    def test_subnets(self):
        self.assertEqual(discovery.hosts_of("192.0.2.7/30"), ["192.0.2.5", "192.0.2.6"])
        self.assertEqual(discovery.hosts_of("192.0.2.7"), ["192.0.2.7"])
        self.assertEqual(len(discovery.hosts_of("2001:db8::/120")), 255)
        for text in ("10.0.0.0/8", "2001:db8::/64", "192.0.2.0/33", "pond", ""):
            with self.assertRaises(UnusableInput):
                discovery.hosts_of(text)


if __name__ == "__main__":
    unittest.main()
