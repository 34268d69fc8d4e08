"""A login by a form, for devices that want neither digest nor basic: a session by cookie or token, renewed when it is over.

A login that was refused is not sent again: accounts lock.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping

from direkt.described import answers
from direkt.described.answers import Answered
from direkt.described.errors import BadAnswer, DeviceError, DeviceLoginRefused
from direkt.described.http import HttpAnswer, HttpInterface
from direkt.described.requests import RefusalEntries, filled, says_no
from direkt.device.driver_file import DeviceSignIn
from direkt.protocol import clear, refusals
from direkt.secret import Secret

_EARLY = 0.9  # share of its life after which a session is renewed
_LONGEST = 4096  # characters of a token

Read = Callable[[HttpAnswer, str], Answered]


class SignedInSession:
    """One device's session. ``read``: an answer by its shape; ``kept``: is given each token, so that no text repeats it."""

    def __init__(
        self, http: HttpInterface, entry: DeviceSignIn, login: tuple[str, Secret] | None, no: RefusalEntries | None, read: Read,
        kept: Callable[[Secret], None], now: Callable[[], float] = time.monotonic,
    ) -> None:  # fmt: skip
        self._http, self._entry, self._login, self._no, self._read, self._kept, self._now = http, entry, login, no, read, kept, now
        self._header: dict[str, str] = {}
        self._begun = False
        self._until: float | None = None  # s of the clock; None: it does not say

    def send(self, method: str, path: str, content: bytes, headers: Mapping[str, str]) -> HttpAnswer:
        """The answer to a request inside the session. Raises DeviceError."""
        fresh = self._ensure()
        answer = self._http.exchange(method, path, content, {**headers, **self._header})
        if not self._over(answer):
            return answer
        if fresh:
            raise DeviceLoginRefused(
                self._http.name, f"takes the login of {self._user}, but not for {method} {path.partition('?')[0]}: give that user more rights on its page"
            )
        self._begun = False
        self._ensure()
        answer = self._http.exchange(method, path, content, {**headers, **self._header})
        if self._over(answer):
            raise DeviceLoginRefused(
                self._http.name, f"takes the login of {self._user}, but not for {method} {path.partition('?')[0]}: give that user more rights on its page"
            )
        return answer

    @property
    def _user(self) -> str:
        return self._login[0] if self._login is not None else "nobody"

    def _over(self, answer: HttpAnswer) -> bool:
        """Whether an answer says that there is no session."""
        if answer.status in (401, 403) or (300 <= answer.status < 400):
            return True
        if not self._entry.expired:
            return False
        try:
            found = self._read(answer, "a request")
        except DeviceError:
            return False
        for place, words in self._entry.expired.items():
            said = found.get(place)
            if said is not None and str(said).strip().lower() in [str(word).strip().lower() for word in words]:
                return True
        return False

    def _ensure(self) -> bool:
        """Begins a session where there is none, or its life is over; whether that was needed."""
        if self._begun and (self._until is None or self._now() < self._until):
            return False
        name = self._http.name
        if self._login is None:
            raise DeviceLoginRefused(name, "wants a login (by its form): give it under 'login' in the rig")
        if not clear.allowed(self._http.address):
            raise DeviceLoginRefused(clear.words("the login", self._http.address, f"devices.{name}"))
        user, password = self._login
        when = refusals.current().refused(self._http.address, user, password)
        if when is not None:
            words = f" on {when}" if when else ""
            raise DeviceLoginRefused(
                name, f"has refused this login{words}; it is not sent again, so that the account does not lock: change it in the rig, or try it "
                f"once more: direkt device login {name}"
            )
        self._begin(user, password)
        refusals.current().forget(self._http.address, user, password)
        self._begun = True
        return True

    def _begin(self, user: str, password: Secret) -> None:
        entry, name = self._entry, self._http.name
        method, _, path = entry.send.partition(" ")
        fields = filled(entry.fields, {"user": user, "password": password.reveal()})
        body, kind, query = answers.body(entry.coding, fields, entry.root)
        self._http.forget_cookies()
        self._header = {}
        asked = f"{method} {path.partition('?')[0]}"
        answer = self._http.exchange(method, path + (("&" if "?" in path else "?") + query if query else ""), body, {"Content-Type": kind} if body else {})
        if answer.status >= 500 or answer.status == 404:
            raise BadAnswer(name, f"answers {asked} with HTTP status {answer.status}: does its driver fit it?")
        found = self._read(answer, asked) if answer.content.strip() and (entry.token or self._no is not None or entry.life_at) else None
        refused = answer.status >= 400 or (found is not None and self._no is not None and self._no.at is not None and says_no(found, self._no))
        token = str(found.get(entry.token) or "") if found is not None and entry.token is not None else ""
        if entry.token is not None and not refused and (not token or len(token) > _LONGEST or not token.isascii() or not token.isprintable()):
            refused = True
        if entry.token is None and not refused and not self._http.has_cookies and self._http.odd_cookie:
            raise BadAnswer(name, f"answers {asked} with a cookie that cannot be sent back: it has letters outside ASCII")
        if entry.token is None and not refused and not self._http.has_cookies:
            refused = True
        if refused:
            refusals.current().note(self._http.address, user, password)
            raise DeviceLoginRefused(
                name, f"refuses the login of {user} (by its form): check user name and password; it was sent once and is not sent again"
            )
        if token:
            self._kept(Secret(token))
            header, _, value = entry.header.partition(":")
            self._header = {header.strip(): value.strip().replace("{token}", token)}
        life = entry.life
        if entry.life_at is not None and found is not None:
            said = found.get(entry.life_at)
            number = float(said) if isinstance(said, int | float) or (isinstance(said, str) and said.strip().isdigit()) else 0.0
            life = number if 0 < number < 1e8 else life
        self._until = self._now() + _EARLY * life if life is not None else None
