"""Requests to a platform: with a token that is renewed in time, tried again where that does no harm, errors as RFC 9457 has them."""

from __future__ import annotations

import email.utils
import json
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Protocol
from urllib.parse import urljoin, urlsplit

from direkt.described.errors import DeviceError
from direkt.described.http import HttpAnswer, HttpInterface, on_one_line, received
from direkt.platform.event import Changed, Declined, NoSuchEvent, NotSignedIn, PlatformError
from direkt.protocol import clear
from direkt.secret import Secret, without, without_keys

_TOKEN = re.compile(r"[\x21-\x7e]+")  # more than the RFC's b64token, as platforms do
_TRIES = 3
_PAUSES = (0.3, 1.0)  # s between tries
_LONGEST_PAUSE = 60.0  # s that a platform may ask us to wait
_WORTH_A_WORD = 3.0  # s from where on a wait is said
_REASONS = 20
_LARGEST = 4 << 20  # bytes of an answer
_LARGEST_SEGMENT = 64 << 20  # bytes of a viewers' segment


class Tokens(Protocol):
    """Where bearer tokens come from."""

    def token(self, *, refused: Secret | None = None) -> Secret | None:
        """The token for the next request; ``refused``: the one that was just refused. None: there is no other.

        Raises NotSignedIn.
        """


@dataclass(frozen=True, slots=True)
class FixedToken:
    """A token that the person keeps."""

    secret: Secret

    def token(self, *, refused: Secret | None = None) -> Secret | None:
        """The one there is."""
        return None if refused == self.secret else self.secret


class ReferredToken:
    """A token that the rig refers to; ``look`` looks there anew, where the one before was refused."""

    def __init__(self, look: Callable[[], Secret]) -> None:
        self._look, self._now = look, look()

    def token(self, *, refused: Secret | None = None) -> Secret | None:
        """The one there is now. May raise UnusableInput."""
        if refused is not None and refused == self._now:
            self._now = self._look()
        return None if refused == self._now else self._now


@dataclass(frozen=True, slots=True)
class PlatformAnswer:
    """An answer: what it says, and the version of what it tells of."""

    data: object
    version: str = ""
    status: int = 200

    def mapping(self, platform: str) -> Mapping[str, object]:
        """The object that it is. Raises PlatformError."""
        if not isinstance(self.data, Mapping):
            raise PlatformError(f"{platform} answers with something else than expected: is its address right?")
        return self.data


class Calls:
    """One platform's HTTP side. ``name`` is what people call the platform; close it when done."""

    def __init__(
        self, name: str, address: str, tokens: Tokens | None, sleep: Callable[[float], None], *, any_certificate: bool = False,
        say: Callable[[str], None] = lambda _: None, wall: Callable[[], float] | None = None,
    ) -> None:  # fmt: skip
        """``say``: is told in words what takes long; ``wall``: s since 1970."""
        self._wall = wall
        self.clock_ahead: float | None = None  # s by which the platform's clock is ahead, by its last answer
        self.name, self._tokens, self._sleep, self._address, self._any = name, tokens, sleep, address, any_certificate
        self._say = say
        self._http = HttpInterface(name, address, "none", None, any_certificate=any_certificate)
        self._sent: set[Secret] = set()  # what must not come back in an error's text

    def close(self) -> None:
        """Lets go of the connection."""
        self._http.close()

    def hide(self, secret: Secret) -> None:
        """From here on this is taken out of the platform's words."""
        self._sent.add(secret)

    @property
    def hidden(self) -> set[Secret]:
        """What is taken out of the platform's words."""
        return self._sent

    def pause(self, seconds: float) -> None:
        """Waits."""
        self._sleep(seconds)

    def path_of(self, address: str) -> str | None:
        """An address at this platform, whole or in part, as a path below its own; None: it is elsewhere."""
        own = urlsplit(self._address)
        try:
            parts = urlsplit(urljoin(f"{self._address}/", address))
        except ValueError:
            return None
        base = own.path.rstrip("/")
        if (parts.scheme, parts.netloc) != (own.scheme, own.netloc) or not f"{parts.path}/".startswith(f"{base}/"):
            return None
        return (parts.path[len(base) :] or "/") + (f"?{parts.query}" if parts.query else "")

    def raw(self, method: str, path: str, content: bytes, headers: Mapping[str, str]) -> HttpAnswer:
        """Whatever is answered to a request that is only sent again where it does no harm. Raises PlatformError."""
        answer = self._admitted(method, path, content, dict(headers), safe=method in ("GET", "PUT", "DELETE"))
        if answer.status == 401:
            raise self._problem(answer, f"{method} {path.partition('?')[0]}")
        return answer

    def view(self, address: str) -> bytes:
        """What viewers' players fetch; the token goes along to the platform's own address only. Raises PlatformError."""
        parts, own = urlsplit(address), urlsplit(self._address)
        same = (parts.scheme, parts.netloc) == (own.scheme, own.netloc)
        token = self._tokens.token() if same and self._tokens is not None else None
        http = HttpInterface(
            parts.hostname or self.name,
            f"{parts.scheme}://{parts.netloc}",
            "none",
            None,
            any_certificate=self._any and same,
        )
        try:
            headers = {"Authorization": self._bearer(token)} if token is not None else {}
            path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
            answer = http.exchange("GET", path, b"", headers, most=_LARGEST_SEGMENT)
        except DeviceError as error:
            raise PlatformError(str(error)) from None
        finally:
            http.close()
        if answer.status != 200:
            raise PlatformError(f"{parts.hostname} gives viewers nothing yet (HTTP status {answer.status})")
        return answer.content

    def read_json(self, answer: HttpAnswer, asked: str) -> object:
        """The JSON of an answer. Raises PlatformError."""
        return self._json(answer, asked)

    def ask(
        self, method: str, path: str, body: bytes = b"", kind: str = "application/json", *, version: str = "", new: bool = False,
        safe: bool = True, headers: Mapping[str, str] | None = None,
    ) -> PlatformAnswer:  # fmt: skip
        """What the platform answers to a request.

        ``version``: what is changed must still be this one; ``new``: it must not be there yet; ``safe``: it may be sent twice.
        Raises PlatformError: Changed (412), NoSuchEvent (404), NotSignedIn (401), Declined (other 4xx).
        """
        sent = {"Accept": "application/json, application/problem+json", **(headers or {})}
        sent |= {"Content-Type": kind} if body else {}
        sent |= {"If-Match": version} if version else {"If-None-Match": "*"} if new else {}
        answer = self._admitted(method, path, body, sent, safe=safe)
        if answer.status < 300:
            data = self._json(answer, f"{method} {path}") if answer.content else {}
            return PlatformAnswer(data, received(answer.headers, "etag"), answer.status)
        raise self._problem(answer, f"{method} {path.partition('?')[0]}")

    def _admitted(self, method: str, path: str, body: bytes, headers: dict[str, str], *, safe: bool) -> HttpAnswer:
        """The answer to somebody with a good token."""
        token = self._tokens.token() if self._tokens is not None else None
        for last in (False, True):
            if token is not None:
                self._sent.add(token)
                headers["Authorization"] = self._bearer(token)
            answer = self._patiently(method, path, body, headers, safe=safe)
            if answer.status != 401 or last or self._tokens is None:
                return answer
            token = self._tokens.token(refused=token)
            if token is None:
                return answer
        raise AssertionError("one of two tries returns")

    def _bearer(self, token: Secret) -> str:
        """RFC 6750, 2.1. Raises PlatformError for what is no token."""
        if not _TOKEN.fullmatch(token.reveal()):
            raise PlatformError(f"the token for {self.name} holds a character that no token has (RFC 6750): copy it again; nothing was sent")
        if not clear.allowed(self._address):
            raise PlatformError(clear.words("the token", self._address, f"platforms.{self.name}"))
        return f"Bearer {token.reveal()}"

    def _patiently(self, method: str, path: str, body: bytes, headers: Mapping[str, str], *, safe: bool) -> HttpAnswer:
        for count in range(_TRIES):
            last = count == _TRIES - 1
            try:
                asked_at = self._wall() if self._wall is not None else 0.0
                answer = self._http.exchange(method, path, body, headers, most=_LARGEST)
                self._note_clock(answer, asked_at)
            except DeviceError as error:
                if last or not safe:
                    raise PlatformError(str(error)) from None
                self._sleep(_PAUSES[count])
                continue
            asked = asked_pause(answer)
            if answer.status in (429, 503) and asked is not None and asked > _LONGEST_PAUSE:
                raise PlatformError(f"{self.name} wants to be left alone for {_span(asked)} (HTTP status {answer.status}): try again then")
            # what was not even looked at may be sent again
            if not last and (answer.status in (429, 503) or (answer.status in (502, 504) and safe)):
                pause = asked if asked is not None else _PAUSES[count]
                if pause >= _WORTH_A_WORD:
                    self._say(f"{self.name} asks to wait {pause:.0f} s (HTTP status {answer.status})")
                self._sleep(pause)
                continue
            return answer
        raise AssertionError("the last try returns")

    def _note_clock(self, answer: HttpAnswer, asked_at: float) -> None:
        """Its Date (RFC 9110, 6.6.1) beside the moments between which it was written; it is good to a second."""
        if self._wall is None:
            return
        try:
            told = email.utils.parsedate_to_datetime(answer.headers.get("date", "")).timestamp()
        except (ValueError, TypeError):
            return
        now = self._wall()
        self.clock_ahead = told - now if told > now else told + 1.0 - asked_at if told + 1.0 < asked_at else 0.0

    def _json(self, answer: HttpAnswer, asked: str) -> object:
        try:
            return self._http.read_json(answer, asked)
        except DeviceError as error:
            raise PlatformError(str(error)) from None

    def _problem(self, answer: HttpAnswer, asked: str) -> PlatformError:
        """What a refusal means."""
        title, detail, reasons = self._words(answer)
        said = (detail or title).rstrip(".")
        if answer.status == 401:
            return NotSignedIn(
                f"{self.name} does not let us in{f': {said}' if said else ''}; sign in with: direkt event sign-in {self.name}, "
                f"or check the token under platforms.{self.name}"
            )
        if 300 <= answer.status < 400:
            where = without(on_one_line(answer.headers.get("location", "another place")).partition("?")[0][:200], self._sent)
            return PlatformError(
                f"{self.name} has moved to {where}: write its new address under platforms.{self.name}.address"
            )
        if answer.status == 404:
            return NoSuchEvent(f"{self.name} does not know {asked.partition(' ')[2]}{f': {said}' if said else ''}")
        if answer.status == 412:
            return Changed(
                f"{self.name}: the event was changed by somebody else meanwhile; look at it, and do this again"
            )
        if 400 <= answer.status < 500:
            return Declined(self.name, said or f"{asked} (HTTP status {answer.status})", reasons)
        return PlatformError(
            f"{self.name} fails at {asked} (HTTP status {answer.status}){f': {said}' if said else ''}; try again, or do it "
            "on its page"
        )

    def _words(self, answer: HttpAnswer) -> tuple[str, str, dict[str, str]]:
        """Title, detail and reasons of a problem document (RFC 9457, 3)."""
        try:
            data = self._http.read_json(answer, "")
        except DeviceError:
            return "", "", {}
        if not isinstance(data, Mapping):
            return "", "", {}
        reasons: dict[str, str] = {}
        errors = data.get("errors")
        for item in errors[:_REASONS] if isinstance(errors, list) else []:
            if isinstance(item, Mapping):
                place = str(item.get("pointer", "")).removeprefix("#").strip("/").replace("/", ".")
                reasons[self._clear(place) or "event"] = self._clear(item.get("detail", ""))
        return self._clear(data.get("title", "")), self._clear(data.get("detail", "")), reasons

    def _clear(self, text: object) -> str:
        """A platform's words, on one line and without keys."""
        return without_keys(on_one_line(text)[:300], self._sent) if isinstance(text, str) else ""


def asked_pause(answer: HttpAnswer) -> float | None:
    """s to wait before the next try (RFC 9110, 10.2.3); None: the answer does not say."""
    said = answer.headers.get("retry-after", "").strip()
    if said.isascii() and said.isdigit():
        return float(said[:9])
    try:
        until = email.utils.parsedate_to_datetime(said)
        now = email.utils.parsedate_to_datetime(answer.headers.get("date", ""))
        return max(0.0, (until - now).total_seconds())
    except (ValueError, TypeError):
        return None


def _span(seconds: float) -> str:
    return f"{seconds / 60:.0f} min" if seconds >= 90 else f"{seconds:.0f} s"


def as_json(data: object) -> bytes:
    """A body."""
    return json.dumps(data, ensure_ascii=False).encode()
