"""Platforms with another HTTP interface, by a platform file: against a server that shares no code with it."""

import datetime
import json
import threading
import unittest
import urllib.parse
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from direkt.documents import DocumentError
from direkt.errors import UnusableInput
from direkt.platform import platform_file
from direkt.platform.by_file import DescribedPlatform
from direkt.platform.calls import Calls, FixedToken
from direkt.platform.event import CannotPlatform, Declined, PlatformError
from direkt.platform.planned import WantedEvent
from direkt.rig.events import EventState
from direkt.secret import Secret
from tests.support import Folder

KEY = "varn~fake~mossbird"
FILE = """\
schema: direkt.platform/1
kind: http
title: Mossbank
delays: [usual]
fields:
  genre: {title: what it is about, choices: [sport, music], needed: yes}
coding: form
requests:
  list: GET /v2/shows
  make: {send: POST /v2/shows, fields: {name: "{title}", about: "{description} [{ref}]", from: "{start_unix}", mins: "{minutes}",
         who: "{audience}", genre: "{field_genre}", note: "{ref}"}}
  change: {send: "POST /v2/shows/{id}", fields: {name: "{title}"}}
  open: {send: "POST /v2/shows/{id}/go", fields: {door: "1"}}
  finish: {send: "POST /v2/shows/{id}/go", fields: {door: "0"}}
  drop: DELETE /v2/shows/{id}
  ingest: GET /v2/shows/{id}/line
  seen: GET /v2/shows/{id}/line
event:
  list: /data/shows
  id: /nr
  ref: /note
  state: /phase
  states: {made: planned, open: [doors, running], closed: done}
  title: /name
  watch: /link
ingest: {server: /line/url, backup: /line/spare, key: /line/secret}
seen:
  arriving: /line/signal
  words: [ok, weak]
  health: /line/signal
  complaints: /line/gripes
  values:
    video.size: {at: [/line/pic/w, /line/pic/h]}
    video.frame_rate: {at: /line/pic/hz}
    video.bitrate.mean: {at: /line/pic/mbit, unit: Mbit/s}
    video.keyframe_interval.max: {at: /line/pic/gop, unit: frames}
    video.codec: {at: /line/pic/kind, words: {h264: avc, h265: hevc}}
words:
  audience: {everyone: public, link: hidden, invited: closed}
refusals: {field: "", reason: ""}
"""
WANTED = WantedEvent(
    "The finals", "All.", datetime.datetime(2026, 7, 5, 14, tzinfo=datetime.UTC), 5400.0, "link", "usual", "none", None, False,
    {"genre": "sport"},
)  # fmt: skip


class Mossbank(BaseHTTPRequestHandler):
    shows = {}
    lose = 0  # answers to POST that are lost
    refuse = ""

    def log_message(self, *_):
        pass

    def answer(self, status, data):
        body = json.dumps(data).encode() if not isinstance(data, bytes) else data
        self.send_response(status)
        self.send_header("Content-Type", "application/json" if not isinstance(data, bytes) else "text/html")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def handle_any(self):
        cls = type(self)
        fields = dict(urllib.parse.parse_qsl(self.rfile.read(int(self.headers.get("Content-Length") or 0)).decode()))
        if self.headers.get("Authorization") != "Bearer moss":
            return self.answer(401, {})
        if cls.refuse and self.command == "POST":
            return self.answer(422, cls.refuse.encode())
        parts = self.path.strip("/").split("/")[2:]
        if self.command == "POST" and not parts:
            nr = len(cls.shows) + 41
            cls.shows[str(nr)] = {"nr": nr, "phase": "planned", "link": f"https://moss.example/{nr}", "sent": fields, **fields}
        elif self.command == "POST" and parts[-1] == "go":
            cls.shows[parts[0]]["phase"] = "running" if fields["door"] == "1" else "done"
        elif self.command == "POST":
            cls.shows[parts[0]].update(fields)
        elif self.command == "DELETE":
            cls.shows.pop(parts[0], None)
            return self.answer(200, {})
        elif parts and parts[-1] == "line":
            pic = {"w": 1280, "h": 720, "hz": 25, "mbit": 2.3, "gop": 40, "kind": "AVC"}
            line = {"url": "rtmp://in.moss.example/live", "spare": "rtmp://in2.moss.example/live", "secret": KEY, "signal": "weak",
                    "gripes": ["a bit thin"], "pic": pic}  # fmt: skip
            return self.answer(200, {"line": line})
        if self.command == "POST" and cls.lose:
            cls.lose -= 1
            self.close_connection = True
            return None
        return self.answer(200, {"data": {"shows": list(cls.shows.values())}})

    do_GET = do_POST = do_DELETE = handle_any  # noqa: N815


class Described(Folder):
    def setUp(self):
        super().setUp()
        self.moss = type("Moss", (Mossbank,), {"shows": {}})
        server = ThreadingHTTPServer(("127.0.0.1", 0), self.moss)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.file("mossbank.yaml", FILE)
        file = platform_file.load("mossbank.yaml", self.folder)
        calls = Calls("moss", f"http://127.0.0.1:{server.server_port}", FixedToken(Secret("moss")), lambda _: None)
        self.platform = DescribedPlatform("moss", file, calls)
        self.addCleanup(self.platform.close)

    def test_an_event_from_making_to_dropping(self):
        p = self.platform
        self.assertEqual(p.facts.wrong(WANTED), [])
        made = p.make("finals-1", WANTED)
        sent = self.moss.shows["41"]["sent"]
        self.assertEqual(
            (sent["from"], sent["mins"], sent["who"], sent["genre"], sent["about"]),
            ("1783260000", "90", "hidden", "sport", "All. [finals-1]"),
        )
        self.assertEqual((made.id, made.state, made.watch), ("41", EventState.MADE, "https://moss.example/41"))
        self.assertEqual(p.make("finals-1", WANTED).id, "41")
        ingest = p.ingest(made)
        self.assertEqual((ingest.key.reveal(), ingest.addresses("backup")), (KEY, ["rtmp://in2.moss.example/live"]))
        opened = p.open(made)
        self.assertEqual((opened.state, p.air(opened).state), (EventState.LIVE, EventState.LIVE))
        one = p.seen(opened).inputs[0]
        self.assertTrue(one.arriving)
        self.assertEqual(one.complaints, ("a bit thin",))
        self.assertEqual(
            one.values,
            {"video.size": "1280x720", "video.frame_rate": 25, "video.bitrate.mean": 2300, "video.keyframe_interval.max": 1.6, "video.codec": "h264"},
        )  # fmt: skip
        self.assertEqual(p.finish(opened).state, EventState.CLOSED)
        p.drop(opened)
        p.drop(opened)
        self.assertEqual(p.listed(), [])
        with self.assertRaisesRegex(CannotPlatform, "no request 'renew'"):
            p.renew(made)

    def test_an_answer_that_is_lost_makes_no_second_event(self):
        self.moss.lose = 1
        self.assertEqual(self.platform.make("finals-1", WANTED).id, "41")
        self.assertEqual(len(self.moss.shows), 1)

    def test_a_refusal_is_told_without_the_key(self):
        made = self.platform.make("finals-1", WANTED)
        self.platform.ingest(made)
        self.moss.refuse = f"<p>no, not with {KEY}</p>"
        with self.assertRaisesRegex(Declined, "no, not with") as caught:
            self.platform.open(made)
        self.assertNotIn(KEY, str(caught.exception))

    def test_a_state_that_nobody_knows(self):
        self.platform.make("finals-1", WANTED)
        self.moss.shows["41"]["phase"] = "limbo"
        with self.assertRaisesRegex(PlatformError, "'limbo' of an event's state"):
            self.platform.find("finals-1")

    def test_mistakes_in_a_file_have_their_lines(self):
        for old, new, words in (
            ("  list: GET /v2/shows\n", "", "'list' is missing"), ("GET /v2/shows/{id}/line", "GET //evil/{id}", "a path on the device"),
            ("{title}", "{titel}", "titel"), ("id: /nr", "id: nr", "no JSON pointer"), ("closed: done", "over: done", "states"),
            ("video.size:", "video.sise:", "video.sise"), ("unit: Mbit/s", "unit: Hz", "not a unit of it"), ("kind: http", "kind: event-interface", "goes with kind: http"),
            ("kind: http", "kind: smoke", "event-interface"), ("  seen: GET", "  renew: GET", "belong together"),
        ):  # fmt: skip
            self.file("bad.yaml", FILE.replace(old, new, 1))
            with self.assertRaisesRegex(DocumentError, words, msg=new) as caught:
                platform_file.load("bad.yaml", self.folder)
            self.assertRegex(str(caught.exception), r"bad\.yaml:\d+: ")
        with self.assertRaisesRegex(UnusableInput, "did you mean tarnlight"):
            platform_file.load("tarnlite")

    def test_what_a_platform_insists_on_is_known_beforehand(self):
        facts = platform_file.load("mossbank.yaml", self.folder).facts()
        from dataclasses import replace

        wrong = facts.wrong(replace(WANTED, delay="short", fields={"mood": "good"}))
        self.assertEqual(len(wrong), 3, wrong)
        self.assertIn("fields.genre: Mossbank insists on it (what it is about): sport, music", wrong)
        self.assertEqual(facts.wrong(replace(WANTED, fields={"genre": "opera"})), ["fields.genre: opera is none of sport, music"])


if __name__ == "__main__":
    unittest.main()
