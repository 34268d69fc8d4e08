"""A cell's text, cut into tokens: each with the place where it stands, so that nothing of a cell is ever lost sight of.

One pass from left to right; where several phrases begin at a word, the longest is taken. Cost: a few dictionary
look-ups a word. Numbers keep every value that their digits may mean (4.500 is 4500 or 4.5): which one it is, only the
table's habit and the parameter decide.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence
from dataclasses import dataclass

from direkt.destination.published.words.vocabulary import LONGEST, PHRASES, UNITS, Meaning, UnitWord, WordKind, singular
from direkt.protocol.schemes import SCHEMES


@dataclass(frozen=True, slots=True)
class NumberToken:
    """A number: ``plain`` where its digits have one meaning, else as thousands and as a decimal."""

    plain: float | None
    thousands: float | None = None  # "4.500" as 4500
    decimal: float | None = None  # and as 4.5
    mark: str = ""  # the mark that stands between: "." or ","
    listed: tuple[float, ...] = ()  # "25,30" may be two numbers

    @property
    def all(self) -> tuple[float, ...]:
        """Every value that it may have."""
        found = (self.plain, self.thousands, self.decimal)
        return tuple(value for value in found if value is not None)


@dataclass(frozen=True, slots=True)
class Size:
    """A picture size, and the frame rates that are written into it."""

    width: int
    height: int
    scan: str = ""  # "i" or "p"
    rates: tuple[float, ...] = ()
    only_height: bool = False  # such as 480p: how wide it is, nobody says
    span: bool = False  # the rates are the two ends of a range

    @property
    def text(self) -> str:
        """As sheets write it."""
        return f"{self.width}x{self.height}"


@dataclass(frozen=True, slots=True)
class TextToken:
    """A piece of the text from ``start`` to ``end``."""

    kind: WordKind
    start: int
    end: int
    value: object = None
    meaning: Meaning | None = None
    spaced: bool = True  # a space or more stands before it


_SCHEMES = "|".join(sorted(SCHEMES, key=len, reverse=True))
_DASHES = "-‐‑‒–—―−﹣－~〜"
_PLAIN = {ord(c): "-" for c in "‐‑‒–—―−﹣－〜"} | {
    0xA0: " ", 0x202F: " ", 0x2009: " ", 0x2007: " ", 0x2002: " ", 0x2003: " ", 0x2008: " ", 0x200A: " ", ord("\t"): " ", ord("\r"): " ",
    ord("’"): "'", ord("‘"): "'", ord("´"): "'", ord("`"): "'", ord("“"): '"', ord("”"): '"', ord("„"): '"', ord("«"): '"', ord("»"): '"',
    ord("⁄"): "/", ord("∕"): "/", ord("："): ":", ord("，"): ",", ord("✕"): "×", ord("✖"): "×", ord("⨯"): "×", ord("․"): ".",
}  # fmt: skip
_D = r"\d{1,9}(?:[.,]\d{1,3})?"
_RATES = r"\d{2,3}(?:[.,]\d{1,3})?(?:\s?/\s?\d{2,3}(?:[.,]\d{1,3})?)*"
_HEIGHTS = {2160: 3840, 1440: 2560, 1080: 1920, 720: 1280, 576: 1024, 540: 960, 480: 854, 360: 640, 240: 426}
_LOOSE = (576, 480, 240)  # how wide these are, nobody says
_MASTER = re.compile(
    rf"""
    (?P<url>(?:{_SCHEMES})://[^\s,;"'<>|()]+(?:\{{[^}}]*\}})?)
  | (?P<wxh>(?<![\d.,])(?P<w>\d[, ]\d{{3}}|[1-9]\d{{2,3}})\s*(?:px|w|pixels?)?\s*(?:[x×*]|by)\s*(?P<h>\d[, ]\d{{3}}|[1-9]\d{{2,3}})(?:\s*(?:px|pixels?|h)\b)?(?:\s?@?\s?(?P<s1>[pi])(?:\s?[/@]?\s?(?P<r1>{_RATES}))?\b)?(?!\d))
  | (?P<full>(?<![\w.])(?:(?:full|ultra)[ -]?hd|fhd|uhd(?:[ -]?(?:1|4k))?|4k[ -]?uhd|qhd|4k)(?![\w]))
  | (?P<lines>(?<![\d.,])(?P<l>2160|1440|1080|720|576|540|480|360|240)\s?(?P<s2>[pi])(?:\s?[/@]?\s?(?P<r2>{_RATES})(?=$|[^\w.]|fps|hz)(?!\s?(?:k|m)bi?))?(?![a-z]))
  | (?P<over>(?<![\d.,])(?P<l3>2160|1080|720|540)/(?P<r3>\d\d(?:[.,]\d+)?)(?P<s3>[pi])(?!\w))
  | (?P<level>(?<![^\W_])l(?P<lv>[1-6](?:[.,]\d)?)(?!\w))
  | (?P<ratio>(?<![\d.,x×*/])(?:16\s?[x×*/]\s?9|21\s?[x×*/]\s?9|4\s?[x×*]\s?3)(?![\d.,x×*/])|(?<![\d.,])\d{{1,2}}\s?:\s?\d{{1,2}}(?::\d)?(?![\d])|(?<![\d.])(?:420|422|444)(?=\s?(?:chroma|sampling|subsampling|p\b)))
  | (?P<number>(?<![\d.,])(?:\d{{1,3}}(?:[ ']\d{{3}})+(?:[.,]\d{{1,3}})?(?!\d)|\d{{1,3}}(?:\.\d{{3}})+,\d{{1,2}}(?!\d)|\d{{1,3}}(?:,\d{{3}})+\.\d{{1,2}}(?!\d)
        |\d{{1,9}}(?:(?P<mark>[.,])\d{{1,6}}(?:(?P=mark)\d{{1,3}})*)?(?!\d)))
  | (?P<symbol>≤|<=|=<|≥|>=|=>|<(?=\s?\d)|>(?=\s?\d)|(?<=[\w])\+(?=\s|$|[),;/])|%|±|\+/?-(?=\s?\d))
  | (?P<word>h\s?\.?\s?26[45](?![\w])|[^\W\d_](?:(?!{_SCHEMES}://)[^\W_])*(?:(?:'(?!\d)|/(?=s\b|sec|second)|\.(?=[^\W\d_]{{1,2}}(?:\W|$)))[^\W\d_]+)*\+?)
  | (?P<space>[ ]+)
  | (?P<break>[;\n|•·▪●]|\.(?=\s|$)|!|\?(?=\s|$)|…|\.\.\.)
  | (?P<mark1>[,:/()\[\]&+*=@"_-]|\.\.)
  | (?P<odd>.)
    """,
    re.VERBOSE | re.DOTALL,
)  # fmt: skip
_SYMBOLS = {
    "≤": "max",
    "<=": "max",
    "=<": "max",
    "<": "max",
    "≥": "min",
    ">=": "min",
    "=>": "min",
    ">": "min",
    "+": "min",
}
_MARKS = {",": WordKind.COMMA, ":": WordKind.COLON, "/": WordKind.SLASH, "(": WordKind.OPEN, ")": WordKind.CLOSE, "[": WordKind.OPEN, "]": WordKind.CLOSE,
          "&": WordKind.AND, "+": WordKind.AND, "..": WordKind.TO, "=": WordKind.COLON}  # fmt: skip
_GLUED = {
    "k": UnitWord("bitrate", 1.0), "m": UnitWord("bitrate", 1000.0), "fps": UnitWord("rate"), "p": UnitWord("rate"), "ch": UnitWord("channels"),
}  # fmt: skip
_BYTES = re.compile(r"[kKM]?B(?:ps|/s|/sec)|[kKM]?Bytes?", re.ASCII)  # bytes, or bits in a sloppy hand: nobody knows
_ABBREVIATED = frozenset(
    ["max", "min", "mind", "máx", "mín", "mini", "maxi", "aprox", "env", "empf", "rec", "recom", "recomm", "typ", "opt", "obl", "approx", "ca", "incl", "rec", "res", "freq", "no", "sek", "sec", "std", "maks", "höchst"]
)
_NOTE_MARK = re.compile(
    r"(?i)\s*(?:\(\s*(?:see|cf\.?|siehe|voir)?\s*(?:foot)?(?:note|remark|fn\.?|anm\.?)\s*\d{1,2}\s*\)|\[(?:\d{1,2}|[a-e*†‡])\]|[¹²³⁴⁵⁶⁷⁸⁹⁰†‡§]+|(?<=[^\W\d_])\*{1,3}(?!\w)|(?<=[)\d])\*{1,3}(?=\s|$|[.,;)]))"
)


_ELLIPSIS = re.compile(r"(?<=\d)(?P<unit>\s?[a-zA-Z/%]{0,6})\s?(?P<dots>\.{2,3}|…|~)\s?(?=\d)")  # a range
_PER_SECOND = re.compile(r"(?<![\w./])1/s(?!\w)")


def plain(text: str) -> str:
    """The text in small letters with usual dashes, spaces and marks; every character stays in its place."""
    text = _PER_SECOND.sub("fps", text)  # as many characters
    text = _ELLIPSIS.sub(
        lambda m: m[0][: len(m["unit"])] + m[0][len(m["unit"]) :].replace("...", " - ").replace("..", " -").replace("…", "-").replace("~", "-"), text
    )
    small = "".join(low if len(low := c.lower()) == 1 else c for c in text)
    return small.translate(_PLAIN)


def without_notes(text: str) -> str:
    """The text without the marks of footnotes."""
    return _NOTE_MARK.sub("", text)


_BESIDE = re.compile(r"\b(a|audio)/(v|video)(?= (?:sync|offset))")
_TOGETHER = re.compile(r"\b(?:video ?\+ ?audio|audio ?\+ ?video)\b")
_STANDARD = re.compile(r"\b(bt|rec)\.(709|2020|601|2100)\b")


@functools.lru_cache(maxsize=4096)
def scan(text: str) -> tuple[TextToken, ...]:
    """The tokens of ``text``; spaces and words without meaning of their own are among them only as fillers."""
    low = _TOGETHER.sub(lambda m: m[0].replace("+", " "), plain(text))
    low = _BESIDE.sub(r"\1 \2", _STANDARD.sub(r"\1 \2", low))  # of the same length
    atoms = list(_MASTER.finditer(low))
    out: list[TextToken] = []
    n, spaced = 0, True
    while n < len(atoms):
        match = atoms[n]
        group, (start, end) = match.lastgroup or "odd", match.span()
        if group == "space":
            n, spaced = n + 1, True
            continue
        if group in ("word", "number") and (found := _phrase(atoms, n)) is not None:
            meaning, upto = found
            stop = atoms[upto - 1].end()
            if low[stop : stop + 1] == "." and low[start:stop].rpartition(" ")[2] in _ABBREVIATED:
                upto += upto < len(atoms) and atoms[upto].start() == stop  # its point is the abbreviation's
            if _BYTES.match(text, start) and meaning.kind is WordKind.UNIT:
                meaning = Meaning(WordKind.WORD, "bytes")
            unit = UNITS.get(tuple(singular(w) for w in re.split(r"[\s_-]+", low[start:stop])))
            if (
                unit is not None
                and out
                and out[-1].kind is WordKind.NUMBER
                and meaning.kind is not WordKind.UNIT
                and meaning.value != "bytes"
            ):
                meaning = Meaning(WordKind.UNIT, unit)  # "60 frames per second" has the unit, "frames per second" names it
            token = TextToken(meaning.kind, start, stop, meaning.value, meaning, spaced)
            if meaning.kind is WordKind.NUMBER:
                token = TextToken(WordKind.NUMBER, start, stop, NumberToken(float(str(meaning.value))), meaning, spaced)
            out.append(token)
            n, spaced = upto, False
            continue
        if group == "level":  # as in high@L4.1
            out.append(TextToken(WordKind.TOPIC, start, start + 1, "video.level", spaced=spaced))
            out.append(TextToken(WordKind.NUMBER, start + 1, end, _number(match["lv"]), spaced=False))
        else:
            out.append(_single(text, low, group, match, spaced, out))
        n, spaced = n + 1, False
    return tuple(out)


def _phrase(atoms: Sequence[re.Match[str]], n: int) -> tuple[Meaning, int] | None:
    """The longest phrase that begins at an atom, and the number of the atom behind it."""
    first = singular(_word(atoms[n]))
    most = LONGEST.get(first.partition(".")[0])
    if most is None:
        return None
    words: list[str] = first.split(".") if first.count(".") == 1 and atoms[n].lastgroup == "number" else [first]
    best: tuple[Meaning, int] | None = None
    at = n + 1
    while True:
        meaning = PHRASES.get(tuple(words))
        if meaning is not None and not (len(words) == 1 and words[0].isdigit()):
            best = meaning, at
        if len(words) == most:
            return best
        # what may stand between the words of a phrase: one space, hyphen or underscore, or the point of an abbreviation
        while at < len(atoms) and (
            atoms[at][0] in (" ", "-", "_", "  ") or (atoms[at][0] == "." and words[-1] in _ABBREVIATED)
        ):
            at += 1
        if at >= len(atoms):
            return best
        group, text = atoms[at].lastgroup, atoms[at][0]
        if group == "number" and text.count(".") == 1:  # "5.1" is two words of a phrase
            whole, _, rest = text.partition(".")
            words += [whole, rest]
        elif group in ("word", "number"):
            words.append(singular(_word(atoms[at])))
        else:
            return best
        at += 1
        if len(words) > most:
            return best


def _word(atom: re.Match[str]) -> str:
    text = atom[0]
    return re.sub(r"[\s.]", "", text) if text.startswith("h") and text[-3:-1] == "26" else text


def _single(text: str, low: str, group: str, match: re.Match[str], spaced: bool, before: Sequence[TextToken]) -> TextToken:
    start, end = match.span()
    part = low[start:end]
    if group == "url":
        return TextToken(WordKind.URL, start, end, text[start:end].rstrip(".,;:"), spaced=spaced)
    if group in ("wxh", "lines", "over", "full"):
        return TextToken(WordKind.SIZE, start, end, _size(match, group), spaced=spaced)
    if group == "ratio":
        tidy = re.sub(r"[x×*/]", ":", part.replace(" ", ""))
        return TextToken(WordKind.RATIO, start, end, ":".join(tidy) if ":" not in tidy else tidy, spaced=spaced)
    if group == "number":
        return TextToken(WordKind.NUMBER, start, end, _number(part), spaced=spaced)
    if group == "word":
        if before and before[-1].kind is WordKind.NUMBER and part in _GLUED and (not spaced or part in ("p", "ch")):
            return TextToken(WordKind.UNIT, start, end, _GLUED[part], spaced=False)
        return TextToken(WordKind.WORD, start, end, spaced=spaced)
    if group == "symbol":
        if part == "%":
            return TextToken(WordKind.UNIT, start, end, UnitWord("percent"), spaced=spaced)
        if part in _SYMBOLS:
            return TextToken(WordKind.LIMIT, start, end, _SYMBOLS[part], spaced=spaced)
        return TextToken(WordKind.WORD, start, end, "±" if part[0] in "±+" else None, spaced=spaced)
    if group == "break":
        return TextToken(WordKind.BREAK, start, end, spaced=spaced)
    if part in _DASHES and part != "~":
        return TextToken(WordKind.DASH, start, end, spaced=spaced)
    if part == "~":
        return TextToken(WordKind.APPROX, start, end, spaced=spaced)
    if part in "×*":
        return TextToken(WordKind.TIMES, start, end, spaced=spaced)
    if part in _MARKS:
        return TextToken(_MARKS[part], start, end, spaced=spaced)
    return TextToken(WordKind.FILLER if part in "*@\"_'´#" or not part.isalnum() else WordKind.WORD, start, end, spaced=spaced)


def _size(match: re.Match[str], group: str) -> Size:
    if group == "wxh":
        width, height = (int(re.sub(r"[, ]", "", match[name])) for name in ("w", "h"))
        return Size(width, height, match["s1"] or "", _rates(match["r1"]))
    if group == "full":
        word = re.sub(r"[ -]", "", match[0])
        if word == "4k":
            return Size(3840, 2160, only_height=True)
        height = {"fullhd": 1080, "fhd": 1080, "qhd": 1440}.get(word, 2160)
        return Size(_HEIGHTS[height], height)
    lines, letter, rates = (match[name] for name in (("l", "s2", "r2") if group == "lines" else ("l3", "s3", "r3")))
    height = int(lines)
    return Size(_HEIGHTS[height], height, letter, _rates(rates), height in _LOOSE)


def _rates(text: str | None) -> tuple[float, ...]:
    return tuple(float(part.strip().replace(",", ".")) for part in text.split("/")) if text else ()


_STANDARD_RATES = frozenset([23.976, 23.98, 24, 25, 29.97, 30, 48, 50, 59.94, 60, 100, 119.88, 120, 15, 12, 10, 20])


def _number(part: str) -> NumberToken:
    if " " in part or "'" in part:
        joined = part.replace(" ", "").replace("'", "")
        return NumberToken(float(joined.replace(",", ".")))
    marks = [c for c in part if c in ".,"]
    if not marks:
        return NumberToken(float(part))
    if len(set(marks)) == 2:  # 1.234,5 or 1,234.5: the last is the decimal one
        last = marks[-1]
        return NumberToken(float(part.replace("," if last == "." else ".", "").replace(last, ".")), mark=last)
    mark = marks[0]
    pieces = part.split(mark)
    if len(marks) > 1:
        if all(len(piece) == 3 for piece in pieces[1:]) and len(pieces[0]) <= 3:
            return NumberToken(float("".join(pieces)))
        return NumberToken(None, listed=tuple(float(piece) for piece in pieces) if mark == "," else ())
    value = float(part.replace(mark, "."))
    if len(pieces[1]) == 3 and len(pieces[0]) <= 3 and pieces[0] != "0":
        return NumberToken(None, float("".join(pieces)), value, mark)
    both = tuple(float(piece) for piece in pieces)
    if mark == "," and value not in _STANDARD_RATES and all(piece in _STANDARD_RATES for piece in both):
        return NumberToken(None, decimal=value, mark=mark, listed=both)
    return NumberToken(value, mark=mark)
