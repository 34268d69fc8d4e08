"""Matches a channel's settings to a sheet: the best settings of all, as few changes as can be, and the rule behind each.

What counts first: that every rule is met; then the picture (its recommended size and rate, no invented pixels, near to what is
set); then what else is recommended; then how little changes. The search is exact (search.py); this file puts its answer into
words.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from direkt import parameters
from direkt.demand import Demand
from direkt.destination.sheet import Rule, Sheet
from direkt.device.input import InputSignal
from direkt.device.state import Channel
from direkt.match import problem, search, terms, traps
from direkt.match.problem import Stated
from direkt.match.search import Constraint, NothingFits, Solution
from direkt.match.terms import (
    ADAPTIVE,
    BITRATE,
    INTERVAL,
    PROTOCOL,
    PUSH,
    RATE,
    SIZE,
    SOURCE,
    UPLINK,
    Circumstances,
    SheetDemand,
    rules_on,
    takes,
)
from direkt.parameters import Value, Values

_ADAPTIVE = "off: it stretches keyframe intervals, starves the bitrate and may switch the codec"


@dataclass(frozen=True, slots=True)
class PlannedStep:
    """One setting of the channel: kept or changed."""

    parameter: str
    old: Value | None
    new: Value | None
    asked: str  # the rules' words
    reason: str
    rule: str = ""  # where the deciding rule stands
    why: str = ""  # of the reason, what goes beyond that the rule wants it

    @property
    def changes(self) -> bool:
        """Whether anything is to be written."""
        return self.new is not None and self.new != self.old


@dataclass(frozen=True, slots=True)
class Unmet:
    """A demand that the device, its input or the uplink cannot meet."""

    parameter: str
    reason: str
    rule: str = ""


@dataclass(frozen=True, slots=True)
class Plan:
    """All steps in the table's order, and what cannot be met."""

    steps: tuple[PlannedStep, ...]
    unmet: tuple[Unmet, ...]
    conflict: tuple[str, ...] = ()  # the smallest set of demands that cannot hold together, in words
    notes: tuple[str, ...] = ()  # what a person should know, though no rule says it

    @property
    def changes(self) -> tuple[PlannedStep, ...]:
        """The steps that change something."""
        return tuple(step for step in self.steps if step.changes)

    def values(self) -> Values:
        """What is to be written."""
        return {step.parameter: step.new for step in self.changes if step.new is not None}


def plan(
    channel: Channel, sheet: Sheet, signal: InputSignal | None, uplink: float | None = None, *,
    others: Sequence[SheetDemand] = (), protocol: str | None = None, mains: int | None = None,
) -> Plan:  # fmt: skip
    """What to change on ``channel`` so that it conforms to ``sheet``.

    ``signal``: what is at the device's input, None for nothing; ``uplink``: kbit/s that this feed may use; ``others``: the
    sheets of further feeds that push the same channel; ``protocol``: by which this one goes; ``mains``: Hz of the lights.
    """
    around = Circumstances(signal, uplink, protocol, mains)
    return _Words(channel, sheet, around, tuple(others)).plan()


class _Words:
    """Solves a channel's problem and explains the answer."""

    def __init__(self, channel: Channel, sheet: Sheet, around: Circumstances, others: tuple[SheetDemand, ...]) -> None:
        self.channel, self.sheet, self.around = channel, sheet, around
        self.old = channel.values
        self.stated: Stated = problem.state(channel, (SheetDemand(sheet), *others), around)
        self.new: Values = dict(self.old)
        self.free: Values | None = None  # what would be best if the uplink carried anything

    def plan(self) -> Plan:
        try:
            solution = search.solve(self.stated.problem)
        except NothingFits:
            none = Unmet(
                "video.size",
                "no combination of settings fits the device's own limits: read it again, and check its driver",
            )
            return Plan(
                tuple(PlannedStep(n, v, v, "", "kept: nothing fits") for n, v in self.old.items() if n in self.channel.limits),
                (none,),
            )
        self.new = solution.values
        self.free = self._without_uplink(solution)
        given_up = {c.name for c in solution.given_up}
        steps = [
            self._step(setting, given_up) for setting in parameters.in_table_order(self.channel.limits)
            if parameters.applies(parameters.find(setting), self.new)
        ]  # fmt: skip
        unmet = [self._unmet(c) for c in solution.given_up] + self._input()
        conflict = tuple(self._demand_text(c) for c in solution.conflict) if len(solution.conflict) > 1 else ()
        notes = traps.notes(self.channel, self.old, self.new, self.sheet, self.around)
        return Plan(tuple(steps), tuple(unmet), conflict, tuple(notes))

    def _without_uplink(self, solution: Solution) -> Values | None:
        """The best settings on a line without limit; None where the uplink does not matter."""
        if not self.stated.uplink:
            return None
        p = self.stated.problem
        kept = tuple(c for c in p.constraints if c not in self.stated.uplink and c not in solution.given_up)
        found = search.best_of(search.SearchProblem(p.domains, kept, p.prices, p.width))
        return found if any(found.get(n) != solution.values.get(n) for n in (SIZE, RATE, BITRATE)) else None

    # One step

    def _step(self, setting: str, given_up: set[str]) -> PlannedStep:
        old, new = self.old.get(setting), self.new.get(setting)
        rules = rules_on(self.sheet, setting, self.new)
        if setting == ADAPTIVE and not rules:
            return PlannedStep(
                setting,
                old,
                new,
                "no",
                _ADAPTIVE,
                why=_ADAPTIVE,
            )
        if not rules:
            unasked = self._unasked(setting, old, new)
            return PlannedStep(setting, old, new, "", unasked, why=unasked)
        if new is None or any(rule.name in given_up and not takes(rule.must, setting, new) for rule in rules):
            kept = "kept" if old == new else "the nearest that can be"
            return PlannedStep(setting, old, new, _asked(rules), f"{kept}: cannot be met", rules[0].source)
        deciding = next(
            (r for r in rules if r.must and (old is None or not takes(r.must, setting, old))),
            next((r for r in rules if r.should and (old is None or not takes(r.should, setting, old))), rules[0]),
        )
        reason = self._reason(setting, old, new, deciding)
        own = "" if self._part(setting, old, deciding) is None and self._law(setting, old, new) is not None else deciding.source
        return PlannedStep(setting, old, new, _asked(rules), reason, own, self._why(setting, old, new, deciding, reason))

    def _why(self, setting: str, old: Value | None, new: Value, rule: Rule, reason: str) -> str:
        """What a person wants to know beside what is required: what it is good for, the interval in frames, what stands in the way."""
        own = rule.name == setting or setting == INTERVAL
        if not own or rule.same_as_source or self._limited(setting, new) or self._part(setting, old, rule) is None:
            return reason
        return f"{rule.because}{self._in_frames(setting, new)}".strip()

    def _unasked(self, setting: str, old: Value | None, new: Value | None) -> str:
        """Why a setting is as it is that the sheet does not require it for."""
        if setting == BITRATE and old == new:
            return f"the sheet gives no bitrate for {self.new.get(SIZE)} at {parameters.show(RATE, self.new.get(RATE))}"
        if old == new:
            return "the sheet does not require it"
        if self._follows_source(setting, old) and self.around.signal is not None:
            return f"follows the source, {self.around.signal.text}"
        law = self._law(setting, old, new)
        return (
            f"the device wants it so: {law.text or 'its limits belong together'}"
            if law is not None
            else self._uplink_words("the sheet does not require it")
        )

    def _follows_source(self, setting: str, old: Value | None) -> bool:
        return setting == RATE and old is not None and not terms.in_family(self.around.signal, old) and self.around.signal is not None

    def _law(self, setting: str, old: Value | None, new: Value | None) -> Constraint | None:
        """What of the device forbids to leave a setting as it is; None where that changes nothing, or nothing does."""
        if old == new or self._follows_source(setting, old):
            return None
        before = {**self.new, **({setting: old} if old is not None else {})}
        return next((c for c in self.stated.problem.constraints if c.law and setting in c.scope and not c.holds(before)), None)

    @staticmethod
    def _part(setting: str, old: Value | None, rule: Rule) -> Demand | None:
        """What of a rule moves a setting: the demand where the old value does not meet it, else the recommendation."""
        return rule.must if rule.must is not None and (old is None or not takes(rule.must, setting, old)) else rule.should

    def _reason(self, setting: str, old: Value | None, new: Value, rule: Rule) -> str:
        because = f": {rule.because}" if rule.because else ""
        if rule.same_as_source and new != old and self.around.signal is not None:
            return f"the sheet demands the same as the source, {self.around.signal.text}{because}"
        hint = self._in_frames(setting, new)
        limited = self._limited(setting, new)
        if limited and setting == BITRATE:
            room = (self.around.uplink or 0) - self._sound()
            return f"{rule.text()}, but the uplink leaves {room:.0f} kbit/s for video"
        if old is not None and parameters.same(setting, old, new):
            if rule.should is not None and not takes(rule.should, setting, new):
                return f"kept: allowed, though the sheet recommends {rule.should.text()} and {self._who_cannot(setting, rule)} cannot"
            return f"kept: as asked{hint}"
        part = self._part(setting, old, rule)
        if part is None:
            return self._unasked(setting, old, new)
        verb = "demands" if part is rule.must else "recommends"
        what = "it" if rule.name == setting else f"{rule.name} of {part.text()}"
        return (
            self._uplink_words(f"the sheet {verb} {what}{because}{hint}")
            if limited
            else f"the sheet {verb} {what}{because}{hint}"
        )

    def _who_cannot(self, setting: str, rule: Rule) -> str:
        """Whether it is the device or the uplink that stands in the way of a recommendation."""
        return "the uplink" if self._limited(setting, self.new.get(setting)) else "the device"

    def _limited(self, setting: str, new: Value | None) -> bool:
        """Whether another value would be chosen if the uplink carried anything."""
        return self.free is not None and setting in (SIZE, RATE, BITRATE) and self.free.get(setting) != new and (
            setting != BITRATE or all(self.free.get(n) == self.new.get(n) for n in (SIZE, RATE))
        )  # fmt: skip

    @staticmethod
    def _uplink_words(reason: str) -> str:
        return f"{reason}; the uplink carries no more"

    def _sound(self) -> float:
        value = self.new.get("audio.bitrate.mean", 0) if self.new.get("audio.present", "yes") == "yes" else 0
        return float(value) if isinstance(value, int | float) else 0.0

    def _in_frames(self, setting: str, new: Value) -> str:
        """The keyframe interval in frames, as many devices want it."""
        rate = self.new.get(RATE)
        if setting != INTERVAL or isinstance(new, str) or isinstance(rate, str) or not rate:
            return ""
        return f" ({parameters.keyframe_frames(new, rate)} frames at {rate:g} fps)"

    # What cannot be met

    def _unmet(self, c: Constraint) -> Unmet:
        if c.name == SOURCE:
            return self._judder(c)
        if c.name == UPLINK:
            return Unmet(BITRATE, f"{c.text}; {self._least_words()}")
        if c.name == PUSH:
            return Unmet(PUSH, f"the device does not push with these settings: {c.text}")
        if c.name == PROTOCOL:
            return Unmet(
                PROTOCOL,
                f"{c.text}; the destination takes {self.around.protocol}: choose another destination or device",
            )
        if c.name == "video.level":
            size, rate = self.new.get(SIZE), self.new.get(RATE)
            level = problem.level_of(self.new)
            needs = f"needs level {level}" if level else "is beyond every level"
            return Unmet(
                c.name, f"asked {c.text}; {size} at {parameters.show(RATE, rate, unit=False)} fps {needs}", c.source
            )
        setting = parameters.setting_of(c.name)
        limit = self.channel.limits.get(setting)
        if setting == BITRATE and c.ladder:
            rules = [rule for rule in rules_on(self.sheet, BITRATE, self.new) if rule.must is not None]
            wanted = rules[0].must.text() if rules and rules[0].must is not None else c.text
            return Unmet(c.name, f"asked {wanted}; {self._can(setting)}", rules[0].source if rules else c.source)
        if limit is None:
            return Unmet(
                c.name,
                f"asked {c.text}; the device is fixed at {parameters.show(setting, self.old.get(setting))}",
                c.source,
            )
        rule = self.sheet.rules.get(c.name)
        wants = rule.must.text() if rule is not None and rule.must is not None and not c.feed else c.text
        alone = not any(
            limit.allows(v) and c.holds({**self.new, setting: v})
            for v in self.stated.problem.domains[setting]
            if v is not None
        )
        why = self._can(setting) if alone else "other demands stand against it"
        return Unmet(c.name, f"asked {wants}; {why}", c.source)

    def _can(self, setting: str) -> str:
        limit = self.channel.limits.get(setting)
        return f"the device can do {limit.text()}" if limit is not None else "the device has no such setting"

    def _judder(self, c: Constraint) -> Unmet:
        rule = self.sheet.rules.get(RATE)
        rates = [v for v in self.stated.problem.domains.get(RATE, []) if isinstance(v, int | float)]
        shared = [f"{r:g}" for r in rates if rule is None or rule.must is None or rule.must.allows(r)]
        signal = self.around.signal
        words = (
            f"the sheet and the device share only {', '.join(shared)} fps"
            if shared
            else "nothing that the sheet takes fits it"
        )
        return Unmet(
            RATE, f"the input is {signal.text if signal else 'unknown'}; {words}, which would judder: change the camera's format",
            rule.source if rule else "",
        )  # fmt: skip

    def _least_words(self) -> str:
        """The least that the sheet wants of the uplink."""
        p = self.stated.problem
        lowest = None
        for size in p.domains.get(SIZE, [self.old.get(SIZE)]):
            for rate in p.domains.get(RATE, [self.old.get(RATE)]):
                values = {k: v for k, v in ((SIZE, size), (RATE, rate)) if v is not None}
                if not all(c.holds(values) for c in p.constraints if set(c.scope) <= {SIZE, RATE}):
                    continue
                rules = [
                    r
                    for r in rules_on(self.sheet, BITRATE, {**self.new, **values})
                    if r.must is not None and r.must.minimum
                ]
                if rules and rules[0].must is not None and isinstance(rules[0].must.minimum, int | float):
                    need = rules[0].must.minimum
                    lowest = need if lowest is None else min(lowest, need)
        if lowest is None:
            return "the device cannot go as low"
        return f"the sheet wants at least {lowest + self._sound():.0f} kbit/s"

    def _demand_text(self, c: Constraint) -> str:
        name = {SOURCE: RATE, UPLINK: BITRATE}.get(c.name, c.name)
        where = f" ({c.source.rpartition('/')[2]})" if c.source else ""
        return f"{name}: {c.text}{where}"

    def _input(self) -> list[Unmet]:
        rule, signal = self.sheet.rules.get("video.scan"), self.around.signal
        if signal is None:
            return [Unmet(SIZE, "no signal at the device's input: nothing can be sent but black")]
        if rule is not None and rule.must is not None and signal.frame_rate and not rule.must.allows(signal.scan):
            return [Unmet("video.scan", f"asked {rule.must.text()}; the input is {signal.text}", rule.source)]
        return []


def _asked(rules: list[Rule]) -> str:
    return "; ".join(
        rule.text() if n == 0 else f"{parameters.find(rule.name).label} {rule.text()}" for n, rule in enumerate(rules)
    )
