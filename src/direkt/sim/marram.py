"""The Marram 360, a simulated camera that sees all around: an XML interface, a picture of 2:1, and basic login.

Its traps: the picture that a platform shows needs 2:1 only if it is marked as spherical, else the 16:9 cut; size and rate
are one field; bitrates are in Mbit/s; and while it records in UHD it does not push.
"""

from __future__ import annotations

import copy
import io
from typing import Any

from lxml import etree

from direkt.codec.programme import AudioSettings, exact_rate
from direkt.codec.testcard import CardSettings
from direkt.errors import Malformed
from direkt.protocol import tree
from direkt.sim.unit import PushTarget, SimulatedUnit
from direkt.sim.web import Faults, WebRequest, WebResponse

MODEL, FIRMWARE = "Marram 360", "4.0.2"
MODES = {
    "3840x1920/30": (3840, 1920, 30), "3840x1920/25": (3840, 1920, 25), "1920x960/30": (1920, 960, 30), "1920x960/25": (1920, 960, 25),
    "1920x1080/50": (1920, 1080, 50), "1920x1080/25": (1920, 1080, 25), "1280x720/50": (1280, 720, 50), "1280x720/25": (1280, 720, 25),
}  # fmt: skip
_START: dict[str, Any] = {
    "mode": "3840x1920/30", "mbps": 20.0, "gop": 5.0, "profile": "high", "sound": "off", "sound_rate": 48000, "sound_kbps": 128,
}  # fmt: skip


class Marram(SimulatedUnit):
    """One camera."""

    def __init__(self, user: str, password: str, *, port: int = 0, faults: Faults | None = None) -> None:
        super().__init__(MODEL, user, password, port=port, faults=faults, schemes=("basic",))
        self.now: dict[str, Any] = copy.deepcopy(_START)
        self.server, self.app, self.stream = "", "", ""
        self.server_port = 0
        self.recording = "off"  # off, hd or uhd

    def restarted(self) -> None:
        """It has no restart of its own; switched off and on it keeps what it was set to."""
        if self.faults.forgets:
            self.now = copy.deepcopy(_START)

    def target(self) -> PushTarget:
        """The test card in the chosen mode."""
        width, height, rate = MODES[self.now["mode"]]
        card = CardSettings(
            width, height, exact_rate(rate), round(self.now["gop"] * rate), self.now["profile"], round(self.now["mbps"] * 1000), "cbr"
        )  # fmt: skip
        audio = AudioSettings(self.now["sound_rate"], 2, self.now["sound_kbps"]) if self.now["sound"] == "on" else None
        return PushTarget(f"rtmp://{self.server}:{self.server_port or 1935}/{self.app}", self.stream, card, audio)

    def answer(self, request: WebRequest) -> WebResponse:
        """Basic login, then XML."""
        right, _ = self.login.check(request)
        if not right:
            return WebResponse(401, b"login wanted", headers=self.login.challenges())
        asked = f"{request.method} {request.path}"
        if asked == "GET /control/settings":
            return WebResponse(200, self._settings(), "text/xml")
        if asked == "PUT /control/settings":
            return self._change(request.body)
        if asked == "PUT /control/live":
            return self._live(request.body)
        if asked == "POST /control/scan":
            return self._scan(request.body)
        if request.method == "GET" and request.path == "/control/live/run":
            if request.query == "on=1":
                if self.recording == "uhd":
                    return self._error("live", "stop recording in UHD first")
                if not self.server:
                    return self._error("live", "no server")
                self.begin_push()
            else:
                self.end_push()
            return WebResponse(200, b"<ok/>", "text/xml")
        return WebResponse(404, b"<error field='path'>no such page</error>", "text/xml")

    def _scan(self, picture: bytes) -> WebResponse:
        """A picture of what stands in front of the lens: its code sets everything at once, or nothing."""
        import zxingcpp
        from PIL import Image, UnidentifiedImageError

        try:
            found = zxingcpp.read_barcodes(Image.open(io.BytesIO(picture)).convert("L"))
        except (UnidentifiedImageError, OSError):
            return self._error("picture", "this is no picture")
        text = next((code.text for code in found if code.text.startswith("MARRAM1;")), "")
        if not text:
            return self._error("picture", "no code of mine is in it")
        told = dict(part.partition("=")[::2] for part in text.split(";")[1:])
        try:
            wanted = {
                "mode": told["mode"], "mbps": float(told["rate"]), "gop": float(told["gop"]), "profile": told["profile"],
                "sound": told["sound"], "sound_rate": int(told["sampling"]), "sound_kbps": int(told["srate"]),
            }  # fmt: skip
            server, port, app, name = told["server"], int(told["port"]), told["app"], told["name"]
        except (KeyError, ValueError):
            return self._error("code", "something is missing in it")
        if wanted["mode"] not in MODES:
            return self._error("code", "no such mode")
        with self._lock:
            self.now |= wanted
            self.server, self.server_port, self.app, self.stream = server, port, app, name
        return WebResponse(200, b"<ok/>", "text/xml")

    @staticmethod
    def _error(field: str, words: str) -> WebResponse:
        root = etree.Element("error", {"field": field})
        root.text = words
        return WebResponse(409, etree.tostring(root), "text/xml")

    def _settings(self) -> bytes:
        space = "urn:example:marram"
        root = etree.fromstring(f'<camera xmlns="{space}" model="{MODEL}" firmware="{FIRMWARE}"/>')

        def add(parent: etree._Element, name: str, text: object = None, **attributes: str) -> etree._Element:
            made = etree.SubElement(parent, f"{{{space}}}{name}", attributes)
            if text is not None:
                made.text = str(text)
            return made

        add(root, "heat", self.temperature)
        add(root, "recording", self.recording)
        video = add(root, "video")
        add(video, "mode", self.now["mode"])
        add(video, "rate", f"{self.now['mbps']:g}", min="1", max="40")
        add(video, "gop", f"{self.now['gop']:g}")
        add(video, "profile", self.now["profile"])
        sound = add(root, "sound", state=self.now["sound"])
        add(sound, "rate", self.now["sound_rate"])
        add(sound, "kbps", self.now["sound_kbps"])
        live = add(root, "live", state=self.push_state, sent=str(self.sent))
        told = (("protocol", "rtmp"), ("server", self.server), ("port", self.server_port or ""), ("application", self.app),
                ("name-length", len(self.stream)), ("note", self.push_message))  # fmt: skip
        for name, text in told:
            add(live, name, text)
        return etree.tostring(root, xml_declaration=True, encoding="utf-8")

    def _change(self, body: bytes) -> WebResponse:
        try:
            root = tree.parse(body)
        except Malformed:
            return self._error("xml", "not well formed")
        wanted = dict(self.now)
        video, sound = tree.find(root, "video"), tree.find(root, "sound")
        mode = tree.text(video, "mode")
        if mode and mode not in MODES:
            return self._error("video/mode", "no such mode")
        wanted["mode"] = mode or wanted["mode"]
        for name, place, low, high in (("mbps", "rate", 1, 40), ("gop", "gop", 0.5, 10)):
            if (number := tree.number(tree.text(video, place) or "x")) is not None:
                if not low <= number <= high:
                    return self._error(f"video/{place}", f"{low} to {high}")
                wanted[name] = number
        profile = tree.text(video, "profile")
        if profile not in ("", "main", "high"):
            return self._error("video/profile", "main or high")
        wanted["profile"] = profile or wanted["profile"]
        state = tree.attribute(sound, "state")
        wanted["sound"] = state or wanted["sound"]
        for name, place, allowed in (
            ("sound_rate", "rate", (44100, 48000)),
            ("sound_kbps", "kbps", (96, 128, 160, 192)),
        ):
            if (number := tree.number(tree.text(sound, place) or "x")) is not None:
                if number not in allowed:
                    return self._error(f"sound/{place}", " or ".join(map(str, allowed)))
                wanted[name] = int(number)
        with self._lock:
            kept = {name: value for name, value in wanted.items() if name not in self.faults.sticky}
            self.now |= {
                name: min(v, self.faults.clamps[name]) if name in self.faults.clamps else v for name, v in kept.items()
            }
        return WebResponse(200, b"<ok/>", "text/xml")

    def _live(self, body: bytes) -> WebResponse:
        try:
            root = tree.parse(body)
        except Malformed:
            return self._error("xml", "not well formed")
        with self._lock:
            self.server, self.server_port = tree.text(root, "server"), tree.whole(tree.text(root, "port")) or 0
            self.app, self.stream = tree.text(root, "application"), tree.text(root, "name")
        return WebResponse(200, b"<ok/>", "text/xml")
