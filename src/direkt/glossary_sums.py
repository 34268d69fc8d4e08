"""Sums in words, both ways: frames and seconds, bitrates and volumes, sizes, rates and levels."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass

from direkt import parameters

_NUMBER = r"(?<![\w.,])(\d+(?:[.,]\d+)?)"
# case tells bits from bytes and nothing else: MB/s is not Mbit/s
_RATE = re.compile(_NUMBER + r"\s*(?:([kKmMgG])\s*(bit/s|bits/s|bps|b/s|bit|byte/s|bytes/s|Bps|B/s)|([kKmM])(?![\w/]))")
_VOLUME = re.compile(_NUMBER + r"\s*([MGT]i?)B(?:ytes?)?(?![\w/])|" + _NUMBER + r"\s*(mega|giga|tera)bytes?\b")
_SPAN = re.compile(_NUMBER + r"\s*(hours?|hrs?|h|minutes?|mins?|days?|d|Stunden?|std)\b(?!/)", re.IGNORECASE)
_SECONDS = re.compile(_NUMBER + r"\s*(s|sec|secs|seconds?|ms|Sekunden?)\b(?!/)", re.IGNORECASE)
_FRAMES = re.compile(_NUMBER + r"\s*(?:frames?|pictures?|Bilder|f)\b(?!\s*(?:/|per|a)\s*s)|\b(?:gop|interval|i-frame)\D{0,20}?(\d+)\b(?!\s*(?:s|sec|ms)\b)", re.IGNORECASE)
_FPS = re.compile(_NUMBER + r"\s*(?:fps|frames?\s*(?:/|per|a)\s*s(?:ec(?:ond)?)?|Hz|p)\b", re.IGNORECASE)
_SIZE = re.compile(r"(?<!\d)(\d{2,5})\s*[x×*]\s*(\d{2,5})(?!\d)", re.IGNORECASE)
_LINES = re.compile(r"\b(240|360|432|480|540|576|720|1080|1440|2160|4320)([pi])(\d{2,3}(?:[.,]\d+)?)?(?![\w])", re.IGNORECASE)
_PROFILE = re.compile(r"\b(high|main|baseline|main\s*10|hp|mp|bp)\s*(?:@|profile)?\s*@?\s*(?:l|level)\s*([1-6](?:[.,]\d)?)\b|\b(?:l|level)\s*([1-6](?:[.,]\d)?)\b", re.IGNORECASE)
_FIELDS = re.compile(r"(?<![\w.,])(50|59[.,]94|60|25|29[.,]97|30|24|23[.,]98)\s*(i|p|psf)\b", re.IGNORECASE)
_BARE = re.compile(r"\s*(\d{1,6}(?:[.,]\d+)?)\s*")
_FACTOR = {"k": 1.0, "m": 1000.0, "g": 1e6}
_WIDE = {240: 426, 360: 640, 432: 768, 480: 854, 540: 960, 576: 1024, 720: 1280, 1080: 1920, 1440: 2560, 2160: 3840, 4320: 7680}
_EXACT = {"23.976": 24000 / 1001, "23.98": 24000 / 1001, "29.97": 30000 / 1001, "59.94": 60000 / 1001, "119.88": 120000 / 1001}
_LEVELS = ("1", "1.1", "1.2", "1.3", "2", "2.1", "2.2", "3", "3.1", "3.2", "4", "4.1", "4.2", "5", "5.1", "5.2", "6", "6.1", "6.2")  # Rec. ITU-T H.264, table A-1
_ANCHORED = ((1280, 720, 30), (1280, 720, 60), (1920, 1080, 30), (1920, 1080, 60), (3840, 2160, 30), (3840, 2160, 60))


@dataclass(frozen=True, slots=True)
class Sum:
    """One result: what it is of, and the result in words."""

    of: str
    text: str


def sums(words: str) -> tuple[Sum, ...]:
    """What can be worked out from the figures in a question; none where it holds none that mean something."""
    return tuple(_all(words.strip()))


def _all(words: str) -> Iterator[Sum]:
    rates = [(_kbit(m), m[0]) for m in _RATE.finditer(words)]
    kbit = next((rate for rate, _ in rates if 0 < rate < 1e9), None)
    fps, size = _fps(words), _size(words)
    frames = next((_float(m[1] or m[2]) for m in _FRAMES.finditer(words)), None)
    seconds = next((_float(m[1]) / (1000 if m[2].lower() == "ms" else 1) for m in _SECONDS.finditer(words)), None)
    hours = next((_hours(m) for m in _SPAN.finditer(words)), None)
    volume = next((_gigabytes(m) for m in _VOLUME.finditer(words)), None)
    if frames is not None and fps:
        yield Sum("keyframe interval", f"{frames:g} frames at {_shown(fps)} fps = {frames / fps:.4g} s")
        frames = None
    elif seconds is not None and fps and seconds < 3600:
        exact = seconds * fps
        whole = max(1, round(exact))
        rounds = "" if abs(exact - whole) < 0.005 else f" is {exact:.2f} frames: {whole}, which is {whole / fps:.4g} s"
        yield Sum("keyframe interval", f"{seconds:g} s at {_shown(fps)} fps" + (rounds or f" = {whole} frames"))
    if size is None and (fields := _FIELDS.search(words)) is not None:
        half = fields[2].lower() == "i" and _rate(fields[1]) > 31
        what = f"half pictures a second, {_shown(_rate(fields[1]) / 2)} whole ones (interlaced)" if half else "half pictures in turn (interlaced)" if fields[2].lower() == "i" else "whole pictures a second (progressive)"
        yield Sum("frame rate", f"{fields[0]}: {fields[1]} {what}")
    if frames is not None:
        yield Sum("keyframe interval", f"{frames:g} frames: " + ", ".join(f"{frames / r:.3g} s at {r} fps" for r in (25, 30, 50, 60)))
    if kbit is not None and volume is not None and hours is None:
        yield Sum("time", f"{volume:g} GB at {_both(kbit)} last {volume * 8e6 / kbit / 3600:.3g} h")
    elif kbit is not None and hours is not None:
        yield Sum("data", f"{_both(kbit)} for {hours:g} h = {kbit * hours * 3600 / 8e6:.3g} GB")
    elif volume is not None and hours:
        yield Sum("bitrate", f"{volume:g} GB in {hours:g} h = {_both(volume * 8e6 / (hours * 3600))} on the average")
    if kbit is not None:
        yield Sum("bitrate", f"{_both(kbit)} = {kbit / 8:g} kB/s (bytes) = {kbit * 3600 / 8e6:.3g} GB an hour")
    if size is not None:
        yield from _of_size(size, fps, kbit, words)
    yield from _of_level(words, size)
    if kbit is None and (said := re.search(r"\b(?:cbr|vbr|bitrate|bit rate)\D{0,6}(\d{3,6})\b", words, re.IGNORECASE)):
        yield Sum("bitrate", f"{said[1]}, in kbit/s most likely: {_both(_float(said[1]))}")
    if not (rates or fps or size or frames or seconds or hours or volume) and (bare := _BARE.fullmatch(words)) and re.search(r"[.,]", words):
        value = _float(bare[1])
        if value not in (29.97, 59.94, 23.976, 23.98) and value > 5.2:
            yield Sum("bitrate", f"{value:g}: as a bitrate in Mbit/s that is {value * 1000:g} kbit/s; a field in kbit/s takes {value * 1000:g}")


def _of_size(size: tuple[int, int], fps: float | None, kbit: float | None, words: str) -> Iterator[Sum]:

    width, height = size
    common = math.gcd(width, height)
    shape = {"683:384": "about 16:9", "427:240": "about 16:9", "8:5": "16:10", "256:135": "about 17:9"}.get(f"{width // common}:{height // common}")
    fields = re.search(r"\d{3,4}i", words, re.IGNORECASE)
    what = "half pictures (interlaced)" if fields else "whole pictures (progressive)" if re.search(r"\d{3,4}p", words, re.IGNORECASE) else ""
    yield Sum("size", f"{width}x{height}, shape {shape or f'{width // common}:{height // common}'} with square pixels" + (f", {what}" if what else ""))
    if fps:
        rate = fps / 2 if fields and fps > 30 else fps
        h264, h265 = (level_for(width, height, rate, kbit or 0, codec=codec) for codec in ("h264", "h265"))
        yield Sum("level", f"at {_shown(rate)} fps it needs H.264 level {h264 or 'beyond all levels'}, H.265 level {h265 or 'beyond all levels'}")
        if kbit:
            value, meaning = bits_per_pixel(kbit, width, height, rate)
            yield Sum("bits per pixel", f"{value:.3f}: {meaning}")


def _of_level(words: str, size: tuple[int, int] | None) -> Iterator[Sum]:

    for match in _PROFILE.finditer(words):
        level = (match[2] or match[3]).replace(",", ".")
        level = level if "." in level else f"{level}.0"
        shown = level.removesuffix(".0") if level.removesuffix(".0") in _LEVELS else level
        if shown not in _LEVELS:
            yield Sum("level", f"there is no level {level}; H.264 has 1 to 1.3, 2 to 2.2, 3 to 3.2, 4 to 4.2, 5 to 5.2 and 6 to 6.2")
            return
        carries = [
            f"{w}x{h} at {r} fps" for w, h, r in _ANCHORED
            if (least := level_for(w, h, r)) and parameters.ordered("video.level", least) <= parameters.ordered("video.level", shown)
        ]  # fmt: skip
        most = f"up to {carries[-1]}" if carries else "less than 1280x720 at 25 fps"
        profile = {"hp": "high", "mp": "main", "bp": "baseline"}.get((match[1] or "").lower(), (match[1] or "").lower())
        yield Sum("level", f"{f'{profile} profile, ' if profile else ''}level {level}: carries {most} in H.264")
        return


def _float(text: str) -> float:
    return float(text.replace(",", "."))


def _kbit(match: re.Match[str]) -> float:
    unit = match[3] or "bit"
    is_bytes = unit.startswith("B") or unit.lower().startswith("byte")
    return _float(match[1]) * _FACTOR[(match[2] or match[4]).lower()] * (8 if is_bytes else 1)


def _gigabytes(match: re.Match[str]) -> float:
    if match[3]:
        return _float(match[3]) * {"mega": 0.001, "giga": 1.0, "tera": 1000.0}[match[4]]
    power = {"M": 2, "G": 3, "T": 4}[match[2][0]]
    return _float(match[1]) * (1024.0**power / 1e9 if "i" in match[2] else 1000.0**power / 1e9)


def _hours(match: re.Match[str]) -> float:
    unit = match[2].lower()
    return _float(match[1]) * (24 if unit.startswith("d") else 1 / 60 if unit.startswith("m") else 1)


def _rate(text: str) -> float:
    return _EXACT.get(text.replace(",", "."), _float(text))


_NAMED = re.compile(r"\b(8k|4k|uhd|2k|qhd|fhd|full\s*hd)\s*@?\s*(\d{2,3}(?:[.,]\d+)?)\s*(?:p|fps)?\b", re.IGNORECASE)
_NAMES = {"8k": (7680, 4320), "4k": (3840, 2160), "uhd": (3840, 2160), "2k": (2560, 1440), "qhd": (2560, 1440)}


def _fps(words: str) -> float | None:
    lines = _LINES.search(words)
    named = _NAMED.search(words)
    found = lines[3] if lines is not None and lines[3] else named[2] if named is not None else None
    if found is None:
        match = next((m for m in _FPS.finditer(words) if not (m[0].lower().endswith("p") and _float(m[1]) > 120)), None)
        found = match[1] if match is not None else None
    return _rate(found) if found is not None and 0 < _float(found) <= 480 else None


def _size(words: str) -> tuple[int, int] | None:
    match = _SIZE.search(words)
    if match is not None:
        width, height = int(match[1]), int(match[2])
        return (width, height) if 16 <= width <= 16384 and 16 <= height <= 16384 else None
    lines, named = _LINES.search(words), _NAMED.search(words)
    if named is not None:
        return _NAMES.get(named[1].lower(), (1920, 1080))
    return (_WIDE[int(lines[1])], int(lines[1])) if lines is not None else None


def _shown(fps: float) -> str:
    return f"{fps:.6g}" if abs(fps - round(fps)) < 1e-9 else f"{fps:.2f}" if fps > 25 else f"{fps:.3f}"


def _both(kbit: float) -> str:
    return f"{kbit:g} kbit/s ({kbit / 1000:g} Mbit/s)" if kbit >= 100 else f"{kbit:g} kbit/s"


def level_for(
    width: int, height: int, frame_rate: float, kbit_s: float = 0, profile: str = "high", codec: str = "h264"
) -> str | None:
    """The lowest level of a codec that permits all this; None when none does."""
    from direkt.codec import levels
    from direkt.codec.bits import BitstreamError

    table = levels.levels(codec)
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
