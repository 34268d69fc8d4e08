"""The key in a paste: by the destination's pattern, by its label, or because nothing else is left."""

from __future__ import annotations

import re
from collections.abc import Iterable
from urllib.parse import unquote

from direkt.destination.no_key import SHORTEST, is_mask, why_no_key
from direkt.destination.pasting.state import PasteError, Work, keyish, strong
from direkt.destination.pasting.words import Word, padded, said
from direkt.destination.pattern import Pattern

_MOST_JOINED = 7  # words that a torn key is put together from
_DASHES = "\u2010\u2011\u2012\u2013\u2014\u2015\u2212\ufe63\uff0d"
# Letters of other alphabets that look like ours
_ALIKE = dict(zip("АВЕКМНОРСТУХаеорсухіјѕΑΒΕΖΗΙΚΜΝΟΡΤΥΧοΙ", "ABEKMHOPCTYXaeopcyxijsABEZHIKMNOPTYXoI", strict=True))
# Characters that are read as each other
_TWINS = {
    "0": "Oo",
    "O": "0",
    "o": "0",
    "1": "lIi",
    "l": "1I",
    "I": "1l",
    "i": "1l",
    "5": "Ss",
    "S": "5",
    "s": "5",
    "8": "B",
    "B": "8",
    "2": "Zz",
    "Z": "2",
    "z": "2",
}


def key_of(others: list[Word], inner: str | None, work: Work) -> str | None:
    dots = any(re.fullmatch(r"\.{2,}|…", word.text) for word in others)
    others = [word for word in others if re.search(r"[^\W_]", word.text) or is_mask(word.text)]
    if dots and work.pattern is None and others:
        raise PasteError("dots stand beside the key, as where it was cut short: copy the whole key, alone")
    if work.pattern is not None:
        return _key_by_pattern(others, inner, work, work.pattern)
    return _key_by_label(others, inner, work)


def _key_by_pattern(others: list[Word], inner: str | None, work: Work, pattern: Pattern) -> str | None:
    backups = [word for word in others if word.role == "backup" and word.label == "key"]
    if backups and any(word.label == "key" and word.role != "backup" for word in others):
        work.left.append("the backup's key was not taken: give it a destination of its own")
        others = [word for word in others if word not in backups]
    texts = [word.text for word in others]
    candidates = list(dict.fromkeys([*([inner] if inner is not None else []), *texts]))
    if len(candidates) < len(texts) + (inner is not None):
        said(work.repairs, "the key was pasted more than once")
    if not candidates:
        return None
    sound: dict[str, list[str]] = {}
    errors: list[PasteError] = []
    for candidate in candidates:
        notes: list[str] = []
        try:
            sound.setdefault(_sound(candidate, pattern, notes), notes)
        except PasteError as error:
            errors.append(error)
    if not sound:
        for joined in _joined([*([inner] if inner is not None else []), *texts], pattern):
            sound.setdefault(joined, ["a key that was broken is put together"])
    if len(sound) > 1:
        raise PasteError(
            f"{len(candidates)} words were pasted beside the address, and {len(sound)} of them look like a key: paste it alone"
        )
    if not sound:
        if len(candidates) == 1:
            raise errors[0]
        labelled = [
            error
            for candidate, error in zip(candidates, errors, strict=True)
            if any(w.text == candidate and w.label == "key" for w in others)
        ]
        if len(labelled) == 1:
            raise labelled[0]
        if all(not strong(text) for text in texts) and work.left:
            return None
        raise PasteError(
            f"{len(candidates)} words were pasted beside the address, and none of them fits this destination's pattern: paste the key alone"
        )
    key, notes = next(iter(sound.items()))
    for note in notes:
        said(work.repairs, note)
    if len(candidates) > 1 and not (notes and "put together" in notes[0]):
        said(work.repairs, "other words beside the key removed")
    return key


def _joined(texts: list[str], pattern: Pattern) -> set[str]:
    """Keys of the pattern that words in a row make together."""
    found = set()
    for n in range(len(texts)):
        text = texts[n]
        for other in texts[n + 1 : n + _MOST_JOINED]:
            text += other
            whole = text.rstrip(".,;:!?)")
            if pattern.fits(whole):
                found.add(whole)
            if not pattern.could_begin(text):
                break
    return found


def _key_by_label(others: list[Word], inner: str | None, work: Work) -> str | None:
    """Without a pattern: the word that is labelled a key, else the only one that can be one."""
    labelled = [word for word in others if word.label == "key"]
    backups = [word for word in labelled if word.role == "backup"]
    if backups and len(backups) < len(labelled):
        work.left.append("the backup's key was not taken: give it a destination of its own")
        labelled = [word for word in labelled if word.role != "backup"]
    runs = [_run(others, word) for word in labelled]
    keys = [_of_run(run, work) for run in runs]
    if not keys:
        keys = _unlabelled(others, inner, work)
    if inner is not None:
        keys = [inner, *keys]
    distinct = list(dict.fromkeys(keys))
    if len(distinct) < len(keys):
        said(work.repairs, "the key was pasted more than once")
    if not distinct:
        return None
    if len(distinct) > 1:
        raise PasteError(
            f"{len(distinct)} different words could be the key: paste the server address and the key alone"
        )
    return _plain(distinct[0], work)


def _run(others: list[Word], first: Word) -> list[Word]:
    """A labelled word with those behind it that no other label claims."""
    begin = next(n for n, word in enumerate(others) if word is first)
    out = [first]
    for word in others[begin + 1 :]:
        if word.label or len(out) > 12:
            break
        out.append(word)
    return out


def _of_run(run: list[Word], work: Work) -> str:
    """The key among the words behind its label."""
    texts = [word.text for word in run]
    if joined := _at_joints(texts):
        said(work.repairs, "a key that was broken is put together")
        return joined
    own = [word.text for word in run if word.line == run[0].line]
    if len(own) == 1 or strong(own[0]) or why_no_key(own[0]):
        rest = [text for text in own[1:] if keyish(text)]
        if not rest:
            if len(texts) > 1:
                said(work.repairs, "other words beside the key removed")
            return own[0]
    raise PasteError(f"{len(own)} words stand where the key should: paste the key alone, without spaces")


def _at_joints(texts: list[str]) -> str:
    """Words that only make a key together: each gap stands beside a hyphen or another joint."""
    out = texts[0]
    used = 1
    for text in texts[1:]:
        if re.fullmatch(r"[-_~=*]{2,}", text):
            break
        if out[-1] in "-_~" or text[0] in "-_~":
            out += text
            used += 1
        else:
            break
    if used == 1 or out[-1] in "-_~" or out[0] in "-_~" or not strong(out):
        return ""
    return out if all(not strong(text) or why_no_key(text) for text in texts[used:]) else ""


def _unlabelled(others: list[Word], inner: str | None, work: Work) -> list[str]:
    candidates = [word for word in others if word.label not in ("other", "server", "viewing")]
    if not candidates:
        if others and inner is None and not work.left:
            work.left.append("what stands beside the address is labelled as something else than a key")
        return []
    texts = list(dict.fromkeys(word.text for word in candidates))
    if len(texts) < len(candidates) and len(texts) == 1:
        said(work.repairs, "the key was pasted more than once")
    if len(texts) == 1:
        return texts
    if joined := _at_joints([word.text for word in candidates]):
        said(work.repairs, "a key that was broken is put together")
        return [joined]
    likely = [text for text in texts if strong(text) and not why_no_key(text.rstrip("."))]
    if inner is not None:
        if not likely:
            return []
        return likely
    usable = [text for text in texts if not why_no_key(text)]
    lone = [word.text for word in candidates if word.alone and word.text in likely]
    if len(likely) == 1 and (
        len(usable) == 1 or likely == lone or any(w.label == "unknown" and w.text == likely[0] for w in candidates)
    ):
        if any(_beside(candidates, word) for word in candidates if word.text == likely[0]):
            raise PasteError("the key may be torn apart: other parts stand beside it; copy it again, alone")
        said(work.repairs, "other words beside the key removed")
        return likely
    if not usable:
        raise PasteError(f"in place of the key there is {why_no_key(texts[0])}")
    raise PasteError(f"{len(texts)} different words could be the key: paste the server address and the key alone")


def _beside(others: list[Word], word: Word) -> bool:
    """Whether what may be a part of the same key stands right beside a word, on its line."""
    at = next(n for n, other in enumerate(others) if other is word)
    near = [*others[max(0, at - 1) : at], *others[at + 1 : at + 2]]
    return any(other.line == word.line and not other.label and keyish(other.text) for other in near)


def _plain(key: str, work: Work) -> str:
    """A key without a pattern, as it was meant. Raises PasteError when that is not certain."""
    if key.endswith(".") and not key.endswith("..") and len(key) > SHORTEST:
        key = key[:-1]
        said(work.repairs, "the full stop after the key removed")
    if instead := why_no_key(key):
        raise PasteError(f"in place of the key there is {instead}")
    if key[-1] in "!?:;," or (key[0] == "(" and key[-1] == ")"):
        raise PasteError(
            f"the last character of the key may be the sentence's own: paste the key alone, without the {key[-1]} if it is none of it"
        )
    if re.search(r"[<>{}()\[\]]", key):
        raise PasteError("what stands for the key contains a bracket: copy the key alone")
    if re.search(r"%[0-9A-Fa-f]{2}", key.partition("?")[0]):
        work.questions.append(
            "the key has a percent sign as encoded addresses have it: it may be another one when decoded"
        )
    if "/" in key.partition("?")[0] and not padded(key):
        work.questions.append("the key has a slash in it: a part of an address may hang on it")
    odd = next((n for n, c in enumerate(key, 1) if not 33 <= ord(c) < 127), None)
    if odd is not None:
        raise PasteError(f"character {odd} of the key is no plain letter, digit or sign: copy the key again")
    return key


def _sound(key: str, pattern: Pattern, repairs: list[str]) -> str:
    """The key of the pattern that was meant. Raises PasteError when that is not certain."""
    if is_mask(key):
        raise PasteError("in place of the key there is a mask: reveal the key at the platform, and copy it again")
    if pattern.fits(key):
        return key
    readings: dict[str, str] = {}
    for candidate, what in _readings(key, pattern):
        readings.setdefault(candidate, what)
        if len(readings) > 1:
            break
    if len(readings) == 1:
        candidate, what = next(iter(readings.items()))
        repairs.append(what)
        return candidate
    raise PasteError(_misfit(key, pattern))


def _readings(key: str, pattern: Pattern) -> Iterable[tuple[str, str]]:
    """Sound keys that ``key`` may have been, each with what was done. The mildest repair that fits stands alone."""
    if "%" in key and pattern.fits(plain := unquote(key)):
        yield plain, "the percent signs of an encoded key replaced"
        return
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
        yield stripped, "punctuation around the key removed"
    elif stripped != key:
        yield from (
            (text, f"punctuation around the key removed; {what}") for text, what in _readings(stripped, pattern)
        )
    uniform = [text for text in dict.fromkeys((key.lower(), key.upper())) if text != key and pattern.fits(text)]
    if uniform:  # one case throughout comes before letters one by one
        for text in uniform:
            yield text, "the key is written in one case throughout, as its pattern wants"
        return
    yield from ((text, "letters in the key corrected against its pattern") for text in _walk(key, pattern))


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
