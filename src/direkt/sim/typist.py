"""Somebody who types a setup card into a menu, and mistypes as people do."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from direkt.errors import UnusableInput

Entry = tuple[tuple[str, ...], str]
_STEP = re.compile(r"\[ \] (.+ > .+)\n        (\S.*)")
_TAKEN_FOR = {
    "l": "1",
    "1": "l",
    "0": "o",
    "o": "0",
    "O": "0",
    "I": "l",
    "5": "S",
    "S": "5",
    "2": "Z",
    "8": "B",
    "~": "-",
    "-": "_",
    "_": "-",
}


@dataclass(frozen=True, slots=True)
class Mistake:
    """One way to get it wrong."""

    words: str
    do: Callable[[list[Entry]], list[Entry]]


def read(text: str) -> list[Entry]:
    """The places and values of a card's text, in their order. Raises UnusableInput where it holds none, or no key."""
    found = [(tuple(path.split(" > ")), value) for path, value in _STEP.findall(text)]
    if not found:
        raise UnusableInput("this is no setup card: make one with direkt card FEED --reveal -o card.txt")
    if any(value.startswith("(") for _, value in found):
        raise UnusableInput("the key is not on this card: make it with direkt card FEED --reveal -o card.txt")
    return found


def _change(place: str, change: Callable[[str], str]) -> Callable[[list[Entry]], list[Entry]]:
    return lambda entries: [(path, change(value) if path[-1] == place else value) for path, value in entries]


def _mistake_key(key: str) -> str:
    """The first character that people take for another, taken for it."""
    at = next((n for n, character in enumerate(key) if character in _TAKEN_FOR), 0)
    return key[:at] + _TAKEN_FOR.get(key[at], "x") + key[at + 1 :]


def _swapped(key: str) -> str:
    at = next((n for n in range(len(key) - 2, 0, -1) if key[n] != key[n + 1]), 0)
    return key[:at] + key[at + 1] + key[at] + key[at + 2 :]


def _key_behind_server(entries: list[Entry]) -> list[Entry]:
    key = next((value for path, value in entries if path[-1] == "STREAM ID"), "")
    return _change("SERVER URL", lambda server: f"{server}/{key}")(entries)


def _neighbour(word: str) -> str:
    return {"A 720/25": "C 540/25", "B 720/50": "A 720/25", "C 540/25": "B 720/50"}.get(word, word)


_SERVER, _KEY = "SERVER URL", "STREAM ID"
MISTAKES: Mapping[str, Mistake] = {
    "scheme-twice": Mistake("types the scheme that the menu shows already", _change(_SERVER, lambda s: f"rtmp://{s}")),
    "http": Mistake("types http:// out of habit", _change(_SERVER, lambda s: s.replace("rtmp://", "http://"))),
    "slash-behind": Mistake("ends the address with a slash", _change(_SERVER, lambda s: f"{s}/")),
    "no-application": Mistake("leaves out what stands behind the host", _change(_SERVER, lambda s: s.rpartition("/")[0])),
    "application": Mistake("misspells what stands behind the host", _change(_SERVER, lambda s: s[:-1] + "f")),
    "key-behind-server": Mistake("types the key after the address too", _key_behind_server),
    "look-alike": Mistake("takes a character of the key for another", _change(_KEY, _mistake_key)),
    "swapped": Mistake("swaps two characters of the key", _change(_KEY, _swapped)),
    "missing": Mistake("leaves out a character of the key", _change(_KEY, lambda k: k[:3] + k[4:])),
    "doubled": Mistake("types a character of the key twice", _change(_KEY, lambda k: k[:4] + k[3:])),
    "capitals": Mistake("leaves the capitals on", _change(_KEY, str.upper)),
    "space": Mistake("types a space after the key", _change(_KEY, lambda k: f"{k} ")),
    "no-key": Mistake("forgets the key's last part", _change(_KEY, lambda k: k[: len(k) // 2])),
    "preset": Mistake("chooses the preset beside the right one", _change("QUALITY", _neighbour)),
    "muted": Mistake("leaves the sound muted", lambda entries: [e for e in entries if e[0][-1] != "LIVE AUDIO"]),
    "uhd": Mistake("leaves it recording UHD", lambda entries: [e for e in entries if e[0][-1] != "FORMAT"]),
    "no-start": Mistake("forgets to start", lambda entries: [e for e in entries if e[0][-1] != "START"]),
}  # fmt: skip


def type_card(text: str, mistakes: tuple[str, ...] = (), server: str = "") -> list[Entry]:
    """What is typed of a card's text; ``server``: another address that is meant, such as that of a receiver.

    Raises UnusableInput.
    """
    entries = read(text)
    if server:
        entries = _change(_SERVER, lambda _: server)(entries)
    if any("RECORD > FORMAT to HD" in line for line in text.splitlines()):  # what the card says to do before
        entries = [(("MENU", "RECORD", "FORMAT"), "HD"), *entries]
    for name in mistakes:
        if name not in MISTAKES:
            raise UnusableInput(f"no mistake called {name!r}; there is {', '.join(MISTAKES)}")
        entries = MISTAKES[name].do(entries)
    return entries
