"""A simulated camera of the open standard: what it is set to, what it offers, and who may ask; what it answers is in onvif.py.

Its habits are those of real ones: it tells its own address in every answer, its clock may be wrong, a factory-new one does
nothing before a first password is set, and it takes the login in the way it was set to.
"""

from __future__ import annotations

import asyncio
import contextlib
import datetime
import io
import time
from dataclasses import dataclass, field, replace
from fractions import Fraction
from urllib.parse import quote

from direkt.codec.programme import AudioSettings, Programme, exact_rate
from direkt.codec.testcard import CardSettings
from direkt.protocol.rtsp import messages as rtsp_messages
from direkt.sim.beacon import Beacon
from direkt.sim.photographs import Photographs
from direkt.sim.rtsp import RtspServer, Show
from direkt.sim.unit import PushTarget, SimulatedUnit
from direkt.sim.web import Faults, WebRequest, WebResponse

_RTSP_AHEAD = 74  # of the page's port: the port of the streams, so that it is the same each time
_AAC_RATES = {16: 16000, 32: 32000, 44: 44100, 48: 48000}


@dataclass(frozen=True, slots=True)
class EncodingOffer:
    """What one encoding can be set to."""

    codec: str  # H264, H265, JPEG
    sizes: tuple[tuple[int, int], ...]
    rates: tuple[float, ...]
    gov: tuple[int, int]
    bitrate: tuple[int, int]
    profiles: tuple[str, ...] = ("Main",)
    constant: bool = True


@dataclass(frozen=True, slots=True)
class SoundOffer:
    """What one audio encoding can be set to; rates in kHz."""

    codec: str  # AAC, G711
    bitrates: tuple[int, ...]
    rates: tuple[int, ...]


@dataclass(slots=True)
class Coder:
    """A video encoder."""

    token: str
    codec: str
    size: tuple[int, int]
    rate: float
    bitrate: int
    gov: int
    profile: str
    constant: bool = False
    quality: float = 4.0
    timeout: str = "PT60S"  # of a session
    multicast: tuple[str, int, int, bool] = ("0.0.0.0", 0, 1, False)  # address, port, hops, whether it starts by itself


@dataclass(slots=True)
class ProfileStream:
    """A profile with its video encoder."""

    token: str
    name: str
    coder: Coder
    offers: tuple[EncodingOffer, ...]
    sound: bool = False


@dataclass(slots=True)
class CameraSound:
    """The audio encoder that the profiles share."""

    codec: str = "G711"
    bitrate: int = 64
    rate: int = 8  # kHz
    timeout: str = "PT60S"
    multicast: tuple[str, int, int, bool] = ("0.0.0.0", 0, 1, False)


@dataclass(slots=True)
class Make:
    """What a camera is at delivery."""

    maker: str
    model: str
    firmware: str
    sensor: tuple[int, int]
    sensor_rate: float
    streams: list[ProfileStream]
    sound_offers: tuple[SoundOffer, ...] = ()
    media2: bool = True
    presets: dict[str, str] = field(default_factory=dict)  # token: name


class Camera(SimulatedUnit):
    """One camera. An empty ``password`` makes it factory-new."""

    def __init__(
        self, make: Make, user: str, password: str, *, name: str = "", port: int = 0, faults: Faults | None = None,
        schemes: tuple[str, ...] = ("digest SHA-256", "digest MD5"), serial: str = "LV-0001", host: str = "127.0.0.1",
    ) -> None:  # fmt: skip
        super().__init__(make.model, user, password, port=port, faults=faults, schemes=schemes, host=host)
        self.make, self.name, self.serial = make, name or make.model, serial
        self.firmware = make.firmware
        self.streams = {stream.token: _copy(stream) for stream in make.streams}
        self.sound = CameraSound()
        self.presets = dict(make.presets)
        self.position = next(iter(make.presets), "")
        self.clock_ahead = 0.0  # s
        self.by_ntp = False
        self.ntp: tuple[str, ...] = ("192.0.2.123",)
        self.zone = "UTC0"
        self.dhcp, self.address, self.prefix = False, host, 8
        self.gateway = "127.0.0.254"
        self.dns: tuple[str, ...] = ("127.0.0.253",)
        self.picture = "live"  # or black
        self.bounds = (0, 0, *make.sensor)
        self.calls: list[str] = []  # what was asked, for tests
        self.beacon = Beacon(self.told)
        self.rtsp = RtspServer(self.show, self._rtsp_challenges, name=self.name)

    def start(self) -> None:
        """Switches on, and answers probes. Raises OSError."""
        super().start()
        with contextlib.suppress(OSError):  # a machine without multicast
            self.beacon.start()

    def stop(self) -> None:
        """Switches off."""
        self.beacon.stop()
        super().stop()

    def open_ports(self) -> None:
        """Its streams too are at the port that they had before. Raises OSError."""
        super().open_ports()
        for port in (self.rtsp.port or self.port + _RTSP_AHEAD, 0):
            try:
                asyncio.run_coroutine_threadsafe(self.rtsp.start(self.host, port), self._loop).result(5)
                return
            except OSError:
                continue

    def close_ports(self) -> None:
        """Whoever fetches a stream is cut off."""
        with contextlib.suppress(RuntimeError, TimeoutError):
            asyncio.run_coroutine_threadsafe(self.rtsp.stop(), self._loop).result(5)
        super().close_ports()

    def told(self) -> tuple[list[str], list[str]] | None:
        """Scopes and addresses; nothing while it restarts."""
        start = "onvif://www.onvif.org/"
        named = (
            ("type", "video_encoder"),
            ("hardware", self.make.model),
            ("name", self.name),
            ("location", "Lake Varn"),
        )
        scopes = [f"{start}{kind}/{quote(text)}" for kind, text in named]
        profiles = [f"{start}Profile/Streaming"] + ([f"{start}Profile/T"] if self.make.media2 else [])
        return (scopes + profiles, [f"http://{self.host}:{self.port}/onvif/device_service"]) if self.is_on else None

    def restarted(self) -> None:
        """A camera saves what it is set to at once."""
        if self.faults.forgets:
            self.streams = {stream.token: _copy(stream) for stream in self.make.streams}

    def now(self) -> datetime.datetime:
        """Its clock."""
        return datetime.datetime.fromtimestamp(time.time() + self.clock_ahead, datetime.UTC)

    def target(self) -> PushTarget:
        """A plain camera has no push of its own."""
        raise NotImplementedError

    def programme(self, token: str) -> tuple[CardSettings, AudioSettings | None]:
        """What a stream carries, the same when it is pushed and when it is fetched."""
        stream = self.streams[token]
        coder = stream.coder
        profile = "main" if coder.codec == "H265" else coder.profile.lower()
        card = CardSettings(
            *coder.size, exact_rate(coder.rate) if coder.rate else Fraction(25), coder.gov, profile, coder.bitrate,
            "cbr" if coder.constant else "vbr",
        )  # fmt: skip
        if not stream.sound:
            return card, None
        tone = not self.faults.mute
        if self.sound.codec == "AAC":
            rate = _AAC_RATES.get(self.sound.rate, 48000)
            return card, AudioSettings(rate, 2, self.sound.bitrate, tone=tone)
        return card, AudioSettings(8000, 1, 64, tone=tone, codec="g711u")

    def show(self, path: str) -> Show | None:
        """What it gives out at a path: that of a profile."""
        token = path.strip("/").partition("?")[0]
        if token not in self.streams:
            return None
        with self._lock:
            video, audio = self.programme(token)
            codec = self.streams[token].coder.codec
        if codec == "JPEG":
            return Photographs(self.jpeg, video.frame_rate)
        return Programme(video, audio, {"H265": "h265"}.get(codec, "h264"))

    def _rtsp_challenges(self, asked: rtsp_messages.RtspRequest) -> tuple[str, ...]:
        if asked.method == "OPTIONS" or not self.login.page_schemes:
            return ()
        right, stale = self.login.check(WebRequest(asked.method, asked.url, "", asked.headers, asked.body))
        return () if right else tuple(value for _, value in self.login.challenges(stale=stale))

    # Who may ask

    def answer(self, request: WebRequest) -> WebResponse:
        """Pictures, and the firmware's upload."""
        admitted = self.admits(request)
        return self.page(request) if admitted else admitted.refusal

    def page(self, request: WebRequest) -> WebResponse:
        """What is no SOAP."""
        if request.path.startswith("/picture/"):
            return WebResponse(200, self.jpeg(), "image/jpeg")
        if request.path.startswith("/upgrade/"):
            return self._upgrade(request.body)
        return WebResponse(404, b"no such page")

    def admits(self, request: WebRequest) -> _Admitted:
        """Whether the login is right, and the refusal if not."""
        right, stale = self.login.check(request)
        return _Admitted(right, WebResponse(401, b"login wanted", headers=self.login.challenges(stale=stale)))

    # Pictures and firmware

    def jpeg(self) -> bytes:
        """What it sees now: its name and the time on a made-up lake; or black."""
        from PIL import Image, ImageDraw

        width, height = 640, 360
        image = Image.new("RGB", (width, height), (0, 0, 0))
        if self.picture != "black":
            draw = ImageDraw.Draw(image)
            for y in range(height):
                shade = 255 - y * 200 // height
                draw.line(
                    [(0, y), (width, y)],
                    fill=(shade // 3, shade // 2, shade) if y < 150 else (20, 60 + y // 6, 70 + y // 5),
                )
            draw.polygon([(0, 150), (130, 70), (270, 140), (400, 50), (width, 150)], fill=(40, 70, 60))
            at = int(self.now().timestamp() * 40) % width
            draw.polygon([(at, 230), (at + 90, 230), (at + 75, 242), (at + 12, 242)], fill=(200, 60, 40))
            draw.text((12, 12), self.name, fill=(255, 255, 255), font_size=28)
            draw.text((12, height - 30), f"{self.now():%Y-%m-%d %H:%M:%S}", fill=(255, 255, 255), font_size=16)
        out = io.BytesIO()
        image.save(out, "JPEG", quality=85)
        return out.getvalue()

    def _upgrade(self, body: bytes) -> WebResponse:
        first, _, rest = body.partition(b"\n")
        words = first.decode("latin-1").rsplit(" ", 1)
        if not first.startswith(b"unit-image ") or len(words) != 2 or not rest:
            return WebResponse(400, b"this is not a firmware file")
        model = words[0].removeprefix("unit-image ")
        if model != self.make.model:
            return WebResponse(400, f"this file is for {model}, this is {self.make.model}".encode())
        self.firmware = words[1]
        self.restart()
        return WebResponse(200)

    def move(self) -> None:
        """Goes to its new address, if that is one of the loopback network; by DHCP to 127.0.0.77. It takes a moment."""
        if self.dhcp:
            self.address, self.prefix = "127.0.0.77", 8
        if self.address.startswith("127."):
            self.web.host = self.address
        self.restart()


@dataclass(frozen=True, slots=True)
class _Admitted:
    right: bool
    refusal: WebResponse

    def __bool__(self) -> bool:
        return self.right


def _copy(stream: ProfileStream) -> ProfileStream:
    return replace(stream, coder=replace(stream.coder))


def firmware_file(model: str, version: str, size: int = 200_000) -> bytes:
    """A file with which simulated gear can be updated."""
    return f"unit-image {model} {version}\n".encode() + bytes(n % 251 for n in range(size))
