"""The answers of simulated cameras, in the standard's elements and their order, written as text."""

from __future__ import annotations

import datetime
from dataclasses import replace

from direkt.protocol import soap, tree
from direkt.protocol.tree import Element
from direkt.sim import onvif_device, onvif_media
from direkt.sim.camera import Camera
from direkt.sim.onvif_words import SPACES, OnvifFault, envelope, tag
from direkt.sim.web import WebRequest, WebResponse

__all__ = ["OPERATIONS", "SPACES", "OnvifFault", "answer", "envelope"]

_PRE_AUTH = {"GetSystemDateAndTime", "GetServices", "GetServiceCapabilities", "GetCapabilities", "GetHostname"}
_TOKEN_SLACK = 120.0  # s that a token may be off
OPERATIONS = {**onvif_device.OPERATIONS, **onvif_media.OPERATIONS}


def answer(camera: Camera, body: Element, request: WebRequest) -> str:
    """The answer to a request. Raises Fault."""
    name, space = tree.local(body), tree.namespace(body)
    base = f"http://{request.headers.get('host', f'{camera.host}:{camera.port}')}"
    prefix = next((p for p, s in SPACES.items() if s == space), "")
    if prefix == "tr2" and not camera.make.media2:
        raise OnvifFault("ActionNotSupported", "no such service")
    if prefix == "tptz" and not camera.make.presets:
        raise OnvifFault("ActionNotSupported", "this camera does not move", receiver=True)
    operation = OPERATIONS.get(f"{prefix}:{name}")
    if operation is None:
        raise OnvifFault("ActionNotSupported", f"{name} is not implemented", receiver=True)
    return tag(f"{prefix}:{name}Response", operation(camera, body, base))


class OnvifCamera(Camera):
    """A camera that speaks the standard at its service addresses."""

    def answer(self, request: WebRequest) -> WebResponse:
        """SOAP at the service addresses; all else as any camera."""
        return self._soap(request) if request.path.startswith("/onvif/") else super().answer(request)

    def _soap(self, request: WebRequest) -> WebResponse:
        try:
            asked = soap.read(request.body)
        except Exception:
            return self._fault(OnvifFault("WellFormed", "this is not an envelope"))
        body = asked.body
        if request.method != "POST" or body is None:
            return self._fault(OnvifFault("WellFormed", "this is not a request"))
        operation = tree.local(body)
        self.calls.append(operation)
        if not self.login.password:
            if operation not in _PRE_AUTH | {"GetUsers", "CreateUsers"}:
                return self._fault(OnvifFault("NotAuthorized", "the first password is not set"))
        elif operation not in _PRE_AUTH and not self._token_is_right(asked.header):
            admitted = self.admits(request)
            if not admitted:
                words = "locked after three wrong logins" if self.login.locked else "sender not authorized"
                refusal = self._fault(OnvifFault("NotAuthorized", words))
                return replace(refusal, status=401, headers=admitted.refusal.headers) if self.login.schemes else refusal
        try:
            with self._lock:
                return WebResponse(200, envelope(answer(self, body, request)), soap.CONTENT_TYPE)
        except OnvifFault as fault:
            return self._fault(fault)

    def _fault(self, fault: OnvifFault) -> WebResponse:
        status = 500 if fault.receiver else 400
        return WebResponse(status, envelope(fault.body()), soap.CONTENT_TYPE)

    def _token_is_right(self, header: tuple[Element, ...]) -> bool:
        token = soap.read_token(header)
        if token is None or "token" not in self.login.schemes_all or self.login.locked:
            return False
        try:
            made = datetime.datetime.fromisoformat(token.created.replace("Z", "+00:00"))
        except ValueError:
            return False
        fresh = abs((made - self.now()).total_seconds()) < _TOKEN_SLACK
        right = fresh and token.user == self.login.user and token.is_right(self.login.password)
        if not right:
            self.login.wrong += 1
        return right
