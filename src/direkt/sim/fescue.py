"""The Fescue, a simulated fixed camera: the open standard's first media service only, no sound, no push, small limits."""

from __future__ import annotations

from direkt.sim.camera import Coder, EncodingOffer, Make, ProfileStream
from direkt.sim.onvif import OnvifCamera
from direkt.sim.web import Faults

MODEL = "Fescue"
_RATES = tuple(float(rate) for rate in range(1, 26))
_SIZES = ((1280, 960), (1280, 720), (640, 480), (640, 360))


def make() -> Make:
    """What it is at delivery."""
    h264 = EncodingOffer("H264", _SIZES, _RATES, (1, 100), (128, 4096), ("Baseline", "Main"))
    jpeg = EncodingOffer("JPEG", _SIZES, _RATES[:10], (1, 1), (128, 8192))
    small = EncodingOffer("H264", _SIZES[2:], _RATES, (1, 100), (64, 1024), ("Baseline",))
    return Make(
        "Meadow Works", MODEL, "1.08", (1280, 960), 25.0,
        [
            ProfileStream("media_profile1", "mainStream", Coder("venc1", "H264", (1280, 960), 25.0, 3072, 100, "Main", constant=True), (h264, jpeg)),
            ProfileStream("media_profile2", "subStream", Coder("venc2", "H264", (640, 480), 10.0, 256, 20, "Baseline"), (small,)),
        ],
        media2=False,
    )  # fmt: skip


class Fescue(OnvifCamera):
    """One camera."""

    def __init__(
        self, user: str, password: str, *, name: str = "", port: int = 0, faults: Faults | None = None,
        schemes: tuple[str, ...] = ("digest MD5",), host: str = "127.0.0.1",
    ) -> None:  # fmt: skip
        super().__init__(
            make(), user, password, name=name, port=port, faults=faults, schemes=schemes, serial="MW-77", host=host
        )
