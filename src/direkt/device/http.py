"""HTTP to a device: login, limits, and JSON answers; every failure is a DeviceError in plain words.

A device is not trusted: its answers are bounded in bytes and time while they arrive, numbers are finite, and texts
carry no control characters that a terminal would obey.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import AsyncIterator, Coroutine, Mapping
from typing import Literal

import httpx

from direkt.device.model import BadAnswer, LoginRefused, Unreachable
from direkt.errors import os_words
from direkt.printable import printable
from direkt.secret import Secret

LIMIT = 5.0  # s until an answer begins, and between its parts
_WHOLE_LIMIT = 15.0  # s for a request with its login and the whole answer
_LARGEST = 1 << 20  # bytes of an answer
_GREATEST = 1 << 63  # of a whole number

_LINE_ENDS = dict.fromkeys(map(ord, "\t\n\r\u2028\u2029"), "?")

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
        self._loop = asyncio.new_event_loop()  # of asyncio there is only this: it alone can end a wait as a whole
        self._client = httpx.AsyncClient(
            base_url=address,
            auth=auth,
            timeout=LIMIT,
            transport=_Bounded(trust_env=False),
            trust_env=False,
            headers={"Accept-Encoding": "identity"},
        )

    def close(self) -> None:
        """Lets go of the connection."""
        if not self._loop.is_closed():
            self._loop.run_until_complete(self._client.aclose())
            self._loop.close()

    def ask(self, method: str, path: str, body: Mapping[str, object] | None = None) -> tuple[bool, object]:
        """Whether the device takes a request, and the JSON that it answers. Raises DeviceError."""
        if not path.startswith("/") or path.startswith("//"):
            raise ValueError(f"{path!r} is no path on the device")
        try:
            answer = self._wait(self._request(method, path, body))
        except TimeoutError:
            raise BadAnswer(
                f"{self.name} answers {method} {path} with bytes that take more than {_WHOLE_LIMIT:g} s: is this address the "
                f"right device?"
            ) from None
        except _TooMuch as error:
            raise BadAnswer(
                f"{self.name} answers {method} {path} with {error}: is this address the right device?"
            ) from None
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
        try:
            return not answer.is_error, _read(answer.text) if answer.content else {}
        except (ValueError, RecursionError):
            kind = _printable(answer.headers.get("content-type", "something"))
            raise BadAnswer(
                f"{self.name} answers {method} {path} with {kind}, expected JSON: is this address the right device, and is it "
                f"done starting?"
            ) from None

    async def _request(self, method: str, path: str, body: Mapping[str, object] | None) -> httpx.Response:
        async with asyncio.timeout(_WHOLE_LIMIT):
            return await self._client.request(method, path, json=body)

    def _wait(self, request: Coroutine[None, None, httpx.Response]) -> httpx.Response:
        """The answer; where the wait is interrupted, the request ends too."""
        task = self._loop.create_task(request)
        try:
            return self._loop.run_until_complete(task)
        except BaseException:
            if not task.done():
                task.cancel()
                with contextlib.suppress(asyncio.CancelledError, Exception):
                    self._loop.run_until_complete(task)
            raise

    def _login_hint(self, answer: httpx.Response) -> str:
        wanted = _printable(answer.headers.get("www-authenticate", "").split(" ")[0].lower()[:20])
        if not self._has_login:
            return f"{self.name} wants a login ({wanted or 'some kind'}): give it under 'login' in the rig"
        if wanted and self._kind not in ("none", wanted):
            return f"{self.name} wants a {wanted} login, its driver uses {self._kind}"
        return f"{self.name} refuses the login: check user name and password"


def _reason(error: Exception) -> str:
    """The system's words, which lie behind those of the HTTP library; else the library's own."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, OSError) and cause.errno:
            return os_words(cause)
        inside = cause.exceptions[0] if isinstance(cause, BaseExceptionGroup) else None
        cause = inside or cause.__cause__ or cause.__context__
    return str(error).lower() or type(error).__name__


class _TooMuch(Exception):
    """An answer beyond the limits."""


class _Bounded(httpx.AsyncHTTPTransport):
    """Ends answers that are too long or packed."""

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        answer = await super().handle_async_request(request)
        if answer.headers.get("content-encoding", "identity") != "identity":
            await answer.aclose()
            raise _TooMuch("packed bytes that nobody asked for")
        assert isinstance(answer.stream, httpx.AsyncByteStream)
        answer.stream = _Limited(answer.stream)
        return answer


class _Limited(httpx.AsyncByteStream):
    def __init__(self, stream: httpx.AsyncByteStream) -> None:
        self._stream = stream

    async def __aiter__(self) -> AsyncIterator[bytes]:
        size = 0
        async for part in self._stream:
            size += len(part)
            if size > _LARGEST:
                raise _TooMuch(f"more than {_LARGEST >> 20} MiB")
            yield part

    async def aclose(self) -> None:
        await self._stream.aclose()


def _finite(text: str) -> float:
    number = float(text)
    if number in (float("inf"), -float("inf")) or number != number:
        raise ValueError(f"{text} is no number")
    return number


def _whole(text: str) -> int:
    if len(text) > 20 or abs(number := int(text)) > _GREATEST:
        raise ValueError("a number beyond all measure")
    return number


def _read(text: str) -> object:
    """JSON with finite numbers and printable texts. Raises ValueError and RecursionError."""
    return _plain(json.loads(text, parse_float=_finite, parse_int=_whole, parse_constant=_finite))


def _printable(text: str) -> str:
    """A text without characters that steer a terminal or turn its direction, on one line."""
    return printable(text).translate(_LINE_ENDS)


def _plain(data: object) -> object:
    """JSON whose texts are printable."""
    if isinstance(data, str):
        return data if data.isprintable() else _printable(data)
    if isinstance(data, dict):
        return {_printable(name): _plain(value) for name, value in data.items()}
    if isinstance(data, list):
        return [_plain(value) for value in data]
    return data
