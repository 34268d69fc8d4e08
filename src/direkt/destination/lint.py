"""Finds contradictions inside a sheet: things that are well formed and cannot all be true."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from direkt import demand, parameters
from direkt.codec import reader
from direkt.codec.bits import BitstreamError
from direkt.destination.model import Rule, Sheet
from direkt.destination.pattern import Pattern, PatternError
from direkt.parameters import Value


@dataclass(frozen=True, slots=True)
class Contradiction:
    """Two things in a sheet that do not go together."""

    source: str  # file and line
    text: str


def lint(sheet: Sheet) -> list[Contradiction]:
    """All contradictions of a sheet and of its latency modes, in the file's order."""
    found = [*_rules(sheet), *_ladder(sheet), *_levels(sheet), *_ends(sheet)]
    for name in sheet.modes:
        inside = sheet.in_mode(name)
        found += [Contradiction(c.source, f"in latency mode {name}: {c.text}") for c in _rules(inside)]
        found += [Contradiction(c.source, f"in latency mode {name}: {c.text}") for c in _levels(inside)]
    unique = {
        (c.source, c.text.partition(": ")[2] if c.text.startswith("in latency") else c.text): c for c in reversed(found)
    }
    return sorted(unique.values(), key=lambda c: _line(c.source))


def _line(source: str) -> tuple[str, int]:
    path, _, line = source.rpartition(":")
    return (path, int(line)) if line.isdigit() else (source, 0)


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
    yield from _shapes(sheet)


def _shapes(sheet: Sheet) -> Iterator[Contradiction]:
    size, aspect = sheet.rules.get("video.size"), sheet.rules.get("video.display_aspect")
    if size and size.must and aspect and aspect.must:
        for value in size.must.one_of:
            ratio = parameters.reduce_ratio(*parameters.size_of(value))
            if not aspect.must.allows(ratio):
                yield Contradiction(
                    size.source,
                    f"video.size allows {value}, which is {ratio}; video.display_aspect must be {aspect.must.text()}",
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


def _only(rule: Rule) -> Value | None:
    return rule.must.one_of[0] if rule.must and len(rule.must.one_of) == 1 else None


def _pictures(sheet: Sheet) -> tuple[list[Value], list[float]]:
    """The sizes and rates that the sheet names one by one."""
    size, rate = sheet.rules.get("video.size"), sheet.rules.get("video.frame_rate")
    sizes = list(size.must.one_of) if size and size.must else []
    rates = [float(v) for v in rate.must.one_of if not isinstance(v, str)] if rate and rate.must else []
    return sizes, rates


def _ladder(sheet: Sheet) -> Iterator[Contradiction]:
    for n, a in enumerate(sheet.ladder):
        for b in sheet.ladder[n + 1 :]:
            if (a.width, a.height) == (b.width, b.height) and a.slowest <= b.fastest and b.slowest <= a.fastest:
                yield Contradiction(b.source, f"the ladder overlaps: {b.width}x{b.height} at {max(a.slowest, b.slowest):g} "
                                    f"to {min(a.fastest, b.fastest):g} fps stands on two steps")  # fmt: skip
    sizes, rates = _pictures(sheet)
    if not sheet.ladder:
        return
    for size in sizes:
        holes = [rate for rate in rates if sheet.rung_for(*parameters.size_of(size), rate) is None]
        if holes:
            words = ", ".join(f"{rate:g}" for rate in holes)
            yield Contradiction(
                sheet.source, f"the ladder has a hole: no bitrate for {size} at {words} fps, which the rules allow"
            )
    for rung in sheet.ladder:
        if rates and not any(rung.fits(rung.width, rung.height, rate) for rate in rates):
            yield Contradiction(rung.source, f"the ladder's step {rung.width}x{rung.height} at {rung.slowest:g} to "
                                f"{rung.fastest:g} fps holds no frame rate that the rules allow")  # fmt: skip


def _levels(sheet: Sheet) -> Iterator[Contradiction]:
    rule = sheet.rules.get("video.level")
    if rule is None or rule.must is None:
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
    table = reader.levels(str(_only(codec) or "h264") if codec else "h264")
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
    for rung in sheet.ladder:
        without, with_ = (
            _needed(table, rung.width, rung.height, rung.slowest, bitrate, name) for bitrate in (0, rung.maximum)
        )
        fits = without is not None and parameters.ordered(rule.name, without) <= limit
        if fits and (with_ is None or parameters.ordered(rule.name, with_) > limit):
            yield Contradiction(
                rung.source, f"the ladder allows {rung.maximum:g} kbit/s, more than level {most} permits"
            )


def _needed(table: reader.LevelTable, width: int, height: int, rate: float, bitrate: float, profile: str) -> str | None:
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
    protocol = sheet.rules.get("stream.protocol")
    if protocol and protocol.must and sheet.protocols:
        missing = [v for v in protocol.must.one_of if v not in {p.protocol for p in sheet.protocols}]
        if missing:
            yield Contradiction(
                protocol.source, f"stream.protocol allows {', '.join(map(str, missing))}, which protocols does not list"
            )
