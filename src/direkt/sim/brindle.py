"""The Brindle B2, a simulated hardware encoder: an HTTP device with a JSON API, digest login, and a real RTMP push.

Its habits are those that trip people up: the keyframe interval is in frames, settings are accepted and shown at
once but reach the stream only after a restart, and a restart takes two seconds and drops the push.
"""

from __future__ import annotations

import asyncio
import contextlib
import copy
import json
from typing import Any

from direkt.codec.aac_writer import ToneWriter
from direkt.codec.bits import BitstreamError
from direkt.codec.programme import AudioSettings, Programme, exact_rate
from direkt.codec.testcard import CardSettings, TestCard
from direkt.sim.offer import APP, RtmpOffer
from direkt.sim.rtsp import Show
from direkt.sim.unit import PushTarget, SimulatedUnit
from direkt.sim.web import Faults, WebRequest, WebResponse

MODEL, FIRMWARE = "Brindle B2", "2.4.1"
_OFFER_AHEAD = 75  # of the page's port: the port of the streams, so that it is the same each time
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


class BrindleB2(SimulatedUnit):
    """One device. start() opens its port on the loopback interface, stop() switches it off."""

    def __init__(self, user: str, password: str, *, port: int = 0, faults: Faults | None = None) -> None:
        super().__init__(MODEL, user, password, port=port, faults=faults)
        self.firmware, self.fan = FIRMWARE, "turning"
        self._active: dict[str, Any] = copy.deepcopy(_START)
        self._saved: dict[str, Any] = copy.deepcopy(_START)
        self._slot: dict[str, Any] = {"channel": "main", "server": "", "key": ""}
        self.offer = RtmpOffer(self.show)

    def open_ports(self) -> None:
        """Its streams too are at the port that they had before. Raises OSError."""
        super().open_ports()
        for port in (self.offer.port or self.port + _OFFER_AHEAD, 0):
            try:
                asyncio.run_coroutine_threadsafe(self.offer.start(self.host, port), self._loop).result(5)
                return
            except OSError:
                continue

    def close_ports(self) -> None:
        """Whoever fetches a stream is cut off."""
        with contextlib.suppress(RuntimeError, TimeoutError):
            asyncio.run_coroutine_threadsafe(self.offer.stop(), self._loop).result(5)
        super().close_ports()

    def show(self, name: str) -> Show | None:
        """What a channel gives out: what is in force, not what was saved."""
        with self._lock:
            settings = self._active.get(name)
        return Programme(*_settings(settings, mute=self.faults.mute)) if settings is not None else None

    def restarted(self) -> None:
        """What was saved comes into force."""
        if self.faults.forgets:
            self._saved = copy.deepcopy(_START)
        self._active = copy.deepcopy(self._saved)

    # State

    def state(self) -> dict[str, Any]:
        """What GET /api/v1/state answers."""
        with self._lock:
            return {
                "model": MODEL, "firmware": self.firmware, "uptime_s": round(self.uptime), "input": _INPUT,
                "temperature_c": self.temperature, "memory_free_percent": 61, "fan": self.fan,
                "restart_needed": self._active != self._saved, "channels": copy.deepcopy(self._saved),
                "offered": {name: f"rtmp://{self.host}:{self.offer.port}/{APP}/{name}" for name in self._saved},
                "push": [{
                    "slot": 1, "channel": self._slot["channel"], "server": self._slot["server"],
                    "key_length": len(self._slot["key"]), "state": self.push_state, "message": self.push_message,
                    "sent_bytes": self.sent,
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
                    elif (path := f"{group}.{name}") not in self.faults.sticky:
                        wanted[group][name] = (
                            min(value, self.faults.clamps[path]) if path in self.faults.clamps else value
                        )
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
            self.begin_push()
        return 200, {}

    def stop_push(self) -> tuple[int, dict[str, Any]]:
        """What POST /api/v1/push/1/stop does."""
        self.end_push()
        return 200, {}

    def target(self) -> PushTarget:
        """The slot's address and key with the settings that are in force."""
        slot, settings = self._slot, self._active[self._slot["channel"]]
        return PushTarget(slot["server"], slot["key"], *_settings(settings, mute=self.faults.mute))

    # HTTP

    def answer(self, request: WebRequest) -> WebResponse:
        """Digest login, then JSON."""
        right, stale = self.login.check(request)
        if not right:
            return _json(401, {"error": "login wanted"}, self.login.challenges(stale=stale))
        try:
            is_file = request.headers.get("content-type", "").startswith("multipart/")
            body = json.loads(request.body) if request.body and not is_file else {}
        except ValueError:
            body = None
        if not isinstance(body, dict):
            return _json(400, {"error": "expected a JSON object"})
        status, found = self._route(request, body)
        if self.faults.not_json and status == 200:
            return WebResponse(200, b"<html><body>Please wait</body></html>", "text/html")
        return _json(status, found)

    def _route(self, request: WebRequest, body: dict[str, Any]) -> tuple[int, dict[str, Any]]:
        asked = f"{request.method} {request.path}"
        if asked == "GET /api/v1/state":
            return 200, self.state()
        if asked == "GET /api/v1/limits":
            return 200, copy.deepcopy(_LIMITS)
        if asked == "PUT /api/v1/push/1":
            return self.put_slot(body)
        if asked == "POST /api/v1/push/1/start":
            return self.start_push()
        if asked == "POST /api/v1/push/1/stop":
            return self.stop_push()
        if asked == "POST /api/v1/restart":
            self.restart()
            return 202, {}
        if asked == "POST /api/v1/firmware":
            return self._upgrade(request)
        channel = request.path.removeprefix("/api/v1/channels/")
        if request.method == "PATCH" and channel in _START:
            return self.patch(channel, body)
        return 404, {"error": "no such resource"}

    def _upgrade(self, request: WebRequest) -> tuple[int, dict[str, Any]]:
        """A form with the file in its field ``image``; the device looks into it before it takes it."""
        _, _, boundary = request.headers.get("content-type", "").partition("boundary=")
        part = (
            next((p for p in request.body.split(f"--{boundary}".encode()) if b'name="image"' in p), b"")
            if boundary
            else b""
        )
        words, _, rest = part.partition(b"\r\n\r\n")[2].partition(b"\n")
        model, _, version = words.decode("latin-1").removeprefix("unit-image ").rpartition(" ")
        if not words.startswith(b"unit-image ") or not rest:
            return 422, {"refused": [{"field": "image", "reason": "this is not a firmware file"}]}
        if model != MODEL:
            return 422, {"refused": [{"field": "image", "reason": f"this file is for {model}, this is {MODEL}"}]}
        self.firmware = version
        self.restart()
        return 202, {}


def _json(status: int, body: dict[str, Any], headers: tuple[tuple[str, str], ...] = ()) -> WebResponse:
    return WebResponse(status, json.dumps(body).encode(), "application/json", headers)


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
