"""The page: who may look, who may act, where viewers go now. Starlette; nothing comes from elsewhere.

Strategy. A token is sent once, in a body, and becomes a session in a cookie that scripts cannot read and other sites cannot send. Sessions are
kept (as digests) beyond a restart of the watch. To act takes a session that may, a header that no form can set, and the page's own origin. /now is for everybody; it leads only
to the address that the platform itself gave for the event on air.
"""

from __future__ import annotations

import asyncio
import hashlib
import hmac
import html
import json
import secrets
import time
from collections import OrderedDict, deque
from collections.abc import Callable, MutableMapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal
from urllib.parse import urlsplit

from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect, Request
from starlette.responses import JSONResponse, RedirectResponse, Response
from starlette.routing import Route
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from direkt import mask
from direkt.page.hub import Hub
from direkt.secret import Secret
from direkt.watch.board import Board, EventRow
from direkt.watch.boardjson import document
from direkt.watch.tracker import FeedState

Role = Literal["look", "act"]
Act = Callable[[str, str], str]  # what, and to what (a feed, or kind and name of a warning); empty where it is taken, else why not

_STATIC = Path(__file__).parent / "static"
_FILES = {
    "/": ("page.html", "text/html"),
    "/page.js": ("page.js", "text/javascript"),
    "/page.css": ("page.css", "text/css"),
}
_MOST_STREAMS = 200
_MOST_SESSIONS = 1000
_SESSION_LIFE = 24 * 3600.0  # s
_MOST_BODY = 2000  # bytes
_MOST_WRONG = 20  # wrong tokens a minute, from one address
_MOST_ADDRESSES = 500  # that are remembered for it
_SLOW = 10.0  # s for a body
_STUCK = 20.0  # s that a viewer may take nothing
_BEAT = 15.0  # s between signs of life
_HEALTHY = 10.0  # s of age and lateness up to which the watch is well
_HEADERS = (
    (b"content-security-policy", b"default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src 'self' data:; "
                                 b"base-uri 'none'; form-action 'none'; frame-ancestors 'none'"),
    (b"x-content-type-options", b"nosniff"), (b"referrer-policy", b"no-referrer"), (b"cache-control", b"no-store"),
    (b"cross-origin-opener-policy", b"same-origin"), (b"cross-origin-resource-policy", b"same-origin"),
    (b"permissions-policy", b"camera=(), microphone=(), geolocation=()"), (b"x-frame-options", b"DENY"),
)  # fmt: skip


@dataclass(slots=True)
class Doors:
    """Who may do what. ``wall``: s since 1970; ``keep``: is given the sessions when they change, as digests."""

    tokens: dict[Role, Secret]
    tls: bool
    sessions: OrderedDict[str, tuple[Role, float]] = field(default_factory=OrderedDict)  # by digest: who, and until when (s since 1970)
    keep: Callable[[dict[str, tuple[Role, float]]], None] = lambda _: None
    wall: Callable[[], float] = time.time
    wrong: OrderedDict[str, deque[float]] = field(default_factory=OrderedDict)  # by address

    @property
    def cookie(self) -> str:
        """Its name: over TLS one that only this host can set (RFC 6265bis, 4.1.3)."""
        return "__Host-direkt" if self.tls else "direkt"

    def role_of(self, token: str) -> Role | None:
        """What a token lets one do. All are compared, in the same time."""
        found: Role | None = None
        for role, right in self.tokens.items():
            if hmac.compare_digest(token.encode("utf-8", "replace"), right.reveal().encode()):
                found = role
        return found

    def is_busy(self, address: str, now: float) -> bool:
        """Whether somebody at this address tries tokens."""
        tried = self.wrong.get(address)
        return tried is not None and len(tried) == _MOST_WRONG and now - tried[0] < 60

    def was_wrong(self, address: str, now: float) -> None:
        """A wrong token came from there."""
        self.wrong.setdefault(address, deque(maxlen=_MOST_WRONG)).append(now)
        self.wrong.move_to_end(address)
        while len(self.wrong) > _MOST_ADDRESSES:
            self.wrong.popitem(last=False)

    def admit(self, role: Role) -> str:
        """A new session; the oldest goes where there are too many."""
        name = secrets.token_urlsafe(32)
        self.sessions[_digest(name)] = (role, self.wall() + _SESSION_LIFE)
        while len(self.sessions) > _MOST_SESSIONS:
            self.sessions.popitem(last=False)
        self.keep(dict(self.sessions))
        return name

    def role(self, request: Request) -> Role | None:
        """Whose request this is; None: nobody's."""
        found = self.sessions.get(_digest(request.cookies.get(self.cookie, "")))
        return found[0] if found is not None and found[1] > self.wall() else None


def _digest(name: str) -> str:
    return hashlib.sha256(name.encode("utf-8", "replace")).hexdigest()


class StrictHeaders:
    """Gives every answer the same headers, whatever it is."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """One request."""

        async def strict(message: Message) -> None:
            if message["type"] == "http.response.start":
                own = {name for name, _ in message["headers"]}
                message["headers"] = [*message["headers"], *((n, v) for n, v in _HEADERS if n not in own)]
            await send(message)

        await self.app(scope, receive, strict)


class BoardStream(Response):
    """Boards as server-sent events, for as long as somebody takes them."""

    media_type = "text/event-stream"

    def __init__(self, hub: Hub, done: Callable[[], None]) -> None:
        super().__init__()
        self._hub, self._done = hub, done

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Until the viewer goes, or takes nothing for too long."""
        gone = asyncio.ensure_future(_gone(receive))
        sending = asyncio.ensure_future(self._send(send))
        try:
            await asyncio.wait({gone, sending}, return_when=asyncio.FIRST_COMPLETED)
        finally:
            for task in (gone, sending):
                task.cancel()
            await asyncio.gather(gone, sending, return_exceptions=True)
            self._done()

    async def _send(self, send: Send) -> None:
        headers = [(b"content-type", b"text/event-stream; charset=utf-8"), (b"x-accel-buffering", b"no")]
        await send({"type": "http.response.start", "status": 200, "headers": headers[:1]})
        seen, message = 0, self._hub.message
        while True:
            if message.number == seen:
                body = b": still here\n\n"
            else:
                body = message.change if seen and message.number == seen + 1 else message.whole
            seen = message.number
            async with asyncio.timeout(_STUCK):
                await send({"type": "http.response.body", "body": body, "more_body": True})
            message = await self._hub.after(seen, _BEAT)


async def _gone(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


class Page:
    """The page's answers."""

    def __init__(self, hub: Hub, doors: Doors, act: Act, clock: Callable[[], float] = time.monotonic) -> None:
        self._hub, self._doors, self._act, self._clock = hub, doors, act, clock
        self._streams = 0
        self._files = {path: ((_STATIC / name).read_bytes(), kind) for path, (name, kind) in _FILES.items()}

    def app(self) -> ASGIApp:
        """All of it as an ASGI application."""
        routes = [Route(path, self._file) for path in self._files]
        routes += [
            Route("/now", self._now), Route("/health", self._health), Route("/session", self._session, methods=["POST"]), Route("/board", self._board),
            Route("/events", self._events), Route("/act", self._do, methods=["POST"]),
        ]  # fmt: skip
        made = Starlette(routes=routes, exception_handlers={HTTPException: _refuse})
        made.router.redirect_slashes = False
        return StrictHeaders(made)

    async def _file(self, request: Request) -> Response:
        content, kind = self._files[request.url.path]
        return Response(content, media_type=kind)

    def _may(self, request: Request, role: Role) -> Role:
        """The session's role. Raises HTTPException where that is not enough."""
        found = self._doors.role(request)
        if found is None:
            raise HTTPException(401, "open the page by its link: direkt watch --page-links")
        if role == "act" and found != "act":
            raise HTTPException(403, "this link lets you look, not act")
        return found

    async def _body(self, request: Request) -> dict[str, Any]:
        if request.headers.get("content-type", "").partition(";")[0].strip() != "application/json":
            raise HTTPException(415, "expected JSON")
        content = b""
        try:
            async with asyncio.timeout(_SLOW):
                async for part in request.stream():
                    content += part
                    if len(content) > _MOST_BODY:
                        raise HTTPException(413, "that is too much")
        except TimeoutError:
            raise HTTPException(408, "that takes too long") from None
        except ClientDisconnect:
            raise HTTPException(400, "the request ended early") from None
        try:
            found = json.loads(content)
        except (ValueError, RecursionError):
            raise HTTPException(400, "expected JSON") from None
        if not isinstance(found, dict):
            raise HTTPException(400, "expected a JSON object")
        return found

    def _own_page(self, request: Request) -> None:
        """Raises HTTPException where the request comes from another site's page."""
        origin = request.headers.get("origin")
        if request.headers.get("x-direkt") != "1" or (
            origin is not None and urlsplit(origin).netloc != request.headers.get("host")
        ):
            raise HTTPException(403, "only the page itself may ask for that")

    async def _session(self, request: Request) -> Response:
        self._own_page(request)
        now, address = self._clock(), request.client.host if request.client is not None else ""
        if self._doors.is_busy(address, now):
            raise HTTPException(429, "too many wrong links from your address: wait a minute")
        token = (await self._body(request)).get("token")
        role = self._doors.role_of(token) if isinstance(token, str) else None
        if role is None:
            self._doors.was_wrong(address, now)
            raise HTTPException(401, "this link is not right, or not any more")
        made = JSONResponse({"role": role})
        made.set_cookie(
            self._doors.cookie, self._doors.admit(role), max_age=int(_SESSION_LIFE), httponly=True, samesite="strict",
            secure=self._doors.tls, path="/",
        )  # fmt: skip
        return made

    async def _board(self, request: Request) -> Response:
        role = self._may(request, "look")
        board = self._hub.board
        if board is None:
            raise HTTPException(503, "nothing has been checked yet")
        return JSONResponse({"schema": "direkt.watch/1", "interrupted": False, **mask.document(document(board)), "role": role})

    async def _events(self, request: Request) -> Response:
        self._may(request, "look")
        if self._streams >= _MOST_STREAMS:
            raise HTTPException(503, "too many viewers of this page: close it elsewhere")
        self._streams += 1
        return BoardStream(self._hub, self._left)

    def _left(self) -> None:
        self._streams -= 1

    async def _do(self, request: Request) -> Response:
        self._may(request, "act")
        self._own_page(request)
        body = await self._body(request)
        what, feed = body.get("what"), body.get("feed")
        board = self._hub.board
        if what in ("seen", "mute", "unmute"):
            return self._noticed(board, str(what), body)
        if what not in ("restart", "stop", "start") or not isinstance(feed, str):
            raise HTTPException(400, "expected what (restart, stop or start) and feed, or what (seen, mute, unmute), kind and name")
        row = next((row for row in board.feeds if row.name == feed), None) if board is not None else None
        if row is None:
            raise HTTPException(404, "no such feed")
        if what == "start" and not row.undo:
            raise HTTPException(409, "only what was stopped from a page a few minutes ago can be started from here: direkt push on")
        if what != "start" and row.state is FeedState.OFF:
            raise HTTPException(409, "it is off, and meant to be: it is started with direkt go or direkt push on")
        refused = self._act(what, feed)
        if refused:
            raise HTTPException(409, refused)
        return JSONResponse({"taken": True}, 202)

    def _noticed(self, board: Board | None, what: str, body: dict[str, Any]) -> Response:
        """Somebody has seen a warning, or does not want to be reminded of it."""
        kind, name = body.get("kind"), body.get("name")
        if board is None or not any((w.kind, w.name) == (kind, name) for w in board.warnings):
            raise HTTPException(404, "there is no such warning any more")
        refused = self._act(what, f"{kind} {name}")
        if refused:
            raise HTTPException(409, refused)
        return JSONResponse({"taken": True}, 202)

    async def _health(self, request: Request) -> Response:
        """For whoever looks after the watch: whether it looks, and how late it is. It says nothing of feeds."""
        board = self._hub.board
        age = self._doors.wall() - board.at if board is not None else None
        good = age is not None and age < _HEALTHY and board is not None and board.late < _HEALTHY
        found = {"looks": good, "age": round(age, 1) if age is not None else None, "late": round(board.late, 1) if board is not None else None}
        return JSONResponse(mask.document(found), 200 if good else 503)

    async def _now(self, request: Request) -> Response:
        board = self._hub.board
        on_air = watchable(board) if board is not None else None
        if on_air is not None:
            return RedirectResponse(on_air.watch, 302)
        return Response(mask.own(_nothing_on(board)), media_type="text/html")


def watchable(board: Board) -> EventRow | None:
    """The event on air that anybody may see, the one that began first; None: there is none."""
    found = [e for e in board.events if e.on_air and e.public and _is_web(e.watch)]
    return min(found, key=lambda e: e.start, default=None)


def _is_web(text: str) -> bool:
    """Whether a browser may be sent there."""
    try:
        parts = urlsplit(text)
        return (
            parts.scheme in ("https", "http")
            and bool(parts.hostname)
            and "@" not in parts.netloc
            and text.isprintable()
            and " " not in text
        )
    except ValueError:
        return False


def _nothing_on(board: Board | None) -> str:
    title = html.escape(board.rig) if board is not None else "Not yet"
    words = "<p>Nothing is on air now.</p>"
    if board is not None and board.next is not None:
        when = time.strftime("%Y-%m-%d %H:%M", time.gmtime(board.next.start))
        words += f"<p>Next: <strong>{html.escape(board.next.title)}</strong><br>{html.escape(board.next.local)} ({when} UTC)</p>"
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">'
        f'<meta http-equiv="refresh" content="20"><title>{title}</title><link rel="stylesheet" href="/page.css"></head>'
        f'<body class="now"><main><h1>{title}</h1>{words}<p class="dim">This page looks again by itself.</p></main></body></html>'
    )


async def _refuse(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    headers: MutableMapping[str, str] = dict(error.headers or {})
    return JSONResponse({"error": mask.own(error.detail)}, error.status_code, dict(headers))
