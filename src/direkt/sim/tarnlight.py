"""Tarnlight, a simulated platform: the event interface, signing in, an ingest that really measures, and viewers.

docs/events.md describes the interface; this is the other side of it. It keeps everything in memory.
"""

from __future__ import annotations

import asyncio
import contextlib
import datetime
import hashlib
import html
import json
import re
import secrets
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal
from urllib.parse import parse_qs

from pydantic import AwareDatetime, Field, ValidationError

from direkt.destination import library
from direkt.destination.sheet import Sheet
from direkt.documents import Strict
from direkt.judge import judge_sent
from direkt.net import certificates, loops
from direkt.platform import platform_file
from direkt.platform.planned import picture_kind
from direkt.protocol.address import ServerAddress
from direkt.rig.events import Audience, Delay, FieldValue, Projection
from direkt.sim.grants import Grants, PlatformFaults, json_response
from direkt.sim.hls import Hls
from direkt.sim.ingest import Port, Sink
from direkt.sim.web import Faults, Web, WebRequest, WebResponse

_ID = re.compile(r"[a-z0-9][a-z0-9-]{0,127}")
_DELAYS: Mapping[str, float] = {"usual": 17.0, "short": 5.0, "shortest": 3.0}  # s
_TOLD = (
    "video.codec", "video.profile", "video.size", "video.frame_rate", "video.bitrate.mean", "video.keyframe_interval.max",
    "audio.present", "audio.codec", "audio.bitrate.mean", "audio.silent",
)  # fmt: skip
_BIRDS = ("sandpiper", "redshank", "whimbrel", "turnstone", "phalarope", "kittiwake", "guillemot", "fieldfare")
_LONGEST_PICTURE = 8 << 20  # bytes


class EventBody(Strict):
    """What a client may write of an event."""

    title: str = Field(min_length=1, max_length=300)
    description: str = Field(default="", max_length=10_000)
    start: AwareDatetime
    length: int = Field(ge=1, le=31 * 86400)
    audience: Audience
    delay: Delay = "usual"
    projection: Projection = "none"
    rewind: int | None = Field(default=None, ge=0, le=86400 * 7)
    keep: bool = False
    fields: dict[str, FieldValue] = {}


class StateBody(Strict):
    """Where it is to go."""

    state: Literal["open", "live", "closed"]


@dataclass(slots=True)
class SimEvent:
    """An event."""

    id: str
    body: EventBody
    key: str
    hls: Hls
    state: str = "made"
    count: int = 1  # changes
    keys: int = 1
    picture: bytes = b""
    closed_because: str = ""
    first_push: float | None = None
    sinks: dict[str, Sink] = field(default_factory=dict)

    @property
    def version(self) -> str:
        """Its entity tag."""
        return f'"{hashlib.sha256(f"{self.id} {self.count}".encode()).hexdigest()[:16]}"'

    @property
    def ingest_version(self) -> str:
        """That of its key."""
        return f'"{hashlib.sha256(f"{self.id} key {self.keys}".encode()).hexdigest()[:16]}"'


class _No(Exception):
    """A refusal, as RFC 9457 writes it."""

    def __init__(
        self, status: int, title: str, detail: str = "", errors: list[dict[str, str]] | None = None,
        headers: tuple[tuple[str, str], ...] = (),
    ) -> None:  # fmt: skip
        self.status, self.headers = status, headers
        self.body: dict[str, object] = {"type": "about:blank", "title": title, "status": status}
        self.body |= {"detail": detail} if detail else {}
        self.body |= {"errors": errors} if errors else {}
        super().__init__(title)


class Tarnlight:
    """The platform. start() opens its ports on the loopback interface."""

    def __init__(
        self, token: str, *, port: int = 0, ingest_port: int = 0, backup_port: int = 0, tls_port: int = 0, shows_after: float = 3.0,
        session_limit: float = 9 * 3600.0, faults: PlatformFaults | None = None, delays: Mapping[str, float] = _DELAYS,
        host: str = "127.0.0.1", strict: bool = True,
    ) -> None:  # fmt: skip
        self.faults, self.web_faults = faults or PlatformFaults(), Faults()
        self.host = host
        self.web = Web(self.answer, self.web_faults, host, port)
        self.shows_after, self.session_limit, self._delays = shows_after, session_limit, delays
        self.events: dict[str, SimEvent] = {}
        self.asked: list[tuple[str, str]] = []  # method and path, for tests
        self.grants = Grants(token, self.faults)
        self._lost: set[tuple[str, str, str]] = set()
        self._lock = threading.RLock()
        self._facts = platform_file.load("tarnlight").facts()
        self._strict = strict  # insists on its fields
        self._sheet = library.load("tarnlight")
        self.sheet_of: Callable[[str], Sheet | None] = lambda event: None  # of another platform, that this one stands for
        self._ports = {"primary": ingest_port, "backup": backup_port, "tls": tls_port}
        self._ingests: list[Port] = []
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._over = threading.Event()
        self._keys = 0

    # Power

    def start(self) -> None:
        """Opens its ports. Raises OSError."""
        self._thread.start()
        try:
            asyncio.run_coroutine_threadsafe(self._open(), self._loop).result(5)
            self.web.open()
        except OSError:
            self.stop()
            raise
        threading.Thread(target=self._look_after, daemon=True).start()

    async def _open(self) -> None:
        tls = certificates.make([self.host, "localhost"]).context
        for name, role in (("primary", "primary"), ("backup", "backup"), ("tls", "primary")):
            port = Port("live", self._finder(role))
            self._ports[name] = await port.start(self.host, self._ports[name], tls if name == "tls" else None)
            self._ingests.append(port)

    def _finder(self, role: str) -> Callable[[str], Sink | str]:
        return lambda key: self._sink(key, role)

    def stop(self) -> None:
        """Closes everything."""
        self._over.set()
        self.web.close()
        with contextlib.suppress(Exception):
            for port in self._ingests:
                asyncio.run_coroutine_threadsafe(port.stop(), self._loop).result(5)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_forever()
        loops.end(self._loop)

    @property
    def _base(self) -> str:
        return f"http://{self.web.host}:{self.web.port}"

    @property
    def address(self) -> str:
        """Of its event interface."""
        return f"{self._base}/events-api"

    def ingest_address(self, which: str = "primary") -> str:
        """A server address."""
        return str(ServerAddress("rtmps" if which == "tls" else "rtmp", self.host, self._ports[which], "live"))

    # The ingest

    def _sink(self, key: str, role: str) -> Sink | str:
        with self._lock:
            event = next(
                (e for e in self.events.values() if secrets.compare_digest(e.key.encode(), key.encode())), None
            )
            if event is None:
                return "no such key"
            if event.state not in ("open", "live"):
                return f"the event is {event.state}, not open"
            sink = event.sinks.get(role)
            if sink is None:
                sink = event.sinks[role] = Sink("rtmp")
                if role == "primary":
                    sink.took.append(event.hls.take)
            if event.first_push is None:
                event.first_push = time.monotonic()
            return sink

    def _look_after(self) -> None:
        """Measures what comes, ends sessions that are too long, and does what the faults say."""
        while not self._over.wait(0.25):
            with self._lock:
                events = list(self.events.values())
            for event in events:
                for sink in event.sinks.values():
                    sink.poll()
                    drops = self.faults.drops
                    if drops and sink.since is not None and time.time() - sink.since > drops:
                        self._loop.call_soon_threadsafe(sink.cut)
                if event.state in ("open", "live") and event.first_push is not None:
                    if time.monotonic() - event.first_push > self.session_limit:
                        self._close(event, f"its session was longer than {self.session_limit:g} s")
                primary = event.sinks.get("primary")
                if primary is not None and primary.since is not None and not event.hls.size:
                    event.hls.size = str(primary.snapshot().values.get("video.size") or "")

    def _close(self, event: SimEvent, because: str) -> None:
        with self._lock:
            event.state, event.closed_because = "closed", because
            event.count += 1
        for sink in event.sinks.values():
            self._loop.call_soon_threadsafe(sink.cut)

    def _input(self, event: SimEvent, role: str, sink: Sink) -> dict[str, object]:
        sink.poll()
        rehearsal, since = sink.rehearsal, sink.since
        measured = sink.snapshot()
        shown = since is not None and time.time() - since >= self.shows_after and not self.faults.shows_nothing
        first = time.time() - rehearsal.elapsed(time.monotonic())
        gaps = [gap for gap in rehearsal.gaps if gap.seconds is not None]
        complaints = [
            f"{f.parameter} is {f.sent.value}, required is {f.asked.text()}"
            for f in judge_sent(self.sheet_of(event.id) or self._sheet, measured.found).findings
            if f.verdict == "fail" and f.sent is not None and f.asked is not None
        ]
        if self.faults.poor:
            complaints.append("the stream comes unevenly")
        return {
            "role": role, "arriving": since is not None, "since": _stamp(since) if since is not None else None, "shown": shown,
            "values": {name: measured.values[name] for name in _TOLD if name in measured.values},
            "gaps": [{"began": _stamp(first + gap.at), "seconds": round(gap.seconds or 0.0, 1)} for gap in gaps[-100:]],
            "health": "poor" if complaints else "good", "complaints": complaints[:12],
        }  # fmt: skip

    # The web

    def answer(self, request: WebRequest) -> WebResponse:
        """What it answers."""
        path = request.path
        if path.startswith("/.well-known/oauth-authorization-server"):
            return self.grants.metadata(self._base)
        if path.startswith("/sign-in"):
            return self.grants.answer(request, self._base)
        if path.startswith("/watch/"):
            return self._watch(request)
        if path.startswith("/events-api"):
            return self._interface(request, path.removeprefix("/events-api"))
        return WebResponse(404, b"nothing here\n")

    def _interface(self, request: WebRequest, path: str) -> WebResponse:
        self.asked.append((request.method, path))
        try:
            if self.faults.down:
                raise _No(
                    503,
                    "Closed for repair",
                    "The event interface is closed for repair.",
                    headers=(("Retry-After", "1"),),
                )
            self._admit(request)
            if self.faults.twice and request.method != "GET":
                with contextlib.suppress(_No):
                    self._route(request, path)
            answer = self._route(request, path)
        except _No as no:
            answer = WebResponse(no.status, json.dumps(no.body).encode(), "application/problem+json", no.headers)
        mark = (request.method, path, request.headers.get("if-match", ""))
        if self.faults.loses_answers and request.method != "GET" and mark not in self._lost:
            self._lost.add(mark)
            return WebResponse(504, b"")
        return answer

    def _admit(self, request: WebRequest) -> None:
        scheme, _, token = request.headers.get("authorization", "").partition(" ")
        if scheme.lower() == "bearer" and self.grants.admits(token.strip()):
            return
        error = ', error="invalid_token"' if token else ""
        raise _No(401, "Not signed in", headers=(("WWW-Authenticate", f'Bearer realm="tarnlight"{error}'),))

    def _route(self, request: WebRequest, path: str) -> WebResponse:
        parts = path.strip("/").split("/")
        if parts == ["events"]:
            _only(request, "GET")
            return self._list(request)
        if parts[0] != "events" or not 2 <= len(parts) <= 4 or not path.startswith("/"):
            raise _No(404, "No such place")
        name, rest = parts[1], "/".join(parts[2:])
        handlers: dict[str, tuple[tuple[str, ...], Callable[[WebRequest, SimEvent], WebResponse]]] = {
            "picture": (("PUT",), self._put_picture), "state": (("PUT",), self._put_state), "ingest": (("GET",), self._get_ingest),
            "ingest/renewal": (("POST",), self._renew), "arriving": (("GET",), self._arriving),
        }  # fmt: skip
        if rest and rest not in handlers:
            raise _No(404, "No such place")
        with self._lock:
            if not rest:
                _only(request, "GET", "PUT", "DELETE")
                return self._one(request, name)
            methods, handler = handlers[rest]
            _only(request, *methods)
            return handler(request, self._event(name))

    def _new_key(self) -> str:
        """A key that no event had before: a bird, and letters behind it once all are used."""
        round_, bird = divmod(self._keys, len(_BIRDS))
        self._keys += 1
        letters = ""
        while round_:
            round_, letter = divmod(round_ - 1, 26)
            letters = chr(ord("a") + letter) + letters
        return f"varn~fake~{_BIRDS[bird]}{letters}"

    def _event(self, name: str) -> SimEvent:
        event = self.events.get(name)
        if event is None:
            raise _No(404, "No such event")
        return event

    def _one(self, request: WebRequest, name: str) -> WebResponse:
        if request.method == "GET":
            return self._shown(self._event(name))
        if request.method == "DELETE":
            event = self._event(name)
            _matches(request, event.version)
            if event.state in ("open", "live"):
                raise _No(409, "The event is open", "Close it before you take it away.")
            del self.events[name]
            return WebResponse(204)
        if _ID.fullmatch(name) is None:
            raise _No(404, "No such place", "An event's name has small letters, digits and dashes.")
        body = _read(request, EventBody)
        known, said = self.events.get(name), request.headers.get("if-none-match")
        if said not in (None, "*"):
            raise _No(400, "Not such a condition", "Send If-None-Match: * to make an event, If-Match to change one.")
        if known is None:
            if "if-match" in request.headers:
                raise _No(412, "No such event", "There is nothing to change.")
            if request.headers.get("if-none-match") != "*":
                raise _No(
                    428, "Say whether it is new", "Send If-None-Match: * to make an event, If-Match to change one."
                )
            self._check(body)
            event = self.events[name] = SimEvent(name, body, self._new_key(), Hls(self._delays[body.delay]))
            return self._shown(event, 201)
        if request.headers.get("if-none-match") == "*":
            raise _No(412, "It already exists")
        _matches(request, known.version)
        if known.state == "closed":
            raise _No(409, "The event is closed", "A closed event stays as it is.")
        self._check(body)
        if body != known.body:
            known.body, known.count = body, known.count + 1
            known.hls.delay = self._delays[body.delay]
        return self._shown(known)

    def _check(self, body: EventBody) -> None:
        """What the platform insists on."""
        errors: list[dict[str, str]] = []
        if not self._strict:
            return
        for name, spec in self._facts.fields.items():
            value = body.fields.get(name)
            if value is None and spec.needed:
                errors.append({"pointer": f"#/fields/{name}", "detail": f"is needed: {spec.title}"})
            elif value is not None and spec.choices and value not in spec.choices:
                errors.append(
                    {"pointer": f"#/fields/{name}", "detail": f"is none of {', '.join(map(str, spec.choices))}"}
                )
        errors += [
            {"pointer": f"#/fields/{name}", "detail": "is not known here"}
            for name in body.fields
            if name not in self._facts.fields
        ]
        if errors:
            raise _No(422, "The event lacks something", "", errors)

    def _shown(self, event: SimEvent, status: int = 200) -> WebResponse:
        return json_response(status, self._document(event), (("ETag", event.version),))

    def _document(self, event: SimEvent) -> dict[str, object]:
        base = f"{self._base}/watch/{event.id}"
        body = event.body.model_dump()
        body["start"] = _stamp(event.body.start.timestamp())
        return {
            "id": event.id, **body, "state": event.state, "version": event.version,
            "picture": hashlib.sha256(event.picture).hexdigest() if event.picture else None,
            "watch": base, "player": f"{base}/index.m3u8", "closed_because": event.closed_because or None,
        }  # fmt: skip

    def _list(self, request: WebRequest) -> WebResponse:
        query = parse_qs(request.query, keep_blank_values=True)
        limit = query.get("limit", ["20"])[0]
        if not (limit.isascii() and limit.isdigit() and 1 <= int(limit[:6]) <= 100) or len(limit) > 6:
            raise _No(400, "No such limit", "", [{"pointer": "#/limit", "detail": "is a number from 1 to 100"}])
        after = query.get("after", [""])[0]
        if len(after) > 128:
            raise _No(
                400,
                "No such place in the list",
                "",
                [{"pointer": "#/after", "detail": "is a name of at most 128 characters"}],
            )
        with self._lock:
            names = sorted(name for name in self.events if name > after)
            page = names[: int(limit)]
            following = page[-1] if len(names) > len(page) else None
            return json_response(
                200, {"events": [self._document(self.events[name]) for name in page], "next": following}
            )

    def _put_picture(self, request: WebRequest, event: SimEvent) -> WebResponse:
        kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
        if kind not in ("image/png", "image/jpeg"):
            raise _No(415, "Not a picture", "Send image/png or image/jpeg.")
        if len(request.body) > _LONGEST_PICTURE or picture_kind(request.body) != kind:
            raise _No(422, "Not such a picture")
        _matches(request, event.version)
        if request.body != event.picture:
            event.picture, event.count = request.body, event.count + 1
        return self._shown(event)

    def _put_state(self, request: WebRequest, event: SimEvent) -> WebResponse:
        body = _read(request, StateBody)
        _matches(request, event.version)
        if body.state == event.state:
            return self._shown(event)
        if event.state == "closed":
            raise _No(409, "The event is closed", "A closed event cannot be opened again; make another.")
        if body.state == "closed":
            self._close(event, "")
        elif (event.state, body.state) in (("made", "open"), ("open", "live")):
            event.state, event.count = body.state, event.count + 1
        else:
            raise _No(409, f"The event is {event.state}", "It goes from made to open, then live, then closed.")
        return self._shown(event)

    def _get_ingest(self, request: WebRequest, event: SimEvent) -> WebResponse:
        servers = [
            {"address": self.ingest_address("primary"), "role": "primary"},
            {"address": self.ingest_address("tls"), "role": "primary"},
            {"address": self.ingest_address("backup"), "role": "backup"},
        ]
        return json_response(
            200, {"servers": servers, "key": event.key}, (("ETag", event.ingest_version), ("Cache-Control", "no-store"))
        )

    def _renew(self, request: WebRequest, event: SimEvent) -> WebResponse:
        _matches(request, event.ingest_version)
        event.key, event.keys = self._new_key(), event.keys + 1
        for sink in event.sinks.values():
            self._loop.call_soon_threadsafe(sink.cut)
        return self._get_ingest(request, event)

    def _arriving(self, request: WebRequest, event: SimEvent) -> WebResponse:
        now = time.time()
        inputs = [self._input(event, role, sink) for role, sink in event.sinks.items()]
        watching = sum(now - seen < 30 for seen in event.hls.viewers.values())
        return json_response(200, {"inputs": inputs, "viewers": watching})

    # Viewers

    def _watch(self, request: WebRequest) -> WebResponse:
        parts = request.path.removeprefix("/watch/").split("/")
        event = self.events.get(parts[0])
        if event is None:
            return WebResponse(404, b"no such event\n")
        owner = False
        with contextlib.suppress(_No):
            self._admit(request)
            owner = True
        if event.body.audience == "invited" and not owner:
            return WebResponse(403, b"for those who are invited\n")
        primary = event.sinks.get("primary")
        since = primary.since if primary is not None else None
        on_air = event.state in ("live", "closed") or (owner and event.state == "open")
        shows = on_air and event.hls.shown and not self.faults.shows_nothing
        live = since is not None and time.time() - since >= self.shows_after
        if len(parts) == 1:
            return self._page(event, live=live and shows)
        event.hls.viewers[request.headers.get("user-agent", "")[:80]] = time.time()
        headers = (("Cache-Control", "no-cache"),)
        if parts[1:] == ["index.m3u8"] and shows:
            return WebResponse(200, event.hls.master().encode(), "application/vnd.apple.mpegurl", headers)
        if parts[1:] == ["live.m3u8"] and shows:
            text = event.hls.playlist(ended=event.state == "closed")
            return WebResponse(200, text.encode(), "application/vnd.apple.mpegurl", headers)
        number = re.fullmatch(r"(\d{1,9})\.ts", parts[1]) if len(parts) == 2 else None
        data = event.hls.segment(int(number[1])) if number is not None and shows else None
        return WebResponse(200, data, "video/mp2t") if data is not None else WebResponse(404, b"not here, or not yet\n")

    def _page(self, event: SimEvent, *, live: bool) -> WebResponse:
        state = "on air" if live else {"made": "not open yet", "open": "begins soon", "closed": "is over"}[event.state]
        title, about = html.escape(event.body.title), html.escape(event.body.description)
        video = f'<video controls src="/watch/{event.id}/index.m3u8"></video>' if live else ""
        text = (
            f"<!doctype html><html lang=en><meta charset=utf-8><meta name=viewport content='width=device-width'><title>{title}</title>"
            f"<h1>{title}</h1><p><b>{state}</b></p>{video}<p>{about}</p></html>\n"
        )
        return WebResponse(200, text.encode(), "text/html; charset=utf-8")


def _stamp(seconds: float) -> str:
    return datetime.datetime.fromtimestamp(seconds, datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _only(request: WebRequest, *methods: str) -> None:
    if request.method not in methods:
        raise _No(405, "Not like this", headers=(("Allow", ", ".join(methods)),))


def _matches(request: WebRequest, version: str) -> None:
    """RFC 9110, 13.1.1; without the header nothing is changed (RFC 6585, 3)."""
    said = request.headers.get("if-match")
    if said is None:
        raise _No(428, "Say which version", "Send the entity tag of the version that you change in If-Match.")
    if said.strip() != "*" and version not in [tag.strip() for tag in said.split(",")]:
        raise _No(412, "It has changed meanwhile")


def _read(request: WebRequest, model: type[Any]) -> Any:
    """A body that is what it should be."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind != "application/json":
        raise _No(415, "Not JSON", "Send application/json.")
    try:
        return model.model_validate_json(request.body, strict=True)
    except ValidationError as error:
        listed = error.errors(include_url=False, include_input=False, include_context=False)
        if any(e["type"] == "json_invalid" for e in listed):
            raise _No(400, "Not JSON") from None
        errors = [{"pointer": "#/" + "/".join(map(str, e["loc"])), "detail": e["msg"]} for e in listed]
        raise _No(422, "Not such a document", "", errors) from None
