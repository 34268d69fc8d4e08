"""Several destinations at once: side by side, and the demands that satisfy all of them, or what makes that impossible."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from direkt import demand, parameters
from direkt.demand import Demand
from direkt.destination.model import Rung, Sheet


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
    return Common(demands, wishes, tuple(pictures), tuple(blockers))


def _pictures(
    sheets: Sequence[Sheet], demands: dict[str, Demand], blockers: list[Blocker]
) -> list[tuple[str, float, Rung]]:
    """Each shared size and rate with the bitrates that all ladders take."""
    size, rate = demands.get("video.size"), demands.get("video.frame_rate")
    if size is None or rate is None or not rate.one_of or not any(sheet.ladder for sheet in sheets):
        return []
    found: list[tuple[str, float, Rung]] = []
    refused: list[str] = []
    for picture in map(str, size.one_of):
        width, height = parameters.size_of(picture)
        for pace in (float(v) for v in rate.one_of if not isinstance(v, str)):
            rungs = [(sheet, sheet.rung_for(width, height, pace)) for sheet in sheets if sheet.ladder]
            if any(rung is None for _, rung in rungs):
                missing = ", ".join(sheet.name for sheet, rung in rungs if rung is None)
                refused.append(f"{picture} at {pace:g} fps has no bitrate in {missing}")
                continue
            known = [rung for _, rung in rungs if rung is not None]
            low = max(r.minimum for r in known)
            high = min((r.maximum for r in known if r.maximum is not None), default=None)
            if high is not None and low > high:
                words = ", ".join(f"{s.name} {r.text}" for s, r in rungs if r is not None)
                refused.append(f"{picture} at {pace:g} fps: {words} kbit/s do not meet")
                continue
            wanted = [r.best for r in known if r.best is not None]
            best = max(min(wanted), low) if wanted else None
            best = min(best, high) if best is not None and high is not None else best
            found.append((picture, pace, Rung(width, height, pace, pace, low, best, high)))
    if not found:
        blockers.append(Blocker("video.bitrate.mean", "; ".join(refused)))
    return found
