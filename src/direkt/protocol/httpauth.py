"""Login by challenge and answer, as HTTP and RTSP share it: Digest (RFC 7616, with RFC 2069's older form) and Basic (RFC 7617).

Both ends, without I/O: a client parses what is offered, chooses the best it can do, and answers; a server checks an
answer. The text of a header is read once, from left to right.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

# RFC 7616, 3.3: algorithm; the better one first
HASHES: Mapping[str, Callable[[bytes], str]] = {
    "SHA-512-256": lambda data: hashlib.new("sha512_256", data).hexdigest(),
    "SHA-256": lambda data: hashlib.sha256(data).hexdigest(),
    "MD5": lambda data: hashlib.md5(data, usedforsecurity=False).hexdigest(),
}
_SESSION = "-SESS"
_TOKEN = r"[!#$%&'*+.^_`|~0-9A-Za-z-]+"
# one parameter of a challenge; a new scheme is a token that no '=' follows
_PART = re.compile(
    rf'\s*(?:,\s*)*(?:(?P<name>{_TOKEN})\s*=\s*(?:"(?P<quoted>(?:[^"\\]|\\.)*)"|(?P<bare>[^\s,"]*))|(?P<scheme>{_TOKEN})(?P<blob>\s+[A-Za-z0-9._~+/-]+=*(?=\s*(?:,|$)))?)'
)


@dataclass(frozen=True, slots=True)
class Challenge:
    """One scheme that is offered: ``digest``, ``basic`` or another, in small letters, with its parameters."""

    scheme: str
    parameters: Mapping[str, str] = field(default_factory=dict)

    @property
    def algorithm(self) -> str:
        """Of digest, in capitals: MD5 where none is named (RFC 7616, 3.3)."""
        return self.parameters.get("algorithm", "MD5").strip().upper() or "MD5"

    @property
    def qop(self) -> tuple[str, ...]:
        """The protections that are offered; none in the older form."""
        return tuple(word.strip().lower() for word in self.parameters.get("qop", "").split(",") if word.strip())

    @property
    def stale(self) -> bool:
        """Whether only the nonce was too old."""
        return self.parameters.get("stale", "").lower() == "true"

    @property
    def text(self) -> str:
        """As a person reads it."""
        return f"digest {self.algorithm}" if self.scheme == "digest" else self.scheme


def parse_challenges(headers: Iterable[str]) -> list[Challenge]:
    """What the WWW-Authenticate headers offer. What cannot be read is skipped."""
    found: list[tuple[str, dict[str, str]]] = []
    for header in headers:
        at = 0
        while at < len(header) and (match := _PART.match(header, at)) is not None:
            at = match.end()
            if match["scheme"] is not None:
                found.append((match["scheme"].lower(), {}))
            elif found:
                value = match["bare"] if match["quoted"] is None else re.sub(r"\\(.)", r"\1", match["quoted"])
                found[-1][1].setdefault(match["name"].lower(), value)
    return [Challenge(scheme, parameters) for scheme, parameters in found]


def _usable(challenge: Challenge) -> bool:
    if challenge.scheme == "basic":
        return True
    known = challenge.algorithm.removesuffix(_SESSION) in HASHES
    protections = not challenge.qop or bool({"auth", "auth-int"} & set(challenge.qop))
    return challenge.scheme == "digest" and known and protections and "nonce" in challenge.parameters


def choose(challenges: Iterable[Challenge], allowed: Iterable[str] = ("digest", "basic")) -> Challenge | None:
    """The strongest challenge that can be answered: digest before basic, SHA before MD5; None where there is none."""
    allowed = tuple(allowed)
    strength = {"basic": 0, **{f"digest {name}": n for n, name in enumerate(reversed(list(HASHES)), 1)}}

    def rank(challenge: Challenge) -> int:
        return strength.get(challenge.text.removesuffix(_SESSION), 0)

    return max((c for c in challenges if _usable(c) and c.scheme in allowed), key=rank, default=None)


def basic(user: str, password: str) -> str:
    """An Authorization value (RFC 7617, 2)."""
    return "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def digest(
    challenge: Challenge, user: str, password: str, method: str, uri: str, *,
    count: int, client_nonce: str, body: bytes = b"",
) -> str:  # fmt: skip
    """An Authorization value (RFC 7616, 3.4); ``count``: how often the nonce was used, from 1.

    ``body`` counts where the server wants it protected (qop auth-int) and no less will do.
    """
    given = challenge.parameters
    qop = next((word for word in ("auth", "auth-int") if word in challenge.qop), "")
    made = _response(challenge, user, password, method, uri, qop, f"{count:08x}", client_nonce, body)
    named = user
    hashed = given.get("userhash", "").lower() == "true"
    if hashed:  # RFC 7616, 3.4.4
        named = _hash(challenge)(f"{user}:{given.get('realm', '')}".encode())
    parts = [
        f"username={_quoted(named)}", f"realm={_quoted(given.get('realm', ''))}", f"nonce={_quoted(given['nonce'])}",
        f"uri={_quoted(uri)}", f'response="{made}"',
    ]  # fmt: skip
    if "algorithm" in given:
        parts.append(f"algorithm={given['algorithm'].strip()}")
    if "opaque" in given:
        parts.append(f"opaque={_quoted(given['opaque'])}")
    if qop:
        parts += [f"qop={qop}", f"nc={count:08x}", f"cnonce={_quoted(client_nonce)}"]
    elif challenge.algorithm.endswith(_SESSION):
        parts.append(f"cnonce={_quoted(client_nonce)}")
    if hashed:
        parts.append("userhash=true")
    return "Digest " + ", ".join(parts)


def _hash(challenge: Challenge) -> Callable[[bytes], str]:
    return HASHES[challenge.algorithm.removesuffix(_SESSION)]


def _response(
    challenge: Challenge, user: str, password: str, method: str, uri: str, qop: str, count: str, client_nonce: str, body: bytes
) -> str:  # fmt: skip
    made, nonce = _hash(challenge), challenge.parameters.get("nonce", "")
    first = made(f"{user}:{challenge.parameters.get('realm', '')}:{password}".encode())
    if challenge.algorithm.endswith(_SESSION):
        first = made(f"{first}:{nonce}:{client_nonce}".encode())
    second = f"{method}:{uri}" + (f":{made(body)}" if qop == "auth-int" else "")
    middle = f"{nonce}:{count}:{client_nonce}:{qop}" if qop else nonce
    return made(f"{first}:{middle}:{made(second.encode())}".encode())


# The server's end


def login_of(authorization: str) -> Challenge | None:
    """What an Authorization header says; of basic, ``user`` and ``password`` are among its parameters."""
    scheme, _, rest = authorization.strip().partition(" ")
    if scheme.lower() == "basic":
        try:
            user, colon, password = base64.b64decode(rest.strip(), validate=True).decode().partition(":")
        except ValueError:
            return None
        return Challenge("basic", {"user": user, "password": password}) if colon else None
    found = parse_challenges([authorization])
    return found[0] if found else None


def is_right(offered: Challenge, given: Challenge, user: str, password: str, method: str, body: bytes = b"") -> bool:
    """Whether what a client gives answers the challenge that was offered to it, for this user and request."""
    if given.scheme != offered.scheme:
        return False
    if given.scheme == "basic":
        same = [
            hmac.compare_digest(given.parameters[n].encode(), v.encode())
            for n, v in (("user", user), ("password", password))
        ]
        return all(same)
    get = given.parameters.get
    if any(get(name) != offered.parameters.get(name) for name in ("realm", "nonce")) or get("username") != user:
        return False
    qop = get("qop", "")
    if (qop and qop not in offered.qop) or (offered.qop and not qop):
        return False
    want = _response(offered, user, password, method, get("uri", ""), qop, get("nc", ""), get("cnonce", ""), body)
    return hmac.compare_digest(want, get("response", ""))
