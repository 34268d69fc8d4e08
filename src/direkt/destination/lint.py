"""Finds contradictions inside a sheet: things that are well formed and cannot all be true."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass, replace

from direkt import demand, parameters
from direkt.codec import levels
from direkt.codec.bits import BitstreamError
from direkt.destination.implied import IMPLIED
from direkt.destination.pattern import Pattern, PatternError
from direkt.destination.sheet import Rule, Sheet, span_demand
from direkt.parameters import Value


@dataclass(frozen=True, slots=True)
class Contradiction:
    """Two things in a sheet that do not go together."""

    source: str  # file and line
    said: str
    warning: bool = False  # it can be meant, but is unlikely to be
    mode: str = ""  # the latency mode in which they do not

    @property
    def text(self) -> str:
        """In words."""
        return f"in latency mode {self.mode}: {self.said}" if self.mode else self.said


def lint(sheet: Sheet) -> list[Contradiction]:
    """All contradictions of a sheet and of its latency modes, in the file's order."""
    found = [*_of_rules(sheet), *_ladder(sheet), *_audio_ladder(sheet), *_ends(sheet)]
    for name in sheet.modes:
        inside = _of_rules(sheet.in_mode(name))
        found += [replace(c, mode=name) for c in inside]
    unique = {(c.source, c.said): c for c in reversed(found)}
    return sorted(unique.values(), key=lambda c: _line(c.source))


def _line(source: str) -> tuple[str, int]:
    path, _, line = source.rpartition(":")
    return (path, int(line)) if line.isdigit() else (source, 0)


def _of_rules(sheet: Sheet) -> Iterator[Contradiction]:
    """What a latency mode may change."""
    yield from _rules(sheet)
    yield from _implications(sheet)
    yield from _bitrates(sheet)
    yield from _levels(sheet)


def _rules(sheet: Sheet) -> Iterator[Contradiction]:
    for rule in sheet.rules.values():
        if rule.must and rule.should and not demand.within(rule.should, rule.must):
            if rule.should.one_of and any(rule.must.allows(value) for value in rule.should.one_of):
                outside = [value for value in rule.should.one_of if not rule.must.allows(value)]
                words = ", ".join(parameters.show(rule.name, value) for value in outside)
                yield Contradiction(rule.source, f"{rule.name}: recommends {words}, which is not among what it allows")
            else:
                yield Contradiction(
                    rule.source,
                    f"{rule.name}: recommends {rule.should.text()}, outside what it allows ({rule.must.text()})",
                )
    low, usual, high = (sheet.rules.get(f"video.keyframe_interval.{part}") for part in ("min", "median", "max"))
    for smaller, larger in ((low, usual), (usual, high), (low, high)):
        a, b = _least(smaller), _most(larger)
        if smaller and larger and a is not None and b is not None and a > b:
            yield Contradiction(
                larger.source, f"{larger.name} of {larger.text()} cannot go with {smaller.name} of {smaller.text()}"
            )
    if sheet.rules.get("audio.present") and _only(sheet.rules["audio.present"]) == "no":
        for name, rule in sheet.rules.items():
            if name.startswith("audio.") and name != "audio.present" and rule.must:
                yield Contradiction(rule.source, f"{name} is demanded, but audio.present must be no")
    scan, order = _only(sheet.rules.get("video.scan")), sheet.rules.get("video.field_order")
    if scan == "progressive" and order and order.must:
        yield Contradiction(order.source, "video.field_order is demanded, but whole pictures (progressive) have none")
    joins = sheet.rules.get("video.join_interval.max")
    a, b = _least(joins), _most(high)
    if joins and high and a is not None and b is not None and a > b:
        yield Contradiction(joins.source, f"video.join_interval.max of {joins.text()} cannot go with "
                            f"{high.name} of {high.text()}: every keyframe is a place to join")  # fmt: skip
    yield from _shapes(sheet)


# Sizes with pixels that are not square: the standard-definition rasters, and high definition on fewer columns
_ANAMORPHIC = {"720x576", "720x480", "704x576", "704x480", "1440x1080", "1280x1080", "960x720"}


def _shapes(sheet: Sheet) -> Iterator[Contradiction]:
    size, aspect, pixel = (sheet.rules.get(f"video.{name}") for name in ("size", "display_aspect", "sample_aspect"))
    sizes = size.must.one_of if size and size.must else ()
    for value in sizes:
        assert size is not None
        width, height = parameters.size_of(value)
        yield from _sides(sheet, size, value, width, height)
        if not (aspect and aspect.must):
            continue
        if pixel and pixel.must:
            pixels = [_ratio_of(v) for v in pixel.must.one_of]
        elif str(value) in _ANAMORPHIC:
            continue
        else:
            pixels = [(1, 1)]
        ratios = [parameters.reduce_ratio(width * across, height * down) for across, down in pixels]
        if not any(aspect.must.allows(ratio) for ratio in ratios):
            yield Contradiction(
                size.source,
                f"video.size allows {value}, which is {' or '.join(ratios)}; video.display_aspect must be {aspect.must.text()}",
            )


def _ratio_of(value: Value) -> tuple[int, int]:
    across, _, down = str(value).partition(":")
    return int(across), int(down)


def _sides(sheet: Sheet, size: Rule, value: Value, width: int, height: int) -> Iterator[Contradiction]:
    for name, side in (("video.width", width), ("video.height", height)):
        rule = sheet.rules.get(name)
        if rule and rule.must and not rule.must.allows(side):
            yield Contradiction(rule.source, f"{name} must be {rule.must.text()}, but video.size allows {value}")
    chroma = sheet.rules.get("video.chroma")
    if (width % 2 or height % 2) and (chroma is None or _only(chroma) == "4:2:0"):
        odd = "width" if width % 2 else "height"
        yield Contradiction(size.source, f"video.size allows {value}: its {odd} is odd, which 4:2:0 cannot have")


def _implications(sheet: Sheet) -> Iterator[Contradiction]:
    """What a profile, a codec or another choice rules out elsewhere."""
    for row in IMPLIED:
        rule, other = sheet.rules.get(row.name), sheet.rules.get(row.other)
        if rule is None or other is None:
            continue
        alone = _only(rule) == row.value
        musts = bool(rule.must and row.value in rule.must.one_of)
        wished = bool(rule.should and row.value in rule.should.one_of)
        if not (musts or wished) or (row.alone and not alone):
            continue
        words = "recommends" if wished and not musts else "allows" if not alone else "demands"
        for demanded, wish in ((True, other.must), (False, other.should)):
            # what is only allowed need not be able to do what is only recommended
            if wish is None or demand.both(wish, row.only) is not None or not (demanded or alone or wished):
                continue
            asks = "must be" if demanded else "should be"
            yield Contradiction(
                other.source,
                f"{row.name} {words} {row.value}, but {row.other} {asks} {wish.text()}: {row.because}", not row.strict,
            )  # fmt: skip
            break


def _bitrates(sheet: Sheet) -> Iterator[Contradiction]:
    """Peaks below means, wholes below their parts, and the ladder's steps beside the rules."""
    for track in ("video", "audio"):
        mean, peak = sheet.rules.get(f"{track}.bitrate.mean"), sheet.rules.get(f"{track}.bitrate.peak")
        low, high = _least(mean), _most(peak)
        if mean and peak and low is not None and high is not None and high < low:
            yield Contradiction(peak.source, f"{peak.name} of {peak.text()} lies below {mean.name} of {mean.text()}")
    whole = sheet.rules.get("stream.bitrate.mean")
    most = _most(whole)
    parts = [_least(sheet.rules.get(f"{track}.bitrate.mean")) or 0.0 for track in ("video", "audio")]
    if whole and most is not None and most < sum(parts):
        yield Contradiction(whole.source, f"stream.bitrate.mean of {whole.text()} lies below video and sound together, at "
                            f"least {sum(parts):g} kbit/s")  # fmt: skip
    mean, peak = sheet.rules.get("video.bitrate.mean"), sheet.rules.get("video.bitrate.peak")
    for rung in sheet.ladder:
        where = f"the ladder's step {rung.words}"
        if (
            mean
            and mean.must
            and (span := span_demand("video.bitrate.mean", rung.minimum, rung.maximum)) is not None
            and demand.both(mean.must, span) is None
        ):
            yield Contradiction(rung.source, f"{where} has {rung.text} kbit/s; "
                                f"video.bitrate.mean must be {mean.must.text()}")  # fmt: skip
        elif peak and (most := _most(peak)) is not None and peak.must and most < rung.minimum:
            yield Contradiction(
                rung.source, f"{where} has at least {rung.minimum:g} kbit/s; video.bitrate.peak is {peak.text()}"
            )


def _audio_ladder(sheet: Sheet) -> Iterator[Contradiction]:
    if not sheet.audio_ladder:
        return
    channels, mean = sheet.rules.get("audio.channels"), sheet.rules.get("audio.bitrate.mean")
    if _only(sheet.rules.get("audio.present")) == "no":
        yield Contradiction(sheet.audio_ladder[0].source, "there are bitrates for sound, but audio.present must be no")
    for n, step in enumerate(sheet.audio_ladder):
        if any(step.channels == other.channels for other in sheet.audio_ladder[:n]):
            yield Contradiction(step.source, f"two steps of the audio ladder are for {step.channels} channels")
        if channels and channels.must and not channels.must.allows(step.channels):
            yield Contradiction(
                step.source,
                f"the audio ladder has {step.channels} channels; audio.channels must be {channels.must.text()}",
            )
        span = span_demand("audio.bitrate.mean", step.minimum, step.maximum)
        if mean and mean.must and span is not None and demand.both(mean.must, span) is None:
            yield Contradiction(step.source, f"the audio ladder has {step.text} kbit/s for {step.channels} "
                                f"channels; audio.bitrate.mean must be {mean.must.text()}")  # fmt: skip
    known = {step.channels for step in sheet.audio_ladder}
    missing = [v for v in (channels.must.one_of if channels and channels.must else ()) if v not in known]
    if missing:
        yield Contradiction(sheet.source, f"the audio ladder has a hole: nothing for {', '.join(map(str, missing))} channels, "
                            "which the rules allow")  # fmt: skip
    steps = sorted(sheet.audio_ladder, key=lambda step: step.channels)
    for few, more in itertools.pairwise(steps):
        if more.channels == few.channels:
            continue
        falls = more.maximum is not None and few.maximum is not None and more.maximum < few.maximum
        if falls or (few.best and more.best and more.best < few.best):
            yield Contradiction(
                more.source, f"the audio ladder gives {more.channels} channels less than {few.channels}", True
            )


def _least(rule: Rule | None) -> float | None:
    return _end(rule, min, "minimum")


def _most(rule: Rule | None) -> float | None:
    return _end(rule, max, "maximum")


def _end(rule: Rule | None, pick: object, bound: str) -> float | None:
    wish = (rule.must or rule.should) if rule else None
    if wish is None or rule is None:
        return None
    if wish.one_of:
        return pick(parameters.ordered(rule.name, value) for value in wish.one_of)  # type: ignore[operator, no-any-return]
    value = getattr(wish, bound)
    return None if value is None else parameters.ordered(rule.name, value)


def _only(rule: Rule | None) -> Value | None:
    return rule.must.one_of[0] if rule and rule.must and len(rule.must.one_of) == 1 else None


def _pictures(sheet: Sheet) -> tuple[list[Value], list[float]]:
    """The sizes and rates that the sheet names one by one."""
    size, rate = sheet.rules.get("video.size"), sheet.rules.get("video.frame_rate")
    sizes = list(size.must.one_of) if size and size.must else []
    rates = [float(v) for v in rate.must.one_of if not isinstance(v, str)] if rate and rate.must else []
    return sizes, rates


def _ladder(sheet: Sheet) -> Iterator[Contradiction]:
    for n, a in enumerate(sheet.ladder):
        for b in sheet.ladder[n + 1 :]:
            # one step for a codec beside one for each is an exception, not a slip
            together = a.meets(b) and bool(a.codecs) == bool(b.codecs)
            if together and (a.width, a.height) == (b.width, b.height) and a.slowest <= b.fastest and b.slowest <= a.fastest:
                codecs = f" in {' or '.join(c for c in b.codecs if c in a.codecs)}" if b.codecs else ""
                yield Contradiction(b.source, f"the ladder overlaps: {b.width}x{b.height} at {max(a.slowest, b.slowest):g} "
                                    f"to {min(a.fastest, b.fastest):g} fps{codecs} stands on two steps")  # fmt: skip
    sizes, rates = _pictures(sheet)
    if not sheet.ladder:
        return
    yield from _falls(sheet)
    rates = rates or _in_range(sheet)
    codec = sheet.rules.get("video.codec")
    allowed = [str(v) for v in codec.must.one_of] if codec is not None and codec.must is not None else []
    apart = list(dict.fromkeys(name for rung in sheet.ladder for name in rung.codecs))
    yield from _steps_of_codecs(sheet, codec)
    for size in sizes:
        for coded in (allowed or apart) if apart else (None,):
            holes = [rate for rate in rates if sheet.rung_for(*parameters.size_of(size), rate, coded) is None]
            if holes:
                words = ", ".join(f"{rate:g}" for rate in holes)
                yield Contradiction(
                    sheet.source, f"the ladder has a hole: no bitrate for {size} at {words} fps{f' in {coded}' if coded else ''}, which the rules allow"
                )
    for rung in sheet.ladder:
        if rates and not any(rung.fits(rung.width, rung.height, rate) for rate in rates):
            yield Contradiction(rung.source, f"the ladder's step {rung.words} holds no frame rate that the rules allow")


def _steps_of_codecs(sheet: Sheet, codec: Rule | None) -> Iterator[Contradiction]:
    """Steps for codecs that the rules refuse, and newer codecs that get more than older ones."""
    for rung in sheet.ladder:
        refused = [name for name in rung.codecs if codec is not None and codec.must is not None and not codec.must.allows(name)]
        if refused and codec is not None and codec.must is not None:
            yield Contradiction(rung.source, f"the ladder's step {rung.words} is for {' and '.join(refused)}; video.codec must be {codec.must.text()}")
    for old in sheet.ladder:
        for new in sheet.ladder:
            same = (old.width, old.height, old.slowest, old.fastest) == (new.width, new.height, new.slowest, new.fastest)
            if same and old.codecs == ("h264",) and new.codecs in (("h265",), ("av1",)) and old.best and new.best and new.best > old.best:
                yield Contradiction(new.source, f"the ladder's step {new.words} has a best of {new.best:g} kbit/s, more than h264 with {old.best:g}", True)


def _in_range(sheet: Sheet) -> list[float]:
    """The frame rates that a range allows: its ends, and what is usual between them."""
    rule = sheet.rules.get("video.frame_rate")
    if rule is None or rule.must is None or rule.must.one_of:
        return []
    ends = [float(v) for v in (rule.must.minimum, rule.must.maximum) if isinstance(v, int | float)]
    inside = [rate for rate in parameters.USUAL_RATES if rule.must.allows(rate)] if rule.must.maximum is not None else []
    return sorted({*ends, *inside})


def _falls(sheet: Sheet) -> Iterator[Contradiction]:
    """Steps for more pixels a second that get fewer bits."""
    for a in sheet.ladder:
        for b in sheet.ladder:
            pixels = a.width * a.height, b.width * b.height
            together = a.slowest <= b.fastest and b.slowest <= a.fastest
            larger = pixels[0] < pixels[1] and together
            faster = pixels[0] == pixels[1] and a.fastest < b.slowest
            if not (larger or faster) or not a.meets(b) or bool(a.codecs) != bool(b.codecs):
                continue
            for what, less, more in (
                ("at most", a.maximum, b.maximum),
                ("best", a.best, b.best),
                ("at least", a.minimum, b.minimum),
            ):
                if less is not None and more is not None and more < less:
                    yield Contradiction(
                        b.source,
                        f"the ladder falls: {b.width}x{b.height} at {b.slowest:g} to {b.fastest:g} fps gets {what} {more:g} kbit/s, "
                        f"{a.width}x{a.height} at {a.slowest:g} to {a.fastest:g} fps gets {less:g}", True,
                    )  # fmt: skip
                    break


def _no_levels(sheet: Sheet, rule: Rule) -> Iterator[Contradiction]:
    """Levels that the codec does not have."""
    codec = sheet.rules.get("video.codec")
    allowed = [str(v) for v in (codec.must.one_of if codec is not None and codec.must is not None else ())] or ["h264"]
    tables = {name: table for name in allowed if (table := levels.levels(name)) is not None}
    for wish in (rule.must, rule.should):
        for level in (*wish.one_of, wish.minimum, wish.maximum) if wish is not None else ():
            if level is not None and tables and not any(str(level) in table.level_names() for table in tables.values()):
                near = ", ".join(name for table in list(tables.values())[:1] for name in table.level_names() if name[0] == str(level)[0])
                yield Contradiction(rule.source, f"there is no level {level} of {' or '.join(tables)}; there is {near or 'none like it'}")


def _levels(sheet: Sheet) -> Iterator[Contradiction]:
    rule = sheet.rules.get("video.level")
    if rule is None:
        return
    wrong = list(_no_levels(sheet, rule))
    yield from wrong
    if rule.must is None or wrong:
        return
    profile = sheet.rules.get("video.profile")
    name = (
        "high" if profile and profile.must and any(str(v).startswith("high") for v in profile.must.one_of) else "main"
    )
    most = (
        rule.must.maximum
        if not rule.must.one_of
        else max(rule.must.one_of, key=lambda v: parameters.ordered("video.level", v))
    )
    if most is None:
        return
    codec = sheet.rules.get("video.codec")
    coded = str(_only(codec) or "h264") if codec else "h264"
    table = levels.levels(coded)
    if table is None:
        return
    limit = parameters.ordered(rule.name, most)
    sizes, rates = _pictures(sheet)
    for size in sizes:
        for rate in rates:
            needed = _needed(table, *parameters.size_of(size), rate, 0, name)
            if needed is None or parameters.ordered(rule.name, needed) > limit:
                words = needed or "more than any level"
                yield Contradiction(
                    rule.source,
                    f"video.level of at most {most} is too low for {size} at {rate:g} fps, which needs {words}",
                )
    for what in ("video.bitrate.mean", "video.bitrate.peak"):
        asked = sheet.rules.get(what)
        for end in (_least(asked), _most(asked)):
            if end is not None and ((least := _needed(table, 16, 16, 1, end, name)) is None or parameters.ordered(rule.name, least) > limit):
                assert asked is not None
                yield Contradiction(asked.source, f"{what} of {end:g} kbit/s is more than level {most} permits: it needs {least or 'more than any level'}")
                break
    for rung in sheet.ladder:
        most_sent = rung.maximum if rung.maximum is not None else rung.best or rung.minimum
        without, with_ = (
            _needed(table, rung.width, rung.height, rung.slowest, bitrate, name) for bitrate in (0, most_sent)
        )
        fits = without is not None and parameters.ordered(rule.name, without) <= limit
        if not rung.holds_for(coded):
            continue
        if fits and (with_ is None or parameters.ordered(rule.name, with_) > limit):
            yield Contradiction(rung.source, f"the ladder allows {most_sent:g} kbit/s, more than level {most} permits")


def _needed(table: levels.LevelTable, width: int, height: int, rate: float, bitrate: float, profile: str) -> str | None:
    try:
        return table.lowest_level(width, height, rate, bitrate, profile)
    except BitstreamError:
        return None


def _ends(sheet: Sheet) -> Iterator[Contradiction]:
    """Servers, protocols, key and session."""
    ports = {(p.protocol, p.port) for p in sheet.protocols}
    for server in sheet.servers:
        found = server.parsed
        if ports and (found.scheme, found.port) not in ports:
            yield Contradiction(
                sheet.source,
                f"server {server.address} uses {found.scheme} on port {found.port}, which protocols does not list",
            )
    if sheet.servers and all(server.role == "backup" for server in sheet.servers):
        yield Contradiction(sheet.source, "all servers are backups; one must be the primary")
    key = sheet.key
    if key is not None and key.pattern and key.example:
        try:
            if not Pattern(key.pattern).fits(key.example):
                yield Contradiction(sheet.source, "key.example does not fit key.pattern")
        except PatternError as error:
            yield Contradiction(sheet.source, f"key.pattern: {error}")
    session = sheet.session
    if session is not None and session.shows_after_s and session.shows_after_s.min > session.shows_after_s.max:
        yield Contradiction(sheet.source, "session.shows_after_s: min is above max")
    for row in sheet.protocols:
        if row.latency_ms is not None and (words := row.latency_ms.contradiction()):
            yield Contradiction(sheet.source, f"latency_ms of {row.protocol} on port {row.port}: {words}")
    protocol = sheet.rules.get("stream.protocol")
    refused = [p.protocol for p in sheet.protocols if protocol and protocol.must and not protocol.must.allows(p.protocol)]
    if protocol and protocol.must and refused:
        yield Contradiction(protocol.source, f"protocols lists {', '.join(dict.fromkeys(refused))}; stream.protocol must be {protocol.must.text()}")
    if protocol and protocol.must and sheet.protocols:
        missing = [v for v in protocol.must.one_of if v not in {p.protocol for p in sheet.protocols}]
        if missing:
            yield Contradiction(
                protocol.source, f"stream.protocol allows {', '.join(map(str, missing))}, which protocols does not list"
            )
