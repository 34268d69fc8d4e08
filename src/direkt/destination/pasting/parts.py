"""A paste that is for several destinations, cut into the part of each.

A line is marked by the host of one destination's servers, or by its name. Where empty lines set parts off, a part is what stands between
them and speaks of one destination; else each part begins with the line that marks it. What could belong to either is not given to
one: then the paste is refused, and a person cuts it. Cost: each line is searched for each name once.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from direkt.destination.pasting.state import PasteError, strong
from direkt.destination.pasting.words import flattened, is_plain_word, words

_APART = "it stands for several destinations, and it is not clear which line is whose: leave an empty line between them, or paste one by one"
_SHORTEST_NAME = 4  # letters


@dataclass(frozen=True, slots=True)
class PasteOwner:
    """By what a destination is known in a paste."""

    name: str  # as the rig calls it
    names: tuple[str, ...]  # as people may call it
    hosts: frozenset[str]  # of its servers


@dataclass(frozen=True, slots=True)
class Parts:
    """What a paste holds for each destination that it speaks of."""

    texts: dict[str, str]  # by name; one alone where the paste speaks of one
    named: frozenset[str]  # those that it calls by name or by host


def divide(text: str, owners: Sequence[PasteOwner]) -> Parts:
    """The part of each destination. Raises PasteError where two cannot be told apart."""
    lines = flattened(text).replace("\r\n", "\n").replace("\r", "\n").split("\n")
    marks = _Marks(owners)
    found = [marks.of(line) for line in lines]
    named = frozenset().union(*found)
    if len(named) < 2:
        return Parts(dict.fromkeys(named, text), named)
    blocks = _paragraphs(lines, found) or _runs(lines, found)
    texts: dict[str, str] = {}
    for name, own in blocks:
        texts[name] = "\n".join([*([texts[name]] if name in texts else []), *(marks.without(name, line) for line in own)])
    return Parts(texts, named)


class _Marks:
    """What marks a line as one destination's: what two of them share marks nothing."""

    def __init__(self, owners: Sequence[PasteOwner]) -> None:
        hosts = [(host.lower(), one.name) for one in owners for host in one.hosts]
        names = [(phrase, one.name) for one in owners for phrase in dict.fromkeys(_phrases(one))]
        self._hosts = _unique(hosts, r"(?<![\w.-]){}(?![\w-])")
        self._names = _unique(names, r"(?<![^\W_]){}(?![^\W_])")

    def of(self, line: str) -> frozenset[str]:
        """The destinations that a line speaks of; its address decides before a name does."""
        by_host = {name for pattern, name in self._hosts if pattern.search(line)}
        bare = re.sub(r"(?i)\b[a-z]+://\S+", " ", line)
        return frozenset(by_host or {name for pattern, name in self._names if pattern.search(bare)})

    def without(self, name: str, line: str) -> str:
        """A line without the destination's name, which is no part of its address or key."""
        pieces = re.split(r"((?i:\b[a-z]+://\S+))", line)
        for pattern, owner in self._names:
            if owner == name:
                pieces = [piece if "://" in piece else pattern.sub(" ", piece) for piece in pieces]
        return re.sub(r"^\s*[:=|,;–—-]+\s*", "", "".join(pieces))


def _phrases(owner: PasteOwner) -> list[str]:
    out = []
    for name in owner.names:
        whole = re.split(r"[\s_-]+", name.strip())
        out += [r"[\s_-]+".join(map(re.escape, whole)), re.escape(whole[0])]
    return [phrase for phrase in out if len(phrase) >= _SHORTEST_NAME and not is_plain_word(phrase.replace("\\", ""))]


def _unique(pairs: Sequence[tuple[str, str]], form: str) -> list[tuple[re.Pattern[str], str]]:
    owners: dict[str, set[str]] = {}
    for text, name in pairs:
        owners.setdefault(text.lower(), set()).add(name)
    longest = sorted((text for text, names in owners.items() if len(names) == 1), key=len, reverse=True)
    return [
        (re.compile(form.format(re.escape(text) if "(?<![\\w.-])" in form else text), re.IGNORECASE), next(iter(owners[text])))
        for text in longest
    ]  # fmt: skip


def _paragraphs(lines: Sequence[str], found: Sequence[frozenset[str]]) -> list[tuple[str, list[str]]]:
    """Parts that empty lines set off, each of one destination; empty where they do not."""
    out: list[tuple[str, list[str]]] = []
    own: list[str] = []
    named: frozenset[str] = frozenset()
    for line, marks in [*zip(lines, found, strict=True), ("", frozenset())]:
        if line.strip():
            own.append(line)
            named |= marks
            continue
        if len(named) > 1 and not _says_nothing(own):
            return []
        if len(named) == 1:
            out.append((next(iter(named)), own))
        elif own and not _says_nothing(own):
            if not out or named:
                return []
            out.append((out[-1][0], own))
        own, named = [], frozenset()
    return out if len({name for name, _ in out}) > 1 else []


def _runs(lines: Sequence[str], found: Sequence[frozenset[str]]) -> list[tuple[str, list[str]]]:
    """Parts that begin with the line that marks them. Raises PasteError where one may begin earlier."""
    out: list[tuple[str, list[str]]] = []
    for line, marks in zip(lines, found, strict=True):
        if len(marks) > 1 or (not marks and not out):
            if not _says_nothing([line]):
                raise PasteError(_APART)
        elif marks and (not out or out[-1][0] not in marks):
            out.append((next(iter(marks)), [line]))
        else:
            out[-1][1].append(line)
    if len({name for name, _ in out}) < len(out):  # back to one that was left: the order tells nothing
        raise PasteError(_APART)
    return out


def _says_nothing(lines: Sequence[str]) -> bool:
    """Whether no address and nothing like a key stands in these lines."""
    found = words("\n".join(lines), [])
    return not any("://" in word.text or strong(word.text) or (word.label == "key" and word.text) for word in found)
