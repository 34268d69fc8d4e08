"""Signing in at a platform on a phone: the OAuth 2.0 device grant (RFC 8628), and tokens that are refreshed in time (RFC 6749).

Where to sign in is found by the authorization server's metadata (RFC 8414, 3), beside the platform's address. Tokens are kept in
Direkt's key store, one entry for each platform of a rig.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Generator, Mapping
from dataclasses import dataclass
from typing import Protocol
from urllib.parse import urlencode, urlsplit

from direkt.described.errors import DeviceError
from direkt.described.http import HttpInterface, on_one_line
from direkt.platform.event import NotSignedIn, PlatformError
from direkt.protocol import clear
from direkt.secret import Secret, without

DEVICE_GRANT = "urn:ietf:params:oauth:grant-type:device_code"  # RFC 8628, 3.4
_WELL_KNOWN = "/.well-known/oauth-authorization-server"
_EARLY = 30.0  # s before its end at which a token is refreshed
_INTERVAL = 5.0  # s between polls, where the server does not say (RFC 8628, 3.2)
_SLOWER = 5.0  # s more after slow_down (RFC 8628, 3.5)
_LONGEST = 1800.0  # s that a code may live
_FORM = "application/x-www-form-urlencoded"


class TokenStore(Protocol):
    """Where the tokens of one account are kept."""

    def get(self) -> str | None:
        """What is kept; None: nothing."""

    def put(self, text: str) -> None:
        """Keeps it."""

    def forget(self) -> bool:
        """Drops it; False where there was none."""


class Places(Protocol):
    """Where a person signs in, and for what."""

    @property
    def device(self) -> str:
        """The address at which a code is asked for."""

    @property
    def token(self) -> str:
        """And that at which tokens are given out."""

    @property
    def scopes(self) -> list[str]:
        """What the token is to be good for (RFC 6749, 3.3)."""


@dataclass(frozen=True, slots=True)
class Code:
    """What the person does on their phone."""

    address: str  # where they go
    complete: str  # the same with the code in it, for a picture code; empty: there is none
    code: str  # what they type there
    seconds: float  # that it lives


@dataclass(frozen=True, slots=True)
class KeptTokens:
    """Tokens as they are kept."""

    access: Secret
    refresh: Secret | None
    until: float  # s since 1970 at which the access token ends; 0: not known

    def text(self) -> str:
        """For the store."""
        refresh = self.refresh.reveal() if self.refresh is not None else ""
        return json.dumps({"access": self.access.reveal(), "refresh": refresh, "until": self.until})

    @classmethod
    def read(cls, text: str) -> KeptTokens | None:
        """From the store; None for what cannot be used."""
        try:
            data = json.loads(text)
            refresh = str(data["refresh"])
            return cls(Secret(str(data["access"])), Secret(refresh) if refresh else None, float(data["until"]))
        except (ValueError, KeyError, TypeError):
            return None


class SignedInAccount:
    """One account at one platform. ``now``: s since 1970."""

    def __init__(
        self, platform: str, address: str, client: str, store: TokenStore, now: Callable[[], float], *,
        any_certificate: bool = False, places: Places | None = None, secret: Secret | None = None,
    ) -> None:  # fmt: skip
        """``places``: where to sign in, where the server does not tell; ``secret``: of a client that has one (RFC 6749, 2.3.1)."""
        self._places, self._secret = places, secret
        self._platform, self._address, self._client = platform, address, client
        self._store, self._now = store, now
        self._any = any_certificate

    # Tokens

    def token(self, *, refused: Secret | None = None) -> Secret | None:
        """The token for the next request, refreshed where it is about to end or was refused. Raises NotSignedIn."""
        kept = self._kept()
        if kept is None:
            raise NotSignedIn(f"nobody is signed in at {self._platform}: direkt event sign-in {self._platform}")
        ends = bool(kept.until) and kept.until - _EARLY < self._now()
        if refused != kept.access and not ends:
            return kept.access
        if kept.refresh is None:
            return None if refused is not None else kept.access
        return self._refreshed(kept).access

    def _kept(self) -> KeptTokens | None:
        text = self._store.get()
        return KeptTokens.read(text) if text is not None else None

    def _refreshed(self, kept: KeptTokens) -> KeptTokens:
        """RFC 6749, 6. Another process may have done it meanwhile: then its token is taken."""
        assert kept.refresh is not None
        fields = {"grant_type": "refresh_token", "refresh_token": kept.refresh.reveal(), "client_id": self._client}
        answer = self._post(self._endpoints()[1], fields)
        if "access_token" in answer:
            return self._keep(answer, kept.refresh)
        again = self._kept()
        if again is not None and again.access != kept.access:
            return again
        raise NotSignedIn(
            f"the sign-in at {self._platform} has ended ({_error(answer)}): direkt event sign-in {self._platform}"
        )

    def _keep(self, answer: Mapping[str, object], refresh: Secret | None) -> KeptTokens:
        lives = answer.get("expires_in")
        until = self._now() + float(lives) if isinstance(lives, int | float) and not isinstance(lives, bool) else 0.0
        new = answer.get("refresh_token")
        kept = KeptTokens(
            Secret(str(answer["access_token"])), Secret(new) if isinstance(new, str) and new else refresh, until
        )
        self._store.put(kept.text())
        return kept

    def forget(self) -> bool:
        """Drops the tokens; False where there were none."""
        return self._store.forget()

    # Signing in

    def sign_in(self) -> Generator[Code | float, None, None]:
        """Yields first the code for the person, then s to wait before the next poll; ends when they have signed in.

        Raises PlatformError where they refuse, or do not come in time.
        """
        device, token = self._endpoints()
        scopes = self._places.scopes if self._places is not None else ["events"]
        answer = self._post(device, {"client_id": self._client, "scope": " ".join(scopes)})
        code, device_code = answer.get("user_code"), answer.get("device_code")
        place = answer.get("verification_uri")
        if not isinstance(code, str) or not isinstance(device_code, str) or not _is_link(place):
            raise PlatformError(f"{self._platform} begins no sign-in ({_error(answer)})")
        complete = answer.get("verification_uri_complete")
        lives = min(_LONGEST, _seconds(answer.get("expires_in"), 600.0))
        interval = _seconds(answer.get("interval"), _INTERVAL)
        end = self._now() + lives
        yield Code(str(place), str(complete) if _is_link(complete) else "", on_one_line(code)[:40], lives)
        while self._now() < end:
            yield interval
            fields = {"grant_type": DEVICE_GRANT, "device_code": device_code, "client_id": self._client}
            try:
                answer = self._post(token, fields)
            except PlatformError:  # it may be there again before the code ends (RFC 8628, 3.5)
                interval = min(60.0, interval * 2)
                continue
            if "access_token" in answer:
                self._keep(answer, None)
                return
            error = _error(answer)
            if error == "slow_down":
                interval += _SLOWER
            elif error != "authorization_pending":
                raise PlatformError(f"nobody was signed in at {self._platform}: {_ENDS.get(error, error)}")
        raise PlatformError(f"nobody signed in at {self._platform} within {lives / 60:g} min; begin again")

    def _endpoints(self) -> tuple[str, str]:
        """Where a code is asked for, and where tokens are. Raises PlatformError."""
        if self._places is not None:
            return self._places.device, self._places.token
        parts = urlsplit(self._address)
        answer = self._exchange("GET", f"{parts.scheme}://{parts.netloc}{_WELL_KNOWN}{parts.path}", b"")
        found = answer.get("device_authorization_endpoint"), answer.get("token_endpoint")
        for one in found:
            other = urlsplit(one) if isinstance(one, str) and _is_link(one) else None
            if other is None or (other.scheme != "https" and other.netloc != parts.netloc):
                raise PlatformError(
                    f"{self._platform} does not say where to sign in; write a token under platforms.{self._platform}"
                )
        return str(found[0]), str(found[1])

    def _post(self, address: str, fields: Mapping[str, str]) -> Mapping[str, object]:
        secret = {"client_secret": self._secret.reveal()} if self._secret is not None else {}
        return self._exchange("POST", address, urlencode({**fields, **secret}).encode())

    def _exchange(self, method: str, address: str, body: bytes) -> Mapping[str, object]:
        parts = urlsplit(address)
        if body and not clear.allowed(address):
            raise PlatformError(clear.words("the sign-in", address, f"platforms.{self._platform}"))
        http = HttpInterface(self._platform, f"{parts.scheme}://{parts.netloc}", "none", None, any_certificate=self._any)
        try:
            place = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
            answer = http.exchange(method, place, body, {"Content-Type": _FORM} if body else {})
            data = http.read_json(answer, f"{method} {parts.path}") if answer.content else {}
        except DeviceError as error:
            raise PlatformError(str(error)) from None
        finally:
            http.close()
        if answer.status >= 400 and not (isinstance(data, Mapping) and "error" in data):
            raise PlatformError(f"{self._platform} fails at {method} {parts.path} (HTTP status {answer.status})")
        return data if isinstance(data, Mapping) else {}


_ENDS = {"access_denied": "the person refused", "expired_token": "the code has ended; begin again"}


def _is_link(value: object) -> bool:
    return (
        isinstance(value, str)
        and value.startswith(("https://", "http://"))
        and value.isprintable()
        and " " not in value
    )


def _seconds(value: object, otherwise: float) -> float:
    good = isinstance(value, int | float) and not isinstance(value, bool) and value > 0
    return float(value) if good and isinstance(value, int | float) else otherwise


def _error(answer: Mapping[str, object]) -> str:
    """The server's code for what is wrong (RFC 6749, 5.2)."""
    return without(on_one_line(str(answer.get("error", "it does not say why"))))[:60]
