"""Several destinations at once: side by side, and the demands that satisfy all of them, or what makes that impossible."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from direkt import demand, parameters
from direkt.demand import Demand
from direkt.destination.sheet import AudioRung, Rung, Sheet
from direkt.parameters import USUAL_RATES, Values


@dataclass(frozen=True, slots=True)
class Blocker:
    """A parameter on which the sheets exclude each other."""

    parameter: str
    text: str


@dataclass(frozen=True, slots=True)
class Common:
    """What one encoder must do to please every sheet."""

    demands: dict[str, Demand]  # by parameter; what each sheet's must allows
    wishes: dict[str, Demand]  # the recommendations that all share
    pictures: tuple[tuple[str, float, Rung], ...]  # size, frame rate, and the shared bitrate range
    blockers: tuple[Blocker, ...]
    sounds: tuple[AudioRung, ...] = ()  # channels, and the shared bitrate range
    protocols: tuple[str, ...] | None = ()  # that all take; None: not every sheet says


def common(sheets: Sequence[Sheet]) -> Common:
    """The intersection of the sheets' demands. Costs O(parameters x sheets + sizes x rates x sheets)."""
    demands: dict[str, Demand] = {}
    wishes: dict[str, Demand] = {}
    blockers: list[Blocker] = []
    for name in parameters.in_table_order({name for sheet in sheets for name in sheet.rules}):
        rules = [(sheet, sheet.rules[name]) for sheet in sheets if name in sheet.rules]
        shared: Demand | None = None
        possible = True
        for _, rule in rules:
            if rule.must is not None and possible:
                shared = rule.must if shared is None else demand.both(shared, rule.must)
                possible = shared is not None
        if not possible:
            words = "; ".join(f"{sheet.name}: {rule.must.text()}" for sheet, rule in rules if rule.must)
            blockers.append(Blocker(name, words))
            continue
        if shared is not None:
            demands[name] = shared
        wish: Demand | None = None
        for _, rule in rules:
            if rule.should is not None:
                met = rule.should if wish is None else demand.both(wish, rule.should)
                wish = met if met is not None else wish
        if wish is not None and shared is not None:
            wish = demand.both(wish, shared)
        if wish is not None:
            wishes[name] = wish
    pictures = _pictures(sheets, demands, blockers)
    sounds = _sounds(sheets, demands, blockers)
    return Common(demands, wishes, tuple(pictures), tuple(blockers), tuple(sounds), _protocols(sheets))


@dataclass(frozen=True, slots=True)
class _Range:
    """kbit/s that all take, or why there is none."""

    low: float = 0.0
    best: float | None = None
    high: float | None = None
    why_not: str = ""


def _bitrate(sheets: Sequence[Sheet], name: str, values: Values, what: str, without: Sequence[str]) -> _Range:
    """What all sheets take of a bitrate beside ``values``; ``without``: those whose ladder has no step for it."""
    if without:
        return _Range(why_not=f"{what} has no bitrate in {', '.join(without)}")
    rules = [(sheet, rule) for sheet in sheets if (rule := sheet.rules_for(values).get(name)) is not None]
    shared = Demand(name)
    for _, rule in rules:
        met = demand.both(shared, rule.must) if rule.must is not None else shared
        if met is None:
            words = ", ".join(f"{sheet.name} {r.must.text()}" for sheet, r in rules if r.must is not None)
            return _Range(why_not=f"{what}: {words} do not meet")
        shared = met
    ends = [v for v in (shared.minimum, shared.maximum, *shared.one_of) if isinstance(v, int | float)]
    low = shared.minimum if isinstance(shared.minimum, int | float) else min(ends) if shared.one_of else 0.0
    high = shared.maximum if isinstance(shared.maximum, int | float) else max(ends) if shared.one_of else None
    wanted = [v for _, rule in rules if rule.should is not None for v in rule.should.one_of if isinstance(v, int | float)]
    best = shared.nearest(min(wanted)) if wanted else None
    return _Range(low, best if isinstance(best, int | float) else None, high)


def _pictures(
    sheets: Sequence[Sheet], demands: dict[str, Demand], blockers: list[Blocker]
) -> list[tuple[str, float, Rung]]:
    """Each shared size and rate with the bitrates that all take; codec by codec where a ladder tells them apart."""
    if not any(sheet.ladder for sheet in sheets):
        return []
    size, rate, codec = (demands.get(f"video.{part}") for part in ("size", "frame_rate", "codec"))
    sizes = list(map(str, size.one_of)) if size is not None else []
    if not sizes:
        named = dict.fromkeys(f"{rung.width}x{rung.height}" for sheet in sheets for rung in sheet.ladder)
        sizes = [one for one in named if size is None or size.allows(one)]
    rates = [float(v) for v in rate.one_of if not isinstance(v, str)] if rate is not None and rate.one_of else [
        one for one in USUAL_RATES
        if (rate is None or rate.allows(one)) and any(r.slowest <= one <= r.fastest for s in sheets for r in s.ladder)
    ]  # fmt: skip
    apart = sorted({name for sheet in sheets for rung in sheet.ladder for name in rung.codecs})
    codecs: list[str | None] = [None]
    if apart:
        named_codecs = list(map(str, codec.one_of)) if codec is not None and codec.one_of else apart
        codecs = [one for one in named_codecs if codec is None or codec.allows(one)]
    found: list[tuple[str, float, Rung]] = []
    refused: list[str] = []
    for picture in sizes:
        width, height = parameters.size_of(picture)
        for pace in rates:
            for coded in codecs:
                values = parameters.expand_set({"video.size": picture, "video.frame_rate": pace, **({"video.codec": coded} if coded else {})})
                what = f"{picture} at {pace:g} fps{f' in {coded}' if coded else ''}"
                without = [s.name for s in sheets if s.ladder and s.rung_for(width, height, pace, coded) is None]
                both = _bitrate(sheets, "video.bitrate.mean", values, what, without)
                if both.why_not:
                    refused.append(both.why_not)
                else:
                    found.append((picture, pace, Rung(width, height, pace, pace, both.low, both.best, both.high, codecs=(coded,) if coded else ())))
    if not found and refused:
        blockers.append(Blocker("video.bitrate.mean", "; ".join(refused)))
    return found


def _sounds(sheets: Sequence[Sheet], demands: dict[str, Demand], blockers: list[Blocker]) -> list[AudioRung]:
    """Each shared number of channels with the bitrates that all take."""
    if not any(sheet.audio_ladder for sheet in sheets):
        return []
    channels = demands.get("audio.channels")
    named = channels.one_of if channels is not None and channels.one_of else sorted({a.channels for s in sheets for a in s.audio_ladder})
    found: list[AudioRung] = []
    refused: list[str] = []
    for count in (v for v in named if isinstance(v, int) and (channels is None or channels.allows(v))):
        without = [s.name for s in sheets if s.audio_ladder and all(step.channels != count for step in s.audio_ladder)]
        both = _bitrate(sheets, "audio.bitrate.mean", {"audio.channels": count}, f"{count} channels", without)
        if both.why_not:
            refused.append(both.why_not)
        else:
            found.append(AudioRung(count, both.low, both.best, both.high))
    if not found and refused and (not blockers or all(b.parameter != "audio.bitrate.mean" for b in blockers)):
        blockers.append(Blocker("audio.bitrate.mean", "; ".join(refused)))
    return found


def _protocols(sheets: Sequence[Sheet]) -> tuple[str, ...] | None:
    """The protocols that every sheet takes; None where one of them does not say which."""
    taken = [[p.protocol for p in sheet.protocols] for sheet in sheets]
    return tuple(dict.fromkeys(p for p in taken[0] if all(p in others for others in taken))) if all(taken) else None
