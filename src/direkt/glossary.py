"""Words of the trade and of devices' pages in plain language, and the sums that people do in their heads."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from direkt import glossary_errors, parameters
from direkt.glossary_sums import Sum, sums
from direkt.glossary_text import TEXT
from direkt.protocol.schemes import PORTS


@dataclass(frozen=True, slots=True)
class GlossaryEntry:
    """One word explained."""

    term: str
    also: tuple[str, ...]  # how devices and people write it
    what: str  # what it is and what it changes
    choose: str = ""  # what to choose, and why
    mixed_up: str = ""  # units and the usual mix-ups
    measured: str = ""  # how Direkt measures it
    next: str = ""  # what to do, of a message


def entries() -> Iterator[GlossaryEntry]:
    """Every entry: the parameters first, then the other words."""
    for row in parameters.TABLE.values():
        unit = f"In {row.unit}. " if row.unit else ""
        values = f"One of {', '.join(row.choices)}." if row.choices else ""
        yield GlossaryEntry(row.name, (), row.meaning, row.advice, f"{unit}{values}".strip(), row.measured)
    text = TEXT.replace("@rtmp@", str(PORTS["rtmp"])).replace("@rtmps@", str(PORTS["rtmps"]))
    for line in text.splitlines():
        term, also, what, choose, mixed_up = line.split("|")
        yield GlossaryEntry(term, tuple(a.strip() for a in also.split(", ") if a.strip()), what, choose, mixed_up)


@dataclass(frozen=True, slots=True)
class GlossaryAnswer:
    """What is known of a word."""

    entries: tuple[GlossaryEntry, ...] = ()  # that it names; a mode of a codec is warned of in front of the codec
    mode: str = ""  # the word, where it is no codec but a mode of one
    guesses: tuple[GlossaryEntry, ...] = ()  # that it may have been meant to name, the likeliest first
    sums: tuple[Sum, ...] = ()  # what its figures come to


_MOST = 5  # entries, and guesses
_CODECS = ("h264", "h265", "av1")
# a codec's name with a plus sign or such a word is a mode that the device decides in
_MODE_WORDS = (
    "smart",
    "adaptive",
    "intelligent",
    "enhanced",
    "super",
    "ultra",
    "dynamic",
    "plus",
    "zip",
    "eco",
    "auto",
)


# what stands around a word when people ask
_ASKED = re.compile(
    r"^(?:please )?(?:(?:what|how|why|when)(?:'s| is| are| does| do| much| many| should)?|explain|meaning of|define|was ist|was bedeutet|tell me about|error:?|fehler:?)\b"
    r"|^(?:the|a|an|ein|eine|der|die|das)\b|\b(?:mean|means|stand for|bedeutet)\s*\??$|[?!]+$",
    re.IGNORECASE,
)
_BOTH = re.compile(r"(?:difference between|compare)?\s*(.+?)\s+(?:and|vs\.?|versus|or|und|oder)\s+(.+)", re.IGNORECASE)
# where a small and a large letter are two units
_UNITS = {
    "kB/s": "kB/s", "KB/s": "kB/s", "kBps": "kB/s", "KBps": "kB/s", "MB/s": "MB/s", "MBps": "MB/s", "kb/s": "kbit/s", "Kb/s": "kbit/s", "kbps": "kbit/s", "Kbps": "kbit/s",
    "Mb/s": "Mbit/s", "Mbps": "Mbit/s", "MBit/s": "Mbit/s", "kBit/s": "kbit/s", "GB": "GB", "MB": "GB", "Gb/s": "Gbit/s", "GB/s": "MB/s",
}  # fmt: skip


def find(word: str) -> GlossaryAnswer:
    """The entries that ``word`` names, what its figures come to, what a message of a device or platform means; else those that it is like."""
    known: dict[str, list[GlossaryEntry]] = {}
    for entry in entries():
        for name in (entry.term, *entry.also):
            found = known.setdefault(_plain(name), [])
            if entry not in found:
                found.append(entry)
    asked = _bare(word)
    if codec := _mode_of(asked, known):
        return GlossaryAnswer((*known["adaptive codec"], *codec), word.strip())
    if (unit := _UNITS.get(asked.strip())) is not None:
        return GlossaryAnswer(tuple(e for e in known[_plain(unit)] if e.term == unit))
    wanted = _plain(asked)
    if wanted in known:
        return GlossaryAnswer(tuple(known[wanted][:_MOST]), sums=sums(asked))
    if both := _BOTH.fullmatch(asked):
        pair = [known.get(_plain(part), [])[:1] for part in both.groups()]
        if all(pair):
            return GlossaryAnswer(tuple(dict.fromkeys(pair[0] + pair[1])))
    if worked := sums(asked):
        return GlossaryAnswer(sums=worked)
    failed = _failed(_plain(re.sub(r"(?<=[a-z])(?=[A-Z])", " ", asked))) or _failed(wanted)
    told = _core(wanted, known) if failed is None or failed.term in _GENERAL else ()
    if told or failed is not None:
        return GlossaryAnswer(told or (failed,) if failed is not None else told)
    return GlossaryAnswer(guesses=_guesses(wanted, known))


# what people put beside a word without changing what it names
_FILLER = frozenset(
    re.findall(
        r"[\w-]+",
        "a an and are at be by can do does for from has have high how i in is it its long low my no not of on or our set setting settings short should small so that the their "
        "this to too use value very what when which why will with wrong you your big bad good best problem issue question option field mode off ms s db hz khz "
        "k kbps kbit mbit mbps fps percent disabled enabled large sides picture stream video camera encoder der die das ist zu im am und nicht kein",
    )
)


def _core(wanted: str, known: Mapping[str, list[GlossaryEntry]]) -> tuple[GlossaryEntry, ...]:
    """The entries of the one name that is asked about among words that only say how much or how."""
    words = [word for word in wanted.split() if not re.fullmatch(r"[-+]?\d+(?:/\d+)?", word)]
    best: tuple[GlossaryEntry, ...] = ()
    size = 0
    for name, found in known.items():
        parts = name.split()
        rest = [word for word in words if word not in parts]
        if len(name) > 2 and set(parts) <= set(words) and len(name) > size and all(word in _FILLER for word in rest) and not set(parts) <= _FILLER:
            best, size = tuple(found[:_MOST]), len(name)
    return best


def _bare(word: str) -> str:
    """What is asked about, without the words around it."""
    before = ""
    while word != before:
        before, word = word, _ASKED.sub("", word.strip()).strip()
    return word or before


def failures() -> Iterator[tuple[list[frozenset[str]], GlossaryEntry]]:
    """Messages of devices, platforms and systems: the words of each way in which one is written, and what it means."""
    for line in glossary_errors.TEXT.splitlines():
        ways, term, cause, following = line.split("|")
        yield [frozenset(_plain(way).split()) for way in ways.split(";")], GlossaryEntry(term, (), cause, next=following)


_GENERAL = ("publish failed", "connection closed", "not supported", "device offline", "value refused", "no data", "not found")  # where nothing says more


def _failed(wanted: str) -> GlossaryEntry | None:
    """The message whose words stand in what was asked; the one with the most of them."""
    words = {form for word in re.split(r"[^\w-]+", wanted) for form in (word, word.removesuffix("s"), *word.split("-"))}
    best: tuple[tuple[bool, int, int], GlossaryEntry] | None = None
    for ways, entry in failures():
        for way in ways:
            if way <= words or {w.removesuffix("s") for w in way} <= words:
                size = (entry.term not in _GENERAL, len(way), sum(map(len, way)))
                if best is None or size > best[0]:
                    best = (size, entry)
    return best[1] if best is not None else None


def _guesses(wanted: str, known: dict[str, list[GlossaryEntry]]) -> tuple[GlossaryEntry, ...]:
    """What it may have been meant to name: a slip of the keys, or a word of it. Short words are near only where one letter is off."""
    near = [
        entry for name in difflib.get_close_matches(wanted, known, n=_MOST, cutoff=0.75) for entry in known[name]
        if max(len(name), len(wanted)) > _SHORT or _one_slip(wanted, name)
    ]  # fmt: skip
    words = wanted.split()
    parts = [entry for name, found in known.items() if wanted and wanted in name.split() for entry in found]
    parts += [entry for name, found in sorted(known.items(), key=lambda one: -len(one[0])) if len(name) > 3 and f" {name} " in f" {wanted} " for entry in found]
    if len(words) > 1 and not near and not parts:
        parts = [entry for word in words if len(word) > _SHORT for name in difflib.get_close_matches(word, known, n=1, cutoff=0.85) for entry in known[name]]
    unique = {entry.term: entry for entry in [*near, *parts]}
    return tuple(unique.values())[:_MOST]


_SHORT = 6  # letters up to which a word is another word where more than one letter is off


def _one_slip(a: str, b: str) -> bool:
    """Whether one letter is another, missing or too many, or two neighbours changed places."""
    if a == b or abs(len(a) - len(b)) > 1 or min(len(a), len(b)) < 4:
        return a == b
    shared = next((n for n, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
    a, b = a[shared:], b[shared:]
    return (a[1:] == b[1:] and len(a) > 0 and shared > 0) or a[1:] == b or a == b[1:] or (a[:2] == b[1::-1] and a[2:] == b[2:])


def _mode_of(word: str, known: dict[str, list[GlossaryEntry]]) -> list[GlossaryEntry]:
    """The codec whose mode a word names; empty: it names none."""
    lower = word.lower().strip()
    bare = lower.rstrip("+ ")
    words = [w for w in bare.split() if w not in _MODE_WORDS]
    if bare == lower and len(words) == len(bare.split()):
        return []
    codecs = [e for e in known.get(_plain(" ".join(words)), []) if e.term in _CODECS]
    return codecs[:1]


def _plain(word: str) -> str:
    return " ".join(word.lower().replace("-", " ").replace("_", " ").replace(".", " ").replace(",", " ").split())


# Sums


def data_volume(kbit_s: float, hours: float) -> float:
    """Gigabytes (10^9 bytes) that a stream of ``kbit_s`` takes in ``hours``."""
    return kbit_s * 1000 / 8 * 3600 * hours / 1e9
