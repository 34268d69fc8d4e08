"""Reads a published settings table, in free words, into a sheet; conservatively.

Each row is cut into clauses. A clause is understood only when every word in it is: what is recognised is taken out,
and what is left must be filler. A row with anything else in it claims nothing at all and is listed with the words
that were not understood. So a draft may be incomplete, but what it says, the table said.
"""

from __future__ import annotations

import re
import time
from collections.abc import Mapping
from dataclasses import dataclass, field

from direkt import parameters
from direkt.destination.table import Row, rows
from direkt.errors import UnusableInput
from direkt.parameters import Value
from direkt.protocol import address
from direkt.protocol.schemes import SCHEMES


class DraftError(UnusableInput):
    """A row that is not understood; the text says what was left."""


@dataclass(slots=True)
class Draft:
    """What was understood, each with the row that it came from, and what was not."""

    rules: list[tuple[str, str, Value | list[Value] | dict[str, Value], Row]] = field(default_factory=list)
    ladder: list[tuple[dict[str, object], Row]] = field(default_factory=list)
    protocols: list[tuple[str, int, Row]] = field(default_factory=list)
    servers: list[tuple[str, Row]] = field(default_factory=list)
    not_understood: list[tuple[Row, str]] = field(default_factory=list)


# Understanding

_NUMBERS = {
    "one": "1",
    "two": "2",
    "three": "3",
    "four": "4",
    "five": "5",
    "six": "6",
    "eight": "8",
    "ten": "10",
    "twelve": "12",
}
_SCHEMES = "|".join(sorted(SCHEMES, key=len, reverse=True))
_LIMIT = 10.0  # s for a whole table
_N = r"((?<!\d)\d{1,9}(?:\.\d{1,6})?(?!\d))"
_TO = r"\s*(?:-|–|—|to|\.\.)\s*"
_RATE_UNIT = r"(kbps|kbit/s|kbits/s|kb/s|kbit|k|mbps|mbit/s|mbits/s|mb/s|mbit|m)\b"
_FILLER_WORDS = """
a an the of in is are be at each every per with and or then by for it as we this that use used using set video
audio sound stream streaming picture pictures frame frames rate rates bitrate bit codec format encoding encoder
resolution size interval key keyframe keyframes gop distance one only always must should value please target
number your from channel channels sample sampling frequency profile level aspect ratio scan type mode control
coding server url address port ingest protocol accepted allowed supported required requirement recommended
recommend recommends preferred preferably ideally suggested best mandatory transport apart second seconds length
s px pixel pixels second(s) event events i
"""
_FILLER = frozenset(_FILLER_WORDS.split())
_SHOULD = re.compile(r"\b(recommend\w*|preferr?\w*|preferably|ideal\w*|suggest\w*|best|advis\w*|target)\b")
_MOST = re.compile(r"(\b(?:at most|maximum|max\.?|up to|no more than|not more than|never more than|not exceed(?:ing)?|never exceed|"
                   r"no longer than|never longer than|never further apart than|not further apart than|no further apart than|"
                   r"limit(?:ed)?(?: to)?)|≤|<=)")  # fmt: skip
_LEAST = re.compile(
    r"(\b(?:at least|minimum|min\.?|no less than|not less than|never less than|not below|never below)|≥|>=)"
)

_SIZES = {"2160p": "3840x2160", "uhd": "3840x2160", "1440p": "2560x1440", "1080p": "1920x1080", "full hd": "1920x1080",
          "fullhd": "1920x1080", "720p": "1280x720", "540p": "960x540", "360p": "640x360"}  # fmt: skip
_SIZE = re.compile(
    r"(?<!\d)([1-9]\d{2,3})\s*[x×]\s*([1-9]\d{2,3})(?!\d)|\b(full[ -]?hd|uhd|(?:2160|1440|1080|720|540|360)p)(?:(\d\d)\b|\b|(?=\d))"
)


def read(text: str, kind: str) -> Draft:
    """A draft of the sheet that a published table describes. Raises UnusableInput."""
    draft = Draft()
    begin = time.monotonic()
    for row in _joined(rows(text, kind)):
        if time.monotonic() - begin > _LIMIT:
            raise UnusableInput(
                f"line {row.line}: reading takes more than {_LIMIT:g} s: cut it down to the table of settings"
            )
        try:
            _understand(row, draft)
        except DraftError as error:
            draft.not_understood.append((row, str(error)))
    return draft


def _joined(found: list[Row]) -> list[Row]:
    """Columns of a row of bitrates belong together: a range in one and the recommended figure in another."""
    out: list[Row] = []
    for row in found:
        last = out[-1] if out else None
        if last is not None and (last.line, last.name) == (row.line, row.name) and _SIZE.search(row.name.lower()):
            out[-1] = Row(row.line, row.name, f"{last.qualifier} {last.value}, {row.qualifier} {row.value}".strip())
        else:
            out.append(row)
    return out


class _Text:
    """Words of which parts are taken out as they are understood."""

    def __init__(self, text: str) -> None:
        text = text.lower().replace("\u00a0", " ").replace("’", "'")
        text = re.sub(r"(\d),(\d{3})\b", r"\1\2", text)
        for word, digit in _NUMBERS.items():
            text = re.sub(rf"\b{word}\b(?! (?:only|each|every))", digit, text) if word != "one" else text
        self.left = text

    def take(self, pattern: str | re.Pattern[str]) -> re.Match[str] | None:
        match = re.search(pattern, self.left)
        if match:
            self.left = self.left[: match.start()] + " " + self.left[match.end() :]
        return match

    def take_all(self, pattern: str | re.Pattern[str]) -> list[re.Match[str]]:
        found = []
        while match := self.take(pattern):
            found.append(match)
        return found

    def finish(self) -> None:
        """Raises DraftError when anything but filler is left."""
        words = [
            w
            for w in re.findall(r"[^\s,;:.()\[\]/|+\"']+", self.left)
            if w not in _FILLER and not re.fullmatch(r"[-–—]+", w)
        ]
        if words:
            raise DraftError(f"not understood: {' '.join(words)}")


def _understand(row: Row, draft: Draft) -> None:
    name = row.name.lower()
    whole = f"{name} {row.value.lower()} {row.qualifier.lower()}"
    if re.search(rf"({_SCHEMES})://", whole):
        _server(row, draft)
    elif re.search(r"key[ -]?(frame|picture)|gop|i-frame|idr", name):
        _keyframes(row, draft)
    elif _SIZE.search(whole) and re.search(rf"{_N}\s*{_RATE_UNIT}", f"{row.value.lower()} {name}"):
        _ladder(row, draft)
    elif re.search(r"audio|sound|aac", name):
        _audio(row, draft)
    elif re.search(r"protocol|transport", name):
        _protocols(row, draft)
    elif re.search(r"frame ?rate|fps|frames per second|frames a second", name):
        _frame_rate(row, draft)
    elif re.search(r"resolution|size|picture|dimension", name) and not re.search(r"b-?(frames|pictures)", name):
        _sizes(row, draft)
    elif re.search(r"rate control|bitrate (mode|type|control)|encoding mode", name):
        _words(
            row,
            draft,
            "video.rate_control",
            {r"\bcbr\b|constant(?: bit ?rate)?": "cbr", r"\bvbr\b|variable(?: bit ?rate)?": "vbr"},
        )
    elif re.search(r"bit ?rate", name):
        _bitrate(row, draft, "video.bitrate.mean")
    elif re.search(r"codec|compression|video format|profile|level|encoding", name):
        _video(row, draft)
    elif re.search(r"b-?(frames|pictures)", name):
        _b_frames(row, draft)
    elif re.search(r"scan|interlac|progressive", name):
        _words(
            row,
            draft,
            "video.scan",
            {r"\bprogressive\b": "progressive"},
            extra=r"\b(no|not) interlaced?\b|\b(no|not) interlacing\b",
        )
    elif re.search(r"aspect", name):
        _aspect(row, draft)
    elif re.search(r"chroma|subsampling|colou?r", name):
        _words(row, draft, "video.chroma", {r"4:2:0": "4:2:0", r"4:2:2": "4:2:2"})
    else:
        raise DraftError("no parameter goes by this name")


def _clauses(row: Row) -> list[str]:
    """The value cut at commas and semicolons (not inside numbers), each with the row's own qualifier words."""
    parts = re.split(r"[;,](?!\d{3}\b)|\.\s|\s[–—]\s", row.value)
    lead = f"{row.qualifier} " if row.qualifier else ""
    return [lead + part.strip() for part in parts if part.strip()]


def _strength(clause: str, name: str = "") -> str:
    return "should" if _SHOULD.search(f"{clause} {name}".lower()) else "must"


def _add(draft: Draft, row: Row, found: list[tuple[str, str, Value | list[Value] | dict[str, Value]]]) -> None:
    if not found:
        raise DraftError("nothing in it that could be a value")
    spans: dict[str, dict[str, object]] = {}
    for parameter, _, value in found:
        if isinstance(value, dict):  # the two ends of an interval are two parameters
            spans.setdefault(re.sub(r"\.(min|max)$", "", parameter), {}).update(value)
    if any(_downwards(span) for span in spans.values()):
        raise DraftError(_DOWNWARDS)
    for parameter, strength, value in found:
        draft.rules.append((parameter, strength, value, row))


_DOWNWARDS = "a range that runs downwards: a slip, or written the other way round"


def _downwards(bounds: Mapping[str, object]) -> bool:
    low, high = bounds.get("min"), bounds.get("max")
    return isinstance(low, int | float) and isinstance(high, int | float) and low > high


def _number(text: str) -> Value:
    number = float(text)
    return int(number) if number == int(number) else number


def _keyframes(row: Row, draft: Draft) -> None:
    found: list[tuple[str, str, Value | list[Value] | dict[str, Value]]] = []
    plain: Value | None = None
    strength = "must"
    seconds = r"s\b|secs?\b|seconds?\b"
    has_unit = re.search(rf"\d\s*(?:{seconds})|\((?:{seconds})", f"{row.value.lower()} {row.name.lower()}") is not None
    for clause in _clauses(row):
        text = _Text(clause)
        if re.search(r"\d\s*frames", clause.lower()):
            raise DraftError("an interval in frames: the seconds depend on the frame rate")
        if text.take(r"\bclosed\b"):
            found.append(("video.gop_closed", _strength(clause), "yes"))
        span = text.take(rf"{_N}{_TO}{_N}\s*(?:{seconds})?")
        most, least = text.take(_MOST), text.take(_LEAST)
        figure = text.take(rf"{_N}\s*(?:{seconds})?(?!\s*frames)")
        text.take(_SHOULD)
        text.finish()
        if (span or figure) and not has_unit:
            raise DraftError("a number without 's': it may be frames")
        if span:
            found.append(("video.keyframe_interval.min", "must", {"min": _number(span[1])}))
            found.append(("video.keyframe_interval.max", "must", {"max": _number(span[2])}))
        elif figure and most:
            found.append(("video.keyframe_interval.max", "must", {"max": _number(figure[1])}))
        elif figure and least:
            found.append(("video.keyframe_interval.min", "must", {"min": _number(figure[1])}))
        elif figure:
            if plain is not None:
                raise DraftError("two keyframe intervals without saying which is which")
            plain, strength = _number(figure[1]), _strength(clause, row.name)
    if plain is not None:
        limited = any(name == "video.keyframe_interval.max" for name, _, _ in found)
        found.insert(0, ("video.keyframe_interval.median", "should" if limited else strength, plain))
    _add(draft, row, found)


def _kbit(number: str, unit: str) -> Value:
    return _number(str(float(number) * (1000 if unit.startswith("m") else 1)))


def _bitrates(text: _Text) -> tuple[dict[str, Value], Value | None]:
    """Range and recommended value (kbit/s) of what stands in ``text``."""
    span = text.take(rf"{_N}\s*(?:{_RATE_UNIT})?{_TO}{_N}\s*{_RATE_UNIT}")
    bounds: dict[str, Value] = {}
    best: Value | None = None
    if span:
        low_unit = span[2] or span[4]
        bounds = {"min": _kbit(span[1], low_unit), "max": _kbit(span[3], span[4])}
    for pattern, key in ((_MOST, "max"), (_LEAST, "min")):
        match = text.take(rf"{pattern.pattern}\s*:?\s*{_N}\s*{_RATE_UNIT}")
        if match:
            bounds[key] = _kbit(*match.groups()[-2:])
    match = text.take(rf"{_SHOULD.pattern}\s*:?\s*{_N}\s*{_RATE_UNIT}") or text.take(
        rf"{_N}\s*{_RATE_UNIT}\s*\(?{_SHOULD.pattern}\)?"
    )
    if match:
        figures = [g for g in match.groups() if g and re.fullmatch(r"\d+(\.\d+)?", g)]
        unit = next(g for g in match.groups() if g and re.fullmatch(_RATE_UNIT, g))
        best = _kbit(figures[0], unit)
    return bounds, best


def _ladder(row: Row, draft: Draft) -> None:
    text = _Text(f"{row.name}, {row.value}, {row.qualifier}")
    sizes = text.take_all(_SIZE)
    if len(sizes) != 1:
        raise DraftError(f"{len(sizes)} picture sizes in one row of bitrates")
    size = _size(sizes[0])
    rates = [sizes[0][4]] if sizes[0][4] else []
    paced = r"(?:fps|frames(?: per second| a second)?|frames/s|hz)"
    span = text.take(rf"{_N}{_TO}{_N}\s*{paced}\b") or text.take(rf"{_N}\s*/\s*{_N}\s*{paced}\b")
    if span:
        rates += [span[1], span[2]]
    elif single := text.take(rf"{_N}\s*{paced}\b"):
        rates.append(single[1])
    bounds, best = _bitrates(text)
    lone = text.take(rf"{_N}\s*{_RATE_UNIT}")
    text.take(_SHOULD)
    text.finish()
    if lone or not {"min", "max"} <= set(bounds):
        if lone is None and "max" in bounds and best is not None:
            bounds = {"min": 0, **bounds}
        else:
            raise DraftError("a bitrate without a range: it may be a maximum or a recommendation")
    if _downwards(bounds):
        raise DraftError(_DOWNWARDS)
    if best is not None and (
        _downwards({"min": bounds["min"], "max": best}) or _downwards({"min": best, "max": bounds["max"]})
    ):
        raise DraftError("what is recommended lies outside the range")
    numbers = sorted(float(rate) for rate in rates) or [1.0, 300.0]
    step: dict[str, object] = {
        "size": size,
        "frame_rate": {"min": _number(str(numbers[0])), "max": _number(str(numbers[-1]))},
    }
    step["bitrate"] = {"min": bounds["min"], **({"best": best} if best is not None else {}), "max": bounds["max"]}
    draft.ladder.append((step, row))


def _size(match: re.Match[str]) -> str:
    if match[1]:
        return f"{match[1]}x{match[2]}"
    return _SIZES[match[3].replace("-", " ")]


def _bitrate(row: Row, draft: Draft, parameter: str) -> None:
    text = _Text(f"{row.qualifier} {row.value}")
    bounds, best = _bitrates(text)
    lone = text.take(rf"{_N}\s*{_RATE_UNIT}")
    text.take_all(_SHOULD)
    most, least = text.take(_MOST), text.take(_LEAST)
    text.finish()
    found: list[tuple[str, str, Value | list[Value] | dict[str, Value]]] = []
    if bounds:
        found.append((parameter, "must", bounds))
    if best is not None:
        found.append((parameter, "should", best))
    if lone:
        figure = _kbit(lone[1], lone[2])
        if most or least:
            found.append((parameter, "must", {"max" if most else "min": figure}))
        else:
            found.append((parameter, _strength(f"{row.qualifier} {row.value}", row.name), figure))
    _add(draft, row, found)


def _audio(row: Row, draft: Draft) -> None:
    found: list[tuple[str, str, Value | list[Value] | dict[str, Value]]] = []
    values: dict[tuple[str, str], list[Value]] = {}
    for clause in _clauses(row):
        text = _Text(clause)
        strength = _strength(clause, row.name)

        def put(parameter: str, value: Value, strength: str = strength) -> None:
            values.setdefault((parameter, strength), []).append(value)

        if text.take(r"\b(?:he-aac|aac-he)(?:\s*v?1)?\b(?!\s*v?2)"):
            put("audio.codec", "aac")
            put("audio.profile", "he")
        elif text.take(r"\baac[- ]?lc\b|\baac\b\s*\(?(?:lc|low complexity)\)?"):
            put("audio.codec", "aac")
            put("audio.profile", "lc")
        elif text.take(r"\baac\b"):
            put("audio.codec", "aac")
        for codec in ("opus", "mp3"):
            if text.take(rf"\b{codec}\b"):
                put("audio.codec", codec)
        for number in text.take_all(rf"{_N}\s*(?:/\s*{_N}\s*)?khz"):
            for figure in filter(None, (number[1], number[2])):
                put("audio.sample_rate", _number(str(round(float(figure) * 1000))))
        for number in text.take_all(r"\b(\d{4,5})\s*hz"):
            put("audio.sample_rate", int(number[1]))
        for number in text.take_all(r"\b(\d)[- ]?(?:channels?|ch)\b"):
            put("audio.channels", int(number[1]))
        for word, count in (("stereo", 2), ("mono", 1)):
            if text.take(rf"\b{word}\b"):
                put("audio.channels", count)
        bounds, best = _bitrates(text)
        lone = text.take(rf"{_N}\s*{_RATE_UNIT}")
        most, least = text.take(_MOST), text.take(_LEAST)
        if bounds:
            found.append(("audio.bitrate.mean", "must", bounds))
        if best is not None:
            found.append(("audio.bitrate.mean", "should", best))
        if lone and (most or least):
            found.append(("audio.bitrate.mean", "must", {"max" if most else "min": _kbit(lone[1], lone[2])}))
        elif lone:
            put("audio.bitrate.mean", _kbit(lone[1], lone[2]))
        elif most or least:
            raise DraftError("a limit without a number that it limits")
        text.take_all(_SHOULD)
        text.finish()
    found += [(p, s, v[0] if len(v) == 1 else v) for (p, s), v in values.items()]
    _add(draft, row, found)


def _video(row: Row, draft: Draft) -> None:
    values: dict[tuple[str, str], list[Value]] = {}
    found: list[tuple[str, str, Value | list[Value] | dict[str, Value]]] = []
    for clause in _clauses(row):
        text = _Text(f"{clause} {row.name}" if len(_clauses(row)) == 1 else clause)
        strength = _strength(clause, row.name)
        for pattern, codec in ((r"\bh\.?264\b(?:\s*/?\s*\(?avc\)?)?|\bavc\b", "h264"), (r"\bh\.?265\b(?:\s*/?\s*\(?hevc\)?)?|\bhevc\b", "h265"), (r"\bav1\b", "av1")):  # fmt: skip
            if text.take(pattern):
                values.setdefault(("video.codec", strength), []).append(codec)
        limit = text.take(_MOST)
        level = text.take(r"\blevel\s*(\d(?:\.\d)?)\b") or (
            text.take(r"\b(\d\.\d)\b") if "level" in row.name.lower() else None
        )
        for pattern, profile in ((r"constrained baseline", "constrained-baseline"), (r"\bbaseline\b", "baseline"), (r"\bmain\b", "main"), (r"\bhigh\b", "high")):  # fmt: skip
            if text.take(pattern):
                values.setdefault(("video.profile", strength), []).append(profile)
        if level:
            number = parameters.clean("video.level", level[1])
            found.append(("video.level", "must", {"max": number}) if limit else ("video.level", strength, number))
        elif limit:
            raise DraftError("a limit without a level that it limits")
        text.take_all(_SHOULD)
        text.finish()
    found += [(p, s, v[0] if len(v) == 1 else v) for (p, s), v in values.items()]
    _add(draft, row, found)


def _frame_rate(row: Row, draft: Draft) -> None:
    found: list[tuple[str, str, Value | list[Value] | dict[str, Value]]] = []
    listed: dict[str, list[Value]] = {}
    for clause in _clauses(row):
        text = _Text(clause)
        if text.take(r"\b(?:same as|match(?:es|ing)?)\b.*\b(?:source|camera|input)\b"):
            raise DraftError("the same as the source: write video.frame_rate: {same_as_source: true} by hand")
        most, least = text.take(_MOST), text.take(_LEAST)
        span = text.take(rf"{_N}{_TO}{_N}")
        figures = [_number(m[1]) for m in text.take_all(rf"{_N}")]
        strength = _strength(clause, row.name)
        text.take_all(r"\b(?:fps|hz|frames per second|frames a second|frames/s)\b")
        text.take_all(_SHOULD)
        text.finish()
        if span:
            found.append(("video.frame_rate", strength, {"min": _number(span[1]), "max": _number(span[2])}))
        elif (most or least) and len(figures) == 1:
            found.append(("video.frame_rate", "must", {"max" if most else "min": figures[0]}))
        elif most or least:
            raise DraftError("a limit on several frame rates")
        else:
            listed.setdefault(strength, []).extend(figures)
    found += [("video.frame_rate", s, v[0] if len(v) == 1 else v) for s, v in listed.items() if v]
    _add(draft, row, found)


def _sizes(row: Row, draft: Draft) -> None:
    text = _Text(f"{row.qualifier} {row.value}")
    matches = text.take_all(_SIZE)
    most = text.take(_MOST)
    text.take_all(_SHOULD)
    text.finish()
    if any(match[4] for match in matches):
        raise DraftError("a size and a frame rate in one: give them a row each")
    sizes: list[Value] = list(dict.fromkeys(_size(match) for match in matches))
    if most and len(sizes) == 1:
        width, height = parameters.size_of(sizes[0])
        _add(draft, row, [("video.width", "must", {"max": width}), ("video.height", "must", {"max": height})])
        return
    if most:
        raise DraftError("a limit on several sizes")
    strength = _strength(f"{row.qualifier} {row.value}", row.name)
    _add(draft, row, [("video.size", strength, sizes[0] if len(sizes) == 1 else sizes)] if sizes else [])


def _words(row: Row, draft: Draft, parameter: str, words: dict[str, str], extra: str = r"(?!)") -> None:
    values: dict[str, list[Value]] = {}
    for clause in _clauses(row):
        text = _Text(clause)
        strength = _strength(clause, row.name)
        text.take_all(extra)
        for pattern, value in words.items():
            if text.take(pattern):
                values.setdefault(strength, []).append(value)
        text.take_all(_SHOULD)
        text.finish()
    _add(draft, row, [(parameter, s, v[0] if len(v) == 1 else v) for s, v in values.items()])


def _aspect(row: Row, draft: Draft) -> None:
    text = _Text(row.value)
    found: list[tuple[str, str, Value | list[Value] | dict[str, Value]]] = []
    ratios: list[Value] = [
        parameters.clean("video.display_aspect", m[0]) for m in text.take_all(r"\d{1,2}\s*:\s*\d{1,2}")
    ]
    strength = _strength(row.value, row.name)
    if text.take(r"\bsquare pixels\b"):
        found.append(("video.sample_aspect", strength, "1:1"))
    text.take_all(_SHOULD)
    text.finish()
    if ratios:
        found.append(("video.display_aspect", strength, ratios[0] if len(ratios) == 1 else ratios))
    _add(draft, row, found)


def _b_frames(row: Row, draft: Draft) -> None:
    text = _Text(row.value)
    none = text.take(r"^\s*(?:none|no|off|not allowed|0|no b-?(?:frames|pictures))\s*$")
    most = text.take(_MOST)
    figure = text.take(_N)
    text.finish()
    if none:
        _add(draft, row, [("video.b_frames", "must", 0)])
    elif figure and most:
        _add(draft, row, [("video.b_frames", "must", {"max": _number(figure[1])})])
    else:
        raise DraftError("a number of B-frames that is neither none nor a limit")


def _protocols(row: Row, draft: Draft) -> None:
    text = _Text(f"{row.value} {row.name}")
    found = [
        (m[1], int(m[2]))
        for m in text.take_all(rf"\b({_SCHEMES})\b\s*(?:\(?(?:on |over |tcp |udp |port )*:?\s*(\d{{2,5}})\)?)")
    ]
    text.finish()
    if not found:
        raise DraftError("a protocol without its port")
    if any(not 1 <= port <= 65535 for _, port in found):
        raise DraftError("a port is a number from 1 to 65535")
    draft.protocols += [(name, port, row) for name, port in found]


def _server(row: Row, draft: Draft) -> None:
    found = re.findall(rf"(?:{_SCHEMES})://[^\s,;\"'<>]+", f"{row.name} {row.value}")
    if len(found) != 1:
        raise DraftError("several addresses in one row: give them a row each")
    try:
        address.parse(found[0])
    except address.AddressError as error:
        raise DraftError(str(error)) from None
    draft.servers.append((found[0], row))


# Writing


def write(draft: Draft, title: str) -> str:
    """The draft as a sheet file, each line with the words that it came from. Two rows on one thing are both listed."""
    merged: dict[str, dict[str, object]] = {}
    origins: dict[str, list[str]] = {}
    doubtful: list[tuple[Row, str]] = list(draft.not_understood)
    for parameter, strength, value, row in draft.rules:
        rule = merged.setdefault(parameter, {})
        if strength in rule:
            old = rule[strength]
            if (
                isinstance(old, dict)
                and isinstance(value, dict)
                and not set(old) & set(value)
                and not _downwards({**old, **value})
            ):
                rule[strength] = {**old, **value}
            elif rule[strength] != value:
                doubtful.append((row, f"says something else of {parameter} than: {origins[parameter][0]}"))
                continue
        else:
            rule[strength] = value
        origins.setdefault(parameter, []).append(f"line {row.line}: {row.words}")
    for rule in merged.values():
        must, should = rule.get("must"), rule.get("should")
        if must is not None and should is not None and not isinstance(must, dict) and not isinstance(should, dict):
            # what is recommended is allowed too, whatever else is
            allowed = must if isinstance(must, list) else [must]
            wished = should if isinstance(should, list) else [should]
            both = list(dict.fromkeys([*allowed, *wished]))
            rule["must"] = both if len(both) > 1 else both[0]
    lines = ["# Drafted from a published table. Read every line against its source before you trust it."]
    lines += ["schema: direkt.sheet/1", f"name: {_quote(title)}"]
    if draft.protocols:
        lines.append("protocols:")
        lines += [f"  - {{protocol: {name}, port: {port}}}  # {_origin(row)}" for name, port, row in draft.protocols]
    if draft.servers:
        lines.append("servers:")
        lines += [f"  - {{address: {_quote(server)}}}  # {_origin(row)}" for server, row in draft.servers]
    lines.append("rules:" if merged else "rules: {}")
    for parameter in parameters.in_table_order(merged):
        lines += [f"  # {origin}" for origin in dict.fromkeys(map(_clean, origins[parameter]))]
        parts = ", ".join(f"{key}: {_yaml(value)}" for key, value in merged[parameter].items())
        lines.append(f"  {parameter}: {{{parts}}}")
    if draft.ladder:
        lines.append("ladder:")
        for step, row in draft.ladder:
            lines.append(f"  - {_yaml(step)}  # {_origin(row)}")
    if doubtful:
        lines += ["", "# Not understood; nothing of these rows is above:"]
        lines += [f"#   line {row.line}: {_clean(row.words)}  ({_clean(why)})" for row, why in doubtful]
    draft.not_understood = doubtful
    return "\n".join(lines) + "\n"


def _origin(row: Row) -> str:
    return _clean(f"line {row.line}: {row.words}")


def _clean(text: str) -> str:
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())


def _quote(text: str) -> str:
    text = "".join(c if c.isprintable() else " " for c in text)
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _yaml(value: object) -> str:
    if isinstance(value, dict):
        return "{" + ", ".join(f"{key}: {_yaml(item)}" for key, item in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(_yaml, value)) + "]"
    if isinstance(value, str):
        return (
            value
            if re.fullmatch(r"[a-z][a-z0-9-]*|\d+x\d+", value) and value not in ("yes", "no", "on", "off")
            else _quote(value)
        )
    return str(value)
