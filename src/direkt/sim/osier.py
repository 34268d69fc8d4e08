"""The Osier 20, a simulated PTZ camera: the open standard (Media and Media2), and a page of its own for the push.

Its traps: a sensor and a factory setting of 4:3, no sound, H.265 on the main stream, a mode that adapts the codec to the
scene (longer groups, less bitrate), and a push that only firmware 3.1 and later has.
"""

from __future__ import annotations

from dataclasses import replace
from urllib.parse import parse_qs, urlsplit

from direkt.codec.bits import BitstreamError
from direkt.codec.programme import AudioSettings
from direkt.codec.testcard import CardSettings
from direkt.sim.camera import Coder, EncodingOffer, Make, ProfileStream, SoundOffer
from direkt.sim.onvif import OnvifCamera
from direkt.sim.unit import PushTarget
from direkt.sim.web import Faults, WebRequest, WebResponse

MODEL = "Osier 20"
_WIDE = ((2592, 1944), (1920, 1440), (1920, 1080), (1280, 960), (1280, 720), (960, 540))
_SMALL = ((960, 540), (640, 480), (640, 360))
_RATES = (1.0, 5.0, 6.25, 10.0, 12.5, 20.0, 25.0, 50.0)


def make() -> Make:
    """What it is at delivery."""
    main = (
        EncodingOffer("H264", _WIDE, _RATES, (1, 250), (256, 12000), ("Baseline", "Main", "High")),
        EncodingOffer("H265", _WIDE, _RATES, (1, 250), (256, 12000), ("Main",)),
    )
    second = (
        EncodingOffer("H264", _SMALL, _RATES[:-1], (1, 250), (64, 2000), ("Baseline", "Main")),
        EncodingOffer("JPEG", _SMALL, _RATES[:4], (1, 1), (64, 8000)),
    )
    return Make(
        "Lakeside Optics", MODEL, "3.2.0", (2592, 1944), 50.0,
        [
            ProfileStream("p-main", "First stream", Coder("v-main", "H265", (1920, 1440), 20.0, 8000, 100, "Main"), main),
            ProfileStream("p-second", "Second stream", Coder("v-second", "H264", (640, 480), 10.0, 512, 20, "Baseline"), second),
        ],
        (SoundOffer("AAC", (32, 64, 96, 128, 160), (16, 32, 44, 48)), SoundOffer("G711", (64,), (8,))),
        presets={"p1": "Start line", "p2": "Pontoon", "p3": "Whole course"},
    )  # fmt: skip


class Osier(OnvifCamera):
    """One camera with its push page."""

    def __init__(
        self, user: str, password: str, *, name: str = "", port: int = 0, faults: Faults | None = None,
        schemes: tuple[str, ...] = ("digest SHA-256", "digest MD5"), host: str = "127.0.0.1",
    ) -> None:  # fmt: skip
        super().__init__(make(), user, password, name=name, port=port, faults=faults, schemes=schemes, host=host)
        self.adaptive = True
        self.push_to, self.push_stream = "", "p-main"

    @property
    def can_push(self) -> bool:
        """From firmware 3.1 on."""
        return tuple(int(part) for part in self.firmware.split(".")[:2]) >= (3, 1)

    def restarted(self) -> None:
        """Some units forget."""
        super().restarted()
        if self.faults.forgets:
            self.push_to, self.adaptive = "", True

    def target(self) -> PushTarget:
        """The push address with what the stream is set to; the adaptive mode has its way with it."""
        server, _, key = self.push_to.rpartition("/")
        if self.streams[self.push_stream].coder.codec != "H264":
            raise BitstreamError("RTMP carries H.264 only")
        video, audio = self.programme(self.push_stream)
        return PushTarget(server, key, video, audio if audio is None or audio.codec == "aac" else None)

    def programme(self, token: str) -> tuple[CardSettings, AudioSettings | None]:
        """What the stream is set to; the adaptive mode has its way with it."""
        video, audio = super().programme(token)
        if self.adaptive:
            video = replace(
                video, keyframe_interval=min(video.keyframe_interval * 4, 600), bitrate=max(300, (video.bitrate or 0) // 2),
                rate_control="vbr",
            )  # fmt: skip
        return video, audio

    def page(self, request: WebRequest) -> WebResponse:
        """``/unit/push`` in lines of name=value; changes come as a form."""
        if request.path != "/unit/push":
            return super().page(request)
        if not self.can_push:
            return WebResponse(404, b"no such page")
        if request.method == "POST":
            refused = self._change(
                {
                    name: said[-1]
                    for name, said in parse_qs(request.body.decode("utf-8", "replace"), keep_blank_values=True).items()
                }
            )
            if refused:
                return WebResponse(400, refused.encode())
        lines = {
            "version": "1", "address": self.push_to, "stream": "1" if self.push_stream == "p-main" else "2",
            "run": "on" if self.push_state != "stopped" else "off", "condition": self.push_state, "note": self.push_message,
            "bytes": str(self.sent), "adaptive": "on" if self.adaptive else "off", "heat": str(self.temperature),
        }  # fmt: skip
        return WebResponse(200, "".join(f"{name}={value}\r\n" for name, value in lines.items()).encode())

    def _change(self, said: dict[str, str]) -> str:
        """What is wrong with a form; empty: it was taken."""
        for name, value in said.items():
            if (
                name == "address"
                and value
                and (urlsplit(value).scheme not in ("rtmp", "rtmps") or value.count("/") < 4)
            ):
                return "address: expected rtmp://host/application/name"
            if name in ("run", "adaptive") and value not in ("on", "off"):
                return f"{name}: expected on or off"
            if name == "stream" and value not in ("1", "2"):
                return "stream: expected 1 or 2"
            if name not in ("address", "stream", "run", "adaptive"):
                return f"{name}: no such field"
        with self._lock:
            self.push_to = said.get("address", self.push_to)
            if "stream" in said:
                self.push_stream = "p-main" if said["stream"] == "1" else "p-second"
            if "adaptive" in said and "adaptive" not in self.faults.sticky:
                self.adaptive = said["adaptive"] == "on"
        if said.get("run") == "on":
            if not self.push_to:
                return "run: there is no address"
            self.begin_push()
        elif said.get("run") == "off":
            self.end_push()
        return ""
