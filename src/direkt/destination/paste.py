"""Server address and key, as people paste them: repairs what is certain, refuses the rest, and says which.

A paste is cleaned of what cannot be seen, cut into pieces, and each piece is taken for an address or a key by its
form. A repair is certain when only one sound reading exists: against the key's pattern, or against an address that
the sheet or the rig already knows. No message ever holds the key.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from direkt.destination.no_key import SHORTEST, is_mask, slip_of, why_no_key
from direkt.destination.pattern import Pattern
from direkt.errors import UnusableInput
from direkt.protocol import address
from direkt.protocol.address import AddressError, ServerAddress
from direkt.protocol.schemes import MISTAKEN, PORTS, SPOKEN

_MOST = 8192  # characters
_INVISIBLE = re.compile(r"[\u00ad\u180e\u200b-\u200f\u202a-\u202e\u2060-\u2064\ufeff\ufe0f]")
_QUOTES = "\"'`\u2018\u2019\u201a\u201b\u201c\u201d\u201e\u201f\u00ab\u00bb\u2039\u203a\u2032\u2033\uff02\uff07"
_DASHES = "\u2010\u2011\u2012\u2013\u2014\u2015\u2212\ufe63\uff0d"
_WIDE = {
    "\uff1a": ":",
    "\uff0f": "/",
    "\uff0e": ".",
    "\uff1f": "?",
    "\uff06": "&",
    "\uff1d": "=",
    "\u2215": "/",
    "\u2044": "/",
}
_LOCAL = [
    ipaddress.ip_network(n)
    for n in (
        "10.0.0.0/8",
        "172.16.0.0/12",
        "192.168.0.0/16",
        "169.254.0.0/16",
        "127.0.0.0/8",
        "fc00::/7",
        "fe80::/10",
        "::1/128",
    )
]
_LABEL = re.compile(
    r"(?i)(?:^|(?<=[\s,;|]))(?:your\s+|the\s+)?(?:(?:primary|backup|" + "|".join(SPOKEN) + r"|ingest|stream(?:ing)?|server|push|publish|live|secret|private)\s+)*"
    r"(?:url|address|server|ingest|key|name|stream\s*(?:key|name)|streamkey|destination)\s*(?:is\b\s*)?[:=]+\s*"
)  # fmt: skip
_SCHEMES = "|".join(sorted([*SPOKEN, *MISTAKEN], key=len, reverse=True))
_SCHEME = re.compile(rf"(?i)^(?:({_SCHEMES})\s*(?::/{{0,4}}|;/{{1,4}}|/{{2,4}}|:\s+/{{1,3}}))")
# Letters of other alphabets that look like ours
_ALIKE = dict(zip("АВЕКМНОРСТУХаеорсухіјѕΑΒΕΖΗΙΚΜΝΟΡΤΥΧοΙ", "ABEKMHOPCTYXaeopcyxijsABEZHIKMNOPTYXoI", strict=True))
# Characters that are read as each other
_TWINS = {
    "0": "Oo",
    "O": "0",
    "o": "0",
    "1": "lI",
    "l": "1I",
    "I": "1l",
    "5": "S",
    "S": "5",
    "8": "B",
    "B": "8",
    "2": "Z",
    "Z": "2",
}


class PasteError(UnusableInput):
    """A paste that has no certain meaning; the text explains, without the key."""


@dataclass(frozen=True, slots=True)
class Paste:
    """What was meant, and what was repaired to get there."""

    server: ServerAddress | None
    key: str | None
    repairs: tuple[str, ...] = ()

    def __repr__(self) -> str:
        return f"Paste({self.server}, key of {len(self.key or '')} characters, {self.repairs})"


def untangle(
    text: str, *, pattern: str | None = None, known: Sequence[ServerAddress] = (), ports: Iterable[tuple[str, int]] = (),
) -> Paste:  # fmt: skip
    """Server address and key in ``text``, either of them alone or both in any order.

    ``pattern``: what keys look like; ``known``: addresses of this destination; ``ports``: its protocols and their
    ports. Raises PasteError, and PatternError for a pattern that is none or takes too long.
    """
    if len(text) > _MOST:
        raise PasteError(f"{len(text)} characters were pasted; a server address and a key have a few dozen")
    repairs: list[str] = []
    like = Pattern(pattern) if pattern is not None else None
    clean = _visible(text, repairs)
    pieces = _pieces(clean, repairs)
    if not pieces:
        raise PasteError("nothing was pasted")
    addresses = [piece for piece in pieces if _is_address(piece)]
    others = [piece for piece in pieces if not _is_address(piece)]
    server, inner = None, None
    if addresses:
        found = [_address(piece, like, known, list(ports), repairs) for piece in dict.fromkeys(addresses)]
        if len({(str(s), k) for s, k in found}) > 1:
            if len({str(s) for s, _ in found}) > 1:
                raise PasteError("two different server addresses were pasted: paste one")
            keys = {k for _, k in found if k is not None}
            if len(keys) > 1:
                raise PasteError("two different keys stand in the pasted addresses: paste one")
            found = [(found[0][0], next(iter(keys), None))]
        if len(addresses) > 1:
            repairs.append("the server address was pasted more than once")
        server, inner = found[0]
    key = _key(others, inner, like, repairs)
    return Paste(server, key, tuple(dict.fromkeys(repairs)))


# Cleaning


def _visible(text: str, repairs: list[str]) -> str:
    if _INVISIBLE.search(text):
        repairs.append("invisible characters taken out")
        text = _INVISIBLE.sub("", text)
    if any(c in text for c in _WIDE):
        repairs.append("wide or odd punctuation replaced")
        text = "".join(_WIDE.get(c, c) for c in text)
    if any(c in text for c in _QUOTES):
        repairs.append("quotation marks taken out")
        text = "".join(" " if c in _QUOTES else c for c in text)
    if any(c in text for c in "<>"):
        repairs.append("angle brackets taken out")
        text = text.replace("<", " ").replace(">", " ")
    if "\u00a0" in text or "\t" in text or "\r" in text:
        text = text.replace("\u00a0", " ").replace("\t", " ").replace("\r", "\n")
    if text.removesuffix("\n") != text.strip():  # a line end behind it all is how standard input comes
        repairs.append("spaces or line ends at the edges taken out")
    return text.strip()


def _pieces(text: str, repairs: list[str]) -> list[str]:
    """The pasted words without labels; an address that spaces tore apart is put together."""
    lines = []
    for line in text.splitlines():
        shorn = _LABEL.sub(" ", line)
        if shorn.strip() != line.strip():
            repairs.append("the words around it taken out")
        lines.append(shorn)
    words = [word.strip(",;|") for line in lines for word in line.split()]
    words = [word for word in words if word and word not in ("and", "&", "-", "|", "+")]
    joined: list[str] = []
    for word in words:
        last = joined[-1] if joined else ""
        torn = last and _is_address(last) and (word[0] in "/:" or last[-1] in "/:.")
        torn = (
            bool(torn)
            and not _is_address(word)
            and (word[0] in "/:." or "/" in word or last.endswith((":", "//", ".")))
        )
        if torn:
            joined[-1] = last + word
            repairs.append("spaces inside the server address taken out")
        else:
            joined.append(word)
    return joined


def _is_address(piece: str) -> bool:
    return _SCHEME.match(piece) is not None or re.match(rf"(?i)({_SCHEMES})[:;/]", piece) is not None


# Addresses


def _address(
    piece: str,
    pattern: Pattern | None,
    known: Sequence[ServerAddress],
    ports: list[tuple[str, int]],
    repairs: list[str],
) -> tuple[ServerAddress, str | None]:
    """The server in ``piece``, and the key that may hang on it."""
    scheme, rest = _scheme(piece, known, ports, repairs)
    host, slash, path = rest.partition("/")
    if host != host.lower():
        repairs.append("the host is written in small letters")
        host = host.lower()
    path, question, query = path.partition("?")
    if slash and (path != path.strip("/") or "//" in path):
        repairs.append("extra slashes taken out of the server address")
        path = re.sub(r"/{2,}", "/", path).strip("/")
    _check_host(host, known)
    if not path:
        raise PasteError(
            "the server address has no application behind its host (rtmp://host/application): copy it whole"
        )
    app, inner = _split_path(f"{path}{question}{query}", host, pattern, known, repairs)
    try:
        server = address.parse(f"{scheme}://{host}/{app}")
    except AddressError as error:
        raise PasteError(str(error)) from None
    _check_port(server, known, ports)
    return _like_known(server, known, repairs), inner


def _scheme(
    piece: str, known: Sequence[ServerAddress], ports: list[tuple[str, int]], repairs: list[str]
) -> tuple[str, str]:
    schemes: list[str] = []
    rest = piece
    while match := _SCHEME.match(rest):
        schemes.append(match[1].lower())
        if match[0].lower() != f"{match[1].lower()}://":
            repairs.append("the slashes and colon behind the scheme put right")
        elif match[0] != match[0].lower():
            repairs.append("the scheme is written in small letters")
        rest = rest[match.end() :]
    if not schemes:
        raise PasteError("the server address is broken behind its scheme: copy it whole")
    taken = {p for p, _ in ports} | {k.scheme for k in known}
    ours = [s for s in schemes if s in SPOKEN]
    if len(schemes) > 1:
        if len({MISTAKEN.get(s, s) for s in schemes}) > 1:
            raise PasteError(
                f"the server address has two schemes, {' and '.join(dict.fromkeys(schemes))}: copy it again"
            )
        repairs.append("the doubled scheme taken out")
    if ours:
        return ours[-1], rest
    meant = MISTAKEN[schemes[0]]
    if taken and meant not in taken:
        raise PasteError(
            f"{schemes[0]}:// is for web pages, and this destination takes no {meant}: copy the server address again"
        )
    repairs.append(f"{schemes[0]}:// replaced by {meant}://")
    return meant, rest


def _check_host(host: str, known: Sequence[ServerAddress]) -> None:
    bare = re.sub(r":\d*$", "", host).strip("[]")
    try:
        number = ipaddress.ip_address(bare)
    except ValueError:
        if not re.fullmatch(r"[a-z0-9.-]+", bare) or ("." not in bare and bare != "localhost"):
            raise PasteError("what stands behind the scheme is no host name: copy the server address again") from None
        for k in known:
            if slip_of(bare, k.host) and all(bare != other.host for other in known):
                raise PasteError(
                    f"the host {bare} is one letter off this destination's {k.host}: copy the address again, or write it into "
                    f"the rig where it is right"
                ) from None
        return
    if any(k.host == bare for k in known):
        return
    if any(number in net for net in _LOCAL if net.version == number.version):
        raise PasteError(
            f"{bare} is an address of some local network, not of a platform: copy the server address again"
        )
    if known:
        raise PasteError(f"{bare} is a bare IP address; this destination's server is {known[0].host}")


def _check_port(server: ServerAddress, known: Sequence[ServerAddress], ports: list[tuple[str, int]]) -> None:
    pair = (server.scheme, server.port)
    if pair in ports or any((k.scheme, k.port) == pair for k in known):
        return
    other = next((s for s, p in PORTS.items() if p == server.port and s != server.scheme), None)
    if other is not None:
        raise PasteError(
            f"port {server.port} is that of {other}://, but the address begins with {server.scheme}://: which is meant?"
        )
    if ports and server.scheme not in {p for p, _ in ports}:
        raise PasteError(f"this destination takes {', '.join(sorted({p for p, _ in ports}))}, not {server.scheme}")


def _split_path(
    path: str, host: str, pattern: Pattern | None, known: Sequence[ServerAddress], repairs: list[str]
) -> tuple[str, str | None]:
    """Application and key of a path that may hold both."""
    plain, question, query = path.partition("?")
    apps = [k.app for k in known if k.host == host] or [k.app for k in known]
    if path[-1:] in ".,;:!" and path[:-1].lower() in {app.lower() for app in apps}:
        repairs.append("the sentence's own sign behind the server address taken off")
        path = path[:-1]
    for app in sorted(set(apps), key=len, reverse=True):
        if path.lower() == app.lower():
            return path, None
        if path.lower().startswith(app.lower() + "/"):
            repairs.append("the key was pasted into the server address and is taken apart")
            return path[: len(app)], path[len(app) + 1 :]
    if pattern is not None:
        segments = plain.split("/")
        for n in range(1, len(segments)):
            tail = "/".join(segments[n:]) + question + query
            if pattern.fits(tail) and (not apps or "/".join(segments[:n]) in apps):
                repairs.append("the key was pasted into the server address and is taken apart")
                return "/".join(segments[:n]), tail
    if apps:
        raise PasteError(
            f"the application in the server address is none of this destination's: expected {' or '.join(dict.fromkeys(apps))}"
        )
    if question:
        raise PasteError(
            "the server address ends in a question mark and more: is the key pasted into it? Paste them apart"
        )
    if "/" in plain and pattern is None:
        raise PasteError(
            "the server address may hold the key, and nothing tells where it begins: paste address and key apart"
        )
    return path, None


def _like_known(server: ServerAddress, known: Sequence[ServerAddress], repairs: list[str]) -> ServerAddress:
    """The known address that ``server`` is but for capital letters."""
    for k in known:
        if str(k) != str(server) and str(k).lower() == str(server).lower():
            repairs.append("capital and small letters of the application put right")
            return k
    return server


# Keys


def _key(others: list[str], inner: str | None, pattern: Pattern | None, repairs: list[str]) -> str | None:
    candidates = list(dict.fromkeys(others))
    if len(candidates) < len(others):
        repairs.append("the key was pasted more than once")
    if inner is not None:
        candidates = [inner, *(c for c in candidates if c != inner)]
    if not candidates:
        return None
    if len(candidates) == 1:
        return _sound(candidates[0], pattern, repairs)
    if pattern is None:
        raise PasteError(
            f"{len(candidates)} different words could be the key: paste the server address and the key alone"
        )
    sound: dict[str, list[str]] = {}
    for candidate in candidates:
        notes: list[str] = []
        try:
            sound[_sound(candidate, pattern, notes)] = notes
        except PasteError:
            continue
    if len(sound) != 1:
        raise PasteError(
            f"{len(candidates)} words were pasted beside the address, and {len(sound)} of them look like a key: paste it alone"
        )
    key, notes = next(iter(sound.items()))
    repairs += notes
    if len(candidates) > 1:
        repairs.append("other words beside the key taken out")
    return key


def _sound(key: str, pattern: Pattern | None, repairs: list[str]) -> str:
    """The key as it was meant. Raises PasteError when that is not certain."""
    if pattern is None:
        if key.endswith(".") and not key.endswith("..") and len(key) > SHORTEST:
            key = key[:-1]
            repairs.append("the full stop behind the key taken off")
        if instead := why_no_key(key):
            raise PasteError(f"what stands in the key's place is {instead}")
        odd = next((n for n, c in enumerate(key, 1) if not 33 <= ord(c) < 127), None)
        if odd is not None:
            raise PasteError(f"character {odd} of the key is no plain letter, digit or sign: copy the key again")
        return key
    if is_mask(key):
        raise PasteError("what stands in the key's place is a mask: reveal the key at the platform, and copy it again")
    if pattern.fits(key):
        return key
    readings: dict[str, str] = {}
    for candidate, words in _readings(key, pattern):
        readings.setdefault(candidate, words)
        if len(readings) > 1:
            break
    if len(readings) == 1:
        candidate, words = next(iter(readings.items()))
        repairs.append(words)
        return candidate
    raise PasteError(_misfit(key, pattern))


def _readings(key: str, pattern: Pattern) -> Iterable[tuple[str, str]]:
    """Sound keys that ``key`` may have been, each with what was done."""
    if any(c in _DASHES for c in key):
        key = "".join("-" if c in _DASHES else c for c in key)
        if pattern.fits(key):
            yield key, "long dashes in the key replaced by hyphens"
            return
    if any(c in _ALIKE for c in key):
        key = "".join(_ALIKE.get(c, c) for c in key)
        if pattern.fits(key):
            yield key, "letters of another alphabet in the key replaced by ours"
            return
    half = len(key) // 2
    if len(key) % 2 == 0 and key[:half] == key[half:] and pattern.fits(key[:half]):
        yield key[:half], "the key was there twice"
        return
    stripped = key.strip(".,;:!?()[]{}*_/\\|")
    if stripped != key and pattern.fits(stripped):
        yield stripped, "punctuation around the key taken out"
    yield from ((text, "letters in the key put right against its pattern") for text in _walk(key, pattern))


def _walk(key: str, pattern: Pattern) -> Iterable[str]:
    """Keys of the pattern that differ from ``key`` only where its own character cannot stand; at most two.

    There, the other letter case and the characters that are read alike are tried.
    """
    alive = [""]
    for character in key:
        grown = []
        for text in alive:
            if pattern.could_begin(text + character):
                grown.append(text + character)
                continue
            swapped = character.swapcase() if character.isascii() else ""
            for other in dict.fromkeys(swapped + _TWINS.get(character, "") + _TWINS.get(swapped, "")):
                if other != character and pattern.could_begin(text + other):
                    grown.append(text + other)
        alive = grown
        if not alive or len(alive) > 64:
            return
    yield from [text for text in alive if pattern.fits(text) and text != key][:2]


def _misfit(key: str, pattern: Pattern) -> str:
    """Where the key leaves its pattern, in words that do not hold it."""
    for n in range(1, len(key) + 1):
        if not pattern.could_begin(key[:n]):
            return f"the key does not fit this destination's pattern: character {n} of {len(key)} is the first odd one; copy the key again"
    return f"the key ends too early: after {len(key)} characters the pattern wants more; copy the key again"
