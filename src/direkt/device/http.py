"""HTTP to a device: login, time limits, and JSON answers; every failure is a DeviceError in plain words."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Literal

import httpx

from direkt.device.model import BadAnswer, LoginRefused, Unreachable
from direkt.errors import os_words
from direkt.secret import Secret

LIMIT = 5.0  # s for one answer
_LARGEST = 1 << 20  # bytes of an answer

Login = Literal["digest", "basic", "none"]


class HttpDevice:
    """One device's HTTP interface. ``name`` is what people call the device."""

    def __init__(self, name: str, address: str, kind: Login, login: tuple[str, Secret] | None) -> None:
        self.name, self.address = name, address
        self._kind: Login = kind
        self._has_login = login is not None
        auth: httpx.Auth | None = None
        if login is not None and kind != "none":
            scheme = httpx.DigestAuth if kind == "digest" else httpx.BasicAuth
            auth = scheme(login[0], login[1].reveal())
        self._client = httpx.Client(base_url=address, auth=auth, timeout=LIMIT, trust_env=False)

    def close(self) -> None:
        """Lets go of the connection."""
        self._client.close()

    def ask(self, method: str, path: str, body: Mapping[str, object] | None = None) -> tuple[bool, object]:
        """Whether the device takes a request, and the JSON that it answers. Raises DeviceError."""
        try:
            answer = self._client.request(method, path, json=body)
        except httpx.TimeoutException:
            raise Unreachable(
                f"{self.name} at {self.address} does not answer within {LIMIT:g} s: is it on, is the address right?"
            ) from None
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise Unreachable(
                f"{self.name} at {self.address} cannot be reached ({_reason(error)}): is it on, is the address right?"
            ) from None
        if answer.status_code in (401, 403):
            raise LoginRefused(self._login_hint(answer))
        what = f"{self.name} answers {method} {path}"
        if len(answer.content) > _LARGEST:
            raise BadAnswer(f"{what} with {len(answer.content)} bytes; at most {_LARGEST} are read")
        try:
            return not answer.is_error, answer.json() if answer.content else {}
        except (json.JSONDecodeError, UnicodeDecodeError, RecursionError):
            kind = answer.headers.get("content-type", "something")
            raise BadAnswer(
                f"{what} with {kind}, expected JSON: is this address the right device, and is it done starting?"
            ) from None

    def _login_hint(self, answer: httpx.Response) -> str:
        wanted = answer.headers.get("www-authenticate", "").split(" ")[0].lower()
        if not self._has_login:
            return f"{self.name} wants a login ({wanted or 'some kind'}): give it under 'login' in the rig"
        if wanted and self._kind not in ("none", wanted):
            return f"{self.name} wants a {wanted} login, its driver uses {self._kind}"
        return f"{self.name} refuses the login: check user name and password"


def _reason(error: Exception) -> str:
    """The system's words, which lie behind those of the HTTP library; else the library's own."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, OSError):
            return os_words(cause)
        cause = cause.__cause__ or cause.__context__
    return str(error).lower() or type(error).__name__
