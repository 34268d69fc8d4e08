"""The page over real sockets: nobody looks or acts without a link, nothing leads elsewhere, and many viewers cost little."""

import contextlib
import dataclasses
import http.client
import json
import re
import socket
import ssl
import tempfile
import time
import unittest
from collections import OrderedDict
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

import httpx
import yaml
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from direkt.net import certificates
from direkt.page import app, metrics, serve
from direkt.page.hub import Hub
from direkt.secret import Secret
from direkt.store.sessions import Sessions
from direkt.store.small_file import place
from direkt.watch.board import Board, EventRow, FeedRow, Happening, NextEvent, Warned
from direkt.watch.tracker import FeedState

LOOK, ACT = "varn~fake~look~link", "varn~fake~act~link"
WATCH = "https://tarnlight.example/watch/finals"


def feed(name="finish", state=FeedState.ON, **more):
    one = FeedRow(
        name, "tower", "tarnlight", "primary", False, "finals", state, 12.0, "", "pushing", "shown", True, 6100.0,
        {"video.size": "1920x1080", "video.frame_rate": 50.0, "video.keyframe_interval.max": 1.6}, "ingest", 2, 1, 3.5, 1, False, 48.0, "━" * 300,
    )  # fmt: skip
    return dataclasses.replace(one, **more)


def event(**more):
    one = EventRow("finals", "m", "The finals", "tarnlight", "Tarnlight", "live", True, True, WATCH, 312, 1.8e9, 1.8e9 + 7200, 3000.0, "")
    return dataclasses.replace(one, **more)


def board(feeds=None, events=None, at=1.8e9, **more):
    values = {
        "warnings": (Warned("hot", "tower", "advise", "81 °C is hot", "give it air", 1.8e9),),
        "happenings": (Happening(1.8e9, "well", "finish", "well again"),), "next": NextEvent("final", "The <b>final</b>", 1.8e9 + 3600, "Friday, 16:00"),
        "devices": {"tower": 48.0},
    }  # fmt: skip
    return Board("Varn & Co", at, 1.8e9 - 60, tuple(feeds or (feed(),)), tuple(events if events is not None else (event(),)), **{**values, **more})


class Served(unittest.TestCase):
    tls = None

    def setUp(self):
        self.hub, self.acts = Hub(), []
        self.doors = app.Doors({"look": Secret(LOOK), "act": Secret(ACT)}, self.tls is not None)
        self.stack = stack = contextlib.ExitStack()
        self.addCleanup(stack.close)
        self.refused = ""

        def act(what, name):
            self.acts.append((what, name))
            return self.refused

        self.port = stack.enter_context(serve.serve(self.hub, self.doors, act, "127.0.0.1", 0, self.tls))
        self.base = f"http{'s' if self.tls else ''}://127.0.0.1:{self.port}"
        self.hub.publish(board())

    def client(self, token=None):
        made = httpx.Client(base_url=self.base, verify=False, trust_env=False, timeout=30)
        self.addCleanup(made.close)
        if token is not None:
            answer = made.post("/session", json={"token": token}, headers={"X-Direkt": "1"})
            self.assertEqual(answer.status_code, 200, answer.text)
        return made


class Doors(Served):
    def test_without_a_link_there_is_nothing_to_see_or_to_do(self):
        one = self.client()
        for path in ("/board", "/events"):
            self.assertEqual(one.get(path).status_code, 401, path)
        self.assertEqual(one.post("/act", json={"what": "stop", "feed": "finish"}, headers={"X-Direkt": "1"}).status_code, 401)
        one.cookies.set("direkt", "guessed")
        self.assertEqual(one.get("/board").status_code, 401)
        self.assertNotIn("finish", one.get("/").text + one.get("/page.js").text)
        self.assertEqual(self.acts, [])

    def test_a_link_to_look_lets_nobody_act_and_one_to_act_does(self):
        looking, acting = self.client(LOOK), self.client(ACT)
        self.assertEqual(looking.get("/board").json()["role"], "look")
        headers = {"X-Direkt": "1"}
        order = {"what": "restart", "feed": "finish"}
        self.assertEqual(looking.post("/act", json=order, headers=headers).status_code, 403)
        self.assertEqual(self.acts, [])
        self.assertEqual(acting.post("/act", json=order, headers=headers).status_code, 202)
        self.assertEqual(self.acts, [("restart", "finish")])
        self.refused = "wait a moment"
        self.assertEqual(acting.post("/act", json=order, headers=headers).json(), {"error": "wait a moment"})
        self.hub.publish(board((feed(state=FeedState.OFF),), at=1.8e9 + 5))
        self.assertEqual(acting.post("/act", json=order, headers=headers).status_code, 409)

    def test_other_sites_cannot_act(self):
        acting = self.client(ACT)
        order = {"what": "stop", "feed": "finish"}
        for headers, status in (
            ({}, 403), ({"X-Direkt": "1", "Origin": "https://else.example"}, 403), ({"X-Direkt": "1", "Origin": "null"}, 403),
            ({"X-Direkt": "1", "Origin": self.base}, 202),
        ):  # fmt: skip
            self.assertEqual(acting.post("/act", json=order, headers=headers).status_code, status, headers)
        form = acting.post("/act", data={"what": "stop", "feed": "finish"}, headers={"X-Direkt": "1"})
        self.assertEqual(form.status_code, 415)
        cookie = next(c for c in acting.cookies.jar)
        self.assertTrue(cookie.has_nonstandard_attr("HttpOnly"))
        self.assertEqual(cookie.get_nonstandard_attr("SameSite"), "strict")
        self.assertEqual(len(self.acts), 1)

    def test_tokens_cannot_be_tried_for_long(self):
        one = self.client()
        statuses = [one.post("/session", json={"token": f"guess{n}"}, headers={"X-Direkt": "1"}).status_code for n in range(22)]
        self.assertEqual(statuses, [401] * 20 + [429, 429])
        self.assertEqual(one.post("/session", json={"token": LOOK}, headers={"X-Direkt": "1"}).status_code, 429)

        other = httpx.Client(base_url=self.base, trust_env=False, transport=httpx.HTTPTransport(local_address="127.0.0.2"))
        self.addCleanup(other.close)
        self.assertEqual(other.post("/session", json={"token": LOOK}, headers={"X-Direkt": "1"}).status_code, 200)  # nobody else is shut out

    def test_a_token_that_is_no_text(self):
        kind = {"X-Direkt": "1", "Content-Type": "application/json"}
        for content in (b'{"token": "\\ud800"}', b'{"token": "\\u0000"}', b'{"token": 7}', b'{"token": null}', b"{}", '{"token": "ü"}'.encode()):
            self.assertEqual(self.client().post("/session", content=content, headers=kind).status_code, 401, content)

    def test_a_session_survives_a_restart_and_new_links_end_it(self):
        with tempfile.TemporaryDirectory() as folder:
            kept = Sessions(Path(folder))
            self.doors.keep = kept.write
            one = self.client(ACT)
            cookie = one.cookies[self.doors.cookie]
            self.assertNotIn(cookie, (place(Path(folder), "page-sessions.json")).read_text())
            self.assertEqual((place(Path(folder), "page-sessions.json")).stat().st_mode & 0o777, 0o600)
            tokens = {"look": Secret(LOOK), "act": Secret(ACT)}
            again = app.Doors(tokens, False, OrderedDict(kept.read(time.time())), kept.write)
            with serve.serve(self.hub, again, lambda what, name: "", "127.0.0.1", 0, None) as port:
                self.assertEqual(httpx.get(f"http://127.0.0.1:{port}/board", cookies={"direkt": cookie}).status_code, 200)
            self.assertEqual(kept.read(time.time() + 2 * 86400), {})
            kept.forget()
            self.assertEqual(kept.read(time.time()), {})

    def test_half_sent_requests_shut_nobody_out(self):
        with mock.patch.object(serve, "_HALF", 1.0):
            held = []
            for _ in range(300):
                one = socket.create_connection(("127.0.0.1", self.port), 30)
                self.addCleanup(one.close)
                with contextlib.suppress(OSError):
                    one.sendall(b"GET /now HTTP/1.1\r\nHost: h\r\nX-")
                held.append(one)
            other = httpx.Client(base_url=self.base, trust_env=False, timeout=30, transport=httpx.HTTPTransport(local_address="127.0.0.3"))
            self.addCleanup(other.close)
            self.assertEqual(other.get("/now").status_code, 302)
            time.sleep(1.3)
            self.assertEqual(self.client().get("/now").status_code, 302)  # and they are gone by now
            self.assertLessEqual(sum(serve._open.values()), 5)

    def test_a_stop_can_be_undone_and_warnings_be_seen_and_muted(self):
        acting = self.client(ACT)
        headers = {"X-Direkt": "1"}
        start = {"what": "start", "feed": "finish"}
        self.assertEqual(acting.post("/act", json=start, headers=headers).status_code, 409)
        self.hub.publish(board((feed(state=FeedState.OFF, undo=True),), at=1.8e9 + 3))
        self.assertEqual(acting.post("/act", json=start, headers=headers).status_code, 202)
        for what in ("seen", "mute", "unmute"):
            self.assertEqual(acting.post("/act", json={"what": what, "kind": "hot", "name": "tower"}, headers=headers).status_code, 202)
        self.assertEqual(acting.post("/act", json={"what": "seen", "kind": "hot", "name": "roof"}, headers=headers).status_code, 404)
        self.assertEqual(self.acts, [("start", "finish"), ("seen", "hot tower"), ("mute", "hot tower"), ("unmute", "hot tower")])
        looking = self.client(LOOK)
        self.assertEqual(looking.post("/act", json={"what": "mute", "kind": "hot", "name": "tower"}, headers=headers).status_code, 403)

    def test_the_worst_comes_first(self):
        states = (FeedState.OFF, FeedState.ON, FeedState.DROPPED, FeedState.UNKNOWN)
        self.hub.publish(board(tuple(feed(str(n), state, wanted=state is not FeedState.OFF) for n, state in enumerate(states)), at=1.8e9 + 3))
        data = next(line for line in self.hub.message.whole.decode().splitlines() if line.startswith("data:"))
        parts = json.loads(data[5:])["parts"]
        self.assertEqual((parts["order"], parts["head"]["unknown"]), (["2", "3", "1", "0"], 1))

    def test_health_is_for_whoever_looks_after_the_watch(self):
        now = [1.8e9 + 2]
        self.doors.wall = lambda: now[0]
        good = self.client().get("/health")
        self.assertEqual((good.status_code, good.json()["looks"]), (200, True))
        now[0] += 30
        self.assertEqual((self.client().get("/health").status_code, self.client().get("/health").json()["age"]), (503, 32.0))
        self.hub.publish(board(at=now[0], late=40.0))
        self.assertEqual(self.client().get("/health").status_code, 503)

    def test_what_is_sent_wrongly(self):
        acting = self.client(ACT)
        kind = {"X-Direkt": "1", "Content-Type": "application/json"}
        for content, status in (
            (b"", 400), (b"[]", 400), (b"{", 400), (b"[" * 1900, 400), (b'{"what": "format", "feed": "finish"}', 400), (b'{"what": "stop", "feed": 7}', 400),
            (b'{"what": "stop", "feed": "nobody"}', 404), (b'{"what": "' + b"x" * 4000, 413), (b"\xff\xfe", 400),
        ):  # fmt: skip
            self.assertEqual(acting.post("/act", content=content, headers=kind).status_code, status, content[:20])
        for path in ("/nothing", "/../etc/passwd", "/static/page.js", "/now/", "/page.html", "/%2e%2e/"):
            self.assertEqual(acting.get(path).status_code, 404, path)
        for method in ("PUT", "DELETE", "OPTIONS", "TRACE"):
            self.assertEqual(acting.request(method, "/act").status_code, 405, method)
        self.assertEqual(self.acts, [])

    def test_nonsense_and_what_breaks_off_is_answered_or_dropped_and_no_news(self):
        cookie = self.client(ACT).cookies[self.doors.cookie]
        head = f"POST /act HTTP/1.1\r\nHost: h\r\nCookie: {self.doors.cookie}={cookie}\r\nX-Direkt: 1\r\nContent-Type: application/json\r\n"
        with self.assertNoLogs(level="WARNING"):
            for content in (
                b"\x16\x03\x01\x02\x00", b"GET / HTTP/9.9\r\n\r\n", b"A" * 70_000, b"GET /" + b"a" * 20_000 + b" HTTP/1.1\r\n\r\n", b"",
                head.encode() + b"Content-Length: 50\r\n\r\n{", head.encode() + b"Transfer-Encoding: chunked\r\n\r\nZZ\r\n",
            ):  # fmt: skip
                with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 30) as one:
                    one.sendall(content)
                    one.shutdown(socket.SHUT_WR)
                    one.recv(1000)
        self.assertEqual(self.client().get("/now").status_code, 302)
        self.assertEqual(self.acts, [])

    def test_every_answer_has_strict_headers_and_none_a_key(self):
        acting = self.client(ACT)
        for answer in (acting.get(p) for p in ("/", "/page.js", "/page.css", "/board", "/now", "/nothing", "/act")):
            self.assertIn("default-src 'none'", answer.headers["content-security-policy"], answer.url)
            self.assertIn("frame-ancestors 'none'", answer.headers["content-security-policy"])
            self.assertEqual((answer.headers["x-content-type-options"], answer.headers["referrer-policy"]), ("nosniff", "no-referrer"))
            self.assertEqual(answer.headers["cache-control"], "no-store")
            self.assertNotIn("access-control-allow-origin", answer.headers)
            self.assertNotIn("server", answer.headers)
            self.assertNotIn(ACT, answer.text)
        self.assertNotIn("unsafe-inline", acting.get("/").headers["content-security-policy"])
        for text in (acting.get("/").text, acting.get("/page.js").text, acting.get("/page.css").text):
            self.assertNotRegex(text, r"https?://")  # nothing from elsewhere


class Secure(Served):
    tls = certificates.make(["127.0.0.1"]).context

    def test_over_tls_the_cookie_is_bound_to_it(self):
        looking = self.client(LOOK)
        cookie = next(c for c in looking.cookies.jar)
        self.assertEqual((cookie.name, cookie.secure, cookie.path), ("__Host-direkt", True, "/"))
        self.assertEqual(looking.get("/board").status_code, 200)
        with self.assertRaises((httpx.HTTPError, ssl.SSLError)):
            httpx.get(f"http://127.0.0.1:{self.port}/", trust_env=False, timeout=30)


class Now(Served):
    def now(self, path="/now"):
        return httpx.get(f"{self.base}{path}", trust_env=False, follow_redirects=False)

    def test_it_leads_to_what_is_on_air_and_nowhere_else(self):
        for path in ("/now", "/now?to=https://else.example", "/now?next=//else.example/"):
            answer = self.now(path)
            self.assertEqual((answer.status_code, answer.headers["location"]), (302, WATCH))
        at = 1.8e9
        for odd in (
            event(watch="javascript:alert(1)"), event(watch="//else.example/"), event(watch="https://user@else.example/"), event(watch="data:text/html,x"),
            event(watch=""), event(watch="https://a.example/ \r\nX: y"), event(on_air=False), event(public=False), event(watch="https:///x"),
        ):  # fmt: skip
            at += 5
            self.hub.publish(board(events=(odd,), at=at))
            answer = self.now()
            self.assertEqual((answer.status_code, "location" in answer.headers), (200, False), odd)
        self.assertIn("The &lt;b&gt;final&lt;/b&gt;", answer.text)
        self.assertIn("Friday, 16:00 (2027-01-15 09:00 UTC)", answer.text)
        self.assertIn("Varn &amp; Co", answer.text)

    def test_of_several_the_first_to_begin_and_before_anything_is_known(self):
        later = event(name="later", watch="https://tarnlight.example/later", start=1.9e9)
        self.hub.publish(board(events=(later, event()), at=1.8e9 + 5))
        self.assertEqual(self.now().headers["location"], WATCH)
        self.hub.board = None
        self.assertIn("Nothing is on air", self.now().text)


class Streams(Served):
    def read(self, stream, count):
        out, text = [], ""
        for part in stream.iter_text():
            text += part
            while "\n\n" in text:
                one, _, text = text.partition("\n\n")
                fields = dict(line.split(": ", 1) for line in one.split("\n") if ": " in line)
                out.append((fields["event"], json.loads(fields["data"])))
                if len(out) == count:
                    return out
        return out

    def test_the_whole_first_and_then_what_changes(self):
        looking = self.client(LOOK)
        with looking.stream("GET", "/events") as stream:
            self.assertTrue(stream.headers["content-type"].startswith("text/event-stream"))
            iterator = self.read(stream, 1)
            kind, message = iterator[0]
            self.assertEqual(kind, "board")
            self.assertEqual(message["parts"]["feed finish"]["state"], "on")
        with looking.stream("GET", "/events") as stream, ThreadPoolExecutor(1) as pool:
            later = pool.submit(self.read, stream, 3)
            time.sleep(0.3)
            self.hub.publish(board((feed(state=FeedState.DROPPED, text="refused"),), at=1.8e9 + 10))
            time.sleep(0.2)
            self.hub.publish(board((feed(name="roof"),), at=1.8e9 + 20))
            found = later.result(30)
        self.assertEqual([kind for kind, _ in found], ["board", "change", "change"])
        first, second, third = (message for _, message in found)
        self.assertEqual(first["parts"]["head"]["rig"], "Varn & Co")
        self.assertEqual(list(second["parts"]), ["feed finish"])
        self.assertEqual((third["gone"], third["parts"]["order"]), (["feed finish"], ["roof"]))

    def test_so_many_and_no_more(self):
        looking = self.client(LOOK)
        cookie = f"{self.doors.cookie}={looking.cookies[self.doors.cookie]}"
        open_ones = []
        for n in range(202):
            one = http.client.HTTPConnection("127.0.0.1", self.port, timeout=30)
            one.request("GET", "/events", headers={"Cookie": cookie})
            answer = one.getresponse()
            open_ones.append(one)
            self.assertEqual(answer.status, 200 if n < 200 else 503, n)
        for one in open_ones:
            one.close()
        for _ in range(100):
            one = http.client.HTTPConnection("127.0.0.1", self.port, timeout=30)
            one.request("GET", "/events", headers={"Cookie": cookie})
            answer = one.getresponse().status
            one.close()
            if answer == 200:
                break
            time.sleep(0.05)
        self.assertEqual(answer, 200)  # who goes makes room

    def test_who_does_not_read_keeps_nobody(self):
        looking = self.client(LOOK)
        cookie = f"{self.doors.cookie}={looking.cookies[self.doors.cookie]}"
        stuck = http.client.HTTPConnection("127.0.0.1", self.port, timeout=30)
        stuck.request("GET", "/events", headers={"Cookie": cookie})
        many = tuple(feed(f"feed-{n}") for n in range(200))
        for n in range(60):
            rows = tuple(dataclasses.replace(row, text=f"{n}" * 50) for row in many)
            self.hub.publish(board(rows, at=1.8e9 + 5 * (n + 1)))
            self.assertLess(len(self.hub.message.whole), 300_000)
        self.assertEqual(looking.get("/board").status_code, 200)
        stuck.close()


class Figures(unittest.TestCase):
    def test_a_scraper_understands_them(self):
        shown = board((feed(), feed("roof", FeedState.DROPPED, kbit_s=None, arriving=None, temperature=None, values={}, push="no answer", device="camera", answers=False)))
        with metrics.serve(lambda: shown, "127.0.0.1", 0) as port:
            accept = {"Accept": "application/openmetrics-text; version=1.0.0"}
            answer = httpx.get(f"http://127.0.0.1:{port}/metrics", headers=accept, trust_env=False, timeout=30)
            plain = httpx.get(f"http://127.0.0.1:{port}/metrics", trust_env=False, timeout=30)
        self.assertIn("application/openmetrics-text", answer.headers["content-type"])
        self.assertIn("text/plain", plain.headers["content-type"])
        found = {f.name: f for f in text_string_to_metric_families(answer.text)}

        def value(name, **labels):
            return [s.value for s in found[name].samples if all(s.labels.get(k) == v for k, v in labels.items())]

        self.assertEqual(value("direkt_feed_up", feed="finish"), [1.0])
        self.assertEqual(value("direkt_feed_up", feed="roof"), [0.0])
        self.assertEqual(value("direkt_feed_bitrate_bits_per_second"), [6_100_000.0])
        self.assertEqual(value("direkt_feed_frame_rate_fps"), [50.0])
        self.assertEqual(value("direkt_feed_keyframe_interval_seconds"), [1.6])
        self.assertEqual(value("direkt_feed_gaps", feed="finish"), [2.0])
        self.assertEqual(value("direkt_feed_restarts", feed="finish"), [1.0])
        self.assertEqual(value("direkt_device_temperature_celsius"), [48.0])
        self.assertEqual(value("direkt_device_answers", device="camera"), [0.0])
        self.assertEqual(value("direkt_event_viewers"), [312.0])
        self.assertEqual(value("direkt_warnings", kind="hot"), [1.0])
        self.assertEqual(value("direkt_warnings", weight="fail"), [0.0])  # none is 0, not absent
        self.assertEqual(value("direkt_board_timestamp_seconds"), [1.8e9])
        self.assertEqual(value("direkt_feed_state", feed="roof", direkt_feed_state="dropped"), [1.0])
        # what the examples of alert rules and a dashboard ask for is there
        docs = Path(__file__).resolve().parent.parent.parent / "docs"
        asked = re.findall(r"\bdirekt_[a-z_]+", (docs / "alerts.yaml").read_text() + (docs / "dashboard.json").read_text() + (docs / "watch.md").read_text())
        given = set(re.findall(r"^(direkt_[a-z_]+)\{?", answer.text, re.M))
        self.assertEqual({name for name in asked if name not in given}, set())
        rules = yaml.safe_load((docs / "alerts.yaml").read_text())["groups"][0]["rules"]
        self.assertTrue(all({"alert", "expr", "labels", "annotations"} <= set(rule) for rule in rules))
        self.assertGreater(len(json.loads((docs / "dashboard.json").read_text())["panels"]), 5)
        with metrics.serve(lambda: None, "127.0.0.1", 0) as port:
            self.assertEqual(httpx.get(f"http://127.0.0.1:{port}/metrics", trust_env=False, timeout=30).status_code, 200)


if __name__ == "__main__":
    unittest.main()
