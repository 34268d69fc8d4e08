"""The Kelpie H1, a simulated camcorder: no interface, three presets, and a menu that somebody types into.

Its traps: it pushes 720p or 540p only, by the preset; while it records UHD it does not push; and what is typed is taken as it is,
with a doubled scheme or a space behind it. Its port on the loopback interface stands for the hands at its menu.
"""

from __future__ import annotations

import json
from fractions import Fraction

from direkt.codec.programme import AudioSettings
from direkt.codec.testcard import CardSettings
from direkt.protocol.address import AddressError, ServerAddress, is_host, split_place
from direkt.sim.unit import PushTarget, SimulatedUnit
from direkt.sim.web import Faults, WebRequest, WebResponse

MODEL = "Kelpie H1"
PRESETS = {"A 720/25": (1280, 720, 25, 2400), "B 720/50": (1280, 720, 50, 3600), "C 540/25": (960, 540, 25, 1400)}
_LIVE = ("MENU", "NETWORK", "LIVE")
_PLACES = {
    (*_LIVE, "QUALITY"): "preset", (*_LIVE, "SERVER URL"): "server", (*_LIVE, "STREAM ID"): "key", ("MENU", "AUDIO", "LIVE AUDIO"): "audio",
    ("MENU", "RECORD", "FORMAT"): "recording", (*_LIVE, "START"): "run",
}  # fmt: skip
_CHOICES = {"preset": tuple(PRESETS), "audio": ("ON", "MUTE"), "recording": ("HD", "UHD"), "run": ("START", "STOP")}
_LONGEST = {"server": 96, "key": 48}


class Kelpie(SimulatedUnit):
    """One camcorder."""

    def __init__(self, *, port: int = 0, faults: Faults | None = None) -> None:
        super().__init__(MODEL, "", "", port=port, faults=faults)
        self.entered = {"preset": "C 540/25", "server": "", "key": "", "audio": "MUTE", "recording": "UHD"}

    def restarted(self) -> None:
        """It keeps what was typed."""

    def target(self) -> PushTarget:
        """What is typed, with what the preset makes."""
        e = self.entered
        width, height, rate, bitrate = PRESETS[e["preset"]]
        card = CardSettings(width, height, Fraction(rate), rate, "main", bitrate, "cbr")
        return PushTarget(
            e["server"], e["key"], card, AudioSettings(48000, 2, 128, tone=e["audio"] == "ON" and not self.faults.mute)
        )

    def server_of(self, text: str) -> ServerAddress:
        """As it was typed, right or wrong: what stands behind the host is the application, with a slash at its end too."""
        scheme, _, rest = text.partition("://")
        place, _, app = rest.partition("/")
        host, port = split_place(place)
        if scheme != "rtmp" or not is_host(host):
            raise AddressError("CANNOT FIND THE SERVER")
        return ServerAddress(scheme, host, port or 1935, app)

    def answer(self, request: WebRequest) -> WebResponse:
        """POST /hands: places of the menu and what is typed there, in turn. Anybody at it may."""
        if (request.method, request.path) == ("GET", "/hands"):
            return self._screen(200, self.push_message or self.push_state.upper())
        if (request.method, request.path) != ("POST", "/hands"):
            return WebResponse(404)
        try:
            entries = [(tuple(entry["path"]), str(entry["value"])) for entry in json.loads(request.body)["entries"]]
        except (ValueError, KeyError, TypeError):
            return self._screen(400, "NOTHING WAS TYPED")
        for path, value in entries:
            wrong = self.type(path, value)
            if wrong:
                return self._screen(409, wrong)
        return self._screen(200, self.push_state.upper())

    @staticmethod
    def _screen(status: int, words: str) -> WebResponse:
        return WebResponse(status, json.dumps({"screen": words}).encode(), "application/json")

    def type(self, path: tuple[str, ...], value: str) -> str:
        """One place of the menu; what its screen complains of, or nothing."""
        name = _PLACES.get(path)
        if name is None:
            return f"NO SUCH MENU: {' > '.join(path)}"
        if name in _CHOICES and value not in _CHOICES[name]:
            return f"{path[-1]}: CHOOSE {', '.join(_CHOICES[name])}"
        if name == "run":
            return self._run(value == "START")
        with self._lock:
            self.entered[name] = value[: _LONGEST.get(name, 99)]
        return ""

    def _run(self, start: bool) -> str:
        if not start:
            self.end_push()
            return ""
        if self.entered["recording"] == "UHD":
            return "NO LIVE WHILE RECORDING UHD"
        if not self.entered["server"] or not self.entered["key"]:
            return "SERVER URL OR STREAM ID IS EMPTY"
        self.end_push()
        self.begin_push()
        return ""
