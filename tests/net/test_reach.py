import asyncio
import datetime
import ssl
import tempfile
from pathlib import Path

from direkt.net import certificates, reach
from direkt.net.rtmp import Publisher, Receiver
from direkt.net.transport import Arrived, PublishError
from direkt.protocol.address import parse
from direkt.secret import Secret
from tests.support import KEY, Async, free_port


def trusting(*made: certificates.Certificate) -> ssl.SSLContext:
    context = ssl.create_default_context()
    with tempfile.TemporaryDirectory() as folder:
        for n, certificate in enumerate(made):
            path = Path(folder) / f"{n}.pem"
            path.write_bytes(certificate.pem)
            context.load_verify_locations(path)
    return context


class Reaching(Async):
    async def server(self, app: str = "live", tls: certificates.Certificate | None = None) -> int:
        self.events: list = []
        receiver = Receiver(app, Secret(KEY), self.events.append)
        port = await receiver.start("127.0.0.1", 0, tls.context if tls else None)
        self.addAsyncCleanup(receiver.stop)
        return port

    async def odd(self, answer) -> int:
        async def serve(reader, writer):
            await answer(reader, writer)
            writer.close()

        server = await asyncio.start_server(serve, "127.0.0.1", 0)
        self.addAsyncCleanup(server.wait_closed)
        self.addCleanup(server.close)
        return server.sockets[0].getsockname()[1]

    async def verdict(self, url: str, **more) -> reach.Try:
        return (await reach.reach(parse(url), 1, limit=1.0, **more)).worst

    async def test_a_good_ingest_with_times_for_each_step(self):
        port = await self.server()
        found = await reach.reach(parse(f"rtmp://127.0.0.1:{port}/live"), 3)
        self.assertTrue(found.reachable)
        self.assertEqual(len(found.tries), 3)
        self.assertEqual(list(found.tries[0].seconds), ["name", "tcp", "rtmp", "application"])
        self.assertIsNone(found.median("tls"))
        self.assertFalse(any(isinstance(event, Arrived) for event in self.events), "nothing was published")

    async def test_what_can_be_wrong_is_told_apart(self):
        async def http(reader, writer):
            await reader.read(100)
            writer.write(b"HTTP/1.1 400 Bad Request\r\n\r\n")

        async def silent(reader, writer):
            await asyncio.sleep(1.5)

        async def shut(reader, writer):
            return

        port = await self.server()
        closed = free_port()
        for url, verdict, words in (
            ("rtmp://no-such-host.invalid/live", "name unknown", "no-such-host.invalid"),
            (f"rtmp://127.0.0.1:{closed}/live", "port closed", f"port {closed}"),
            (f"rtmp://127.0.0.1:{await self.odd(http)}/live", "not RTMP", "0x48"),
            (f"rtmp://127.0.0.1:{await self.odd(silent)}/live", "no rtmp", "within 1 s"),
            (f"rtmp://127.0.0.1:{await self.odd(shut)}/live", "not RTMP", "closes the connection"),
            (f"rtmp://127.0.0.1:{port}/other", "application refused", "'other'"),
            (f"rtmps://127.0.0.1:{port}/live", "TLS refused", ""),
        ):
            found = await self.verdict(url)
            self.assertEqual(found.verdict, verdict, (url, found))
            self.assertIn(words, found.detail)

    async def test_certificates(self):
        now = datetime.datetime.now(datetime.UTC)
        day = datetime.timedelta(days=1)
        good = certificates.make(["127.0.0.1"])
        for made, verdict, words in (
            (good, "", ""), (certificates.make(["other.example"]), "TLS refused", "another"),
            (certificates.make(["127.0.0.1"], begin=now - 9 * day, days=2), "TLS refused", "clock is fast"),
            (certificates.make(["127.0.0.1"], begin=now + 3 * day), "TLS refused", "clock is slow"),
        ):  # fmt: skip
            port = await self.server(tls=made)
            found = await self.verdict(f"rtmps://127.0.0.1:{port}/live", tls=trusting(made))
            self.assertEqual((found.verdict, words in found.detail), (verdict, True), found)
        port = await self.server(tls=good)
        self.assertIn("self-signed", (await self.verdict(f"rtmps://127.0.0.1:{port}/live")).detail)

    async def test_another_port_is_suggested(self):
        open_port = await self.server()
        found = await reach.reach(parse(f"rtmp://127.0.0.1:{free_port()}/live"), 1, other_ports=[("rtmps", open_port)])
        self.assertIn(f"port {open_port} is open: try rtmps://", found.hint)


class Secure(Async):
    server = Reaching.server

    async def test_publishing_over_tls_checks_the_certificate(self):
        made = certificates.make(["127.0.0.1"])
        port = await self.server(tls=made)
        publisher = Publisher(parse(f"rtmps://127.0.0.1:{port}/live"), Secret(KEY), tls=trusting(made))
        await publisher.start()
        await publisher.close()
        self.assertIsInstance(self.events[0], Arrived)
        with self.assertRaisesRegex(PublishError, "cannot be reached: the certificate is self-signed"):
            await Publisher(parse(f"rtmps://127.0.0.1:{port}/live"), Secret(KEY)).start()
        self.assertRegex(made.fingerprint, r"^([0-9A-F]{2}:){31}[0-9A-F]{2}$")
