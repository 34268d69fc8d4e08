"""A platform file against a platform of habits: short pages, a line of its own, steps that take a while, errors in good answers."""

import dataclasses
import datetime
import email.utils
import re
import threading
import time
import unittest
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from unittest import mock

from direkt.documents import DocumentError
from direkt.platform import by_file, platform_file
from direkt.platform.by_file import DescribedPlatform
from direkt.platform.calls import Calls, FixedToken, ReferredToken
from direkt.platform.event import Declined, NotSignedIn, PlatformError
from direkt.platform.planned import WantedEvent
from direkt.platform.sign_in import Code, SignedInAccount
from direkt.rig.events import EventState
from direkt.secret import Secret
from tests.lab.reedbank import TOKEN, Reedbank
from tests.support import Folder

REF = "lab-finals-main-20260705t140000z-0123abcd"
WANTED = WantedEvent(
    "The finals", "All of it.", datetime.datetime(2026, 7, 5, 14, tzinfo=datetime.UTC), 5400.0, "everyone", "usual", "none", None, False,
    {"young": "no"},
)  # fmt: skip


class Reed(Folder):
    def setUp(self):
        super().setUp()
        self.reed = Reedbank("rtmp://in.reedbank.example/live")
        self.addCleanup(self.reed.close)
        self.file("reedbank.yaml", self.reed.file())
        self.slept, self.said = [], []
        for name, value in (("_POLL", 0.05), ("_LISTED", 0.3), ("_SETTLES", 0.3)):
            patched = mock.patch.object(by_file, name, value)
            patched.start()
            self.addCleanup(patched.stop)
        self.platform = self.opened()

    def opened(self, tokens=None, **changes):
        text = self.reed.file()
        for old, new in changes.items():
            text = text.replace(old, new)
        self.file("reedbank.yaml", text)
        file = platform_file.load("reedbank.yaml", self.folder)
        calls = Calls("reed", self.reed.origin, tokens or FixedToken(Secret(TOKEN)), self.sleep, say=self.said.append)
        made = DescribedPlatform("reed", file, calls)
        self.addCleanup(made.close)
        return made

    def sleep(self, seconds):
        self.slept.append(seconds)
        time.sleep(min(seconds, 0.05))

    def test_two_resources_make_one_event(self):
        made = self.platform.make(REF, WANTED)
        cast = self.reed.casts[made.id]
        self.assertEqual((cast.bound is not None, cast.about["young"], made.state), (True, False, EventState.MADE))
        self.assertEqual((made.ref, made.audience, made.title), (REF, "everyone", "The finals"))
        ingest = self.platform.ingest(made)
        self.assertEqual(ingest.key.reveal(), self.reed.lines[cast.bound].name)
        self.assertEqual(self.platform.make(REF, WANTED).id, made.id)
        self.assertEqual((len(self.reed.casts), len(self.reed.lines)), (1, 1))

    def test_an_answer_that_is_lost_at_any_of_the_requests(self):
        for n in range(3):
            self.reed.casts.clear()
            self.reed.lines.clear()
            count = [0]
            original = self.reed._do

            def lossy(method, path, query, data, count=count, n=n, original=original):
                found = original(method, path, query, data)
                if method == "POST":
                    self.reed.faults.lose = int(count[0] == n)
                    count[0] += 1
                return found

            with mock.patch.object(self.reed, "_do", lossy):
                try:
                    made = self.platform.make(REF, WANTED)
                except PlatformError:
                    made = None
            self.reed.faults.lose = 0
            made = made or self.platform.make(REF, WANTED)
            self.assertEqual(len(self.reed.casts), 1, n)
            self.assertIsNotNone(self.reed.casts[made.id].bound, n)
            self.assertTrue(self.platform.ingest(made).key.reveal())

    def test_the_list_is_read_to_its_end(self):
        self.platform.make(REF, WANTED)
        for n in range(7):
            self.reed.cast(f"Other {n}")
        self.assertEqual(len(self.platform.listed()), 8)
        self.assertEqual(self.platform.find(REF).title, "The finals")
        self.assertIsNone(self.platform.find(REF.replace("finals", "others")))
        self.reed.faults.list_breaks = True
        for act in (self.platform.listed, lambda: self.platform.find(REF), lambda: self.platform.make(REF, WANTED)):
            with self.assertRaises(PlatformError):
                act()
        self.assertEqual(len(self.reed.casts), 8)

    def test_a_list_that_goes_round_in_circles(self):
        for n in range(5):
            self.reed.cast(f"Other {n}")
        circling = self.opened(**{"next: /paging/token, ask: page": "next: /paging/token, ask: pages"})
        with self.assertRaisesRegex(PlatformError, "cannot be read to the end"):
            circling.find(REF)

    def test_steps_that_take_a_while(self):
        made = self.platform.make(REF, WANTED)
        self.reed.faults.slow = 0.4
        opened = self.platform.open(made)
        self.assertEqual(opened.state, EventState.OPEN)
        self.assertEqual(self.platform.air(opened).state, EventState.LIVE)
        self.assertEqual(self.platform.finish(opened).state, EventState.CLOSED)
        self.assertGreater(len(self.slept), 6)

    def test_on_its_way_it_is_not_yet_there(self):
        made = self.platform.make(REF, WANTED)
        for phase, state in (("testingSoon", EventState.MADE), ("airingSoon", EventState.OPEN), ("overSoon", EventState.LIVE)):
            self.reed.casts[made.id].phase = phase
            self.assertEqual(self.platform.find(REF).state, state)

    def test_a_step_that_is_taken_and_does_nothing(self):
        made = self.platform.make(REF, WANTED)
        self.reed.faults.sticks = True
        with mock.patch.object(by_file, "length_of", lambda _: 0.2), self.assertRaisesRegex(PlatformError, "still says 'planned'"):
            self.platform.open(made)

    def test_an_error_in_a_good_answer(self):
        self.reed.faults.trouble = "your account is asleep"
        with self.assertRaisesRegex(Declined, "your account is asleep"):
            self.platform.make(REF, WANTED)
        self.assertEqual(self.reed.casts, {})

    def test_a_platform_that_wants_time(self):
        self.reed.faults.wait = ["7"]
        self.platform.listed()
        self.assertIn(7.0, self.slept)
        self.assertEqual(self.said, ["reed asks to wait 7 s (HTTP status 429)"])
        self.reed.faults.wait = ["1", "1", "1"]
        with self.assertRaises(PlatformError):
            self.platform.listed()
        self.slept.clear()
        self.reed.faults.wait = ["300"]
        with self.assertRaisesRegex(PlatformError, "left alone for 5 min"):
            self.platform.listed()
        self.assertEqual(self.slept, [])
        when = email.utils.format_datetime(datetime.datetime.now(datetime.UTC) + datetime.timedelta(seconds=20), usegmt=True)
        self.reed.faults.wait = [when]
        self.platform.listed()
        self.assertTrue(any(15 <= s <= 22 for s in self.slept), self.slept)

    def test_a_state_word_concerns_its_own_event_only(self):
        self.platform.make(REF, WANTED)
        self.reed.cast("Odd", phase="wobbling")
        self.assertEqual(self.platform.find(REF).state, EventState.MADE)
        odd = next(e for e in self.platform.listed() if e.title == "Odd")
        self.assertEqual((odd.state, odd.word), (EventState.UNKNOWN, "wobbling"))

    def test_what_is_shown_by_word_and_what_is_not_listed(self):
        made = self.platform.make(REF, WANTED)
        self.assertEqual((self.platform.seen(made).inputs, self.platform.seen(made).arrives("backup")), ((), False))
        self.reed.arriving = {(self.platform.ingest(made).key.reveal(), "second")}
        seen = self.platform.seen(made)
        self.assertEqual((seen.arrives("backup"), seen.input("backup").shown, seen.arrives("primary")), (True, True, False))
        silent = self.opened(**{"  unlisted: nothing\n": ""})
        self.assertIsNone(silent.seen(made).arrives("primary"))
        unsaid = self.opened(**{"  shown: /picture\n  shown_words: [visible]\n": ""})
        self.assertIsNone(unsaid.seen(made).input("backup").shown)

    def test_a_change_that_is_taken_and_not_made(self):
        made = self.platform.make(REF, WANTED)
        changed = self.platform.change(made, dataclasses.replace(WANTED, title="The grand finals", audience="invited"))
        self.assertEqual((changed.title, changed.audience), ("The grand finals", "invited"))
        deaf = mock.patch.object(self.reed, "_do", lambda m, p, q, d, o=self.reed._do: (200, {}) if m == "POST" else o(m, p, q, d))
        with deaf, self.assertRaisesRegex(PlatformError, "still calls it"):
            self.platform.change(made, WANTED)

    def test_what_it_does_not_take_is_known_beforehand(self):
        facts = self.platform.facts
        full = dataclasses.replace(WANTED, title="T" * 61, keep=True, rewind=60.0, picture=b"\x89PNG\r\n\x1a\n", projection="cubemap")
        self.assertEqual(len(facts.left_out(full)), 4, facts.left_out(full))
        self.assertIn("it has 61 characters, Reedbank takes 60", facts.wrong(full)[0])
        self.assertEqual(facts.left_out(WANTED), [])
        self.assertEqual(facts.settled({"young": "no", "free": "yes"}), {"young": False, "free": True})

    def test_signing_in_where_the_file_says(self):
        file = platform_file.load("reedbank.yaml", self.folder)
        kept = {}

        class Store:
            get = staticmethod(lambda: kept.get("t"))
            put = staticmethod(lambda text: kept.update(t=text))
            forget = staticmethod(lambda: kept.pop("t", None) is not None)

        clock = [0.0]
        account = SignedInAccount("reed", self.reed.origin, "direkt", Store, lambda: clock[0], places=file.sign_in, secret=Secret("fake-client"))
        steps = account.sign_in()
        self.assertIsInstance(next(steps), Code)
        next(steps)
        self.reed.codes["dev-1"] = True
        list(steps)
        self.assertEqual(account.token().reveal(), "reed~fake~signed")

    def test_a_token_is_looked_for_again_when_it_is_refused(self):
        given = iter(["stale", TOKEN, "never"])
        platform = self.opened(ReferredToken(lambda: Secret(next(given))))
        self.assertEqual(platform.listed(), [])
        self.reed.tokens.clear()
        with self.assertRaises(NotSignedIn):
            platform.listed()

    def test_mistakes_in_a_file(self):
        for old, new, words in (
            ("unless: line}\n    - {send: \"POST /v9/casts/{cast}/bind\"", "unless: lime}\n    - {send: \"POST /v9/casts/{cast}/bind\"", "'lime' is not a name under event.take"),
            ("/v9/casts/{cast}/bind", "/v9/casts/{kast}/bind", "kast"), ("take: {line: /line/nr}", "take: {line: line/nr}", "no JSON pointer"),
            ("pages: {next: /paging/token, ask: page}", "pages: {next: /a, number: page}", "expected 'next'"),
            ("limit: 20s", "limit: 2h", "at most 10 min"), ("on_the_way: [testingSoon]", "words: [a]", "belong together"),
            ("{origin}/door/code", "http://evil.example/door", "expected an address like"),
        ):  # fmt: skip
            text = self.reed.file().replace(old.replace("{origin}", self.reed.origin), new, 1)
            self.assertNotEqual(text, self.reed.file(), old)
            self.file("bad.yaml", text)
            with self.assertRaisesRegex(DocumentError, words, msg=new) as caught:
                platform_file.load("bad.yaml", self.folder)
            self.assertRegex(str(caught.exception), r"bad\.yaml:\d+: ")


class Pages(Folder):
    """Lists that go on by a number, by an address in the answer, and by a Link header."""

    def listed(self, entry, answers):
        asked = []

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, *_):
                pass

            def do_GET(self):
                asked.append(self.path)
                body, link = answers(self.path)
                self.send_response(200)
                self.send_header("Content-Type", "application/json")
                if link:
                    self.send_header("Link", link)
                self.end_headers()
                self.wfile.write(body.encode())

        server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.file("p.yaml", (
            "schema: direkt.platform/1\nkind: http\ntitle: P\nrequests:\n  list: " + entry + "\n  make: POST /m\n  open: POST /o/{id}\n"
            "  finish: POST /f/{id}\n  ingest: GET /i/{id}\nevent: {list: /e, id: /n, ref: /r, state: /s, states: {made: m, open: o, live: l, closed: c}}\n"
            "ingest: {server: /a, key: /k}\n"
        ))  # fmt: skip
        origin = f"http://127.0.0.1:{server.server_port}"
        platform = DescribedPlatform("p", platform_file.load("p.yaml", self.folder), Calls("p", f"{origin}/api", None, lambda _: None))
        self.addCleanup(platform.close)
        return [e.id for e in platform.listed()], asked

    @staticmethod
    def page(*numbers, more=""):
        return '{"e": [' + ", ".join(f'{{"n": {n}, "r": "r{n}", "s": "m"}}' for n in numbers) + f"]{more}}}"

    def test_by_number(self):
        def answers(path):
            n = int(re.search(r"p=(\d+)", path)[1])
            return self.page(*((n, n + 10) if n < 4 else ())), ""

        self.assertEqual(self.listed("{send: GET /l, pages: {number: p}}", answers)[0], ["1", "11", "2", "12", "3", "13"])
        last = self.listed(
            "{send: GET /l, pages: {number: p, first: 0, last: /t}}",
            lambda path: (self.page(int(path[-1]), more=', "t": 2'), ""),
        )
        self.assertEqual(last[0], ["0", "1", "2"])

    def test_by_an_address_and_by_a_link(self):
        def inside(path):
            n = int(path[-1]) if path[-1].isdigit() else 1
            more = f', "next": "/api/l?c={n + 1}"' if n < 3 else ', "next": null'
            return self.page(n, more=more), ""

        self.assertEqual(self.listed("{send: GET /l, pages: {next: /next}}", inside)[0], ["1", "2", "3"])

        def link(path):
            n = int(path[-1]) if path[-1].isdigit() else 1
            return self.page(n), f'</api/l?c=9>; rel="last", </api/l?c={n + 1}>; rel="next"' if n < 3 else ""

        self.assertEqual(self.listed("GET /l", link)[0], ["1", "2", "3"])

    def test_a_link_that_leads_away_or_round(self):
        for to in ("https://elsewhere.example/l?c=2", "/other/l?c=2", "l"):
            with self.assertRaisesRegex(PlatformError, "to the end", msg=to):
                self.listed("GET /l", lambda path, to=to: (self.page(1), f"<{to}>; rel=next"))

    def test_by_number_where_the_platform_knows_no_pages(self):
        with self.assertRaisesRegex(PlatformError, "same page"):
            self.listed("{send: GET /l, pages: {number: p}}", lambda path: (self.page(1, 2), ""))


class Documented(Folder):
    """The example of the manual, as it stands there, against a platform that is as it says."""

    def test_the_example_works(self):
        text = (Path(__file__).parents[2] / "docs" / "events.md").read_text()
        example = next(block for block in re.findall(r"```yaml\n(.*?)```", text, re.DOTALL) if "Mossbank" in block)
        self.file("mossbank.yaml", example)
        from tests.platform.test_by_file import Mossbank

        moss = type("Moss", (Mossbank,), {"shows": {}})
        server = ThreadingHTTPServer(("127.0.0.1", 0), moss)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        calls = Calls("moss", f"http://127.0.0.1:{server.server_port}", FixedToken(Secret("moss")), lambda _: None)
        platform = DescribedPlatform("moss", platform_file.load("mossbank.yaml", self.folder), calls)
        self.addCleanup(platform.close)
        wanted = dataclasses.replace(WANTED, fields={"genre": "sport"})
        made = platform.make(REF, wanted)
        opened = platform.open(made)
        self.assertEqual(opened.state, EventState.LIVE)  # its one step lets viewers in
        self.assertEqual(platform.air(opened).state, EventState.LIVE)
        one = platform.seen(opened).input("primary")
        self.assertEqual((one.arriving, one.shown), (True, None))
        self.assertEqual(platform.finish(opened).state, EventState.CLOSED)


if __name__ == "__main__":
    unittest.main()
