"""The answers of simulated cameras, in the standard's elements and their order, written as text."""

from __future__ import annotations

from typing import TYPE_CHECKING

from direkt.protocol import tree
from direkt.protocol.tree import Element
from direkt.sim import onvif_device, onvif_media
from direkt.sim.onvif_words import SPACES, Fault, envelope, tag

if TYPE_CHECKING:
    from direkt.sim.camera import Camera
    from direkt.sim.web import Request

__all__ = ["OPERATIONS", "SPACES", "Fault", "answer", "envelope"]

OPERATIONS = {**onvif_device.OPERATIONS, **onvif_media.OPERATIONS}


def answer(camera: Camera, body: Element, request: Request) -> str:
    """The answer to a request. Raises Fault."""
    name, space = tree.local(body), tree.namespace(body)
    base = f"http://{request.headers.get('host', f'{camera.host}:{camera.port}')}"
    prefix = next((p for p, s in SPACES.items() if s == space), "")
    if prefix == "tr2" and not camera.make.media2:
        raise Fault("ActionNotSupported", "no such service")
    if prefix == "tptz" and not camera.make.presets:
        raise Fault("ActionNotSupported", "this camera does not move", receiver=True)
    operation = OPERATIONS.get(f"{prefix}:{name}")
    if operation is None:
        raise Fault("ActionNotSupported", f"{name} is not implemented", receiver=True)
    return tag(f"{prefix}:{name}Response", operation(camera, body, base))
