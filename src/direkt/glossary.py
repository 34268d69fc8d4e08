"""Words of the trade and of devices' pages in plain language, and the sums that people do in their heads."""

from __future__ import annotations

import difflib
from collections.abc import Iterator
from dataclasses import dataclass

from direkt import parameters
from direkt.glossary_text import TEXT
from direkt.protocol.schemes import PORTS


@dataclass(frozen=True, slots=True)
class Entry:
    """One word explained."""

    term: str
    also: tuple[str, ...]  # how devices and people write it
    what: str  # what it is and what it changes
    choose: str = ""  # what to choose, and why
    mixed_up: str = ""  # units and the usual mix-ups
    measured: str = ""  # how Direkt measures it


def entries() -> Iterator[Entry]:
    """Every entry: the parameters first, then the other words."""
    for row in parameters.TABLE.values():
        unit = f"In {row.unit}. " if row.unit else ""
        values = f"One of {', '.join(row.choices)}." if row.choices else ""
        yield Entry(row.name, (), row.meaning, row.advice, f"{unit}{values}".strip(), row.measured)
    text = TEXT.replace("@rtmp@", str(PORTS["rtmp"])).replace("@rtmps@", str(PORTS["rtmps"]))
    for line in text.splitlines():
        term, also, what, choose, mixed_up = line.split("|")
        yield Entry(term, tuple(a.strip() for a in also.split(", ") if a.strip()), what, choose, mixed_up)


@dataclass(frozen=True, slots=True)
class Answer:
    """What is known of a word."""

    entries: tuple[Entry, ...] = ()  # that it names; a mode of a codec is warned of in front of the codec
    mode: str = ""  # the word, where it is no codec but a mode of one
    guesses: tuple[Entry, ...] = ()  # that it may have been meant to name, the likeliest first


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


def find(word: str) -> Answer:
    """The entries that ``word`` names; where there are none, those that it is like."""
    known: dict[str, list[Entry]] = {}
    for entry in entries():
        for name in (entry.term, *entry.also):
            known.setdefault(_plain(name), []).append(entry)
    wanted = _plain(word)
    if codec := _mode_of(word, known):
        return Answer((*known["adaptive codec"], *codec), word.strip())
    if wanted in known:
        return Answer(tuple(known[wanted][:_MOST]))
    near = [entry for name in difflib.get_close_matches(wanted, known, n=_MOST, cutoff=0.6) for entry in known[name]]
    parts = [entry for name, found in known.items() if wanted and wanted in name.split() for entry in found]
    parts += [
        entry for name, found in known.items() if len(name) > 3 and f" {name} " in f" {wanted} " for entry in found
    ]
    unique = {entry.term: entry for entry in [*near, *parts]}
    return Answer(guesses=tuple(unique.values())[:_MOST])


def _mode_of(word: str, known: dict[str, list[Entry]]) -> list[Entry]:
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


def level_for(
    width: int, height: int, frame_rate: float, kbit_s: float = 0, profile: str = "high", codec: str = "h264"
) -> str | None:
    """The lowest level of a codec that permits all this; None when none does."""
    from direkt.codec import reader
    from direkt.codec.bits import BitstreamError

    table = reader.levels(codec)
    try:
        return table.lowest_level(width, height, frame_rate, kbit_s, profile) if table is not None else None
    except BitstreamError:
        return None


def bits_per_pixel(kbit_s: float, width: int, height: int, frame_rate: float) -> tuple[float, str]:
    """Bits for each pixel, and what that means for H.264."""
    value = kbit_s * 1000 / (width * height * frame_rate)
    meaning = (
        "too little: blocks will show when anything moves" if value < 0.03
        else "little: good for quiet pictures, soft for sport" if value < 0.055
        else "right for sport and most pictures" if value < 0.13
        else "plenty: a lower bitrate would look the same"
    )  # fmt: skip
    return value, meaning
