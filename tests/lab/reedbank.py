"""Reedbank: a made-up platform with habits of its own: short pages, a line apart from its broadcast, steps that take a while, errors in good
answers, a limit on questions, a sign-in of its own."""

from __future__ import annotations

import json
import threading
import time
import urllib.parse
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

TOKEN = "reed~fake~token"
FILE = """\
schema: direkt.platform/1
kind: http
title: Reedbank
title_length: 60
sign_in: {device: "{origin}/door/code", token: "{origin}/door/token", scopes: [cast.write, line.read]}
audiences: [everyone, invited]
delays: [usual, short]
fields:
  young: {title: whether it is made for children, choices: [true, false], needed: yes}
requests:
  list: {send: GET /v9/casts, pages: {next: /paging/token, ask: page}}
  make:
    - {send: POST /v9/casts, fields: {/about/name: "{title}", /about/words: "{description} #{ref}", /about/young: "{field_young}",
       /when: "{start}", /seen_by: "{audience}"}, take: {cast: /cast/nr}}
    - {send: POST /v9/lines, fields: {/label: "{ref}"}, take: {line: /line/nr}, unless: line}
    - {send: "POST /v9/casts/{cast}/bind", fields: {/line: "{line}"}, unless: line}
  change: {send: "POST /v9/casts/{id}", fields: {/about/name: "{title}", /seen_by: "{audience}"}}
  open: {send: "POST /v9/casts/{id}/move", fields: {/to: testing}, until: {on_the_way: [testingSoon], limit: 20s}}
  air: {send: "POST /v9/casts/{id}/move", fields: {/to: airing}, until: {on_the_way: [airingSoon], limit: 20s}}
  finish: {send: "POST /v9/casts/{id}/move", fields: {/to: over}, until: {on_the_way: [overSoon], limit: 20s}}
  drop: DELETE /v9/casts/{id}
  ingest: GET /v9/lines/{line}
  seen: GET /v9/lines/{line}/health
event:
  list: /casts
  id: /nr
  ref: /about/words
  title: /about/name
  start: /when
  state: /phase
  states: {made: [planned], open: [testing], live: [airing], closed: [over, cancelled]}
  watch: /page
  audience: /seen_by
  take: {line: /bound, cast: /nr}
ingest: {server: /line/to, backup: /line/spare, key: /line/name}
seen:
  list: /sides
  role: /side
  backup: second
  unlisted: nothing
  arriving: /state
  words: [flowing]
  shown: /picture
  shown_words: [visible]
  health: /health
  complaints: /notes
  values: {video.size: {at: /size}}
words: {audience: {everyone: world, invited: circle}}
refusals: {at: /trouble, reason: /trouble/text}
"""


@dataclass
class Cast:
    nr: str
    about: dict
    when: str = ""
    seen_by: str = "world"
    phase: str = "planned"
    bound: str | None = None
    moves: tuple[str, float] | None = None  # to which phase, and when


@dataclass
class Line:
    nr: str
    label: str
    name: str  # the key
    second: bool = False  # whether it has a spare address


@dataclass
class Faults:
    slow: float = 0.0  # s that a step takes
    sticks: bool = False  # steps are taken and nothing happens
    trouble: str = ""  # an error in a good answer to whatever changes something
    wait: list[str] = field(default_factory=list)  # Retry-After of the next answers
    lose: int = 0  # answers to POST that are lost after they were done
    down: bool = False
    blind: bool = False  # the health of lines is not told
    list_breaks: bool = False  # the second page fails
    page: int = 2
    odd_phase: str = ""  # what it says of every phase


class Reedbank:
    """The platform. ``arriving``: keys at which something arrives, as (key, side)."""

    def __init__(self, ingest: str = "rtmp://127.0.0.1:1/reed") -> None:
        self.casts: dict[str, Cast] = {}
        self.lines: dict[str, Line] = {}
        self.arriving: set[tuple[str, str]] = set()
        self.notes: dict[str, list[str]] = {}
        self.faults = Faults()
        self.tokens = {TOKEN}
        self.asked: list[str] = []
        self.codes: dict[str, bool] = {}  # by device code: whether the person has signed in
        self.ingest_address = ingest
        self._number = 100
        self._lock = threading.RLock()
        platform = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def log_message(self, *_):
                pass

            def do_any(self):
                with platform._lock:
                    platform._handle(self)

            do_GET = do_POST = do_DELETE = do_any  # noqa: N815

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        threading.Thread(target=self._server.serve_forever, args=(0.02,), daemon=True).start()
        self.origin = f"http://127.0.0.1:{self._server.server_port}"

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()

    def file(self) -> str:
        return FILE.replace("{origin}", self.origin)

    # What the tests do by hand, as somebody on its page would

    def cast(self, name: str, *, words: str = "", phase: str = "airing", key: str | None = None) -> Cast:
        """An event that somebody made on its page."""
        with self._lock:
            line = Line(self._next(), "page", key or f"varn~fake~page{self._number}")
            self.lines[line.nr] = line
            one = Cast(self._next(), {"name": name, "words": words}, phase=phase, bound=line.nr)
            self.casts[one.nr] = one
            return one

    def key_of(self, cast: Cast) -> str:
        return self.lines[cast.bound].name

    def live(self) -> list[Cast]:
        """What viewers get, or pushes are let in for."""
        with self._lock:
            for one in self.casts.values():
                self._settle(one)
            return [c for c in self.casts.values() if c.phase in ("testing", "airing")]

    # The interface

    def _next(self) -> str:
        self._number += 1
        return f"n{self._number}"

    def _settle(self, one: Cast) -> None:
        if one.moves is not None and time.monotonic() >= one.moves[1]:
            one.phase, one.moves = one.moves[0], None

    def _handle(self, h: BaseHTTPRequestHandler) -> None:
        length = int(h.headers.get("Content-Length") or 0)
        raw = h.rfile.read(length)
        parts = urllib.parse.urlsplit(h.path)
        path, query = parts.path.strip("/").split("/"), dict(urllib.parse.parse_qsl(parts.query))
        self.asked.append(f"{h.command} {h.path}")
        f = self.faults
        if f.down:
            h.close_connection = True
            h.connection.close()
            return None
        if path[0] == "door":
            return self._door(h, path[1], dict(urllib.parse.parse_qsl(raw.decode())))
        if h.headers.get("Authorization", "").removeprefix("Bearer ") not in self.tokens:
            return self._answer(h, 401, {"trouble": {"text": "who are you"}})
        if f.wait:
            return self._answer(h, 429, {"trouble": {"text": "slower"}}, {"Retry-After": f.wait.pop(0)})
        if f.trouble and h.command != "GET":
            return self._answer(h, 200, {"trouble": {"text": f.trouble}})
        data = json.loads(raw) if raw else {}
        status, body = self._do(h.command, path[1:], query, data)
        if h.command == "POST" and f.lose:
            f.lose -= 1
            h.close_connection = True
            h.connection.close()
            return None
        return self._answer(h, status, body)

    def _do(self, method: str, path: list[str], query: dict, data: dict) -> tuple[int, dict]:
        f = self.faults
        if path == ["casts"] and method == "GET":
            begin = int(query.get("page", "p0")[1:])
            if f.list_breaks and begin:
                return 500, {"trouble": {"text": "the shelf fell down"}}
            every = list(self.casts.values())[::-1]
            some = [self._told(c) for c in every[begin : begin + f.page]]
            more = {"token": f"p{begin + f.page}"} if begin + f.page < len(every) else {}
            return 200, {"casts": some, "paging": more}
        if path == ["casts"]:
            one = Cast(self._next(), data["about"], data.get("when", ""), data.get("seen_by", "world"))
            self.casts[one.nr] = one
            return 200, {"cast": self._told(one)}
        if path == ["lines"]:
            line = Line(self._next(), data["label"], f"varn~fake~line{self._number}")
            self.lines[line.nr] = line
            return 200, {"line": {"nr": line.nr}}
        if path[0] == "lines" and path[1] in self.lines:
            line = self.lines[path[1]]
            if path[2:] == ["health"]:
                if f.blind:
                    return 404, {"trouble": {"text": "no such thing"}}
                sides = [
                    {"side": side, "state": "flowing", "picture": "visible", "health": "good", "size": "960x540", "notes": self.notes.get(line.name, [])}
                    for key, side in sorted(self.arriving) if key == line.name
                ]  # fmt: skip
                return 200, {"sides": sides}
            told = {"nr": line.nr, "to": self.ingest_address, "name": line.name}
            return 200, {"line": told | ({"spare": self.ingest_address} if line.second else {})}
        one = self.casts.get(path[1]) if path[0] == "casts" and len(path) > 1 else None
        if one is None:
            return 404, {"trouble": {"text": "no such cast"}}
        self._settle(one)
        if method == "DELETE":
            del self.casts[one.nr]
            return 200, {}
        if path[2:] == ["bind"]:
            one.bound = data["line"]
        elif path[2:] == ["move"]:
            if not f.sticks:
                one.moves = (data["to"], time.monotonic() + f.slow)
                if f.slow:
                    one.phase = f"{data['to']}Soon"
                self._settle(one)
        else:
            one.about |= data.get("about", {})
            one.seen_by = data.get("seen_by", one.seen_by)
        return 200, {"cast": self._told(one)}

    def _told(self, one: Cast) -> dict:
        self._settle(one)
        return {"nr": one.nr, "about": one.about, "when": one.when, "seen_by": one.seen_by, "phase": self.faults.odd_phase or one.phase,
                "bound": one.bound, "page": f"https://reedbank.example/{one.nr}"}  # fmt: skip

    def _door(self, h, which: str, fields: dict) -> None:
        if which == "code":
            if fields.get("scope") != "cast.write line.read":
                return self._answer(h, 400, {"error": "invalid_scope"})
            self.codes["dev-1"] = False
            return self._answer(h, 200, {"device_code": "dev-1", "user_code": "HERON", "verification_uri": "https://reedbank.example/door",
                                         "expires_in": 60, "interval": 1})  # fmt: skip
        if not self.codes.get(fields.get("device_code", "")):
            return self._answer(h, 400, {"error": "authorization_pending"})
        self.tokens.add("reed~fake~signed")
        return self._answer(h, 200, {"access_token": "reed~fake~signed", "token_type": "bearer", "expires_in": 3600})

    @staticmethod
    def _answer(h, status: int, data: dict, headers: dict | None = None) -> None:
        body = json.dumps(data).encode()
        h.send_response(status)
        for name, value in {"Content-Type": "application/json", "Content-Length": str(len(body)), **(headers or {})}.items():
            h.send_header(name, value)
        h.end_headers()
        h.wfile.write(body)
