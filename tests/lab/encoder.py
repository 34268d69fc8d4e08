"""A made-up encoder with habits of its own: two slots, a counter that may move seldom, words that may not be true."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

DRIVER = """\
schema: direkt.driver/1
kind: http
title: Sedge encoder
login: none
answers: json
requests:
  state: GET /now
  write_slot: POST /way/{slot}
  push_on: {send: "POST /way/{slot}/on", coding: none}
  push_off: {send: "POST /way/{slot}/off", coding: none}
  restart: {send: POST /again, coding: none}
facts: {model: /kind, firmware: /soft, uptime: /up}
channels:
  main: {at: /main}
settings:
  video.codec: {at: /codec, words: {h264: avc}}
  video.size: {at: /size}
  video.frame_rate: {at: /fps}
  video.bitrate.mean: {at: /kbit, unit: kbit/s, whole: true}
  video.keyframe_interval.median: {at: /key_s, unit: s}
  audio.present: {at: /sound, words: {"yes": true, "no": false}}
  audio.codec: {at: /sound_kind, words: {aac: AAC}}
slots:
  list: /ways
  number: /nr
  channel: /of
  server: /to
  key: /name
  key_length: /name_length
  state: /state
  states: {stopped: idle, connecting: dialling, pushing: running, retrying: redialling, unknown: dunno}
  message: /words
  sent_bytes: /bytes
"""


@dataclass
class Way:
    """One push slot."""

    nr: int
    to: str = ""
    name: str = ""
    pushing: bool = False
    since: float = 0.0
    sent: float = 0.0


@dataclass
class Habits:
    says: str = ""  # whatever is so: its word for the state
    stop_does_nothing: bool = False
    counts_every: float = 0.0  # s between moves of its counter
    counts: bool = True  # it has a counter
    rate: float = 400_000.0  # bytes/s
    down: bool = False
    starts_again: float = 0.0  # s after a stop


class Encoder:
    """The encoder; ``moved`` is called when what it pushes changes."""

    def __init__(self, moved: Callable[[], None] = lambda: None, ways: int = 2) -> None:
        self.ways = {n + 1: Way(n + 1) for n in range(ways)}
        self.habits = Habits()
        self.done: list[str] = []
        self._moved, self._lock, self._booted = moved, threading.RLock(), time.monotonic()
        encoder = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def log_message(self, *_):
                pass

            def do_any(self):
                raw = self.rfile.read(int(self.headers.get("Content-Length") or 0))
                if encoder.habits.down:
                    self.close_connection = True
                    self.connection.close()
                    return
                with encoder._lock:
                    body = json.dumps(encoder._do(self.command, self.path, raw)).encode()
                self.send_response(200)
                self.send_header("Content-Type", "application/json")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            do_GET = do_POST = do_any  # noqa: N815

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        threading.Thread(target=self._server.serve_forever, args=(0.02,), daemon=True).start()
        self.address = f"http://127.0.0.1:{self._server.server_port}"

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()

    def push(self, to: str, name: str, nr: int = 1) -> None:
        """Somebody starts it at the device."""
        with self._lock:
            way = self.ways[nr]
            way.to, way.name, way.pushing, way.since, way.sent = to, name, True, time.monotonic(), 0.0
        self._moved()

    def halt(self, nr: int = 1) -> None:
        """It stops for certain, as though its plug were pulled."""
        with self._lock:
            self.ways[nr].pushing = False
        self._moved()

    @property
    def pushing(self) -> bool:
        return any(way.pushing for way in self.ways.values())

    def _do(self, method: str, path: str, raw: bytes) -> dict:
        parts = path.strip("/").split("/")
        if parts[0] == "way":
            way = self.ways[int(parts[1])]
            self.done.append(f"{parts[1]} {parts[2] if len(parts) > 2 else 'write'}")
            if len(parts) == 2:
                data = json.loads(raw)
                way.to, way.name = data.get("to", ""), data.get("name", "")
            elif parts[2] == "on":
                way.pushing, way.since, way.sent = True, time.monotonic(), 0.0
            elif not self.habits.stop_does_nothing:
                way.pushing = False
                if self.habits.starts_again:
                    threading.Timer(self.habits.starts_again, self.push, (way.to, way.name, way.nr)).start()
            self._moved()
            return {}
        if parts[0] == "again":
            self._booted = time.monotonic()
            for way in self.ways.values():
                way.pushing = False
            self._moved()
            return {}
        main = {"codec": "avc", "size": "960x540", "fps": 25, "kbit": 1100, "key_s": 0.8, "sound": True, "sound_kind": "AAC"}
        return {"kind": "Sedge", "soft": "1.0", "up": time.monotonic() - self._booted, "main": main,
                "ways": [self._told(way) for way in self.ways.values()]}  # fmt: skip

    def _told(self, way: Way) -> dict:
        now, h = time.monotonic(), self.habits
        if way.pushing and now - way.since >= h.counts_every:
            way.sent += h.rate * (now - way.since)
            way.since = now
        state = h.says or ("running" if way.pushing else "idle")
        told = {"nr": way.nr, "of": "main", "to": way.to, "name_length": len(way.name), "state": state, "words": ""}
        return told | ({"bytes": int(way.sent)} if h.counts else {})
