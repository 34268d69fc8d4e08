"""Encoders with other makers' habits, of a few lines that share no code with ours: forms and tokens, errors inside good answers,
numbers as fractions, several words, sound by a path of its own."""

import http.server
import json
import threading
import unittest
from urllib.parse import parse_qs

from direkt import documents
from direkt.described.errors import BadAnswer, ChangeRefused, DeviceLoginRefused
from direkt.device import by_file
from direkt.device.driver_file import DriverFile, check
from direkt.device.state import PushState
from direkt.secret import Secret

FILE = """\
schema: direkt.driver/1
kind: http
title: Sedge
login: form
sign_in: {sign_in}
answers: json
requests:
  state: [GET /api/video, {{send: GET /api/sound, into: sound}}, {{send: GET /api/push, into: push}}]
  write:
    - {{send: POST /api/video, of: ["video.*"]}}
    - {{send: POST /api/sound, of: ["audio.*"]}}
  write_slot: {{send: POST /api/push, fields: {{url: "{{url}}"}}}}
  push_on: {{send: POST /api/push, fields: {{run: 1}}}}
  push_off: {{send: POST /api/push, fields: {{run: 0}}}}
facts: {{model: /model}}
channels: {{main: ""}}
settings:
  video.codec: {{at: /codec, words: {{h264: [AVC, "H.264"], h265: [HEVC]}}}}
  video.frame_rate: {{at: [/fps/num, /fps/den], join: /}}
  video.keyframe_interval.median: {{at: /gop, unit: frames}}
  video.bitrate.mean: {{at: /rate, unit: kbit/s, whole: true}}
  audio.present: {{at: /sound/on, send: /on, words: {{"yes": [true, 1], "no": [false, 0]}}}}
  audio.bitrate.mean: {{at: /sound/rate, send: /rate, unit: kbit/s}}
limits:
  video.codec: [h264, h265]
  video.frame_rate: {{min: 5, max: 60}}
  video.keyframe_interval.median: {{min: 0.1, max: 10}}
  video.bitrate.mean: {{min: 100, max: 9000}}
  audio.present: ["yes", "no"]
  audio.bitrate.mean: [64, 96, 128]
slots:
  form: url
  server: /push/url
  state: /push/state
  states: {{stopped: [idle, off], pushing: [run, live], retrying: wait}}
refusals: {{at: /err, good: ["0"], reason: /msg}}
"""
COOKIE = '{send: POST /login, fields: {u: "{user}", p: "{password}"}}'
TOKEN = '{send: POST /token, coding: json, fields: {name: "{user}", pass: "{password}"}, token: /access, life_at: /seconds, header: "X-Key: {token}", expired: {/err: ["99"]}}'


class Sedge:
    def __init__(self, by):
        self.by, self.sessions, self.signed, self.seen, self.lives = by, set(), 0, [], 3600
        self.video = {"model": "Sedge 1", "codec": "H.264", "fps": {"num": 30000, "den": 1001}, "gop": "60.0", "rate": 4000}
        self.sound = {"on": 1, "rate": 96}
        self.push = {"url": "", "state": "off"}
        self.inside = False  # a session that is over is told inside a good answer

    def handle(self, method, path, headers, body):
        self.seen.append((method, path))
        if path in ("/login", "/token"):
            got = {k: v[0] for k, v in parse_qs(body).items()} if self.by == "cookie" else json.loads(body)
            if sorted(map(str, got.values())) != ["fake-password", "operator"]:
                return 200, {"err": 7, "msg": "wrong"}, {}
            self.signed += 1
            key = f"session-{self.signed}"
            self.sessions = {key}
            if self.by == "cookie":
                return 200, {"err": 0}, {"Set-Cookie": f"sid={key}; Path=/"}
            return 200, {"access": key, "seconds": self.lives, "err": 0}, {}
        key = headers.get("X-Key") or (headers.get("Cookie") or "").partition("sid=")[2]
        if key not in self.sessions:
            if self.by == "cookie":
                return 302, {}, {"Location": "/login.html"}
            return (200, {"err": 99, "msg": "no session"}, {}) if self.inside else (401, {}, {})
        kept = {"/api/video": self.video, "/api/sound": self.sound, "/api/push": self.push}[path]
        if method == "POST":
            given = json.loads(body)
            if given.get("rate") == 666:
                return 200, {"err": 5, "msg": "rate is out of range"}, {}
            if "run" in given:
                kept["state"] = "live" if given["run"] else "idle"
            else:
                kept.update(given)
        return 200, {**kept, "err": 0}, {}


class Cases(unittest.TestCase):
    def open(self, by, password="fake-password"):
        device = Sedge(by)

        class Handler(http.server.BaseHTTPRequestHandler):
            def answer(self):
                size = int(self.headers.get("Content-Length") or 0)
                status, data, more = device.handle(self.command, self.path, self.headers, self.rfile.read(size).decode())
                body = json.dumps(data).encode()
                self.send_response(status)
                for name, value in {"Content-Type": "application/json", "Content-Length": len(body), **more}.items():
                    self.send_header(name, str(value))
                self.end_headers()
                self.wfile.write(body)

            do_GET = do_POST = answer  # noqa: N815

            def log_message(self, *_):
                pass

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        document = documents.parse(FILE.format(sign_in=COOKIE if by == "cookie" else TOKEN), "sedge.yaml")
        file = DriverFile.model_validate(document.data)
        check(document, file)
        driver = by_file.Driver("tower", file, f"http://127.0.0.1:{server.server_port}", ("operator", Secret(password)))
        self.addCleanup(driver.close)
        return device, driver

    def test_read_written_and_pushed(self):
        for by in ("cookie", "token"):
            device, driver = self.open(by)
            state = driver.read()
            main = state.channels["main"]
            self.assertEqual(main.values["video.frame_rate"], 29.97)
            self.assertEqual(main.values["video.keyframe_interval.median"], 2.002)
            self.assertEqual((main.values["video.codec"], main.values["audio.present"], main.values["audio.bitrate.mean"]), ("h264", "yes", 96))
            self.assertEqual(state.slots[1].state, PushState.STOPPED)
            values = {"video.codec": "h265", "video.frame_rate": 59.94, "video.keyframe_interval.median": 2, "audio.bitrate.mean": 128, "audio.present": "no"}
            for portion in driver.portions(values):
                driver.write(main, portion)
            posts = [path for method, path in device.seen if method == "POST" and path.startswith("/api")]
            self.assertEqual(posts, ["/api/video", "/api/sound"], "in their order, each by its own path")
            self.assertEqual((device.video["fps"], device.video["gop"], device.video["codec"]), ({"num": 60000, "den": 1001}, 120, "HEVC"))
            self.assertEqual((device.sound["rate"], device.sound["on"]), (128, False))
            driver.push(1, on=True)
            self.assertEqual(driver.read().slots[1].state, PushState.PUSHING)
            with self.assertRaisesRegex(ChangeRefused, "rate is out of range"):
                driver.write(main, {"video.bitrate.mean": 666})

    def test_sessions_are_renewed(self):
        for by, inside in (("cookie", False), ("token", False), ("token", True)):
            device, driver = self.open(by)
            device.inside = inside
            driver.read()
            self.assertEqual(device.signed, 1)
            driver.read()
            self.assertEqual(device.signed, 1, "one session for all")
            device.sessions.clear()
            driver.read()
            self.assertEqual(device.signed, 2)

    def test_a_session_is_renewed_before_its_life_is_over(self):
        device, driver = self.open("token")
        device.lives = 100
        driver.read()
        moment = driver._session._now()
        driver._session._now = lambda: moment + 95
        driver.read()
        self.assertEqual(device.signed, 2)
        self.assertNotIn("session-1", str(driver._session._header))

    def test_a_wrong_login_is_sent_once(self):
        for by in ("cookie", "token"):
            device, driver = self.open(by, "fake-wrong-one")
            for _ in range(3):
                with self.assertRaises(DeviceLoginRefused) as caught:
                    driver.read()
                self.assertNotIn("fake-wrong", str(caught.exception))
            self.assertEqual([path for _, path in device.seen], ["/login" if by == "cookie" else "/token"])

    def test_an_interval_in_frames_without_a_rate_is_not_seconds(self):
        device, driver = self.open("token")
        device.video["fps"] = {}
        state = driver.read()
        self.assertNotIn("video.keyframe_interval.median", state.channels["main"].values)
        self.assertTrue(any("how many seconds that are is not known" in text for text in state.remarks), state.remarks)
        with self.assertRaisesRegex(ChangeRefused, "frame rate is not known"):
            driver.write(state.channels["main"], {"video.keyframe_interval.median": 2})
        self.assertEqual(device.video["gop"], "60.0", "nothing was written")

    def test_an_address_without_such_a_form(self):
        device, driver = self.open("token")
        device.handle = lambda *_: (404, {}, {})
        with self.assertRaisesRegex(BadAnswer, "does its driver fit it"):
            driver.read()
