"""The Brindle B2, a simulated hardware encoder: an HTTP device with a JSON API, digest login, and a real RTMP push.

Its habits are those that trip people up: the keyframe interval is in frames, settings are accepted and shown at
once but reach the stream only after a restart, and a restart takes two seconds and drops the push.
"""

from __future__ import annotations

import asyncio
import contextlib
import copy
import hashlib
import json
import os
import re
import socket
import ssl
import threading
import time
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from direkt.codec.aac_writer import ToneWriter
from direkt.codec.bits import BitstreamError
from direkt.codec.testcard import CardSettings, TestCard
from direkt.net.transport import PublishError, transport
from direkt.protocol import address
from direkt.protocol.address import AddressError
from direkt.secret import Secret
from direkt.sim.push import AudioSettings, Programme, exact_rate, push

MODEL, FIRMWARE, REALM = "Brindle B2", "2.4.1", "Brindle B2"
RESTART_SECONDS = 2.0
RETRY_SECONDS = 3.0
_INPUT = {"connected": True, "format": "1080p50"}
_INPUT_RATE = 50

_START = {
    "main": {
        "video": {"codec": "H.264", "profile": "High", "size": "2560x1440", "frame_rate": 25, "bitrate_kbps": 12000,
                  "rate_control": "VBR", "keyframe_frames": 250},
        "audio": {"enabled": False, "codec": "AAC", "sample_rate": 44100, "channels": 2, "bitrate_kbps": 96},
    },
    "second": {
        "video": {"codec": "H.264", "profile": "Baseline", "size": "640x360", "frame_rate": 25, "bitrate_kbps": 700,
                  "rate_control": "CBR", "keyframe_frames": 50},
        "audio": {"enabled": False, "codec": "AAC", "sample_rate": 44100, "channels": 1, "bitrate_kbps": 64},
    },
}  # fmt: skip
_LIMITS: dict[str, dict[str, Any]] = {
    "video": {
        "codec": ["H.264"], "profile": ["Baseline", "Main", "High"],
        "size": ["2560x1440", "1920x1080", "1280x720", "960x540", "640x360"],
        "frame_rate": [_INPUT_RATE, _INPUT_RATE // 2, _INPUT_RATE / 4],
        "bitrate_kbps": {"min": 300, "max": 20000}, "rate_control": ["CBR", "VBR"],
        "keyframe_frames": {"min": 1, "max": 600},
    },
    "audio": {
        "enabled": [True, False], "codec": ["AAC"], "sample_rate": [32000, 44100, 48000], "channels": [1, 2],
        "bitrate_kbps": [64, 96, 128, 160, 192, 256],
    },
}  # fmt: skip
_PROFILES = {"Baseline": "baseline", "Main": "main", "High": "high"}


@dataclass(slots=True)
class Faults:
    """What is broken on purpose."""

    never_returns: bool = False  # stays away after a restart
    not_json: bool = False  # answers with a page
    sticky: set[str] = field(default_factory=set)  # fields such as "video.size" that say yes and change nothing
    mute: bool = False  # carries silence


class BrindleB2:
    """One device. start() opens its port on the loopback interface, stop() switches it off."""

    def __init__(self, user: str, password: str, *, port: int = 0, faults: Faults | None = None) -> None:
        self._user, self._password = user, password
        self.port = port
        self.faults = faults or Faults()
        self._lock = threading.RLock()
        self._active: dict[str, Any] = copy.deepcopy(_START)
        self._saved: dict[str, Any] = copy.deepcopy(_START)
        self._slot: dict[str, Any] = {"channel": "main", "server": "", "key": ""}
        self._push_state, self._push_message, self._sent = "stopped", "", 0
        self._nonces: dict[str, float] = {}
        self._booted = time.monotonic()
        self._server: _Server | None = None
        self._loop = asyncio.new_event_loop()
        self._push_task: asyncio.Task[None] | None = None
        self._stopping = False
        self._thread = threading.Thread(target=self._run_loop, daemon=True)

    # Power

    def start(self) -> None:
        """Switches on. Raises OSError when the port is taken."""
        self._open()
        self._thread.start()

    def stop(self) -> None:
        """Switches off: the push ends in good order, the port closes."""
        self._stopping = True
        self._end_push()
        self._close()
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    def _run_loop(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_forever()
        left = asyncio.all_tasks(self._loop)
        for task in left:
            task.cancel()
        self._loop.run_until_complete(asyncio.gather(*left, return_exceptions=True))
        self._loop.close()

    def _open(self) -> None:
        device = self

        class Handler(_Handler):
            owner = device

        self._server = _Server(("127.0.0.1", self.port), Handler)
        self.port = self._server.server_address[1]
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()

    def _close(self) -> None:
        server, self._server = self._server, None
        if server is not None:
            server.shutdown()
            server.server_close()
            server.hang_up()

    def restart(self) -> None:
        """Goes away for two seconds; then what was saved is in force, and the push is off."""
        threading.Thread(target=self._restart, daemon=True).start()

    def _restart(self) -> None:
        time.sleep(0.1)  # lets the answer out
        self._end_push()
        self._close()
        if self.faults.never_returns:
            return
        time.sleep(RESTART_SECONDS)
        with self._lock:
            self._active = copy.deepcopy(self._saved)
            self._booted = time.monotonic()
        for _ in range(50):  # somebody may hold the port for a moment
            if self._stopping:
                return
            try:
                self._open()
                return
            except OSError:
                time.sleep(0.1)

    # State

    def state(self) -> dict[str, Any]:
        """What GET /api/v1/state answers."""
        with self._lock:
            uptime = time.monotonic() - self._booted
            return {
                "model": MODEL, "firmware": FIRMWARE, "uptime_s": round(uptime), "input": _INPUT,
                "temperature_c": round(44.5 + 3.0 * min(1.0, uptime / 600), 1),
                "restart_needed": self._active != self._saved, "channels": copy.deepcopy(self._saved),
                "push": [{
                    "slot": 1, "channel": self._slot["channel"], "server": self._slot["server"],
                    "key_length": len(self._slot["key"]), "state": self._push_state, "message": self._push_message,
                    "sent_bytes": self._sent,
                }],
            }  # fmt: skip

    def patch(self, channel: str, changes: dict[str, Any]) -> tuple[int, dict[str, Any]]:
        """What PATCH /api/v1/channels/CHANNEL does."""
        with self._lock:
            wanted = copy.deepcopy(self._saved[channel])
            refused = []
            for group, fields in changes.items():
                known = _LIMITS.get(group)
                if known is None or not isinstance(fields, dict):
                    refused.append({"field": str(group), "reason": "no such group of settings"})
                    continue
                for name, value in fields.items():
                    reason = _refusal(name, value, known)
                    if reason:
                        refused.append({"field": f"{group}.{name}", "reason": reason})
                    elif f"{group}.{name}" not in self.faults.sticky:
                        wanted[group][name] = value
            refused += [] if refused else _combination(wanted)
            if refused:
                return 422, {"refused": refused}
            self._saved[channel] = wanted
            return 200, {"restart_needed": self._active != self._saved}

    def put_slot(self, body: dict[str, Any]) -> tuple[int, dict[str, Any]]:
        """What PUT /api/v1/push/1 does; it takes effect at the next start of the push."""
        channel, server, key = (body.get(name) for name in ("channel", "server", "key"))
        if channel not in self._saved:
            return 422, {"refused": [{"field": "channel", "reason": "expected main or second"}]}
        if not isinstance(server, str) or len(server) > 255:
            return 422, {"refused": [{"field": "server", "reason": "expected an address of at most 255 characters"}]}
        if not isinstance(key, str) or len(key) > 255:
            return 422, {"refused": [{"field": "key", "reason": "expected a key of at most 255 characters"}]}
        with self._lock:
            self._slot = {"channel": channel, "server": server, "key": key}
        return 200, {}

    # Push

    def start_push(self) -> tuple[int, dict[str, Any]]:
        """What POST /api/v1/push/1/start does."""
        with self._lock:
            if not self._slot["server"] or not self._slot["key"]:
                return 409, {"refused": [{"field": "push", "reason": "the slot has no server address or no key"}]}
            if self._push_task is None:
                self._push_state, self._push_message, self._sent = "connecting", "", 0
                done = threading.Event()

                def begin() -> None:
                    self._push_task = self._loop.create_task(self._push())
                    done.set()

                self._loop.call_soon_threadsafe(begin)
                done.wait(2)
        return 200, {}

    def stop_push(self) -> tuple[int, dict[str, Any]]:
        """What POST /api/v1/push/1/stop does."""
        self._end_push()
        return 200, {}

    def _end_push(self) -> None:
        task = self._push_task
        if task is not None:
            self._loop.call_soon_threadsafe(task.cancel)
            deadline = time.monotonic() + 3
            while not task.done() and time.monotonic() < deadline:
                time.sleep(0.01)
        with self._lock:
            self._push_task = None
            self._push_state, self._push_message = "stopped", ""

    async def _push(self) -> None:
        while True:
            with self._lock:
                slot, settings = dict(self._slot), copy.deepcopy(self._active[self._slot["channel"]])
                self._push_state = "connecting"
            try:
                server = address.parse(slot["server"])
                publisher = transport(server.scheme).publisher(server, Secret(slot["key"]), tls=_unchecked())
                await push(publisher, Programme(*_settings(settings, mute=self.faults.mute)), self._progress)
            except (PublishError, AddressError, BitstreamError) as error:
                with self._lock:
                    self._push_state, self._push_message = "retrying", str(error)
            await asyncio.sleep(RETRY_SECONDS)

    def _progress(self, sent: int) -> None:
        self._sent = sent
        self._push_state, self._push_message = "pushing", ""

    # Login (RFC 7616)

    def challenge(self, stale: bool) -> str:
        """A WWW-Authenticate value with a fresh nonce."""
        now = time.monotonic()
        with self._lock:
            self._nonces = {nonce: born for nonce, born in self._nonces.items() if now - born < 300}
            nonce = os.urandom(16).hex()
            self._nonces[nonce] = now
        return f'Digest realm="{REALM}", qop="auth", algorithm=MD5, nonce="{nonce}"' + (", stale=true" if stale else "")

    def admits(self, method: str, header: str) -> tuple[bool, bool]:
        """Whether an Authorization value is right, and whether only its nonce is old."""
        if not header.lower().startswith("digest "):
            return False, False
        fields = {name: a or b for name, a, b in re.findall(r'(\w+)=(?:"([^"]*)"|([^\s,]+))', header)}

        def md5(text: str) -> str:
            return hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()

        first = md5(f"{self._user}:{REALM}:{self._password}")
        second = md5(f"{method}:{fields.get('uri', '')}")
        parts = [first, *(fields.get(name, "") for name in ("nonce", "nc", "cnonce", "qop")), second]
        right = fields.get("username") == self._user and fields.get("response") == md5(":".join(parts))
        known = fields.get("nonce") in self._nonces
        return right and known, right and not known


def _unchecked() -> ssl.SSLContext:
    """The unit takes any certificate, as many encoders do."""
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def _refusal(name: str, value: Any, known: dict[str, Any]) -> str | None:
    limit = known.get(name)
    if limit is None:
        return "no such setting"
    if isinstance(limit, list):
        if name == "codec" and value == "H.265":
            return "this unit has no H.265 option"
        if name == "frame_rate" and value not in limit:
            return f"the input is {_INPUT_RATE} fps; the unit passes on {_list(limit)} fps"
        return None if value in limit else f"expected {_list(limit)}"
    if isinstance(value, bool) or not isinstance(value, int):
        return "expected a whole number"
    return None if limit["min"] <= value <= limit["max"] else f"expected {limit['min']} to {limit['max']}"


def _list(values: list[Any]) -> str:
    words = [f"{v:g}" if isinstance(v, float) else str(v) for v in values]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"


def _combination(channel: dict[str, Any]) -> list[dict[str, str]]:
    """What the settings refuse together."""
    video = channel["video"]
    if video["size"] == "2560x1440" and video["frame_rate"] > 30:
        return [{"field": "video.frame_rate", "reason": "2560x1440 is coded at 30 fps at most"}]
    try:
        card, audio = _settings(channel, mute=False)
        TestCard(card)
        if audio:
            ToneWriter(audio.sample_rate, audio.channels, audio.bitrate)
    except BitstreamError as error:
        return [{"field": "video.bitrate_kbps", "reason": str(error)}]
    return []


def _settings(channel: dict[str, Any], *, mute: bool) -> tuple[CardSettings, AudioSettings | None]:
    video, audio = channel["video"], channel["audio"]
    width, height = map(int, video["size"].split("x"))
    card = CardSettings(
        width, height, exact_rate(video["frame_rate"]), video["keyframe_frames"], _PROFILES[video["profile"]],
        video["bitrate_kbps"], video["rate_control"].lower(),
    )  # fmt: skip
    if not audio["enabled"]:
        return card, None
    return card, AudioSettings(audio["sample_rate"], audio["channels"], audio["bitrate_kbps"], tone=not mute)


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    allow_reuse_address = True

    def __init__(self, *args: Any) -> None:
        self._connections: set[socket.socket] = set()
        super().__init__(*args)

    def process_request(self, request: Any, client_address: Any) -> None:
        request.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._connections.add(request)
        super().process_request(request, client_address)

    def shutdown_request(self, request: Any) -> None:
        self._connections.discard(request)
        super().shutdown_request(request)

    def hang_up(self) -> None:
        """Ends the connections that are still open."""
        for connection in list(self._connections):
            with contextlib.suppress(OSError):
                connection.shutdown(socket.SHUT_RDWR)

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A client that goes away in the middle is no news."""


class _Handler(BaseHTTPRequestHandler):
    owner: BrindleB2
    protocol_version = "HTTP/1.1"
    timeout = 10

    def log_message(self, format: str, *args: Any) -> None:
        """The device keeps no log."""

    def _answer(self, status: int, body: dict[str, Any], headers: dict[str, str] | None = None) -> None:
        if self.owner.faults.not_json and status == 200:
            raw, kind = b"<html><body>Please wait</body></html>", "text/html"
        else:
            raw, kind = json.dumps(body).encode(), "application/json"
        self.send_response(status)
        for name, value in (headers or {}).items():
            self.send_header(name, value)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(raw)))
        self.end_headers()
        self.wfile.write(raw)

    def _handle(self) -> None:
        size = int(self.headers.get("Content-Length") or 0)
        raw = self.rfile.read(size) if size <= 65536 else b""
        right, stale = self.owner.admits(self.command, self.headers.get("Authorization", ""))
        if not right:
            self._answer(401, {"error": "login wanted"}, {"WWW-Authenticate": self.owner.challenge(stale)})
            return
        try:
            body = json.loads(raw) if raw else {}
        except ValueError:
            body = None
        if not isinstance(body, dict):
            self._answer(400, {"error": "expected a JSON object"})
            return
        self._answer(*self._route(body))

    def _route(self, body: dict[str, Any]) -> tuple[int, dict[str, Any]]:
        device = self.owner
        request = f"{self.command} {self.path}"
        if request == "GET /api/v1/state":
            return 200, device.state()
        if request == "GET /api/v1/limits":
            return 200, copy.deepcopy(_LIMITS)
        if request == "PUT /api/v1/push/1":
            return device.put_slot(body)
        if request == "POST /api/v1/push/1/start":
            return device.start_push()
        if request == "POST /api/v1/push/1/stop":
            return device.stop_push()
        if request == "POST /api/v1/restart":
            device.restart()
            return 202, {}
        channel = self.path.removeprefix("/api/v1/channels/")
        if self.command == "PATCH" and channel in _START:
            return device.patch(channel, body)
        return 404, {"error": "no such resource"}

    do_GET = do_PUT = do_POST = do_PATCH = _handle  # noqa: N815
