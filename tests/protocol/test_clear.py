"""Logins and tokens go unencrypted within the local network alone, or where the person says so."""

import threading
import unittest
from http.server import BaseHTTPRequestHandler, HTTPServer
from unittest import mock

from direkt.described.errors import DeviceLoginRefused
from direkt.described.http import HttpInterface
from direkt.platform.calls import Calls, FixedToken
from direkt.platform.event import PlatformError
from direkt.platform.sign_in import SignedInAccount
from direkt.protocol import clear
from direkt.secret import Secret
from tests.support import Cli


class Clear(unittest.TestCase):
    def setUp(self):
        fresh = mock.patch.object(clear, "_allowed", set())
        fresh.start()
        self.addCleanup(fresh.stop)

    def test_what_is_local(self):
        for host in ("127.0.0.1", "10.1.2.3", "172.31.0.1", "192.168.1.9", "169.254.3.4", "::1", "fe80::1%eth0", "fd00::7", "::ffff:10.0.0.1", "cam", "Cam.Local", "x.lan", "box.home.arpa"):
            self.assertTrue(clear.is_local(host), host)
        for host in ("8.8.8.8", "172.32.0.1", "100.64.0.1", "2001:4860::1", "::ffff:8.8.8.8", "cam.example", "local.example", "xlan.example.", "192.168.1.1.example"):
            self.assertFalse(clear.is_local(host), host)

    def test_what_goes(self):
        for address, goes in (
            ("https://api.example", True), ("http://api.example", False), ("HTTP://api.example:80/x", False), ("http://api.example:8080", False), ("http://10.0.0.1", True),
        ):  # fmt: skip
            self.assertEqual(clear.allowed(address), goes, address)
        clear.allow("http://api.example/base")
        self.assertTrue(clear.allowed("http://API.example:80/other"))
        self.assertFalse(clear.allowed("http://api.example:8080"))

    def test_nothing_leaves(self):
        got = []

        class Server(BaseHTTPRequestHandler):
            log_message = lambda *_: None  # noqa: E731

            def do_GET(self):
                got.append(self.headers.get("authorization"))
                self.send_response(401 if "authorization" not in self.headers else 200)
                self.send_header("WWW-Authenticate", 'Basic realm="x"')
                self.send_header("Content-Length", "0")
                self.end_headers()

        server = HTTPServer(("127.0.0.1", 0), Server)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        here = f"http://127.0.0.1:{server.server_port}"
        with mock.patch.object(clear, "is_local", lambda host: False):
            device = HttpInterface("tower", here, "basic", ("op", Secret("geheim~fake")))
            self.addCleanup(device.close)
            with self.assertRaisesRegex(DeviceLoginRefused, "a basic login would go unencrypted to 127.0.0.1:.*'insecure: yes'"):
                device.exchange("GET", "/x")
            calls = Calls("p", here, FixedToken(Secret("tok~fake")), lambda _: None)
            self.addCleanup(calls.close)
            for ask in (lambda: calls.ask("GET", "/x"), lambda: calls.view(f"{here}/y")):
                with self.assertRaisesRegex(PlatformError, "the token would go unencrypted .* under platforms.p"):
                    ask()
            account = SignedInAccount("p", here, "direkt", mock.Mock(), lambda: 0.0)
            with self.assertRaisesRegex(PlatformError, "the sign-in would go unencrypted"):
                account._post(f"{here}/token", {"a": "b"})
            self.assertEqual(got, [None])
            clear.allow(here)
            self.assertEqual(device.exchange("GET", "/x").status, 200)
            calls.ask("GET", "/x")
            self.assertEqual(got[-1], "Bearer tok~fake")


class Rig(Cli):
    def test_the_rig_says_so(self):
        text = "schema: direkt.rig/1\nname: T\ndevices: {}\ndestinations: {m: {sheet: tarnlight, server: rtmp://h/live, key: file:s.yaml#a, platform: p}}\nplatforms:\n  p: {address: http://127.0.0.1:9/x, token: file:s.yaml#a%s}\n"
        self.file("s.yaml", "a: tok~fake~7\n", 0o600)
        environment = {"DIREKT_CONFIG": str(self.folder / "c")}
        with mock.patch.object(clear, "is_local", lambda host: False), mock.patch.object(clear, "_allowed", set()):
            self.file("rig.yaml", text % "")
            self.one_line(self.direkt("event", "list", "--at-platform", "p", **environment), 3, "the token would go unencrypted to 127.0.0.1:9", "insecure: yes")
            self.file("rig.yaml", text % ", insecure: yes")
            self.one_line(self.direkt("event", "list", "--at-platform", "p", **environment), 3, "connection refused")


if __name__ == "__main__":
    unittest.main()
