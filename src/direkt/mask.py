"""The one masker: every secret that is in use, hidden in whatever form it takes, at each edge where text leaves.

A secret is in use from the moment a ``Secret`` is made of it. It is found as it is, in capital or small letters, percent-encoded
(RFC 3986, 2.1; once or more often), as hexadecimal digits, in Base64 (RFC 4648) at any offset, and as JSON (RFC 8259, 7) and XML
(XML 1.0, 4.1) escape it, wholly or in part.

``foreign`` hides all of them, in words of others. ``own`` leaves standing what cannot be told from a word of our own: secrets
that are short, mere digits, a plain word, or a name that the rig shows anyway.
"""

from __future__ import annotations

import base64
import dataclasses
import html
import re
import threading
from collections.abc import Iterable, Mapping
from functools import cached_property, lru_cache
from typing import IO, Any
from urllib.parse import unquote_to_bytes

HIDDEN = "(key)"
SHORTEST = 4  # characters of a secret that is looked for
_OWN_SHORTEST = 6  # the same in our own words
_OWN_DIGITS = 8  # and of one that is a number
_MOST, _MOST_ELSEWHERE = 1024, 64  # secrets that are remembered; the oldest are forgotten
_LEVELS = 24  # ways of decoding a text that are tried
_DIGITS, _RUN = re.compile("[0-9a-f]{8,}"), re.compile("[A-Za-z0-9+/_-]{6,}")
_SEPARATED = re.compile(r"[\s:,-]+|\\x|0x")
_ESCAPED = re.compile(r"\\(?:u([0-9a-fA-F]{4})|(.))", re.DOTALL)
# passwords that are words of ours as well
_WORDS = frozenset(
    re.findall(
        r"\w+",
        "access account address admin administrator anonymous backup camera changeme channel control default destination device direkt encoder "
        "firmware manager master monitor network operator password passwort private public receiver recorder remote secret security server "
        "service setting settings sheet station stream streaming studio support system testing unknown upload viewer visitor watcher",
    )
)


def _each_character(value: str) -> str:
    """A pattern for a value whose characters may each be written in any of their forms."""
    return "".join(map(_any_form, value))


@lru_cache(4096)
def _any_form(character: str) -> str:
    point, encoded = ord(character), character.encode("utf-8", "replace")
    forms = [r"\\+" if character == "\\" else rf"\\*{re.escape(character)}"]
    for one in {encoded, character.swapcase().encode("utf-8", "replace")}:
        forms.append("".join(f"%(?:25)*{byte:02x}" for byte in one))
    units = character.encode("utf-16-be", "replace")
    forms.append("".join(rf"\\+u{units[n]:02x}{units[n + 1]:02x}" for n in range(0, len(units), 2)))
    forms.append(rf"&(?:amp;)*\#(?:0*{point}|x0*{point:x});?")
    named = html.escape(character, quote=True)
    if named != character:
        forms += [re.escape(named), re.escape(named).replace("&", "&(?:amp;)+", 1)]
    if character == "'":
        forms.append("&apos;")
    if character == " ":
        forms.append(r"\+")
    return f"(?:{'|'.join(forms)})"


def _base64_cores(value: bytes) -> list[str]:
    """The characters that a value has in Base64, for each of the three places at which it may begin; only those that are its own."""
    cores = []
    for shift in range(3):
        text = base64.b64encode(bytes(shift) + value + bytes(2)).decode()
        begin = -(-shift * 8 // 6)
        cores.append(text[begin : (shift + len(value)) * 8 // 6])
    return [core for core in cores if len(core) >= _OWN_SHORTEST]


class _Needle:
    """One secret: what tells fast that it is not there, and the pattern that takes it out."""

    def __init__(self, value: str) -> None:
        self.value = value
        self._low = value.lower()
        self._plus = self._low.replace(" ", "+")  # as forms have it
        raw = value.encode("utf-8", "replace")
        self._hex = raw.hex()
        self._cores = _base64_cores(raw)
        self._cores += [safe for core in self._cores if (safe := core.translate(_URL_SAFE)) != core]
        letters = value.replace("-", "").replace("_", "")
        self.own = (
            len(value) >= _OWN_SHORTEST
            and self._low not in _WORDS
            and not (value.isdigit() and len(value) < _OWN_DIGITS)
            and not (letters.isalpha() and letters.islower() and len(value) < _OWN_DIGITS)
        )

    def in_(self, text: Forms) -> bool:
        """Whether it may be there: true where it is."""
        if self._low in text.plain or (self._plus != self._low and self._plus in text.plain):
            return True
        if len(self._hex) <= text.digits and self._hex in text.close:
            return True
        return any(len(core) <= text.run and core in text.as_is for core in self._cores)

    @property
    def pattern(self) -> re.Pattern[str]:
        """What is taken out."""
        return _pattern(self.value)


_URL_SAFE = str.maketrans("+/", "-_")


@lru_cache(512)
def _pattern(value: str) -> re.Pattern[str]:
    raw = value.encode("utf-8", "replace")
    apart = r"(?:[\s:,-]+|\\x|0x)*"
    parts = [f"(?i:{_each_character(value)})", f"(?i:{apart.join(raw.hex())})"]
    cores = _base64_cores(raw)
    # what stands in front of and behind it in the same run goes too: two characters of it are shared with the neighbours
    parts += [
        rf"[A-Za-z0-9+/_-]?{re.escape(core).replace(re.escape('+'), '[+-]').replace(re.escape('/'), '[/_]')}[A-Za-z0-9+/_-]?={{0,2}}"
        for core in cores
    ]
    return re.compile("|".join(parts))


class Forms:
    """A text, and what it is behind its encodings; each is made when it is asked for."""

    def __init__(self, text: str) -> None:
        self.as_is = text

    @cached_property
    def plain(self) -> str:
        """All that it can be decoded to, and itself, in small letters."""
        return _decoded(self.as_is).lower()

    @cached_property
    def close(self) -> str:
        """Without what separates digits, in small letters."""
        return _SEPARATED.sub("", self.as_is.lower())

    @cached_property
    def digits(self) -> int:
        """Its longest run of hexadecimal digits, as they stand in ``close``."""
        return max(map(len, _DIGITS.findall(self.close)), default=0)

    @cached_property
    def run(self) -> int:
        """Its longest run of characters of Base64."""
        return max(map(len, _RUN.findall(self.as_is)), default=0)


def _decoded(text: str) -> str:
    """What a text can be decoded to, by one or more of the encodings in any order, each on lines of its own."""
    found = {text: None}
    waiting = [text]
    while waiting and len(found) < _LEVELS:
        one = waiting.pop(0)
        for decode in (_percent, _xml, _json):
            other = decode(one)
            if other not in found:
                found[other] = None
                waiting.append(other)
    return "\n".join(found)


def _percent(text: str) -> str:
    return unquote_to_bytes(text.encode("utf-8", "replace")).decode("utf-8", "replace") if "%" in text else text


def _xml(text: str) -> str:
    return html.unescape(text) if "&" in text else text


def _json(text: str) -> str:
    if "\\" not in text:
        return text
    text = _ESCAPED.sub(lambda m: chr(int(m[1], 16)) if m[1] else m[2], text)
    return text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")


class Masker:
    """Knows secrets, and takes them out of texts."""

    def __init__(self) -> None:
        self._needles: dict[str, _Needle] = {}
        self._elsewhere: dict[str, _Needle] = {}  # hidden in words of others only
        self._public: set[str] = set()
        self._lock = threading.Lock()

    def add(self, value: str, *, everywhere: bool = True) -> None:
        """From here on this is in use; not ``everywhere``: it is hidden in words of others only."""
        if len(value) < SHORTEST:
            return
        with self._lock:
            kept, most = (self._needles, _MOST) if everywhere else (self._elsewhere, _MOST_ELSEWHERE)
            if value in kept:
                kept[value] = kept.pop(value)  # the latest again
                return
            kept[value] = _Needle(value)
            while len(kept) > most:
                del kept[next(iter(kept))]

    def publish(self, names: Iterable[str]) -> None:
        """Names that are shown in any case: a secret that is one of them does not blot them out of our own words."""
        with self._lock:
            self._public.update(name.lower() for name in names)

    def own(self, text: str) -> str:
        """A text of ours, without the secrets in use."""
        if len(text) < _OWN_SHORTEST or not self._needles:
            return text
        with self._lock:
            needles = [n for n in self._needles.values() if n.own and n.value.lower() not in self._public]
        return _out_of(text, needles)

    def foreign(self, text: str, more: Iterable[str] = ()) -> str:
        """A text of somebody else's, without the secrets in use and ``more``."""
        if len(text) < SHORTEST:
            return text
        with self._lock:
            needles = {**self._elsewhere, **self._needles}
        for value in more:
            if len(value) >= SHORTEST and value not in needles:
                needles[value] = _Needle(value)
        return _out_of(text, list(needles.values()))


def _out_of(text: str, needles: list[_Needle]) -> str:
    needles.sort(key=lambda needle: -len(needle.value))  # one may be a part of another
    forms = Forms(text)
    for needle in needles:
        if needle.in_(forms):
            text = needle.pattern.sub(HIDDEN, text)
            forms = Forms(text)
            if needle.in_(forms):  # in a form that only decoding shows: what it stands in goes as a whole
                text = _without_parts(text, needle)
                forms = Forms(text)
    return text


def _without_parts(text: str, needle: _Needle) -> str:
    """A text without its words, or else lines, that decode to a secret; nothing of it where even that does not do."""
    for pattern in (r"\S+", r"[^\n]+"):
        text = re.sub(pattern, lambda m: HIDDEN if needle.in_(Forms(m[0])) else m[0], text)
        if not needle.in_(Forms(text)):
            return text
    return HIDDEN


IN_USE = Masker()


def own(text: str) -> str:
    """A text of ours, without the secrets in use."""
    return IN_USE.own(text)


def document(value: Any) -> Any:
    """The same in every text of a JSON document; its names stay."""
    if isinstance(value, str):
        return IN_USE.own(value)
    if isinstance(value, Mapping):
        return {name: document(one) for name, one in value.items()}
    if isinstance(value, list | tuple):
        return [document(one) for one in value]
    return value


def everything(value: Any) -> Any:
    """The same in every text of a dataclass and of what it holds."""
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return dataclasses.replace(value, **{f.name: everything(getattr(value, f.name)) for f in dataclasses.fields(value) if f.init})
    if isinstance(value, tuple):
        return tuple(everything(one) for one in value)
    return document(value)


class Edge:
    """A text stream of this process whose every line is masked before it leaves.

    What has no line end yet waits for it, or for a flush. ``through`` lets text pass as it is, for what the person asked to see.
    """

    def __init__(self, stream: IO[str], masker: Masker = IN_USE) -> None:
        self._stream, self._masker, self._waiting = stream, masker, ""

    def write(self, text: str) -> int:
        """Takes text; whole lines leave."""
        if not isinstance(text, str):
            raise TypeError(f"write() argument must be str, not {type(text).__name__}")
        lines, end, rest = (self._waiting + text).rpartition("\n")
        self._waiting = rest
        if end:
            self._stream.write(self._masker.own(lines + end))
        return len(text)

    def writelines(self, lines: Iterable[str]) -> None:
        """The same, piece by piece."""
        for line in lines:
            self.write(line)

    def flush(self) -> None:
        """What waits leaves now."""
        waiting, self._waiting = self._waiting, ""
        if waiting:
            self._stream.write(self._masker.own(waiting))
        self._stream.flush()

    def through(self, text: str) -> None:
        """Text that leaves as it is."""
        self.flush()
        self._stream.write(text)
        self._stream.flush()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)
