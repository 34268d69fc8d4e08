"""Signing in at a simulated platform: the OAuth 2.0 device grant (RFC 8628), tokens that end, and refreshing (RFC 6749, 6)."""

from __future__ import annotations

import json
import secrets
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass
from urllib.parse import parse_qs

from direkt.sim.web import WebRequest, WebResponse

INTERVAL = 1  # s between polls


@dataclass(slots=True)
class PlatformFaults:
    """What goes wrong with the platform."""

    drops: float = 0.0  # s after which the ingest cuts each connection
    shows_nothing: bool = False  # takes pushes, and viewers get nothing
    poor: bool = False  # complains of every stream
    down: bool = False  # its interface is closed for repair
    twice: bool = False  # every request is carried out twice, as a proxy does that repeats them
    loses_answers: bool = False  # of each change the first answer is lost
    token_life: float = 3600.0  # s
    no_refresh: bool = False


@dataclass(slots=True)
class _Grant:
    """Somebody who wants to sign in."""

    code: str
    ends: float
    allowed: bool = False
    refused: bool = False
    polled: float = 0.0


class Grants:
    """Who is signed in."""

    def __init__(self, token: str, faults: PlatformFaults) -> None:
        self.tokens: dict[str, float] = {token: float("inf")}  # and when each ends, s since 1970
        self.refresh: set[str] = set()
        self._grants: dict[str, _Grant] = {}
        self.faults = faults
        self._lock = threading.Lock()

    def admits(self, token: str) -> bool:
        """Whether a token is good now."""
        ends = self.tokens.get(token)
        return ends is not None and ends > time.time()

    def metadata(self, base: str) -> WebResponse:
        """Where to sign in (RFC 8414, 2)."""
        return json_response(200, {
            "issuer": f"{base}/events-api", "token_endpoint": f"{base}/sign-in/token",
            "device_authorization_endpoint": f"{base}/sign-in/device",
            "grant_types_supported": ["urn:ietf:params:oauth:grant-type:device_code", "refresh_token"],
        })  # fmt: skip

    def answer(self, request: WebRequest, base: str) -> WebResponse:
        """Codes, the page on which a person lets them in, and tokens."""
        fields = {name: values[0] for name, values in parse_qs(request.body.decode("utf-8", "replace")).items()}
        with self._lock:
            if request.path == "/sign-in/device" and request.method == "POST":
                return self._begin_grant(base)
            if request.path == "/sign-in/token" and request.method == "POST":
                return self._token(fields)
            if request.path == "/sign-in" and request.method == "POST":
                return self._decide(fields)
        form = "<form method=post>Code <input name=code> <button name=answer value=yes>Let in</button> <button name=answer value=no>Refuse</button></form>"
        return WebResponse(200, f"<!doctype html><title>Sign in</title>{form}\n".encode(), "text/html; charset=utf-8")

    def _begin_grant(self, base: str) -> WebResponse:
        code = "-".join("".join(secrets.choice("BCDFGHJKLMNPQRSTVWXZ") for _ in range(4)) for _ in range(2))
        device = secrets.token_urlsafe(24)
        self._grants[device] = _Grant(code, time.time() + 600)
        page = f"{base}/sign-in"
        return json_response(200, {
            "device_code": device, "user_code": code, "verification_uri": page, "verification_uri_complete": f"{page}?code={code}",
            "expires_in": 600, "interval": INTERVAL,
        })  # fmt: skip

    def _decide(self, fields: Mapping[str, str]) -> WebResponse:
        code = fields.get("code", "").strip().upper()
        grant = next((g for g in self._grants.values() if g.code == code and g.ends > time.time()), None)
        if grant is None:
            return WebResponse(404, b"no such code\n")
        grant.allowed, grant.refused = fields.get("answer") != "no", fields.get("answer") == "no"
        return WebResponse(200, b"thank you\n")

    def _token(self, fields: Mapping[str, str]) -> WebResponse:
        kind = fields.get("grant_type")
        if kind == "refresh_token":
            if fields.get("refresh_token") not in self.refresh or self.faults.no_refresh:
                return json_response(400, {"error": "invalid_grant"})
            self.refresh.discard(fields["refresh_token"])
            return self._tokens_given()
        grant = self._grants.get(fields.get("device_code", ""))
        if kind != "urn:ietf:params:oauth:grant-type:device_code" or grant is None:
            return json_response(400, {"error": "invalid_grant"})
        early, grant.polled = time.time() - grant.polled < INTERVAL * 0.8, time.time()
        if grant.ends < time.time():
            return json_response(400, {"error": "expired_token"})
        if grant.refused:
            return json_response(400, {"error": "access_denied"})
        if not grant.allowed:
            return json_response(400, {"error": "slow_down" if early else "authorization_pending"})
        del self._grants[fields["device_code"]]
        return self._tokens_given()

    def _tokens_given(self) -> WebResponse:
        access, refresh = f"varn-fake-{secrets.token_urlsafe(18)}", f"varn-fake-{secrets.token_urlsafe(18)}"
        self.tokens[access] = time.time() + self.faults.token_life
        self.refresh.add(refresh)
        return json_response(200, {
            "access_token": access, "token_type": "Bearer", "expires_in": round(self.faults.token_life), "refresh_token": refresh,
        }, (("Cache-Control", "no-store"),))  # fmt: skip


def json_response(status: int, data: object, headers: tuple[tuple[str, str], ...] = ()) -> WebResponse:
    """An answer in JSON."""
    return WebResponse(status, json.dumps(data).encode(), "application/json", headers)
