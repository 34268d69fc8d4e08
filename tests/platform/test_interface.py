"""The event interface's client against the simulated platform, with everything going wrong that can."""

import datetime
import json
import tempfile
import threading
import time
import unittest
import urllib.error
import urllib.parse
import urllib.request
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path

from direkt.destination.keystore import KeyStore
from direkt.destination.references import Sources, StoreName
from direkt.platform.calls import Calls, FixedToken
from direkt.platform.event import (
    Changed,
    Declined,
    NotSignedIn,
    PlatformError,
    PlatformFacts,
    differences,
    given_servers,
)
from direkt.platform.interface import InterfacePlatform, body_of
from direkt.platform.planned import WantedEvent
from direkt.platform.sign_in import Code, SignedInAccount
from direkt.rig.events import EventState
from direkt.secret import Secret
from direkt.sim.tarnlight import Tarnlight
from tests.support import wait_until

TOKEN = "varn~fake~token~bittern"
WANTED = WantedEvent(
    "The finals", "All of them.", datetime.datetime(2026, 7, 5, 14, tzinfo=datetime.UTC), 3600.0, "everyone", "short", "none", None, False,
    {"crowd": "families"},
)  # fmt: skip
PNG = b"\x89PNG\r\n\x1a\n" + bytes(64)


class Case(unittest.TestCase):
    def setUp(self):
        self.sim = Tarnlight(TOKEN)
        self.sim.start()
        self.addCleanup(self.sim.stop)
        self.slept = []
        self.platform = self.client(FixedToken(Secret(TOKEN)))

    def client(self, tokens):
        made = InterfacePlatform(
            "tarnlight", Calls("tarnlight", self.sim.address, tokens, self.slept.append), PlatformFacts("Tarnlight")
        )
        self.addCleanup(made.close)
        return made


class Events(Case):
    def test_an_event_from_making_to_dropping(self):
        p = self.platform
        self.assertIsNone(p.find("finals"))
        made = p.make("finals", WANTED)
        self.assertEqual(
            (made.state, made.title, made.audience, made.delay), (EventState.MADE, "The finals", "everyone", "short")
        )
        self.assertEqual(differences(made, body_of(WANTED)), [])
        ingest = p.ingest(made)
        self.assertEqual(ingest.addresses("backup"), [self.sim.ingest_address("backup")])
        self.assertIn(self.sim.ingest_address("tls"), ingest.addresses("primary"))
        renewed = p.renew(made)
        self.assertNotEqual(renewed.key, ingest.key)
        opened = p.open(p.find("finals"))
        self.assertEqual(p.open(opened).state, EventState.OPEN)  # twice does no harm
        with self.assertRaisesRegex(Declined, "Close it before"):
            p.drop(opened)
        live = p.air(opened)
        self.assertEqual(p.open(live).state, EventState.LIVE)  # and is no step back
        self.assertEqual(p.seen(live).inputs, ())
        closed = p.finish(live)
        with self.assertRaisesRegex(Declined, "closed event cannot be opened"):
            p.open(closed)
        p.drop(closed)
        p.drop(closed)
        self.assertIsNone(p.find("finals"))

    def test_what_differs_is_changed_and_nothing_else(self):
        made = self.platform.make("finals", WANTED)
        same = self.platform.change(made, WANTED)
        self.assertEqual(same.version, made.version)
        with_picture = replace(WANTED, title="The final", picture=PNG)
        changed = self.platform.change(made, with_picture)
        self.assertEqual((changed.title, changed.told["picture"]), ("The final", with_picture.picture_mark))
        count = len(self.sim.asked)
        self.platform.change(changed, with_picture)
        self.assertEqual(len(self.sim.asked), count)

    def test_somebody_elses_change_is_not_written_over(self):
        made = self.platform.make("finals", WANTED)
        self.platform.change(made, replace(WANTED, title="By somebody else"))
        with self.assertRaisesRegex(Changed, "changed by somebody else meanwhile"):
            self.platform.change(made, replace(WANTED, title="Mine"))
        # a request that comes late changes nothing
        self.assertEqual(self.platform.find("finals").title, "By somebody else")

    def test_pages(self):
        for n in range(123):
            self.sim.events[f"e{n:03d}"] = self.made(f"e{n:03d}")
        self.assertEqual([e.id for e in self.platform.listed()], [f"e{n:03d}" for n in range(123)])

    def made(self, name):
        self.platform.make("template", WANTED)
        event = self.sim.events.pop("template")
        event.id = name
        return event

    def test_retried_doubled_and_reordered_requests_make_one_event(self):
        for fault in ("twice", "loses_answers"):
            setattr(self.sim.faults, fault, True)
            p, name = self.platform, f"event-{fault.replace('_', '-')}"
            made = p.make(name, WANTED)
            again = p.make(name, WANTED)
            self.assertEqual(made.version, again.version, fault)
            changed = p.change(made, replace(WANTED, title="Other", picture=PNG))
            self.assertEqual((changed.title, bool(changed.told["picture"])), ("Other", True), fault)
            key = p.ingest(changed).key
            self.assertNotEqual(p.renew(changed).key, key, fault)
            live = p.air(p.open(p.find(name)))
            self.assertEqual(live.state, EventState.LIVE, fault)
            closed = p.finish(live)
            self.assertEqual((closed.state, len(p.listed())), (EventState.CLOSED, 1), fault)
            p.drop(closed)
            self.assertEqual(p.listed(), [], fault)
            setattr(self.sim.faults, fault, False)

    def test_two_who_make_it_at_the_same_time_make_one(self):
        found, other = [], self.client(FixedToken(Secret(TOKEN)))
        threads = [threading.Thread(target=lambda p=p: found.append(p.make("finals", WANTED))) for p in (self.platform, other)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual((len({e.version for e in found}), len(self.platform.listed())), (1, 1))

    def test_refusals_name_each_part(self):
        with self.assertRaisesRegex(Declined, r"fields\.crowd: is needed") as caught:
            self.platform.make("finals", replace(WANTED, fields={"lane": "rapids", "sponsor": "me"}))
        self.assertEqual(set(caught.exception.reasons), {"fields.crowd", "fields.lane", "fields.sponsor"})

    def test_a_platform_that_is_down_slow_or_strange(self):
        self.sim.faults.down = True
        with self.assertRaisesRegex(PlatformError, r"closed for repair; try again, or do it on its page"):
            self.platform.find("finals")
        self.assertEqual(self.slept, [1.0, 1.0])  # as it asks by Retry-After
        self.sim.faults.down = False
        self.sim.web_faults.malformed = True
        with self.assertRaisesRegex(PlatformError, "expected JSON"):
            self.platform.listed()
        self.sim.web_faults.malformed = False
        self.sim.web.close()
        with self.assertRaisesRegex(PlatformError, "cannot be reached"):
            self.platform.find("finals")

    def test_what_is_not_known_of_an_answer_is_passed_over(self):
        from direkt.platform.interface import _input, values_of

        self.assertEqual(
            values_of({"video.size": "1x", "video.codec": "h264", "mood": 3, "video.frame_rate": "fast"}),
            {"video.codec": "h264"},
        )
        found = _input({"role": "spare", "arriving": "yes", "gaps": [{"seconds": 2}, 7], "complaints": ["bad", 3], "values": []})
        self.assertEqual((found.role, found.arriving, found.missing, found.complaints), ("primary", None, 2.0, ("bad",)))


class Habits(unittest.TestCase):
    """What platforms of the outside world are like."""

    def test_server_addresses_as_platforms_write_them(self):
        key = Secret("varn~fake~otherbird")

        def given(*texts):
            return [s.address for s in given_servers("P", [(t, "primary") for t in texts], key)]

        self.assertEqual(
            given(
                "RTMPS://A.Example:443/live/", " rtmp://b.example/live/varn~fake~otherbird", "srt://c.example?streamid=x", None,
                7,
            ),
            ["rtmps://a.example/live", "rtmp://b.example/live"],
        )
        for text in ("rtmp://h/varn~fake~otherbird/live", "words", ""):
            with self.assertRaisesRegex(PlatformError, "no server address that can be used") as caught:
                given(text)
            self.assertNotIn("otherbird", str(caught.exception))

    def test_a_platform_that_has_moved(self):
        def answer(self):
            self.send_response(301)
            self.send_header("Location", "https://new.example/api")
            self.send_header("Content-Length", "0")
            self.end_headers()

        handler = type("Moved", (BaseHTTPRequestHandler,), {"do_GET": answer, "log_message": lambda *_: None})
        server = HTTPServer(("127.0.0.1", 0), handler)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        calls = Calls("p", f"http://127.0.0.1:{server.server_port}", None, lambda _: None)
        self.addCleanup(calls.close)
        with self.assertRaisesRegex(PlatformError, "has moved to https://new.example/api: write its new address"):
            calls.ask("GET", "/events")


class Fields(Case):
    def test_headers_hold_what_headers_can(self):
        sent = []

        def answer(self):
            sent.append(dict(self.headers))
            self.send_response(200)
            self.send_header("ETag", '"\u00fcx"')  # as Latin-1
            self.send_header("Content-Length", "2")
            self.end_headers()
            self.wfile.write(b"{}")

        handler = type("Odd", (BaseHTTPRequestHandler,), {"do_GET": answer, "do_PUT": answer, "log_message": lambda *_: None})
        server = HTTPServer(("127.0.0.1", 0), handler)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)

        def calls(token):
            made = Calls("p", f"http://127.0.0.1:{server.server_port}", FixedToken(Secret(token)) if token else None, lambda _: None)
            self.addCleanup(made.close)
            return made

        for token in ("caf\u00e9~fake", "\u540d\u524d", "a\nb", "a\r\nX: y", "\U0001f600", "a b", "\x7f", " x ", "a\tb"):
            with self.assertRaisesRegex(PlatformError, "a character that no token has .* nothing was sent"):
                calls(token).ask("GET", "/x")
        self.assertEqual(sent, [])
        version = calls("good;'~").ask("GET", "/x").version
        calls("").ask("PUT", "/x", b"{}", version=version)
        self.assertEqual(sent[1]["If-Match"], '"\u00fcx"', "as it came")
        for version in ("\u540d", "a\nb", "\x00"):
            with self.assertRaisesRegex(PlatformError, "nothing was sent to p: character . of its If-Match header"):
                calls("").ask("PUT", "/x", b"{}", version=version)
        self.assertEqual(len(sent), 2)


class Tokens(Case):
    def account(self, now=time.time):
        store = KeyStore(Path(tempfile.mkdtemp(prefix="direkt-test-")), use_keyring=False)
        entry = StoreName(Sources({}, store), store, "rig/tarnlight.token", ())
        return store, SignedInAccount("tarnlight", self.sim.address, "direkt", entry, now)

    def answer(self, code, answer="yes"):
        data = urllib.parse.urlencode({"code": code.lower(), "answer": answer}).encode()
        urllib.request.urlopen(self.sim.address.replace("/events-api", "/sign-in"), data, timeout=5).read()

    def sign_in(self, account, answer="yes", polls=0):
        waits = []
        for told in account.sign_in():
            if isinstance(told, Code):
                self.assertRegex(told.complete, r"^http://127\.0\.0\.1:\d+/sign-in\?code=")
                code = told.code
            else:
                waits.append(told)
                if len(waits) > polls:
                    self.answer(code, answer)
        return waits

    def test_a_person_signs_in_on_a_phone(self):
        store, account = self.account()
        with self.assertRaisesRegex(NotSignedIn, "direkt event sign-in tarnlight"):
            account.token()
        waits = self.sign_in(account, polls=3)
        self.assertEqual(waits[:2], [1.0, 1.0])
        self.assertIn(6.0, waits)  # it polled at once, and was told to slow down
        platform = self.client(account)
        self.assertIsNone(platform.find("finals"))
        kept = (store._folder / "keys-secret.json").stat()
        self.assertEqual(kept.st_mode & 0o777, 0o600)
        self.assertTrue(account.forget())

    def test_they_refuse_or_do_not_come(self):
        _, account = self.account()
        with self.assertRaisesRegex(PlatformError, "the person refused"):
            self.sign_in(account, "no")
        now = [time.time()]
        _, late = self.account(lambda: now[0])
        with self.assertRaisesRegex(PlatformError, "nobody signed in at tarnlight within 10 min"):
            for told in late.sign_in():
                now[0] += 0 if isinstance(told, Code) else 700

    def test_a_token_that_ends_in_mid_event_is_refreshed(self):
        self.sim.faults.token_life = 31.0
        now = [time.time()]
        store, account = self.account(lambda: now[0])
        self.sign_in(account)
        first = account.token()
        self.assertEqual(account.token(), first)  # 31 s are left of it
        now[0] += 5  # less than 30 s are left of it: refreshed in time
        self.assertNotEqual(account.token(), first)
        # one that the platform has forgotten is refreshed when it is refused
        self.sim.grants.tokens.clear()
        self.assertIsNone(self.client(account).find("finals"))
        self.sim.grants.tokens.clear()
        self.sim.faults.no_refresh = True
        with self.assertRaisesRegex(NotSignedIn, "has ended") as caught:
            self.client(account).find("finals")
        for secret in json.loads(store.get("rig/tarnlight.token")).values():
            self.assertNotIn(str(secret), str(caught.exception))

    def test_a_wrong_token_is_said_once_and_not_shown(self):
        platform = self.client(FixedToken(Secret("varn~fake~wrong~one")))
        with self.assertRaisesRegex(NotSignedIn, "check the token under platforms.tarnlight") as caught:
            platform.find("finals")
        self.assertNotIn("varn~fake", str(caught.exception))
        self.assertEqual(len(self.sim.asked), 1)

    def test_the_watch_page_and_its_viewers(self):
        platform = self.platform
        made = platform.make("finals", replace(WANTED, title="<b>Finals & more</b>"))

        def get(url):
            try:
                with urllib.request.urlopen(url, timeout=5) as answer:
                    return answer.status, answer.read().decode()
            except urllib.error.HTTPError as error:
                return error.code, ""

        status, text = get(made.watch)
        self.assertEqual((status, "&lt;b&gt;Finals &amp; more" in text, "not open yet" in text), (200, True, True))
        self.assertEqual(get(made.player)[0], 404)
        platform.change(platform.find("finals"), replace(WANTED, audience="invited"))
        self.assertEqual(get(made.watch)[0], 403)
        with self.assertRaisesRegex(PlatformError, "gives viewers nothing yet"):
            platform.view(made.player)


class Far(unittest.TestCase):
    def test_the_token_goes_to_the_platform_only(self):
        seen = []

        class Other(BaseHTTPRequestHandler):
            def do_GET(self):
                seen.append(dict(self.headers))
                self.send_response(200)
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_):
                pass

        server = HTTPServer(("127.0.0.1", 0), Other)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        calls = Calls("p", "http://127.0.0.1:9/api", FixedToken(Secret(TOKEN)), lambda _: None)
        self.addCleanup(calls.close)
        calls.view(f"http://127.0.0.1:{server.server_port}/a.m3u8?x=1")
        wait_until(lambda: seen)
        self.assertNotIn("Authorization", seen[0])


if __name__ == "__main__":
    unittest.main()
