"""HTTP to a device or a platform: login, limits, and answers; every failure is a DeviceError in plain words.

A device is not trusted: its answers are bounded in bytes and time while they arrive, numbers are finite, and texts
carry no control characters that a terminal would obey. A login that was refused is not sent again: accounts lock.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import secrets
import ssl
from collections.abc import AsyncIterator, Callable, Coroutine, Generator, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import httpx

from direkt.described.errors import BadAnswer, DeviceError, DeviceLoginRefused, Unreachable
from direkt.errors import os_words, tls_words
from direkt.printable import printable
from direkt.protocol import clear, httpauth, refusals
from direkt.protocol.httpauth import Challenge
from direkt.secret import Secret

Login = Literal["any", "digest", "basic", "form", "none"]  # any: the strongest that the device offers; form: see device/sign_in.py
LIMIT = 5.0  # s until an answer begins, and between its parts
_WHOLE_LIMIT = 15.0  # s for a request with its login and the whole answer
_SLOWEST = 50_000  # bytes a second at which a file is sent to a device, at the least
_LARGEST = 1 << 20  # bytes of an answer
_GREATEST = 1 << 63  # of a whole number
_MOST_PATHS = 500
_PIECE = 1 << 16  # bytes of a file that go at once

_LINE_ENDS = dict.fromkeys(map(ord, "\t\n\r\u2028\u2029"), "?")

_ALLOWED: Mapping[Login, tuple[str, ...]] = {
    "any": ("digest", "basic"), "digest": ("digest",), "basic": ("basic",), "form": (), "none": (),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class HttpAnswer:
    """What a device answers, whatever its status."""

    status: int
    headers: httpx.Headers
    content: bytes

    @property
    def kind(self) -> str:
        """Its content type, safe to print."""
        return on_one_line(self.headers.get("content-type", "something").partition(";")[0].strip()[:60])

    @property
    def text(self) -> str:
        """Its content as text, in the coding that it names, else in UTF-8."""
        _, _, named = self.headers.get("content-type", "").lower().partition("charset=")
        try:
            return self.content.decode(named.split(";")[0].strip(" \"'") or "utf-8", "replace")
        except LookupError:
            return self.content.decode("utf-8", "replace")


class Upload:
    """A body that is sent piece by piece. ``open`` gives its pieces anew each time; ``sent`` is told how many bytes went."""

    def __init__(self, open: Callable[[], Iterator[bytes]], size: int, sent: Callable[[int], None]) -> None:
        self.open, self.size, self.sent = open, size, sent


class HttpInterface:
    """One device's HTTP interface. ``name`` is what people call the device."""

    def __init__(
        self, name: str, address: str, kind: Login, login: tuple[str, Secret] | None, *,
        any_certificate: bool = False, limit: float = LIMIT,
    ) -> None:  # fmt: skip
        self.name, self.address, self._kind, self._limit = name, address, kind, limit
        self._login = _Login(*login, _ALLOWED[kind], address) if login is not None and kind not in ("none", "form") else None
        self._has_login = login is not None
        self.odd_cookie = False  # it gave a cookie that cannot be sent back
        self._loop = asyncio.new_event_loop()  # of asyncio there is only this: it alone can end a wait as a whole
        self._client = httpx.AsyncClient(
            base_url=address, timeout=limit, trust_env=False, headers={"Accept-Encoding": "identity"},
            transport=_Bounded(trust_env=False, verify=_certificates(address, any_certificate)),
        )  # fmt: skip

    def close(self) -> None:
        """Lets go of the connection."""
        if not self._loop.is_closed():
            self._loop.run_until_complete(self._client.aclose())
            self._loop.close()

    @property
    def has_cookies(self) -> bool:
        """Whether the device gave any."""
        return len(self._client.cookies.jar) > 0

    def forget_cookies(self) -> None:
        """What it gave is dropped."""
        self._client.cookies.clear()
        self.odd_cookie = False

    def _drop_odd_cookies(self) -> None:
        """Cookies that no header can hold: RFC 6265, 4.1.1 allows ASCII alone."""
        jar = self._client.cookies.jar
        for cookie in list(jar):
            words = cookie.name + (cookie.value or "") + cookie.path
            if not (words.isascii() and words.isprintable()):
                jar.clear(cookie.domain, cookie.path, cookie.name)
                self.odd_cookie = True

    @property
    def refused(self) -> bool:
        """Whether the login was refused."""
        return self._login is not None and self._login.refused

    def _not_again(self) -> str:
        assert self._login is not None
        when = f" on {self._login.refused_at}" if self._login.refused_at else ""
        how = ", which it took before: was the password changed? It" if self._login.accepted else "; it"
        return (
            f"has refused this login{when}{how} is not sent again, so that the account does not "
            f"lock: change it in the rig, or try it once more: direkt device login {self.name}"
        )

    def ask(self, method: str, path: str, body: Mapping[str, object] | None = None) -> tuple[bool, object]:
        """Whether the device takes a request, and the JSON that it answers. Raises DeviceError."""
        headers = {} if body is None else {"Content-Type": "application/json"}
        answer = self.admitted(method, path, b"" if body is None else json.dumps(body).encode(), headers)
        return answer.status < 400, self.read_json(answer, f"{method} {path}")

    def admitted(
        self, method: str, path: str, body: bytes | Upload = b"", headers: Mapping[str, str] | None = None, *,
        most: int = _LARGEST,
    ) -> HttpAnswer:  # fmt: skip
        """The answer to a request of somebody who may ask. Raises DeviceError; LoginRefused where the login is in the way."""
        answer = self.exchange(method, path, body, headers, most=most)
        if answer.status in (401, 403):
            raise DeviceLoginRefused(self.name, self.login_hint(answer))
        return answer

    def exchange(
        self, method: str, path: str, body: bytes | Upload = b"", headers: Mapping[str, str] | None = None, *,
        most: int = _LARGEST, anonymous: bool = False,
    ) -> HttpAnswer:  # fmt: skip
        """Whatever the device answers. Raises DeviceError; ``anonymous``: the login stays here."""
        if not path.startswith("/") or path.startswith("//"):
            raise ValueError(f"{path!r} is no path on the device")
        if self.refused and not anonymous:
            raise DeviceLoginRefused(self.name, self._not_again())
        asked = f"{method} {path.partition('?')[0]}"
        limit = _WHOLE_LIMIT + (body.size / _SLOWEST if isinstance(body, Upload) else 0)
        try:
            return self._wait(self._request(method, path, body, headers or {}, most, anonymous, limit))
        except TimeoutError:
            raise BadAnswer(
                self.name, f"answers {asked} with bytes that take more than {limit:g} s: is this address the right device?"
            ) from None
        except _TooMuch as error:
            raise BadAnswer(self.name, f"answers {asked} with {error}: is this address the right device?") from None
        except httpx.TimeoutException:
            raise Unreachable(
                self.name, f"at {self.address} does not answer within {self._limit:g} s: is it on, is the address right?"
            ) from None
        except httpx.RemoteProtocolError as error:
            what = on_one_line(str(error).partition(":")[0].partition("(")[0].strip().lower().rstrip("."))
            raise Unreachable(
                self.name, f"at {self.address} cannot be understood ({what}): is this address the right device, is it done starting?"
            ) from None
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise Unreachable(
                self.name, f"at {self.address} cannot be reached ({_reason(error)}): is it on, is the address right?"
            ) from None

    async def _request(
        self, method: str, path: str, body: bytes | Upload, headers: Mapping[str, str], most: int, anonymous: bool, limit: float
    ) -> HttpAnswer:  # fmt: skip
        content = _Pieces(body) if isinstance(body, Upload) else body
        more = {name.encode(): field(name, value, self.name) for name, value in headers.items()}
        if isinstance(body, Upload):
            more[b"Content-Length"] = str(body.size).encode()
        request = self._client.build_request(
            method, path, content=content or None, headers=more, extensions={"most": most}
        )
        request.extensions["upload"] = body if isinstance(body, Upload) else None
        request.extensions["timeout"] = httpx.Timeout(self._limit).as_dict()
        async with asyncio.timeout(limit):
            answer = await self._client.send(request, auth=None if anonymous else self._login)
            self._drop_odd_cookies()
            return HttpAnswer(answer.status_code, answer.headers, answer.content)

    def _wait(self, request: Coroutine[None, None, HttpAnswer]) -> HttpAnswer:
        """The answer; where the wait is interrupted, the request ends too."""
        task = self._loop.create_task(request)
        try:
            return self._loop.run_until_complete(task)
        except BaseException as error:
            if not task.done():
                task.cancel()
                with contextlib.suppress(asyncio.CancelledError, Exception):
                    self._loop.run_until_complete(task)
            if not isinstance(error, Exception):
                # an answer that came in the very moment of the interruption has left a stop behind, which would end the next wait
                self._loop.call_soon(self._loop.stop)
                self._loop.run_forever()
            raise

    def read_json(self, answer: HttpAnswer, asked: str) -> object:
        """The JSON of an answer, an empty object where there is none. Raises BadAnswer."""
        try:
            return _read(answer.content.decode()) if answer.content else {}
        except (ValueError, RecursionError):
            raise BadAnswer(
                self.name, f"answers {asked} with {answer.kind}, expected JSON: is this address the right device, and is it "
                f"done starting?"
            ) from None

    def login_hint(self, answer: HttpAnswer) -> str:
        """Why a login was not taken, to stand after the name: what the device offers, what was tried, what to change."""
        challenges = httpauth.parse_challenges(answer.headers.get_list("www-authenticate"))
        offered = _listed(challenges)
        if not self._has_login:
            return f"wants a login ({offered or 'some kind'}): give it under 'login' in the rig"
        login = self._login
        if login is not None and login.refused and (login.accepted or not login.tried):
            return self._not_again()
        if login is not None and login.tried:
            if login.accepted:
                return f"takes the login of {login.user}, but not for this: give that user more rights on its page"
            return (
                f"refuses the login of {login.user} ({login.tried}; it offers {offered or 'nothing else'}): "
                f"check user name and password; it was sent once and is not sent again"
            )
        if answer.status == 403:
            return "refuses this to everybody (403): is this address allowed on its page?"
        if challenges:
            ours = "digest or basic" if self._kind == "any" else self._kind
            return (
                f"{self.name} wants a {offered} login, its driver uses {ours}: choose {ours} on the device's page, or a driver "
                f"that has the device's own"
            )
        return "wants a login and does not say which kind: choose digest on its page"


def _listed(challenges: Sequence[Challenge]) -> str:
    names = list(dict.fromkeys(on_one_line(challenge.text)[:20] for challenge in challenges))[:4]
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + " and " + names[-1] if names else ""


class _Login(httpx.Auth):
    """Answers the device's challenge: once with a given nonce, and once more where only the nonce was too old."""

    def __init__(self, user: str, password: Secret, allowed: tuple[str, ...], place: str) -> None:
        self.user, self._password, self._allowed, self._place = user, password, allowed, place
        self._challenge: Challenge | None = None
        self._count = 0
        self.tried = ""  # the scheme that was used
        self.accepted = False  # a login was taken before
        self.refused = False
        self.refused_at = ""  # when, where that is known
        self._taken: set[tuple[str, str]] = set()  # requests for which it was taken
        self._denied: set[tuple[str, str]] = set()  # and those for which it was not, while others were

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        asked = (request.method, request.url.path)
        if asked in self._denied:  # that user may not do this: asking once more would count as a wrong login
            yield request
            return
        signed = self._challenge is not None and self._sign(request, self._challenge)
        for retry in range(3):
            answer = yield request
            if answer.status_code != 401:
                if signed and answer.status_code != 403:
                    self._took(asked)
                self._follow(answer)
                return
            offered = httpauth.parse_challenges(answer.headers.get_list("www-authenticate"))
            best = httpauth.choose(offered, self._allowed)
            if best is None:
                return
            fresh = best.stale or (self.accepted and retry == 0)  # not every device says that a nonce is too old
            if signed and not (fresh and best.scheme == "digest"):
                self._was_refused(asked)
                return
            when = refusals.current().refused(self._place, self.user, self._password)
            if when is not None:  # by somebody else in this process, or before
                self.refused, self.refused_at = True, when
                return
            self._challenge, self._count = best, 0
            signed = self._sign(request, best)
        self._was_refused(asked)

    def _took(self, asked: tuple[str, str]) -> None:
        if not self.accepted:
            refusals.current().forget(self._place, self.user, self._password)
        self.accepted = True
        if len(self._taken) < _MOST_PATHS:
            self._taken.add(asked)

    def _was_refused(self, asked: tuple[str, str]) -> None:
        """The login is wrong, or that user may not do this: what was allowed before and is not any more tells them apart."""
        if self.accepted and asked not in self._taken:
            self._denied.add(asked)
            return
        self.refused = True
        refusals.current().note(self._place, self.user, self._password)

    def _sign(self, request: httpx.Request, challenge: Challenge) -> bool:
        self.tried = challenge.text
        if challenge.scheme == "basic":
            if not clear.allowed(str(request.url)):
                raise DeviceLoginRefused(clear.words("a basic login", str(request.url), "the device"))
            request.headers["Authorization"] = httpauth.basic(self.user, self._password.reveal())
            return True
        self._count += 1
        upload = request.extensions.get("upload")
        body = (
            b"".join(upload.open()) if challenge.qop == ("auth-int",) and upload else b"" if upload else request.content
        )
        request.headers["Authorization"] = httpauth.digest(
            challenge, self.user, self._password.reveal(), request.method, request.url.raw_path.decode("ascii"),
            count=self._count, client_nonce=secrets.token_hex(8), body=body,
        )  # fmt: skip
        return True

    def _follow(self, answer: httpx.Response) -> None:
        """The nonce for the next request, where the device names one (RFC 7616, 3.5)."""
        said = httpauth.parse_challenges([f"Info {answer.headers.get('authentication-info', '')}"])
        nonce = said[0].parameters.get("nextnonce") if said else None
        if nonce and self._challenge is not None and self._challenge.scheme == "digest":
            self._challenge = Challenge("digest", {**self._challenge.parameters, "nonce": nonce})
            self._count = 0


def _certificates(address: str, any_certificate: bool) -> ssl.SSLContext | bool:
    """What a device's certificate is checked against; reading the system's list takes long, so only where it is needed."""
    if not address.startswith("https:"):
        return False
    context = ssl.create_default_context()
    if any_certificate:
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    return context


def field(name: str, value: str, to: str) -> bytes:
    """A header's value as it is sent (RFC 9110, 5.5): what cannot stand in one is not sent. Raises DeviceError."""
    whole = value.strip(" \t")
    odd = next((n for n, c in enumerate(whole, 1) if ord(c) > 255 or (not c.isprintable() and c != "\t")), 0)
    if odd:
        raise DeviceError(f"nothing was sent to {to}: character {odd} of its {name} header cannot stand in one; write it anew, in plain letters")
    return whole.encode("latin-1")


def received(headers: httpx.Headers, name: str) -> str:
    """A header's value byte by byte, so that it can be sent back as it came."""
    return next((value.decode("latin-1") for key, value in headers.raw if key.lower() == name.encode()), "")


def _reason(error: Exception) -> str:
    """The system's words, which lie behind those of the HTTP library; else the library's own."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ssl.SSLError):
            more = (
                "; if you know it, write 'certificate: any' under the device" if "self-signed" in tls_words(cause) else ""
            )
            return tls_words(cause) + more
        if isinstance(cause, OSError) and cause.errno:
            return os_words(cause)
        inside = cause.exceptions[0] if isinstance(cause, BaseExceptionGroup) else None
        cause = inside or cause.__cause__ or cause.__context__
    return str(error).lower() or type(error).__name__


class _TooMuch(Exception):
    """An answer beyond the limits."""


class _Pieces(httpx.AsyncByteStream):
    """A body that goes piece by piece."""

    def __init__(self, upload: Upload) -> None:
        self.upload = upload

    async def __aiter__(self) -> AsyncIterator[bytes]:
        sent = 0
        for part in self.upload.open():
            yield part
            sent += len(part)
            self.upload.sent(sent)


class _Bounded(httpx.AsyncHTTPTransport):
    """Ends answers that are too long or packed."""

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        answer = await super().handle_async_request(request)
        if answer.headers.get("content-encoding", "identity") != "identity":
            await answer.aclose()
            raise _TooMuch("compressed bytes that were not requested")
        assert isinstance(answer.stream, httpx.AsyncByteStream)
        answer.stream = _Limited(answer.stream, request.extensions.get("most", _LARGEST))
        return answer


class _Limited(httpx.AsyncByteStream):
    def __init__(self, stream: httpx.AsyncByteStream, most: int) -> None:
        self._stream, self._most = stream, most

    async def __aiter__(self) -> AsyncIterator[bytes]:
        size = 0
        async for part in self._stream:
            size += len(part)
            if size > self._most:
                raise _TooMuch(f"more than {self._most >> 20} MiB")
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


def on_one_line(text: str) -> str:
    """A text without characters that steer a terminal or turn its direction, on one line."""
    return printable(text).translate(_LINE_ENDS)


def _plain(data: object) -> object:
    """JSON whose texts are printable."""
    if isinstance(data, str):
        return data if data.isprintable() else on_one_line(data)
    if isinstance(data, dict):
        return {on_one_line(name): _plain(value) for name, value in data.items()}
    if isinstance(data, list):
        return [_plain(value) for value in data]
    return data


def pieces(data: bytes) -> Iterator[bytes]:
    """Bytes in pieces of a size that a progress line can follow."""
    return (data[at : at + _PIECE] for at in range(0, len(data), _PIECE))
